"""Test signals, computed at any place of their own time. All return arrays (2, frames) of amplitude at most 1.

`start` is the first frame, counted from the beginning of the signal; `rate` is in Hz.
"""

from functools import lru_cache

import numpy as np

PINK_LOW_HZ = 20.0
_PERIOD = 1 << 19
_CREST = 4.5
"""Noise this many times above its RMS level is as good as never met."""


def twin_tones(start: int, frames: int, rate: float, left_hz: float, right_hz: float) -> np.ndarray:
    """A sine on each side. They rise from silence over 10 ms."""
    t = np.arange(start, start + frames) / rate
    rise = np.minimum(1.0, t / 0.01)
    return rise * np.sin(2 * np.pi * np.array([[left_hz], [right_hz]]) * t)


def sweep(start: int, frames: int, rate: float, low_hz: float, high_hz: float, seconds: float) -> np.ndarray:
    """A sine on both sides whose frequency grows exponentially from low to high over so many seconds, again and
    again (Farina, "Simultaneous measurement of impulse response and distortion with a swept-sine technique",
    AES Convention 108, 2000). Each pass fades in and out over 10 ms.
    """
    length = max(1, round(seconds * rate))
    t = (np.arange(start, start + frames) % length) / rate
    grow = np.log(high_hz / low_hz) / seconds
    turns = low_hz * (np.expm1(grow * t) / grow if abs(grow) > 1e-9 else t)
    tone = np.sin(2 * np.pi * turns)
    tone *= np.clip(np.minimum(t, seconds - t) / 0.01, 0.0, 1.0)
    return np.repeat(tone[None], 2, axis=0)


@lru_cache(maxsize=2)
def _pink(rate: float) -> np.ndarray:
    """One period of two independent pink noises (2, _PERIOD) of RMS 1, from 20 Hz up."""
    f = np.fft.rfftfreq(_PERIOD, 1 / rate)
    size = np.where(f >= PINK_LOW_HZ, 1 / np.sqrt(np.maximum(f, PINK_LOW_HZ)), 0.0)
    phases = np.exp(2j * np.pi * np.random.default_rng(1877).random((2, len(f))))
    noise = np.fft.irfft(size * phases, _PERIOD, axis=1)
    return noise / np.sqrt(np.mean(noise**2, axis=1, keepdims=True))


def pink_noise(start: int, frames: int, rate: float, correlation: float) -> np.ndarray:
    """Pink noise whose sides have a correlation of -1 to 1; it repeats every 2^19 frames."""
    shared, own = _pink(rate)[:, np.arange(start, start + frames) % _PERIOD]
    right = correlation * shared + np.sqrt(1.0 - correlation**2) * own
    return np.clip(np.stack([shared, right]) / _CREST, -1.0, 1.0)


def impulses(start: int, frames: int, rate: float, seconds: float) -> np.ndarray:
    """Single samples of 1 on both sides, so many seconds apart."""
    spacing = max(1, round(seconds * rate))
    ticks = (np.arange(start, start + frames) % spacing == 0).astype(float)
    return np.repeat(ticks[None], 2, axis=0)
