"""A stem fitted to another tempo: what it is at, and which moment of it stays where it is."""

from typing import Annotated

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.plain import Label, ok_or_cancel
from stonekite.engine.offline.fitting import QUICKEST, SLOWEST
from stonekite.notes import FASTEST_BPM, SLOWEST_BPM
from stonekite.session.types import Stem, Tempo
from stonekite.stages.settings import Settings, number, settings_of
from stonekite.words import figure, said


class _Fit(Settings, frozen=True, kw_only=True):
    own_bpm: Annotated[
        float,
        number(
            "It is at", "BPM", SLOWEST_BPM, FASTEST_BPM, step=1.0, decimals=2, help="Tempo of the recording"
        ),
    ] = 120.0
    bpm: Annotated[
        float,
        number(
            "It shall be at",
            "BPM",
            SLOWEST_BPM,
            FASTEST_BPM,
            step=1.0,
            decimals=2,
            help="The tempo it is fitted to",
        ),
    ] = 120.0
    beat_s: Annotated[
        float,
        number(
            "First beat",
            "s",
            0.0,
            600.0,
            step=0.01,
            decimals=3,
            help="Where in the recording its first beat is: that stays in its place",
        ),
    ] = 0.0


_FIT = settings_of(_Fit)


class FitDialog(QDialog):
    """Asks for tempos. `find_asked` is a wish to have the recording's own one found."""

    find_asked = Signal()

    def __init__(self, stem: Stem, tempo: Tempo, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Fit “{name}” to another tempo").format(name=stem.name))
        self.setMinimumWidth(460)
        self.fields = {name: ValueField(setting, said("Fit")) for name, setting in _FIT.items()}
        self.finder = QPushButton(said("Find its tempo"))
        self.finder.setObjectName("small")
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        first = QHBoxLayout()
        first.setSpacing(12)
        first.addWidget(self.fields["own_bpm"], 1)
        first.addWidget(self.finder)
        layout = QVBoxLayout(self)
        layout.setSpacing(8)
        layout.addLayout(first)
        layout.addWidget(self.fields["beat_s"])
        layout.addWidget(self.fields["bpm"])
        layout.addWidget(self.words)
        self._buttons = ok_or_cancel(self)
        layout.addWidget(self._buttons)
        for name, value in (("own_bpm", tempo.bpm), ("bpm", tempo.bpm), ("beat_s", 0.0)):
            self.fields[name].show_value(value)
            self.fields[name].moved.connect(self._show)
            self.fields[name].refused.connect(self.words.setText)
        self.finder.clicked.connect(self.find_asked)
        self._show()

    @property
    def speed(self) -> float:
        """By how much quicker it shall be."""
        return self.fields["bpm"].value / self.fields["own_bpm"].value

    @property
    def beat_s(self) -> float:
        """What stays where it is, in seconds of the recording."""
        return self.fields["beat_s"].value

    def show_found(self, bpm: float | None, first_beat_s: float) -> None:
        """What was found of the recording."""
        if bpm is None:
            self.words.setText(said("No tempo was found: it has to be typed."))
            return
        self.fields["own_bpm"].show_value(bpm)
        self.fields["beat_s"].show_value(first_beat_s)
        self._show()

    def _show(self, *_: object) -> None:
        can = SLOWEST <= self.speed <= QUICKEST and self.speed != 1.0
        self.words.setText(
            said(
                "At {share} of its speed, at the same pitch; its first beat stays where it is. What is between its sides "
                "stays as it was. A new file is written beside the recording, which stays as it is."
            ).format(share=figure(100.0 * self.speed, "%"))
            if SLOWEST <= self.speed <= QUICKEST
            else said("That is too far: it can be fitted to between a quarter and twice its tempo.")
        )
        self._buttons.buttons()[0].setEnabled(can)
