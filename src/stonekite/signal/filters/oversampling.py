"""Signals at many times their rate and back, for what bends them.

A value between two samples is a Kaiser-windowed sinc of those around (signal/filters/interpolation.py). The rate is first
doubled by a long filter, which has only the 4 kHz between 20 kHz and its mirror image at 44.1 kHz for its slope, and
then multiplied by short ones. Every filter passes what was there before untouched. What comes back is flat to 20 kHz
within 0.001 dB; what would fold onto frequencies under 20 kHz is more than 120 dB down.

The fast signal does not lie sample after sample but in rows: row q holds the points q / factor after each sample of
the original, so that every filter is a sum of whole rows.
"""

from functools import cache

import numpy as np

from stonekite.signal.filters import fir
from stonekite.signal.filters.interpolation import between
from stonekite.signal.kernel import copied, inner
from stonekite.signal.vectors.lanes import LANES, fma, load, splat, store, zero

LONG, SHORT = 104, 16
BETA = 14.0
_SPAN = SHORT // 2 + 1
"""Samples of each of two rows that a short filter reaches over."""


def up_latency(long: int = LONG) -> int:
    """Samples by which the fast signal is late, with a first filter of so many taps."""
    return long // 2 + SHORT // 4


LATENCY = up_latency() + SHORT // 4 + LONG // 2 - 1
"""Samples of the original rate by which what comes back is late."""
CHUNK = 1024
"""The longest signal that is taken at once, so that the rows stay in the processor's cache."""
LEAD = _SPAN - 1
"""Columns of the rows that hold what was before."""
_COLUMNS = LEAD + CHUNK + 2 * LANES


@inner
def _sum_rows(sources, weights, out, column, frames):
    """out[r, column + i] = sum over s and k of weights[r, s, k] sources[s, i + k], for an even number of rows.

    `frames` is rounded up to whole vectors: both arrays need the room.
    """
    stride = sources.shape[1]
    width = out.shape[1]
    count, span = weights.shape[1], weights.shape[2]
    for start in range(0, frames, 2 * LANES):
        for row in range(0, weights.shape[0], 2):
            a, b, c, d = zero(), zero(), zero(), zero()
            for s in range(count):
                for k in range(span):
                    at = s * stride + start + k
                    first, second = load(sources, at), load(sources, at + LANES)
                    one, two = splat(weights[row, s, k]), splat(weights[row + 1, s, k])
                    a, b = fma(first, one, a), fma(second, one, b)
                    c, d = fma(first, two, c), fma(second, two, d)
            place = row * width + column + start
            store(out, place, a)
            store(out, place + LANES, b)
            store(out, place + width, c)
            store(out, place + width + LANES, d)


@inner
def _move(array, source, count):
    """Copy the columns from `source` on to the front."""
    for row in range(array.shape[0]):
        for k in range(count):
            array[row, k] = array[row, source + k]


@inner
def rise(signal, parts):
    """A signal (frames <= CHUNK,) into the rows of an Up, inside a kernel; `parts` are its `parts`."""
    last, past, halves, rows, taps, weights = parts
    frames, long = signal.shape[0], taps.shape[0]
    _move(rows, last[0], LEAD)
    last[0] = frames
    copied(signal, past[0, long - 1 : long - 1 + frames])
    copied(past[0, long // 2 - 1 : long // 2 - 1 + frames], halves[0, LEAD : LEAD + frames])
    fir.convolve(past[0], taps, halves[1, LEAD : LEAD + frames])
    _sum_rows(halves, weights, rows, LEAD, frames)
    _move(halves, frames, LEAD)
    _move(past, frames, long - 1)


@inner
def fall(parts, out):
    """The rows of a Down into a signal, inside a kernel; `parts` are its `parts`."""
    rows, halves, taps, weights = parts
    frames = out.shape[0]
    _sum_rows(rows, weights, halves, LONG - 1, frames)
    _move(rows, frames, LEAD)
    fir.convolve(halves[1], taps, out)
    even = halves[0, LONG // 2 : LONG // 2 + frames]
    for i in range(frames):
        out[i] += 0.5 * even[i]
    _move(halves, frames, LONG - 1)


def _short(factor: int) -> np.ndarray:
    """Phases (factor / 2, SHORT) of the short filter; phase 0 is the sample itself."""
    phases = np.zeros((factor // 2, SHORT))
    phases[0, SHORT // 2 - 1] = 1.0
    phases[1:] = between(factor // 2, SHORT, BETA)
    return phases


@cache
def _up_weights(factor: int) -> np.ndarray:
    """Of `_sum_rows`, from the rows of the doubled signal. The SHORT samples of a filter are taken in turn from both."""
    half = factor // 2
    weights = np.zeros((factor, 2, _SPAN))
    for parity in (0, 1):
        for q, phase in enumerate(_short(factor)):
            for k, weight in enumerate(phase):
                place = k + parity + 1
                weights[parity * half + q, place % 2, place // 2] = weight
    return weights


@cache
def _down_weights(factor: int, sharpened: bool) -> np.ndarray:
    """Of `_sum_rows`, to the rows of the doubled signal."""
    half = factor // 2
    weights = np.zeros((2, factor, _SPAN))
    for parity in (0, 1):
        for q, phase in enumerate(_short(factor)):
            for k, weight in enumerate(phase):
                place = (k - SHORT // 2 + 1) * half - q + parity * half + SHORT // 4 * factor
                for step, share in ((-1, -1 / 6), (0, 4 / 3), (1, -1 / 6)) if sharpened else ((0, 1.0),):
                    at = place + step
                    weights[parity, at % factor, at // factor] += share * weight / half
    return weights


class Up:
    """One signal to `factor` (4, 8, 16, 32) times its rate, `up_latency(long)` samples late.

    The fast signal lies in `rows` from column LEAD on, with as many columns before it that were last. `long` and `beta`
    are length and window of the first filter.
    """

    def __init__(self, factor: int, long: int = LONG, beta: float = BETA) -> None:
        self.factor = factor
        self.rows = np.zeros((factor, _COLUMNS))
        past, halves = np.zeros((1, long - 1 + CHUNK)), np.zeros((2, _COLUMNS))
        # How many frames came last, what was, the doubled signal, and the filters.
        taps = between(2, long, beta)[0].copy()
        self.parts = np.zeros(1, dtype=np.int64), past, halves, self.rows, taps, _up_weights(factor)


class Down:
    """Back from `factor` times the rate, from what lies in `rows` from column LEAD on.

    If it is `sharpened`, it gives back what the average over straight lines takes away, which is a sixth of the second
    difference: a small value and its neighbours come out as 1/6, 4/6, 1/6 of them.
    """

    def __init__(self, factor: int, *, sharpened: bool = False) -> None:
        self.rows = np.zeros((factor, _COLUMNS))
        halves = np.zeros((2, LONG - 1 + _COLUMNS))
        self.parts = self.rows, halves, 0.5 * between(2, LONG, BETA)[0], _down_weights(factor, sharpened)
