"""A parallel bus in one step: what feeds it, and what it begins with."""

from PySide6.QtWidgets import QCheckBox, QDialog, QScrollArea, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.controls.plain import Label, ok_or_cancel
from stonekite.session.mix.mix_edits import BEGINNINGS, Begins
from stonekite.session.types import Sound
from stonekite.words import said


class ParallelDialog(QDialog):
    """Asks for the stems that feed a bus beside the mix."""

    def __init__(self, sound: Sound, chosen: set[int], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Parallel bus"))
        self.setMinimumWidth(430)
        layout = QVBoxLayout(self)
        layout.setSpacing(8)
        layout.addWidget(Label(said("Fed by, besides the mix:")))
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(4, 4, 4, 4)
        some = chosen & {stem.id for stem in sound.stems}
        self.boxes: dict[int, QCheckBox] = {}
        for stem in sound.stems:
            box = self.boxes[stem.id] = QCheckBox(stem.name.replace("&", "&&"))
            box.setChecked(stem.id in some if len(some) > 1 else True)
            column.addWidget(box)
        column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inside)
        area.setMinimumHeight(min(360, 34 * len(sound.stems) + 16))
        layout.addWidget(area, 1)
        layout.addWidget(Label(said("It begins with")))
        self.begins = Segments(BEGINNINGS, said("It begins with"))
        layout.addWidget(self.begins)
        about = Label(
            said(
                "Its two sides are worked on by themselves, set alike; its level is down at −24 dB, to be eased in. It "
                "is in time with the mix to the sample."
            )
        )
        about.setObjectName("muted")
        about.setWordWrap(True)
        layout.addWidget(about)
        layout.addWidget(ok_or_cancel(self))

    @property
    def stems(self) -> list[int]:
        """The ids of those that feed it."""
        return [number for number, box in self.boxes.items() if box.isChecked()]

    @property
    def start(self) -> Begins:
        """What it begins with."""
        return self.begins.value
