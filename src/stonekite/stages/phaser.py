"""Phaser: all-passes in a row whose corner swings up and down, beside the leg. Computed by signal/sweeping.py."""

import math
from typing import Annotated, Literal

import numpy as np

from stonekite.lazy import lazy
from stonekite.stages.base import (
    LEGS,
    RINGS,
    SETTLED,
    At,
    Context,
    Kind,
    LegName,
    Mix,
    Offers,
    Plan,
    Side,
    Stage,
)
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import stacked
from stonekite.stages.machinery.swinging import (
    Rate,
    Swings,
    SwingShared,
    Swung,
    greatest_gains,
    neutral,
    phases,
    seam_memory,
)
from stonekite.stages.settings import NoteName, choice, number

sweeping = lazy("stonekite.signal.sweeping")

_HIGHEST = 0.45
"""Of the rate: a corner above it works as if it were there."""


class PhaserSide(Side, frozen=True, kw_only=True):
    rate_hz: Rate = 0.3
    centre_hz: Annotated[
        float,
        number(
            "Around", "Hz", 50.0, 8000.0, taper="log", step=1 / 12, help="Corner in the middle of the swing"
        ),
    ] = 700.0
    octaves: Annotated[
        float, number("Swing", "oct", 0.0, 6.0, step=0.1, help="From the lowest corner to the highest one")
    ] = 3.0
    feedback: Annotated[
        float, number("Feedback", "%", -90.0, 90.0, step=1.0, help="The more, the narrower what is taken out")
    ] = 30.0
    passes: Annotated[
        Literal[2, 4, 6, 8, 12],
        choice(
            "All-passes",
            {2: "2", 4: "4", 6: "6", 8: "8", 12: "12"},
            help="Two of them take out one frequency, each further two another one",
        ),
    ] = 6
    mix: Mix = 50.0
    rate_note: NoteName = ""


class Phaser(Stage, frozen=True, kw_only=True, tag="phaser"):
    upper: PhaserSide | None = PhaserSide()
    lower: PhaserSide | None = PhaserSide()
    shared: SwingShared = SwingShared()


def response(stage: Phaser, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz), in the middle of its swing."""
    side = getattr(stage, leg)
    hz = np.asarray(frequencies, dtype=float)
    if side is None:
        return np.ones(hz.shape, dtype=complex)
    bent = math.tan(math.pi * min(side.centre_hz, _HIGHEST * rate) / rate)
    a = (bent - 1.0) / (bent + 1.0)
    z = np.exp(-2j * np.pi * hz / rate)
    row = ((a + z) / (1.0 + a * z)) ** side.passes
    return row / (1.0 - side.feedback / 100.0 * row)


def greatest(stage: Phaser, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz), wherever the swing is."""
    return greatest_gains(stage, hz, lambda side: 1.0)


def plan(stage: Phaser, context: Context) -> Plan:
    longest = 0.0
    for side in (stage.upper, stage.lower):
        if side is not None:
            lowest = side.centre_hz * 2.0 ** (-0.5 * side.octaves)
            seconds = 1.0 / (2.0 * math.pi * min(lowest, _HIGHEST * context.rate))
            times = SETTLED + 2.0 * side.passes
            back = abs(side.feedback) / 100.0
            if back > 1e-6:  # the slowest pole of the row fed back: ((1 + s) / (1 - s))^n = 1 / feedback
                ratio = back ** (-1.0 / side.passes)
                times += 1.2 * SETTLED * (ratio + 1.0) / (ratio - 1.0)
            longest = max(longest, times * seconds * context.rate)
    memory = math.ceil(longest) + 64
    return Plan(memory=memory + seam_memory(context.rate), tail=math.ceil(RINGS * memory))


class Coefficients:
    """How both legs swing, and through how many all-passes."""

    def __init__(self, stage: Phaser, rate: float) -> None:
        sides = [getattr(stage, leg) or PhaserSide() for leg in LEGS]
        self.rate = rate
        self.swings = Swings(stage, rate)
        self.passes = np.array([side.passes for side in sides])
        self.one = np.ones(2, dtype=np.int64)
        self.fade = self.swings.fade**sweeping.GRID


class State:
    """What the all-passes remember (2, most), and where both legs are in their swings."""

    def __init__(self) -> None:
        self.passes = np.zeros((2, sweeping.MOST_PASSES))
        self.swung = Swung()


def rows(stage: Phaser, context: Context) -> np.ndarray:
    """Rows (n, 8), of both legs: corners in Hz, swings in octaves, what is fed back, where the swings stand."""
    sides = [getattr(stage, leg) or PhaserSide() for leg in LEGS]
    corners, octaves = [side.centre_hz for side in sides], [0.5 * side.octaves for side in sides]
    back = [side.feedback / 100.0 for side in sides]
    return stacked(*corners, *octaves, *back, *phases(stage, context))


def coefficients(stage: Phaser, context: Context) -> Coefficients:
    return Coefficients(stage, context.rate)


def start(coefficients: Coefficients) -> State:
    return State()


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    if not np.array_equal(old.passes, new.passes) or not np.array_equal(old.swings.works, new.swings.works):
        return None
    kept = State()
    kept.passes[:] = state.passes
    kept.swung = state.swung.copied()
    return kept


def process(state: State, c: Coefficients, block: np.ndarray, at: At) -> None:
    s = c.swings
    for start, stop, place in state.swung.runs(s, c.one, at, block.shape[1]):
        sweeping.phaser(
            block, start, stop, state.passes, place, s.turns, s.begins, s.straight, c.passes, s.works,
            state.swung.offsets, c.fade, c.rate, np.empty((2, 2, 2)), at.rows.cell_at(start), at.rows.moves,
            at.rows.table, at.rows.steps,
        )  # fmt: skip


KIND = Kind(
    stage=Phaser,
    side=PhaserSide,
    label="Phaser",
    help="Takes out frequencies that swing up and down, each leg at its own time.",
    group="Time",
    rank=30,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    placed=2,
    process=process,
    follows_place=True,
    offers=Offers(greatest=greatest, handles=(Handle("around", x="centre_hz"),)),
)
