"""The taps of an echo: which one is in hand, its settings, a new one, and one less."""

from typing import Any

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.editors.rows import SettingsRow
from stonekite.stages import riding
from stonekite.words import said


class TapsRow(QWidget):
    """`moved` gives a tap's place, a setting, its value and a gesture token; `ride_asked` the place and the setting that
    is to ride."""

    moved = Signal(int, str, object, object)
    refused = Signal(str)
    added = Signal()
    removed = Signal(int)
    ride_asked = Signal(int, str)

    def __init__(self, tap: type[msgspec.Struct], most: int) -> None:
        super().__init__()
        self._most = most
        self.chosen = 0
        self._taps: tuple[Any, ...] = ()
        self.words = Label(said("Taps"))
        self.words.setObjectName("muted")
        self.choice = Segments({0: "1"}, said("Tap in hand"), said("Which tap the settings beside it are of"))
        self.choice.chosen.connect(self.choose)
        self.add = QPushButton(said("New tap"))
        self.add.setToolTip(
            said("An echo that does not come back, behind the last one; {most} at the most").format(most=most)
        )
        self.remove = QPushButton(said("Remove"))
        self.remove.setToolTip(said("Take this tap away (Delete in the picture)"))
        for button in (self.add, self.remove):
            button.setObjectName("small")
        self.add.clicked.connect(lambda: self.added.emit())
        self.remove.clicked.connect(lambda: self.removed.emit(self.chosen))
        self.row = SettingsRow(tap, said("Tap"), rides=True)
        self.row.ride_asked.connect(lambda field: self.ride_asked.emit(self.chosen, field))
        self.row.moved.connect(lambda field, value, token: self.moved.emit(self.chosen, field, value, token))
        self.row.refused.connect(self.refused)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        layout.addWidget(self.words)
        layout.addWidget(self.choice)
        layout.addWidget(self.row, 1)
        layout.addStretch(0)
        layout.addWidget(self.remove)
        layout.addWidget(self.add)

    def choose(self, tap: int) -> None:
        """Take a tap in hand."""
        self.chosen = tap
        self._show()

    def show_taps(self, stage: Any, bpm: float, both: bool) -> None:
        self._stage, self._taps = stage, stage.shared.taps
        self.row.bpm, self._both = bpm, both
        self._show()

    def _show(self) -> None:
        there = [k for k, tap in enumerate(self._taps) if tap is not None]
        count = len(there)
        if there and self.chosen not in there:
            self.chosen = min(there, key=lambda k: abs(k - self.chosen))
        self.choice.set_words({k: str(k + 1) for k in there or [0]})
        self.choice.show_value(self.chosen)
        for part in (self.choice, self.row, self.remove):
            part.setVisible(count > 0)
        self.words.setText(
            said("Taps") if count else said("No taps: echoes that do not come back, thrown where you like")
        )
        self.add.setEnabled(count < self._most)
        if count:
            self.row.show_values(self._taps[self.chosen], both=self._both)
            self.row.show_ridden(riding.ridden(self._stage, f"shared.taps.{self.chosen}."))
