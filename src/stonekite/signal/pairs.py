"""Work on both legs at once, where they do not need each other."""

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache

LONG = 4096
"""From so many frames on a second processor core is worth the handing over; playback has shorter blocks."""

_mine = threading.local()


class Crew:
    """Threads that share other work; `idle` of them, which they count themselves, have nothing to do now."""

    def __init__(self) -> None:
        self.idle = 0

    def join(self) -> None:
        """The thread that calls is one of them: it works on both legs at once only where another one has time."""
        _mine.crew = self


@cache
def _helper() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, thread_name_prefix="lower-leg")


def on_both(work: Callable[[int], None], frames: int) -> None:
    """Call work(0) and work(1), side by side for long blocks. The work has to be in kernels that let go of the GIL."""
    crew: Crew | None = getattr(_mine, "crew", None)
    if frames < LONG or (crew is not None and not crew.idle):
        work(0)
        work(1)
        return
    lower = _helper().submit(work, 1)
    try:
        work(0)
    finally:
        lower.result()
