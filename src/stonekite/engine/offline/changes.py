"""How much louder each stage at work makes the joined legs, and strips whose stages give that back."""

import math

import msgspec
import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.node import Node
from stonekite.measure.loudness import Loudness
from stonekite.session import edits, tree
from stonekite.session.types import Strip
from stonekite.stages.base import Stage
from stonekite.stages.planning import works

LEVEL_KEPT_LU = 0.03
"""A stage keeps its level as well as this."""


class StageChanges:
    """How much louder each stage at work makes the joined legs."""

    def __init__(self, strip: Strip, rate: float) -> None:
        self._chain = Chain(Strip(split=strip.split), rate)
        self._rate = rate
        stages = [stage for _, stage in tree.walk(strip)]
        self._at_work = {stage.id for stage in stages if works(stage)}
        self._given = {stage.id: stage.kept_db if stage.level_kept else 0.0 for stage in stages}
        self._meters: dict[int, tuple[Loudness, Loudness]] = {}

    def wants(self, stage: int) -> bool:
        return stage in self._at_work

    def hear(self, stage: int, before: np.ndarray, after: np.ndarray, node: Node | None) -> None:
        """Hear the legs (2, frames) before and after a stage."""
        if stage not in self._meters:
            self._meters[stage] = Loudness(self._rate), Loudness(self._rate)
        for meter, legs in zip(self._meters[stage], (before, after), strict=True):
            meter.add(self._chain.join(legs))

    def loudness(self) -> dict[int, float]:
        """Change in LU by stage, without the level that it gives back; nothing for silence."""
        found = {}
        for stage, (before, after) in self._meters.items():
            change = after.integrated() - before.integrated() - self._given[stage]
            if math.isfinite(change):
                found[stage] = change
        return found


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
