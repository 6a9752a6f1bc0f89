"""Time offset and polarity of the two sides.

Generalised cross-correlation (Knapp and Carter, "The Generalized Correlation Method for Estimation of
Time Delay", IEEE Trans. ASSP 24, 1976) from spectra averaged over the whole signal, with their
maximum-likelihood weighting: each frequency counts by how coherent the two sides are there.
"""

import math
from dataclasses import dataclass

import numpy as np

REACH_S = 0.05
_UPSAMPLE = 8
_QUIET = 1e-7
"""Frequencies this far under a side's loudest one (-70 dB) do not count."""
_LONELY = 0.3
"""A peak that stands above all others by this share is believed without doubt."""


def _rival(correlation: np.ndarray, place: int) -> float:
    """The largest magnitude outside the main lobe around `place`, as a share of the magnitude there.

    Near 1 for tones, which fit themselves again after every period, or upside down after half of one.
    """
    same = np.sign(correlation) == np.sign(correlation[place])
    others = np.flatnonzero(~same)
    first = others[others < place].max(initial=-1)
    last = others[others > place].min(initial=len(correlation))
    outside = np.concatenate([correlation[: first + 1], correlation[last:]])
    return float(np.abs(outside).max(initial=0.0) / max(abs(correlation[place]), 1e-300))


def frame_size(rate: float) -> int:
    """Samples in the frames that are looked at."""
    return 1 << math.ceil(math.log2(rate * REACH_S * 8))


@dataclass(frozen=True)
class Offset:
    """`samples` > 0: right is late. `polarity` is 1 or -1. `confidence` is 0 (none) to 1."""

    samples: float
    polarity: int
    confidence: float


class Alignment:
    """Averages cross-spectra of a signal fed in blocks."""

    def __init__(self, rate: float) -> None:
        self.rate = rate
        self._size = frame_size(rate)
        self._window = np.hanning(self._size + 1)[:-1]
        self._held = np.empty((2, 0))
        bins = self._size // 2 + 1
        self._cross = np.zeros(bins, dtype=complex)
        self._own = np.zeros((2, bins))
        self._count = 0

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        held = np.concatenate([self._held, block], axis=1)
        hop = self._size // 2
        start = 0
        while start + self._size <= held.shape[1]:
            self._hear(held[:, start : start + self._size])
            start += hop
        self._held = held[:, start:]

    def _hear(self, frame: np.ndarray) -> None:
        self.take(np.fft.rfft(frame * self._window, axis=1)[:, None])

    def take(self, spectra: np.ndarray) -> np.ndarray:
        """Hear frames by their spectra (2, frames, bins), where they are known: of `frame_size` samples under a Hann
        window. Gives back their power.
        """
        power = spectra.real**2 + spectra.imag**2
        self._cross += (np.conj(spectra[0]) * spectra[1]).sum(axis=0)
        self._own += power.sum(axis=1)
        self._count += spectra.shape[1]
        return power

    def means(self) -> tuple[np.ndarray, np.ndarray]:
        """Mean power (2, bins) of the sides and mean cross-spectrum (bins,)."""
        count = max(1, self._count)
        return self._own / count, self._cross / count

    def offset(self) -> Offset:
        """The offset of the whole signal. Confidence 0 where a side is silent or there is too little sound."""
        if not self._count and self._held.shape[1] > 64:
            frame = np.zeros((2, self._size))
            frame[:, : self._held.shape[1]] = self._held
            self._hear(frame)
        power = self._own[0] * self._own[1]
        # Where one side has next to nothing, what leaks from its loud frequencies would seem to agree.
        tops = self._own.max(axis=1, keepdims=True)
        loud = np.all(self._own > _QUIET * tops, axis=0) & (power > 0.0)
        if not self._count or not loud.any() or power.max() <= 0.0:
            return Offset(0.0, 1, 0.0)
        coherence = self._coherence(loud, power)
        magnitude = np.maximum(np.abs(self._cross), 1e-300)
        weight = coherence / (1 - coherence)
        weight = np.minimum(weight, 100.0)
        weight[0] = 0.0
        if not weight.any():
            return Offset(0.0, 1, 0.0)
        padded = np.zeros(self._size * _UPSAMPLE // 2 + 1, dtype=complex)
        padded[: len(weight)] = weight * self._cross / magnitude
        correlation = np.fft.irfft(padded)
        reach = int(REACH_S * self.rate * _UPSAMPLE)
        near = np.concatenate([correlation[-reach:], correlation[: reach + 1]])
        place = int(np.argmax(np.abs(near)))
        sign = 1 if near[place] >= 0 else -1
        shift = 0.0
        if 0 < place < len(near) - 1:
            before, here, after = sign * near[place - 1 : place + 2]
            curve = before - 2 * here + after
            shift = 0.5 * (before - after) / curve if curve < 0 else 0.0
        # 1 if every weighted frequency agrees on this offset.
        agreement = abs(near[place]) * len(correlation) / (2 * weight.sum())
        mean_coherence = float((coherence * weight).sum() / weight.sum())
        lonely = np.clip((1.0 - _rival(near, place)) / _LONELY, 0.0, 1.0)
        confidence = float(np.clip(agreement * min(1.0, mean_coherence * 2) * lonely, 0.0, 1.0))
        return Offset(float((place + shift - reach) / _UPSAMPLE), sign, confidence)

    def _coherence(self, loud: np.ndarray, power: np.ndarray) -> np.ndarray:
        """Magnitude-squared coherence (bins,) where the sides are loud, freed of its bias."""
        coherence = np.zeros(len(power))
        coherence[loud] = np.abs(self._cross[loud]) ** 2 / power[loud]
        if self._count < 4:  # with so few frames coherence says nothing: plain phase weighting
            coherence[loud] = 0.5
            return coherence
        # The bias of coherence averaged over overlapping frames of incoherent signals.
        bias = min(0.9, 1.6 / self._count)
        return np.clip((coherence - bias) / (1 - bias), 0.0, 0.9999)

    def coherence(self) -> float:
        """How much the sides have in common, 0 to 1: coherence weighted by what is loud; 1 if too little was heard."""
        power = self._own[0] * self._own[1]
        level = np.sqrt(power)
        level[0] = 0.0
        if self._count < 16 or level.sum() <= 0.0:
            return 1.0
        found = self._coherence(power > 0.0, power)
        return float((found * level).sum() / level.sum())
