"""Level, crest and noise floor of each component, and how the two sides go together."""

import math

import numpy as np

from stonekite.measure.loudness import Binned
from stonekite.signal.decibels import db_of
from stonekite.signal.matrix import COMPONENTS

_FRAME_BINS = 5  # noise floor frames of 50 ms


class Levels:
    """Sums over left, right, mid and side (half-sum) of a signal fed in blocks."""

    def __init__(self, rate: float) -> None:
        self.frames = 0
        self._power = {name: Binned(rate) for name in COMPONENTS}
        self._energy = dict.fromkeys(COMPONENTS, 0.0)
        self._peak = dict.fromkeys(COMPONENTS, 0.0)
        self._product = 0.0

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        if not block.shape[1]:
            return
        self.frames += block.shape[1]
        self._product += float(np.dot(block[0], block[1]))
        middle = block[0] + block[1]
        middle *= 0.5
        side = block[0] - block[1]
        side *= 0.5
        for name, signal in zip(COMPONENTS, (block[0], block[1], middle, side), strict=True):
            self._peak[name] = max(self._peak[name], float(signal.max()), -float(signal.min()))
            self._energy[name] += float(np.dot(signal, signal))
            self._power[name].add(signal * signal)

    def energy(self, name: str) -> float:
        """Sum of squares of a component."""
        return self._energy[name]

    def bins(self, name: str) -> np.ndarray:
        """Mean square of a component in stretches of 10 ms."""
        return self._power[name].means()

    def rms_dbfs(self, name: str) -> float:
        return db_of(math.sqrt(self._energy[name] / self.frames)) if self.frames else -math.inf

    def peak_dbfs(self, name: str) -> float:
        return db_of(self._peak[name])

    def crest_db(self, name: str) -> float:
        """Peak over RMS; not a number for silence."""
        return self.peak_dbfs(name) - self.rms_dbfs(name) if self._energy[name] else math.nan

    def noise_floor_dbfs(self, name: str) -> float:
        """RMS level of the quietest frames: the 5th percentile of 50 ms frames that are not digital silence.

        Minus infinity where every frame is silent or the signal is shorter than one frame.
        """
        bins = self._power[name].means()
        frames = bins[: len(bins) // _FRAME_BINS * _FRAME_BINS].reshape(-1, _FRAME_BINS).mean(axis=1)
        frames = frames[frames > 0]
        return db_of(math.sqrt(float(np.percentile(frames, 5)))) if len(frames) else -math.inf

    def correlation(self) -> float:
        """Correlation of left and right, -1 to 1; not a number if one of them is silent."""
        norm = math.sqrt(self._energy["left"] * self._energy["right"])
        return max(-1.0, min(1.0, self._product / norm)) if norm else math.nan

    def side_to_mid_db(self) -> float:
        """Side RMS over mid RMS; minus infinity without a side, not a number for silence."""
        side, mid = self._energy["side"], self._energy["mid"]
        if not side and not mid:
            return math.nan
        return 10 * math.log10(side / mid) if side and mid else (math.inf if side else -math.inf)
