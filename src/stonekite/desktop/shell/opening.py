"""Opening and saving: files come in and go out through here, with every question that this needs."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from stonekite.desktop.controls.plain import message
from stonekite.desktop.dialogs.dialogs import ChannelDialog
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document, session_of
from stonekite.engine.offline.generator import generator_source
from stonekite.files.audio import READABLE, AudioError, ChannelsNeeded, facts, shown_name
from stonekite.session import foreign, storage, tree
from stonekite.session.keeping import mending
from stonekite.session.keeping.finding import Finder
from stonekite.session.keeping.gathering import ARCHIVE
from stonekite.session.storage import SUFFIX, SessionError
from stonekite.session.types import Session, Sound, Source, Stem
from stonekite.words import said

_AUDIO_FILTER = said("Audio ({names})").format(names=" ".join("*" + s for s in READABLE))

_MOST_LINES = 12


def _short(told: list[str]) -> str:
    more = len(told) - _MOST_LINES
    lines = [*told[:_MOST_LINES], said("and {count} more").format(count=more)] if more > 0 else told
    return "\n".join(lines)


def _missing(session: Session) -> Source:
    """The first recording of a session that cannot be read, or its first one."""
    for stem in session.sound.stems:
        if stem.source.generator is None:
            try:
                facts(Path(stem.source.path))
            except AudioError:
                return stem.source
    return session.sound.stems[0].source


def _shifted(session: Session, path: Path, recording: Path) -> Session:
    """A session of which the first recording that is not there is shown to be elsewhere: others of its folder may be
    there, too. Raises AudioError."""
    old = _missing(session)
    fresh = session_of(recording, old.channels)[0].sound.stems[0].source
    finder = Finder(path.absolute().parent)
    finder.moved(Path(old.path), recording.absolute())
    return storage.with_sources(session, lambda source: fresh if source == old else finder.find(source))


class Opening(QObject):
    """`said` is a word in passing, `complained` a fault that must be seen. `mono` tells of what is open."""

    said = Signal(str)
    complained = Signal(str)
    generator_opened = Signal()
    several_opened = Signal()
    archive_chosen = Signal(object)

    def __init__(self, window: QWidget, document: Document) -> None:
        super().__init__(window)
        self._window, self._document = window, document
        self.mono = False

    def open_path(self, path: Path, channels: tuple[int, int] | None = None) -> None:
        """Open a session or a recording; what goes wrong is said and leaves everything as it was."""
        try:
            if path.suffix.lower() == ARCHIVE:
                self.archive_chosen.emit(path)
                return
            if path.suffix.lower() == SUFFIX:
                self._load_session(path)
                return
            session, found = session_of(path, channels)
        except ChannelsNeeded as needed:
            dialog = ChannelDialog(needed.path, needed.count, self._window)
            if dialog.exec():
                self.open_path(path, dialog.channels)
            return
        except SessionError as error:
            self._ask_mend(path, str(error))
            return
        except AudioError as error:
            self.complained.emit(str(error))
            return
        except OSError as error:
            self.complained.emit(
                said("“{path}” cannot be opened: {reason}.").format(
                    path=shown_name(path), reason=(error.strerror or str(error)).lower()
                )
            )
            return
        self.mono = found.channels == 1
        self._document.open(session)
        preferences.remember(path)
        if self.mono:
            self.said.emit(
                said("“{name}” is mono: both legs carry the same sound, Side is silent.").format(
                    name=path.name
                )
            )

    def _load_session(self, path: Path) -> None:
        try:
            self._document.load(path)
        except AudioError as error:
            found = self._ask_moved(path, str(error))
            if found is not None:
                self._open_relocated(path, found)
            return
        self.mono = self._document.stem.source.channel_count == 1
        preferences.remember(path)
        strange = foreign.names(self._document.session)
        told = [foreign.told(strange) if strange else "", tree.rides_told(self._document.session)]
        if any(told):
            self.said.emit(" ".join(filter(None, told)))

    def _ask_mend(self, path: Path, sentence: str) -> None:
        """A session cannot be opened as it is: let as much of it be opened as can be used."""
        try:
            if not path.is_file() or path.stat().st_size > mending.MOST_BYTES:  # a pipe has no end
                raise SessionError(sentence)
            session, told = mending.mended(path.read_bytes(), f"“{shown_name(path)}”")
        except (SessionError, OSError):
            self.complained.emit(sentence)
            return
        box = message(said("Damaged session"), sentence, self._window)
        box.setInformativeText(
            said("What can be used of it can be opened; the file stays as it is. Left out:")
            + "\n"
            + _short(told)
        )
        go = box.addButton(said("Open what can be used"), QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is go:
            self.open_mended(session, path)

    def open_mended(self, session: Session, path: Path) -> None:
        """Open what was left of a session, as not saved: under a name of its own, and not over the damaged one."""
        session = storage.with_sources(session, Finder(path.absolute().parent).find)
        source = _missing(session)
        if source.generator is None:
            try:
                facts(Path(source.path))
            except AudioError as error:
                found = self._ask_moved(path, str(error))
                if found is None:
                    return
                session = _shifted(session, path, found)
        self._document.open(session, unsaved=1)
        self.said.emit(
            said("Opened what could be used. It is not saved yet: Ctrl+S keeps it under another name.")
        )

    def _ask_moved(self, path: Path, sentence: str) -> Path | None:
        """The recording of a session is not there: let it be shown where it is."""
        box = message(
            said("Recording not found"),
            said("{sentence}\nIt belongs to “{path}”.").format(sentence=sentence, path=shown_name(path)),
            self._window,
        )
        find = box.addButton(said("Show where it is…"), QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is not find:
            return None
        name, _ = QFileDialog.getOpenFileName(
            self._window, said("Where is the recording?"), str(path.parent), _AUDIO_FILTER
        )
        return Path(name) if name else None

    def _open_relocated(self, path: Path, recording: Path) -> None:
        try:
            self._document.open(_shifted(storage.load(path), path, recording), path)
        except (AudioError, SessionError) as error:
            self.complained.emit(str(error))

    def ask_open(self) -> None:
        if not self.may_leave():
            return
        name, _ = QFileDialog.getOpenFileName(
            self._window,
            said("Open"),
            preferences.last_folder(),
            said("Recordings and sessions ({names})").format(
                names=" ".join("*" + s for s in (*READABLE, SUFFIX, ARCHIVE))
            ),
        )
        if name:
            preferences.note_folder(Path(name))
            self.open_path(Path(name))

    def ask_recent(self, path: Path) -> None:
        """Open a file that was open before."""
        if self.may_leave():
            self.open_path(path)

    def open_demo(self) -> None:
        from stonekite.desktop.model.demo_session import demo_session

        if self.may_leave():
            self._document.open(demo_session())

    def open_zither(self) -> None:
        """The demo with paths beside the legs and inside a stage."""
        from stonekite.desktop.model.demo_session import zither_session

        if self.may_leave():
            self._document.open(zither_session())

    def open_amps(self) -> None:
        """The demo of three amplifiers from one side."""
        from stonekite.desktop.model.demo_session import amps_session

        if self.may_leave():
            self._document.open(amps_session())

    def open_calls(self, bpm: int) -> None:
        """The demo of calls thrown into an echo."""
        from stonekite.desktop.model.demo_session import calls_session

        if self.may_leave():
            self._document.open(calls_session(bpm))

    def open_lantern(self) -> None:
        """The demo of loops that feed each other."""
        from stonekite.desktop.model.demo_session import lantern_session

        if self.may_leave():
            self._document.open(lantern_session())

    def open_wheelhouse(self) -> None:
        """The demo of a voice in noise."""
        from stonekite.desktop.model.demo_session import wheelhouse_session

        if self.may_leave():
            self._document.open(wheelhouse_session())

    def open_reel(self) -> None:
        """The demo of several stems."""
        from stonekite.desktop.model.demo_reel import reel_session

        if self.may_leave():
            self._document.open(reel_session())
            self.several_opened.emit()

    def open_generator(self) -> None:
        """Open a session on the test generator in place of a recording."""
        if self.may_leave():
            self.mono = False
            self._document.open(
                Session(sound=Sound(stems=(Stem(id=1, name="Test generator", source=generator_source()),)))
            )
            self.generator_opened.emit()

    def may_leave(self) -> bool:
        """Ask what to do with unsaved changes; False to stay."""
        if not self._document.modified:
            return True
        box = message(
            said("Unsaved changes"),
            said("“{name}” has unsaved changes.").format(name=self._document.name),
            self._window,
        )
        save = box.addButton(QMessageBox.StandardButton.Save)
        box.addButton(said("Discard them"), QMessageBox.ButtonRole.DestructiveRole)
        cancel = box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        return box.clickedButton() is not cancel

    def save(self) -> bool:
        """Save to the session's file, asking for one if it has none; whether it was saved."""
        if not self._document.is_open:
            return False
        return self.save_to(self._document.path) if self._document.path is not None else self.save_as()

    def save_as(self) -> bool:
        if not self._document.is_open:
            return False
        source = self._document.stem.source
        proposed = Path(f"{source.path}.x" if source.generator is not None else source.path)
        name, _ = QFileDialog.getSaveFileName(
            self._window,
            said("Save session"),
            str(proposed.with_suffix(SUFFIX)),
            said("Stone Kite session (*{suffix})").format(suffix=SUFFIX),
        )
        if not name:
            return False
        path = Path(name)
        return self.save_to(path if path.suffix.lower() == SUFFIX else path.with_name(path.name + SUFFIX))

    def save_to(self, path: Path) -> bool:
        """Save to a file; whether it worked."""
        try:
            self._document.save(path)
        except SessionError as error:
            self.complained.emit(str(error))
            return False
        preferences.remember(path)
        self.said.emit(said("Saved as “{name}”.").format(name=path.name))
        return True
