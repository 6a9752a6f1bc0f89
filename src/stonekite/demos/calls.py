"""The demo recordings *whistle calls*, at 96 and at 132 beats a minute: calls of a low whistle over frame drums; and
*lantern loop*: a plucked phrase by the light of the wheelhouse. All synthesised here.

`python -m stonekite.demos.calls FOLDER` writes the files again, sample for sample.
"""

import sys
from pathlib import Path

import numpy as np

from stonekite.demos.demo import RATE, demo_path, write

CALLS = {96: "whistle calls 96", 132: "whistle calls 132"}
LANTERN = "lantern loop"
LANTERN_BPM = 76
FIRST_BEAT_S = 0.05
BARS = 8
_CALLS = ((0, 1.5, 74, 77), (8, 0.8, 81, 79), (16, 1.2, 77, 74), (24, 0.6, 69, 74), (28, 0.6, 76, 77))
"""(beat, beats, from note, to note)."""
_DRUM = ("X..x..x.X...x.x.", "....x.....x.x...")
_PHRASE = ((0, 62), (0.75, 69), (1.5, 74), (2, 72), (2.75, 69), (3.5, 65))


def _hertz(note: float) -> float:
    return 440.0 * 2.0 ** ((note - 69) / 12)


def _skin(hz: float, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A frame drum: a skin that falls a little, two of its modes above, and the finger."""
    t = np.arange(int(RATE * seconds)) / RATE
    phase = 2 * np.pi * np.cumsum(hz * (1 + 0.25 * np.exp(-t * 38))) / RATE
    out = np.sin(phase) * np.exp(-t * 9)
    out += 0.35 * np.sin(1.59 * phase) * np.exp(-t * 16) + 0.2 * np.sin(2.14 * phase) * np.exp(-t * 22)
    return (out + 0.25 * rng.standard_normal(len(t)) * np.exp(-t * 130)) * np.minimum(1, t * 2500)


def _call(low: float, high: float, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A low whistle that slides from one note to another."""
    t = np.arange(int(RATE * (seconds + 0.1))) / RATE
    share = np.clip((t / seconds - 0.35) / 0.15, 0, 1)
    hz = _hertz(low) * (_hertz(high) / _hertz(low)) ** (share * share * (3 - 2 * share))
    phase = 2 * np.pi * np.cumsum(hz * (1 + 0.005 * np.sin(2 * np.pi * 5.2 * t))) / RATE
    tone = np.sin(phase) + 0.3 * np.sin(2 * phase + 0.3) + 0.12 * np.sin(3 * phase)
    breath = rng.standard_normal(len(t))
    breath = 0.06 * np.convolve(breath, [1.0, 0.0, -1.0], mode="same")
    return (tone + breath) * np.minimum(1, t / 0.04) * np.minimum(1, np.maximum(0, seconds + 0.08 - t) / 0.08)


def _string(note: float, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A plucked string by its partials."""
    t = np.arange(int(RATE * seconds)) / RATE
    out = np.zeros_like(t)
    for k in range(1, int(min(24, 11_000 / _hertz(note))) + 1):
        level = np.sin(np.pi * k * 0.21) / k**1.2
        out += level * np.exp(-t * (1.3 + 0.4 * k)) * np.sin(2 * np.pi * _hertz(note) * k * t + rng.random())
    return out * np.minimum(1, t * 1200)


def _put(track: np.ndarray, sound: np.ndarray, at_s: float, left: float, right: float) -> None:
    start = int(at_s * RATE)
    count = min(len(sound), track.shape[1] - start)
    track[0, start : start + count] += left * sound[:count]
    track[1, start : start + count] += right * sound[:count]


def whistle_calls(bpm: float) -> np.ndarray:
    """Calls over drums at so many beats a minute, shape (2, frames), at 48 kHz."""
    rng = np.random.default_rng(int(bpm))
    beat = 60.0 / bpm
    track = 0.0006 * rng.standard_normal((2, int(RATE * (4 * BARS * beat + 1.0))))
    for bar in range(BARS):
        for row, (hz, left, right) in zip(_DRUM, ((82.0, 0.5, 0.42), (150.0, 0.16, 0.26)), strict=True):
            for k, mark in enumerate(row):
                if mark != ".":
                    at = FIRST_BEAT_S + (4 * bar + k / 4) * beat + 0.003 * rng.standard_normal() * (k > 0)
                    loud = 1.0 if mark == "X" else 0.6
                    _put(track, loud * _skin(hz, 0.5, rng), max(0.0, at), left, right)
    for start, beats, low, high in _CALLS:
        _put(track, 0.22 * _call(low, high, beats * beat, rng), FIRST_BEAT_S + start * beat, 1.0, 1.0)
    return _ended(track)


def lantern_loop() -> np.ndarray:
    """A phrase twice, with time after it, shape (2, frames), at 48 kHz."""
    rng = np.random.default_rng(LANTERN_BPM)
    beat = 60.0 / LANTERN_BPM
    track = 0.0004 * rng.standard_normal((2, int(RATE * 16 * beat)))
    for start in (0, 8):
        for k, (at, note) in enumerate(_PHRASE):
            left, right = (1.0, 0.6) if k % 2 else (0.7, 0.9)
            _put(track, 0.3 * _string(note, 1.6, rng), FIRST_BEAT_S + (start + at) * beat, left, right)
    return _ended(track)


def _ended(track: np.ndarray) -> np.ndarray:
    edge = np.ones(track.shape[1])
    edge[-RATE // 4 :] = np.linspace(1, 0, RATE // 4) ** 2
    return track * edge * (0.5 / np.abs(track).max())


if __name__ == "__main__":
    where = Path(sys.argv[1]) if len(sys.argv) > 1 else demo_path().parent
    for tempo, name in CALLS.items():
        print(write(where, name, whistle_calls(tempo)))
    print(write(where, LANTERN, lantern_loop()))
