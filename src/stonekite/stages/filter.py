"""Filter: a high-pass and a low-pass for each leg, 6 to 48 dB per octave, together a band to sweep.

Butterworth filters of order 1 to 8 (Butterworth, "On the Theory of Filter Amplifiers", Wireless Engineer 7,
1930), each section fitted to its analogue prototype (signal/design.py).
"""

from typing import Annotated, Literal

import numpy as np

from stonekite.signal import design
from stonekite.stages.base import Stage
from stonekite.stages.cascade import latency, pack, process, start
from stonekite.stages.settings import Settings, choice, flag, number

LABEL = "Filter"
HELP = "High-pass and low-pass for each leg, 6 to 48 dB per octave."

Slope = Literal[6, 12, 18, 24, 36, 48]
_SLOPES = {slope: f"{slope}" for slope in (6, 12, 18, 24, 36, 48)}


class FilterSide(Settings, frozen=True, kw_only=True):
    high_pass: Annotated[bool, flag("High-pass", help="Whether lows are taken away")] = False
    high_pass_hz: Annotated[
        float,
        number("From", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Corner of the high-pass (−3 dB)"),
    ] = 80.0
    high_pass_slope: Annotated[
        Slope, choice("High-pass dB per octave", _SLOPES, help="Steepness of the high-pass")
    ] = 12
    low_pass: Annotated[bool, flag("Low-pass", help="Whether highs are taken away")] = False
    low_pass_hz: Annotated[
        float,
        number("To", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Corner of the low-pass (−3 dB)"),
    ] = 12000.0
    low_pass_slope: Annotated[
        Slope, choice("Low-pass dB per octave", _SLOPES, help="Steepness of the low-pass")
    ] = 12


class Filter(Stage, frozen=True, kw_only=True, tag="filter"):
    upper: FilterSide | None = FilterSide()
    lower: FilterSide | None = FilterSide()


STAGE = Filter
SIDE = FilterSide


def _cut(
    kind: Literal["high-pass", "low-pass"], corner_hz: float, slope: int, rate: float
) -> list[np.ndarray]:
    order = slope // 6
    parts = [design.sections(kind, corner_hz, 0.0, q, rate) for q in design.butterworth_qs(order)]
    if order % 2:
        parts.append(
            design.sections("high-pass-6" if kind == "high-pass" else "low-pass-6", corner_hz, 0.0, 1.0, rate)
        )
    return parts


def side_sections(side: FilterSide | None, rate: float) -> np.ndarray:
    """Sections (n, 5) of one leg at a rate in Hz."""
    parts = [np.empty((0, 5))]
    if side is not None and side.high_pass:
        parts += _cut("high-pass", side.high_pass_hz, side.high_pass_slope, rate)
    if side is not None and side.low_pass:
        parts += _cut("low-pass", side.low_pass_hz, side.low_pass_slope, rate)
    return np.concatenate(parts)


def response(side: FilterSide | None, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz): that of the filters that play."""
    return design.response(side_sections(side, rate), frequencies, rate)


def neutral(stage: Filter) -> bool:
    return not any(side.high_pass or side.low_pass for side in (stage.upper, stage.lower) if side is not None)


def prepare(stage: Filter, rate: float) -> np.ndarray:
    return pack(side_sections(stage.upper, rate), side_sections(stage.lower, rate))


__all__ = ["HELP", "LABEL", "SIDE", "STAGE", "latency", "neutral", "prepare", "process", "response", "start"]
