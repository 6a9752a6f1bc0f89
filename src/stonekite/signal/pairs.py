"""Work on both legs at once, where they do not need each other."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache

LONG = 4096
"""From so many frames on a second processor core is worth the handing over; playback has shorter blocks."""


@cache
def _helper() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, thread_name_prefix="lower-leg")


def on_both(work: Callable[[int], None], frames: int) -> None:
    """Call work(0) and work(1), side by side for long blocks. The work has to be in kernels that let go of the GIL."""
    if frames < LONG:
        work(0)
        work(1)
        return
    lower = _helper().submit(work, 1)
    try:
        work(0)
    finally:
        lower.result()
