"""The demo recording *cable zither*: one performance twice, direct from the pickup on the left, and on the right a
microphone before its amplifier on the ferry: 1.70 ms later, brighter, torn a little, 4 dB louder. All synthesised here.

`python -m stonekite.demos.zither FOLDER` writes the file again, sample for sample.
"""

import sys
from pathlib import Path

import numpy as np

from stonekite.demos.demo import RATE, demo_path, write

NAME = "cable zither"
SECONDS = 24.0
SEED = 1911
LATE_MS, LOUDER_DB = 1.70, 4.0

_FRAMES = int(RATE * SECONDS)
_BEAT = 60.0 / 84.0
_LOW = (40, 43, 45, 38)  # MIDI notes under each bar of four beats
_TUNE = [  # (beat, MIDI note)
    (0, 64), (1, 67), (1.5, 69), (2, 71), (3, 69), (4, 67), (5, 71), (5.5, 74), (6, 76), (7, 74),
    (8, 72), (9, 69), (9.5, 72), (10, 76), (11, 72), (12, 69), (13, 66), (13.5, 69), (14, 74), (15, 71),
    (16, 76), (17, 74), (17.5, 71), (18, 67), (19, 71), (20, 74), (21, 71), (21.5, 67), (22, 64), (23, 67),
    (24, 72), (24.5, 71), (25, 69), (26, 67), (27, 69), (28, 66), (29, 62), (29.5, 66), (30, 64),
]  # fmt: skip


def _string(note: float, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A steel cable, plucked near its end: stiff partials, long in the lows, and the pick's click."""
    f0 = 440.0 * 2.0 ** ((note - 69) / 12)
    t = np.arange(int(RATE * seconds)) / RATE
    out = np.zeros_like(t)
    for k in range(1, int(min(40, 9000 / f0)) + 1):
        f = f0 * k * np.sqrt(1 + 0.00018 * k * k)
        level = np.sin(np.pi * k * 0.17) / k**1.15
        out += (
            level * np.exp(-t * (0.55 + 0.16 * k + f / 4200)) * np.sin(2 * np.pi * f * t + 0.3 * rng.random())
        )
    click = rng.standard_normal(len(t)) * np.exp(-t * 420) * 0.12
    return (out + click) * np.minimum(1, t * 1500) * np.minimum(1, (seconds - t) * 20)


def _shaped(sound: np.ndarray, magnitude) -> np.ndarray:
    """Without any phase, so that nothing but the way to the microphone makes it late."""
    spectrum = np.fft.rfft(sound)
    spectrum *= magnitude(np.fft.rfftfreq(len(sound), 1 / RATE))
    return np.fft.irfft(spectrum, len(sound))


def _later(sound: np.ndarray, seconds: float) -> np.ndarray:
    spectrum = np.fft.rfft(sound, 2 * len(sound))
    spectrum *= np.exp(-2j * np.pi * np.fft.rfftfreq(2 * len(sound), 1 / RATE) * seconds)
    return np.fft.irfft(spectrum)[: len(sound)]


def cable_zither() -> np.ndarray:
    """The recording, shape (2, frames), at 48 kHz."""
    rng = np.random.default_rng(SEED)
    track = np.zeros(_FRAMES)
    low: dict[float, int] = {4 * bar: _LOW[bar % 4] for bar in range(8)}
    notes = sorted((beat, low.get(beat, note), 0.8 if beat in low else 0.5) for beat, note in _TUNE)
    ends = [beat for beat, _, _ in notes[1:]] + [notes[-1][0] + 4]
    for (beat, note, loud), end in zip(notes, ends, strict=True):
        # One string at a time: the hand damps it when the next one is struck.
        start = int((0.05 + beat * _BEAT) * RATE)
        sound = _string(note, (end - beat) * _BEAT + 0.03, rng)[: _FRAMES - start]
        track[start : start + len(sound)] += loud * sound
    track /= np.abs(track).max()
    hiss = rng.standard_normal((2, _FRAMES))
    direct = _shaped(track, lambda f: 1 / (1 + (f / 3800) ** 2)) + 0.0004 * hiss[0]
    driven = np.tanh(2.2 * _shaped(track, lambda f: f / np.sqrt(f**2 + 70**2)))
    bright = _shaped(
        driven, lambda f: (1 + 2.2 * (f / 2600) ** 2) / (1 + (f / 2600) ** 2) / (1 + (f / 6500) ** 4)
    )
    amplifier = _later(bright, LATE_MS * 1e-3) + 0.0012 * _shaped(hiss[1], lambda f: 1 / (1 + (f / 900)))
    gain = 10 ** (LOUDER_DB / 20) * np.sqrt(np.mean(direct**2) / np.mean(amplifier**2))
    both = np.stack([direct, gain * amplifier])
    edge = np.ones(_FRAMES)
    edge[-RATE:] = np.linspace(1, 0, RATE) ** 2
    return both * edge * (0.7 / np.abs(both).max())


if __name__ == "__main__":
    print(write(Path(sys.argv[1]) if len(sys.argv) > 1 else demo_path().parent, NAME, cable_zither()))
