"""Spectrograms of what goes through a stage, with what they show and of which time."""

from typing import Literal

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.pictures.passing_picture import SHOWN, PassingPicture, Range
from stonekite.session.types import Split
from stonekite.words import said

Over = Literal["lately", "loop", "all"]
OVER: dict[Over, str] = {"lately": said("Last 8 s"), "loop": said("Loop"), "all": said("All")}


class PassingBox(QWidget):
    """`asked` tells that another time is wanted, `placed` the time in the recording that was clicked at."""

    asked = Signal()
    placed = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self.over: Over = "lately"
        self.picture = PassingPicture()
        self.which = Segments(
            dict(SHOWN), said("Spectrograms"), said("What the spectrograms show of both legs")
        )
        self.which.show_value("gone")
        self.which.chosen.connect(self.picture.show_what)
        self.when = Segments(
            dict(OVER),
            said("Time of the spectrograms"),
            said("What played lately; or, whether it was played or not, the loop or all of the recording"),
        )
        self.when.chosen.connect(self._choose)
        self.picture.placed.connect(self.placed)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        row.addWidget(self.which)
        row.addWidget(self.when)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        column.addWidget(self.picture, 1)
        column.addLayout(row)

    def _choose(self, over: Over) -> None:
        self.over = over
        self.when.show_value(over)
        if over == "lately":
            self.picture.show_range(None)
        self.asked.emit()

    def show_range(self, shown: Range) -> None:
        """Show a range, if one is wanted."""
        if self.over != "lately":
            self.picture.show_range(shown)

    def show_stage(self, split: Split) -> None:
        self.picture.show_stage(split)

    def add(self, spectra: np.ndarray) -> None:
        """One look more at what plays."""
        self.picture.add(spectra)

    def forget(self) -> None:
        self.picture.forget()
