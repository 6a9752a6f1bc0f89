"""Rides: settings that move over the recording.

A ride belongs to what it moves: a stage carries those of its own settings, so that they go wherever the stage goes, and
are gone with it. It names a setting by the path of fields from the stage: `upper.gain_db`, `upper.bands.2.q`. A switch
stands as each point says until the next one, whatever its way, and goes over within SWITCH_S.
"""

import itertools
from collections.abc import Iterator, Sequence
from functools import partial
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.remembered import Remembered
from stonekite.stages.settings import Setting, Settings, settings_of
from stonekite.words import said

MOST_POINTS = 10_000
"""Of one ride."""
MOST_RIDES = 200
"""Of one stage."""
MOST_SWITCHES = 3
"""Of one stage besides In: all that they make of it works side by side."""

_STEPS = 512
"""A second is summed up in so many steps, and a whole ride in _MOST at the most."""
_MOST = 2_000_000
SWITCH_S = 0.01
_SUMS = Remembered()
Way = Literal["straight", "curved", "held"]


class Point(Settings, frozen=True, kw_only=True):
    """Where a ride is at a time of the recording, and how it goes on to the next point: straight, as a curve that begins
    and ends level, or held until there. One that stays at a `beat`, counted from the first as 0, has the time that this
    has at the tempo."""

    at_s: Annotated[float, msgspec.Meta(ge=0.0, le=1e7)]
    value: float
    way: Way = "straight"
    beat: Annotated[float, msgspec.Meta(ge=-1e6, le=1e6)] | None = None


class Ride(Settings, frozen=True, kw_only=True):
    """The points of one setting, from first to last. Before the first and behind the last it stands still."""

    path: Annotated[str, msgspec.Meta(max_length=120, pattern=r"^[a-z0-9_]+(\.[a-z0-9_]+)*$")]
    points: Annotated[tuple[Point, ...], msgspec.Meta(min_length=1, max_length=MOST_POINTS)]

    @property
    def stands(self) -> bool:
        """Whether all points are at one height."""
        return len({point.value for point in self.points}) == 1


Rides = Annotated[tuple[Ride, ...], msgspec.Meta(max_length=MOST_RIDES)]


def found(holder: Any, path: str) -> tuple[Any, str, Setting] | None:
    """What a path leads to from a value: what holds the setting, its field, and its declaration; None where there is
    nothing, as of a leg that the stage does not work on."""
    *through, field = path.split(".")
    for step in through:
        holder = _inside(holder, step)
        if holder is None:
            return None
    if not isinstance(holder, msgspec.Struct):
        return None
    setting = settings_of(type(holder)).get(field)
    return None if setting is None else (holder, field, setting)


def flaw(stage: Any) -> str:
    """Why the rides of a stage cannot be, in a sentence; empty if they can."""
    paths = [ride.path for ride in stage.rides]
    if len(set(paths)) != len(paths):
        return said("A setting has one ride.")
    if len(paths) > MOST_RIDES:
        return said("There are {most} rides in one place at the most.").format(most=MOST_RIDES)
    turned = 0
    for ride in stage.rides:
        if not _LOOKED_AT.of(ride, None, partial(_is_ordered, ride)):
            return said("The points of a ride follow each other in time.")
        there = found(stage, ride.path)
        if there is None:
            continue
        turned += there[2].is_switch and ride.path != "inserted"
        span = there[2].low, there[2].high
        if not _LOOKED_AT.of(ride, span, partial(_is_within, ride, span)):
            return said("{label}: a point of its ride is out of range.").format(label=there[2].label)
    if turned > MOST_SWITCHES:
        return said("Besides In, {most} switches ride in one place at the most.").format(most=MOST_SWITCHES)
    return ""


_LOOKED_AT = Remembered()


def _is_ordered(ride: Ride) -> bool:
    times = [point.at_s for point in ride.points]
    return sorted(times) == times


def _is_within(ride: Ride, span: tuple[float, float]) -> bool:
    return all(span[0] <= point.value <= span[1] for point in ride.points)


def on_legs(rides: tuple[Ride, ...], names: dict[str, str]) -> tuple[Ride, ...]:
    """Rides of which those of a leg have gone to the one that `names` tells; those of a leg that it does not name are
    gone."""
    made = []
    for ride in rides:
        first, _, rest = ride.path.partition(".")
        if first not in ("upper", "lower"):
            made.append(ride)
        elif first in names:
            made.append(msgspec.structs.replace(ride, path=f"{names[first]}.{rest}"))
    return tuple(made)


def settings_in(holder: Any, before: str = "") -> Iterator[tuple[str, Any, Setting]]:
    """All declared settings of a value and of what is in it, the stages in its branches apart: path, what holds it, and
    its declaration."""
    for field, setting in settings_of(type(holder)).items():
        yield before + field, holder, setting
    for name in holder.__struct_fields__:
        value = getattr(holder, name)
        if isinstance(value, msgspec.Struct):
            yield from settings_in(value, f"{before}{name}.")
        elif isinstance(value, tuple) and name not in ("branches", "rides"):
            for k, one in enumerate(value):
                if isinstance(one, msgspec.Struct):
                    yield from settings_in(one, f"{before}{name}.{k}.")


def _inside(holder: Any, step: str) -> Any:
    if isinstance(holder, tuple):
        return holder[int(step)] if step.isdigit() and int(step) < len(holder) else None
    return getattr(holder, step, None) if isinstance(holder, msgspec.Struct) else None


def put(holder: Any, path: str, value: Any) -> Any:
    """A value with another one at the end of a path, whatever that is: nothing is checked."""
    step, _, rest = path.partition(".")
    if isinstance(holder, tuple):
        k = int(step)
        return (*holder[:k], put(holder[k], rest, value) if rest else value, *holder[k + 1 :])
    inner = put(getattr(holder, step), rest, value) if rest else value
    return msgspec.structs.replace(holder, **{step: inner})


def put_all(holder: Any, values: dict[str, Any]) -> Any:
    """The same for many paths."""
    inner: dict[str, dict[str, Any]] = {}
    own: dict[str, Any] = {}
    for path, value in values.items():
        step, _, rest = path.partition(".")
        if rest:
            inner.setdefault(step, {})[rest] = value
        else:
            own[step] = value
    if isinstance(holder, tuple):
        parts = list(holder)
        for step, value in own.items():
            parts[int(step)] = value
        for step, within in inner.items():
            parts[int(step)] = put_all(parts[int(step)], within)
        return tuple(parts)
    own |= {step: put_all(getattr(holder, step), within) for step, within in inner.items()}
    return msgspec.structs.replace(holder, **own)


def integral(stage: Any, path: str, now: Any, seconds: np.ndarray) -> np.ndarray:
    """The integral of a number from the beginning of the recording to times (n,): of Hz, in turns. On a ride it is summed
    up in short steps, within which it goes straight; so it is the same wherever it is asked."""
    ride = next((ride for ride in stage.rides if ride.path == path), None)
    there = found(stage, path)
    if not isinstance(now, np.ndarray) or ride is None or there is None:
        return np.asarray(now * seconds, dtype=float)
    setting, last_s = there[2], ride.points[-1].at_s
    steps = min(_STEPS, _MOST / max(last_s, 1e-9))

    def summed() -> tuple[np.ndarray, np.ndarray]:
        values = along(ride, setting, np.arange(int(np.ceil(last_s * steps)) + 2) / steps)
        return values, np.concatenate([[0.0], np.cumsum(0.5 * (values[1:] + values[:-1]) / steps)])

    values, sums = _SUMS.of(ride, path, summed)
    after = np.clip(seconds, 0.0, None) * steps
    whole = np.minimum(after.astype(np.int64), len(values) - 2)
    part = after - whole
    rise = np.where(part <= 1.0, values[whole + 1] - values[whole], 0.0)
    before = np.minimum(seconds, 0.0) * values[0]
    return sums[whole] + part * (values[whole] + 0.5 * part * rise) / steps + before


def alike(one: Any, two: Any) -> bool:
    """Whether two values, in which numbers that move are arrays, are the same."""
    if isinstance(one, np.ndarray) or isinstance(two, np.ndarray):
        return np.array_equal(one, two)
    if type(one) is not type(two):
        return False
    if isinstance(one, tuple):
        return len(one) == len(two) and all(map(alike, one, two))
    if isinstance(one, msgspec.Struct):
        return all(alike(getattr(one, name), getattr(two, name)) for name in one.__struct_fields__)
    return bool(one == two)


def highest(stage: Any, path: str, now: Any) -> float:
    """The greatest that a number of a stage comes to: on its ride, if it is an array."""
    if not isinstance(now, np.ndarray):
        return float(now)
    return max(point.value for ride in stage.rides if ride.path == path for point in ride.points)


MOMENTS = 64
"""At so many points the whole of a stage that moves is looked at, at the most."""


def ridden(stage: Any, before: str) -> set[str]:
    """The settings of a stage that ride, of those whose paths begin like that, by the rest of their paths."""
    return {ride.path.removeprefix(before) for ride in stage.rides if ride.path.startswith(before)}


def moments(stage: Any) -> list[Any]:
    """A stage whose ridden numbers are arrays, as it is at the points of its rides; itself if nothing moves."""
    rides = [ride for ride in stage.rides if isinstance(now(stage, ride.path), np.ndarray)]
    return _at_points(stage, rides)


def ways(stage: Any) -> list[Any]:
    """A stage as it is at the points of its rides; itself if it has none."""
    return _at_points(stage, [ride for ride in stage.rides if now(stage, ride.path) is not None])


def now(stage: Any, path: str) -> Any:
    """What the setting of a path is, whatever rides; None where there is none."""
    there = found(stage, path)
    return None if there is None else getattr(there[0], there[1])


def _at_points(stage: Any, rides: list[Ride]) -> list[Any]:
    moving = [(ride, there[2]) for ride in rides if (there := found(stage, ride.path)) is not None]
    times = sorted({point.at_s for ride, _ in moving for point in ride.points})
    if len(times) > MOMENTS:
        times = [times[k] for k in np.linspace(0, len(times) - 1, MOMENTS).astype(int)]
    made = []
    for time in times:
        still = stage
        for ride, setting in moving:
            still = put(still, ride.path, value_at(ride, setting, time))
        made.append(still)
    return made or [stage]


def _bent(setting: Setting, values: np.ndarray) -> np.ndarray:
    """Values as they move: frequencies and times in octaves, levels in dB, all else as it is."""
    return np.log2(values) if setting.taper == "log" else values


_POINTS = Remembered()


def _points(ride: Ride, setting: Setting) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Times, heights and ways of the points, each (n,)."""
    times = np.array([point.at_s for point in ride.points])
    heights = _bent(setting, np.array([setting.held(point.value) for point in ride.points]))
    return (
        times,
        heights,
        np.array([("straight", "curved", "held").index(point.way) for point in ride.points]),
    )


def value_at(ride: Ride, setting: Setting, seconds: float) -> float | bool:
    """What a setting is at a time of the recording: of a switch, whether it is on or on its way there."""
    if setting.is_switch:
        return bool(_point_at(ride, seconds).value >= 0.5)
    return float(along(ride, setting, np.array([seconds]))[0])


def place_of_point_at(ride: Ride, seconds: float) -> int:
    """Which point a switch stands as at a time: the last before it, or the first."""
    return max(0, sum(point.at_s <= seconds for point in ride.points) - 1)


def _point_at(ride: Ride, seconds: float) -> Point:
    return ride.points[place_of_point_at(ride, seconds)]


def _switched(times: np.ndarray, states: np.ndarray, seconds: np.ndarray) -> np.ndarray:
    """How far on a switch is at times (n,), from 0 to 1: it goes over from each point on."""
    turns = np.flatnonzero(np.diff(states)) + 1
    made = np.full(len(seconds), states[0])
    # All that was turned long enough ago is summed up, what is still under way is looked at.
    done = np.searchsorted(times[turns], seconds - SWITCH_S, side="right")
    begun = np.searchsorted(times[turns], seconds, side="right")
    made += np.concatenate([[0.0], np.cumsum(np.diff(states)[turns - 1])])[done]
    for k in range(int((begun - done).max(initial=0))):
        under = done + k < begun
        turn = turns[np.minimum(done + k, len(turns) - 1)]
        share = np.clip((seconds - times[turn]) / SWITCH_S, 0.0, 1.0)
        made += np.where(under, (states[turn] - states[turn - 1]) * share, 0.0)
    return 0.5 - 0.5 * np.cos(np.pi * made)


def stances(rides: list[Ride]) -> set[tuple[bool, ...]]:
    """All ways in which some switches stand together anywhere in the recording, also on their way."""
    turns = np.unique([0.0, *(point.at_s for ride in rides for point in ride.points)])
    spans = []
    for ride in rides:
        times = np.array([point.at_s for point in ride.points])
        ends = [np.searchsorted(times, turns - before, side="right") for before in (SWITCH_S, 0.0)]
        spans.append(np.maximum(0, np.array(ends) - [[1], [0]]))
    ways: set[tuple[bool, ...]] = set()
    for place in range(len(turns)):
        now = [
            {point.value >= 0.5 for point in ride.points[first : max(last, 1)]}
            for ride, (first, last) in zip(rides, (of[:, place] for of in spans), strict=True)
        ]
        ways.update(itertools.product(*now))
    return ways


def along(ride: Ride, setting: Setting, seconds: np.ndarray) -> np.ndarray:
    """Where a ride is at times (n,) of the recording; of a switch, how far on it is, from 0 to 1."""
    times, heights, ways = _points_of(ride, setting)
    if setting.is_switch:
        return _switched(times, heights, np.asarray(seconds, dtype=float))
    after = np.searchsorted(times, seconds, side="right")
    before, there = np.maximum(after - 1, 0), np.minimum(after, len(times) - 1)
    ends = times[before], times[there] - times[before], heights[before], heights[there] - heights[before]
    made = _between(*ends, ways[before], seconds)
    return np.exp2(made) if setting.taper == "log" else made


def along_all(rides: Sequence[tuple[Ride, Setting]], seconds: np.ndarray) -> list[np.ndarray]:
    """The same of many rides at times (n,) that follow each other. Most of them are between two points all the time:
    these are computed together."""
    found: list[np.ndarray | None] = [None] * len(rides)
    together: list[int] = []
    ends: list[tuple[float, float, float, float, int]] = []
    for k, (ride, setting) in enumerate(rides):
        times, heights, ways = _points_of(ride, setting)
        first, last = np.searchsorted(times, seconds[[0, -1]], side="right").tolist()
        if first != last or setting.is_switch:
            found[k] = along(ride, setting, seconds)
            continue
        before, there = max(first - 1, 0), min(first, len(times) - 1)
        together.append(k)
        apart, rise = times[there] - times[before], heights[there] - heights[before]
        ends.append((times[before], apart, heights[before], rise, ways[before]))
    if together:
        start, apart_s, height, higher, way = np.array(ends).T[:, :, None]
        made = _between(start, apart_s, height, higher, way, seconds)
        bent = [row for row, k in enumerate(together) if rides[k][1].taper == "log"]
        if bent:
            made[bent] = np.exp2(made[bent])
        for row, k in enumerate(together):
            found[k] = made[row]
    return [one for one in found if one is not None]


def _points_of(ride: Ride, setting: Setting) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    limits = setting.low, setting.high, setting.taper, setting.is_switch
    return _POINTS.of(ride, limits, lambda: _points(ride, setting))


def _between(
    start: np.ndarray,
    apart: np.ndarray,
    height: np.ndarray,
    rise: np.ndarray,
    way: np.ndarray,
    seconds: np.ndarray,
) -> np.ndarray:
    """Heights at times between points: one is at `start` and `height`, the next `apart` in time and `rise` higher."""
    share = np.where(apart > 0.0, (seconds - start) / np.where(apart > 0.0, apart, 1.0), 0.0)
    share = np.clip(share, 0.0, 1.0)
    if way.any():
        share = np.where(way == 1, share * share * (3.0 - 2.0 * share), np.where(way == 2, 0.0, share))
    made: np.ndarray = height + rise * share
    return made
