"""Gain: level and polarity of each leg, anywhere among the stages."""

from typing import Annotated

import numpy as np

from stonekite.signal.decibels import gain_of
from stonekite.stages.base import At, Context, Kind, LegName, Plan, Side, Stage
from stonekite.stages.settings import flag, number


class GainSide(Side, frozen=True, kw_only=True):
    gain_db: Annotated[
        float, number("Gain", "dB", -120.0, 24.0, taper="fader", step=0.5, help="Level change of the leg")
    ] = 0.0
    inverted: Annotated[bool, flag("Invert", help="Turn the leg upside down")] = False


class Gain(Stage, frozen=True, kw_only=True, tag="gain"):
    upper: GainSide | None = GainSide()
    lower: GainSide | None = GainSide()


def factor(side: GainSide | None) -> float:
    """Linear gain of one side; negative where it is inverted."""
    return 1.0 if side is None else gain_of(side.gain_db) * (-1.0 if side.inverted else 1.0)


def response(stage: Gain, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz): the same everywhere."""
    return np.full(np.shape(frequencies), factor(getattr(stage, leg)), dtype=complex)


def neutral(stage: Gain) -> bool:
    return factor(stage.upper) == factor(stage.lower) == 1.0


def plan(stage: Gain, context: Context) -> Plan:
    return Plan()


def coefficients(stage: Gain, context: Context) -> tuple[float, float]:
    return factor(stage.upper), factor(stage.lower)


def start(coefficients: tuple[float, float]) -> tuple[()]:
    return ()


def carry(old: tuple[float, float], state: tuple[()], new: tuple[float, float]) -> tuple[()]:
    return ()


def process(state: tuple[()], coefficients: tuple[float, float], block: np.ndarray, at: At) -> None:
    for row, gain in enumerate(coefficients):
        if gain != 1.0:
            block[row] *= gain


KIND = Kind(
    stage=Gain,
    side=GainSide,
    label="Gain",
    help="Level and polarity of each leg, at any place among the stages.",
    group="Level",
    rank=10,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    process=process,
)
