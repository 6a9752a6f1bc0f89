"""Limiter: nothing of a leg passes the ceiling, not even between samples."""

import copy
from typing import Annotated, Any

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.signal.vectors.pairs import on_both
from stonekite.stages.base import LEGS, SETTLED, At, Context, Kind, LegName, Offers, Plan, Side, Stage
from stonekite.stages.machinery.detecting import LOOK_AHEAD_STANDS
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import Rows, stacked, times
from stonekite.stages.settings import Settings, number

limiting = lazy("stonekite.signal.levels.limiting")

CURVE_HANDLE = Handle("C", x="ceiling_db")


class LimiterSide(Side, frozen=True, kw_only=True):
    drive_db: Annotated[float, number("Drive", "dB", 0.0, 36.0, step=0.5, help="Gain before the ceiling")] = (
        0.0
    )
    ceiling_db: Annotated[
        float, number("Ceiling", "dB", -36.0, 0.0, step=0.1, help="True peak that is not passed, in dBTP")
    ] = -1.0
    release_ms: Annotated[
        float,
        number(
            "Release",
            "ms",
            5.0,
            2000.0,
            taper="log",
            step=1 / 4,
            help="Time to let go of 63 % of a reduction",
        ),
    ] = 80.0


class LimiterShared(Settings, frozen=True, kw_only=True):
    look_ahead_ms: Annotated[
        float,
        number(
            "Look-ahead",
            "ms",
            0.5,
            10.0,
            step=0.1,
            help="Time in which the gain gets ready for a peak",
            still=LOOK_AHEAD_STANDS,
        ),
    ] = 2.0
    coupling: Annotated[
        float,
        number(
            "Coupling",
            "%",
            0.0,
            100.0,
            step=5.0,
            both=True,
            help="0: each leg by itself; 100: both are turned down alike",
        ),
    ] = 0.0


class Limiter(Stage, frozen=True, kw_only=True, tag="limiter"):
    upper: LimiterSide | None = LimiterSide()
    lower: LimiterSide | None = LimiterSide()
    shared: LimiterShared = LimiterShared()


def makeup_db(side: LimiterSide) -> float:
    """The drive: what is not reduced comes out louder by it."""
    return side.drive_db


def curve(stage: Limiter, leg: LegName, level_db: np.ndarray) -> np.ndarray:
    """Peak in dB that comes out of a leg for peaks in dB."""
    side = getattr(stage, leg)
    level = np.array(level_db, dtype=float)
    return level if side is None else np.minimum(level + side.drive_db, side.ceiling_db)


def response(stage: Limiter, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of a leg that is not reduced, at frequencies (Hz)."""
    side = getattr(stage, leg)
    return np.full(np.shape(frequencies), 1.0 if side is None else gain_of(side.drive_db), dtype=complex)


def neutral(stage: Limiter) -> bool:
    return stage.upper is None and stage.lower is None


def _windows(stage: Limiter, rate: float) -> tuple[int, int]:
    """Look-ahead in samples of the limiter, and of the one behind it (signal/levels/limiting.py)."""
    return max(1, round(stage.shared.look_ahead_ms * 1e-3 * rate)), round(limiting.SECOND_S * rate)


def _latencies(stage: Limiter, rate: float) -> list[tuple[int, int]]:
    """Of both limiters: by how much they are late on each leg."""
    on = [0 if side is None else 1 for side in (stage.upper, stage.lower)]
    first, second = _windows(stage, rate)
    late = [limiting.latency(first, False), limiting.latency(second, True)]
    return [(on[0] * samples, on[1] * samples) for samples in late]


def plan(stage: Limiter, context: Context) -> Plan:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    release = max((side.release_ms for side in sides), default=0.0) * 1e-3
    first, second = _latencies(stage, context.rate)
    late = first[0] + second[0], first[1] + second[1]
    return Plan(late, 2 * int(SETTLED * release * context.rate) + 3 * max(late))


class Coefficients:
    """Which legs it works on, and how far ahead it looks."""

    def __init__(self, stage: Limiter, context: Context) -> None:
        rate = context.rate
        self.works = np.array([getattr(stage, leg) is not None for leg in LEGS])
        self.windows = _windows(stage, rate)
        self.delays = _latencies(stage, rate)


class State:
    """The limiters of both legs, first and second, the sound that waits for each, and what was done last."""

    def __init__(self, coefficients: Coefficients) -> None:
        self.limiters = [
            [limiting.Limiter(window, last) for _ in LEGS]
            for window, last in zip(coefficients.windows, (False, True), strict=True)
        ]
        # A leg that passes has a line, too, which is not used.
        self.lines = [tuple(np.zeros(max(1, n)) for n in delays) for delays in coefficients.delays]
        self.places = np.zeros((2, 2), dtype=np.int64)
        self.reduction_db = np.zeros(2)


DRIVE, CEILING, RELEASE, COUPLING = 0, 2, 4, 6
"""Of the numbers of a row: of the upper and the lower leg each; the coupling is one number."""


def rows(stage: Limiter, context: Context) -> np.ndarray:
    """Rows (n, 7): drives and ceilings, less the margin, as factors, releases as factors of a sample, the coupling."""
    sides = [getattr(stage, leg) or LimiterSide() for leg in LEGS]
    margin = limiting.margin_db(context.rate)
    drives = [gain_of(side.drive_db) if on else 1.0 for side, on in zip(sides, _on(stage), strict=True)]
    ceilings = [gain_of(side.ceiling_db - margin) for side in sides]
    releases = [np.exp(-1.0 / (side.release_ms * 1e-3 * context.rate)) for side in sides]
    return stacked(*drives, *ceilings, *releases, stage.shared.coupling / 100.0 if all(_on(stage)) else 0.0)


def _on(stage: Limiter) -> tuple[bool, bool]:
    return stage.upper is not None, stage.lower is not None


def coefficients(stage: Limiter, context: Context) -> Coefficients:
    return Coefficients(stage, context)


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    return copy.deepcopy(state) if (old.windows, old.delays) == (new.windows, new.delays) else None


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    times(block, at.rows, DRIVE)
    least, gains = np.ones(2), np.empty(block.shape)
    where = at.rows.starts, at.rows.offsets
    for k, limiters in enumerate(state.limiters):
        _look(limiters, coefficients, block, gains, at.rows)
        upper, lower = state.lines[k]
        limiting.through(
            block,
            gains,
            coefficients.works,
            *where,
            *_of(at.rows, COUPLING),
            upper,
            lower,
            state.places[k],
            least,
        )
    if block.shape[1]:
        state.reduction_db = -20.0 * np.log10(np.maximum(least, 1e-6))


def _of(rows: Rows, number: int) -> tuple[np.ndarray, np.ndarray]:
    """A number of each cell, and what it grows by for each frame."""
    part = rows.part(number, number + 1)
    return part.table.reshape(-1), part.steps.reshape(-1)


def _look(
    limiters: list[Any], coefficients: Coefficients, block: np.ndarray, gains: np.ndarray, rows: Rows
) -> None:
    """Gains (2, frames) of the legs that do not pass."""

    def work(row: int) -> None:
        if coefficients.works[row]:
            # A release is that of the whole cell.
            release, _ = _of(rows, RELEASE + row)
            cells = rows.starts, rows.offsets, *_of(rows, CEILING + row), release
            limiters[row].gains(block[row], cells, gains[row])

    on_both(work, block.shape[1])


def meter(state: State) -> np.ndarray:
    """The greatest reduction (2,) in dB of the last block."""
    return state.reduction_db


KIND = Kind(
    stage=Limiter,
    side=LimiterSide,
    label="Limiter",
    help="Holds the true peaks of each leg under a ceiling, looking ahead.",
    group="Level",
    rank=40,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    process=process,
    offers=Offers(curve=curve, curve_handle=CURVE_HANDLE, makeup_db=makeup_db, meter=meter),
)
