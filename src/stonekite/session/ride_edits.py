"""Rides of a strip as they are edited: where they stand, how they are shown, moved, recorded, copied.

A ride is named by its *address*: what it stands in (a stage, a leg, a spur, an end) and the way inside it. A ridden
setting is shown as it is at the place that is looked at; to move it moves its whole line by as much. A switch is turned
from the last point before that place on.
"""

from collections.abc import Iterator
from typing import Any, Literal, NamedTuple

import msgspec
import numpy as np

from stonekite.session import edits, ride_lines, tree
from stonekite.session.differences import names_of, ride_name
from stonekite.session.grips import Grip, RiddenName, Target
from stonekite.session.types import LEGS, Strip
from stonekite.stages import riding
from stonekite.stages.base import Stage
from stonekite.stages.planning import awake, why_still
from stonekite.stages.riding import MOST_POINTS, Point, Ride
from stonekite.stages.settings import Setting, settings_of
from stonekite.words import NAMES, said

_SAME = 1e-9
_FINE_S = 0.005
_BENDS, _STRAIGHT = 32, 0.002
"""A line that is bent goes straight in so many parts, but for what is straight within that part of a range."""


class Address(NamedTuple):
    """A setting: of a stage or a spur of that number, of a leg (0 the upper, 1 the lower), or of the intake or the output
    (0), by the path inside; or the position of the grip at that place."""

    of: RiddenName
    number: int
    path: str


def holder_path(strip: Strip, address: Address) -> tree.Path | None:
    """The way from the strip to what a setting stands in; None if that is not there."""
    if address.of == "leg":
        return (LEGS[address.number],)
    if address.of in ("intake", "output"):
        return (address.of,)
    if address.of == "grip":
        return ("grips", address.number) if address.number < len(strip.grips) else None
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
    """The ride of a setting, if it has one; of a grip, the line that what it holds first has, as positions."""
    if address.of == "grip":
        return _ride_of_grip(strip, address)
    there = holder(strip, address)
    return None if there is None else next((one for one in there.rides if one.path == address.path), None)


def why_not(strip: Strip, address: Address) -> str:
    """Why a setting cannot be ridden, in a sentence; empty if it can."""
    there = holder(strip, address)
    if there is None:
        return said("There is no such setting here.")
    if address.of == "grip":
        return "" if _held(strip, address) else said("This grip moves nothing that can ride.")
    return why_still(there, address.path)


def _held(strip: Strip, address: Address) -> list[tuple[Target, Address, Setting]]:
    """What a grip moves that can ride."""
    found = []
    for target in strip.grips[address.number].targets:
        place = Address(target.of, target.number, target.path)
        setting = setting_of(strip, place)
        if setting is not None and not why_not(strip, place):
            found.append((target, place, setting))
    return found


def _followed(strip: Strip, address: Address) -> tuple[Target, Ride, Setting] | None:
    """What a grip follows: the first that it holds, and that rides; one that is bent only where no other is there."""
    if holder(strip, address) is not None:
        held = sorted(_held(strip, address), key=lambda one: one[0].bend != 0.0)
        for target, place, setting in held:
            ride = ride_of(strip, place)
            if ride is not None and target.end != target.start and not setting.is_switch:
                return target, ride, setting
    return None


def _ride_of_grip(strip: Strip, address: Address) -> Ride | None:
    followed = _followed(strip, address)
    if followed is None:
        return None
    target, ride, setting = followed
    points = tuple(
        msgspec.structs.replace(point, value=target.position_of(setting.to_travel(point.value)))
        for point in ride.points
    )
    return Ride(path=address.path, points=points)


def grip_position(strip: Strip, number: int, seconds: float) -> float:
    """Where a grip stands at a time of the recording: it follows what it holds."""
    followed = _followed(strip, Address("grip", number, "position"))
    if followed is None:
        return strip.grips[number].position
    target, ride, setting = followed
    return target.position_of(setting.to_travel(float(riding.value_at(ride, setting, seconds))))


def _put_grip_ride(strip: Strip, address: Address, ride: Ride | None) -> Strip:
    """A strip in which all that a grip moves has the line that follows from one of its positions."""
    for target, place, setting in _held(strip, address):
        made = None
        if ride is not None:
            line = _turns(ride, target) if setting.is_switch else _bent(ride, target)
            points = tuple(
                msgspec.structs.replace(point, value=setting.from_travel(target.at(point.value)))
                for point in line
            )
            made = Ride(path=place.path, points=points)
        strip = put_alone(strip, place, made)
    return strip


def _turns(ride: Ride, target: Target) -> tuple[Point, ...]:
    """The points at which a switch turns that is held by a grip which goes along a line."""
    first, last = ride.points[0].at_s, ride.points[-1].at_s
    times = np.arange(first, last + _FINE_S, _FINE_S)
    places = riding.along(ride, settings_of(Grip)["position"], times)
    on = np.array([target.at(float(place)) >= 0.5 for place in places])
    at = [0, *(np.flatnonzero(on[1:] != on[:-1]) + 1)]
    return tuple(Point(at_s=float(times[k]), value=float(places[k])) for k in at)


def _bent(ride: Ride, target: Target) -> tuple[Point, ...]:
    """The points of a grip's line for what it holds: where that is bent, with points between them for the bend."""
    if not target.bend:
        return ride.points
    most = min(_BENDS, MOST_POINTS // len(ride.points))
    position = settings_of(Grip)["position"]
    made: list[Point] = []
    for point, after in zip(ride.points, (*ride.points[1:], None), strict=True):
        made.append(point)
        if after is None or point.way == "held" or point.value == after.value:
            continue
        times = np.linspace(point.at_s, after.at_s, most + 1)
        places = riding.along(ride, position, times)
        travels = np.array([target.at(float(place)) for place in places])
        straight = np.linspace(travels[0], travels[-1], most + 1)
        if point.way == "curved" or np.abs(travels - straight).max() > _STRAIGHT:
            made[-1] = msgspec.structs.replace(point, way="straight")
            made += [
                Point(at_s=float(time), value=float(place))
                for time, place in zip(times[1:-1], places[1:-1], strict=True)
            ]
    return tuple(made)


def holders(strip: Strip) -> Iterator[tuple[Address, Any]]:
    """All that rides can stand in, with an address without a path."""
    for path, part in tree.riding_parts(strip):
        if path[0] in LEGS:
            yield Address("leg", LEGS.index(path[0]), ""), part  # type: ignore[arg-type]
        elif path[0] in ("intake", "output"):
            yield Address(path[0], 0, ""), part  # type: ignore[arg-type]
        else:
            yield Address("stage" if isinstance(part, Stage) else "spur", part.id, ""), part


def rides_in(strip: Strip) -> list[tuple[Address, Ride]]:
    """All rides that move something, in the order of the ends, the spurs and the stages."""
    return [
        (place._replace(path=ride.path), ride) for place, there in holders(strip) for ride, _ in awake(there)
    ]


def any_rides(strip: Strip) -> bool:
    """Whether something of a strip rides."""
    return any(there.rides for _, there in holders(strip))


def called(strip: Strip, address: Address) -> str:
    """The name of a setting, with what it stands in."""
    there = holder(strip, address)
    if address.of == "grip":
        return said("Grip {name}").format(name=there.name)
    if address.of == "leg":
        name = said("{name} leg").format(name=NAMES[strip.split.component(LEGS[address.number])])
    elif address.of in ("intake", "output"):
        name = said("Intake") if address.of == "intake" else said("Output")
    elif address.of == "spur":
        name = there.name
    else:
        name = names_of(strip).get(address.number, "")
    return ride_name(name, there, address.path, strip if address.of == "stage" else None)


def shown(there: Any, seconds: float) -> Any:
    """A stage, a leg or a spur as it is at a time of the recording: numbers that ride stand where they are then."""
    if not there.rides:
        return there
    for ride, setting in awake(there):
        there = riding.put(there, ride.path, riding.value_at(ride, setting, seconds))
    return there


def put_ride(strip: Strip, address: Address, ride: Ride | None) -> Strip:
    """A strip with another ride of a setting, or without one. The other side of a linked stage gets the same one, and
    keeps its offset: the difference, or the ratio, of their lines where they begin. Raises ValueError with a sentence.
    """
    if ride is not None and (why := why_not(strip, address)):
        raise ValueError(why)
    if address.of == "grip":
        return _put_grip_ride(strip, address, ride)
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


def put_alone(strip: Strip, address: Address, ride: Ride | None) -> Strip:
    """A strip with another ride of a setting, or without one, whatever else is linked with it."""
    path = holder_path(strip, address)
    assert path is not None
    return edits.put(strip, path, _with(tree.at(strip, path), address.path, ride))


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


Meaning = Literal["line", "point"]
"""What an edit of a setting that rides does: it moves the whole line by as much, or it sets a point where it is shown."""


def carried(
    old: Strip, new: Strip, shown_s: float, as_shown: tree.Path | None = None, meaning: Meaning = "line"
) -> Strip:
    """A strip that was edited where some settings ride: one whose value was moved has its line moved by as much, from
    where it was shown at a time, or a point there. Lines that were edited themselves stay as they are. What is at the
    path `as_shown` was edited as it is shown: all that rides in it has the values that it is shown with.
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
        changed = there
        for ride, setting in awake(there):
            known = next((one for one in was.rides if one.path == ride.path), None)
            found_old, found_new = riding.found(was, ride.path), riding.found(there, ride.path)
            if known is None or known != ride or found_old is None or found_new is None:
                continue
            value, base = getattr(found_new[0], found_new[1]), getattr(found_old[0], found_old[1])
            here = riding.value_at(ride, setting, shown_s)
            if value == base and holder_path(new, place) != as_shown:
                continue
            if setting.is_switch:
                changed = riding.put(changed, ride.path, base)
                if value != here:
                    line = ride_lines.set_at(ride, setting, shown_s, value)
                    changed = _with(changed, ride.path, line if meaning == "point" else turned(ride, shown_s))
                continue
            if abs(value - here) <= _SAME * max(1.0, abs(here)):  # shown, and not moved
                changed = riding.put(changed, ride.path, base)
                continue
            if meaning == "point":
                changed = riding.put(changed, ride.path, base)
                changed = _with(changed, ride.path, ride_lines.set_at(ride, setting, shown_s, value))
                continue
            changed = riding.put(changed, ride.path, setting.moved_with(base, here, value))
            changed = _with(changed, ride.path, _moved(ride, setting, here, value))
        if changed is not there:
            path = holder_path(new, place)
            assert path is not None
            new = edits.put(new, path, changed)
    return new


def turned(ride: Ride, seconds: float) -> Ride:
    """The ride of a switch, which is turned from the point on that it stands as at a time, up to the next one."""
    points, k = list(ride.points), riding.place_of_point_at(ride, seconds)
    points[k] = msgspec.structs.replace(points[k], value=1.0 - points[k].value)
    return msgspec.structs.replace(ride, points=tuple(points))


def touched(
    old: Strip, new: Strip, shown_s: float = 0.0, as_shown: tree.Path | None = None
) -> Address | None:
    """The setting that an edit changed, if it is one that can ride. What is at the path `as_shown` was edited as it is
    shown at a time."""
    for number, (grip, moved) in enumerate(zip(old.grips, new.grips, strict=False)):
        if grip.position != moved.position and len(old.grips) == len(new.grips):
            return Address("grip", number, "position")
    before = dict(holders(old))
    for place, there in holders(new):
        was = before.get(place)
        if was is None or there is was or type(was) is not type(there):
            continue
        if holder_path(new, place) == as_shown:
            was = shown(was, shown_s)
        values = {path: getattr(held, path.rpartition(".")[2]) for path, held, _ in riding.settings_in(was)}
        for path, held, _ in riding.settings_in(there):
            changed = path in values and getattr(held, path.rpartition(".")[2]) != values[path]
            if changed and not why_still(there, path):
                return place._replace(path=path)
    return None
