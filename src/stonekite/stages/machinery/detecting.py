"""What kinds have in common that turn a leg down by what a detector hears of it.

The detectors and gain computers are those of signal/levels/dynamics.py. A detector hears its leg through a high-pass, a
low-pass and a tilt; the sound can be held back so that the detector is ahead of it.
"""

import copy
from collections.abc import Callable
from typing import Annotated, Any, Literal

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.delay import Delay
from stonekite.stages.base import LEGS, At, Context, Kind, LegName, Offers, Plan, Side
from stonekite.stages.eq import Band, Eq, EqSide, side_leg
from stonekite.stages.eq import response as eq_response
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import beside
from stonekite.stages.settings import Settings, choice, number
from stonekite.words import said

dynamics = lazy("stonekite.signal.levels.dynamics")
envelope = lazy("stonekite.signal.levels.envelope")

OPEN_LOW_HZ, OPEN_HIGH_HZ = 20.0, 20_000.0
"""Ends of the detector's window at which its filters do nothing."""
LIMITING = 100.0
"""At this ratio and above, the slope is as steep as can be."""
TILT_HZ, TILT_Q = 1000.0, 0.4
HOLD_S, MEAN_S = 0.0102, 0.024
"""So long a peak is held, and so far back a mean goes (signal/levels/envelope.py, which the window does not load)."""

CURVE_HANDLE = Handle("T", x="threshold_db", wheel="ratio")
HANDLES = (
    Handle("from", x="low_hz"),
    Handle("to", x="high_hz"),
    Handle("tilt", y="tilt_db", at_hz=TILT_HZ * 4, reach=0.39),
)


LOOK_AHEAD_STANDS = said("The look-ahead is by how much the stage is late: the sound would jump if it moved.")

Numbers = float | np.ndarray

Ratio = Annotated[
    float,
    number(
        "Ratio",
        ": 1",
        1.0,
        LIMITING,
        taper="log",
        step=1 / 8,
        help="How many dB in for one dB more out; 100 limits",
    ),
]
Attack = Annotated[
    float,
    number("Attack", "ms", 0.05, 300.0, taper="log", step=1 / 4, help="Time to 63 % of a growing change"),
]
Release = Annotated[
    float,
    number("Release", "ms", 5.0, 3000.0, taper="log", step=1 / 4, help="Time to let go of 63 % of a change"),
]
LookAhead = Annotated[
    float,
    number(
        "Look-ahead",
        "ms",
        0.0,
        20.0,
        step=0.1,
        help="Time by which the detector is ahead of the sound",
        still=LOOK_AHEAD_STANDS,
    ),
]


DETECTION_HELP = (
    "Peak: every peak, held for 10 ms, so that a release begins 10 ms after the last one. RMS: the power of the last "
    "24 ms, which adds up to so much to every time"
)


class DetectorSide(Side, frozen=True, kw_only=True):
    look_ahead_ms: LookAhead = 0.0
    trim_db: Annotated[
        float,
        number(
            "Detector trim",
            "dB",
            -24.0,
            24.0,
            step=0.5,
            help="How much more or less the detector hears of the leg",
        ),
    ] = 0.0
    low_hz: Annotated[
        float,
        number(
            "Hears from",
            "Hz",
            OPEN_LOW_HZ,
            20000.0,
            taper="log",
            step=1 / 12,
            help="High-pass of the detector; off at 20 Hz",
        ),
    ] = OPEN_LOW_HZ
    high_hz: Annotated[
        float,
        number(
            "Hears to",
            "Hz",
            20.0,
            OPEN_HIGH_HZ,
            taper="log",
            step=1 / 12,
            help="Low-pass of the detector; off at 20 kHz",
        ),
    ] = OPEN_HIGH_HZ
    tilt_db: Annotated[
        float,
        number(
            "Detector tilt",
            "dB",
            -24.0,
            24.0,
            step=0.5,
            help="Makes the detector hear highs (+) or lows (−) better",
        ),
    ] = 0.0


class DetectorShared(Settings, frozen=True, kw_only=True):
    coupling: Annotated[
        float,
        number(
            "Coupling",
            "%",
            0.0,
            100.0,
            step=5.0,
            both=True,
            help="0: each leg by its own detector alone; 100: both legs are turned down alike",
        ),
    ] = 0.0
    detection: Annotated[
        Literal["peak", "rms"],
        choice("Detector", {"peak": "Peak", "rms": "RMS"}, help=DETECTION_HELP),
    ] = "peak"


def detector(stage: Any) -> Eq:
    """An EQ that sounds like what the detectors hear."""

    def heard(side: DetectorSide | None) -> EqSide | None:
        if side is None:
            return None
        # Each has its place even where another one does nothing, so that it is known again.
        low = Band(shape="high-pass", frequency_hz=side.low_hz, on=side.low_hz > OPEN_LOW_HZ)
        high = Band(shape="low-pass", frequency_hz=side.high_hz, on=side.high_hz < OPEN_HIGH_HZ)
        tilt = Band(shape="tilt", frequency_hz=TILT_HZ, gain_db=side.tilt_db, q=TILT_Q)
        return EqSide(bands=(low, high, tilt))

    return Eq(id=stage.id, upper=heard(stage.upper), lower=heard(stage.lower))


def response(stage: Any, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response through which the detector hears a leg, at frequencies (Hz)."""
    return eq_response(detector(stage), leg, frequencies, rate)


def _late(side: DetectorSide | None, rate: float) -> int:
    return 0 if side is None else round(side.look_ahead_ms * 1e-3 * rate)


def latency(stage: Any, rate: float) -> tuple[int, int]:
    """The look-ahead of each leg in samples."""
    return _late(stage.upper, rate), _late(stage.lower, rate)


FORGOTTEN = 18.0
"""A reduction is forgotten, to a millionth of the gain, after so many of its time constants."""


def plan(stage: Any, context: Context, slowest_ms: float) -> Plan:
    """Latency, and a memory as long as the detectors' filters, the power's mean and the slowest smoother take."""
    late = latency(stage, context.rate)
    heard = detector(stage)
    filters = max(cascade.memory(side_leg(side, context.rate)) for side in (heard.upper, heard.lower))
    seconds = FORGOTTEN * slowest_ms * 1e-3 + MEAN_S
    return Plan(late, filters + int(seconds * context.rate) + max(late))


class Coefficients:
    """Sections of the detectors, delays of the sound, and what of the state is in use.

    `expands` tells that what is quiet is turned down and not what is loud; legs are then coupled by the one that is
    turned down less.
    """

    def __init__(self, stage: Any, context: Context, slow: tuple[bool, bool], *, expands: bool) -> None:
        self.expands = expands
        self.sections = cascade.Coefficients(*_heard(stage, context))
        self.slow = slow
        self.delays = latency(stage, context.rate)
        self.detection = stage.shared.detection
        self.rate = context.rate

    @property
    def in_use(self) -> tuple:
        """Which parts of the state mean something."""
        return self.detection, *self.slow


class State:
    """What a detector remembers, and what it did last, for the pictures."""

    def __init__(self, coefficients: Coefficients) -> None:
        self.smoothers = np.zeros((dynamics.MEMORIES, 2))
        self.filters = cascade.start(coefficients.sections)
        hears = envelope.Mean if coefficients.detection == "rms" else envelope.Peaks
        self.envelope = hears(2, 1, coefficients.rate)
        self.delay = Delay(coefficients.delays)
        self.room = dynamics.Room()
        self.reduction_db = np.zeros(2)


def soft_knee(beyond_db: np.ndarray, slope: Numbers, knee_db: Numbers, most_db: Numbers) -> np.ndarray:
    """Reduction in dB, `slope` for each dB beyond the threshold, with a parabola over the knee, at most `most_db`.

    Equation (4) of Giannoulis, Massberg and Reiss, "Digital Dynamic Range Compressor Design", 2012.
    """
    inside = beyond_db + knee_db / 2
    knee = np.where(knee_db > 0, 2 * knee_db, 1.0)
    soft = np.where(knee_db > 0, slope * inside**2 / knee, 0.0)
    found = np.where(inside <= 0, 0.0, np.where(beyond_db <= knee_db / 2, soft, slope * beyond_db))
    return np.minimum(np.maximum(found, 0.0), most_db)


def passing() -> list[float]:
    """Parameters of a leg that passes."""
    return [0.0] * dynamics.ROWS


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    """All goes on but what was not in use before: a mean of the power, the slow part of a release, other filters."""
    if old.delays != new.delays or old.in_use != new.in_use:
        return None
    filters = cascade.carry(old.sections, state.filters, new.sections)
    if filters is None:
        return None
    fresh = State(new)
    fresh.smoothers = state.smoothers.copy()
    fresh.filters = filters
    fresh.envelope = copy.deepcopy(state.envelope)
    fresh.delay = copy.deepcopy(state.delay)
    return fresh


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    heard = block if at.key is None else at.key
    rows = at.rows
    if coefficients.sections.works:
        heard = heard.copy()
        rows = at.rows.part(0, dynamics.NUMBERS)
        sections = at.rows.part(dynamics.NUMBERS, None)
        cascade.run(state.filters, coefficients.sections, heard, at.clock, sections)
    work = dynamics.expand if coefficients.expands else dynamics.reduce
    powers = state.envelope.powers(heard, at.clock)
    reductions = work(powers, heard.shape[1], rows.cells, state.smoothers, state.room)
    state.delay.process(block)
    out = at.out[0].cells, at.out[1].cells
    dynamics.apply(block, reductions, coefficients.expands, out, state.room)
    if reductions.shape[1]:
        upper, lower = state.room.greatest.tolist()
        shared = min(upper, lower) if coefficients.expands else max(upper, lower)
        share = float(rows.table[0, dynamics.COUPLING])
        state.reduction_db = np.array([upper + share * (shared - upper), lower + share * (shared - lower)])


def meter(state: State) -> np.ndarray:
    """The greatest reduction (2,) in dB of the last block."""
    return state.reduction_db


def _heard(stage: Any, context: Context) -> tuple[cascade.Leg, cascade.Leg]:
    """What the detectors hear their legs through."""
    heard = detector(stage)
    return side_leg(heard.upper, context.rate), side_leg(heard.lower, context.rate)


def rows_of(stage: Any, context: Context, made: Callable[[Any], list[Any]]) -> np.ndarray:
    """Rows (n, numbers): those of the gain computers, `made(side)` of each leg that is on and nothing for one that
    passes, the coupling, and the sections of the detectors."""
    sides = [getattr(stage, leg) for leg in LEGS]
    columns = [passing() if side is None else made(side) for side in sides]
    numbers = [number for pair in zip(*columns, strict=True) for number in pair]
    coupling = 0.0 if None in sides else stage.shared.coupling / 100.0
    return beside(*numbers, coupling, cascade.rows_of(*_heard(stage, context)))


def kind(
    curve: Callable[[Any, LegName, np.ndarray], np.ndarray], makeup_db: Callable[[Any], float], **own: Any
) -> Kind:
    """A kind with a detector: `own` is what of a Kind is its own, the rest is the same for all of them."""
    return Kind(
        response=response,
        start=start,
        carry=carry,
        process=process,
        hears_key=True,
        offers=Offers(
            curve=curve,
            curve_handle=CURVE_HANDLE,
            makeup_db=makeup_db,
            meter=meter,
            detector=detector,
            handles=HANDLES,
        ),
        **own,
    )
