"""True peak after ITU-R BS.1770-4 Annex 2, looked for closer than the annex's example does.

Halfway between samples by a filter that sees all but the last half per cent of the spectrum, halfway between all of
those by a short one, and at the tops of what then stands four times as dense by the tone through three neighbours
(signal/heights.py): four or eight looks a sample miss up to 0.4 dB of a tone that always stands between them.
"""

import numpy as np
from numba import njit

from stonekite.signal import fir
from stonekite.signal.heights import height_squared
from stonekite.signal.interpolation import between

TAPS, BETA = 256, 4.0
SHORT, SHORT_BETA = 24, 7.0
_STRETCH = 128 - SHORT // 2 - 2  # so that the long filter works on whole vectors
"""Samples that are looked between together, or skipped together."""
_AROUND = 8
"""Samples around a stretch that a rough look takes in."""
_FAR = 1.55
"""So many times what a rough look finds at the most is there: random signs, the worst of signals, reach 1.5 times."""
_NEAR = 1.4143
"""So many times what stands twice as dense is there at the most: a tone at half the rate by the square root of two."""
_EDGE = TAPS // 2 + SHORT // 2
"""Samples before and after a stretch that the filters reach over."""


@njit(cache=True, nogil=True, error_model="numpy")
def _rough(signal, first, count):
    """Largest height of the tones through the samples of a stretch, without what is between them."""
    before, middle, after = (
        signal[first - 1 : first - 1 + count],
        signal[first : first + count],
        signal[first + 1 : first + 1 + count],
    )
    most = 0.0
    for i in range(count):
        height = height_squared(before[i], middle[i], after[i])
        most = height if height > most else most
    return np.sqrt(most)


@njit(cache=True, nogil=True, error_model="numpy")
def _scan(signal, taps, short, peak, halves, dense, quarters):
    """Largest height of signal (frames,), at least `peak`; of whole stretches only, _EDGE samples from the ends.

    Stretches that a rough look finds far under the peak so far are skipped. `halves`, `dense` and `quarters` are scratch.
    """
    for start in range(0, signal.shape[0] - 2 * _EDGE - _STRETCH + 1, _STRETCH):
        if _rough(signal, start + _EDGE - _AROUND, _STRETCH + 2 * _AROUND) * _FAR > peak:
            fir.convolve(signal[start:], taps, halves)
            first = (
                start + TAPS // 2 - 1
            )  # halves[i] is halfway between this sample and the next one, and so on
            most = 0.0
            for i in range(halves.shape[0]):
                on, off = signal[first + i], halves[i]
                dense[2 * i], dense[2 * i + 1] = on, off
                most = on * on if on * on > most else most
                most = off * off if off * off > most else most
            if np.sqrt(most) * _NEAR <= peak:
                continue
            fir.convolve(dense, short, quarters)
            lead = SHORT // 2 - 1
            most = 0.0
            for i in range(1, quarters.shape[0] - 1):
                before, after = dense[lead + i], dense[lead + i + 1]
                on = height_squared(quarters[i - 1], before, quarters[i])
                most = max(most, on, height_squared(before, quarters[i], after))
            peak = max(peak, np.sqrt(most))
    return peak


class Peaks:
    """Sample peak and true peak of both channels of a signal fed in blocks."""

    def __init__(self, rate: float) -> None:
        self._filters = tuple(
            np.ascontiguousarray(between(2, *made)[0]) for made in ((TAPS, BETA), (SHORT, SHORT_BETA))
        )
        halves = _STRETCH + SHORT // 2 + 2
        self._room = np.zeros(halves), np.zeros(2 * halves), np.zeros(2 * halves - SHORT + 1)
        self._past = np.zeros((2, 2 * _EDGE))
        self.sample = np.zeros(2)
        self._between = np.zeros(2)

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        if not block.shape[1]:
            return
        self.sample = np.maximum(self.sample, np.abs(block).max(axis=1))
        self._take(block)

    def _take(self, block: np.ndarray) -> None:
        joined = np.concatenate([self._past, block], axis=1)
        done = max(0, joined.shape[1] - 2 * _EDGE) // _STRETCH * _STRETCH
        for leg in range(2):
            looked = joined[leg, : done + 2 * _EDGE]
            self._between[leg] = _scan(
                looked, *self._filters, max(self._between[leg], self.sample[leg]), *self._room
            )
        self._past = joined[:, done:].copy()

    def true_peak(self) -> np.ndarray:
        """True peak (2,) as an amplitude; what was heard last is followed by silence."""
        ended = Peaks.__new__(Peaks)
        ended.__dict__.update(self.__dict__, _between=self._between.copy())
        ended._take(np.zeros((2, 2 * _EDGE + _STRETCH)))
        return np.maximum(self.sample, ended._between)
