"""Gain: level and polarity of each leg, anywhere among the stages."""

from typing import Annotated

import numpy as np

from stonekite.signal.decibels import gain_of
from stonekite.stages.base import At, Context, Kind, LegName, Plan, Side, Stage
from stonekite.stages.machinery.rows import stacked, times
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
    """Linear gain of one side; negative where it is inverted. An array where its level is one."""
    return 1.0 if side is None else gain_of(side.gain_db) * (-1.0 if side.inverted else 1.0)


def response(stage: Gain, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz): the same everywhere."""
    return np.full(np.shape(frequencies), factor(getattr(stage, leg)), dtype=complex)


def neutral(stage: Gain) -> bool:
    return factor(stage.upper) == factor(stage.lower) == 1.0


def plan(stage: Gain, context: Context) -> Plan:
    return Plan()


def rows(stage: Gain, context: Context) -> np.ndarray:
    """Rows (n, 2) of the factors of both legs."""
    return stacked(factor(stage.upper), factor(stage.lower))


def coefficients(stage: Gain, context: Context) -> tuple[()]:
    return ()


def start(coefficients: tuple[()]) -> tuple[()]:
    return ()


def carry(old: tuple[()], state: tuple[()], new: tuple[()]) -> tuple[()]:
    return ()


def process(state: tuple[()], coefficients: tuple[()], block: np.ndarray, at: At) -> None:
    times(block, at.rows, 0)


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
    rows=rows,
    process=process,
)
