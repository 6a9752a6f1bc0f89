"""True peak after ITU-R BS.1770-4 Annex 2, with a longer interpolation filter than the annex's example."""

import numpy as np
from numba import njit

TAPS = 32
"""Taps of each phase: 0.02 dB up to 20 kHz at 44.1 kHz, where the annex's 12 taps miss more."""
_HOP = 64


def _phases(factor: int) -> np.ndarray:
    """Polyphase interpolator (factor - 1, TAPS): a Kaiser-windowed sinc, the phases between samples."""
    reach = TAPS // 2
    rows = []
    for phase in range(1, factor):
        t = np.arange(TAPS) - (reach - 1) - phase / factor
        window = np.i0(9.0 * np.sqrt(np.maximum(0.0, 1 - (t / reach) ** 2))) / np.i0(9.0)
        row = np.sinc(t) * window
        rows.append(row / row.sum())
    return np.array(rows)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"reassoc", "contract"})
def _scan(signal, phases, bound, peak):
    """Largest interpolated magnitude of signal (frames,), at least `peak`.

    Stretches whose samples are so small that no interpolation of them could pass the peak so far
    (largest sample times the filter's gain bound) are skipped.
    """
    frames = signal.shape[0]
    start = 0
    while start + TAPS <= frames:
        stop = min(start + _HOP, frames - TAPS + 1)
        largest = 0.0
        for i in range(start, stop + TAPS - 1):
            largest = max(largest, abs(signal[i]))
        if largest * bound > peak:
            for i in range(start, stop):
                for p in range(phases.shape[0]):
                    total = 0.0
                    for k in range(TAPS):
                        total += signal[i + k] * phases[p, k]
                    peak = max(peak, abs(total))
        start = stop
    return peak


class Peaks:
    """Sample peak and true peak of both channels of a signal fed in blocks."""

    def __init__(self, rate: float) -> None:
        factor = 4 if rate < 80_000 else 2
        self._table = _phases(factor)
        self._bound = float(np.abs(self._table).sum(axis=1).max())
        self._past = np.zeros((2, TAPS - 1))
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
        for leg in range(2):
            self._between[leg] = _scan(joined[leg], self._table, self._bound, self._between[leg])
        self._past = joined[:, -(TAPS - 1) :].copy()

    def true_peak(self) -> np.ndarray:
        """True peak (2,) as an amplitude; what was heard last is followed by silence."""
        ended = Peaks.__new__(Peaks)
        ended.__dict__.update(self.__dict__, _between=self._between.copy())
        ended._take(np.zeros((2, TAPS)))
        return np.maximum(self.sample, ended._between)
