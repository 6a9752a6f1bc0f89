"""Measures the open session behind the window, again after each edit; the window never waits for it."""

import shutil
import tempfile
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from stonekite.desktop.processes import Child
from stonekite.jobs import Analyse, Analysed, Answer, Failed, Progress
from stonekite.session.types import Stem

SETTLE_MS = 250


class Measuring(QObject):
    """`measured` gives an Analysed; `stale` says that figures no longer hold; `progressed` 0 to 1."""

    measured = Signal(object)
    stale = Signal()
    progressed = Signal(float)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder = Path(tempfile.mkdtemp(prefix="stonekite-"))
        self._child: Child | None = None
        self._stem: Stem | None = None
        self._sent: Stem | None = None
        self._number = 0
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLE_MS)
        self._settle.timeout.connect(self._ask)

    def want(self, stem: Stem, at_once: bool = False) -> None:
        """Measure this stem when edits have settled."""
        if stem is self._stem:
            return
        if self._stem is not None and (stem.source, stem.strip) == (self._stem.source, self._stem.strip):
            self._stem = stem
            return
        self._stem = stem
        self.stale.emit()
        self._settle.start(0 if at_once else SETTLE_MS)

    def _ask(self) -> None:
        if self._stem is None:
            return
        if self._child is None:
            self._child = Child("stonekite.worker", Answer, parent=self)
            self._child.told.connect(self._hear)
            self._child.ended.connect(self._ended)
        self._number += 1
        self._sent = self._stem
        self._child.send(Analyse(self._number, self._stem, str(self._folder)))

    def _hear(self, answer: Answer) -> None:
        if answer.number != self._number or not self._same_sound():
            return
        if isinstance(answer, Progress):
            self.progressed.emit(answer.done)
        elif isinstance(answer, Analysed):
            self.measured.emit(answer)
        elif isinstance(answer, Failed):
            self.failed.emit(answer.sentence)

    def _same_sound(self) -> bool:
        assert self._stem is not None and self._sent is not None
        return (self._stem.source, self._stem.strip) == (self._sent.source, self._sent.strip)

    def _ended(self, code: int) -> None:
        self._child = None
        self.failed.emit("Measuring stopped unexpectedly; it starts again with the next change.")

    def close(self) -> None:
        """End the worker and remove its files; what it may still say is of no use."""
        self._number += 1
        self._settle.stop()
        if self._child is not None:
            self._child.close()
            self._child = None
        shutil.rmtree(self._folder, ignore_errors=True)


def overview(path: str) -> np.ndarray:
    """An overview file as an array that is read from disk where it is looked at."""
    return np.load(path, mmap_mode="r")
