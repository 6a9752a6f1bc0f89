"""Compressor: two in one, each leg with its own settings, coupled as much or as little as wanted.

The detector and the gain computer are those of signal/dynamics.py. With a coupling of 0 % the legs are two mono
compressors; with 100 % both are turned down by whatever the louder one asks for.
"""

from typing import Annotated, Any, Literal

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.delay import Delay
from stonekite.signal.matrix import Matrix
from stonekite.stages import cascade
from stonekite.stages.base import LEGS, LegName, Side, Stage
from stonekite.stages.eq import Band, Eq, EqSide, side_sections
from stonekite.stages.eq import response as eq_response
from stonekite.stages.handles import Handle
from stonekite.stages.settings import Settings, choice, flag, number

dynamics = lazy("stonekite.signal.dynamics")

LABEL = "Compressor"
HELP = "Turns down what is loud, each leg on its own or both together."

OPEN_LOW_HZ, OPEN_HIGH_HZ = 20.0, 20_000.0
"""Ends of the detector's window at which its filters do nothing."""
LIMITING = 100.0
"""At this ratio and above, the threshold is a limit."""
TILT_HZ, TILT_Q = 1000.0, 0.4
RMS_S = 0.01
SLOW_SHARE = 6.0
"""The slow part of the program-dependent release takes so many times the release."""


class CompressorSide(Side, frozen=True, kw_only=True):
    threshold_db: Annotated[
        float,
        number("Threshold", "dB", -80.0, 0.0, step=0.5, help="Level from which on the leg is turned down"),
    ] = -24.0
    ratio: Annotated[
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
    ] = 3.0
    knee_db: Annotated[
        float, number("Knee", "dB", 0.0, 36.0, step=0.5, help="Width of the bend around the threshold")
    ] = 6.0
    attack_ms: Annotated[
        float,
        number(
            "Attack", "ms", 0.05, 300.0, taper="log", step=1 / 4, help="Time to 63 % of a growing reduction"
        ),
    ] = 10.0
    release_ms: Annotated[
        float,
        number(
            "Release",
            "ms",
            5.0,
            3000.0,
            taper="log",
            step=1 / 4,
            help="Time to let go of 63 % of a reduction",
        ),
    ] = 120.0
    adaptive: Annotated[
        bool,
        flag("Adaptive", help="Short peaks are let go at the release, what lasted is let go more slowly"),
    ] = False
    range_db: Annotated[
        float, number("Range", "dB", 0.0, 60.0, step=0.5, help="The greatest reduction there may be")
    ] = 60.0
    makeup_db: Annotated[
        float, number("Makeup", "dB", -24.0, 36.0, step=0.5, help="Gain after the reduction")
    ] = 0.0
    auto_makeup: Annotated[
        bool, flag("Auto makeup", help="Also give back half of what a signal at 0 dBFS would lose")
    ] = False
    look_ahead_ms: Annotated[
        float,
        number(
            "Look-ahead", "ms", 0.0, 20.0, step=0.1, help="Time by which the detector is ahead of the sound"
        ),
    ] = 0.0
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


class CompressorShared(Settings, frozen=True, kw_only=True):
    coupling: Annotated[
        float,
        number(
            "Coupling",
            "%",
            0.0,
            100.0,
            step=5.0,
            help="0: two mono compressors; 100: both legs are turned down alike",
        ),
    ] = 0.0
    detection: Annotated[
        Literal["peak", "rms"],
        choice("Detector", {"peak": "Peak", "rms": "RMS"}, help="Follow every peak, or the power over 10 ms"),
    ] = "peak"


class Compressor(Stage, frozen=True, kw_only=True, tag="compressor"):
    upper: CompressorSide | None = CompressorSide()
    lower: CompressorSide | None = CompressorSide()
    shared: CompressorShared = CompressorShared()


STAGE = Compressor
SIDE = CompressorSide
CURVE_HANDLE = Handle("T", x="threshold_db", wheel="ratio")
HANDLES = (Handle("from", x="low_hz"), Handle("to", x="high_hz"))


def makeup_db(side: CompressorSide) -> float:
    """Gain after the reduction, with the automatic part."""
    if not side.auto_makeup:
        return side.makeup_db
    return side.makeup_db + 0.5 * float(reduction_db(side, np.zeros(1))[0])


def reduction_db(side: CompressorSide, level_db: np.ndarray) -> np.ndarray:
    """Reduction in dB of steady levels in dB."""
    ratio = np.inf if side.ratio >= LIMITING else side.ratio
    threshold = side.threshold_db - side.trim_db
    over = np.asarray(level_db, dtype=float) - threshold
    slope, knee = 1.0 - 1.0 / ratio, side.knee_db
    soft = slope * (over + knee / 2) ** 2 / (2 * knee) if knee > 0 else np.zeros_like(over)
    found = np.where(2 * over <= -knee, 0.0, np.where(2 * np.abs(over) <= knee, soft, slope * over))
    return np.minimum(np.maximum(found, 0.0), side.range_db)


def curve(stage: Compressor, leg: LegName, level_db: np.ndarray) -> np.ndarray:
    """Level in dB that comes out of a leg for steady levels in dB."""
    side = getattr(stage, leg)
    if side is None:
        return np.array(level_db, dtype=float)
    return level_db - reduction_db(side, level_db) + makeup_db(side)


def detector(stage: Compressor) -> Eq:
    """An EQ that sounds like what the detectors hear."""

    def heard(side: CompressorSide | None) -> EqSide | None:
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


def response(stage: Compressor, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response through which the detector hears a leg, at frequencies (Hz)."""
    return eq_response(detector(stage), leg, frequencies, rate)


def neutral(stage: Compressor) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return all(
        (side.ratio == 1.0 or side.range_db == 0.0) and makeup_db(side) == 0.0 for side in sides
    ) and not any(side.look_ahead_ms for side in sides)


def _late(side: CompressorSide | None, rate: float) -> int:
    return 0 if side is None else round(side.look_ahead_ms * 1e-3 * rate)


def latency(stage: Compressor, rate: float) -> tuple[int, int]:
    return _late(stage.upper, rate), _late(stage.lower, rate)


class Coefficients:
    """Parameters of the gain computer, sections of the detector, and the delays of the sound."""

    def __init__(self, stage: Compressor, rate: float) -> None:
        sides = [getattr(stage, leg) for leg in LEGS]
        self.parameters = np.zeros((dynamics.ROWS, 2))
        for leg, side in enumerate(sides):
            if side is not None:
                self.parameters[:, leg] = _parameters(side, stage.shared, rate)
        self.coupling = stage.shared.coupling / 100.0 if None not in sides else 0.0
        heard = detector(stage)
        self.sections = cascade.pack(side_sections(heard.upper, rate), side_sections(heard.lower, rate))
        self.delays = latency(stage, rate)


def _parameters(side: CompressorSide, shared: CompressorShared, rate: float) -> list[float]:
    release = side.release_ms * 1e-3
    return [
        side.threshold_db,
        1.0 if side.ratio >= LIMITING else 1.0 - 1.0 / side.ratio,
        side.knee_db,
        side.range_db,
        dynamics.smoothing(side.attack_ms * 1e-3, rate),
        dynamics.smoothing(release, rate),
        dynamics.smoothing(release * SLOW_SHARE, rate) if side.adaptive else 0.0,
        side.trim_db,
        makeup_db(side),
        dynamics.smoothing(RMS_S, rate) if shared.detection == "rms" else 0.0,
    ]


class State:
    """What a compressor remembers, and what it did last, for the pictures."""

    def __init__(self, coefficients: Coefficients) -> None:
        self.smoothers = np.zeros((3, 2))
        self.filters = cascade.start(coefficients.sections)
        self.delay = Delay(coefficients.delays)
        self.room = dynamics.Room()
        self.reduction_db = np.zeros(2)


def prepare(stage: Compressor, rate: float, matrix: Matrix | None) -> Coefficients:
    return Coefficients(stage, rate)


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def layout(coefficients: Coefficients) -> tuple:
    return (*cascade.layout(coefficients.sections), *coefficients.delays)


def process(state: State, coefficients: Coefficients, block: np.ndarray, position: int) -> None:
    detector = block
    if len(coefficients.sections):
        detector = block.copy()
        cascade.process(state.filters, coefficients.sections, detector, position)
    reductions = dynamics.reduce(detector, coefficients.parameters, state.smoothers, state.room)
    if reductions.shape[1]:
        own = reductions.max(axis=1)
        state.reduction_db = own + coefficients.coupling * (own.max() - own)
    state.delay.process(block)
    dynamics.apply(block, reductions, coefficients.coupling, coefficients.parameters, state.room)


def meter(state: Any) -> np.ndarray:
    """The greatest reduction (2,) in dB of the last block."""
    return state.reduction_db
