"""The demo recordings of *the reel*: five stems of one dance on the Night Ferry's deck: voices, accordion, dulcimer, tuba
and frame drums, each in stereo, all in time from the first beat on; the voices come in with the second part. All
synthesised here.

`python -m stonekite.demos.reel FOLDER` writes the files again, sample for sample.
"""

import sys
from pathlib import Path

import numpy as np

from stonekite.demos.demo import RATE, demo_path, write

BPM = 112.0
FIRST_BEAT_S = 0.05
BARS = 16
VOICES_FROM_BAR = 8
SEED = 1899
NAMES = ("reel voices", "reel accordion", "reel dulcimer", "reel tuba", "reel frame drums")

_BEAT = 60.0 / BPM
_SECONDS = BARS * 4 * _BEAT + 2.0
_CHORDS = ("D", "D", "G", "A", "D", "G", "A", "D", "Bm", "G", "D", "A", "Bm", "G", "A", "D")
_TONES = {"D": (50, 54, 57), "G": (43, 47, 50), "A": (45, 49, 52), "Bm": (47, 50, 54)}  # MIDI notes
_TUNE = (  # eighths of the first part's bars, MIDI notes; the second part has them an octave of the chord higher
    (74, 78, 81, 78, 74, 78, 81, 86), (83, 81, 78, 81, 83, 81, 78, 74), (79, 83, 86, 83, 79, 78, 76, 79),
    (76, 81, 85, 81, 76, 79, 78, 76), (74, 78, 81, 78, 86, 81, 78, 81), (83, 79, 76, 79, 83, 86, 85, 83),
    (81, 79, 78, 76, 85, 83, 81, 79), (78, 81, 76, 78, 74, 74, 74, 69),
)  # fmt: skip
_AIR = (  # of the voices: bars of (beats, MIDI note)
    ((3, 66), (1, 69)), ((2, 71), (2, 69)), ((3, 69), (1, 66)), ((4, 64),), ((3, 66), (1, 71)), ((2, 71), (2, 67)),
    ((2, 69), (2, 64)), ((4, 62),),
)  # fmt: skip

_SINGERS = (  # how far from the air each of them sings in semitones, where, and on which vowel
    (0, -0.5, (650.0, 1100.0, 2700.0)), (-5, 0.15, (600.0, 1000.0, 2500.0)), (-12, 0.6, (520.0, 900.0, 2400.0)),
)  # fmt: skip


def _hertz(note: float) -> float:
    return 440.0 * 2.0 ** ((note - 69) / 12)


def _frames(seconds: float) -> int:
    return int(seconds * RATE)


def _put(track: np.ndarray, beat: float, sound: np.ndarray, rng: np.random.Generator) -> None:
    """Add a sound (2, frames) at a beat, as nearly in time as players are."""
    start = _frames(FIRST_BEAT_S + beat * _BEAT + float(rng.normal(0.0, 0.004)) + 0.004)
    start = max(0, start)
    part = track[:, start : start + sound.shape[1]]
    part += sound[:, : part.shape[1]]


def _aside(sound: np.ndarray, place: float, late: float = 0.0) -> np.ndarray:
    """A mono sound at a place from −1 to 1, one side of it a little later, as a pair of microphones hears it."""
    angle = (place + 1.0) * np.pi / 4
    count = int(abs(late) * RATE)
    left, right = (
        np.pad(sound, (count if side else 0, 0 if side else count)) for side in (late < 0, late > 0)
    )
    return np.stack([np.cos(angle) * left, np.sin(angle) * right]) * np.sqrt(2.0)


def _reeds(note: float, seconds: float) -> np.ndarray:
    """Three reeds of an accordion, not quite in tune with each other."""
    t = np.arange(_frames(seconds)) / RATE
    out = np.zeros_like(t)
    for cents in (-7.0, 0.0, 8.0):
        f = _hertz(note) * 2 ** (cents / 1200)
        for k in range(1, int(min(24, 11_000 / f)) + 1):
            out += np.sin(2 * np.pi * k * f * t + 0.7 * k) * (1.0 if k % 2 else 0.6) / k**1.25
    return 0.2 * out * np.minimum(1, t * 45) * np.minimum(1, (seconds - t) * 40)


def _string(note: float, rng: np.random.Generator) -> np.ndarray:
    """A pair of wires struck by a hammer."""
    t = np.arange(_frames(1.6)) / RATE
    out = 0.06 * rng.standard_normal(len(t)) * np.exp(-t * 300)
    for cents in (-2.0, 2.5):
        f0 = _hertz(note) * 2 ** (cents / 1200)
        for k in range(1, int(min(18, 14_000 / f0)) + 1):
            f = f0 * k * np.sqrt(1 + 0.0002 * k * k)
            out += 0.16 * np.sin(2 * np.pi * f * t) * np.exp(-t * (2.2 + 0.9 * k)) / k**0.8
    return out * np.minimum(1, t * 2500)


def _tube(note: float, seconds: float) -> np.ndarray:
    """A tuba: soft at first, brighter when it has spoken."""
    t = np.arange(_frames(seconds)) / RATE
    f = _hertz(note)
    speaks = 1 - np.exp(-t * 22)
    out = sum(np.sin(2 * np.pi * k * f * t) * speaks ** (0.6 * k) / k**1.7 for k in range(1, 13))
    return 0.5 * out * np.minimum(1, (seconds - t) * 30)


def _drum(hertz: float, seconds: float, skin: float, rng: np.random.Generator) -> np.ndarray:
    """A frame drum: a membrane that falls in pitch, and the rattle of what hangs on it."""
    t = np.arange(_frames(seconds)) / RATE
    phase = 2 * np.pi * np.cumsum(hertz * (1 + 0.5 * np.exp(-t * 60))) / RATE
    membrane = np.sin(phase) * np.exp(-t * 9) + 0.4 * np.sin(1.59 * phase) * np.exp(-t * 16)
    return membrane + skin * rng.standard_normal(len(t)) * np.exp(-t * 55)


def _sung(note: float, seconds: float, formants: tuple[float, ...], rng: np.random.Generator) -> np.ndarray:
    """A voice on an open vowel."""
    t = np.arange(_frames(seconds)) / RATE
    bend = 1 + 0.008 * np.minimum(1, t / 0.5) * np.sin(
        2 * np.pi * (5.0 + 0.4 * rng.random()) * t + 6 * rng.random()
    )
    phase = 2 * np.pi * np.cumsum(_hertz(note) * bend) / RATE
    out = np.zeros_like(t)
    for k in range(1, int(min(40, 7000 / _hertz(note))) + 1):
        f = k * _hertz(note)
        level = sum(1 / (1 + ((f - at) / 110) ** 2) / (n + 1) for n, at in enumerate(formants)) + 0.015
        out += level * np.sin(k * phase) / k**0.4
    return 0.3 * out * np.minimum(1, t * 14) * np.minimum(1, (seconds - t) * 9)


def _level(track: np.ndarray, peak_db: float) -> np.ndarray:
    return track * 10 ** (peak_db / 20) / np.abs(track).max()


def reel() -> dict[str, np.ndarray]:
    """The stems, each (2, frames) at 48 kHz, by their names. The voices begin with their own first bar."""
    rng = np.random.default_rng(SEED)
    size = _frames(_SECONDS)
    accordion, dulcimer, tuba, drums = (np.zeros((2, size)) for _ in range(4))
    voices = np.zeros((2, _frames((BARS - VOICES_FROM_BAR) * 4 * _BEAT + 2.0)))
    for bar, chord in enumerate(_CHORDS):
        tones = _TONES[chord]
        for count in range(4):
            at = 4 * bar + count
            if count % 2:  # off the beat the accordion's chords, on it the tuba's notes
                for n, tone in enumerate(tones):
                    _put(accordion, at, _aside(_reeds(tone + 12, 0.36), -0.35 + 0.2 * n, 0.0002), rng)
            else:
                note = tones[0] - 12 if count == 0 else tones[2] - 12
                _put(tuba, at, _aside(_tube(note, 0.42), 0.05), rng)
                _put(drums, at, _aside(_drum(82.0, 0.5, 0.1, rng), -0.1), rng)
            for half in (0.0, 0.5):
                loud = 0.5 if half else 0.8
                _put(drums, at + half, _aside(loud * 0.45 * _drum(210.0, 0.2, 0.5, rng), 0.45), rng)
        for eighth, note in enumerate(_TUNE[bar % 8]):
            high = note if bar < 8 else note - 12
            _put(dulcimer, 4 * bar + eighth / 2, _aside(_string(high, rng), (high - 76) / 14, 0.0003), rng)
        if bar >= 4:
            melody = _TUNE[bar % 8][::2]
            for k, note in enumerate(melody):
                _put(accordion, 4 * bar + k, _aside(0.8 * _reeds(note, 0.5), 0.25, -0.0002), rng)
    for bar, notes in enumerate(_AIR):
        beat = float(4 * bar)
        for beats, note in notes:
            seconds = beats * _BEAT * 0.96
            for shift, place, formants in _SINGERS:
                sung = _sung(note + shift, seconds, formants, rng)
                _put(voices, beat, _aside(sung, place, 0.0004 * place), rng)
            beat += beats
    made = dict(zip(NAMES, (voices, accordion, dulcimer, tuba, drums), strict=True))
    peaks = dict(zip(NAMES, (-7.0, -8.0, -7.0, -6.0, -5.0), strict=True))
    hiss = {name: 0.00012 * rng.standard_normal(track.shape) for name, track in made.items()}
    return {name: _level(track, peaks[name]) + hiss[name] for name, track in made.items()}


def main() -> None:
    """Write the stems to a folder."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else demo_path().parent
    for name, track in reel().items():
        print(write(folder, name, track))


if __name__ == "__main__":
    main()
