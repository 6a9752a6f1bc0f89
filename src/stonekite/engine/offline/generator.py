"""The test generator, read like a recording."""

from pathlib import Path

import numpy as np

from stonekite.files.audio import Blocks, Facts
from stonekite.session.types import Generator, Source
from stonekite.signal import generators
from stonekite.signal.decibels import gain_of

NAME = "test generator"
RATE = 48_000
SECONDS = 60


def generator_source(generator: Generator | None = None) -> Source:
    """A source that is a test generator."""
    return Source(path=NAME, rate=RATE, frames=RATE * SECONDS, generator=generator or Generator())


class GeneratorReader(Blocks):
    """A test signal of a rate in Hz and a length in frames."""

    def __init__(self, generator: Generator, rate: int, frames: int) -> None:
        self._generator = generator
        self.facts = Facts(Path(NAME), rate, frames, channels=2, subtype="GENERATED", depth=None)

    def read(self, start: int, frames: int) -> np.ndarray:
        start = max(0, start)
        frames = max(0, min(frames, self.facts.frames - start))
        g, rate = self._generator, self.facts.rate
        if g.signal == "twin-tones":
            # A tone above half the rate would come back as another one.
            right_hz = min(g.tone_hz * 2 ** (g.interval / 12), 0.499 * rate)
            made = generators.twin_tones(start, frames, rate, min(g.tone_hz, 0.499 * rate), right_hz)
        elif g.signal == "sweep":
            made = generators.sweep(start, frames, rate, g.low_hz, min(g.high_hz, 0.499 * rate), g.seconds)
        elif g.signal == "pink-noise":
            made = generators.pink_noise(start, frames, rate, g.correlation)
        else:
            made = generators.impulses(start, frames, rate, g.seconds)
        return made * gain_of(g.level_db)
