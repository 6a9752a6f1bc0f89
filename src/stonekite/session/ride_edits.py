"""Rides of a strip as they are edited: where they stand, how they are shown, moved, recorded, copied.

A ride is named by its *address*: what it stands in (a stage, a leg, a spur) and the way inside it. A ridden setting is
shown as it is at the place that is looked at; to move it moves its whole line by as much.
"""

from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import Any, Literal, NamedTuple

import msgspec
import numpy as np

from stonekite.session import edits, tree
from stonekite.session.differences import names_of, ride_name
from stonekite.session.types import LEGS, Strip
from stonekite.stages import riding
from stonekite.stages.planning import awake, why_still
from stonekite.stages.riding import MOST_POINTS, Point, Ride, Way
from stonekite.stages.settings import Setting
from stonekite.words import NAMES, said

_SAME = 1e-9


class Address(NamedTuple):
    """A setting: of a stage or a spur of that number, or of a leg (0 the upper, 1 the lower), by the path inside."""

    of: Literal["stage", "spur", "leg"]
    number: int
    path: str


def holder_path(strip: Strip, address: Address) -> tree.Path | None:
    """The way from the strip to what a setting stands in; None if that is not there."""
    if address.of == "leg":
        return (LEGS[address.number],)
    if address.of == "spur":
        for k, spur in enumerate(strip.spurs):
            if spur.id == address.number:
                return ("spurs", k)
        return None
    try:
        return tree.find(strip, address.number)[0]
    except LookupError:
        return None


def holder(strip: Strip, address: Address) -> Any:
    """What a setting stands in; None if that is not there."""
    path = holder_path(strip, address)
    return None if path is None else tree.at(strip, path)


def setting_of(strip: Strip, address: Address) -> Setting | None:
    """The declaration of a setting; None if it is not there."""
    there = holder(strip, address)
    found = None if there is None else riding.found(there, address.path)
    return None if found is None else found[2]


def value_of(strip: Strip, address: Address) -> float:
    """What a setting is without its ride. It is there."""
    found = riding.found(holder(strip, address), address.path)
    assert found is not None
    return float(getattr(found[0], found[1]))


def ride_of(strip: Strip, address: Address) -> Ride | None:
    """The ride of a setting, if it has one."""
    there = holder(strip, address)
    return None if there is None else next((one for one in there.rides if one.path == address.path), None)


def why_not(strip: Strip, address: Address) -> str:
    """Why a setting cannot be ridden, in a sentence; empty if it can."""
    there = holder(strip, address)
    return said("There is no such setting here.") if there is None else why_still(there, address.path)


def holders(strip: Strip) -> Iterator[tuple[Address, Any]]:
    """All that rides can stand in, with an address without a path."""
    for number, leg in enumerate(LEGS):
        yield Address("leg", number, ""), strip.leg(leg)
    for spur in strip.spurs:
        yield Address("spur", spur.id, ""), spur
    for _, stage in tree.walk(strip):
        yield Address("stage", stage.id, ""), stage


def rides_in(strip: Strip) -> list[tuple[Address, Ride]]:
    """All rides that move something, in the order of the legs, the spurs and the stages."""
    return [
        (place._replace(path=ride.path), ride) for place, there in holders(strip) for ride, _ in awake(there)
    ]


def any_rides(strip: Strip) -> bool:
    """Whether something of a strip rides."""
    return any(there.rides for _, there in holders(strip))


def called(strip: Strip, address: Address) -> str:
    """The name of a setting, with what it stands in."""
    there = holder(strip, address)
    if address.of == "leg":
        name = said("{name} leg").format(name=NAMES[strip.split.component(LEGS[address.number])])
    elif address.of == "spur":
        name = there.name
    else:
        name = names_of(strip).get(address.number, "")
    return ride_name(name, there, address.path, strip if address.of == "stage" else None)


def shown(there: Any, seconds: float) -> Any:
    """A stage, a leg or a spur as it is at a time of the recording: numbers that ride stand where they are then."""
    if not there.rides:
        return there
    at = np.array([seconds])
    for ride, setting in awake(there):
        there = riding.put(there, ride.path, float(riding.along(ride, setting, at)[0]))
    return there


def put_ride(strip: Strip, address: Address, ride: Ride | None) -> Strip:
    """A strip with another ride of a setting, or without one. The other side of a linked stage gets the same one, and
    keeps its offset: the difference, or the ratio, of their lines where they begin. Raises ValueError with a sentence.
    """
    if ride is not None and (why := why_not(strip, address)):
        raise ValueError(why)
    path = holder_path(strip, address)
    assert path is not None
    there = tree.at(strip, path)
    old = ride_of(strip, address)
    there = _with(there, address.path, ride)
    first, _, rest = address.path.partition(".")
    field = rest.rpartition(".")[2] or rest
    if address.of == "stage" and first in LEGS and there.linked and field not in there.unlinked:
        partner = f"{edits.other(first)}.{rest}"  # type: ignore[arg-type]
        found = riding.found(there, partner)
        if found is not None:
            there = _with(there, partner, None if ride is None else _beside(there, old, ride, partner, found))
    return edits.put(strip, path, there)


def _with(there: Any, path: str, ride: Ride | None) -> Any:
    rides = tuple(one for one in there.rides if one.path != path)
    if ride is not None:
        rides = (*rides, msgspec.structs.replace(ride, path=path))
    return msgspec.structs.replace(there, rides=rides)


def _beside(there: Any, old: Ride | None, ride: Ride, partner: str, found: tuple[Any, str, Setting]) -> Ride:
    """The ride of the other side of a linked stage."""
    setting = found[2]
    theirs = next((one for one in there.rides if one.path == partner), None)
    if theirs is None:
        mine = riding.found(there, ride.path)
        own = float(getattr(mine[0], mine[1])) if mine is not None else ride.points[0].value
        return _moved(ride, setting, own, float(getattr(found[0], found[1])))
    if old is None:
        return ride
    at = np.array([old.points[0].at_s])
    return _moved(
        ride,
        setting,
        float(riding.along(old, setting, at)[0]),
        float(riding.along(theirs, setting, at)[0]),
    )


def _moved(ride: Ride, setting: Setting, old: float, new: float) -> Ride:
    """A line moved as far as from one value to another."""
    points = tuple(
        msgspec.structs.replace(point, value=setting.moved_with(point.value, old, new))
        if point.value != old
        else msgspec.structs.replace(point, value=new)
        for point in ride.points
    )
    return msgspec.structs.replace(ride, points=points)


def carried(old: Strip, new: Strip, shown_s: float) -> Strip:
    """A strip that was edited where some settings ride: one whose value was moved has its line moved by as much, from
    where it was shown at a time. Lines that were edited themselves stay as they are.
    """
    if old is new:
        return new
    before = {place: there for place, there in holders(old) if there.rides}
    if not before:
        return new
    for place, there in list(holders(new)):
        was = before.get(place)
        if was is None or there is was:
            continue
        at = np.array([shown_s])
        changed = there
        for ride, setting in awake(there):
            known = next((one for one in was.rides if one.path == ride.path), None)
            found_old, found_new = riding.found(was, ride.path), riding.found(there, ride.path)
            if known is None or known != ride or found_old is None or found_new is None:
                continue
            value = float(getattr(found_new[0], found_new[1]))
            here = float(riding.along(ride, setting, at)[0])
            if abs(value - here) <= _SAME * max(1.0, abs(here)) or value == getattr(
                found_old[0], found_old[1]
            ):
                continue
            changed = _with(changed, ride.path, _moved(ride, setting, here, value))
        if changed is not there:
            path = holder_path(new, place)
            assert path is not None
            new = edits.put(new, path, changed)
    return new


def touched(old: Strip, new: Strip) -> Address | None:
    """The setting that an edit changed, if it is one number that can ride."""
    before = dict(holders(old))
    for place, there in holders(new):
        was = before.get(place)
        if was is None or there is was or type(was) is not type(there):
            continue
        values = {path: getattr(held, path.rpartition(".")[2]) for path, held, _ in riding.settings_in(was)}
        for path, held, _ in riding.settings_in(there):
            changed = path in values and getattr(held, path.rpartition(".")[2]) != values[path]
            if changed and not why_still(there, path):
                return place._replace(path=path)
    return None


# Points


def with_point(ride: Ride, point: Point) -> Ride:
    """A ride with one more point; one that stands at the same time makes room for it."""
    points = [one for one in ride.points if abs(one.at_s - point.at_s) > 1e-6]
    points = sorted([*points, point], key=lambda one: one.at_s)
    return msgspec.structs.replace(ride, points=tuple(points[:MOST_POINTS]))


def moved_point(ride: Ride, place: int, at_s: float, value: float) -> Ride:
    """A ride one point of which stands elsewhere, between its neighbours."""
    points = list(ride.points)
    low = points[place - 1].at_s + 1e-3 if place else 0.0
    high = points[place + 1].at_s - 1e-3 if place + 1 < len(points) else 1e7
    points[place] = msgspec.structs.replace(
        points[place], at_s=min(max(low, at_s), max(low, high)), value=value
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
        msgspec.structs.replace(point, at_s=first + last - point.at_s, way=way)
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
