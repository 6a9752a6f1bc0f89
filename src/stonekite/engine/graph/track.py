"""A stage's numbers over the recording: rows at every CELL frames of it, from its settings and its rides."""

import dataclasses
import math
import os
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache, lru_cache
from time import perf_counter
from typing import Any, NamedTuple

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.stages import planning
from stonekite.stages.base import LEGS, Context
from stonekite.stages.machinery.rows import CELL, FINE, SEAM_S, Rows, moving, stacked, standing

PIECE = 256
"""So many rows are made at once, and kept."""
QUICK_S = 0.0004
"""What takes no longer is made when it is wanted, and what takes longer ahead of it."""
KEPT = 16
"""So many such pieces are kept of a track at the most."""
_OVER = 1e-9

rounding = lazy("stonekite.signal.rounding")

Maker = Callable[[Any, Context], np.ndarray]


@cache
def _thread(process: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, thread_name_prefix="rows")


def _beside() -> ThreadPoolExecutor:
    """Who makes rows ahead in this process."""
    return _thread(os.getpid())


GIVEN_BACK, PASSES = 2, 3


def mix_of(stage: Any, context: Context) -> np.ndarray:
    """Rows (n, 4) of how much of each leg is processed, what is given back of the level (GIVEN_BACK), and how much passes
    while the stage is out (PASSES)."""
    into = np.atleast_1d(stage.inserted).astype(float)
    sides = [getattr(stage, leg) for leg in LEGS]
    shares = [into if side is None else into * np.atleast_1d(side.mix) / 100.0 for side in sides]
    given_back = gain_of(stage.kept_db) if stage.level_kept else 1.0
    return stacked(*shares, 1.0 + into * (given_back - 1.0), 1.0 - into)


def factor_of(holder: Any) -> Any:
    """The level of a leg or a spur with its polarity and its mute, as a factor: (n,) where one of them moves."""
    turned, heard = 1.0 - 2.0 * np.asarray(holder.inverted), 1.0 - np.asarray(holder.muted)
    return gain_of(holder.level_db) * turned * heard


def standing_of(holder: Any) -> Any:
    """A leg or a spur of which nothing moves, where its rides are."""
    return planning.moved(holder, np.zeros(1)) if holder.rides else holder


LEVELS = "level_db", "muted", "inverted"


def level_of(leg: Any, context: Context) -> np.ndarray:
    """Rows (n, 1) of the level of a leg."""
    return np.atleast_1d(factor_of(leg))[:, None]


def at_start(stage: Any) -> Any:
    """A stage as it is where the recording begins, what moves being arrays (1,)."""
    return planning.moved(stage, np.zeros(1)) if stage.rides else stage


def nothing_of(stage: Any, context: Context) -> np.ndarray:
    """Of a kind that has no numbers that could move."""
    return np.zeros(0)


class Track:
    """The rows that `make` gives of a stage, anywhere in the recording. They depend on the place alone, so that they are
    the same from any start."""

    def __init__(
        self, make: Maker, stage: Any, context: Context, role: planning.Role = "number", fine: bool = False
    ) -> None:
        self._role = role
        self._fine = fine
        self.cell = FINE if fine else CELL
        self._many = PIECE * CELL // self.cell
        self._make, self._stage, self._context = make, stage, context
        self._pieces: dict[int, _Piece] = {}
        self._coming: dict[int, Future[_Piece]] = {}
        self._took_s = 0.0
        """What a piece took last."""
        moves = planning.is_moving(stage, role)
        begun = planning.moved(stage, np.zeros(1), role)
        self._still = None if moves else standing(np.array(make(begun, context), dtype=float))

    @property
    def still(self) -> Rows | None:
        """The rows of a stage that does not move; None for one that does."""
        return self._still

    def cells(self, first: int, count: int) -> tuple[np.ndarray, np.ndarray, bool] | None:
        """Of so many cells, where one piece has them all: their rows, what they grow by for each frame (count, numbers),
        and whether they stand still. What `rows` gives comes to the same."""
        number, start = divmod(first, self._many)
        end = start + count
        if end > self._many:
            return None
        piece = self._piece(number)
        self._look_ahead(number, end)
        return piece.rows[start:end], piece.steps[start:end], not piece.moves[start:end].any()

    def rows(self, first: int, count: int) -> np.ndarray:
        """So many rows (count, numbers) from the one at frame `cell` * first of the recording. Those of the next piece
        are made meanwhile."""
        found = []
        while count > 0:
            number, start = divmod(first, self._many)
            part = self._piece(number).rows[start : min(start + count, self._many)]
            found.append(part)
            first, count = first + len(part), count - len(part)
        self._look_ahead(number, first - number * self._many)
        return found[0] if len(found) == 1 else np.concatenate(found)

    def _look_ahead(self, number: int, reached: int) -> None:
        """Have the next piece made, if it is wanted soon."""
        if 2 * reached > self._many and number + 1 not in self._pieces:
            self._ahead(number + 1)

    def _piece(self, number: int) -> "_Piece":
        coming = self._coming.pop(number, None)
        if number not in self._pieces:
            made = self._made(number) if coming is None else coming.result()
            if len(self._pieces) >= KEPT:
                del self._pieces[next(iter(self._pieces))]
            self._pieces[number] = made
        return self._pieces[number]

    def _ahead(self, number: int) -> None:
        if number not in self._coming and self._took_s > QUICK_S:
            self._coming = {number: _beside().submit(self._made, number)}

    def _made(self, number: int) -> "_Piece":
        begun = perf_counter()
        rows = self._computed(number)
        steps = rows[1:] - rows[:-1]
        moves = steps.any(axis=1)
        steps /= self.cell
        made = _Piece(rows[:-1], steps, moves)
        self._took_s = perf_counter() - begun
        return made

    def _computed(self, number: int) -> np.ndarray:
        """The rows of a piece and the one behind it."""
        # What bends has to know one row before and two behind.
        around = np.arange(-1, PIECE + 2) if self._fine else np.arange(PIECE + 1)
        seconds = CELL * (number * PIECE + around) / self._context.rate
        stage = planning.moved(self._stage, seconds, self._role)
        context = dataclasses.replace(self._context, seconds=seconds)
        made = np.asarray(self._make(stage, context), dtype=float)
        rows = np.broadcast_to(made, (len(seconds), made.shape[-1]))
        return rounding.between(rows, CELL // FINE) if self._fine else np.ascontiguousarray(rows)


class _Piece(NamedTuple):
    """Rows of a piece, what each grows by for a frame on its way to the next, and which do."""

    rows: np.ndarray
    steps: np.ndarray
    moves: np.ndarray


def following(
    fields: tuple[str, ...], make: Maker, holder: Any, context: Context, course: Course, late: int
) -> "Following | None":
    """Who goes along what is made of some fields of a leg, a spur, the intake or the output; None where none moves."""
    if not planning.moves_in(holder, *fields):
        return None
    return Following(Track(make, holder, context), context.rate, course, late)


@lru_cache(maxsize=1024)
def _cells(first: int, into: int, count: int, size: int) -> tuple[np.ndarray, np.ndarray]:
    """Where so many cells begin in a block, the first at a frame of it, and how far into each the block comes in."""
    starts = first + np.maximum(size * np.arange(count) - into, 0)
    offsets = np.zeros(count, dtype=np.int64)
    offsets[0] = into
    return starts, offsets


class Following:
    """Who goes along a track, block by block, so many frames `late`. Where the place jumps, the numbers stay where they
    were for the moment, and what they are off by dies away."""

    def __init__(self, track: Track, rate: float, course: Course, late: int, placed: int = 0) -> None:
        self.track = track
        self.late = late
        self.placed = placed
        self._course = course
        self._cell = track.cell
        self._fade = math.exp(-self._cell / (SEAM_S * rate))
        self._next: int | None = None
        self._ahead: np.ndarray | None = None
        """What the numbers were off by where the place jumped, so many cells ago."""
        self._since = 0
        self._over = math.ceil(math.log(_OVER) / math.log(self._fade))

    def go_on_from(self, other: "Following") -> None:
        """Be where another one is that goes along a track of as many numbers."""
        self._next = other._next
        self._ahead, self._since = other._ahead, other._since

    def glide_from(self, other: "Following | None") -> None:
        """Be where another one is, whose numbers go over into these."""
        if other is not None and other._next is not None:
            self._next = other._next
            rows = [one.track.rows(other._next // one._cell, 1)[0] for one in (other, self)]
            self._ahead, self._since = rows[0] - rows[1], 0

    def block(self, clock: int, frames: int) -> Rows:
        """The rows of the next block."""
        if self.track.still is not None:
            return self.track.still
        runs = self._course.runs(clock, frames, self.late)
        goes_on = len(runs) == 1 and self._ahead is None and self._next in (None, runs[0][1])
        if goes_on and frames and (simple := self._simple(runs[0][1], frames)) is not None:
            return simple
        parts = []
        ends = [*(first for first, _ in runs[1:]), frames]
        for (first, place), end in zip(runs, ends, strict=True):
            if first < end:
                parts.append(self._run(first, place, end - first))
        if not parts:
            return standing(self.track.rows(0, 1)[0])
        if len(parts) == 1:
            return moving(*parts[0], self._cell)
        starts, offsets, table, following = (np.concatenate(of) for of in zip(*parts, strict=True))
        return moving(starts, offsets, table, following, self._cell)

    def _simple(self, place: int, frames: int) -> Rows | None:
        """The rows of a block that goes on where the last one ended, if one piece has them: most do."""
        size = self._cell
        cell = place // size
        count = (place + frames - 1) // size - cell + 1
        found = self.track.cells(cell, count)
        if found is None:
            return None
        table, steps, stands = found
        self._next = place + frames
        starts, offsets = _cells(0, place - cell * size, count, size)
        if stands:
            starts, offsets, table, steps = starts[:1], offsets[:1], table[:1], steps[:1]
        return Rows(starts, offsets, table, steps, True, size)

    def _run(
        self, first: int, place: int, frames: int
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        size = self._cell
        cell = place // size
        into = place - cell * size
        count = (place + frames - 1) // size - cell + 1
        rows = self.track.rows(cell, count + 1)
        if self._next is not None and self._next != place:
            self._jump(self._next, rows[0] + (rows[1] - rows[0]) * (into / size), into)
        if self._ahead is not None:
            rows = rows + self._fades(self._since + np.arange(count + 1))[:, None] * self._ahead
            self._since += (place + frames) // size - cell
            if self._since > self._over:
                self._ahead = None
        self._next = place + frames
        return *_cells(first, into, count, size), rows[:-1], rows[1:]

    def _fades(self, cells: np.ndarray) -> np.ndarray:
        """How much is left of what the numbers were off by, so many cells (n,) later."""
        return np.where(cells > self._over, 0.0, self._fade**cells)

    def _jump(self, was: int, now: np.ndarray, into: int) -> None:
        """From the place where it would have been to one where the numbers are `now`, so far into a cell."""
        cell, share = was // self._cell, (was % self._cell) / self._cell
        before = self.track.rows(cell, 2)
        old = before[0] + (before[1] - before[0]) * share
        if self._ahead is not None:
            begins, ends = self._fades(self._since + np.arange(2))
            old = old + self._ahead * (begins + (ends - begins) * share)
        self._since = 0
        self._ahead = (old - now) / (1.0 + (self._fade - 1.0) * into / self._cell)
        if self.placed:
            self._ahead[-self.placed :] = 0.0
