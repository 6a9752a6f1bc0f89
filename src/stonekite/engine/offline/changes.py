"""How much louder each stage at work makes the joined legs."""

import math
from typing import Any

import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.node import Node
from stonekite.lazy import lazy
from stonekite.session import tree
from stonekite.session.types import Strip
from stonekite.stages.planning import works

loudness = lazy("stonekite.measure.loudness")


class StageChanges:
    """How much louder each stage at work makes the joined legs."""

    def __init__(self, strip: Strip, rate: float) -> None:
        self._chain = Chain(Strip(split=strip.split), rate)
        self._rate = rate
        stages = [stage for _, stage in tree.walk(strip)]
        self._at_work = {stage.id for stage in stages if works(stage)}
        self._given = {stage.id: stage.kept_db if stage.level_kept else 0.0 for stage in stages}
        self._meters: dict[int, tuple[Any, Any]] = {}

    def wants(self, stage: int) -> bool:
        return stage in self._at_work

    def hear(self, stage: int, before: np.ndarray, after: np.ndarray, node: Node | None) -> None:
        """Hear the legs (2, frames) before and after a stage."""
        if stage not in self._meters:
            self._meters[stage] = loudness.Loudness(self._rate), loudness.Loudness(self._rate)
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
