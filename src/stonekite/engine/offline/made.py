"""What goes into the strip of a bus, or of the mix, read like a recording."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from stonekite.engine.mix.feeds import Feeds
from stonekite.engine.mix.layout import made_for
from stonekite.engine.mix.mixer import Mixer
from stonekite.engine.mix.strip import WARM_BLOCK
from stonekite.engine.offline.relay import most_threads
from stonekite.files.audio import Blocks, Facts
from stonekite.files.resampled import at_rate
from stonekite.session.mix import places
from stonekite.session.types import Made, Sound, Source

Opened = Callable[[Source, int], Blocks]
"""Who opens a recording, reading so many frames ahead."""

FEW_STRIPS = 3
"""More of them are worked on by several threads."""


def feeds(sound: Sound, opened: Opened, ahead: int = 0) -> Blocks:
    """The recordings of all stems of a sound, on its timeline. What is read ahead of them is not read ahead of all in the
    same block. Raises AudioError."""
    rate, frames = places.timeline(sound)
    if places.is_one(sound):
        return opened(sound.stems[0].source, ahead)
    readers: list[Blocks] = []
    try:
        for k, stem in enumerate(sound.stems):
            spread = ahead and ahead // 2 + ahead * (k + 1) // (2 * len(sound.stems))
            readers.append(at_rate(opened(stem.source, spread), rate))
    except BaseException:
        for reader in readers:
            reader.close()
        raise
    return Feeds(readers, [places.part_of(stem, rate) for stem in sound.stems], rate, frames)


class MadeReader(Blocks):
    """The sum of what goes into one strip, without what is late in it. It rings on for `tail` frames after the end of the
    timeline, which can be read, too."""

    def __init__(self, made: Made, source: Source, opened: Opened, ahead: int = 0) -> None:
        self._feeds = feeds(made.sound, opened, ahead)
        rate = self._feeds.facts.rate
        layout = made_for(made)
        self.keys = made.keys
        several = len(layout.strips) > FEW_STRIPS
        self._crew = ThreadPoolExecutor(most_threads(), thread_name_prefix="strips") if several else None
        self._mixer = Mixer(layout, rate, crew=self._crew)
        self._mixer.hear(made.of)
        self._mixer.begin()
        self.tail = self._mixer.tail
        self.facts = Facts(
            Path(source.path), rate, max(source.frames, self._feeds.facts.frames), 2, "MADE", depth=None
        )
        self._place: int | None = None
        self._clock = 0

    @property
    def repaired(self) -> int:  # type: ignore[override]
        return self._feeds.repaired

    def close(self) -> None:
        if self._crew is not None:
            self._crew.shutdown()
        self._feeds.close()

    def read(self, start: int, frames: int) -> np.ndarray:
        start = max(0, start)
        frames = max(0, min(frames, self.facts.frames + self.tail - start))
        if not frames:
            return np.empty((2, 0))
        if start != self._place:
            self._begin(start)
        self._place = start + frames
        return self._next(frames)

    def _begin(self, start: int) -> None:
        """Hear what comes before a frame, as far back as it is remembered, and what is late."""
        self._mixer.begin()
        late = self._mixer.heard_late
        self._clock = max(0, start - self._mixer.lead)
        while self._clock < start + late:
            self._next(min(WARM_BLOCK, start + late - self._clock))

    def _next(self, frames: int) -> np.ndarray:
        block = self._feeds.read(self._clock, frames)
        if block.shape[1] < frames:
            block = np.pad(block, ((0, 0), (0, frames - block.shape[1])))
        self._mixer.process(block, self._clock)
        self._clock += frames
        heard = self._mixer.heard_input
        self.beside = heard[2:].copy()
        return heard[:2].copy()
