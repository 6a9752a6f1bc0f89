"""Dynamic EQ: bands that cut, or lift, only while what is in them is loud (signal/levels/dynamic_bands.py).

Each band of each leg has a detector of its own, which hears exactly the range that the band turns.
"""

import copy
import math
from collections.abc import Iterator
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.delay import Delay
from stonekite.stages.base import (
    LEGS,
    RINGS,
    SETTLED,
    At,
    Context,
    Key,
    Kind,
    LegName,
    Offers,
    Plan,
    Side,
    Stage,
)
from stonekite.stages.machinery import detecting
from stonekite.stages.machinery.banded import Bands, Frequency, Narrowness
from stonekite.stages.machinery.detecting import LIMITING, Attack, DetectorShared, LookAhead, Ratio, Release
from stonekite.stages.riding import found
from stonekite.stages.settings import Settings, choice, flag, number
from stonekite.words import said

dynamics = lazy("stonekite.signal.levels.dynamics")
dynamic_bands = lazy("stonekite.signal.levels.dynamic_bands")
envelope = lazy("stonekite.signal.levels.envelope")

BANDS = 8
KNEE_DB = 6.0
_HIGHEST = 0.49
"""Of the rate: a band above it works as if it were there."""
_WIDEST = 3.0
"""So many times at the most a bell near half the rate is widened against the bent axis."""

Shape = Literal["bell", "low-shelf", "high-shelf"]
SHAPES: dict[Shape, str] = {
    "bell": said("Bell"),
    "low-shelf": said("Low shelf"),
    "high-shelf": said("High shelf"),
}


class Band(Settings, frozen=True, kw_only=True):
    """One band: where it is, from which level on it moves, and how far it may go."""

    shape: Annotated[Shape, choice("Shape", SHAPES, help="Which range the band hears and turns")] = "bell"
    frequency_hz: Frequency = 1000.0
    range_db: Annotated[
        float,
        number(
            "Range",
            "dB",
            -24.0,
            24.0,
            step=0.5,
            help="How far the band goes at the most: cuts what is loud (−), or lifts it (+)",
        ),
    ] = -6.0
    q: Narrowness = 1.0
    threshold_db: Annotated[
        float,
        number("Threshold", "dB", -80.0, 0.0, step=0.5, help="Level in the band from which on it is turned"),
    ] = -36.0
    ratio: Ratio = 3.0
    attack_ms: Attack = 10.0
    release_ms: Release = 150.0
    on: Annotated[bool, flag("On", help="Whether the band is heard")] = True
    hears_leg: Annotated[
        bool, flag("Own leg", help="Whether the band hears its own leg where others hear the stage's key")
    ] = False
    key: Key | None = None
    """What the band hears in place of the stage's key; nothing where it hears its own leg."""


class DynamicEqSide(Side, frozen=True, kw_only=True):
    """The bands of one leg. A band keeps its number when another one goes: its place is then None."""

    bands: Annotated[tuple[Band | None, ...], msgspec.Meta(max_length=BANDS)] = ()
    trim_db: Annotated[
        float,
        number(
            "Trim",
            "dB",
            -24.0,
            24.0,
            step=0.5,
            help="How much more or less the detectors hear of the leg",
        ),
    ] = 0.0
    look_ahead_ms: LookAhead = 0.0


class DynamicEqShared(DetectorShared, frozen=True, kw_only=True):
    detection: Annotated[
        Literal["peak", "rms"],
        choice("Detector", {"peak": "Peak", "rms": "RMS"}, help=detecting.DETECTION_HELP),
    ] = "rms"


class DynamicEq(Stage, frozen=True, kw_only=True, tag="dynamic-eq"):
    upper: DynamicEqSide | None = DynamicEqSide()
    lower: DynamicEqSide | None = DynamicEqSide()
    shared: DynamicEqShared = DynamicEqShared()


def _works(band: Band | None) -> bool:
    if band is None or not band.on:
        return False
    moves = isinstance(band.range_db, np.ndarray) or isinstance(band.ratio, np.ndarray)
    return moves or (band.range_db != 0.0 and band.ratio > 1.0)


def _slope(band: Band) -> Any:
    if isinstance(band.ratio, np.ndarray):
        return np.where(band.ratio >= LIMITING, 1.0, 1.0 - 1.0 / band.ratio)
    return 1.0 if band.ratio >= LIMITING else 1.0 - 1.0 / band.ratio


def _filter(band: Band, rate: float) -> tuple[Any, Any]:
    """tan(pi f / rate) and the damping 1/Q of a band; that of a bell is widened against the bent axis, so that its
    width in octaves stays (Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients").
    """
    if isinstance(band.frequency_hz, np.ndarray) or isinstance(band.q, np.ndarray):
        angles = 2.0 * np.pi * np.minimum(band.frequency_hz, _HIGHEST * rate) / rate
        widened = np.minimum(_WIDEST, angles / np.sin(angles)) if band.shape == "bell" else 1.0
        halved = np.arcsinh(0.5 / band.q)
        dampings = 2.0 * np.sinh(halved * widened) if band.shape == "bell" else 1.0 / band.q
        return np.tan(0.5 * angles), dampings
    angle = 2.0 * math.pi * min(band.frequency_hz, _HIGHEST * rate) / rate
    damping = 1.0 / band.q
    if band.shape == "bell":
        damping = 2.0 * math.sinh(math.asinh(0.5 / band.q) * min(_WIDEST, angle / math.sin(angle)))
    return math.tan(0.5 * angle), damping


def gain_db(side: DynamicEqSide, band: Band, level_db: np.ndarray) -> np.ndarray:
    """Gain in dB of a band for steady levels in dB of what its detector hears."""
    beyond = np.asarray(level_db, dtype=float) - (band.threshold_db - side.trim_db)
    amount = detecting.soft_knee(beyond, _slope(band), KNEE_DB, abs(band.range_db))
    return np.copysign(amount, band.range_db)


def response_with(
    stage: DynamicEq, leg: LegName, gains_db: list[float], frequencies: np.ndarray, rate: float
) -> np.ndarray:
    """Complex response of a leg at frequencies (Hz) while its bands have these gains in dB."""
    side = getattr(stage, leg)
    bent = 1j * np.tan(np.pi * np.minimum(frequencies, _HIGHEST * rate) / rate)
    found = np.ones(np.shape(frequencies), dtype=complex)
    for band, gain in zip(side.bands if side is not None else (), gains_db, strict=False):
        if band is None or not _works(band) or gain == 0.0:
            continue
        feed, damping = _filter(band, rate)
        s, whole = bent / feed, 10.0 ** (gain / 20.0)
        root = math.sqrt(whole)
        middle, top, bottom = {
            "bell": (whole, 1.0, 1.0),
            "low-shelf": (root, 1.0, whole),
            "high-shelf": (root, whole, 1.0),
        }[band.shape]
        found *= (top * s * s + middle * damping * s + bottom) / (s * s + damping * s + 1.0)
    return found


def greatest(stage: DynamicEq, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): each band as far up as it can go."""
    found = np.zeros((2, 2, len(hz)))
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        found[row, row] = 1.0
        for k, band in enumerate(side.bands if side is not None else ()):
            if band is not None:
                alone = [0.0] * k + [band.range_db]
                found[row, row] *= np.maximum(1.0, np.abs(response_with(stage, leg, alone, hz, rate)))
    return found


def response(stage: DynamicEq, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of a leg at frequencies (Hz) with every band as far as it may go."""
    side = getattr(stage, leg)
    gains = [0.0 if band is None else band.range_db for band in side.bands] if side is not None else []
    return response_with(stage, leg, gains, frequencies, rate)


def neutral(stage: DynamicEq) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return not any(side.look_ahead_ms or any(_works(band) for band in side.bands) for side in sides)


def plan(stage: DynamicEq, context: Context) -> Plan:
    late = detecting.latency(stage, context.rate)
    seconds = ringing = 0.0
    for side in (stage.upper, stage.lower):
        for band in side.bands if side is not None else ():
            if band is not None and _works(band):
                feed, damping = _filter(band, context.rate)
                # The slower pole of s^2 + damping s + 1, in seconds.
                half = 0.5 * damping
                pole = half if half < 1.0 else half - math.sqrt(half * half - 1.0)
                rings = SETTLED / (2.0 * context.rate * feed * pole)
                slowest = detecting.FORGOTTEN * max(band.attack_ms, band.release_ms) * 1e-3
                ringing = max(ringing, rings)
                seconds = max(seconds, 2.0 * rings + slowest + detecting.MEAN_S)
    return Plan(late, int(seconds * context.rate) + max(late), int(RINGS * ringing * context.rate))


class Coefficients:
    """Which bands there are, and how long the sound is held back."""

    def __init__(self, stage: DynamicEq, context: Context) -> None:
        rate = context.rate
        self.detection, self.rate = stage.shared.detection, rate
        self.slots = [
            (band.shape, self.detection, band.hears_leg, None if band.hears_leg else band.key)
            if band is not None and _works(band)
            else None
            for _, band in _lanes(stage)
        ]
        self.own = np.array([slot is not None and slot[2] for slot in self.slots])
        """Lanes that hear their own leg though there is a key."""
        heard = [None if slot is None else slot[3] for slot in self.slots]
        self.keys = {key: np.array([one == key for one in heard]) for key in heard if key is not None}
        """Lanes that have keys of their own."""
        self.delays = detecting.latency(stage, rate)


def _lanes(stage: DynamicEq) -> Iterator[tuple[Any, Any]]:
    """The sides and bands of all lanes, None where there is none."""
    for leg in LEGS:
        side = getattr(stage, leg)
        for k in range(BANDS):
            yield side, side.bands[k] if side is not None and k < len(side.bands) else None


def _lane(side: DynamicEqSide, band: Any, rate: float) -> list[Any]:
    feed, damping = _filter(band, rate)
    return [
        feed,
        damping,
        damping if band.shape == "bell" else 0.0,
        1.0 if band.shape == "low-shelf" else 0.0,
        1.0 if band.shape == "high-shelf" else 0.0,
        band.threshold_db - side.trim_db,
        _slope(band),
        KNEE_DB,
        abs(band.range_db),
        np.copysign(1.0, band.range_db),
        dynamics.smoothing(band.attack_ms * 1e-3, rate),
        dynamics.smoothing(band.release_ms * 1e-3, rate),
        0.0 if band.shape == "bell" else 1.0,
        1.0,
    ]


def rows(stage: DynamicEq, context: Context) -> np.ndarray:
    """Rows (n, dynamic_bands.NUMBERS)."""
    lanes = [_lane(side, band, context.rate) if _works(band) else None for side, band in _lanes(stage)]
    made: np.ndarray = dynamic_bands.packed(lanes, stage.shared.coupling / 100.0)
    return made


def stands(stage: DynamicEq, path: str) -> str:
    """Why a number of a band cannot move."""
    there = found(stage, path)
    if there is not None and isinstance(there[0], Band) and not there[0].on:
        return said("This band is off.")
    return ""


class State:
    """The bands at work, the sound that is held back, and what happened last, for the pictures."""

    def __init__(self, coefficients: Coefficients) -> None:
        hears = envelope.Mean if coefficients.detection == "rms" else envelope.Peaks
        self.bank = dynamic_bands.Bank(hears(1, dynamic_bands.LANES, coefficients.rate))
        self.delay = Delay(coefficients.delays)
        self.gains_db = np.zeros((2, BANDS))


def coefficients(stage: DynamicEq, context: Context) -> Coefficients:
    return Coefficients(stage, context)


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    """Each band goes on; one that was not there before, or was of another shape, has to hear what was."""
    fits = all(slot is None or slot == was for was, slot in zip(old.slots, new.slots, strict=True))
    if old.delays != new.delays or not fits:
        return None
    fresh = State(new)
    fresh.bank.go_on(state.bank, [slot is not None for slot in new.slots])
    fresh.delay = copy.deepcopy(state.delay)
    return fresh


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    own = block
    if any(coefficients.delays):
        own = block.copy()
        state.delay.process(block)
    heard = own if at.key is None else at.key
    others = [(own, coefficients.own)]
    others += [(at.keys.get(key, own), lanes) for key, lanes in coefficients.keys.items()]
    state.bank.process(heard, block, at.clock, at.rows.cells, others)
    signs = at.rows.table[-1, dynamic_bands.SIGN * dynamic_bands.LANES :][: dynamic_bands.LANES]
    state.gains_db = np.where(signs < 0.0, -1.0, 1.0).reshape(2, BANDS) * state.bank.most.reshape(2, BANDS)


def bands_now(state: State) -> tuple[np.ndarray, np.ndarray]:
    """Of the last block, each (2, BANDS): the greatest levels in dB that the detectors heard, without their trim, and
    the gains in dB that went furthest."""
    levels = 10.0 * np.log10(np.maximum(state.bank.loudest, 1e-16)).reshape(2, BANDS)
    return levels, state.gains_db


KIND = Kind(
    stage=DynamicEq,
    side=DynamicEqSide,
    label="Dynamic EQ",
    help="Bands that cut or lift only while they are loud, each leg by its own.",
    group="Tone",
    rank=30,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    stands=stands,
    process=process,
    hears_key=True,
    offers=Offers(
        bands=Bands(Band, BANDS, SHAPES, "range_db"),
        bands_now=bands_now,
        response_with=response_with,
        greatest=greatest,
    ),
)
