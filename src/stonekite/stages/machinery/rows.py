"""The numbers that a kind works with while they may move: rows, one for each CELL frames of the recording.

Between two rows all numbers go straight. A setting that stands still is one row, and nothing else is different about it.
"""

from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from stonekite.lazy import lazy

mixing = lazy("stonekite.signal.mixing")

CELL = 64
"""Frames of the recording from one row to the next."""
FINE = 16
"""The same for kinds whose rows are filters: what is between two rows is made as it bends, and not straight."""
SEAM_S = 0.01
"""Where the place jumps, as at the end of a loop, what a number or a swing was off by falls by e in this time."""


_MOST_PARTS = 4096
_PARTS: "dict[tuple[int, int, int | None], tuple[np.ndarray, Rows]]" = {}
"""Parts of rows that stand still, by the table that they are of."""


@lru_cache(maxsize=256)
def _counted(size: int) -> np.ndarray:
    return np.arange(float(size))


class Rows(NamedTuple):
    """The rows of a block, cell by cell.

    Frame i of a cell that begins at `starts` (cells,) of the block has the numbers `table` + (`offsets` + i) `steps`,
    both (cells, numbers): `offsets` (cells,) is how far into the cell the block comes in. One cell without steps is what
    stands still, however long the block is.
    """

    starts: np.ndarray
    offsets: np.ndarray
    table: np.ndarray
    steps: np.ndarray
    moves: bool
    """Whether a number may move: not whether one does in this block, so that the same is done however sound is cut."""
    size: int = 0
    """Frames of a whole cell; 0 of what stands still."""

    @property
    def cells(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """What kernels get: `starts`, `offsets`, `table` and `steps`."""
        return self[:4]

    def part(self, first: int, last: int | None) -> "Rows":
        """Of some of the numbers, to the last if that is None."""
        key = id(self.table), first, last
        known = _PARTS.get(key)
        if known is not None and known[0] is self.table:
            return known[1]
        table, steps = self.table[:, first:last], self.steps[:, first:last]
        table, steps = np.ascontiguousarray(table), np.ascontiguousarray(steps)
        made = Rows(self.starts, self.offsets, table, steps, self.moves, self.size)
        if not self.moves:  # the same for every block
            if len(_PARTS) >= _MOST_PARTS:
                _PARTS.clear()
            _PARTS[key] = self.table, made
        return made

    def cell_at(self, frame: int) -> int:
        """Which cell a frame of the block is in."""
        if not self.moves:
            return 0
        return int(np.searchsorted(self.starts, frame, "right")) - 1

    def within(self, first: int, last: int) -> "Rows":
        """Of a part of the block, from a frame up to another one."""
        if not self.moves:
            return self
        cells = slice(
            int(np.searchsorted(self.starts, first, "right")) - 1, int(np.searchsorted(self.starts, last))
        )
        ahead = self.starts[cells] - first
        offsets = self.offsets[cells] + np.maximum(-ahead, 0)
        return Rows(
            np.maximum(ahead, 0), offsets, self.table[cells], self.steps[cells], self.moves, self.size
        )

    def _upon_each_other(self, size: int) -> bool:
        """Whether all cells are whole but for where the block begins and ends."""
        begun = int(self.offsets[0])
        return bool(
            not self.offsets[1:].any()
            and (self.starts[1:] + begun == size * np.arange(1, len(self.starts))).all()
        )

    def pieces(self, frames: int) -> Iterator[tuple[int, int, np.ndarray, np.ndarray, int]]:
        """The cells of a block: first frame, the frame after the last, the numbers (numbers,) where the cell begins, what
        they grow by, and how far into it the first frame is."""
        if not self.moves:
            yield 0, frames, self.table[0], self.steps[0], 0
            return
        lasts = [*self.starts[1:], frames]
        for first, last, row, steps, into in zip(
            self.starts, lasts, self.table, self.steps, self.offsets, strict=True
        ):
            yield int(first), int(last), row, steps, int(into)

    def along(self, number: int, frames: int) -> np.ndarray:
        """One number for each frame (frames,) of the block."""
        count = len(self.starts)
        size = self.size if count > 1 else frames + int(self.offsets[0])
        if count == 1 or self._upon_each_other(size):
            into = _counted(size)
            whole = self.table[:, number, None] + into * self.steps[:, number, None]
            return whole.reshape(-1)[self.offsets[0] : self.offsets[0] + frames]
        lengths = np.diff(self.starts, append=frames)
        into = np.arange(frames) + np.repeat(self.offsets - self.starts, lengths)
        return np.repeat(self.table[:, number], lengths) + into * np.repeat(self.steps[:, number], lengths)


def standing(row: np.ndarray) -> Rows:
    """Rows of numbers (numbers,) that stand still."""
    table = np.ascontiguousarray(row, dtype=float).reshape(1, -1)
    nowhere = np.zeros(1, dtype=np.int64)
    return Rows(nowhere, nowhere, table, np.zeros_like(table), False)


def moving(
    starts: np.ndarray, offsets: np.ndarray, table: np.ndarray, following: np.ndarray, cell: int
) -> Rows:
    """Rows of cells of so many frames that go from `table` to `following` (cells, numbers); one where nothing moves."""
    stands = not (table[0] != following[-1]).any() and not offsets[1:].any()
    if stands and (table == table[0]).all() and (following == table[0]).all():
        starts, offsets, table, following = starts[:1], offsets[:1], table[:1], following[:1]
    return Rows(starts, offsets, table, (following - table) / cell, True, cell)


def stacked(*numbers: "np.ndarray | float") -> np.ndarray:
    """Rows (rows, numbers) of numbers that are floats or arrays (rows,)."""
    return np.stack(
        np.broadcast_arrays(*(np.atleast_1d(np.asarray(one, dtype=float)) for one in numbers)), axis=-1
    )


def beside(*parts: "np.ndarray | float") -> np.ndarray:
    """Rows (rows, numbers) of rows (rows or 1, some numbers) and of single numbers that are floats or arrays (rows,)."""
    flat = [np.asarray(part, dtype=float) for part in parts]
    shaped = [part.reshape(-1, 1) if part.ndim < 2 else part for part in flat]
    count = max(len(part) for part in shaped)
    return np.concatenate([np.broadcast_to(part, (count, part.shape[1])) for part in shaped], axis=1)


def times(block: np.ndarray, rows: Rows, first: int) -> None:
    """Multiply each leg of a block (2, frames) by a number of its own, from `first` on, in place."""
    for leg in range(2):
        times_leg(block[leg], rows, first + leg)


def blend(block: np.ndarray, dry: np.ndarray, rows: Rows, first: int) -> None:
    """Of both legs of a block (2, frames) as much as numbers of their own say, from `first` on, and dry (2, frames) for
    the rest, in place."""
    if rows.moves:
        mixing.blend_moving(block, dry, *rows.cells, first)
        return
    block -= dry
    times(block, rows, first)
    block += dry


def times_leg(signal: np.ndarray, rows: Rows, number: int) -> None:
    """Multiply a signal (frames,) by a number, in place."""
    if rows.moves:
        mixing.times_moving(signal, *rows.cells, number)
    elif rows.table[0, number] != 1.0:
        signal *= rows.table[0, number]
