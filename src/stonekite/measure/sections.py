"""Where a piece changes: a proposal of sections, from level and spectrum over time.

Each stretch of half a second is described by its levels in bands of an octave; the novelty of a place is how far the mean
of the seconds before it is from that of the seconds after it (as the checkerboard kernel in Foote, "Automatic Audio
Segmentation Using a Measure of Audio Novelty", IEEE ICME 2000, sees it in two blocks). Places that stand out, and are far
enough from each other, begin a section.
"""

from collections.abc import Iterator
from itertools import pairwise

import numpy as np

STRETCH_S = 0.5
AROUND_S = 5.0
"""So much before and after a place is compared."""
LEAST_S = 5.0
"""No section is shorter."""
_BANDS = 9
_LOWEST_HZ = 60.0
_FLOOR_DB = -70.0
_NEW_DB = 2.5
"""So much in the mean of the bands is a change."""


def described(blocks: Iterator[np.ndarray], rate: float) -> np.ndarray:
    """Levels in dB of stretches, (n, bands) of both sides together, from consecutive blocks (2, frames)."""
    size = max(64, int(STRETCH_S * rate))
    edges = _LOWEST_HZ * 2.0 ** np.arange(_BANDS + 1)
    bins = np.fft.rfftfreq(size, 1 / rate)
    places = np.searchsorted(bins, edges)
    window = np.hanning(size)
    rows: list[np.ndarray] = []
    held = np.empty((2, 0))
    for block in blocks:
        held = np.concatenate([held, block], axis=1)
        while held.shape[1] >= size:
            power = np.sum(np.abs(np.fft.rfft(held[:, :size] * window)) ** 2, axis=0) / size**2
            sums = [float(power[a:b].sum()) for a, b in pairwise(places)]
            rows.append(np.maximum(10 * np.log10(np.maximum(sums, 1e-20)), _FLOOR_DB))
            held = held[:, size:]
    return np.array(rows) if rows else np.empty((0, _BANDS))


def boundaries(levels: np.ndarray) -> list[float]:
    """Times in seconds at which something new begins, of levels (n, bands) as `described` gives them."""
    around, least = round(AROUND_S / STRETCH_S), round(LEAST_S / STRETCH_S)
    count = len(levels)
    if count < 2 * least:
        return []
    sums = np.concatenate([np.zeros((1, levels.shape[1])), np.cumsum(levels, axis=0)])
    novelty = np.zeros(count)
    for k in range(least, count - least + 1):
        if k >= count:
            break
        a, b = max(0, k - around), min(count, k + around)
        before, after = (sums[k] - sums[a]) / (k - a), (sums[b] - sums[k]) / (b - k)
        novelty[k] = float(np.mean(np.abs(after - before)))
    found: list[int] = []
    for k in np.argsort(novelty)[::-1]:
        if novelty[k] < _NEW_DB:
            break
        if all(abs(int(k) - other) >= least for other in found):
            found.append(int(k))
    return [k * STRETCH_S for k in sorted(found)]
