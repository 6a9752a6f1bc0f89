"""A strip in which some of its paths are silent: legs by their names, spurs by their ids."""

from collections.abc import Container
from typing import Any

import msgspec

from stonekite.session import edits, tree
from stonekite.session.types import LEGS, Strip


def only(strip: Strip, path: int | str) -> Strip:
    """A strip in which nothing is heard but one path, a leg or a spur. "all" is the strip as it is, and "without 7" all
    but the spur of that id.
    """
    if isinstance(path, str) and path not in LEGS:
        return strip if path == "all" else without(strip, int(path.removeprefix("without ")))
    legs: dict[str, Any] = {
        leg: msgspec.structs.replace(strip.leg(leg), alone=False, muted=path != leg) for leg in LEGS
    }
    spurs = tuple(msgspec.structs.replace(spur, alone=False, muted=spur.id != path) for spur in strip.spurs)
    return msgspec.structs.replace(strip, spurs=spurs, **legs)


def without(strip: Strip, spur: int) -> Strip:
    """A strip without the sound of a spur; all that is heard beside it stays so."""
    spurs = tuple(
        msgspec.structs.replace(one, muted=True, alone=False) if one.id == spur else one
        for one in strip.spurs
    )
    return msgspec.structs.replace(strip, spurs=spurs)


def beside(strip: Strip, spur: int) -> Strip:
    """What a spur adds to: all that is not muted, whether something is alone or not."""
    spurs = tuple(msgspec.structs.replace(one, alone=False) for one in strip.spurs)
    legs: dict[str, Any] = {leg: msgspec.structs.replace(strip.leg(leg), alone=False) for leg in LEGS}
    return without(msgspec.structs.replace(strip, spurs=spurs, **legs), spur)


def leaving_out(strip: Strip, stages: Container[int]) -> Strip:
    """A strip in which the stages of these ids are taken out, wherever they stand."""
    for path, stage in tree.walk(strip):
        if stage.inserted and stage.id in stages:
            strip = edits.put(strip, (*path, "inserted"), False)
    return strip
