"""The row above the timeline: play, where it is, what is repeated, and a word in passing."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QPushButton

from stonekite.desktop.controls import keyed
from stonekite.desktop.controls.choices import Toggle, Words
from stonekite.desktop.controls.plain import Label, tip
from stonekite.words import clock, said

_SAID_MS = 12_000


class TransportRow(QHBoxLayout):
    """Shows where playing stands."""

    def __init__(self) -> None:
        super().__init__()
        self.setSpacing(10)
        self.play_button = QPushButton(said("Play"))
        self.play_button.setObjectName("small")
        self.play_button.setFixedWidth(62)
        keyed.keyed(self.play_button, said("Play or pause"), "play")
        self._time = Label("0:00.00")
        self._time.setObjectName("title")
        self._time.setMinimumWidth(74)
        self._time.setAccessibleName(said("Play position"))
        self._length = Label("")
        self._length.setObjectName("muted")
        self.loop_words = Toggle(said("Loop"), said("Loop"), "")
        keyed.keyed(self.loop_words, said("Repeat the dragged range"), "loop")
        self._loop_range = Label("")
        self._loop_range.setObjectName("muted")
        self.hint = Words(Qt.AlignmentFlag.AlignRight)
        for part in (self.play_button, self._time, self._length, self.loop_words, self._loop_range):
            self.addWidget(part)
        self.addWidget(self.hint, 1)
        self.cancel = QPushButton(said("Cancel"))
        self.cancel.setObjectName("small")
        self.cancel.setToolTip(said("End what is computed behind the window"))
        self.addWidget(self.cancel)
        self.cancel.hide()

    def show_position(self, seconds: float, playing: bool) -> None:
        """Where playing stands, and whether it goes on."""
        for widget, word in (
            (self._time, clock(seconds)),
            (self.play_button, said("Pause") if playing else said("Play")),
        ):
            if widget.text() != word:
                widget.setText(word)

    def show_length(self, seconds: float) -> None:
        """How long the recording is."""
        self._length.setText(f"/ {clock(seconds)}")

    def show_loop(self, ends: tuple[float, float] | None) -> None:
        """The range in seconds that is repeated; None for none."""
        self.loop_words.setChecked(ends is not None)
        self._loop_range.setText(" – ".join(map(clock, ends)) if ends is not None else "")

    def say(self, sentence: str) -> None:
        """A word that needs no answer; it goes away by itself."""
        self.hint.setText(sentence)
        self.hint.setToolTip(tip(sentence))
        if sentence:
            QTimer.singleShot(_SAID_MS, self, lambda: self._unsay(sentence))

    def _unsay(self, sentence: str) -> None:
        if self.hint.text() == sentence:
            self.hint.setText("")
