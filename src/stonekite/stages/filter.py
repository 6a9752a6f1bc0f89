"""Filter: a high-pass and a low-pass for each leg, 6 to 48 dB per octave, together a band to sweep.

Butterworth filters of order 1 to 8, each section fitted to its analogue prototype (signal/filters/design.py).
"""

from typing import Annotated, Literal

import numpy as np

from stonekite.signal.filters import design
from stonekite.stages.base import Context, Kind, LegName, Offers, Plan, Side, Stage
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.settings import choice, flag, number
from stonekite.words import said

Slope = Literal[6, 12, 18, 24, 36, 48]
_SLOPES = {slope: f"{slope}" for slope in design.SLOPES}


class FilterSide(Side, frozen=True, kw_only=True):
    high_pass: Annotated[bool, flag("High-pass", help="Whether lows are taken away")] = False
    high_pass_hz: Annotated[
        float,
        number("From", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Corner of the high-pass (−3 dB)"),
    ] = 80.0
    high_pass_slope: Annotated[Slope, choice("dB per octave", _SLOPES, help="Steepness of the high-pass")] = (
        12
    )
    low_pass: Annotated[bool, flag("Low-pass", help="Whether highs are taken away")] = False
    low_pass_hz: Annotated[
        float,
        number("To", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Corner of the low-pass (−3 dB)"),
    ] = 12000.0
    low_pass_slope: Annotated[Slope, choice("dB per octave", _SLOPES, help="Steepness of the low-pass")] = 12


class Filter(Stage, frozen=True, kw_only=True, tag="filter"):
    upper: FilterSide | None = FilterSide()
    lower: FilterSide | None = FilterSide()


HANDLES = (
    Handle("HP", x="high_pass_hz", on="high_pass", wheel="high_pass_slope"),
    Handle("LP", x="low_pass_hz", on="low_pass", wheel="low_pass_slope"),
)


def side_leg(side: FilterSide | None, rate: float) -> cascade.Leg:
    """The sections of one leg at a rate in Hz."""
    parts: list[tuple[tuple[str, int], np.ndarray]] = []
    if side is not None and side.high_pass:
        rows = design.cut("high-pass", side.high_pass_hz, side.high_pass_slope, rate)
        parts.append((("high-pass", side.high_pass_slope), rows))
    if side is not None and side.low_pass:
        rows = design.cut("low-pass", side.low_pass_hz, side.low_pass_slope, rate)
        parts.append((("low-pass", side.low_pass_slope), rows))
    return cascade.Leg.of(parts)


def side_sections(side: FilterSide | None, rate: float) -> np.ndarray:
    """Sections (n, 5) of one leg at a rate in Hz."""
    return side_leg(side, rate).sections


def response(stage: Filter, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz): that of the filters that play."""
    return design.response(side_sections(getattr(stage, leg), rate), frequencies, rate)


def neutral(stage: Filter) -> bool:
    return not any(side.high_pass or side.low_pass for side in (stage.upper, stage.lower) if side is not None)


def plan(stage: Filter, context: Context) -> Plan:
    legs = [side_leg(side, context.rate) for side in (stage.upper, stage.lower)]
    return Plan(memory=max(map(cascade.memory, legs)), tail=max(map(cascade.rings, legs)))


def rows(stage: Filter, context: Context) -> np.ndarray:
    """Rows (n, numbers) of the sections of both legs."""
    return cascade.rows_of(side_leg(stage.upper, context.rate), side_leg(stage.lower, context.rate))


def stands(stage: Filter, path: str) -> str:
    """Why a corner cannot move: what is not there has no corner."""
    leg, _, field = path.partition(".")
    side = getattr(stage, leg)
    name = field.removesuffix("_hz")
    return "" if side is None or getattr(side, name, True) else said("This filter is off.")


def coefficients(stage: Filter, context: Context) -> cascade.Coefficients:
    return cascade.Coefficients(side_leg(stage.upper, context.rate), side_leg(stage.lower, context.rate))


KIND = Kind(
    stage=Filter,
    side=FilterSide,
    label="Filter",
    help="High-pass and low-pass for each leg, 6 to 48 dB per octave.",
    group="Tone",
    rank=10,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=cascade.start,
    carry=cascade.carry,
    process=cascade.process,
    rows=rows,
    fine=True,
    stands=stands,
    offers=Offers(handles=HANDLES),
)
