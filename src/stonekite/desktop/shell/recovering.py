"""Keeps what was made: a journal of what is not saved, earlier saves, and sessions gathered into one place."""

import time
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from stonekite.desktop.controls.plain import message
from stonekite.desktop.dialogs.saves_dialog import SavesDialog
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.links.posting import Posting
from stonekite.desktop.model.document import Document
from stonekite.files.audio import AudioError, facts
from stonekite.processes.jobs import Answer
from stonekite.processes.set_jobs import GatherSession, SessionGathered, SessionUnpacked, UnpackSession
from stonekite.session import edits, journal, storage
from stonekite.session.journal import Journal, Left
from stonekite.session.keeping import gathering, saves
from stonekite.session.keeping.saves import Save
from stonekite.session.mix.sound_differences import all_differences, untouched
from stonekite.session.types import Session, Sound
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
        name = Path(left.entry.path).name if left.entry.path else session.sound.stems[0].name
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
        for stem in session.sound.stems:
            if stem.source.generator is None:
                try:
                    facts(Path(stem.source.path))
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


class Keeping(QObject):
    """Earlier saves, and sessions gathered into a folder or an archive. `said` is a word in passing, `complained` a fault
    that must be seen, `unpacked` a session that came out of an archive; `heard` is a version to switch to."""

    said = Signal(str)
    complained = Signal(str)
    unpacked = Signal(object)
    heard = Signal(int)

    def __init__(self, window: QWidget, document: Document, errands: Errands) -> None:
        super().__init__(window)
        self._window, self._document, self._errands = window, document, errands
        self.dialog: SavesDialog | None = None

    def ask_saves(self) -> SavesDialog | None:
        """Show earlier saves of what is open (modal to the window, not blocking)."""
        document = self._document
        if not document.is_open:
            return None
        if document.path is None:
            self.said.emit(said("This session was never saved: there are no earlier saves."))
            return None
        found = saves.listed(document.path)
        dialog = self.dialog = SavesDialog(document.path.name, found, self._told, self._window)
        dialog.hear_asked.connect(self.hear)
        dialog.take_asked.connect(self.take_back)
        dialog.open()
        return dialog

    def _load(self, save: Save) -> Session | None:
        assert self._document.path is not None
        try:
            return saves.load(save, self._document.path)
        except storage.SessionError as error:
            self.complained.emit(str(error))
            return None

    def _told(self, save: Save) -> list[str]:
        """How a save differs from what is open, in words."""
        assert self._document.path is not None
        try:
            session = saves.load(save, self._document.path)
        except storage.SessionError as error:
            return [str(error)]
        lines = all_differences(session.sound, self._document.session.sound)
        then, now = len(session.versions), len(self._document.session.versions)
        if then != now:
            lines.append(said("Versions: {then} → {now}").format(then=then, now=now))
        if session.sound.tempo != self._document.session.sound.tempo:
            lines.append(said("The tempo is another one."))
        return lines or [said("It sounds the same.")]

    def hear(self, save: Save) -> None:
        """Keep a save as a version, and switch to it."""
        session = self._load(save)
        if session is None:
            return
        now = self._document.session
        try:
            kept = edits.keep_version(msgspec.structs.replace(now, sound=session.sound), save.words)
        except ValueError as error:
            self.complained.emit(str(error))
            return
        before = {version.number for version in now.versions}
        number = next(one.number for one in kept.versions if one.number not in before)
        kept = msgspec.structs.replace(kept, sound=now.sound)
        if self._document.edit(kept, said("Save of {when} kept as a version").format(when=save.words)):
            self.heard.emit(number)

    def take_back(self, save: Save) -> None:
        """Make a save what is open; a step that can be undone."""
        session = self._load(save)
        if session is None:
            return
        now = self._document.session
        back = msgspec.structs.replace(
            now, sound=session.sound, versions=session.versions, last_id=max(now.last_id, session.last_id)
        )
        if self._document.edit(back, said("Back to the save of {when}").format(when=save.words)):
            self.said.emit(said("Back to the save of {when}; undo takes it back.").format(when=save.words))
            if self.dialog is not None:
                self.dialog.accept()

    # Gathering

    def ask_gather(self) -> None:
        """Choose where a copy of the session with all that it is made of goes."""
        document = self._document
        if not document.is_open:
            return
        name = document.path.stem if document.path is not None else document.stem.name
        start = str(Path(document.path or document.stem.source.path).with_name(f"{name} gathered.zip"))
        chosen, _ = QFileDialog.getSaveFileName(
            self._window,
            said("Gather the session"),
            start,
            said("An archive (*{archive});;A folder (*)").format(archive=gathering.ARCHIVE),
        )
        if chosen:
            self.gather(Path(chosen), name)

    def gather(self, target: Path, name: str) -> None:
        """Gather the session into a folder or an archive."""
        session = self._document.session
        self._errands.send(
            lambda number: GatherSession(number, session, str(target), name),
            said("Gathering the session"),
            self._gathered,
        )

    def _gathered(self, answer: Answer) -> None:
        if isinstance(answer, SessionGathered):
            path = Path(answer.path)
            words = said("Gathered: {count} files in “{name}”.").format(
                count=answer.files, name=path.name if path.suffix == gathering.ARCHIVE else path.parent.name
            )
            self.said.emit(" ".join([words, *answer.sentences]))

    def unpack(self, path: Path) -> None:
        """Take a gathered session out of its archive, and open it."""

        def opened(answer: Answer) -> None:
            if isinstance(answer, SessionUnpacked):
                self.unpacked.emit(Path(answer.path))

        self._errands.send(
            lambda number: UnpackSession(number, str(path)),
            said("Unpacking “{name}”").format(name=path.name),
            opened,
        )


def _when(left: Left) -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(left.entry.when))


def _changes(left: Left) -> str:
    """How it differs from its file, in words."""
    session = left.session
    assert session is not None
    saved: Sound | None = None
    if left.entry.path:
        try:
            saved = storage.load(Path(left.entry.path)).sound
        except storage.SessionError as error:
            return str(error)
    lines = all_differences(saved or untouched(session.sound), session.sound)
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
