"""Lines of rides: their points, what is done to a range of them, and what is recorded into them."""

from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Literal

import msgspec
import numpy as np

from stonekite.stages import riding
from stonekite.stages.riding import MOST_POINTS, Point, Ride, Way
from stonekite.stages.settings import Setting


def with_point(ride: Ride, point: Point) -> Ride:
    """A ride with one more point; one that stands at the same time makes room for it."""
    points = [one for one in ride.points if abs(one.at_s - point.at_s) > 1e-6]
    points = sorted([*points, point], key=lambda one: one.at_s)
    return msgspec.structs.replace(ride, points=tuple(points[:MOST_POINTS]))


def set_at(ride: Ride, setting: Setting, at_s: float, value: float) -> Ride:
    """A ride with a point at a time, from which it goes on as before."""
    before = [point for point in ride.points if point.at_s <= at_s]
    way: Way = before[-1].way if before else "straight"
    return with_point(ride, Point(at_s=max(0.0, at_s), value=setting.held(value), way=way))


def moved_point(ride: Ride, place: int, at_s: float, value: float, beat: float | None = None) -> Ride:
    """A ride one point of which stands elsewhere, between its neighbours; at a beat, if it gets there."""
    points = list(ride.points)
    low = points[place - 1].at_s + 1e-3 if place else 0.0
    high = points[place + 1].at_s - 1e-3 if place + 1 < len(points) else 1e7
    held = min(max(low, at_s), max(low, high))
    points[place] = msgspec.structs.replace(
        points[place], at_s=held, value=value, beat=beat if held == at_s else None
    )
    return msgspec.structs.replace(ride, points=tuple(points))


def without_point(ride: Ride, place: int) -> Ride | None:
    """A ride without a point; None if that was the last one."""
    points = ride.points[:place] + ride.points[place + 1 :]
    return msgspec.structs.replace(ride, points=points) if points else None


def with_way(ride: Ride, place: int, way: Way) -> Ride:
    """A ride that goes on from a point in another way."""
    points = list(ride.points)
    points[place] = msgspec.structs.replace(points[place], way=way)
    return msgspec.structs.replace(ride, points=tuple(points))


def cut_in(ride: Ride, setting: Setting, at_s: float) -> Ride:
    """A ride with a point on its line at a time, where nothing else changes but how a curve bends."""
    if any(abs(point.at_s - at_s) < 1e-6 for point in ride.points):
        return ride
    before = [point for point in ride.points if point.at_s < at_s]
    way: Way = before[-1].way if before else "straight"
    value = float(riding.along(ride, setting, np.array([at_s]))[0])
    return with_point(ride, Point(at_s=at_s, value=value, way=way))


Span = tuple[float, float]


def within(ride: Ride, setting: Setting, span: Span, change: Callable[[list[Point]], list[Point]]) -> Ride:
    """A ride changed within a range; there are points at its ends and a thousandth beside them, so that the rest stays as
    it is."""
    for at_s in (max(0.0, span[0] - 1e-3), span[0], span[1], span[1] + 1e-3):
        ride = cut_in(ride, setting, at_s)
    inside = [p for p in ride.points if span[0] - 1e-6 <= p.at_s <= span[1] + 1e-6]
    outside = [p for p in ride.points if not span[0] - 1e-6 <= p.at_s <= span[1] + 1e-6]
    points = sorted([*outside, *change(inside)], key=lambda one: one.at_s)
    return msgspec.structs.replace(ride, points=tuple(points[:MOST_POINTS]))


def scaled(setting: Setting, share: float) -> Callable[[list[Point]], list[Point]]:
    """Points whose way from their middle is longer or shorter by a share, as the taper goes."""

    def change(points: list[Point]) -> list[Point]:
        travels = [setting.to_travel(point.value) for point in points]
        middle = (min(travels) + max(travels)) / 2
        return [
            msgspec.structs.replace(
                point, value=setting.from_travel(min(1.0, max(0.0, middle + share * (travel - middle))))
            )
            for point, travel in zip(points, travels, strict=True)
        ]

    return change


def shifted(setting: Setting, travel: float) -> Callable[[list[Point]], list[Point]]:
    """Points moved up or down by a part of the setting's range."""

    def change(points: list[Point]) -> list[Point]:
        return [
            msgspec.structs.replace(
                point,
                value=setting.from_travel(min(1.0, max(0.0, setting.to_travel(point.value) + travel))),
            )
            for point in points
        ]

    return change


def reversed_in_time(points: list[Point]) -> list[Point]:
    """The same line from its end to its beginning."""
    first, last = points[0].at_s, points[-1].at_s
    ways: list[Way] = [*(one.way for one in reversed(points[:-1])), points[-1].way]
    back = reversed(points)
    return [
        msgspec.structs.replace(point, at_s=first + last - point.at_s, way=way, beat=None)
        for point, way in zip(back, ways, strict=True)
    ]


def cleared(points: list[Point]) -> list[Point]:
    """Nothing but the ends."""
    return [points[0], points[-1]] if len(points) > 1 else points


def thinned(setting: Setting, off: float) -> Callable[[list[Point]], list[Point]]:
    """The fewest points that stay within `off` steps of the line, by Douglas and Peucker's method ("Algorithms for the
    Reduction of the Number of Points Required to Represent a Digitized Line", Cartographica 10, 1973). Only straight
    stretches are thinned.
    """
    bent = setting.taper == "log"

    def change(points: list[Point]) -> list[Point]:
        if len(points) < 3:
            return points
        times = np.array([point.at_s for point in points])
        heights = np.array([np.log2(point.value) if bent else point.value for point in points])
        keep = np.zeros(len(points), dtype=bool)
        keep[[0, -1]] = True
        for k, (one, two) in enumerate(pairwise(points)):
            if one.way != "straight":
                keep[[k, k + 1]] = True
            del two
        bounds = np.flatnonzero(keep)
        stack = list(pairwise(bounds.tolist()))
        while stack:
            a, b = stack.pop()
            if b - a < 2:
                continue
            share = (times[a + 1 : b] - times[a]) / max(times[b] - times[a], 1e-12)
            away = np.abs(heights[a + 1 : b] - (heights[a] + share * (heights[b] - heights[a])))
            worst = int(np.argmax(away))
            if away[worst] > off * setting.step:
                middle = a + 1 + worst
                keep[middle] = True
                stack += [(a, middle), (middle, b)]
        return [point for point, kept in zip(points, keep, strict=True) if kept]

    return change


def copied(ride: Ride, setting: Setting, span: Span) -> list[tuple[float, float, Way]]:
    """The part of a ride in a range: times from its beginning, heights in travel, ways."""
    ride = cut_in(cut_in(ride, setting, span[0]), setting, span[1])
    return [
        (p.at_s - span[0], setting.to_travel(p.value), p.way)
        for p in ride.points
        if span[0] - 1e-6 <= p.at_s <= span[1] + 1e-6
    ]


def pasted(
    ride: Ride | None,
    setting: Setting,
    path: str,
    now: float,
    part: Sequence[tuple[float, float, Way]],
    span: Span,
    stretch: float = 1.0,
) -> Ride:
    """A ride with a part of another one, or of another setting's by the place in its range, from the beginning of a range
    on; stretched in time where asked. `now` is what the setting is without a ride.
    """
    if ride is None:
        ride = Ride(path=path, points=(Point(at_s=max(0.0, span[0] - 1e-3), value=now),))
    end = min(span[1], span[0] + part[-1][0] * stretch)
    made = [
        Point(at_s=span[0] + at * stretch, value=setting.from_travel(travel), way=way)
        for at, travel, way in part
        if span[0] + at * stretch <= span[1] + 1e-6
    ]
    # What was there before and after goes on as it went, a thousandth away.
    ride = cut_in(ride, setting, max(0.0, span[0] - 1e-3))
    ride = cut_in(ride, setting, end + 1e-3)
    outside = [p for p in ride.points if p.at_s < span[0] - 1e-6 or p.at_s > end + 1e-6]
    points = sorted([*outside, *made], key=lambda one: one.at_s)
    return msgspec.structs.replace(ride, points=tuple(points[:MOST_POINTS]))


# Recording


THIN = 0.09
"""Of a step: recording thins what it took without leaving a tenth."""
Take = Literal["held", "on"]
"""The line is left while the control is held, and found again; or it stays where it was let go."""


def recorded(
    ride: Ride | None,
    setting: Setting,
    path: str,
    now: float,
    taken: Sequence[tuple[float, float]],
    take: Take,
    back_s: float,
) -> Ride:
    """A ride with what was recorded: (time, value), in the order of time. Thinned without leaving a tenth of the
    setting's step. `now` is what the setting is without a ride.
    """
    start, end = taken[0][0], taken[-1][0]
    if ride is None:
        ride = Ride(path=path, points=(Point(at_s=max(0.0, start), value=setting.held(now)),))
    made = [Point(at_s=at, value=setting.held(value)) for at, value in taken]
    made = thinned(setting, THIN)(made)
    first = cut_in(ride, setting, max(0.0, start - 1e-3))
    before = [p for p in first.points if p.at_s < start - 5e-4]
    if before and before[-1].way == "curved":  # a curve would bend to where the recording begins
        before[-1] = msgspec.structs.replace(before[-1], way="straight")
    after: list[Point] = []
    if take == "held":
        rest = cut_in(ride, setting, end + back_s)
        after = [p for p in rest.points if p.at_s > end + max(back_s, 1e-3) - 1e-6]
    points = [*before, *made, *after]
    return msgspec.structs.replace(ride, points=tuple(points[:MOST_POINTS]))
