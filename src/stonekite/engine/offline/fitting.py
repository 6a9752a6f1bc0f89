"""A recording fitted to another tempo: as long as that asks for, at the same pitch, both sides as one."""

from collections.abc import Generator
from itertools import count as count_from
from pathlib import Path

from stonekite.engine.offline.render import open_source
from stonekite.engine.offline.slowing import slowed
from stonekite.files.audio import AudioError, Writer
from stonekite.session.types import Source
from stonekite.words import said

SLOWEST, QUICKEST = 0.25, 2.0
LONGEST_S = 1800.0
"""A longer recording is not fitted: all of it is held at once."""


def fit(source: Source, speed: float, path: Path) -> Generator[float, None, int]:
    """Write a recording, read at so many times its speed, to a file of 32-bit floats; yields progress 0 to 1 and gives
    the frames that were written. Raises AudioError."""
    if not SLOWEST <= speed <= QUICKEST:
        raise AudioError(
            said(
                "A recording is fitted to between a quarter and twice its tempo, not to {speed:.2f} times."
            ).format(speed=speed)
        )
    if source.frames > LONGEST_S * source.rate:
        raise AudioError(said("A recording of more than half an hour cannot be fitted."))
    yield 0.02
    with open_source(source) as reader:
        sound = reader.read(0, source.frames)
    yield 0.1
    made = slowed(sound, source.rate, speed)
    yield 0.9
    with Writer(path, source.rate, bits="32f", frames=made.shape[1]) as file:
        file.write(made)
    yield 1.0
    return made.shape[1]


def free_beside(path: Path, words: str) -> Path:
    """A name for a file beside another one that nothing has yet."""
    name = f"{path.stem} {words}"
    names = (name if count == 1 else f"{name} {count}" for count in count_from(1))
    return next(there for one in names if not (there := path.with_name(f"{one}.wav")).exists())
