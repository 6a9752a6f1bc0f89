"""Blocks that are handed on from step to step, several at once: how a file is rendered on several processor cores.

Each step is at work on one block at a time and gets all blocks in their order, so the result is that of one after the
other, to the bit. Whoever is free takes the oldest block that can go on.
"""

import os
from collections import deque
from collections.abc import Generator, Iterator
from threading import Thread
from typing import Any

import numpy as np

from stonekite.engine.graph.chain import Step
from stonekite.signal.vectors.pairs import Crew, Half

MOST_THREADS = 4


def most_threads() -> int:
    """As many threads as there are cores, but MOST_THREADS at the most."""
    return min(MOST_THREADS, len(os.sched_getaffinity(0)))


class _Passage:
    """A block on its way, or what is handed on of it: how many steps it has made, and whether one is being made."""

    def __init__(self, block: Any, clock: int) -> None:
        self.block, self.clock = block, clock
        self.made = 0
        self.moving = False


class _Relay:
    """The blocks that are on their way, oldest first, and those who move them."""

    def __init__(self, steps: list[Step], threads: int) -> None:
        self._steps = steps
        self.room = 2 * threads + 1
        self.passages: deque[_Passage] = deque()
        self._crew = Crew()
        self._changed = self._crew.changed
        self._over = False
        self._error: Exception | None = None
        self._threads = [Thread(target=self._work, name="relay", daemon=True) for _ in range(threads)]
        for thread in self._threads:
            thread.start()

    def _next(self) -> _Passage | None:
        """The oldest block whose next step is free."""
        before = len(self._steps)
        for passage in self.passages:
            if passage.made < before and not passage.moving:
                return passage
            before = passage.made
        return None

    def _wait(self) -> _Passage | Half | None:
        """The next block to move, or half of what another thread does, once there is one; None when all is over."""
        with self._changed:
            while not self._over:
                passage = self._next()
                if passage is not None:
                    passage.moving = True
                    return passage
                half = self._crew.take()
                if half is not None:
                    return half
                self._changed.wait()
            return None

    def _work(self) -> None:
        self._crew.join()
        while (found := self._wait()) is not None:
            if isinstance(found, Half):
                found.do()
            else:
                self._move(found)
            with self._changed:
                self._changed.notify_all()

    def _move(self, passage: _Passage) -> None:
        try:
            block = self._steps[passage.made](passage.block, passage.clock)
        except Exception as error:
            self._error, self._over = error, True
            return
        with self._changed:
            passage.block = block
            passage.made += 1
            passage.moving = False

    def give(self, block: np.ndarray, clock: int) -> None:
        """Send a block on its way."""
        with self._changed:
            self.passages.append(_Passage(block, clock))
            self._changed.notify_all()

    def take(self) -> Any:
        """The oldest block, once it has made all steps. What went wrong in one is raised here."""
        with self._changed:
            while self._error is None and self.passages[0].made < len(self._steps):
                self._changed.wait()
            if self._error is not None:
                raise self._error
            return self.passages.popleft().block

    def close(self) -> None:
        with self._changed:
            self._over = True
            self._changed.notify_all()
        for thread in self._threads:
            thread.join()


def relayed(
    steps: list[Step], blocks: Iterator[np.ndarray], clock: int, threads: int | None = None
) -> Generator[tuple[np.ndarray, np.ndarray], None, None]:
    """Pairs of blocks and what all steps make of each, in their order; `clock` counts what went in before the first.

    As many threads as there are cores, but MOST_THREADS at the most, unless it is said. Close the generator to stop.
    """
    relay = _Relay(steps, threads or most_threads())
    given: deque[np.ndarray] = deque()
    try:
        for block in blocks:
            relay.give(block, clock)
            given.append(block)
            clock += block.shape[1]
            if len(given) > relay.room:
                yield given.popleft(), relay.take()
        while given:
            yield given.popleft(), relay.take()
    finally:
        relay.close()
