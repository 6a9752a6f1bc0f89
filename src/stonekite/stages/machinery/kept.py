"""What stands in a strip while what it sounds like is played from where it was kept. No session has it."""

from typing import Any

import numpy as np

from stonekite.stages.base import At, Context, Kind, LegName, Plan, Side, Stage


class KeptSide(Side, frozen=True, kw_only=True):
    """All of it is heard."""


class Kept(Stage, frozen=True, kw_only=True, tag="kept"):
    """`result` has `read(place, out)`, which gives (2, n) frames from a place of the timeline on, and `tail`."""

    upper: KeptSide | None = KeptSide()
    lower: KeptSide | None = KeptSide()
    result: Any = None


def _ones(stage: Any, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    return np.ones(np.shape(frequencies), dtype=complex)


def _plan(stage: Any, context: Context) -> Plan:
    return Plan(tail=stage.result.tail)


def _process(state: Any, result: Any, block: np.ndarray, at: At) -> None:
    """What was kept in place of block (2, frames), run by run of the places."""
    ends = [first for first, _ in at.runs[1:]] + [block.shape[1]]
    for (first, place), end in zip(at.runs, ends, strict=True):
        result.read(place, block[:, first:end])


KEPT = Kind(
    stage=Kept,
    side=KeptSide,
    label="Kept",
    help="What a strip sounds like, computed beforehand.",
    group="Tone",
    rank=0,
    response=_ones,
    neutral=lambda stage: False,
    plan=_plan,
    coefficients=lambda stage, context: stage.result,
    start=lambda coefficients: (),
    carry=lambda old, state, new: (),
    process=_process,
    follows_place=True,
)
"""No menu and no file has it: the player puts it where a strip was."""
