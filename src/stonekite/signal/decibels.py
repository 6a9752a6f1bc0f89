"""Levels and gains."""

import math

SILENCE_DB = -120.0
"""A level setting at or under this is silence: a gain of exactly zero."""


def gain_of(db: float) -> float:
    """Linear gain of a level in dB; exactly 1 at 0 dB and exactly 0 at -120 dB and under."""
    return 0.0 if db <= SILENCE_DB else 10.0 ** (db / 20.0)


def db_of(gain: float) -> float:
    """Level in dB of a linear gain or amplitude; minus infinity for zero."""
    return 20.0 * math.log10(gain) if gain > 0.0 else -math.inf
