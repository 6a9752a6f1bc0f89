"""The demo recording *wheelhouse log*: a pilot's log by two microphones, the engine mostly on the left, wind and rigging
mostly on the right. All synthesised here.

`python -m stonekite.demos.wheelhouse FOLDER` writes the file again, sample for sample. What the pilot says without any
noise is `clean_log`.
"""

import sys
from functools import lru_cache
from pathlib import Path

import numpy as np

from stonekite.demos.demo import RATE, demo_path, write
from stonekite.demos.speech import LOG, spoken

NAME = "wheelhouse log"
LEAD_S = 1.2
SEED = 1902


def engine(frames: int, seed: int) -> np.ndarray:
    """A slow engine: its harmonics, which wander a little, and what rumbles with it; of unit power."""
    rng = np.random.default_rng(seed)
    t = np.arange(frames) / RATE
    turn = 2 * np.pi * np.cumsum(27.0 * (1 + 0.003 * np.sin(2 * np.pi * 0.3 * t))) / RATE
    hum = sum(np.sin(k * turn + rng.uniform(0, 6)) / k**0.8 for k in range(1, 40))
    rumble = _shaped(rng, frames, lambda f: 1 / (1 + (f / 300) ** 1.2))
    return _unit(_unit(hum) + 0.6 * rumble)


def wind(frames: int, seed: int) -> np.ndarray:
    """Gusts: low, and a hiss in the rigging; of unit power."""
    rng = np.random.default_rng(seed)
    low = _shaped(rng, frames, lambda f: 1 / (1 + (f / 120) ** 1.4))
    hiss = _shaped(rng, frames, lambda f: (f > 400) / (1 + (f / 2500) ** 2))
    gust = np.clip(1 + 0.5 * _shaped(rng, frames, lambda f: 1.0 * (f < 1.2)), 0.2, 3.0)
    return _unit(gust * (low + 0.35 * hiss))


def _shaped(rng: np.random.Generator, frames: int, magnitude) -> np.ndarray:
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    return _unit(np.fft.irfft(np.fft.rfft(rng.standard_normal(frames)) * magnitude(hz), frames))


def _unit(sound: np.ndarray) -> np.ndarray:
    return sound / np.sqrt(np.mean(sound**2))


@lru_cache(maxsize=8)
def noises(kind: str, frames: int, seed: int) -> np.ndarray:
    """Noise (2, frames): "engine, wind" on left and right, "white", or the same on both sides. Kept, as whoever
    measures asks for it again: not to be written to."""
    rng = np.random.default_rng(seed)
    if kind == "engine, wind":
        return np.stack([engine(frames, seed + 10), wind(frames, seed + 20)])
    if kind == "white":
        return rng.standard_normal((2, frames))
    return np.repeat(rng.standard_normal((1, frames)), 2, axis=0)


def mixed(clean: np.ndarray, kind: str, snr_db: float, seed: int, lead: int = int(0.6 * RATE)) -> np.ndarray:
    """Sound, mono or (2, frames), with noise so far under it on each side; both measured from frame `lead` on."""
    both = np.atleast_2d(clean) * np.ones((2, 1))
    noise = noises(kind, both.shape[1], seed)
    loud, noisy = (np.sqrt(np.mean(one[:, lead:] ** 2, axis=1, keepdims=True)) for one in (both, noise))
    return both + noise / noisy * loud * 10 ** (-snr_db / 20)


def clean_log() -> np.ndarray:
    """The pilot alone, mono (frames,), after a pause."""
    voice = spoken(LOG, 108.0, SEED, speed=0.85)
    return np.concatenate([np.zeros(int(LEAD_S * RATE)), voice])


def wheelhouse_log() -> np.ndarray:
    """The recording, shape (2, frames), at 48 kHz: 6 dB more voice than noise on each side, while he speaks."""
    voice = clean_log()
    loud = voice[np.abs(voice) > 0.05 * np.abs(voice).max()]
    level = np.sqrt(np.mean(loud**2)) * 10 ** (-6 / 20)
    left = 0.97 * engine(len(voice), SEED + 1) + 0.2 * wind(len(voice), SEED + 2)
    right = 0.97 * wind(len(voice), SEED + 2) + 0.2 * engine(len(voice), SEED + 1)
    both = np.stack([voice + level * _unit(left), voice + level * _unit(right)])
    edge = np.ones(len(voice))
    edge[-RATE // 2 :] = np.linspace(1, 0, RATE // 2) ** 2
    return both * edge * (0.6 / np.abs(both).max())


if __name__ == "__main__":
    print(write(Path(sys.argv[1]) if len(sys.argv) > 1 else demo_path().parent, NAME, wheelhouse_log()))
