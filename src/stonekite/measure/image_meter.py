"""Spectra of all components, and where the image stands, from frames of a signal."""

import itertools
import math

import numpy as np

from stonekite.measure.spectrum import BANDS, BandMap
from stonekite.signal.alignment import Alignment, Offset, frame_size
from stonekite.signal.matrix import COMPONENTS

VOICE_HZ = (200.0, 4000.0)
"""Where the centre of the image is looked for: the range of a voice."""
OCTAVES_HZ = (31.5, 63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16_000.0)
TILT_HZ = (100.0, 10_000.0)
MOST_COLUMNS = 600
"""A spectrogram has between so many and twice as many columns; longer recordings have coarser ones."""
_COLUMN_S = 0.1
"""About so long are the frames of a spectrogram, which overlap by a quarter."""
_TOGETHER = 4
"""Frames that are worked on together."""
_SILENT = 1e-13
_QUIET_SHARE = 1e-3
"""Frames quieter than this share of the mean do not say where the image stands."""


def framed(held: np.ndarray, size: int, hop: int) -> tuple[np.ndarray, np.ndarray]:
    """Frames (2, count, size) of held (2, samples), one every `hop`, and what is left to go on with."""
    count = max(0, (held.shape[1] - size) // hop + 1)
    if not count:
        return np.empty((2, 0, size)), held
    views = np.lib.stride_tricks.sliding_window_view(held, size, axis=1)[:, ::hop]
    return views[:, :count], held[:, count * hop :].copy()


def places_of(sides: np.ndarray) -> np.ndarray:
    """Where the image stands in frames (frames,): -100 left, 0 centre, 100 right; NaN where it is too quiet.

    By the power of the sides (frames, 2) in the range of a voice, (R - L) / (R + L): a source that constant power places
    at an angle a from the left (0 to 90 degrees) stands at -cos 2a, however late or inverted a side is.
    """
    if not len(sides):
        return np.empty(0)
    left, right = sides.T
    total = left + right
    loud = (total > _SILENT) & (total > _QUIET_SHARE * total.mean())
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(loud, 100.0 * (right - left) / total, np.nan)


def centre_of(sides: np.ndarray) -> tuple[float, float]:
    """Where the image stands on average, and how much that moves: weighted mean and standard deviation of the places of
    frames with such power (frames, 2) of the sides; NaN in silence.
    """
    places = places_of(sides)
    known = np.isfinite(places)
    if not known.any():
        return math.nan, math.nan
    weights = sides.sum(axis=1)[known]
    mean = float(np.average(places[known], weights=weights))
    return mean, float(math.sqrt(np.average((places[known] - mean) ** 2, weights=weights)))


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
        self._gram = Spectrogram(rate)
        self._found: np.ndarray | None = None

    @property
    def hop_s(self) -> float:
        """Seconds from one frame to the next."""
        return self._size / 2 / self.rate

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        self._gram.add(block)
        self._held = np.concatenate([self._held, block], axis=1)
        if self._held.shape[1] >= self._size + (_TOGETHER - 1) * self._size // 2:
            self._hear_held()

    def _hear_held(self) -> None:
        frames, self._held = framed(self._held, self._size, self._size // 2)
        if frames.shape[1]:
            self._hear(frames)

    def _hear(self, frames: np.ndarray) -> None:
        """Frames (2, count, size)."""
        power = self._alignment.take(np.fft.rfft(frames * self._window, axis=2))
        self._count += frames.shape[1]
        sides = power[:, :, self._voice].sum(axis=2) * self._scale
        self._sides += list(zip(sides[0].tolist(), sides[1].tolist(), strict=True))

    def finish(self) -> None:
        """Nothing follows; what is shorter than a frame is heard with silence after it."""
        self._hear_held()
        if not self._count and self._held.shape[1]:
            frame = np.zeros((2, 1, self._size))
            frame[:, 0, : self._held.shape[1]] = self._held
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
        """Where the image stands in each frame (frames,), as `places_of` says."""
        return places_of(np.array(self._sides).reshape(-1, 2))

    def centre(self) -> tuple[float, float]:
        """Where the image stands on average, and how much that moves, as `centre_of` says."""
        return centre_of(np.array(self._sides).reshape(-1, 2))

    def spectrogram_db(self) -> np.ndarray:
        """Levels (columns, BANDS) of both sides together, under 2 MOST_COLUMNS columns."""
        return self._gram.levels_db()


class Spectrogram:
    """Levels of both sides together over time; the longer it becomes, the coarser are its columns."""

    def __init__(self, rate: float) -> None:
        self._size = 1 << round(math.log2(rate * _COLUMN_S))
        self._window = np.hanning(self._size + 1)[:-1]
        self._map = BandMap(rate, self._size, 1 / 12)
        self._held = np.empty((2, 0))
        self._total = np.zeros(self._size // 2 + 1)
        self._summed = 0
        self._share = 1
        self._columns: list[np.ndarray] = []

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        frames, self._held = framed(
            np.concatenate([self._held, block], axis=1), self._size, 3 * self._size // 4
        )
        if not frames.shape[1]:
            return
        spectra = np.fft.rfft(frames * self._window, axis=2)
        power = (spectra.real**2 + spectra.imag**2).sum(axis=0)
        power *= 16.0 / (3.0 * self._size**2)
        for row in power:
            self._total = row if not self._summed else self._total + row
            self._summed += 1
            if self._summed == self._share:
                self._close()

    def _close(self) -> None:
        """One column more."""
        self._columns.append(self._map.levels_db(self._total[None] / self._share)[0])
        self._summed = 0
        if len(self._columns) == 2 * MOST_COLUMNS:  # two in one from now on
            power = 10 ** (np.stack(self._columns) / 10)
            self._columns = list(10 * np.log10(power.reshape(MOST_COLUMNS, 2, -1).mean(axis=1)))
            self._share *= 2

    def levels_db(self) -> np.ndarray:
        """Levels (columns, BANDS) in dBFS."""
        if not self._columns:
            return np.empty((0, BANDS))
        return np.stack(self._columns)
