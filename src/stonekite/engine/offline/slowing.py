"""A range slowed down at the same pitch, or transposed: to find out what is played."""

from collections.abc import Generator
from pathlib import Path
from typing import NamedTuple

import numpy as np

from stonekite.engine.offline.render import open_source, rendered
from stonekite.files.audio import AudioError, Writer
from stonekite.session.types import Stem
from stonekite.words import said

SLOWEST, FASTEST = 0.25, 1.0
MOST_SEMITONES = 12
_STEP, _LEAST_STEP = 0.5, 0.4
FIRST_S = 1.4, 6.0
"""So much of what is slowed down is made first, so that it is heard while the rest is made: each takes less time to make
than the one before lasts."""
_BEYOND_S = 0.25
"""So far beyond it a phase vocoder looks."""
_BLOCK = 8192
LONGEST_S = 60.0
"""A longer range is slowed up to here."""


class Beginning(NamedTuple):
    """A file with so many frames of what is made."""

    path: Path
    frames: int


def slowed(sound: np.ndarray, rate: float, speed: float, semitones: float = 0.0) -> np.ndarray:
    """A sound (2, frames) at a rate in Hz, at a part of its speed and so many semitones higher: (2, frames / speed).

    All of it is given at once to a phase vocoder, which treats both sides as one: what is between them stays as it is.
    It only slows down, in steps that keep low tones in tune and strokes short; another pitch comes from reading what it
    gives faster or slower.
    """
    if np.array_equal(sound[0], sound[1]):  # what is the same on both sides stays so, to the bit
        return np.repeat(_slowed(sound[:1], rate, speed, semitones), 2, axis=0)
    for row in (0, 1):
        if not sound[row].any():
            made = np.zeros((2, round(sound.shape[1] / speed)))
            made[1 - row] = _slowed(sound[1 - row][None], rate, speed, semitones)
            return made
    return _slowed(sound, rate, speed, semitones)


def _slowed(sound: np.ndarray, rate: float, speed: float, semitones: float) -> np.ndarray:
    """Of one side, or of two that have each something of their own."""
    ratio = 2.0 ** (semitones / 12.0)
    left = speed / ratio
    made = sound
    while left < _LEAST_STEP:
        made, left = _stretched(made, rate, _STEP), left / _STEP
    if left != 1.0:
        made = _stretched(made, rate, left)
    if ratio != 1.0:
        import soxr

        made = soxr.resample(np.ascontiguousarray(made.T), ratio * rate, rate, quality="VHQ").T
    wanted = round(sound.shape[1] / speed)
    return np.pad(made, ((0, 0), (0, max(0, wanted - made.shape[1]))))[:, :wanted].copy()


def _stretched(sound: np.ndarray, rate: float, speed: float) -> np.ndarray:
    from python_stretch import Signalsmith

    stretch = Signalsmith.Stretch()
    stretch.preset(sound.shape[0], float(rate))
    stretch.setTimeFactor(float(speed))
    return np.asarray(stretch.process(np.ascontiguousarray(sound, dtype=np.float32)), dtype=float)


def slow_range(
    stem: Stem, span: tuple[int, int], speed: float, semitones: float, path: Path
) -> Generator[float | Beginning, None, int]:
    """Write a range of frames of a stem's result to a file, slowed down; yields progress 0 to 1 and gives the frames that
    were written. As much of the beginning as is heard while the rest is made is written first, and told. Raises
    AudioError."""
    rate = stem.source.rate
    start, stop = span[0], min(span[1], span[0] + int(LONGEST_S * rate), stem.source.frames)
    if start >= stop:
        raise AudioError(said("There is nothing of the recording in this range."))
    parts, done = [], 0
    early = [int(seconds * speed * rate) for seconds in FIRST_S]
    beyond = int(_BEYOND_S * rate)
    with open_source(stem.source) as reader:
        for _, processed in rendered(reader, stem.strip, span=(start, stop), block=_BLOCK):
            parts.append(processed.copy())
            done += processed.shape[1]
            while early and early[0] + beyond <= done < stop - start:
                frames = round(early.pop(0) / speed)
                made = slowed(np.concatenate(parts, axis=1), rate, speed, semitones)[:, :frames]
                place = path.with_stem(f"{path.stem}-{len(early)}")
                _write(place, made, rate)
                yield Beginning(place, frames)
            yield 0.7 * done / (stop - start)
    made = slowed(np.concatenate(parts, axis=1), rate, speed, semitones)
    _write(path, made, rate)
    yield 1.0
    return made.shape[1]


def _write(path: Path, sound: np.ndarray, rate: int) -> None:
    with Writer(path, rate, bits="32f", force=True, frames=sound.shape[1]) as file:
        file.write(sound)
