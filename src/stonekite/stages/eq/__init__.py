"""EQ: up to sixteen bands for each leg, following the analogue prototypes up to 20 kHz (signal/filters/design.py).

In minimum phase a leg's curve turns its phase, and with it the image that both legs make together. Two other
ways keep the legs together: with matched legs each leg gets the phase of both curves, with linear phase none of
them does. Both are responses of finite length (signal/filters/convolution.py, designed in long_filters.py beside it).
"""

from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.filters import design, long_designs
from stonekite.stages.base import LEGS, At, Context, Dry, Kind, LegName, Offers, Plan, Side, Stage
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.banded import Bands, Frequency, Narrowness
from stonekite.stages.riding import alike, found
from stonekite.stages.settings import Settings, choice, flag, number
from stonekite.words import figure, said, spoken_hertz

long_filters = lazy("stonekite.signal.filters.long_filters")

BANDS = 16

Shape = Literal["bell", "low-shelf", "high-shelf", "tilt", "high-pass", "low-pass", "notch"]
SHAPES: dict[Shape, str] = {
    "bell": said("Bell"),
    "low-shelf": said("Low shelf"),
    "high-shelf": said("High shelf"),
    "tilt": said("Tilt"),
    "high-pass": said("High-pass"),
    "low-pass": said("Low-pass"),
    "notch": said("Notch"),
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


def band_sections(band: Band, rate: float) -> np.ndarray:
    """Sections (n, 5) of one band at a rate in Hz; none where it is off or does nothing.

    Q 0.71 makes a high-pass or low-pass of any slope maximally flat: it scales the sharpest section.
    """
    if isinstance(band.on, np.ndarray):  # a corner that moves to where there is none
        made = band_sections(msgspec.structs.replace(band, on=True), rate)
        return np.where(band.on[:, None, None], made, design.PASSING)
    if not band.on:
        return np.empty((0, 5))
    if band.shape == "high-pass" or band.shape == "low-pass":
        return design.cut(band.shape, band.frequency_hz, band.slope, rate, band.q / np.sqrt(0.5))
    if band.shape == "tilt":
        return design.tilt(band.frequency_hz, band.gain_db, band.q, rate)
    return design.sections(band.shape, band.frequency_hz, band.gain_db, band.q, rate)


def side_leg(side: EqSide | None, rate: float) -> cascade.Leg:
    """All bands of one leg at a rate in Hz."""
    there = {k: band for k, band in enumerate(side.bands if side else ()) if band is not None}
    made = _together({k: band for k, band in there.items() if _is_moving(band)}, rate)
    return cascade.Leg.of(
        [
            ((k, band.shape, band.slope), made[k] if k in made else band_sections(band, rate))
            for k, band in there.items()
        ]
    )


def _is_moving(band: Band) -> bool:
    return band.on is True and any(
        isinstance(value, np.ndarray) for value in (band.frequency_hz, band.gain_db, band.q)
    )


def _together(bands: dict[int, Band], rate: float) -> dict[int, np.ndarray]:
    """Sections (n, 3, 5) of bands that move, by their numbers: those of one shape are designed at once."""
    found: dict[int, np.ndarray] = {}
    for shape in ("bell", "low-shelf", "high-shelf", "notch"):
        of_it = {k: band for k, band in bands.items() if band.shape == shape}
        if of_it:
            given = [(band.frequency_hz, band.gain_db, band.q) for band in of_it.values()]
            numbers = np.array([np.broadcast_arrays(*(np.atleast_1d(n) for n in one)) for one in given])
            hz, gain_db, q = np.moveaxis(numbers, 1, 0)
            found |= zip(of_it, design.moving(shape, hz, gain_db, q, rate), strict=True)
    return found


def side_sections(side: EqSide | None, rate: float) -> np.ndarray:
    """Sections (n, 5) of all bands of one leg."""
    return side_leg(side, rate).sections


def _sections(stage: Eq, rate: float) -> tuple[np.ndarray | None, np.ndarray | None]:
    """Sections (n, 5) of both legs, None where a leg passes."""
    upper, lower = (
        None if side is None else side_sections(side, rate) for side in (stage.upper, stage.lower)
    )
    return upper, lower


def response(stage: Eq, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz), without its latency: that of the filters that play."""
    if stage.shared.phase == "minimum":
        return design.response(side_sections(getattr(stage, leg), rate), frequencies, rate)
    return long_response(stage, leg, frequencies, rate, dry=False)


def long_response(stage: Eq, leg: LegName, frequencies: np.ndarray, rate: float, *, dry: bool) -> np.ndarray:
    """Complex response of one leg of a stage with long filters, or of the dry part of its mix."""
    phase: long_designs.Phase = "matched" if stage.shared.phase == "matched" else "linear"
    return long_designs.response(_sections(stage, rate), phase, rate, LEGS.index(leg), frequencies, dry)


ROUNDED_DB = 0.1
"""From here on it is said that a long filter rounds off a notch."""


def remark(stage: Eq, leg: LegName, rate: float) -> str:
    """By how much a long filter rounds off the worst of a leg's notches, down to -24 dB, in words; empty for none.

    The magnitude of a notch has a corner, which a response of finite length cannot have: the narrower, the less.
    """
    side = getattr(stage, leg)
    if stage.shared.phase == "minimum" or side is None:
        return ""
    worst, where = 0.0, 0.0
    for band in side.bands:
        if band is None or not band.on or band.shape != "notch":
            continue
        aside = np.geomspace(1e-3, 1.0, 400) / band.q
        hz = band.frequency_hz * np.exp(np.concatenate([-aside, aside]))
        hz = hz[hz < 0.49 * rate]
        wished = np.abs(design.response(side_sections(side, rate), hz, rate))
        heard = np.abs(response(stage, leg, hz, rate))
        near = wished > 10 ** (-24 / 20)
        off = float(np.abs(20 * np.log10(np.maximum(heard[near], 1e-9) / wished[near])).max(initial=0.0))
        if off > worst:
            worst, where = off, band.frequency_hz
    if worst <= ROUNDED_DB:
        return ""
    return said("notch at {hertz} rounded by {db}").format(hertz=spoken_hertz(where), db=figure(worst, "dB"))


def _does_nothing(band: Band | None) -> bool:
    return band is None or not band.on or (band.shape not in WITHOUT_GAIN and band.gain_db == 0.0)


def neutral(stage: Eq) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return all(_does_nothing(band) for side in sides for band in side.bands)


def plan(stage: Eq, context: Context) -> Plan:
    if stage.shared.phase == "minimum":
        legs = [side_leg(side, context.rate) for side in (stage.upper, stage.lower)]
        return Plan(memory=max(map(cascade.memory, legs)), tail=max(map(cascade.rings, legs)))
    how = _sections(stage, context.rate), stage.shared.phase, context.rate
    late, memory = long_designs.latency(*how), long_designs.memory(*how)
    return Plan(late, memory, memory - min(late))


def rows(stage: Eq, context: Context) -> np.ndarray:
    """Rows (n, numbers) of the sections of both legs; none of long filters."""
    if stage.shared.phase != "minimum":
        return np.zeros(0)
    upper = side_leg(stage.upper, context.rate)
    linked = stage.rides and alike(stage.upper, stage.lower)  # most are, and one design will do
    return cascade.rows_of(upper, upper if linked else side_leg(stage.lower, context.rate))


def stands(stage: Eq, path: str) -> str:
    """Why a number of a band cannot move."""
    if stage.shared.phase != "minimum":
        return said("Only filters of minimum phase move: the long ones take longer to make than to play.")
    there = found(stage, path)
    if there is not None and isinstance(there[0], Band) and not there[0].on:
        return said("This band is off.")
    return ""


def coefficients(stage: Eq, context: Context) -> Any:
    if stage.shared.phase == "minimum":
        upper, lower = (side_leg(side, context.rate) for side in (stage.upper, stage.lower))
        return cascade.Coefficients(upper, lower)
    return long_filters.LongFilters(_sections(stage, context.rate), stage.shared.phase, context.rate)


def dry_coefficients(stage: Eq, context: Context) -> Any:
    """With matched legs what is dry turns as what is wet does, and so it does on the other leg."""
    if stage.shared.phase != "matched":
        return None
    return long_filters.LongFilters(_sections(stage, context.rate), "matched", context.rate, dry=True)


def dry_response(stage: Eq, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    if stage.shared.phase != "matched":
        return np.ones(np.shape(frequencies), dtype=complex)
    return long_response(stage, leg, frequencies, rate, dry=True)


def start(coefficients: Any) -> Any:
    return (
        cascade.start(coefficients)
        if isinstance(coefficients, cascade.Coefficients)
        else coefficients.start()
    )


def carry(old: Any, state: Any, new: Any) -> Any:
    if type(old) is not type(new):
        return None
    return cascade.carry(old, state, new) if isinstance(old, cascade.Coefficients) else new.carry(old, state)


def process(state: Any, coefficients: Any, block: np.ndarray, at: At) -> None:
    if isinstance(coefficients, cascade.Coefficients):
        cascade.process(state, coefficients, block, at)
    else:
        coefficients.process(state, block, at.clock)


KIND = Kind(
    stage=Eq,
    side=EqSide,
    label="EQ",
    help="Up to sixteen bands for each leg: bells, shelves, tilt, high-pass, low-pass and notch.",
    group="Tone",
    rank=20,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    process=process,
    rows=rows,
    fine=True,
    stands=stands,
    dry=Dry(dry_coefficients, dry_response),
    offers=Offers(
        bands=Bands(Band, BANDS, SHAPES, "gain_db", flat=WITHOUT_GAIN, sloped=WITH_SLOPE), remark=remark
    ),
)
