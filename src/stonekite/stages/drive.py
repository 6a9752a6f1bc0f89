"""Drive: bends each leg along a curve, so that it gets overtones, and what stands together in a leg sums and differences.

Left and right bent apart keep their tones to themselves; middle and side bent apart mix what both sides have. In the
raised-side matrix the side is driven as hard as the middle. The curves are those of signal/shaping.py.
"""

import copy
import math
from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.signal.filters import design
from stonekite.signal.vectors.pairs import on_both
from stonekite.stages import riding
from stonekite.stages.base import LEGS, At, Context, Kind, LegName, LevelKept, Offers, Plan, Side, Stage
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import Rows, beside, times_leg
from stonekite.stages.settings import Settings, choice, number

shaping = lazy("stonekite.signal.shaping")

TONE_HZ, TONE_Q = 700.0, 0.4
DC_HZ = 3.0
BIAS = 0.8
"""Of the height of the curve, at full asymmetry."""
BEND_HANDLE = Handle("D", x="drive_db", wheel="asymmetry")
FOLDED_MOST_DB = 30.0
"""A folded curve is driven so far at the most: beyond it would fold back what it makes."""


class DriveSide(Side, frozen=True, kw_only=True):
    curve: Annotated[
        Literal["soft", "hard", "folded"],
        choice(
            "Curve",
            {"soft": "Soft", "hard": "Hard", "folded": "Folded"},
            help="Soft bends all the way, hard cuts off, folded comes back when it is driven further",
        ),
    ] = "soft"
    drive_db: Annotated[
        float,
        number(
            "Drive",
            "dB",
            0.0,
            36.0,
            step=0.5,
            help="Gain before the curve, which ends at 0 dBFS; a folded curve takes up to 30 dB of it",
        ),
    ] = 12.0
    asymmetry: Annotated[
        float,
        number(
            "Asymmetry",
            "%",
            0.0,
            100.0,
            step=5.0,
            help="How unequal the halves of the wave are bent: gives even overtones",
        ),
    ] = 0.0
    tone_before_db: Annotated[
        float,
        number(
            "Tone before",
            "dB",
            -18.0,
            18.0,
            step=0.5,
            help="Drives highs (+) or lows (−) harder: a tilt around 700 Hz",
        ),
    ] = 0.0
    tone_after_db: Annotated[
        float,
        number(
            "Tone after",
            "dB",
            -18.0,
            18.0,
            step=0.5,
            help="Makes what was driven brighter (+) or darker (−): a tilt around 700 Hz",
        ),
    ] = 0.0
    level_db: Annotated[
        float, number("Level", "dB", -36.0, 12.0, step=0.5, help="Level of what was driven")
    ] = -12.0


class DriveShared(Settings, frozen=True, kw_only=True):
    quality: Annotated[
        Literal["standard", "high"],
        choice(
            "Oversampling",
            {"standard": "Standard", "high": "High"},
            help="How far under all that comes out what folds back is, for tones up to 14 kHz: 75 dB, or 95 dB for half "
            "the speed; what is driven harder takes longer in both",
        ),
    ] = "standard"


class Drive(Stage, frozen=True, kw_only=True, tag="drive"):
    level_kept: LevelKept = True
    upper: DriveSide | None = DriveSide()
    lower: DriveSide | None = DriveSide()
    shared: DriveShared = DriveShared()


def _bias(side: DriveSide) -> float:
    return BIAS * side.asymmetry / 100.0


def _bent(side: DriveSide, x: float) -> float:
    if side.curve == "soft":
        return math.erf(0.5 * math.sqrt(math.pi) * x)
    if side.curve == "hard":
        return min(1.0, max(-1.0, x))
    return math.sin(0.5 * math.pi * x) * 2.0 / math.pi


def _drive_db(side: DriveSide) -> Any:
    """The drive that there is: a folded curve holds it where it can be followed."""
    if side.curve != "folded":
        return side.drive_db
    held = np.minimum(side.drive_db, FOLDED_MOST_DB)
    return held if isinstance(side.drive_db, np.ndarray) else float(held)


def bend(side: DriveSide, values: np.ndarray) -> np.ndarray:
    """Steady values that come out for values that go in, both of full scale, without the tones and the mix."""
    gain, bias, level = gain_of(_drive_db(side)), _bias(side), gain_of(side.level_db)
    rest = _bent(side, bias)
    return level * np.array([_bent(side, gain * x + bias) - rest for x in np.asarray(values).tolist()])


def _slope(side: DriveSide) -> float:
    """Gain of the curve for what is very quiet."""
    bias = _bias(side)
    return {
        "soft": math.exp(-0.25 * math.pi * bias**2),
        "hard": 1.0,
        "folded": math.cos(0.5 * math.pi * bias),
    }[side.curve]


def _around(side: DriveSide | None, rate: float) -> tuple[cascade.Leg, cascade.Leg]:
    """What stands before and after the curve."""
    if side is None:
        return cascade.NOTHING, cascade.NOTHING
    no_dc = design.sections("high-pass-6", DC_HZ, 0.0, 1.0, rate)
    before = cascade.Leg.of([("tone", design.tilt(TONE_HZ, side.tone_before_db, TONE_Q, rate))])
    after = design.tilt(TONE_HZ, side.tone_after_db, TONE_Q, rate)
    return before, cascade.Leg.of([("tone", after), ("dc", no_dc)])


def response(stage: Drive, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of a leg at frequencies (Hz) for what is so quiet that nothing bends it."""
    side = getattr(stage, leg)
    if side is None:
        return np.ones(np.shape(frequencies), dtype=complex)
    gain = gain_of(_drive_db(side) + side.level_db) * _slope(side)
    sections = np.concatenate([leg.sections for leg in _around(side, rate)])
    return gain * design.response(sections, frequencies, rate)


def greatest(stage: Drive, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): where the curve is steepest, which is not where it rests."""
    found = np.zeros((2, 2, len(hz)))
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        found[row, row] = 1.0
        if side is not None:
            around = np.concatenate([part.sections for part in _around(side, rate)])
            steepest = gain_of(_drive_db(side) + side.level_db) * np.abs(design.response(around, hz, rate))
            found[row, row] = steepest
    return found


def neutral(stage: Drive) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Drive, context: Context) -> Plan:
    late = (0 if stage.upper is None else shaping.LATE), (0 if stage.lower is None else shaping.LATE)
    filters = [leg for s in (stage.upper, stage.lower) for leg in _around(s, context.rate)]
    memory, tail = (sum(of(leg) for leg in filters) for of in (cascade.memory, cascade.rings))
    return Plan(late, memory + 2 * shaping.LATE, tail + shaping.LATE)


class Leg(NamedTuple):
    """How one leg is bent, at how many times the rate, and whether by how much moves."""

    shape: int
    factor: int
    moves: bool


class Coefficients:
    """What bends each leg (None for one that passes), the sections around it, and how many times the rate."""

    def __init__(self, stage: Drive, context: Context) -> None:
        sides = [getattr(stage, leg) for leg in LEGS]
        self.legs = [None if getattr(stage, leg) is None else self._leg(stage, leg) for leg in LEGS]
        before, after = zip(*(_around(side, context.rate) for side in sides), strict=True)
        self.before, self.after = cascade.Coefficients(*before), cascade.Coefficients(*after)

    @staticmethod
    def _leg(stage: Drive, leg: LegName) -> Leg:
        side = getattr(stage, leg)
        asked = {"soft": shaping.SOFT, "hard": shaping.HARD, "folded": shaping.FOLDED}[side.curve]
        most = riding.highest(stage, f"{leg}.drive_db", side.drive_db)
        most = min(most, FOLDED_MOST_DB) if side.curve == "folded" else most
        shape, factor = shaping.plan_of(asked, most, stage.shared.quality == "high")
        moves = isinstance(side.drive_db, np.ndarray) or isinstance(side.asymmetry, np.ndarray)
        return Leg(shape, factor, moves)

    @property
    def ways(self) -> list[tuple[int, int] | None]:
        """How each leg is bent, as far as it makes another state."""
        return [None if leg is None else (leg.shape, leg.factor) for leg in self.legs]


class State:
    """The filters around the curves, the shapers of both legs, and the biases of what is in them, where these move."""

    def __init__(self, coefficients: Coefficients) -> None:
        self.before, self.after = cascade.start(coefficients.before), cascade.start(coefficients.after)
        self.shapers = [None if way is None else shaping.Shaper(way[1], way[0]) for way in coefficients.ways]
        self.biases: list[np.ndarray | None] = [None, None]


def rows(stage: Drive, context: Context) -> np.ndarray:
    """Rows (n, numbers): gains before the curves, biases and levels of both legs, the sections before and after."""
    sides = [getattr(stage, leg) for leg in LEGS]
    gains = [1.0 if side is None else gain_of(_drive_db(side)) for side in sides]
    biases = [0.0 if side is None else _bias(side) for side in sides]
    levels = [1.0 if side is None else gain_of(side.level_db) for side in sides]
    around = zip(*(_around(side, context.rate) for side in sides), strict=True)
    return beside(*gains, *biases, *levels, *(cascade.rows_of(*legs) for legs in around))


GAIN, BIAS_AT, LEVEL, SECTIONS = 0, 2, 4, 6
"""Of the numbers of a row: of the upper and the lower leg each."""


def coefficients(stage: Drive, context: Context) -> Coefficients:
    return Coefficients(stage, context)


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    before = cascade.carry(old.before, state.before, new.before)
    after = cascade.carry(old.after, state.after, new.after)
    if old.ways != new.ways or before is None or after is None:
        return None
    fresh = State.__new__(State)
    fresh.before, fresh.after = before, after
    fresh.shapers = copy.deepcopy(state.shapers)
    fresh.biases = [None, None]
    return fresh


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    middle = SECTIONS + coefficients.before.numbers
    later = at.out[1 if coefficients.legs[0] is None else 0]
    before, after = at.rows.part(SECTIONS, middle), later.part(middle, None)
    cascade.run(state.before, coefficients.before, block, at.clock, before)

    def work(row: int) -> None:
        leg, shaper = coefficients.legs[row], state.shapers[row]
        if leg is not None and shaper is not None:
            if leg.moves:
                _bend_moving(state, row, leg, block[row], at.rows)
            else:
                numbers = at.rows.table[0]
                shaper.process(
                    block[row], leg.shape, float(numbers[GAIN + row]), float(numbers[BIAS_AT + row])
                )
            times_leg(block[row], at.out[row], LEVEL + row)

    on_both(work, block.shape[1])
    cascade.run(state.after, coefficients.after, block, at.clock, after)


def _bend_moving(state: State, row: int, leg: Leg, signal: np.ndarray, rows: Rows) -> None:
    """Bend a signal (frames,) whose gain and bias move: what it has of the bias comes in with it and is taken off again
    when it comes out."""
    shaper = state.shapers[row]
    assert shaper is not None
    gains, biases = rows.along(GAIN + row, len(signal)), rows.along(BIAS_AT + row, len(signal))
    if not len(signal):
        return
    before = state.biases[row]
    if before is None:  # as if the bias had always been there
        before = np.full(shaping.LATE, biases[0])
        shaper.process(np.full(8 * shaping.LATE, biases[0]), leg.shape, 1.0, 0.0)
    known = np.concatenate([before, biases])
    signal *= gains
    signal += biases
    shaper.process(signal, leg.shape, 1.0, 0.0)
    if known.any():
        signal -= _resting(leg.shape, known[: len(signal)])
    state.biases[row] = known[len(signal) :].copy()


def _resting(shape: int, values: np.ndarray) -> np.ndarray:
    """What the curve makes of steady values (n,)."""
    if shape == shaping.HARD:
        return np.clip(values, -1.0, 1.0)
    if shape == shaping.FOLDED:
        return np.sin(0.5 * np.pi * values) * 2.0 / np.pi
    made: np.ndarray = shaping.soft(values)
    return made


KIND = Kind(
    stage=Drive,
    side=DriveSide,
    label="Drive",
    help="Saturates each leg along a curve: soft, hard or folded, with equal or unequal halves.",
    group="Colour",
    rank=10,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    process=process,
    offers=Offers(bend=bend, bend_handle=BEND_HANDLE, greatest=greatest),
)
