"""What an echo's loops are made of: their filters, what goes where, and what becomes of sound in them."""

import math
from functools import lru_cache
from typing import Any

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal import loops
from stonekite.signal.decibels import gain_of
from stonekite.signal.filters import design
from stonekite.stages.base import LEGS
from stonekite.stages.echo.settings import OPEN_HIGH_HZ, OPEN_LOW_HZ, Echo, EchoShared, EchoSide, Fed, Tap
from stonekite.stages.machinery import cascade

Numbers = Any
"""A float, or an array (n,) of a number that moves."""
registry = lazy("stonekite.stages.registry")


def cuts(high_hz: Numbers, low_hz: Numbers, slope: int, rate: float) -> list[tuple[Any, np.ndarray]]:
    parts: list[tuple[Any, np.ndarray]] = []
    ways: tuple[tuple[design.Cut, Numbers, Any], ...] = (
        ("high-pass", high_hz, high_hz > OPEN_LOW_HZ),
        ("low-pass", low_hz, low_hz < OPEN_HIGH_HZ),
    )
    for name, hz, open_ in ways:
        if isinstance(open_, np.ndarray):  # a corner that moves to where there is none
            made = design.cut(name, hz, slope, rate)
            parts.append(((name, slope), np.where(open_[:, None, None], made, design.PASSING)))
        elif open_:
            parts.append(((name, slope), design.cut(name, hz, slope, rate)))
    return parts


def filters(side: EchoSide | None, rate: float) -> cascade.Leg:
    """The filters in the loop of one leg."""
    if side is None:
        return cascade.NOTHING
    parts = cuts(side.high_pass_hz, side.low_pass_hz, side.slope, rate)
    for name, hz, gain, q in (
        ("low", side.low_hz, side.low_gain_db, side.low_q),
        ("high", side.high_hz, side.high_gain_db, side.high_q),
    ):
        parts.append((name, design.sections("bell", hz, gain, q, rate)))
    return cascade.Leg.of(parts)


def later_corners(shared: EchoShared, tap: Tap) -> tuple[Numbers, Numbers]:
    """High-pass and low-pass in Hz of a tap: its own, or what the rule makes of them by how many come before it."""
    before = sum(other.time_ms < tap.time_ms for other in shared.there)
    high = tap.high_pass_hz * 2.0 ** (before * shared.thinner)
    low = np.minimum(tap.low_pass_hz, OPEN_HIGH_HZ) * 2.0 ** (-before * shared.darker)
    return np.minimum(high, 0.5 * OPEN_HIGH_HZ), np.maximum(low, 2.0 * OPEN_LOW_HZ)


def shares(tap: Tap) -> tuple[Any, Any]:
    """Gains of a tap on the upper and the lower leg: a balance, so that in the middle both have all of it."""
    level = gain_of(tap.level_db)
    return level * np.minimum(1.0, 1.0 - tap.place / 100.0), level * np.minimum(1.0, 1.0 + tap.place / 100.0)


def feed(start: str, works: tuple[bool, bool], encoded: bool) -> np.ndarray:
    """Gains (2, 2) from the legs to the loops. As mono goes in: the middle, of left and right half their sum."""
    if start == "both":
        gains = np.eye(2)
    else:
        mono = np.array([1.0, 0.0]) if encoded else np.array([0.5, 0.5])
        if not all(works):  # a path that carries one component
            mono = np.array(works, dtype=float)
        gains = np.zeros((2, 2))
        gains[0 if start == "upper" else 1] = mono
    for row, on in enumerate(works):
        if not on:
            gains[row] = 0.0
    return gains


def tapped(fed: Fed, works: tuple[bool, bool], encoded: bool) -> np.ndarray:
    """Gains (2, 2) from the legs to what a tap repeats on each leg."""
    if fed == "own":
        return np.diag([float(on) for on in works])
    row = {"upper": [1.0, 0.0], "lower": [0.0, 1.0], "fold": [1.0, 0.0] if encoded else [0.5, 0.5]}[fed]
    return np.array([row, row]) * np.array([[float(on)] for on in works])


def feedback(stage: Echo) -> np.ndarray:
    """Gains (2, 2) from what comes back on the legs to what goes into them."""
    return np.array(feedbacks(stage)).reshape(2, 2)


def feedbacks(stage: Echo) -> list[Any]:
    """The same in a row, of which those that move are arrays."""
    upper, lower = stage.upper, stage.lower
    both = upper is not None and lower is not None
    return [
        0.0 if upper is None else gain_of(upper.feedback_db),
        gain_of(lower.cross_db) if both and lower is not None else 0.0,
        gain_of(upper.cross_db) if both and upper is not None else 0.0,
        0.0 if lower is None else gain_of(lower.feedback_db),
    ]


def _looked_at(stage: Echo, rate: float) -> np.ndarray:
    """Frequencies in Hz at which the loop is looked at: all over, and where its bells are."""
    hz = np.geomspace(10.0, 0.5 * rate, 241)
    more = [1.0]
    for side in (stage.upper, stage.lower):
        if side is not None:
            more += [side.low_hz, side.high_hz]
    return np.unique(np.concatenate([hz, np.minimum(more, 0.49 * rate)]))


def own(stage: Echo, hz: np.ndarray, rate: float) -> np.ndarray:
    """Complex response (2, n) of the filters in each loop."""
    return np.array(
        [design.response(filters(getattr(stage, leg), rate).sections, hz, rate) for leg in LEGS]
    ).reshape(2, len(hz))


def turn(stage: Echo, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) of one turn at frequencies in Hz, with what stands in the loop: what goes in from
    what went in before."""
    inside = registry.greatest(stage.branches[0].stages, hz, rate) * np.abs(own(stage, hz, rate))[None]
    return np.einsum("ab,bcn->acn", feedback(stage), inside)


@lru_cache(maxsize=256)
def one_turn(stage: Echo, rate: float) -> tuple[float, float]:
    """The greatest factor of one turn, and how many seconds the slowest takes to fall by e."""
    hz = _looked_at(stage, rate)
    gains = turn(stage, hz, rate)
    phases = np.unwrap(np.angle(own(stage, hz, rate)), axis=1)
    # The way round is longer by what the filters hold back.
    late = np.maximum(0.0, -np.gradient(phases, 2 * np.pi * hz, axis=1))
    times = np.array([seconds_of(getattr(stage, leg)) for leg in LEGS])[:, None] + late
    slowest = float(loops.fall_rate(gains, times).min())
    return float(loops.greatest(gains).max()), (1.0 / slowest if slowest > 0.0 else math.inf)


def _plain(stage: Echo) -> Echo:
    """What the loop depends on: the rest as it is when it is new, so that it is not computed again."""
    sides: dict[str, Any] = {}
    for leg in LEGS:
        side = getattr(stage, leg)
        if side is not None:
            sides[leg] = msgspec.structs.replace(side, level_db=0.0, mix=100.0, time_note="")
    return Echo(id=0, branches=stage.branches, **{"upper": None, "lower": None, **sides})


def seconds_of(side: EchoSide | None) -> Any:
    return 1e-3 if side is None else side.time_ms * 1e-3


def margin_db(stage: Echo, rate: float) -> float:
    """How far the loop is from growing, in dB; less than nothing for one that would."""
    factor, _ = one_turn(_plain(stage), rate)
    return -20.0 * math.log10(max(factor, 1e-9))


def slowest_s(stage: Echo, rate: float) -> float:
    """Seconds in which what falls slowest falls by e; infinite for what does not fall."""
    return one_turn(_plain(stage), rate)[1]


def is_bounded(stage: Echo, rate: float) -> bool:
    """Whether what is in the loop is held under full scale."""
    return stage.shared.always_bound or margin_db(stage, rate) < 1e-6


def endless_of(stage: Echo, rate: float) -> bool:
    """Whether what is in the loop is not sure to fall."""
    return stage.shared.held or is_bounded(stage, rate)


def course(stage: Echo, rate: float, fed: tuple[float, float] | None = None) -> loops.Course:
    """The echoes of an impulse in both legs, or of the gains `fed` into the loops, without the taps."""
    return _course(_plain_course(stage), rate, fed)


def _plain_course(stage: Echo) -> Echo:
    shared = EchoShared(start=stage.shared.start)
    return Echo(id=0, upper=stage.upper, lower=stage.lower, branches=stage.branches, shared=shared)


@lru_cache(maxsize=64)
def _course(stage: Echo, rate: float, fed: tuple[float, float] | None) -> loops.Course:
    hz, _ = loops.frequencies(rate)
    alone = own(stage, hz, rate)
    inside = [registry.along(stage.branches[0].stages, leg, hz, rate) for leg in LEGS]
    works = stage.upper is not None, stage.lower is not None
    through = alone * np.array(inside) * np.array(works)[:, None]
    times = np.array([seconds_of(getattr(stage, leg)) for leg in LEGS])
    levels = np.array([0.0 if s is None else gain_of(s.level_db) for s in (stage.upper, stage.lower)])
    into = feed(stage.shared.start, works, False).sum(axis=1) if fed is None else np.array(fed)
    return loops.course(through, feedback(stage), into, times, levels, rate, slowest_s(stage, rate))
