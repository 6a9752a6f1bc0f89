"""Levels and gains."""

import math
from typing import overload

import numpy as np

SILENCE_DB = -120.0
"""A level setting at or under this is silence: a gain of exactly zero."""


@overload
def gain_of(db: float) -> float: ...
@overload
def gain_of(db: np.ndarray) -> np.ndarray: ...
def gain_of(db: float | np.ndarray) -> float | np.ndarray:
    """Linear gain of a level in dB, or of many; exactly 1 at 0 dB and exactly 0 at -120 dB and under."""
    if isinstance(db, np.ndarray):
        return np.where(db <= SILENCE_DB, 0.0, 10.0 ** (db / 20.0))
    return 0.0 if db <= SILENCE_DB else 10.0 ** (db / 20.0)


def db_of(gain: float) -> float:
    """Level in dB of a linear gain or amplitude; minus infinity for zero."""
    return 20.0 * math.log10(gain) if gain > 0.0 else -math.inf
