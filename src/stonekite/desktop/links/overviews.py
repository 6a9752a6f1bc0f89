"""What the recordings of a mix look like, found behind the window one after the other."""

import numpy as np
from PySide6.QtCore import QObject, Signal

from stonekite.processes.jobs import Answer, Failed, Look, Seen
from stonekite.processes.pool import COMPARE, Pool
from stonekite.session.types import Source

CLIENT = "overviews"


class Overviews(QObject):
    """`come` tells that another recording can be drawn."""

    come = Signal()

    def __init__(self, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self._known: dict[Source, np.ndarray] = {}
        self._wanted: list[Source] = []
        self._asked: Source | None = None

    def of(self, source: Source) -> np.ndarray | None:
        """Least and greatest samples (2, columns) of a recording; None while they are not known."""
        return self._known.get(source)

    def want(self, sources: list[Source]) -> None:
        """Have these looked at, and let go of all others."""
        self._known = {source: seen for source, seen in self._known.items() if source in sources}
        self._wanted = [source for source in dict.fromkeys(sources) if source not in self._known]
        if self._asked is None:
            self._next()

    def _next(self) -> None:
        source = self._asked = next(iter(self._wanted), None)
        if source is not None:
            self._workers.ask(CLIENT, COMPARE, lambda number: Look(number, source), self._hear, self._give_up)

    def _hear(self, answer: Answer) -> None:
        if isinstance(answer, Seen) and self._asked is not None:
            self._take(np.frombuffer(answer.overview, dtype=np.float32).reshape(2, -1))
            self.come.emit()
        elif isinstance(answer, Failed):
            self._give_up()

    def _give_up(self) -> None:
        """What cannot be read is drawn empty."""
        if self._asked is not None:
            self._take(np.zeros((2, 1), dtype=np.float32))

    def _take(self, seen: np.ndarray) -> None:
        assert self._asked is not None
        self._known[self._asked] = seen
        self._wanted = [source for source in self._wanted if source not in self._known]
        self._next()
