"""The two files in the window: where they go, where they come from, and how they are heard."""

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QFileDialog

from stonekite.desktop.controls.plain import may_overwrite
from stonekite.desktop.links.pairing import Pairing
from stonekite.desktop.model import preferences
from stonekite.desktop.views.pair_view import PairView
from stonekite.engine.offline.compare import source_of
from stonekite.files.audio import READABLE, AudioError, facts
from stonekite.session.types import Sound, Stem
from stonekite.words import said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


def _is_component(path: Path) -> bool:
    try:
        return facts(path).channels == 1
    except AudioError:
        return False


class Pairs(QObject):
    """Holds the pair of a window and its view."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self.pairing = Pairing(window.workers, self)
        self.view = PairView(self.pairing)
        self._heard = "recording"
        window.pages.addWidget(self.view)
        window.source_view.pair_asked.connect(self.show)
        self.view.write_asked.connect(self.ask_write)
        self.view.back_asked.connect(self.ask_back)
        self.view.join_asked.connect(self.ask_join)
        self.view.open_asked.connect(self._open_joined)
        self.view.closed.connect(lambda: window.show_view("stage"))
        self.view.hear_asked.connect(self._hear)
        self.view.play_asked.connect(window.hearing.toggle_play)
        window.transport.ticked.connect(lambda: self.view.show_playing(window.transport.playing))
        self.pairing.to_hear.connect(self._play)
        self.pairing.said.connect(window.say)
        self.pairing.changed.connect(self._changed)
        window.pages.currentChanged.connect(lambda place: self.leave() if not self.view.isVisible() else None)
        window.document.changed.connect(self.follow)
        window.document.opened.connect(self.follow)

    def follow(self) -> None:
        """The document may have another recording."""
        document = self._window.document
        if document.is_open:
            self.pairing.follow(document.stem.source, document.strip.split.matrix)

    def show(self) -> None:
        """Show the two files."""
        self.follow()
        self._window.show_view("pair")

    def leave(self) -> None:
        """Another view is shown: the recording is heard again."""
        self._hear("recording")
        self.view.hear.show_value("recording")

    # Out and back

    def ask_write(self) -> None:
        """Choose a folder for the pair."""
        source = self.pairing.source
        if source is None or not self.pairing.usable:
            return
        start = str(Path(source.path).parent)
        folder = QFileDialog.getExistingDirectory(self._window, said("Where shall the pair go?"), start)
        there = [name for name in self.pairing.names if folder and (Path(folder) / name).exists()]
        if folder and may_overwrite(there, self._window):
            self.pairing.write(Path(folder))

    def ask_back(self) -> None:
        """Choose the files that came back."""
        pattern = said("Audio ({names})").format(names=" ".join("*" + s for s in READABLE))
        written = self.pairing.written
        start = str(Path(written.paths[0]).parent) if written is not None else preferences.last_folder()
        names, _ = QFileDialog.getOpenFileNames(
            self._window, said("The two files that came back"), start, pattern
        )
        if names:
            self.take([Path(name) for name in names])

    def take(self, paths: list[Path]) -> None:
        """Take files back: two, or one that holds both."""
        if len(paths) > 2:
            self._window.say(said("Two files are taken back, or one that holds both; these are more."))
            return
        preferences.note_folder(paths[0])
        self._hear("recording")
        self.view.hear.show_value("recording")
        self.pairing.take_back(paths)

    def take_dropped(self, paths: list[Path]) -> bool:
        """Take files back that were dropped on the window, if that is what is meant: while the two files are shown, or
        two that have one channel each. Whether they were taken.
        """
        shown = self.view.isVisible()
        audio = [path for path in paths if path.suffix.lower() in READABLE]
        if not self.pairing.usable or len(audio) != len(paths) or len(paths) > 2:
            return False
        if not shown and not (len(paths) == 2 and all(_is_component(path) for path in paths)):
            return False
        self.show()
        self.take(paths)
        return True

    def ask_join(self) -> None:
        """Choose a name for the joined file."""
        source = self.pairing.source
        if source is None:
            return
        proposed = Path(source.path).with_name(f"{Path(source.path).stem}.joined.wav")
        name, _ = QFileDialog.getSaveFileName(
            self._window, said("Write joined"), str(proposed), "*.wav *.flac *.aiff"
        )
        if name:
            path = Path(name)
            self.pairing.join(path if path.suffix else path.with_suffix(".wav"))

    def _open_joined(self) -> None:
        path = Path(self.pairing.joined)
        if self._window.opening.may_leave():
            # What follows forgets the pair that is being asked.
            QTimer.singleShot(0, self, lambda: self._window.opening.open_path(path))

    # Hearing

    def _hear(self, what: str) -> None:
        """Hear the recording as the session has it, or what came back in its place."""
        if what == self._heard:
            return
        if what != "recording":
            self.pairing.hear(less=what == "left")
            return
        self._heard = what
        self._window.hearing.handed_over = False
        if self._window.document.is_open:
            self._window.transport.at_the_same_place(self._window.hearing.load)

    def _play(self, path: str) -> None:
        """Play a file in place of the recording."""
        if self.view.hear.value == "recording" or not self.view.isVisible():
            return
        try:
            source = source_of(Path(path))
        except AudioError as error:
            self._window.say(str(error))
            return
        self._heard = self.view.hear.value
        self._window.timing.slow.end()
        self._window.hearing.handed_over = True
        sound = Sound(stems=(Stem(id=1, name=Path(path).stem, source=source),))
        self._window.transport.at_the_same_place(lambda: self._window.transport.load(sound, 1, 1))

    def _changed(self) -> None:
        """Parts or repairs are other ones: what is heard of them is not there any more."""
        if self._heard != "recording" and self.pairing.left is None:
            self.leave()

    def close(self) -> None:
        self.pairing.close()
