"""A stage of a kind that is not installed here: kept as it came, so that nothing is lost, and passed by the sound."""

from typing import Annotated, Any

import msgspec
import numpy as np

from stonekite.stages.base import At, Context, Kind, LegName, Plan, Side, Stage
from stonekite.words import said

LONGEST = 4 * 2**20
"""Of what is kept as it came, in characters."""


class UnknownSide(Side, frozen=True, kw_only=True):
    """Nothing is known of it but the mix that all sides have."""


class Unknown(Stage, frozen=True, kw_only=True, tag="unknown"):
    """`name` is what its kind is called, `whole` the stage as it stood in the file, as JSON."""

    upper: UnknownSide | None = UnknownSide()
    lower: UnknownSide | None = UnknownSide()
    name: Annotated[str, msgspec.Meta(max_length=200)] = ""
    whole: Annotated[str, msgspec.Meta(max_length=LONGEST)] = "{}"


def _ones(stage: Any, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    return np.ones(np.shape(frequencies), dtype=complex)


def _passes(state: Any, coefficients: Any, block: np.ndarray, at: At) -> None:
    """Nothing is done to block (2, frames)."""


def _plan(stage: Any, context: Context) -> Plan:
    return Plan()


UNKNOWN = Kind(
    stage=Unknown,
    side=UnknownSide,
    label=said("Unknown kind"),
    help="A stage of a kind that is not installed here. It is kept as it came, and lets the sound pass.",
    group="Tone",
    rank=0,
    response=_ones,
    neutral=lambda stage: True,
    plan=_plan,
    coefficients=lambda stage, context: (),
    start=lambda coefficients: (),
    carry=lambda old, state, new: (),
    process=_passes,
)
"""No menu has it: it comes out of files only (session/foreign.py)."""
