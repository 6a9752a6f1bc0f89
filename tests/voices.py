"""Voices that several tests hear, made once: not to be written to."""

from functools import cache

import numpy as np

from stonekite.demos import wheelhouse
from stonekite.demos.speech import random_text, spoken

RATE = 48_000
PITCHES = (105.0, 130.0, 165.0, 195.0, 220.0, 118.0)

clean_log, wheelhouse_log = cache(wheelhouse.clean_log), cache(wheelhouse.wheelhouse_log)


@cache
def voice(seed: int) -> np.ndarray:
    """A synthetic voice, mono (frames,), of five seconds or more."""
    return spoken(random_text(seed), PITCHES[seed % 6], seed)
