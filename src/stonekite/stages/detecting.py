"""What kinds have in common that turn a leg down by what a detector hears of it.

The detectors and gain computers are those of signal/dynamics.py. A detector hears its leg through a high-pass, a
low-pass and a tilt; the sound can be held back so that the detector is ahead of it.
"""

from typing import Annotated, Any, Literal

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.delay import Delay
from stonekite.stages import cascade
from stonekite.stages.base import LEGS, LegName, Side
from stonekite.stages.eq import Band, Eq, EqSide, side_sections
from stonekite.stages.eq import response as eq_response
from stonekite.stages.handles import Handle
from stonekite.stages.settings import Settings, choice, number

dynamics = lazy("stonekite.signal.dynamics")

OPEN_LOW_HZ, OPEN_HIGH_HZ = 20.0, 20_000.0
"""Ends of the detector's window at which its filters do nothing."""
LIMITING = 100.0
"""At this ratio and above, the slope is as steep as can be."""
TILT_HZ, TILT_Q = 1000.0, 0.4
RMS_S = 0.01

CURVE_HANDLE = Handle("T", x="threshold_db", wheel="ratio")
HANDLES = (
    Handle("from", x="low_hz"),
    Handle("to", x="high_hz"),
    Handle("tilt", y="tilt_db", at_hz=TILT_HZ * 4, reach=0.39),
)


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
    number("Look-ahead", "ms", 0.0, 20.0, step=0.1, help="Time by which the detector is ahead of the sound"),
]


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
            help="0: each leg by its own detector alone; 100: both legs are turned down alike",
        ),
    ] = 0.0
    detection: Annotated[
        Literal["peak", "rms"],
        choice("Detector", {"peak": "Peak", "rms": "RMS"}, help="Follow every peak, or the power over 10 ms"),
    ] = "peak"


def detector(stage: Any) -> Eq:
    """An EQ that sounds like what the detectors hear."""

    def heard(side: DetectorSide | None) -> EqSide | None:
        if side is None:
            return None
        bands = []
        if side.low_hz > OPEN_LOW_HZ:
            bands.append(Band(shape="high-pass", frequency_hz=side.low_hz))
        if side.high_hz < OPEN_HIGH_HZ:
            bands.append(Band(shape="low-pass", frequency_hz=side.high_hz))
        bands.append(Band(shape="tilt", frequency_hz=TILT_HZ, gain_db=side.tilt_db, q=TILT_Q))
        return EqSide(bands=tuple(bands))

    return Eq(id=stage.id, upper=heard(stage.upper), lower=heard(stage.lower))


def response(stage: Any, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response through which the detector hears a leg, at frequencies (Hz)."""
    return eq_response(detector(stage), leg, frequencies, rate)


def _late(side: DetectorSide | None, rate: float) -> int:
    return 0 if side is None else round(side.look_ahead_ms * 1e-3 * rate)


def latency(stage: Any, rate: float) -> tuple[int, int]:
    """The look-ahead of each leg in samples."""
    return _late(stage.upper, rate), _late(stage.lower, rate)


class Coefficients:
    """Parameters of the gain computers (dynamics.ROWS, 2), sections of the detectors, delays of the sound.

    `expands` tells that what is quiet is turned down and not what is loud; legs are then coupled by the one that is
    turned down less.
    """

    def __init__(self, stage: Any, rate: float, columns: list[list[float]], *, expands: bool) -> None:
        self.parameters = np.array(columns).T
        self.expands = expands
        both = stage.upper is not None and stage.lower is not None
        self.coupling = stage.shared.coupling / 100.0 if both else 0.0
        heard = detector(stage)
        self.sections = cascade.pack(side_sections(heard.upper, rate), side_sections(heard.lower, rate))
        self.delays = latency(stage, rate)


class State:
    """What a detector remembers, and what it did last, for the pictures."""

    def __init__(self, coefficients: Coefficients) -> None:
        self.smoothers = np.zeros((dynamics.MEMORIES, 2))
        self.filters = cascade.start(coefficients.sections)
        self.delay = Delay(coefficients.delays)
        self.room = dynamics.Room()
        self.reduction_db = np.zeros(2)


def soft_knee(beyond_db: np.ndarray, slope: float, knee_db: float, most_db: float) -> np.ndarray:
    """Reduction in dB, `slope` for each dB beyond the threshold, with a parabola over the knee, at most `most_db`.

    Equation (4) of Giannoulis, Massberg and Reiss, "Digital Dynamic Range Compressor Design", 2012.
    """
    inside = beyond_db + knee_db / 2
    soft = slope * inside**2 / (2 * knee_db) if knee_db > 0 else np.zeros_like(beyond_db)
    found = np.where(inside <= 0, 0.0, np.where(beyond_db <= knee_db / 2, soft, slope * beyond_db))
    return np.minimum(np.maximum(found, 0.0), most_db)


def averaging(shared: DetectorShared, rate: float) -> float:
    """Smoothing factor of the detector's power; 0 for a peak detector."""
    return dynamics.smoothing(RMS_S, rate) if shared.detection == "rms" else 0.0


def passing() -> list[float]:
    """Parameters of a leg that passes."""
    return [0.0] * dynamics.ROWS


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def layout(coefficients: Coefficients) -> tuple:
    return (*cascade.layout(coefficients.sections), *coefficients.delays)


def process(state: State, coefficients: Coefficients, block: np.ndarray, position: int) -> None:
    heard = block
    if len(coefficients.sections):
        heard = block.copy()
        cascade.process(state.filters, coefficients.sections, heard, position)
    work = dynamics.expand if coefficients.expands else dynamics.reduce
    reductions = work(heard, coefficients.parameters, state.smoothers, state.room)
    toward = -coefficients.coupling if coefficients.expands else coefficients.coupling
    state.delay.process(block)
    dynamics.apply(block, reductions, toward, coefficients.parameters, state.room)
    if reductions.shape[1]:
        own = reductions.max(axis=1)
        shared = own.min() if coefficients.expands else own.max()
        state.reduction_db = own + coefficients.coupling * (shared - own)


def meter(state: State) -> np.ndarray:
    """The greatest reduction (2,) in dB of the last block."""
    return state.reduction_db


def columns(stage: Any, made: Any) -> list[list[float]]:
    """Parameters of both legs: `made(side)` of each that is on, nothing for one that passes."""
    sides = [getattr(stage, leg) for leg in LEGS]
    return [passing() if side is None else made(side) for side in sides]
