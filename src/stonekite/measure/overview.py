"""Waveform overviews: least and greatest sample of each component in short stretches of a file."""

from collections.abc import Iterator
from time import perf_counter

import numpy as np

from stonekite.files.audio import AudioError, Blocks
from stonekite.signal.matrix import COMPONENTS, component

SKETCH_S = 0.02
"""So long the window stops for a first picture, at the most."""
STRETCH = 128
"""Frames in one stretch of a full overview."""


class Overview:
    """Collects stretches from consecutive blocks (2, frames)."""

    def __init__(self) -> None:
        self._rest = np.empty((2, 0))
        self._parts: list[np.ndarray] = []

    def add(self, block: np.ndarray) -> None:
        joined = np.concatenate([self._rest, block], axis=1) if self._rest.shape[1] else block
        whole = joined.shape[1] // STRETCH * STRETCH
        self._rest = joined[:, whole:].copy()
        if whole:
            self._parts.append(extremes(joined[:, :whole], STRETCH))

    def table(self) -> np.ndarray:
        """Shape (4 components, 2, stretches), float32: rows least and greatest, in the order of COMPONENTS."""
        parts = list(self._parts)
        if self._rest.shape[1]:
            parts.append(extremes(self._rest, self._rest.shape[1]))
        return np.concatenate(parts, axis=2) if parts else np.zeros((4, 2, 0), dtype=np.float32)


def extremes(block: np.ndarray, stretch: int) -> np.ndarray:
    """Least and greatest sample of each component in stretches of block (2, n * stretch): (4, 2, n)."""
    out = np.empty((4, 2, block.shape[1] // stretch), dtype=np.float32)
    for row, name in enumerate(COMPONENTS):
        shaped = component(block, name).reshape(-1, stretch)
        out[row, 0] = shaped.min(axis=1)
        out[row, 1] = shaped.max(axis=1)
    return out


def sketch(reader: Blocks, columns: int = 600, look: int = 256, within_s: float = SKETCH_S) -> np.ndarray:
    """A first picture of a long file at once: each column looks at `look` frames only. Where that takes too long, as to
    find places in compressed files does, columns that were not looked at are like the one before. (4, 2, columns)."""
    frames = reader.facts.frames
    out = np.zeros((4, 2, columns), dtype=np.float32)
    seen = np.zeros(columns, dtype=bool)
    ends = perf_counter() + within_s
    for column in _coarse_to_fine(columns):
        start = frames * column // columns
        try:
            block = reader.read(start, max(1, min(look, frames * (column + 1) // columns - start)))
        except AudioError:
            break
        if block.shape[1]:
            out[:, :, column : column + 1] = extremes(block, block.shape[1])
        seen[column] = True
        if perf_counter() > ends:
            break
    last = np.maximum.accumulate(np.where(seen, np.arange(columns), 0))
    return out[:, :, last]


def _coarse_to_fine(count: int) -> Iterator[int]:
    """All places, first those far apart, then those between them."""
    step = 1 << (count - 1).bit_length()
    yield 0
    while step > 1:
        yield from range(step // 2, count, step)
        step //= 2


def coarser(table: np.ndarray, factor: int) -> np.ndarray:
    """The same overview with `factor` stretches in one."""
    count = table.shape[2] // factor * factor
    parts = [table[:, :, :count].reshape(4, 2, -1, factor)] if count else []
    if count < table.shape[2]:
        parts.append(table[:, :, count:][:, :, None, :])
    low = [p[:, 0].min(axis=-1) for p in parts]
    high = [p[:, 1].max(axis=-1) for p in parts]
    return np.stack([np.concatenate(low, axis=1), np.concatenate(high, axis=1)], axis=1)
