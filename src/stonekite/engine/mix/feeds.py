"""The recordings of all stems, read side by side on one timeline."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from stonekite.files.audio import Blocks, Facts

NAME = "timeline"


class Feeds(Blocks):
    """Readers of one rate, each with the frame of the timeline at which it begins, the frame of the recording with which
    it does, and for how many frames it goes on: two rows of each, one after the other (2 readers, frames). Where a
    recording is not, it is silent."""

    def __init__(
        self, readers: Sequence[Blocks], parts: Sequence[tuple[int, int, int]], rate: int, frames: int
    ) -> None:
        self._readers, self._parts = readers, parts
        self.rows = 2 * len(readers)
        self.facts = Facts(Path(NAME), rate, frames, channels=self.rows, subtype="TIMELINE", depth=None)

    @property
    def repaired(self) -> int:  # type: ignore[override]
        return sum(reader.repaired for reader in self._readers)

    def close(self) -> None:
        for reader in self._readers:
            reader.close()

    def read(self, start: int, frames: int) -> np.ndarray:
        """Frames from `start` on, shape (2 readers, n), n < frames at the end of the timeline."""
        start = max(0, start)
        frames = max(0, min(frames, self.facts.frames - start))
        out = np.zeros((self.rows, frames))
        for k, (reader, (begins, first, count)) in enumerate(zip(self._readers, self._parts, strict=True)):
            skip = max(0, begins - start)
            place = start + skip - begins
            if skip < frames and place < count:
                block = reader.read(first + place, min(frames - skip, count - place))
                out[2 * k : 2 * k + 2, skip : skip + block.shape[1]] = block
        return out
