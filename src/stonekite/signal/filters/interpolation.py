"""Values between samples."""

from functools import lru_cache

import numpy as np


@lru_cache(maxsize=64)
def between(factor: int, taps: int, beta: float = 9.0) -> np.ndarray:
    """Polyphase interpolator (factor - 1, taps): a Kaiser-windowed sinc, the phases between samples.

    Each row gives, of so many samples, one of the points between the two in the middle. `beta` is the window's. What
    comes back is made once, and cannot be written to.
    """
    reach = taps // 2
    rows = []
    for phase in range(1, factor):
        t = np.arange(taps) - (reach - 1) - phase / factor
        window = np.i0(beta * np.sqrt(np.maximum(0.0, 1 - (t / reach) ** 2))) / np.i0(beta)
        row = np.sinc(t) * window
        rows.append(row / row.sum())
    made = np.array(rows)
    made.flags.writeable = False
    return made
