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
    """The work on one leg, that whoever has time may do."""

    def __init__(self, work: Callable[[int], None], leg: int) -> None:
        self._work, self._leg = work, leg
        self.taken = False
        self.over = False
        self._error: Exception | None = None

    def do(self) -> None:
        """What goes wrong is raised by `end`."""
        try:
            self._work(self._leg)
        except Exception as error:
            self._error = error
        self.over = True

    def end(self) -> None:
        if self._error is not None:
            raise self._error


class Crew:
    """Threads that share other work. While one works on one leg, another one that has nothing to do may take the other:
    `halves` are on offer, and `changed` guards them and tells of them.
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

    def on_both(self, work: Callable[[int], None]) -> None:
        half = Half(work, 1)
        with self.changed:
            self.halves.append(half)
            self.changed.notify()
        try:
            work(0)
        finally:
            with self.changed:
                mine = not half.taken
                if mine:
                    self.halves.remove(half)
                else:
                    self.changed.wait_for(lambda: half.over)
            if mine:
                half.do()
        half.end()


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
