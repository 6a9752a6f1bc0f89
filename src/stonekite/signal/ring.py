"""The last samples of a signal."""

from itertools import count

import numpy as np

_COUNT = count()
_STEPS = 16


class Ring:
    """Keeps the last `size` frames of what is added, in some more than twice the space, so that adding rarely moves much;
    of several rings not all move at once."""

    def __init__(self, rows: int, size: int) -> None:
        self.size = size
        self._buffer = np.zeros((rows, 2 * size + next(_COUNT) % _STEPS * (size // (2 * _STEPS))))
        self._end = size

    def add(self, block: np.ndarray) -> None:
        """Add a block (rows, frames)."""
        count = min(self.size, block.shape[1])
        if self._end + count > self._buffer.shape[1]:
            self._buffer[:, : self.size] = self.last
            self._end = self.size
        self._buffer[:, self._end : self._end + count] = block[:, block.shape[1] - count :]
        self._end += count

    @property
    def rows(self) -> int:
        return self._buffer.shape[0]

    def grown(self, rows: int, size: int) -> "Ring":
        """One with at least as much room, that knows the same; what was not known is silent."""
        larger = Ring(max(rows, self.rows), max(size, self.size))
        if self.size:
            larger.add(np.pad(self.last, ((0, larger.rows - self.rows), (0, 0))))
        return larger

    def clear(self) -> None:
        """Forget everything."""
        self._buffer[:] = 0.0

    @property
    def last(self) -> np.ndarray:
        """The last frames, oldest first: a view (rows, size), zeros where nothing was added yet."""
        return self._buffer[:, self._end - self.size : self._end]


class History:
    """Keeps the last `size` frames of what is added in no more space than that: for long ones, seldom asked for."""

    def __init__(self, rows: int, size: int) -> None:
        self.size = size
        self._buffer = np.zeros((rows, size))
        self._end = 0

    @property
    def rows(self) -> int:
        return self._buffer.shape[0]

    def add(self, block: np.ndarray) -> None:
        """Add a block (rows, frames)."""
        block = block[:, max(0, block.shape[1] - self.size) :]
        first = min(block.shape[1], self.size - self._end)
        self._buffer[:, self._end : self._end + first] = block[:, :first]
        self._buffer[:, : block.shape[1] - first] = block[:, first:]
        self._end = (self._end + block.shape[1]) % self.size if self.size else 0

    def last(self, frames: int) -> np.ndarray:
        """The last frames (rows, n), oldest first, as many of those asked for as there is room for: a copy, zeros where
        nothing was added yet."""
        count = min(frames, self.size)
        newest = min(count, self._end)
        older = self._buffer[:, self.size - (count - newest) :]
        return np.concatenate([older, self._buffer[:, self._end - newest : self._end]], axis=1)

    def grown(self, rows: int, size: int) -> "History":
        """One with at least as much room, that knows the same; what was not known is silent."""
        larger = History(max(rows, self.rows), max(size, self.size))
        larger.add(np.pad(self.last(self.size), ((0, larger.rows - self.rows), (0, 0))))
        return larger

    def clear(self) -> None:
        """Forget everything."""
        self._buffer[:] = 0.0
