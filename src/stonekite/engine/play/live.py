"""Meters and spectra of what plays, for the pictures."""

from collections import deque
from functools import cache

import numpy as np

from stonekite.engine.play.smoothing import DEFAULT_SMOOTHING
from stonekite.measure.image_meter import VOICE_HZ, centre_of
from stonekite.measure.loudness import k_weighting, lufs
from stonekite.measure.spectrum import BANDS, BandMap
from stonekite.signal.filters import biquads
from stonekite.signal.ring import Ring
from stonekite.stages.base import WORKED
from stonekite.stages.dynamic_eq import BANDS as MOVING_BANDS

SCOPE = 384
_WINDOW_S = 0.17
_PLACE_S, _PLACES = 0.05, 90
"""The image is looked at in frames of so long, and remembered for so many looks: 3 s."""
_FALL_DB = 1.6  # the spectrum falls by this per look at the most


@cache
def _noise_bands(rate: float, size: int, parts: int) -> BandMap:
    return BandMap(rate, size, 1 / parts)


def silent_bands() -> tuple[np.ndarray, np.ndarray]:
    """Levels and gains (2, bands) in dB of bands that hear nothing."""
    return np.full((2, MOVING_BANDS), -160.0), np.zeros((2, MOVING_BANDS))


class Live:
    """Hears what plays and answers with figures when asked; both cost little."""

    def __init__(self, rate: float) -> None:
        self.rate = rate
        size = 1 << int(np.round(np.log2(_WINDOW_S * rate)))
        self._size = size
        self._window = np.hanning(size + 1)[:-1]
        self._legs = Ring(4, size)
        self._stereo = Ring(4, int(0.4 * rate))
        self._weighted = Ring(4, int(0.4 * rate))
        sections = k_weighting(rate)
        self._weighting = biquads.pack(sections, sections)
        self._states = [biquads.rest(len(self._weighting)) for _ in range(2)]
        self._short = np.hanning(int(_PLACE_S * rate) + 1)[:-1]
        bins = np.fft.rfftfreq(len(self._short), 1.0 / rate)
        self._voice = slice(*(int(np.searchsorted(bins, edge)) for edge in VOICE_HZ))
        self._places: deque[np.ndarray] = deque(maxlen=_PLACES)
        self._clock = 0
        self._parts = DEFAULT_SMOOTHING
        self._bands = BandMap(rate, size, 1 / DEFAULT_SMOOTHING)
        self.spectra_db = np.full((4, BANDS), -150.0)
        self._peak_in = np.zeros(2)
        self._reduction_db = np.zeros(2)
        self._bands_db = silent_bands()
        self._ceiling_db = 0.0
        self.follows = np.zeros(2)
        """The note that each leg of the watched stage is followed at, in Hz; 0 for none."""
        self.worked_db = np.full((2, WORKED), -150.0)
        """How hard the parts of the watched stage work, in dB."""
        self.noise: np.ndarray | None = None
        """Power (3, 2, bins) of noise known, heard and left, of a watched stage that reduces noise."""

    def smooth(self, parts: int) -> None:
        """Take the spectra in bands of an octave divided by `parts`."""
        if parts != self._parts:
            self._parts = parts
            self._bands = BandMap(self.rate, self._size, 1 / parts)

    def hear(
        self, processed: np.ndarray, unprocessed: np.ndarray, before: np.ndarray, after: np.ndarray
    ) -> None:
        """Blocks (2, frames): the result, the reference, and the legs before and after the watched stage."""
        both = np.concatenate([processed, unprocessed])
        self._stereo.add(both)
        self._legs.add(np.concatenate([before, after]))
        for k, state in enumerate(self._states):
            weighted = both[2 * k : 2 * k + 2].copy()
            biquads.cascade(weighted, self._clock, self._weighting, state)
            both[2 * k : 2 * k + 2] = weighted
        self._weighted.add(both)
        self._clock += processed.shape[1]

    def reduce(self, before: np.ndarray, reduction_db: np.ndarray) -> None:
        """Take note of what goes into a stage (2, frames), and of the reduction (2,) in dB that it answers with."""
        self._peak_in = np.maximum(self._peak_in, np.abs(before).max(axis=1, initial=0.0))
        self._reduction_db = np.maximum(self._reduction_db, reduction_db)

    def take_reduction(self) -> tuple[np.ndarray, np.ndarray]:
        """The greatest level in dBFS that went in and the greatest reduction in dB, each (2,), since the last look."""
        level = 20 * np.log10(np.maximum(self._peak_in, 1e-8))
        taken = level, self._reduction_db
        self._peak_in, self._reduction_db = np.zeros(2), np.zeros(2)
        return taken

    def move_bands(self, levels_db: np.ndarray, gains_db: np.ndarray) -> None:
        """Take note of what the bands of a stage hear and do, each (2, bands) in dB."""
        levels, gains = self._bands_db
        further = np.abs(gains_db) > np.abs(gains)
        self._bands_db = np.maximum(levels, levels_db), np.where(further, gains_db, gains)

    def take_bands(self) -> tuple[np.ndarray, np.ndarray]:
        """The greatest levels that the bands heard and the gains that went furthest since the last look."""
        taken, self._bands_db = self._bands_db, silent_bands()
        return taken

    def limit(self, reduction_db: float) -> None:
        """Take note of what the output's ceiling took away, in dB."""
        self._ceiling_db = max(self._ceiling_db, reduction_db)

    def take_ceiling(self) -> float:
        """The most that the ceiling took away since the last look, in dB."""
        taken, self._ceiling_db = self._ceiling_db, 0.0
        return taken

    def fade(self) -> None:
        """Nothing plays: let the pictures fall."""
        self._places.clear()
        self.spectra_db = np.maximum(self.spectra_db - 4 * _FALL_DB, -150.0)
        for ring in (self._legs, self._stereo, self._weighted):
            ring.last[:] *= 0.5

    def look_at_spectra(self) -> np.ndarray:
        """Levels in dBFS (4, BANDS): upper and lower leg before the stage, then after it.

        A full-scale sine reads 0 dB. Rises at once and falls slowly.
        """
        spectrum = np.fft.rfft(self._legs.last * self._window, axis=1)
        power = spectrum.real**2 + spectrum.imag**2
        power *= 32.0 / (3.0 * self._size**2)  # by Parseval, a sine of amplitude 1 sums to 1
        levels = self._bands.levels_db(power)
        self.spectra_db = np.maximum(levels, self.spectra_db - _FALL_DB)
        return self.spectra_db

    def look_at_noise(self) -> tuple[np.ndarray, np.ndarray]:
        """Levels of the noise that is known, in dBFS, and the gains in dB that it is now reduced by, each (2, BANDS)."""
        if self.noise is None:
            return np.full((2, BANDS), -150.0), np.zeros((2, BANDS))
        bins = self.noise.shape[2]
        bands = _noise_bands(self.rate, 2 * (bins - 1), self._parts)
        noise, came, went = np.split(bands.levels_db(self.noise.reshape(6, bins)), 3)
        return noise, went - came

    def momentary(self) -> tuple[float, float]:
        """Momentary loudness (LUFS) of processed and unprocessed."""
        power = np.mean(self._weighted.last**2, axis=1)
        return float(lufs(power[0] + power[1])), float(lufs(power[2] + power[3]))

    def correlation(self) -> tuple[float, float]:
        """Correlation of left and right, processed and unprocessed, over 0.4 s; NaN in silence."""
        found = []
        for k in (0, 2):
            left, right = self._stereo.last[k], self._stereo.last[k + 1]
            norm = float(np.sqrt(np.dot(left, left) * np.dot(right, right)))
            found.append(float(np.dot(left, right)) / norm if norm > 1e-12 else float("nan"))
        return found[0], found[1]

    def leg_levels_db(self) -> np.ndarray:
        """RMS in dBFS of the upper and lower leg at the watched stage: before (2,), then after (2,)."""
        return 10 * np.log10(np.maximum(np.mean(self._legs.last**2, axis=1), 1e-15))

    def look_at_image(self) -> np.ndarray:
        """Where the image stands (-100 left, 100 right), and how much that has moved in the last 3 s: rows for processed
        and unprocessed (2, 2). NaN in silence.
        """
        power = np.fft.rfft(self._stereo.last[:, -len(self._short) :] * self._short, axis=1)[:, self._voice]
        self._places.append(
            (power.real**2 + power.imag**2).sum(axis=1) * 32.0 / (3.0 * len(self._short) ** 2)
        )
        sides = np.array(self._places)
        return np.array([centre_of(sides[:, :2]), centre_of(sides[:, 2:])])

    def scope(self) -> np.ndarray:
        """Recent processed samples (2, SCOPE) for the image scope."""
        recent = self._stereo.last[:2, -int(0.12 * self.rate) :]
        step = max(1, recent.shape[1] // SCOPE)
        return recent[:, ::step][:, :SCOPE]
