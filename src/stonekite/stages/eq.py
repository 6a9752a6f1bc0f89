"""EQ: up to sixteen bands for each leg, following the analogue prototypes up to 20 kHz (signal/design.py).

In minimum phase a leg's curve turns its phase, and with it the image that both legs make together. Two other
ways keep the legs together: with matched legs each leg gets the phase of both curves, with linear phase none of
them does. Both are responses of finite length (signal/convolution.py), designed in signal/long_filters.py.
"""

from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal import design
from stonekite.signal.matrix import Matrix
from stonekite.stages import cascade
from stonekite.stages.banded import Bands, Frequency, Narrowness
from stonekite.stages.base import LegName, Side, Stage
from stonekite.stages.settings import Settings, choice, flag, number

long_filters = lazy("stonekite.signal.long_filters")

LABEL = "EQ"
HELP = "Up to sixteen bands for each leg: bells, shelves, tilt, high-pass, low-pass and notch."
BANDS = 16

Shape = Literal["bell", "low-shelf", "high-shelf", "tilt", "high-pass", "low-pass", "notch"]
SHAPES: dict[Shape, str] = {
    "bell": "Bell",
    "low-shelf": "Low shelf",
    "high-shelf": "High shelf",
    "tilt": "Tilt",
    "high-pass": "High-pass",
    "low-pass": "Low-pass",
    "notch": "Notch",
}
WITHOUT_GAIN = ("high-pass", "low-pass", "notch")
WITH_SLOPE = ("high-pass", "low-pass")


class Band(Settings, frozen=True, kw_only=True):
    """One band. Gain counts for bells and shelves, slope for high-pass and low-pass."""

    shape: Annotated[Shape, choice("Shape", SHAPES, help="What the band does to the spectrum")] = "bell"
    frequency_hz: Frequency = 1000.0
    gain_db: Annotated[
        float, number("Gain", "dB", -24.0, 24.0, step=0.5, help="Boost or cut of a bell or shelf")
    ] = 0.0
    q: Narrowness = 0.7071
    slope: Annotated[
        Literal[6, 12, 18, 24, 36, 48],
        choice(
            "Slope per octave",
            {slope: f"{slope}" for slope in design.SLOPES},
            help="Steepness of a high-pass or low-pass in dB per octave",
        ),
    ] = 12
    on: Annotated[bool, flag("On", help="Whether the band is heard")] = True


class EqSide(Side, frozen=True, kw_only=True):
    """The bands of one leg. A band keeps its number when another one goes: its place is then None."""

    bands: Annotated[tuple[Band | None, ...], msgspec.Meta(max_length=BANDS)] = ()


class EqShared(Settings, frozen=True, kw_only=True):
    phase: Annotated[
        Literal["minimum", "matched", "linear"],
        choice(
            "Phase",
            {"minimum": "Minimum", "matched": "Matched legs", "linear": "Linear"},
            help="Minimum: no delay, but the curves turn the legs against each other. Matched legs: both turn "
            "alike, so that the image stays. Linear: nothing turns",
        ),
    ] = "minimum"


class Eq(Stage, frozen=True, kw_only=True, tag="eq"):
    upper: EqSide | None = EqSide()
    lower: EqSide | None = EqSide()
    shared: EqShared = EqShared()


STAGE = Eq
SIDE = EqSide
OF_BANDS = Bands(Band, BANDS, SHAPES, "gain_db", flat=WITHOUT_GAIN, sloped=WITH_SLOPE)


def band_sections(band: Band, rate: float) -> np.ndarray:
    """Sections (n, 5) of one band at a rate in Hz; none where it is off or does nothing.

    Q 0.71 makes a high-pass or low-pass of any slope maximally flat: it scales the sharpest section.
    """
    if not band.on:
        return np.empty((0, 5))
    if band.shape == "high-pass" or band.shape == "low-pass":
        return design.cut(band.shape, band.frequency_hz, band.slope, rate, band.q / np.sqrt(0.5))
    if band.shape == "tilt":
        return design.tilt(band.frequency_hz, band.gain_db, band.q, rate)
    return design.sections(band.shape, band.frequency_hz, band.gain_db, band.q, rate)


def side_sections(side: EqSide | None, rate: float) -> np.ndarray:
    """Sections (n, 5) of all bands of one leg."""
    parts = [band_sections(band, rate) for band in side.bands if band is not None] if side else []
    return np.concatenate([np.empty((0, 5)), *parts])


def response(stage: Eq, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz), without its latency: that of the filters that play."""
    own = design.response(side_sections(getattr(stage, leg), rate), frequencies, rate)
    if stage.shared.phase == "linear":
        return np.abs(own).astype(complex)
    if stage.shared.phase == "matched":
        there = getattr(stage, "lower" if leg == "upper" else "upper")
        other = design.response(side_sections(there, rate), frequencies, rate)
        return own * np.exp(1j * np.angle(other))
    return own


def _does_nothing(band: Band | None) -> bool:
    return band is None or not band.on or (band.shape not in WITHOUT_GAIN and band.gain_db == 0.0)


def neutral(stage: Eq) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return all(_does_nothing(band) for side in sides for band in side.bands)


def latency(stage: Eq, rate: float) -> tuple[int, int]:
    if stage.shared.phase == "minimum":
        return 0, 0
    return long_filters.latency(
        tuple(None if side is None else side_sections(side, rate) for side in (stage.upper, stage.lower)),
        stage.shared.phase,
        rate,
    )


def prepare(stage: Eq, rate: float, matrix: Matrix | None) -> Any:
    sections = [None if side is None else side_sections(side, rate) for side in (stage.upper, stage.lower)]
    if stage.shared.phase == "minimum":
        none = np.empty((0, 5))
        return cascade.pack(*(none if rows is None else rows for rows in sections))
    return long_filters.LongFilters(*sections, stage.shared.phase, rate)


def start(coefficients: Any) -> Any:
    if isinstance(coefficients, np.ndarray):
        return cascade.start(coefficients)
    return coefficients.start()


def layout(coefficients: Any) -> tuple:
    return cascade.layout(coefficients) if isinstance(coefficients, np.ndarray) else coefficients.layout()


def process(state: Any, coefficients: Any, block: np.ndarray, position: int) -> None:
    if isinstance(coefficients, np.ndarray):
        cascade.process(state, coefficients, block, position)
    else:
        coefficients.process(state, block, position)
