"""Grips at work on a strip: what they move, and how that is called."""

from typing import Any

import msgspec
import numpy as np

from stonekite.session import edits, ride_edits
from stonekite.session.grips import GRIPS, TARGETS, Grip, Target
from stonekite.session.ride_edits import Address
from stonekite.session.types import Strip
from stonekite.stages import riding
from stonekite.stages.planning import awake
from stonekite.stages.settings import Setting
from stonekite.words import said


def address_of(target: Target) -> Address:
    """The address of what is moved."""
    return Address(target.of, target.number, target.path)


def is_switch(strip: Strip, target: Target) -> bool:
    """Whether a target, which is there, is on or off: a stage that is in or out, something that is muted, or closed."""
    setting = ride_edits.setting_of(strip, address_of(target))
    return setting is not None and setting.is_switch


def is_there(strip: Strip, target: Target) -> bool:
    """Whether a target can be moved: what it belonged to may be gone."""
    return _value(strip, target) is not None


def _value(strip: Strip, target: Target) -> Any:
    there = ride_edits.holder(strip, address_of(target))
    if there is None:
        return None
    found = riding.found(there, target.path)
    if found is None:
        return None
    value = getattr(found[0], found[1])
    if isinstance(value, bool) and ride_edits.why_not(strip, address_of(target)):
        return None
    return value if isinstance(value, int | float) else None


def target_of(strip: Strip, address: Address) -> Target | None:
    """A target for a setting or a switch, over all of its range; None if nothing of it can be moved by a grip."""
    if address.of == "grip":
        return None
    target = Target(of=address.of, number=address.number, path=address.path)
    return target if is_there(strip, target) else None


def called(strip: Strip, target: Target) -> str:
    """What a target is called."""
    address = address_of(target)
    if ride_edits.holder(strip, address) is None:
        return said("what is gone")
    return ride_edits.called(strip, address)


def moved(strip: Strip, place: int, position: float, shown_s: float) -> Strip:
    """A strip with a grip at another position, 0 to 1, and all that it holds where it is then. A setting that rides is
    moved from where it is shown by as far as the grip goes; its line goes along when the edit is made.
    """
    grip = strip.grips[place]
    stood = ride_edits.grip_position(strip, place, shown_s)
    position = min(1.0, max(0.0, position))
    for target in grip.targets:
        if not is_there(strip, target):
            continue
        address = address_of(target)
        path = ride_edits.holder_path(strip, address)
        assert path is not None
        there = ride_edits.holder(strip, address)
        if is_switch(strip, target):
            strip = edits.put(strip, (*path, target.path), target.at(position) >= 0.5)
            continue
        setting = ride_edits.setting_of(strip, address)
        assert setting is not None
        wanted = target.at(position)
        ride = next((one for one, _ in awake(there) if one.path == target.path), None)
        if ride is not None:  # all else of it that rides stays where it is shown, too
            there = ride_edits.shown(there, shown_s)
            here = float(riding.along(ride, setting, np.array([shown_s]))[0])
            wanted = setting.to_travel(here) + target.at(position) - target.at(stood)
        there = _put(there, target.path, setting, setting.from_travel(wanted))
        strip = edits.put(strip, path, there)
    grips = list(strip.grips)
    grips[place] = msgspec.structs.replace(grip, position=position)
    return msgspec.structs.replace(strip, grips=tuple(grips))


def _put(there: Any, path: str, setting: Setting, value: float) -> Any:
    """A value in what holds it; a time that was given by a note is given by a number then."""
    holder, _, field = path.rpartition(".")
    inner = riding.found(there, path)
    assert inner is not None
    given = edits.given(inner[0], field or path, value)
    return riding.put(there, holder, given) if holder else given


def added(strip: Strip, name: str) -> Strip:
    """A strip with one more grip. Raises ValueError with a sentence."""
    if len(strip.grips) >= GRIPS:
        raise ValueError(said("{most} grips are the most.").format(most=GRIPS))
    return msgspec.structs.replace(strip, grips=(*strip.grips, Grip(name=name)))


def with_target(strip: Strip, place: int, target: Target) -> Strip:
    """A strip whose grip moves one thing more, or over another range. Raises ValueError with a sentence."""
    grip = strip.grips[place]
    rest = tuple(one for one in grip.targets if address_of(one) != address_of(target))
    known = next(
        (k for k, one in enumerate(grip.targets) if address_of(one) == address_of(target)), len(rest)
    )
    if len(rest) >= TARGETS:
        raise ValueError(said("A grip moves {most} settings at the most.").format(most=TARGETS))
    targets = (*rest[:known], target, *rest[known:])
    return _with(strip, place, msgspec.structs.replace(grip, targets=targets))


def without_target(strip: Strip, place: int, target: Target) -> Strip:
    """A strip whose grip moves one thing less."""
    grip = strip.grips[place]
    targets = tuple(one for one in grip.targets if one != target)
    return _with(strip, place, msgspec.structs.replace(grip, targets=targets))


def _with(strip: Strip, place: int, grip: Grip) -> Strip:
    grips = list(strip.grips)
    grips[place] = grip
    return msgspec.structs.replace(strip, grips=tuple(grips))


def renamed(strip: Strip, place: int, name: str) -> Strip:
    """A strip whose grip has another name."""
    return _with(strip, place, msgspec.structs.replace(strip.grips[place], name=name))


def removed(strip: Strip, place: int) -> Strip:
    """A strip without a grip; what it moved stays where it is."""
    return msgspec.structs.replace(strip, grips=strip.grips[:place] + strip.grips[place + 1 :])
