"""Measures the open session behind the window, again after each edit; the window never waits for it."""

import contextlib
import os
import shutil
import tempfile
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from stonekite.processes.jobs import Analyse, Analysed, Answer, Failed, Progress
from stonekite.processes.pool import ANALYSE, Pool
from stonekite.session.types import Stem
from stonekite.words import said

SETTLE_MS = 600
"""The whole file waits until hands are still: the range in front comes first."""
_PREFIX = "stonekite-window-"


def _own_folder() -> Path:
    """A folder for what is measured, where the system keeps what lives as long as the user is logged in; folders of
    windows that are gone are removed."""
    root = Path(os.environ.get("XDG_RUNTIME_DIR") or tempfile.gettempdir())
    if not os.access(root, os.W_OK):
        root = Path(tempfile.gettempdir())
    with contextlib.suppress(OSError):
        for left in root.glob(f"{_PREFIX}*"):
            number = left.name.removeprefix(_PREFIX).split("-")[0]
            if number.isdecimal() and not Path(f"/proc/{number}").exists():
                shutil.rmtree(left, ignore_errors=True)
    return Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-", dir=root))


class Measuring(QObject):
    """`measured` gives an Analysed; `stale` says that figures no longer hold; `progressed` 0 to 1."""

    measured = Signal(object)
    stale = Signal()
    progressed = Signal(float)
    failed = Signal(str)

    def __init__(self, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self._folder: Path | None = None
        self._stem: Stem | None = None
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLE_MS)
        self._settle.timeout.connect(self._ask)

    def forget(self) -> None:
        """Another session is open: what is wanted next is measured, even if it was before."""
        self._stem = None
        self._workers.drop("analyse")

    def want(self, stem: Stem, at_once: bool = False) -> None:
        """Measure this stem when edits have settled."""
        if stem is self._stem:
            return
        if self._stem is not None and (stem.source, stem.strip) == (self._stem.source, self._stem.strip):
            self._stem = stem
            return
        self._stem = stem
        self._workers.drop("analyse")
        self.stale.emit()
        self._settle.start(0 if at_once else SETTLE_MS)

    def _ask(self) -> None:
        if self._stem is None:
            return
        if self._folder is None:
            self._folder = _own_folder()
        stem, folder = self._stem, str(self._folder)
        self._workers.ask(
            "analyse", ANALYSE, lambda number: Analyse(number, stem, folder), self._hear, self._lost
        )

    def _hear(self, answer: Answer) -> None:
        if isinstance(answer, Progress):
            self.progressed.emit(answer.done)
        elif isinstance(answer, Analysed):
            self.measured.emit(answer)
        elif isinstance(answer, Failed):
            self.failed.emit(answer.sentence)

    def _lost(self) -> None:
        self.failed.emit(said("Measuring stopped unexpectedly, twice; it starts again with the next change."))

    def close(self) -> None:
        """Remove the files; what the worker may still say is of no use."""
        self._settle.stop()
        self._workers.drop("analyse")
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)
            self._folder = None


def overview(path: str) -> np.ndarray:
    """An overview file as an array that is read from disk where it is looked at."""
    return np.load(path, mmap_mode="r")
