"""The demo recording *landing stage*: a harp left of centre and a low whistle in the centre, recorded by
a stereo pair at the landing stage of the Night Ferry, with waves and gulls around. All synthesised here.

`python -m stonekite.demos.demo FOLDER` writes the file again, sample for sample.
"""

import sys
from pathlib import Path

import numpy as np

from stonekite.files.audio import Writer

NAME = "landing stage"
RATE = 48_000
SECONDS = 32.0
SEED = 1877

_FRAMES = int(RATE * SECONDS)
_D_DORIAN = [50, 57, 62, 65, 69, 72, 74, 77, 81, 79, 76]  # MIDI notes the harp walks through
_TUNE = [  # (beat, beats, MIDI note) of the whistle, at 66 beats a minute
    (4, 1.5, 74), (5.5, 0.5, 76), (6, 1, 77), (7, 1, 76), (8, 2, 74), (10, 1, 72), (11, 1, 69),
    (12, 3, 74), (16, 1.5, 77), (17.5, 0.5, 79), (18, 1, 81), (19, 1, 79), (20, 2, 77), (22, 1, 76),
    (23, 1, 72), (24, 4, 74), (29, 1, 69), (30, 1, 72), (31, 2.5, 74),
]  # fmt: skip
_BEAT = 60.0 / 66.0


def demo_path(name: str = NAME) -> Path:
    """Where a shipped recording is."""
    return Path(__file__).with_name("demo_set") / f"{name}.flac"


def _hertz(note: float) -> float:
    return 440.0 * 2.0 ** ((note - 69) / 12)


def _pluck(note: float, loud: float, rng: np.random.Generator) -> np.ndarray:
    """A harp string: stiff partials that die away the faster the higher they are."""
    f0 = _hertz(note)
    t = np.arange(int(RATE * 3.2)) / RATE
    out = np.zeros_like(t)
    place = 0.29 + 0.06 * rng.random()
    for k in range(1, int(min(26, 15_000 / f0)) + 1):
        f = f0 * k * np.sqrt(1 + 0.00012 * k * k)
        level = np.sin(np.pi * k * place) / k**1.35
        out += level * np.exp(-t * (0.9 + 0.32 * k + f / 2600)) * np.sin(2 * np.pi * f * t + rng.random())
    finger = rng.standard_normal(len(t)) * np.exp(-t * 220) * 0.08
    return loud * (out + finger) * np.minimum(1, t * 900)


def _blow(note: float, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A low whistle: few harmonics, a slow vibrato that grows, and breath."""
    t = np.arange(int(RATE * (seconds + 0.12))) / RATE
    vibrato = 1 + 0.006 * np.minimum(1, t / 0.7) * np.sin(2 * np.pi * 4.8 * t)
    scoop = 1 - 0.03 * np.exp(-t * 28)
    phase = 2 * np.pi * np.cumsum(_hertz(note) * vibrato * scoop) / RATE
    tone = (
        np.sin(phase) + 0.28 * np.sin(2 * phase + 0.4) + 0.11 * np.sin(3 * phase) + 0.03 * np.sin(4 * phase)
    )
    breath = _shaped(rng.standard_normal(len(t)), lambda f: 1 / (1 + ((f - 2600) / 1500) ** 2)) * 0.25
    rise = np.minimum(1, t / 0.07) * np.minimum(1, np.maximum(0, (seconds + 0.1 - t) / 0.1))
    swell = 0.7 + 0.3 * np.sin(np.pi * np.minimum(1, t / seconds))
    return (tone * swell + breath) * rise


def _shaped(noise: np.ndarray, magnitude) -> np.ndarray:
    spectrum = np.fft.rfft(noise)
    spectrum *= magnitude(np.fft.rfftfreq(len(noise), 1 / RATE))
    return np.fft.irfft(spectrum, len(noise))


def _add(track: np.ndarray, sound: np.ndarray, at_s: float, left: float, right: float, late: int = 0) -> None:
    """Mix a mono sound into a stereo track; right comes `late` samples after left."""
    for row, gain, shift in ((0, left, 0), (1, right, late)):
        start = int(at_s * RATE) + shift
        count = min(len(sound), track.shape[1] - start)
        if count > 0:
            track[row, start : start + count] += gain * sound[:count]


def _waves(rng: np.random.Generator) -> np.ndarray:
    """Surf, nearly independent on both sides: low rumble and hiss that swell slowly."""
    t = np.arange(_FRAMES) / RATE
    out = np.zeros((2, _FRAMES))
    for row in range(2):
        swell = (
            0.45 + 0.3 * np.sin(2 * np.pi * t / (7.3 + row) + 1.7 * row) + 0.2 * np.sin(2 * np.pi * t / 4.1)
        )
        low = _shaped(rng.standard_normal(_FRAMES), lambda f: 1 / (1 + (f / 130) ** 1.6) * (f > 18))
        hiss = _shaped(rng.standard_normal(_FRAMES), lambda f: (f / 700) / (1 + (f / 1400) ** 2))
        out[row] = 0.11 * low * (0.7 + 0.3 * swell) + 0.07 * hiss * np.maximum(0.05, swell) ** 2
    return out


def _gull(rng: np.random.Generator) -> np.ndarray:
    """A few calls that fall in pitch."""
    parts = []
    for _ in range(rng.integers(2, 5)):
        t = np.arange(int(RATE * (0.22 + 0.16 * rng.random()))) / RATE
        f = (1150 + 250 * rng.random()) * (1 + 0.45 * np.sin(np.pi * np.minimum(1, t / t[-1]) ** 0.7))
        phase = 2 * np.pi * np.cumsum(f) / RATE
        call = np.sin(phase) + 0.5 * np.sin(2 * phase) + 0.35 * np.sin(3 * phase)
        parts += [
            call * np.abs(np.sin(np.pi * t / t[-1])) ** 0.8,
            np.zeros(int(RATE * (0.06 + 0.1 * rng.random()))),
        ]
    return np.concatenate(parts)


def landing_stage() -> np.ndarray:
    """The recording, shape (2, frames), at 48 kHz."""
    rng = np.random.default_rng(SEED)
    track = _waves(rng)
    beat = 0.0
    while beat < 33:
        chord = int(beat // 4) % 4
        walk = _D_DORIAN if chord in (0, 2) else [n - 2 for n in _D_DORIAN] if chord == 1 else _D_DORIAN[1:]
        step = int(beat * 2)
        note = walk[(step * 3 + chord) % len(walk)] if step % 8 else walk[0] - 12 * (chord == 3)
        loud = 0.14 * (1.25 if step % 8 == 0 else 0.75 + 0.3 * rng.random())
        # A spaced pair: the harp is nearer to the left microphone, 0.35 ms earlier and louder there.
        _add(
            track, _pluck(note, loud, rng), beat * _BEAT + 0.004 * rng.standard_normal() + 0.02, 1.0, 0.42, 17
        )
        beat += 0.5
    for start, beats, note in _TUNE:
        _add(track, 0.062 * _blow(note, beats * _BEAT * 0.94, rng), start * _BEAT, 1.0, 1.0)
    for at_s, left, right in (
        (2.1, 0.05, 0.012),
        (9.4, 0.008, 0.05),
        (13.0, 0.04, -0.03),
        (21.6, 0.012, 0.045),
        (27.2, 0.045, 0.01),
    ):
        _add(track, _gull(rng), at_s, left, right, 90)
    for delay, gain, cross in ((0.031, 0.16, 0.5), (0.047, 0.13, 0.9), (0.083, 0.1, 0.7), (0.127, 0.06, 1.0)):
        shift = int(delay * RATE)
        early = track[:, : _FRAMES - shift].copy()
        track[:, shift:] += gain * ((1 - cross) * early + cross * early[::-1])
    edge = np.ones(_FRAMES)
    edge[: RATE // 4] = np.linspace(0, 1, RATE // 4) ** 2
    edge[-RATE:] = np.linspace(1, 0, RATE) ** 2
    return track * edge * (0.56 / np.abs(track).max())


def write(folder: Path, name: str, sound: np.ndarray) -> Path:
    """Write a recording (2, frames) as 16-bit FLAC into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{name}.flac"
    with Writer(path, RATE, bits="16", dither=True, force=True, frames=sound.shape[1]) as file:
        file.write(sound)
    return path


if __name__ == "__main__":
    print(write(Path(sys.argv[1]) if len(sys.argv) > 1 else demo_path().parent, NAME, landing_stage()))
