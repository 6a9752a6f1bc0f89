"""Voices that several tests hear, made once: not to be written to."""

from functools import cache

import numpy as np

from stonekite.demos import wheelhouse
from stonekite.demos.speech import random_text, spoken

RATE = 48_000
PITCHES = (105.0, 130.0, 165.0, 195.0, 220.0, 118.0)

clean_log, wheelhouse_log = cache(wheelhouse.clean_log), cache(wheelhouse.wheelhouse_log)


@cache
def voice(seed: int) -> np.ndarray:
    """A synthetic voice, mono (frames,), of five seconds or more."""
    return spoken(random_text(seed), PITCHES[seed % 6], seed)


TIMBRES = ("organ", "plucked", "bowed", "bass", "brass")


def tonal_piece(seed: int, seconds: float, rate: int) -> np.ndarray:
    """Sound (n,) of notes of a scale, by one of TIMBRES in turns: chords of one to three, each struck anew; in every third
    piece over a bass note that comes on every beat."""
    rng = np.random.default_rng(seed)
    timbre = TIMBRES[seed % len(TIMBRES)]
    root = float(rng.choice([41.2, 49.0, 55.0, 65.4, 73.4, 82.4]))
    beat = float(rng.choice([0.25, 0.4, 0.5, 1.0]))
    sound = np.zeros(int((seconds + 5) * rate))

    def strike(at_s: float, hz: float, length_s: float, timbre: str, level: float) -> None:
        t = np.arange(int(length_s * rate)) / rate
        note = np.zeros(len(t))
        for k in range(1, min(12, int(0.45 * rate / hz) + 1)):
            sizes = {
                "organ": 1 / k,
                "plucked": np.exp(-t * (1 + 0.6 * k)) / k,
                "bowed": (1 + 0.1 * np.sin(2 * np.pi * 5.3 * t)) / k,
                "bass": np.exp(-0.8 * t) / k**1.5,
                "brass": k**-0.7,
            }[timbre]
            stretched = hz * k * (1 + (4e-4 * k * k if timbre == "plucked" else 0.0))
            note += sizes * np.sin(2 * np.pi * stretched * t + rng.uniform(0, 2 * np.pi))
        note *= level * np.minimum(1.0, t / 0.01) * np.minimum(1.0, (length_s - t) / 0.03)
        start = int(at_s * rate)
        sound[start : start + len(note)] += note[: len(sound) - start]

    scale = np.array([0, 2, 3, 5, 7, 8, 10, 12, 14, 15, 17, 19, 24])
    for at_s in np.arange(0.0, seconds, beat).tolist():
        for _ in range(int(rng.integers(1, 4))):
            hz = root * 2 ** (float(rng.choice(scale)) / 12)
            strike(at_s, hz, beat * int(rng.choice([1, 1, 2, 4])), timbre, rng.uniform(0.05, 0.2))
        if seed % 3 == 0:
            strike(at_s, root, 0.95 * beat, "bass", 0.2)
    return sound[: int(seconds * rate)] + 1e-4 * rng.standard_normal(int(seconds * rate))
