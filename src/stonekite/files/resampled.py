"""A recording read at another sample rate, from any place."""

import dataclasses
import math

import numpy as np

from stonekite.files.audio import Blocks

_BEFORE = 8192
"""So many samples before the first one that is wanted are converted, too: the filter reaches less far."""
_CHUNK = 16384


class Resampled(Blocks):
    """Another reader's sound at a rate in Hz, by soxr at its very high quality. Reads in order go on without a seam."""

    def __init__(self, reader: Blocks, rate: int) -> None:
        self._reader = reader
        source = reader.facts.rate
        common = math.gcd(source, rate)
        self._up, self._down = rate // common, source // common
        frames = max(1, reader.facts.frames * rate // source)
        self.facts = dataclasses.replace(reader.facts, rate=rate, frames=frames)
        self._rates = source, rate
        self._begin(0)

    def close(self) -> None:
        self._reader.close()

    @property
    def repaired(self) -> int:  # type: ignore[override]
        return self._reader.repaired

    def _begin(self, start: int) -> None:
        """Get ready to give samples from `start` on: from a sample that both rates share, some way before."""
        import soxr

        shared = max(0, (start - _BEFORE) // self._up)
        self._stream = soxr.ResampleStream(*self._rates, 2, dtype="float64", quality="VHQ")
        self._source, self._ended = shared * self._down, False
        self._place, self._made = shared * self._up, np.empty((2, 0))

    def read(self, start: int, frames: int) -> np.ndarray:
        start = max(0, start)
        frames = max(0, min(frames, self.facts.frames - start))
        if start < self._place or start > self._place + self._made.shape[1] + _BEFORE:
            self._begin(start)
        while self._place + self._made.shape[1] < start + frames and not self._ended:
            block = self._reader.read(self._source, _CHUNK)
            self._source += block.shape[1]
            self._ended = self._source >= self._reader.facts.frames or not block.shape[1]
            more = self._stream.resample_chunk(np.ascontiguousarray(block.T), last=self._ended).T
            self._made = np.concatenate([self._made, more], axis=1)
            self._let_go(start)
        self._let_go(start)
        out = self._made[:, :frames].copy()
        if out.shape[1] < frames:  # rounding at the end of the file
            out = np.concatenate([out, np.zeros((2, frames - out.shape[1]))], axis=1)
        return out

    def _let_go(self, start: int) -> None:
        """Forget what comes before the samples that are wanted."""
        past = min(max(0, start - self._place), self._made.shape[1])
        self._made = self._made[:, past:]
        self._place += past


def at_rate(reader: Blocks, rate: int) -> Blocks:
    """The reader itself, if it has that rate, or its sound at that rate."""
    return reader if reader.facts.rate == rate else Resampled(reader, rate)
