"""EQ: up to eight bands for each leg, following the analogue prototypes up to 20 kHz (signal/design.py)."""

from typing import Annotated, Literal

import msgspec
import numpy as np

from stonekite.signal import design
from stonekite.stages.base import Stage
from stonekite.stages.cascade import latency, pack, process, start
from stonekite.stages.settings import Settings, choice, flag, number

LABEL = "EQ"
HELP = "Up to eight bands for each leg: bells, shelves, high-pass, low-pass and notch."
BANDS = 8

Shape = Literal["bell", "low-shelf", "high-shelf", "high-pass", "low-pass", "notch"]
SHAPES: dict[Shape, str] = {
    "bell": "Bell",
    "low-shelf": "Low shelf",
    "high-shelf": "High shelf",
    "high-pass": "High-pass",
    "low-pass": "Low-pass",
    "notch": "Notch",
}
WITH_GAIN = ("bell", "low-shelf", "high-shelf")
WITH_SLOPE = ("high-pass", "low-pass")


class Band(Settings, frozen=True, kw_only=True):
    """One band. Gain counts for bells and shelves, slope for high-pass and low-pass."""

    shape: Annotated[Shape, choice("Shape", SHAPES, help="What the band does to the spectrum")] = "bell"
    frequency_hz: Annotated[
        float,
        number(
            "Frequency", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Centre or corner of the band"
        ),
    ] = 1000.0
    gain_db: Annotated[
        float, number("Gain", "dB", -24.0, 24.0, step=0.5, help="Boost or cut of a bell or shelf")
    ] = 0.0
    q: Annotated[
        float,
        number("Q", "", 0.2, 12.0, taper="log", step=1 / 12, help="Narrowness of a bell, edge of a corner"),
    ] = 0.7071
    slope: Annotated[
        Literal[12, 24],
        choice(
            "Slope per octave",
            {12: "12 dB", 24: "24 dB"},
            help="Steepness of a high-pass or low-pass per octave",
        ),
    ] = 12
    on: Annotated[bool, flag("On", help="Whether the band is heard")] = True


class EqSide(Settings, frozen=True, kw_only=True):
    """The bands of one leg. A band keeps its number when another one goes: its place is then None."""

    bands: Annotated[tuple[Band | None, ...], msgspec.Meta(max_length=BANDS)] = ()


class Eq(Stage, frozen=True, kw_only=True, tag="eq"):
    upper: EqSide | None = EqSide()
    lower: EqSide | None = EqSide()


STAGE = Eq
SIDE = EqSide


def band_sections(band: Band, rate: float) -> np.ndarray:
    """Sections (n, 5) of one band at a rate in Hz; none where it is off or does nothing.

    A 24 dB high-pass or low-pass is a Butterworth pair whose sharper section follows Q, so that Q 0.71
    is maximally flat in both slopes.
    """
    if not band.on:
        return np.empty((0, 5))
    qs = [band.q]
    if band.shape in WITH_SLOPE and band.slope == 24:
        soft, sharp = sorted(design.butterworth_qs(4))
        qs = [soft, sharp * band.q / np.sqrt(0.5)]
    return np.concatenate([design.sections(band.shape, band.frequency_hz, band.gain_db, q, rate) for q in qs])


def side_sections(side: EqSide | None, rate: float) -> np.ndarray:
    """Sections (n, 5) of all bands of one leg."""
    parts = [band_sections(band, rate) for band in side.bands if band is not None] if side else []
    return np.concatenate([np.empty((0, 5)), *parts])


def response(side: EqSide | None, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz): that of the filters that play."""
    return design.response(side_sections(side, rate), frequencies, rate)


def _does_nothing(band: Band | None) -> bool:
    return band is None or not band.on or (band.shape in WITH_GAIN and band.gain_db == 0.0)


def neutral(stage: Eq) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return all(_does_nothing(band) for side in sides for band in side.bands)


def prepare(stage: Eq, rate: float) -> np.ndarray:
    return pack(side_sections(stage.upper, rate), side_sections(stage.lower, rate))


__all__ = ["HELP", "LABEL", "SIDE", "STAGE", "latency", "neutral", "prepare", "process", "response", "start"]
