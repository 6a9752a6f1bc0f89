"""Work on both legs at once, where they do not need each other."""

import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache

LONG = 4096
"""From so many frames on a second processor core is worth the handing over; playback has shorter blocks."""

_mine = threading.local()


class Half:
    """A part of a work, that whoever has time may do."""

    def __init__(self, work: Callable[[int], None], which: int) -> None:
        self._work, self._which = work, which
        self.taken = False
        self.over = False
        self._error: Exception | None = None

    def do(self) -> None:
        """What goes wrong is raised by `end`."""
        try:
            self._work(self._which)
        except Exception as error:
            self._error = error
        self.over = True

    def end(self) -> None:
        if self._error is not None:
            raise self._error


class Crew:
    """Threads that share other work. While one works on one leg, say, another one that has nothing to do may take the
    other: `halves` are on offer, and `changed` guards them and tells of them.
    """

    def __init__(self) -> None:
        self.changed = threading.Condition()
        self.halves: deque[Half] = deque()

    def join(self) -> None:
        """The thread that calls is one of them."""
        _mine.crew = self

    def take(self) -> Half | None:
        """A half that nobody works on, with `changed` held."""
        if not self.halves:
            return None
        half = self.halves.popleft()
        half.taken = True
        return half

    def offer(self, work: Callable[[int], None], which: int) -> Half:
        """Let another thread do work(which) until `finish`."""
        half = Half(work, which)
        with self.changed:
            self.halves.append(half)
            self.changed.notify()
        return half

    def finish(self, half: Half) -> None:
        """What was offered is done: by this thread, if no other one has begun with it."""
        with self.changed:
            mine = not half.taken
            if mine:
                self.halves.remove(half)
            else:
                self.changed.wait_for(lambda: half.over)
        if mine:
            half.do()
        half.end()

    def on_both(self, work: Callable[[int], None]) -> None:
        half = self.offer(work, 1)
        try:
            work(0)
        finally:
            self.finish(half)


def handed_on(first: Callable[[int], None], second: Callable[[int], None], count: int) -> None:
    """Call first(k) and then second(k) for k = 0 to count - 1, each in this order; second(k) beside first(k + 1), where
    another thread of a crew has time. What they hand on may be kept for two k.
    """
    crew: Crew | None = getattr(_mine, "crew", None)
    if crew is None:
        for k in range(count):
            first(k)
            second(k)
        return
    waiting: Half | None = None
    try:
        for k in range(count):
            first(k)
            if waiting is not None:
                last, waiting = waiting, None
                crew.finish(last)
            waiting = crew.offer(second, k)
    finally:
        if waiting is not None:
            crew.finish(waiting)


@cache
def _helper() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, thread_name_prefix="lower-leg")


def on_both(work: Callable[[int], None], frames: int) -> None:
    """Call work(0) and work(1), side by side for long blocks. The work has to be in kernels that let go of the GIL."""
    crew: Crew | None = getattr(_mine, "crew", None)
    if crew is not None and frames >= LONG:
        crew.on_both(work)
        return
    if frames < LONG:
        work(0)
        work(1)
        return
    lower = _helper().submit(work, 1)
    try:
        work(0)
    finally:
        lower.result()
