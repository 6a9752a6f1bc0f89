"""Chorus: copies of each leg a few milliseconds late, which swing to and fro. How it is computed: signal/sweeping.py."""

import math
from functools import cache
from typing import Annotated, Any, Literal

import numpy as np

from stonekite.lazy import lazy
from stonekite.stages import riding
from stonekite.stages.base import LEGS, SETTLED, At, Context, Kind, LegName, Mix, Offers, Plan, Side, Stage
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
from stonekite.stages.machinery.written import PIECE, Written
from stonekite.stages.settings import NoteName, choice, number

sweeping = lazy("stonekite.signal.sweeping")


class ChorusSide(Side, frozen=True, kw_only=True):
    rate_hz: Rate = 0.6
    depth_ms: Annotated[
        float,
        number(
            "Depth",
            "ms",
            0.0,
            10.0,
            step=0.1,
            help="How far the copies swing to each side, as far as there is room",
        ),
    ] = 2.0
    delay_ms: Annotated[
        float, number("Delay", "ms", 1.0, 40.0, taper="log", step=1 / 6, help="In the middle of the swing")
    ] = 9.0
    feedback: Annotated[
        float, number("Feedback", "%", -90.0, 90.0, step=1.0, help="How much of the copies is copied again")
    ] = 0.0
    voices: Annotated[
        Literal[1, 2, 3],
        choice("Voices", {1: "1", 2: "2", 3: "3"}, help="Copies, evenly spread over a swing"),
    ] = 2
    mix: Mix = 50.0
    rate_note: NoteName = ""


class Chorus(Stage, frozen=True, kw_only=True, tag="chorus"):
    upper: ChorusSide | None = ChorusSide()
    lower: ChorusSide | None = ChorusSide()
    shared: SwingShared = SwingShared()


def middle_and_depth(side: ChorusSide, rate: float) -> tuple[Any, Any]:
    """Delay in the middle of the swing and depth, in samples, as far as there is room."""
    least = float(sweeping.HALF + sweeping.SHORTEST)
    middle = np.maximum(side.delay_ms * 1e-3 * rate, least)
    return middle, np.minimum(side.depth_ms * 1e-3 * rate, middle - least)


def response(stage: Chorus, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz), in the middle of its swing."""
    side = getattr(stage, leg)
    hz = np.asarray(frequencies, dtype=float)
    if side is None:
        return np.ones(hz.shape, dtype=complex)
    late = np.exp(-2j * np.pi * hz * middle_and_depth(side, rate)[0] / rate)
    return math.sqrt(side.voices) * late / (1.0 - side.feedback / 100.0 * late)


def greatest(stage: Chorus, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): all copies together."""
    return greatest_gains(stage, hz, lambda side: math.sqrt(side.voices))


def plan(stage: Chorus, context: Context) -> Plan:
    longest = 0.0
    for side in (stage.upper, stage.lower):
        if side is not None:
            middle, depth = middle_and_depth(side, context.rate)
            back = abs(side.feedback) / 100.0
            times = 1.0 + (SETTLED / -math.log(back) if back > 1e-6 else 0.0)
            longest = max(longest, times * (middle + depth) + 2 * sweeping.HALF)
    return Plan(memory=math.ceil(longest) + seam_memory(context.rate), tail=math.ceil(longest))


class Coefficients:
    """How both legs swing, their voices, and how far back they are read."""

    def __init__(self, stage: Chorus, rate: float) -> None:
        sides = [getattr(stage, leg) or ChorusSide() for leg in LEGS]
        self.swings = Swings(stage, rate)
        self.voices = np.array([side.voices for side in sides])
        moments = [[getattr(one, leg) or ChorusSide() for leg in LEGS] for one in riding.moments(stage)]
        ways = np.array([[middle_and_depth(side, rate) for side in both] for both in moments])
        # What moves is between two moments no longer than both numbers at their greatest.
        longest = int(ways[..., 0].max() + ways[..., 1].max()) + 2 * sweeping.HALF
        self.back = any(bool(side.feedback) for both in moments for side in both)
        self.keeps = 1 << math.ceil(math.log2(1.25 * longest + sweeping.SHORTEST))
        self.weights = _weights()
        shortest = int((ways[..., 0] - ways[..., 1]).min())
        if len(moments) > 1:
            shortest = sweeping.HALF + sweeping.SHORTEST
        self.longest = min(PIECE, shortest - sweeping.HALF) if self.back else PIECE


@cache
def _weights() -> np.ndarray:
    return sweeping.parts()


class State:
    """What both legs have heard lately, and where they are in their swings."""

    def __init__(self, keeps: int) -> None:
        self.heard = Written(keeps, sweeping.ROWS)
        self.swung = Swung()
        self.spare = np.zeros(64)


def rows(stage: Chorus, context: Context) -> np.ndarray:
    """Rows (n, 8): delays and depths in samples, what is fed back, where the swings stand, each of both legs."""
    sides = [getattr(stage, leg) or ChorusSide() for leg in LEGS]
    ways = [middle_and_depth(side, context.rate) for side in sides]
    back = [side.feedback / 100.0 for side in sides]
    return stacked(*(way[0] for way in ways), *(way[1] for way in ways), *back, *phases(stage, context))


def coefficients(stage: Chorus, context: Context) -> Coefficients:
    return Coefficients(stage, context.rate)


def start(coefficients: Coefficients) -> State:
    return State(coefficients.keeps)


def carry(old: Coefficients, state: State, new: Coefficients) -> State:
    kept = State(new.keeps)
    kept.heard.pour(state.heard)
    kept.swung = state.swung.copied()
    return kept


def joins(state: State, old: State, length: int) -> None:
    state.heard.join(old.heard, length)


def process(state: State, c: Coefficients, block: np.ndarray, at: At) -> None:
    before, rise = state.heard.before(block.shape[1])
    s = c.swings
    for start, stop, place in state.swung.runs(s, c.voices, at, block.shape[1], PIECE):
        sweeping.chorus(
            block, start, stop, state.heard.history, state.heard.marks, place, s.turns, s.begins, s.straight, c.voices,
            s.works, state.swung.offsets, s.fade, c.weights, state.spare, c.back, c.longest, before, rise,
            np.empty((2, min(c.longest, stop - start))), np.empty((2, sweeping.GRID)), at.rows.cell_at(start),
            at.rows.moves, at.rows.table, at.rows.steps,
        )  # fmt: skip
    state.heard.went_on(block.shape[1])


KIND = Kind(
    stage=Chorus,
    side=ChorusSide,
    label="Chorus",
    help="Copies of each leg a little late, which swing to and fro: as if several played.",
    group="Time",
    rank=20,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    joins=joins,
    rows=rows,
    placed=2,
    process=process,
    follows_place=True,
    offers=Offers(greatest=greatest),
)
