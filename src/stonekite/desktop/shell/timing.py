"""The tempo in the window: its dialog, its button, and the beats on the timeline; and how fast is listened."""

from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QPushButton

from stonekite.desktop.controls import keyed
from stonekite.desktop.dialogs.tempo_dialog import TempoDialog
from stonekite.desktop.views.slow_button import SlowButton
from stonekite.processes.jobs import Answer, FindTempo, TempoFound
from stonekite.session.edits import put
from stonekite.session.types import Tempo
from stonekite.words import figure, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Timing(QObject):
    """`said` has a word about what was done."""

    said = Signal(str)

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self.dialog: TempoDialog | None = None
        self.button = QPushButton(said("Tempo…"))
        self.button.setObjectName("small")
        keyed.keyed(self.button, said("How fast the music goes: beats, and times given as notes"), "tempo")
        self.button.clicked.connect(self.open)
        self.slow = SlowButton(window.document, window.transport, window.errands, window.hearing.played)
        self.slow.began.connect(window.hearing.slow_down)
        window.hearing.alone.connect(lambda what: self.slow.follow())
        window.listen.chosen.connect(lambda listening: self.slow.follow())
        self.slow.over.connect(window.hearing.take_back)
        window.timeline.beat_picked.connect(self._picked)

    @property
    def tempo(self) -> Tempo:
        return self._window.document.session.sound.tempo

    def open(self) -> None:
        """Show the dialog; it stays open beside the work."""
        if not self._window.document.is_open:
            return
        if self.dialog is None:
            self.dialog = TempoDialog(self._window)
            self.dialog.moved.connect(self.put)
            self.dialog.find_asked.connect(self.find)
            self.dialog.here_asked.connect(lambda: self._picked(self._window.transport.position_s))
            self.dialog.click_asked.connect(self._window.timeline.pick_beat)
        self.refresh()
        self.dialog.show()
        self.dialog.raise_()
        self.dialog.activateWindow()

    def refresh(self) -> None:
        """Show the session's tempo everywhere."""
        if not self._window.document.is_open:
            return
        tempo = self.tempo
        known = tempo != Tempo()
        self.button.setText(
            figure(tempo.bpm, "BPM", 0 if tempo.bpm == round(tempo.bpm) else 2) if known else said("Tempo…")
        )
        self._window.timeline.show_tempo(tempo if known else None)
        if self.dialog is not None:
            self.dialog.show_tempo(tempo)

    def put(self, values: dict[str, Any], words: str, token: object = None) -> None:
        """Change the tempo, and with it all that is given by notes."""
        document = self._window.document
        tempo = msgspec.structs.replace(self.tempo, **values)
        if tempo != self.tempo:
            gesture = None if token is None else (token, "tempo", *sorted(values))
            document.edit(
                put(document.session, ("sound", "tempo"), tempo), words[:1].upper() + words[1:], gesture
            )

    def find(self) -> None:
        """Have the recording's own tempo found, and use it."""
        source = self._window.document.stem.source

        def use(answer: Answer) -> None:
            if isinstance(answer, TempoFound) and self.dialog is not None:
                self.dialog.show_found(answer.bpm, answer.first_beat_s, answer.confidence, answer.other_bpm)

        self._window.errands.send(lambda n: FindTempo(n, source), said("Finding the tempo"), use)

    def _picked(self, seconds: float) -> None:
        self.put({"first_beat_s": round(max(0.0, seconds), 4)}, said("first beat"))
