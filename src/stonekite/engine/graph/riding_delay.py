"""A delay that rides: as tape does, or going over from copy to copy."""

import math
from functools import partial
from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.track import Following, Track
from stonekite.lazy import lazy
from stonekite.signal.delay import TAPS
from stonekite.stages.base import Context
from stonekite.stages.planning import awake

moving_delay = lazy("stonekite.signal.moving_delay")


def ends_ms(holder: Any) -> tuple[float, float]:
    """The shortest and the longest that the delay of a leg or a spur comes to."""
    points = [p.value for ride, _ in awake(holder) if ride.path == "delay_ms" for p in ride.points]
    return min(points, default=holder.delay_ms), max(points, default=holder.delay_ms)


def _samples_of(more: float, holder: Any, context: Context) -> np.ndarray:
    """Rows (n, 1) of the delay of a leg or a spur and so many samples, in samples."""
    return more + np.atleast_1d(holder.delay_ms)[:, None] * 1e-3 * context.rate


class RidingDelay:
    """Holds a signal back by the delay of a leg or a spur that rides, by `more` samples, and by TAPS / 2. Its place is
    that of what comes out, which is so many samples `late`."""

    def __init__(self, holder: Any, context: Context, course: Course, late: int, more: int = 0) -> None:
        self._track = Track(partial(_samples_of, more), holder, context)
        self._rows = Following(self._track, context.rate, course, late)
        self._course, self._late = course, late
        self._tape = holder.delay_way == "tape"
        self.longest = more + math.ceil(ends_ms(holder)[1] * 1e-3 * context.rate)
        self._past = np.zeros(self.longest + TAPS)
        self._state: np.ndarray | None = None

    def process(self, leg: np.ndarray, clock: int) -> None:
        """Hold back a signal (frames,) in place."""
        joined = np.concatenate([self._past, leg])
        self._past = joined[len(leg) :].copy()
        rows = self._rows.block(clock, len(leg))
        if self._tape:
            moving_delay.as_tape(joined, *rows.cells, 0, moving_delay.phases(), leg)
            return
        marks, wanted, first = self._marks(clock, len(leg))
        if self._state is None:
            self._state = np.array([first, first, float(moving_delay.OVER)])
        tables = moving_delay.phases(), moving_delay.rise()
        moving_delay.going_over(joined, marks, wanted, self._state, *tables, leg)

    def _marks(self, clock: int, frames: int) -> tuple[np.ndarray, np.ndarray, float]:
        """Where in a block it may begin to go over, and to what; and what holds before the first of these."""
        runs = self._course.runs(clock, frames, self._late)
        ends = [*(first for first, _ in runs[1:]), frames]
        marks: list[int] = []
        wanted: list[float] = []
        grid = moving_delay.OVER
        for (first, place), end in zip(runs, ends, strict=True):
            for at in range(-(-place // grid) * grid, place + end - first, grid):
                marks.append(first + at - place)
                wanted.append(self._at(at))
        return np.array(marks, dtype=np.int64), np.array(wanted), self._at(runs[0][1] // grid * grid)

    def _at(self, place: int) -> float:
        return float(self._track.rows(place // self._track.cell, 1)[0, 0])
