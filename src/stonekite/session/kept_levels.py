"""Strips whose stages give back the loudness that they add, as it was measured."""

import msgspec

from stonekite.session import edits, tree
from stonekite.session.types import Strip
from stonekite.stages.base import Stage

LEVEL_KEPT_LU = 0.03
"""A stage keeps its level as well as this."""


def levelled(stage: Stage, change: float | None) -> Stage:
    """A stage that gives back the loudness that it adds, if it is to keep its level and adds so much."""
    if not stage.level_kept or change is None:
        return stage
    wanted = min(36.0, max(-36.0, -change))
    near = abs(wanted - stage.kept_db) < LEVEL_KEPT_LU
    return stage if near else msgspec.structs.replace(stage, kept_db=round(wanted, 2))


def with_levels(strip: Strip, changes: dict[int, float]) -> Strip:
    """A strip whose stages give back the loudness that they add, as measured, where they are to keep their level."""
    for path, stage in tree.walk(strip):
        given = levelled(stage, changes.get(stage.id))
        if given is not stage:
            # A container that was levelled before holds it still: by the path from the top.
            now = msgspec.structs.replace(tree.at(strip, path), kept_db=given.kept_db)
            strip = edits.put(strip, path, now)
    return strip
