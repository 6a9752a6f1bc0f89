"""Sub-octave: a tone an octave under the note of each leg, for as long as there is one note to follow.

How the note is found and what is made of it stands in signal/following.py.
"""

import copy
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.signal.delay import Delay
from stonekite.signal.filters import design
from stonekite.stages.base import LEGS, At, Context, Kind, LegName, Offers, Plan, Side, Stage
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import beside, times_leg
from stonekite.stages.settings import flag, number

following = lazy("stonekite.signal.following")

RISE_S, FALL_S = 0.012, 0.05
LONGEST_NOTE_S = 30.0
"""The octave's phase is that of the note's beginning: it is remembered as long as a note lasts."""
_LOW_PASS_HZ = 900.0


class SuboctaveSide(Side, frozen=True, kw_only=True):
    level_db: Annotated[
        float, number("Octave", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level of the octave under")
    ] = -3.0
    low_pass_hz: Annotated[
        float,
        number(
            "Low-pass",
            "Hz",
            30.0,
            1000.0,
            taper="log",
            step=1 / 12,
            help="Corner of the octave's low-pass, 24 dB per octave: the lower, the rounder",
        ),
    ] = 180.0
    lowest_hz: Annotated[
        float,
        number(
            "Notes from", "Hz", 38.0, 300.0, taper="log", step=1 / 12, help="Lowest note that is followed"
        ),
    ] = 40.0
    highest_hz: Annotated[
        float,
        number("Notes to", "Hz", 60.0, 500.0, taper="log", step=1 / 12, help="Highest note that is followed"),
    ] = 450.0
    keeps: Annotated[bool, flag("Leg stays", help="Whether the leg is heard beside its octave")] = True


class Suboctave(Stage, frozen=True, kw_only=True, tag="suboctave"):
    upper: SuboctaveSide | None = SuboctaveSide()
    lower: SuboctaveSide | None = SuboctaveSide()


def _filter(side: SuboctaveSide | None, rate: float) -> cascade.Leg:
    """The low-pass of the octave of one leg."""
    if side is None:
        return cascade.NOTHING
    return cascade.Leg.of([("low-pass", design.cut("low-pass", side.low_pass_hz, 24, rate))])


def response(stage: Suboctave, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """What the octave's low-pass does at frequencies (Hz); the leg itself passes as it is."""
    side = getattr(stage, leg)
    if side is None:
        return np.ones(np.shape(frequencies), dtype=complex)
    return gain_of(side.level_db) * design.response(_filter(side, rate).sections, frequencies, rate)


def neutral(stage: Suboctave) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Suboctave, context: Context) -> Plan:
    late = following.late(context.rate)
    filters = [_filter(side, context.rate) for side in (stage.upper, stage.lower)]
    return Plan(
        latency=(0 if stage.upper is None else late, 0 if stage.lower is None else late),
        memory=int(LONGEST_NOTE_S * context.rate) + max(map(cascade.memory, filters)),
        tail=max(map(cascade.rings, filters)) + int(FALL_S * context.rate),
    )


class Coefficients:
    """What both legs work with."""

    def __init__(self, stage: Suboctave, rate: float) -> None:
        self.rate = rate
        self.sides = tuple(getattr(stage, leg) for leg in LEGS)
        self.low_pass = cascade.Coefficients(*(_filter(side, rate) for side in self.sides))
        self.before = design.cut("low-pass", _LOW_PASS_HZ, 24, rate)
        self.late = following.late(rate)
        self.steps = 1.0 / (RISE_S * rate), 1.0 / (FALL_S * rate)


@dataclass
class State:
    """Of both legs: the follower's numbers and past, what waits, the low-pass."""

    numbers: list[np.ndarray]
    pasts: list[np.ndarray]
    waiting: Delay
    low_pass: Any
    scratch: np.ndarray


LEVEL, LOWEST, HIGHEST, SECTIONS = 0, 2, 4, 6
"""Of the numbers of a row: of the upper and the lower leg each."""


def rows(stage: Suboctave, context: Context) -> np.ndarray:
    """Rows (n, numbers): levels, lowest and highest notes of both legs, the sections of the low-pass."""
    sides = [getattr(stage, leg) for leg in LEGS]
    levels = [0.0 if side is None else gain_of(side.level_db) for side in sides]
    lowest = [0.0 if side is None else np.minimum(side.lowest_hz, side.highest_hz) for side in sides]
    highest = [0.0 if side is None else np.maximum(side.lowest_hz, side.highest_hz) for side in sides]
    return beside(
        *levels, *lowest, *highest, cascade.rows_of(*(_filter(side, context.rate) for side in sides))
    )


def start(coefficients: Coefficients) -> State:
    made = [following.rest() for _ in LEGS]
    late = [0 if side is None else coefficients.late for side in coefficients.sides]
    return State(
        [one[0] for one in made],
        [one[1] for one in made],
        Delay((late[0], late[1])),
        cascade.start(coefficients.low_pass),
        following.scratch(),
    )


def coefficients(stage: Suboctave, context: Context) -> Coefficients:
    return Coefficients(stage, context.rate)


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    if [side is None for side in old.sides] != [side is None for side in new.sides]:
        return None
    low_pass = cascade.carry(old.low_pass, state.low_pass, new.low_pass)
    if low_pass is None:
        return None
    kept = copy.deepcopy(state)
    kept.low_pass = low_pass
    return kept


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    heard = block.copy()
    state.waiting.process(block)
    under = np.zeros_like(block)
    for row, side in enumerate(coefficients.sides):
        if side is None:
            continue
        for first, last, numbers, *_ in at.rows.pieces(block.shape[1]):
            following.octave_below(
                block[row, first:last],
                heard[row, first:last],
                at.clock + first,
                coefficients.rate,
                coefficients.before,
                float(numbers[LOWEST + row]),
                float(numbers[HIGHEST + row]),
                *coefficients.steps,
                state.numbers[row],
                state.pasts[row],
                state.scratch,
                under[row, first:last],
            )
    out = at.out[1 if coefficients.sides[0] is None else 0]
    cascade.run(state.low_pass, coefficients.low_pass, under, at.clock, out.part(SECTIONS, None))
    for row, side in enumerate(coefficients.sides):
        if side is not None:
            if not side.keeps:
                block[row] = 0.0
            times_leg(under[row], at.out[row], LEVEL + row)
            block[row] += under[row]


def greatest(stage: Suboctave, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): the octave is as loud as its note, at the most."""
    found = np.zeros((2, 2, len(hz)))
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        keeps = 1.0 if side is None or side.keeps else 0.0
        found[row, row] = keeps + (0.0 if side is None else np.abs(response(stage, leg, hz, rate)))
    return found


def follows(state: State) -> np.ndarray:
    """The note that each leg is followed at (2,), in Hz; 0 for none."""
    return np.array([following.note_hz(numbers) for numbers in state.numbers])


KIND = Kind(
    stage=Suboctave,
    side=SuboctaveSide,
    label="Sub-octave",
    help="A tone an octave under the note of each leg, silent where there is no note to follow.",
    group="Colour",
    rank=30,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    process=process,
    offers=Offers(
        handles=(
            Handle("from", x="lowest_hz"),
            Handle("to", x="highest_hz"),
            Handle("LP", x="low_pass_hz"),
        ),
        follows=follows,
        greatest=greatest,
    ),
)
