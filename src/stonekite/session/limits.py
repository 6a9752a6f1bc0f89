"""What a session can hold: looked at where the document takes an edit, so that what is made can be saved and opened."""

from collections.abc import Iterator
from functools import partial
from typing import Any

import msgspec

from stonekite.remembered import Remembered
from stonekite.session import tree
from stonekite.session.mix import wires
from stonekite.session.spur import SPURS
from stonekite.session.types import VERSIONS, Session, Sound, Strip
from stonekite.stages import riding
from stonekite.stages.base import HIGHEST_ID
from stonekite.stages.branch import DEEPEST, MOST_STAGES
from stonekite.stages.registry import kind_of, label_of
from stonekite.words import said

MAX_BYTES = 64 * 2**20
"""No session file is longer."""
_ROOM = 2**20
"""So much is left for what is not counted."""
MOST_IN_ALL = 256
"""Stages in one strip, wherever they stand."""
_SIZES = Remembered()


def _size_of(stage: Any) -> int:
    """How long a stage is as JSON."""
    return _SIZES.of(stage, None, lambda: len(msgspec.json.encode(stage)))


def _size(strip: Strip) -> int:
    outer = (*strip.stages, *(stage for spur in strip.spurs for stage in spur.branch.stages))
    return 4000 + sum(_size_of(stage) for stage in outer)


def _sizes(sound: Sound) -> int:
    """How long all strips of a sound are."""

    def count() -> int:
        strips = [one.strip for _, one in tree.holders(sound)]
        return sum(_SIZES.of(strip, None, partial(_size, strip)) for strip in strips)

    return _SIZES.of(sound, None, count)


_FLAWS = Remembered()


def _flaw_of(value: Any) -> str:
    """What of a value its declared type does not accept, as a sentence; empty if nothing."""

    rides = getattr(value, "rides", ())

    def look() -> str:
        # Rides may be long, and an edit changes one of them: each is looked at by itself.
        still = msgspec.structs.replace(value, rides=()) if rides else value
        try:
            msgspec.convert(msgspec.to_builtins(still, builtin_types=(bytes,)), type(still))
        except msgspec.ValidationError as error:
            return said("This cannot be: {reason}.").format(reason=error)
        return next((why for ride in rides if (why := _flaw_of(ride))), "")

    return _FLAWS.of(value, None, look)


def _parts(strip: Strip) -> Iterator[Any]:
    yield from (strip.intake, strip.split, strip.upper, strip.lower, strip.output)
    yield from strip.stages
    yield from strip.spurs


_WHY = Remembered()


def _why(strip: Strip) -> str:
    """Why a strip cannot be as it is; empty if it can."""
    return next((why for part in _parts(strip) if (why := _flaw_of(part))), "") or excess_of(strip)


def excess(session: Session) -> str:
    """Why a session cannot be as it is, in a sentence; empty if it can. What was looked at is not looked at again."""
    if why := _flaw_of(session.sound.tempo):
        return why
    for _, one in tree.holders(session.sound):
        if why := _WHY.of(one.strip, None, partial(_why, one.strip)):
            return why
    if why := wires.flaw(session.sound):
        return why
    if len(session.versions) > VERSIONS:
        return said("All {versions} versions are kept: replace or remove one.").format(versions=VERSIONS)
    if tree.last_id(session) > HIGHEST_ID:
        return tree.USED_UP
    sounds = [session.sound, *(version.sound for version in session.versions)]
    if sum(map(_sizes, sounds)) > MAX_BYTES - _ROOM:
        return said(
            "A session is {most} MB long at the most, with what its stages have learned, its own responses and all "
            "versions: remove some of them first."
        ).format(most=MAX_BYTES // 2**20)
    return ""


def excess_of(strip: Strip) -> str:
    """Why a strip of the right types cannot be as it is, in a sentence; empty if it can."""
    count = 0
    if why := next(
        (why for _, part in tree.riding_parts(strip) if part.rides and (why := riding.flaw(part))), ""
    ):
        return why
    for place in tree.branches(strip):
        if place.depth > DEEPEST:
            return said(
                "Branches stand in one another {deepest} deep at the most: there is no room for this stage here."
            ).format(deepest=DEEPEST)
        if len(place.stages) > MOST_STAGES:
            return said("A path holds {most} stages at the most.").format(most=MOST_STAGES)
        count += len(place.stages)
        if (deaf := next((s for s in place.stages if s.key and not kind_of(s).hears_key), None)) is not None:
            return said("{label}: it has no detector that could hear another strip.").format(
                label=label_of(deaf)
            )
    if count > MOST_IN_ALL:
        return said("A strip holds {most} stages at the most, with those that stand in others.").format(
            most=MOST_IN_ALL
        )
    if len(strip.spurs) > SPURS:
        return said("There are {most} spurs at the most.").format(most=SPURS)
    return ""
