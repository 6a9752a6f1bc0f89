"""Spectra of all components, and where the image stands, from frames of a signal."""

import itertools
import math

import numpy as np

from stonekite.measure.alignment import Alignment, Offset, frame_size
from stonekite.measure.spectrum import BandMap
from stonekite.signal.matrix import COMPONENTS

VOICE_HZ = (200.0, 4000.0)
"""Where the centre of the image is looked for: the range of a voice."""
OCTAVES_HZ = (31.5, 63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16_000.0)
TILT_HZ = (100.0, 10_000.0)
MOST_COLUMNS = 1200
"""A spectrogram has at most so many columns; longer recordings have coarser ones."""
_SILENT = 1e-13
_QUIET_SHARE = 1e-3
"""Frames quieter than this share of the mean do not say where the image stands."""


class ImageMeter:
    """Hears a signal in blocks."""

    def __init__(self, rate: float) -> None:
        self.rate = rate
        self._size = frame_size(rate)
        self._window = np.hanning(self._size + 1)[:-1]
        self._held = np.empty((2, 0))
        self._alignment = Alignment(rate)
        self._count = 0
        # A full-scale sine sums to 1 over its bins.
        self._scale = 32.0 / (3.0 * self._size**2)
        bins = np.arange(self._size // 2 + 1) * rate / self._size
        self._voice = slice(*(int(np.searchsorted(bins, edge)) for edge in VOICE_HZ))
        self._bins = bins
        self._sides: list[tuple[float, float]] = []
        self._map = BandMap(rate, self._size, 1 / 12)
        self._columns: list[np.ndarray] = []
        self._found: np.ndarray | None = None

    @property
    def hop_s(self) -> float:
        """Seconds from one frame to the next."""
        return self._size / 2 / self.rate

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        held = np.concatenate([self._held, block], axis=1)
        start = 0
        while start + self._size <= held.shape[1]:
            self._hear(held[:, start : start + self._size])
            start += self._size // 2
        self._held = held[:, start:]

    def _hear(self, frame: np.ndarray) -> None:
        spectra = np.fft.rfft(frame * self._window, axis=1)
        power = self._alignment.take(spectra)
        self._count += 1
        left, right = power[:, self._voice].sum(axis=1) * self._scale
        self._sides.append((float(left), float(right)))
        both = power[:1] + power[1:]
        both *= 0.5 * self._scale
        self._columns.append(self._map.levels_db(both)[0].astype(np.float32))

    def finish(self) -> None:
        """Nothing follows; what is shorter than a frame is heard with silence after it."""
        if not self._count and self._held.shape[1]:
            frame = np.zeros((2, self._size))
            frame[:, : self._held.shape[1]] = self._held
            # So that a short sound is as loud as it is.
            frame *= math.sqrt(self._size / self._held.shape[1])
            self._hear(frame)

    def _components(self) -> np.ndarray:
        """Mean power (4, bins) of left, right, mid and side."""
        if self._found is None:
            power, complex_cross = self._alignment.means()
            cross = complex_cross.real
            total = 0.25 * (power[0] + power[1])
            parts = np.stack([power[0], power[1], total + 0.5 * cross, total - 0.5 * cross])
            self._found = np.maximum(parts, 0.0) * self._scale
        return self._found

    def spectra_db(self) -> np.ndarray:
        """Long-term levels (4, BANDS) in dBFS of left, right, mid and side, in bands of 1/12 octave."""
        return self._map.levels_db(self._components())

    def octaves(self) -> dict[str, np.ndarray]:
        """Power of each component in octaves: arrays (len(OCTAVES_HZ),)."""
        sums = np.stack([self._between(c / math.sqrt(2), c * math.sqrt(2)).sum(axis=1) for c in OCTAVES_HZ])
        return {name: sums[:, row] for row, name in enumerate(COMPONENTS)}

    def _between(self, low: float, high: float) -> np.ndarray:
        start, stop = np.searchsorted(self._bins, (low, high))
        return self._components()[:, start:stop]

    def tilt_db(self) -> float:
        """Slope of the spectrum of both sides in dB per octave, fitted from 100 Hz to 10 kHz; NaN in silence.

        Of the power in thirds of an octave, so that pink noise has none.
        """
        edges = TILT_HZ[0] * 2 ** (np.arange(0, 6.7 * 3) / 3)
        edges = edges[edges <= min(TILT_HZ[1], 0.45 * self.rate)]
        power = np.array([self._between(low, high)[:2].sum() for low, high in itertools.pairwise(edges)])
        heard = power > _SILENT
        if heard.sum() < 3:
            return math.nan
        octaves = np.log2(edges[:-1])[heard]
        return float(np.polyfit(octaves, 10 * np.log10(power[heard]), 1)[0])

    def offset(self) -> Offset:
        """Offset of the sides."""
        return self._alignment.offset()

    def centres(self) -> np.ndarray:
        """Where the image stands in each frame (frames,): -100 left, 0 centre, 100 right; NaN where it is too quiet.

        By the power of the sides in the range of a voice, (R - L) / (R + L): a source that constant power places at an
        angle a from the left (0 to 90 degrees) stands at -cos 2a, however late or inverted a side is.
        """
        if not self._sides:
            return np.empty(0)
        left, right = np.array(self._sides).T
        total = left + right
        loud = (total > _SILENT) & (total > _QUIET_SHARE * total.mean())
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(loud, 100.0 * (right - left) / total, np.nan)

    def centre(self) -> tuple[float, float]:
        """Where the image stands on average, and how much that moves: weighted mean and standard deviation."""
        places = self.centres()
        known = np.isfinite(places)
        if not known.any():
            return math.nan, math.nan
        weights = np.array([left + right for left, right in self._sides])[known]
        mean = float(np.average(places[known], weights=weights))
        return mean, float(math.sqrt(np.average((places[known] - mean) ** 2, weights=weights)))

    def spectrogram_db(self) -> np.ndarray:
        """Levels (columns, BANDS) of both sides together, at most MOST_COLUMNS columns."""
        if not self._columns:
            return np.empty(
                (0, len(self._map.levels_db(np.zeros((1, len(self._bins))))[0])), dtype=np.float32
            )
        table = np.stack(self._columns)
        share = -(-len(table) // MOST_COLUMNS)
        if share > 1:
            whole = len(table) // share * share
            power = 10 ** (table[:whole] / 10)
            table = 10 * np.log10(power.reshape(-1, share, table.shape[1]).mean(axis=1))
        return table.astype(np.float32)
