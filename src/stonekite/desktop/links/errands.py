"""Small work done behind the window by a worker, one piece at a time."""

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from stonekite.processes.jobs import Answer, Failed, Progress, RangeBegun, Request
from stonekite.processes.pool import ERRAND, Pool
from stonekite.words import said


class Errands(QObject):
    """`said` has a word about progress or failure; `working` tells whether something runs that is worth a word."""

    said = Signal(str)
    working = Signal(bool)

    def __init__(self, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self._words = ""
        self._busy = False
        self._then: Callable[[Answer], None] = lambda answer: None

    @property
    def busy(self) -> bool:
        """Whether a new request would end one that is running."""
        return self._busy

    def send(self, make: Callable[[int], Request], words: str, then: Callable[[Answer], None]) -> None:
        """Have a request carried out; `make` gives it its number, `words` say what is done (nothing: it is not worth a
        word), `then` gets the answer, and what there is before it.
        """
        self._words, self._then = words, then
        self._busy = True
        self._say(f"{words}…")
        self.working.emit(bool(words))
        self._workers.ask("errand", ERRAND, make, self._hear, self._lost)

    def cancel(self) -> None:
        """End what runs: its answer is not wanted any more."""
        if self._busy:
            self._workers.drop("errand")
            self._done()
            self._say(said("{what}: cancelled.").format(what=self._words))

    def _done(self) -> None:
        self._busy = False
        self.working.emit(False)

    def _hear(self, answer: Answer) -> None:
        if not isinstance(answer, Progress | RangeBegun):
            self._done()
        if isinstance(answer, RangeBegun):
            self._then(answer)
        elif isinstance(answer, Progress):
            self._say(f"{self._words}… {answer.done * 100:.0f} %")
        elif isinstance(answer, Failed):
            self.said.emit(answer.sentence)
        else:
            self._say("")
            self._then(answer)

    def _say(self, sentence: str) -> None:
        if self._words:
            self.said.emit(sentence)

    def _lost(self) -> None:
        self._done()
        self.said.emit(
            said("{more}: stopped unexpectedly; try again.").format(more=self._words or said("A measurement"))
        )
