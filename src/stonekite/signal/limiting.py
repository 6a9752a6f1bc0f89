"""A limiter that holds true peaks under a ceiling, looking ahead.

The true peak at and between samples is looked for as ITU-R BS.1770 does, but at eight times the rate and with a longer
filter: a peak that stands between four looks a sample could be 0.6 dB higher than all of them. The gain that it asks
for is held at its least over the look-ahead, let go of exponentially, and smoothed by a moving average of the same
length: so it is down in time for every peak, without a corner (Hamalainen, "Smoothing of the control signal without
clipped output in digital peak limiters", DAFx 2002).
"""

import numpy as np
from numba import njit

from stonekite.signal.interpolation import between
from stonekite.signal.lanes import LANES, fma, load, mul, store

TAPS = 48
PHASES = 7
CENTRE = TAPS // 2
MARGIN_DB = 0.04
"""So far the gains stay under the ceiling, for what lies above 20 kHz and for the gain's own movement."""


def phases() -> np.ndarray:
    """Interpolator (PHASES, TAPS, LANES) for the points between samples, at eight times the rate."""
    return np.repeat(between(PHASES + 1, TAPS)[:, :, None], LANES, axis=2)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"nnan", "nsz", "reassoc"})
def _largest(signal):
    """Largest magnitude; in any order, as the largest is the largest in all of them."""
    largest = 0.0
    for i in range(signal.shape[0]):
        largest = max(largest, abs(signal[i]))
    return largest


@njit(cache=True, nogil=True, error_model="numpy")
def _wanted(joined, weights, bound, ceiling, scratch, wanted):
    """Gain (frames,) that each place asks for; `joined` is the last TAPS samples heard, the block, and LANES zeros.

    The place is CENTRE samples back. `weights` (PHASES, TAPS, LANES) repeat each tap, so that LANES places are looked
    at together; stretches in which no interpolation could pass the ceiling are not. `scratch` is (2, LANES).
    """
    frames = wanted.shape[0]
    for start in range(0, frames, LANES):
        count = min(LANES, frames - start)
        if _largest(joined[start + 1 : start + TAPS + LANES]) * bound <= ceiling:
            wanted[start : start + count] = 1.0
            continue
        for i in range(LANES):
            scratch[1, i] = max(abs(joined[start + i + CENTRE]), abs(joined[start + i + CENTRE + 1]))
        for p in range(PHASES):
            tap = p * TAPS * LANES
            total = mul(load(joined, start + 1), load(weights, tap))
            for k in range(1, TAPS):
                total = fma(load(joined, start + 1 + k), load(weights, tap + k * LANES), total)
            store(scratch, 0, total)
            for i in range(LANES):
                scratch[1, i] = max(scratch[1, i], abs(scratch[0, i]))
        for i in range(count):
            wanted[start + i] = ceiling / scratch[1, i] if scratch[1, i] > ceiling else 1.0


@njit(cache=True, nogil=True, error_model="numpy")
def _held(wanted, window, release, memory, marks, values, ends):
    """The gain to apply, in place of what is wanted (frames,).

    `marks` and `values` (window + 1,) are a queue of falling gains with their places, `memory` (window,) what the
    moving average is taken over; `ends` is first and length of the queue, the place, the sum, how many of the memory
    are not 1, the gain being let go of, and where the memory goes on.
    """
    size = window + 1
    first, count, place, slot = int(ends[0]), int(ends[1]), int(ends[2]), int(ends[6])
    total, busy, gain = ends[3], int(ends[4]), ends[5]
    for i in range(wanted.shape[0]):
        asked = wanted[i]
        last = first + count - 1
        last = last - size if last >= size else last
        while count > 0 and values[last] >= asked:
            count -= 1
            last = last - 1 if last > 0 else size - 1
        last = last + 1 if last + 1 < size else 0
        marks[last] = place
        values[last] = asked
        count += 1
        while marks[first] <= place - size:
            first = first + 1 if first + 1 < size else 0
            count -= 1
        least = values[first]
        gain = least if least < gain else least + release * (gain - least)
        if gain > 1.0 - 1e-7:
            gain = 1.0
        busy += (1 if gain != 1.0 else 0) - (1 if memory[slot] != 1.0 else 0)
        total += gain - memory[slot]
        memory[slot] = gain
        if busy == 0:
            total = float(window)  # nothing is left of rounding
        wanted[i] = total / window
        place += 1
        slot = slot + 1 if slot + 1 < window else 0
    ends[0], ends[1], ends[2], ends[3], ends[4], ends[5], ends[6] = (
        first,
        count,
        place,
        total,
        busy,
        gain,
        slot,
    )


class Limiter:
    """Gains of one leg; `window` is the look-ahead in samples."""

    def __init__(self, window: int) -> None:
        self.window = max(1, window)
        self._past = np.zeros(TAPS)
        self._scratch = np.zeros((2, LANES))
        self._memory = np.ones(self.window)
        self._marks = np.zeros(self.window + 1, dtype=np.int64)
        self._values = np.ones(self.window + 1)
        self._ends = np.array([0.0, 0.0, 0.0, float(self.window), 0.0, 1.0, 0.0])

    def gains(self, signal: np.ndarray, weights: np.ndarray, ceiling: float, release: float) -> np.ndarray:
        """Gains (frames,) for the signal (frames,) as it was `latency` samples ago. Ceiling is an amplitude."""
        joined = np.concatenate([self._past, signal, np.zeros(LANES)])
        self._past = joined[len(signal) : len(signal) + TAPS].copy()
        out = np.empty(len(signal))
        bound = float(np.abs(weights[:, :, 0]).sum(axis=1).max())
        _wanted(joined, weights, bound, ceiling * 10 ** (-MARGIN_DB / 20), self._scratch, out)
        _held(out, self.window, release, self._memory, self._marks, self._values, self._ends)
        return out


def latency(window: int) -> int:
    """Samples by which the sound has to be held back for the gains of a look-ahead."""
    return max(1, window) + CENTRE
