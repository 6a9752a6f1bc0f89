"""Work beside the playing that steps aside while a block is made.

Two threads that both hold Python's lock only now and then still keep each other waiting: a block of a long strip lets go
of it hundreds of times, and each time another thread may take it. So what is got ready beside the sound pauses, between
one stage and the next, for as long as a block is being made.
"""

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import ParamSpec, TypeVar

PATIENCE_S = 0.05
"""So long is waited for a block at the most: work that has to be done is done in the end."""

Given = ParamSpec("Given")
Made = TypeVar("Made")
_mine = threading.local()


class Turns:
    """Whose turn it is: a block's, or the work's beside it."""

    def __init__(self) -> None:
        self._free = threading.Event()
        self._free.set()
        self.patience_s = PATIENCE_S

    @contextmanager
    def block(self) -> Iterator[None]:
        """While a block is made."""
        self._free.clear()
        try:
            yield
        finally:
            self._free.set()

    def beside(self, work: Callable[Given, Made], *given: Given.args, **named: Given.kwargs) -> Made:
        """Do work that pauses for blocks."""
        _mine.turns = self
        try:
            return work(*given, **named)
        finally:
            _mine.turns = None

    def wait(self) -> None:
        self._free.wait(self.patience_s)


def pause() -> None:
    """Step aside if this thread works beside the playing; called between stages."""
    turns = getattr(_mine, "turns", None)
    if turns is not None:
        turns.wait()
