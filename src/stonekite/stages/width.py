"""Width: how much the two sides differ, and from where down they do not.

Below a frequency the side is folded to mono by a Linkwitz-Riley crossover (Linkwitz, "Active Crossover Networks
for Noncoincident Drivers", J. Audio Eng. Soc. 24, 1976), whose high-pass, low-pass and their sum, an all-pass,
turn the phase alike: the side goes through the high-pass and the middle through the all-pass, so both stay in
phase and the image above the crossover is where it was.
"""

from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from stonekite.signal.filters import design
from stonekite.signal.filters.crossover import laid
from stonekite.stages.base import LEGS, At, Context, Dry, Kind, LegName, Offers, Plan, Side, Stage
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.rows import beside
from stonekite.stages.settings import Settings, choice, flag, number
from stonekite.words import said


class WidthSide(Side, frozen=True, kw_only=True):
    """One leg of the image: nothing but its mix."""


class WidthShared(Settings, frozen=True, kw_only=True):
    width: Annotated[
        float,
        number("Width", "%", 0.0, 200.0, step=1.0, help="Level of what differs: 0 is mono, 100 as it came"),
    ] = 100.0
    mono_below: Annotated[bool, flag("Mono below", help="Whether the low end is folded to mono")] = False
    mono_hz: Annotated[
        float,
        number("Frequency", "Hz", 20.0, 1000.0, taper="log", step=1 / 12, help="Below it the image is mono"),
    ] = 120.0
    slope: Annotated[
        Literal[12, 24, 48],
        choice(
            "dB per octave",
            {12: "12", 24: "24", 48: "48"},
            help="Steepness of the crossover; at 12 what is below it comes out upside down",
        ),
    ] = 24


class Width(Stage, frozen=True, kw_only=True, tag="width"):
    upper: WidthSide | None = WidthSide()
    lower: WidthSide | None = WidthSide()
    shared: WidthShared = WidthShared()


def crossover(frequency_hz: float | np.ndarray, slope: int, rate: float) -> tuple[np.ndarray, np.ndarray]:
    """Sections (n, 5) of a Linkwitz-Riley high-pass and of the all-pass that turns the phase alike; (k, n, 5) where the
    frequency is an array (k,).

    Bilinear, both with the same poles: their phases agree to rounding.
    """
    warp = np.tan(np.pi * np.minimum(frequency_hz, 0.49 * rate) / rate)
    none, one = np.zeros_like(warp), np.ones_like(warp)
    if slope == 12:
        pole = (warp - 1) / (warp + 1)
        gain = 1 / (1 + warp)
        # An all-pass of the first order turns over between the ends: the highs stay upright.
        rows: list[list[Any]] = [[gain, -gain, none, pole, none]] * 2
        return laid(rows), laid([[-pole, -one, none, pole, none]])
    high: list[list[Any]] = []
    both: list[list[Any]] = []
    for q in design.butterworth_qs(slope // 12):
        norm = 1 / (1 + warp / q + warp * warp)
        a1, a2 = 2 * (warp * warp - 1) * norm, (1 - warp / q + warp * warp) * norm
        high += [[norm, -2 * norm, norm, a1, a2]] * 2
        both.append([a2, a1, one, a1, a2])
    return laid(high), laid(both)


def response(stage: Width, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response at frequencies (Hz): of what differs for the lower leg, of what is shared for the upper."""
    if getattr(stage, leg) is None:
        return np.ones(np.shape(frequencies), dtype=complex)
    gain = stage.shared.width / 100 if leg == "lower" else 1.0
    if not stage.shared.mono_below:
        return np.full(np.shape(frequencies), gain, dtype=complex)
    high, both = crossover(stage.shared.mono_hz, stage.shared.slope, rate)
    return gain * design.response(high if leg == "lower" else both, frequencies, rate)


def neutral(stage: Width) -> bool:
    return (stage.upper is None and stage.lower is None) or (
        stage.shared.width == 100.0 and not stage.shared.mono_below
    )


class Coefficients(NamedTuple):
    """Sections of middle and side, whether the legs are left and right, and which pass."""

    sections: cascade.Coefficients
    encoded: bool
    working: tuple[bool, bool]


def _crossed(stage: Width, context: Context) -> tuple[cascade.Leg, cascade.Leg]:
    """What the middle and what the side goes through."""
    if not stage.shared.mono_below:
        return cascade.NOTHING, cascade.NOTHING
    high, both = crossover(stage.shared.mono_hz, stage.shared.slope, context.rate)
    return cascade.Leg.of([(("all", stage.shared.slope), both)]), cascade.Leg.of(
        [(("high", stage.shared.slope), high)]
    )


def plan(stage: Width, context: Context) -> Plan:
    legs = _crossed(stage, context)
    return Plan(memory=max(map(cascade.memory, legs)), tail=max(map(cascade.rings, legs)))


def _made(stage: Width, context: Context, legs: tuple[cascade.Leg, cascade.Leg]) -> Coefficients:
    working = (stage.upper is not None, stage.lower is not None)
    return Coefficients(cascade.Coefficients(*legs), context.matrix is not None, working)


def coefficients(stage: Width, context: Context) -> Coefficients:
    return _made(stage, context, _crossed(stage, context))


def rows(stage: Width, context: Context) -> np.ndarray:
    """Rows (n, 1 + numbers): gain of the side, and the sections."""
    return beside(stage.shared.width / 100, cascade.rows_of(*_crossed(stage, context)))


def dry_rows(stage: Width, context: Context) -> np.ndarray:
    both, _ = _crossed(stage, context)
    return beside(1.0, cascade.rows_of(both, both))


def stands(stage: Width, path: str) -> str:
    """Why the corner cannot move."""
    off = path == "shared.mono_hz" and not stage.shared.mono_below
    return said("This filter is off.") if off else ""


def dry_coefficients(stage: Width, context: Context) -> Coefficients | None:
    """What is dry goes through the all-pass on both legs, as the middle does."""
    if not stage.shared.mono_below:
        return None
    both, _ = _crossed(stage, context)
    return _made(stage, context, (both, both))


def dry_response(stage: Width, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    if getattr(stage, leg) is None or not stage.shared.mono_below:
        return np.ones(np.shape(frequencies), dtype=complex)
    _, both = crossover(stage.shared.mono_hz, stage.shared.slope, rate)
    return design.response(both, frequencies, rate)


def start(coefficients: Coefficients) -> np.ndarray:
    return cascade.start(coefficients.sections)


def carry(old: Coefficients, state: np.ndarray, new: Coefficients) -> np.ndarray | None:
    if (old.encoded, old.working) != (new.encoded, new.working):
        return None
    return cascade.carry(old.sections, state, new.sections)


def process(state: np.ndarray, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    untouched = [None if on else block[row].copy() for row, on in enumerate(coefficients.working)]
    if not coefficients.encoded:
        left = block[0].copy()
        block[0] += block[1]
        np.subtract(left, block[1], out=block[1])
        block *= 0.5
    cascade.run(state, coefficients.sections, block, at.clock, at.rows.part(1, None))
    block[1] *= at.rows.along(0, block.shape[1]) if at.rows.moves else at.rows.table[0, 0]
    if not coefficients.encoded:
        mid = block[0].copy()
        block[0] += block[1]
        np.subtract(mid, block[1], out=block[1])
    for row, passed in enumerate(untouched):
        if passed is not None:
            block[row] = passed


def greatest(stage: Width, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz), whether the legs are middle and side or left and right."""
    mid, side = (response(stage, leg, hz, rate) for leg in ("upper", "lower"))
    own, across = np.maximum(np.abs(mid), np.abs(side)), 0.5 * np.abs(mid - side)
    found = np.array([[own, across], [across, own]])
    for row, leg in enumerate(LEGS):
        if getattr(stage, leg) is None:
            found[row] = np.eye(2)[row][:, None]
    return found


KIND = Kind(
    stage=Width,
    side=WidthSide,
    label="Width",
    help="How wide the image is, and below which frequency it is mono.",
    group="Image",
    rank=10,
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
    dry=Dry(dry_coefficients, dry_response, dry_rows),
    offers=Offers(greatest=greatest),
)
