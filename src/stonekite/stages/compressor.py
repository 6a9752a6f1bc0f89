"""Compressor: two in one, each leg with its own settings, coupled as much or as little as wanted.

With a coupling of 0 % the legs are two mono compressors; with 100 % both are turned down by whatever the louder one
asks for.
"""

from typing import Annotated, Any

import numpy as np

from stonekite.lazy import lazy
from stonekite.stages.base import Context, LegName, Plan, Stage
from stonekite.stages.machinery import detecting
from stonekite.stages.machinery.detecting import (
    LIMITING,
    Attack,
    Coefficients,
    DetectorShared,
    DetectorSide,
    Ratio,
    Release,
    soft_knee,
)
from stonekite.stages.settings import flag, number

dynamics = lazy("stonekite.signal.levels.dynamics")


SLOW_SHARE = 6.0
"""The slow part of the program-dependent release takes so many times the release."""


class CompressorSide(DetectorSide, frozen=True, kw_only=True):
    threshold_db: Annotated[
        float,
        number("Threshold", "dB", -80.0, 0.0, step=0.5, help="Level from which on the leg is turned down"),
    ] = -24.0
    ratio: Ratio = 3.0
    knee_db: Annotated[
        float, number("Knee", "dB", 0.0, 36.0, step=0.5, help="Width of the bend around the threshold")
    ] = 6.0
    attack_ms: Attack = 10.0
    release_ms: Release = 120.0
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


class CompressorShared(DetectorShared, frozen=True, kw_only=True):
    """Nothing but what all detectors share."""


class Compressor(Stage, frozen=True, kw_only=True, tag="compressor"):
    upper: CompressorSide | None = CompressorSide()
    lower: CompressorSide | None = CompressorSide()
    shared: CompressorShared = CompressorShared()


def slope(side: CompressorSide) -> Any:
    """dB of reduction for each dB over the threshold."""
    if isinstance(side.ratio, np.ndarray):
        return np.where(side.ratio >= LIMITING, 1.0, 1.0 - 1.0 / side.ratio)
    return 1.0 if side.ratio >= LIMITING else 1.0 - 1.0 / side.ratio


def makeup_db(side: CompressorSide) -> Any:
    """Gain after the reduction, with the automatic part."""
    if not side.auto_makeup:
        return side.makeup_db
    given = 0.5 * reduction_db(side, np.zeros(1))
    return side.makeup_db + (given if len(given) > 1 else float(given[0]))


def reduction_db(side: CompressorSide, level_db: np.ndarray) -> np.ndarray:
    """Reduction in dB of steady levels in dB."""
    beyond = np.asarray(level_db, dtype=float) - (side.threshold_db - side.trim_db)
    return soft_knee(beyond, slope(side), side.knee_db, side.range_db)


def curve(stage: Compressor, leg: LegName, level_db: np.ndarray) -> np.ndarray:
    """Level in dB that comes out of a leg for steady levels in dB."""
    side = getattr(stage, leg)
    if side is None:
        return np.array(level_db, dtype=float)
    return level_db - reduction_db(side, level_db) + makeup_db(side)


def neutral(stage: Compressor) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return all(
        (side.ratio == 1.0 or side.range_db == 0.0) and makeup_db(side) == 0.0 for side in sides
    ) and not any(side.look_ahead_ms for side in sides)


def _slowest_ms(side: CompressorSide) -> float:
    return max(side.attack_ms, side.release_ms * (SLOW_SHARE if side.adaptive else 1.0))


def plan(stage: Compressor, context: Context) -> Plan:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    slowest = max((_slowest_ms(side) for side in sides), default=0.0)
    return detecting.plan(stage, context, slowest)


def coefficients(stage: Compressor, context: Context) -> Coefficients:
    upper, lower = (side is not None and side.adaptive for side in (stage.upper, stage.lower))
    return Coefficients(stage, context, (upper, lower), expands=False)


def rows(stage: Compressor, context: Context) -> np.ndarray:
    """Rows (n, numbers), as detectors have them."""
    rate = context.rate

    def made(side: CompressorSide) -> list[Any]:
        release = side.release_ms * 1e-3
        return [
            side.threshold_db,
            slope(side),
            side.knee_db,
            side.range_db,
            dynamics.smoothing(side.attack_ms * 1e-3, rate),
            dynamics.smoothing(release, rate),
            dynamics.smoothing(release * SLOW_SHARE, rate) if side.adaptive else 0.0,
            side.trim_db,
            makeup_db(side),
            0.0,
        ]

    return detecting.rows_of(stage, context, made)


KIND = detecting.kind(
    stage=Compressor,
    side=CompressorSide,
    label="Compressor",
    help="Turns down what is loud, each leg on its own or both together.",
    group="Level",
    rank=30,
    curve=curve,
    makeup_db=makeup_db,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    rows=rows,
)
