"""Going over from one sound to another without a click."""

from collections.abc import Callable

import numpy as np


def ramp(frames: int, start: int, length: int) -> np.ndarray:
    """Part of a raised-cosine rise from 0 to 1 over `length` samples: `frames` of it from `start` on."""
    return 0.5 - 0.5 * np.cos(np.pi * (np.arange(start, start + frames) + 1) / length)


Way = Callable[[np.ndarray, int], np.ndarray]
"""Processes a block (2, frames), of what begins at a clock."""


class Fade:
    """Goes over from one way of processing a block (2, frames) to another one within `length` frames."""

    def __init__(self, length: int) -> None:
        self._length = length
        self._done = 0

    def process(self, block: np.ndarray, clock: int, old: Way, new: Way) -> np.ndarray:
        """What comes out: both ways hear the block as long as it takes. May give back and change the block itself."""
        count = min(block.shape[1], self._length - self._done)
        if count <= 0:
            return new(block, clock)
        before = old(block[:, :count].copy(), clock)
        rise = ramp(count, self._done, self._length)
        self._done += count
        first = new(block[:, :count].copy(), clock)
        first = before + rise * (first - before)
        if count == block.shape[1]:
            return first
        return np.concatenate([first, new(block[:, count:].copy(), clock + count)], axis=1)

    @property
    def over(self) -> bool:
        """Whether it has gone over."""
        return self._done >= self._length

    def between(self, old: np.ndarray, new: np.ndarray) -> np.ndarray:
        """As `process`, from blocks (2, frames) that both ways have given already."""
        count = min(new.shape[1], max(0, self._length - self._done))
        rise = np.ones(new.shape[1])
        rise[:count] = ramp(count, self._done, self._length)
        self._done += count
        return old + rise * (new - old)
