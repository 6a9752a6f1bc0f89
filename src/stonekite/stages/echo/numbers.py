"""The numbers of an echo that may move."""

from typing import Any

import numpy as np

from stonekite.signal.decibels import gain_of
from stonekite.stages.base import LEGS, Context
from stonekite.stages.echo.loop import feedbacks, filters, seconds_of
from stonekite.stages.echo.reading import tap_rows
from stonekite.stages.echo.settings import Echo, EchoShared, Tap
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.rows import beside

_DUCK_RISE_S, _DUCK_SPAN = 0.005, 4.0


def delays(stage: Echo, rate: float) -> list[Any]:
    """The delays of both legs in samples. A leg that passes is read, too, and must not make the pieces shorter."""
    sides = [getattr(stage, leg) for leg in LEGS]
    return [seconds_of(side or sides[1 - row]) * rate for row, side in enumerate(sides)]


def heard_taps(shared: EchoShared) -> dict[int, Tap]:
    """The taps that are not silent, by their places."""
    return {
        k: tap
        for k, tap in enumerate(shared.taps)
        if tap is not None and (isinstance(tap.level_db, np.ndarray) or gain_of(tap.level_db))
    }


def rows(stage: Echo, context: Context) -> np.ndarray:
    """Rows (n, numbers), in the order of signal/echoing.py."""
    shared, rate = stage.shared, context.rate
    sides = [getattr(stage, leg) for leg in LEGS]
    levels = [0.0 if side is None else gain_of(side.level_db) for side in sides]
    low = gain_of(shared.duck_above_db)
    rise, fall = (-np.expm1(-1.0 / (s * rate)) for s in (_DUCK_RISE_S, shared.duck_back_ms * 1e-3))
    ducks = gain_of(-shared.duck_db), low, _DUCK_SPAN * low, rise, fall
    loop = cascade.rows_of(*(filters(side, rate) for side in sides))
    taps = [tap_rows(tap, shared, rate) for tap in heard_taps(shared).values()]
    late = delays(stage, rate)
    held = np.asarray(shared.held, dtype=float)
    return beside(*feedbacks(stage), *levels, gain_of(shared.dry_db), *ducks, *late, held, loop, *taps)
