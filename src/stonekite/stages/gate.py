"""Gate: turns down what is quiet, from a gentle expander to a gate, each leg on its own or both together.

It opens at the threshold and closes under the threshold less the hysteresis, after the hold. Coupled legs open
together: what one leg lets through is heard on both.
"""

from typing import Annotated, Any

import numpy as np

from stonekite.lazy import lazy
from stonekite.stages.base import Context, LegName, Plan, Stage
from stonekite.stages.machinery import detecting
from stonekite.stages.machinery.detecting import (
    LIMITING,
    Coefficients,
    DetectorShared,
    DetectorSide,
    soft_knee,
)
from stonekite.stages.settings import number

dynamics = lazy("stonekite.signal.levels.dynamics")


class GateSide(DetectorSide, frozen=True, kw_only=True):
    threshold_db: Annotated[
        float,
        number("Threshold", "dB", -90.0, 0.0, step=0.5, help="Level under which the leg is turned down"),
    ] = -48.0
    ratio: Annotated[
        float,
        number(
            "Ratio",
            ": 1",
            1.0,
            LIMITING,
            taper="log",
            step=1 / 8,
            help="How many dB less come out for one dB less that goes in; 100 is a gate",
        ),
    ] = 3.0
    knee_db: Annotated[
        float, number("Knee", "dB", 0.0, 24.0, step=0.5, help="Width of the bend around the threshold")
    ] = 3.0
    range_db: Annotated[
        float, number("Range", "dB", 0.0, 90.0, step=1.0, help="The greatest reduction there may be")
    ] = 24.0
    attack_ms: Annotated[
        float, number("Attack", "ms", 0.05, 100.0, taper="log", step=1 / 4, help="Time to open by 63 %")
    ] = 1.0
    hold_ms: Annotated[
        float,
        number(
            "Hold",
            "ms",
            0.0,
            1000.0,
            step=5.0,
            help="Time it stays open after the last loud moment, 10 at least",
        ),
    ] = 30.0
    release_ms: Annotated[
        float, number("Release", "ms", 5.0, 3000.0, taper="log", step=1 / 4, help="Time to close by 63 %")
    ] = 150.0
    hysteresis_db: Annotated[
        float,
        number(
            "Hysteresis",
            "dB",
            0.0,
            24.0,
            step=0.5,
            help="How far under the threshold it has to get before it closes",
        ),
    ] = 4.0


class GateShared(DetectorShared, frozen=True, kw_only=True):
    """Nothing but what all detectors share."""


class Gate(Stage, frozen=True, kw_only=True, tag="gate"):
    upper: GateSide | None = GateSide()
    lower: GateSide | None = GateSide()
    shared: GateShared = GateShared()


def _slope(side: GateSide) -> float:
    return side.ratio - 1.0


def reduction_db(side: GateSide, level_db: np.ndarray) -> np.ndarray:
    """Reduction in dB of steady levels in dB that come from below, so that the gate is closed."""
    under = side.threshold_db - side.trim_db - np.asarray(level_db, dtype=float)
    found = soft_knee(under, _slope(side), side.knee_db, side.range_db)
    return np.where(under <= 0.0, 0.0, found)  # at the threshold it opens


def makeup_db(side: GateSide) -> float:
    """A gate gives nothing back."""
    return 0.0


def curve(stage: Gate, leg: LegName, level_db: np.ndarray) -> np.ndarray:
    """Level in dB that comes out of a closed leg for steady levels in dB."""
    side = getattr(stage, leg)
    return np.array(level_db, dtype=float) - (0.0 if side is None else reduction_db(side, level_db))


def neutral(stage: Gate) -> bool:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    return all((side.ratio == 1.0 or side.range_db == 0.0) and not side.look_ahead_ms for side in sides)


def _slowest_ms(side: GateSide) -> float:
    return max(side.attack_ms, side.release_ms) + side.hold_ms


def plan(stage: Gate, context: Context) -> Plan:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    slowest = max((_slowest_ms(side) for side in sides), default=0.0)
    return detecting.plan(stage, context, slowest)


def coefficients(stage: Gate, context: Context) -> Coefficients:
    return Coefficients(stage, context, (False, False), expands=True)


def rows(stage: Gate, context: Context) -> np.ndarray:
    """Rows (n, numbers), as detectors have them."""
    rate = context.rate

    def made(side: GateSide) -> list[Any]:
        return [
            side.threshold_db,
            _slope(side),
            side.knee_db,
            side.range_db,
            dynamics.smoothing(side.attack_ms * 1e-3, rate),
            dynamics.smoothing(side.release_ms * 1e-3, rate),
            np.maximum(
                0.0, np.round((side.hold_ms * 1e-3 - detecting.HOLD_S) * rate)
            ),  # the detector holds, too
            side.trim_db,
            0.0,
            side.hysteresis_db,
        ]

    return detecting.rows_of(stage, context, made)


KIND = detecting.kind(
    stage=Gate,
    side=GateSide,
    label="Gate",
    help="Turns down what is quiet: expander or gate, each leg on its own or both together.",
    group="Level",
    rank=20,
    curve=curve,
    makeup_db=makeup_db,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    rows=rows,
)
