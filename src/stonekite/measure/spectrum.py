"""Long-term spectra in narrow bands."""

import numpy as np

BANDS = 240
LOW_HZ, HIGH_HZ = 20.0, 20_000.0
"""Spectra have this many bands between these frequencies, evenly spaced in octaves: 24 to an octave."""


def centres() -> np.ndarray:
    """Centre frequencies (BANDS,) in Hz."""
    return np.geomspace(LOW_HZ, HIGH_HZ, BANDS)


def band_at(hertz: float) -> int:
    """The band whose centre is nearest to a frequency."""
    return int(np.argmin(np.abs(np.log(centres() / hertz))))


class BandMap:
    """From the power of FFT bins to levels in bands of a width in octaves."""

    def __init__(self, rate: float, size: int, octaves: float) -> None:
        middle = centres()
        spread = 2 ** (octaves / 2)
        bins = np.arange(size // 2 + 1) * rate / size
        self._low = np.interp(middle / spread, bins, np.arange(len(bins))) + 0.5
        self._high = np.maximum(np.interp(middle * spread, bins, np.arange(len(bins))) + 0.5, self._low + 1.0)
        self._above = middle > rate / 2

    def levels_db(self, power: np.ndarray) -> np.ndarray:
        """Levels (rows, BANDS) from power (rows, bins); -150 where there is nothing."""
        total = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
        grid = np.arange(total.shape[1])
        sums = np.stack([np.interp(self._high, grid, row) - np.interp(self._low, grid, row) for row in total])
        levels = 10 * np.log10(np.maximum(sums, 1e-15))
        levels[:, self._above] = -150.0
        return levels


class LongTermSpectrum:
    """Average spectrum of two legs fed in blocks."""

    def __init__(self, rate: float) -> None:
        self._size = 1 << int(np.round(np.log2(0.34 * rate)))
        self._window = np.hanning(self._size + 1)[:-1]
        self._rest = np.empty((2, 0))
        self._power = np.zeros((2, self._size // 2 + 1))
        self._count = 0
        self._bands = BandMap(rate, self._size, 1 / 12)

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        joined = np.concatenate([self._rest, block], axis=1)
        start = 0
        while start + self._size <= joined.shape[1]:
            self._hear(joined[:, start : start + self._size])
            start += self._size // 2
        self._rest = joined[:, start:].copy()

    def _hear(self, frame: np.ndarray) -> None:
        spectrum = np.fft.rfft(frame * self._window, axis=1)
        self._power += (spectrum.real**2 + spectrum.imag**2) * (32.0 / (3.0 * self._size**2))
        self._count += 1

    def levels_db(self) -> np.ndarray:
        """Levels (2, BANDS) in bands of 1/12 octave; a full-scale sine reads 0 dB."""
        if not self._count and self._rest.shape[1]:
            frame = np.zeros((2, self._size))
            frame[:, : self._rest.shape[1]] = self._rest
            self._hear(frame)
        return self._bands.levels_db(self._power / max(1, self._count))
