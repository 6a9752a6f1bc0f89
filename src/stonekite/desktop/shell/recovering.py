"""Keeps the journal of what is not saved, and offers at the start what a window before left behind."""

import time
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QMessageBox, QWidget

from stonekite.desktop.controls.plain import message
from stonekite.desktop.links.posting import Posting
from stonekite.desktop.model.document import STEM, Document
from stonekite.files.audio import AudioError, facts
from stonekite.session import journal, storage
from stonekite.session.differences import differences
from stonekite.session.journal import Journal, Left
from stonekite.session.types import Strip
from stonekite.words import said

_MOST_LINES = 14


class Recovering(QObject):
    """`said` is a word in passing."""

    said = Signal(str)

    def __init__(self, window: QWidget, document: Document) -> None:
        super().__init__(window)
        self._window, self._document = window, document
        self._post = Posting(self)
        self._journal: Journal | None = None
        self._failed = False
        document.noted.connect(self._note)

    def start(self) -> None:
        """Keep a journal from now on."""
        if self._journal is None:
            self._journal = Journal(lambda error: self._post(lambda: self._tell(error)))
            self._note()

    def close(self) -> None:
        """Let go of the journal: what is not saved stays in it for the next start."""
        if self._journal is not None:
            self._journal.close()
            self._journal = None

    def _note(self) -> None:
        if self._journal is None:
            return
        document = self._document
        if document.is_open and document.modified:
            self._journal.note(document.session, document.path, document.unsaved_edits, document.last_words)
        else:
            self._journal.clean()

    def _tell(self, error: OSError) -> None:
        if not self._failed:
            self._failed = True
            self.said.emit(
                said(
                    "What is not saved cannot be kept for the case of a crash: {reason}. Save often."
                ).format(reason=(error.strerror or str(error)).lower())
            )

    def offer(self) -> None:
        """Ask what is to be done with each session that was left behind."""
        for left in journal.left_behind():
            if left.session is None:
                self.said.emit(
                    said("What was not saved on {when} cannot be read: {reason}").format(
                        when=_when(left), reason=left.reason
                    )
                )
                left.let_go()
            elif self._ask(left):
                break

    def _ask(self, left: Left) -> bool:
        """Whether it was opened."""
        session = left.session
        assert session is not None
        name = Path(left.entry.path).name if left.entry.path else session.sound.stems[STEM].name
        box = message(
            said("Not saved"),
            said(
                "“{name}” had edits that were not saved when Stone Kite ended: {edits}, the last one on {when}."
            ).format(
                name=name,
                edits=said("1 edit")
                if left.entry.edits == 1
                else said("{count} edits").format(count=left.entry.edits),
                when=_when(left),
            ),
            self._window,
        )
        box.setInformativeText(_changes(left))
        take = box.addButton(said("Open it with them"), QMessageBox.ButtonRole.AcceptRole)
        later = box.addButton(said("Ask again later"), QMessageBox.ButtonRole.RejectRole)
        drop = box.addButton(said("Remove them"), QMessageBox.ButtonRole.DestructiveRole)
        box.setDefaultButton(take)
        box.setEscapeButton(later)
        box.exec()
        if box.clickedButton() is take:
            return self.take(left)
        if box.clickedButton() is drop:
            left.forget()
        else:
            left.let_go()
        return False

    def take(self, left: Left) -> bool:
        """Open what was left behind, as not saved; it is removed when this window's journal has it."""
        session = left.session
        assert session is not None
        source = session.sound.stems[STEM].source
        if source.generator is None:
            try:
                facts(Path(source.path))
            except AudioError as error:
                self.said.emit(str(error))
                left.let_go()
                return False
        self._document.open(
            session, Path(left.entry.path) if left.entry.path else None, unsaved=max(1, left.entry.edits)
        )
        # Only what is in this window's journal is removed from the other one.
        if self._journal is not None and self._journal.flush():
            left.forget()
        else:
            left.let_go()
        self.said.emit(said("Opened with what was not saved. It is not saved yet: Ctrl+S keeps it."))
        return True


def _when(left: Left) -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(left.entry.when))


def _changes(left: Left) -> str:
    """How it differs from its file, in words."""
    session = left.session
    assert session is not None
    saved = Strip()
    if left.entry.path:
        try:
            saved = storage.load(Path(left.entry.path)).sound.stems[STEM].strip
        except storage.SessionError as error:
            return str(error)
    lines = [one.sentence for one in differences(saved, session.sound.stems[STEM].strip)]
    if not lines:
        return (
            said("The settings are those of the file; versions, references or the tempo differ.")
            if left.entry.path
            else ""
        )
    more = len(lines) - _MOST_LINES
    if more > 0:
        lines = [*lines[:_MOST_LINES], said("and {count} more").format(count=more)]
    return "\n".join(lines)
