"""One recording that holds two: written as two mono files, or opened as two sessions."""

import sys
from collections.abc import Callable
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QProcess, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from stonekite.desktop.dialogs.questions import Question
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.model.document import Document
from stonekite.processes.jobs import Answer, Separate, Written
from stonekite.session import storage
from stonekite.session.types import SIDES, Session, Sound, Source, Stem
from stonekite.words import said


def session_of_side(source: Source, name: str, row: int) -> Session:
    """A new session on one side of a recording: mono, so it plays in the centre."""
    channel = source.channels[row]
    one = msgspec.structs.replace(source, channels=(channel, channel))
    return Session(sound=Sound(stems=(Stem(id=1, name=name, source=one),)))


class Separating(QObject):
    """`opened` gives the session that this window is to show."""

    opened = Signal(object)
    said = Signal(str)

    def __init__(self, window: QWidget, errands: Errands) -> None:
        super().__init__(window)
        self._window, self._errands = window, errands
        self.dialog: Question | None = None
        self.open_elsewhere: Callable[[Path], None] = _open_in_new_window

    def ask(self, document: Document) -> Question:
        """Show the question (modal to the window, not blocking)."""
        words = said("“{name}” holds two recordings, one on each side?").format(name=document.stem.name)
        answers = {
            "files": said("Write two mono files, with the samples as they are"),
            "sessions": said("Open each side as a session of its own, in the centre"),
        }
        dialog = self.dialog = Question(
            said("Separate"), words, answers, said("Choose a folder…"), self._window
        )
        dialog.accepted.connect(lambda: self._choose(document, dialog.answer))
        dialog.open()
        return dialog

    def _choose(self, document: Document, answer: str) -> None:
        start = str(Path(document.stem.source.path).parent)
        folder = QFileDialog.getExistingDirectory(self._window, said("Where to?"), start)
        if folder:
            self.start(document, answer, Path(folder))

    def start(self, document: Document, answer: str, folder: Path) -> None:
        """Separate into a folder."""
        source = document.stem.source
        if answer == "files":
            self._errands.send(
                lambda number: Separate(number, source, str(folder)), said("Separating"), self._written
            )
            return
        paths = []
        for row, side in enumerate(SIDES):
            name = f"{Path(source.path).stem}.only-{side}"
            path = folder / f"{name}{storage.SUFFIX}"
            if path.exists():
                self.said.emit(said("“{name}” exists already; nothing was written.").format(name=path.name))
                return
            paths.append((path, session_of_side(source, name, row)))
        try:
            for path, session in paths:
                storage.save(session, path)
        except storage.SessionError as error:
            self.said.emit(str(error))
            return
        self.open_elsewhere(paths[1][0])
        self.opened.emit(paths[0][0])

    def _written(self, answer: Answer) -> None:
        if isinstance(answer, Written):
            self.said.emit(
                said("Written: {names}.").format(
                    names=said(" and ").join(f"“{Path(p).name}”" for p in answer.paths)
                )
            )


def _open_in_new_window(path: Path) -> None:
    QProcess.startDetached(sys.executable, ["-m", "stonekite", str(path)])
