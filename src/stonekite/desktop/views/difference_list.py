"""What differs, in sentences, in the Compare view."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.plain import Label
from stonekite.session.differences import Difference
from stonekite.words import said


class DifferenceList(QWidget):
    """Sentences about what differs, with a button for each stage that can be taken over. `take_asked` gives its id."""

    take_asked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.layout_ = QVBoxLayout(self)
        self.layout_.setContentsMargins(8, 4, 8, 8)
        self.layout_.setSpacing(3)
        self.sentences: list[str] = []
        self.buttons: dict[int, QPushButton] = {}
        self._shown: object = None

    def show_differences(self, found: list[Difference] | str, takeable: bool) -> None:
        """Say what differs, or another word in its place."""
        if (found, takeable) == self._shown:
            return
        self._shown = found, takeable
        while (item := self.layout_.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.hide()
                old.deleteLater()
        self.buttons = {}
        self.sentences = (
            [found]
            if isinstance(found, str)
            else [one.sentence for one in found] or [said("Nothing differs.")]
        )
        stages = [] if isinstance(found, str) else [one.stage for one in found]
        for place, sentence in enumerate(self.sentences):
            label = Label(sentence)
            label.setWordWrap(True)
            self.layout_.addWidget(label)
            stage = stages[place] if place < len(stages) else None
            last = stage is not None and stage not in stages[place + 1 :]
            if takeable and last and stage is not None:
                button = self.buttons[stage] = QPushButton(said("Take this stage over"))
                button.setObjectName("small")
                button.setToolTip(said("Make this stage, and only it, as it is in the version"))
                button.clicked.connect(lambda on=False, stage=stage: self.take_asked.emit(stage))
                row = QHBoxLayout()
                holder = QWidget()
                row.setContentsMargins(0, 0, 0, 6)
                row.addWidget(button)
                row.addStretch(1)
                holder.setLayout(row)
                self.layout_.addWidget(holder)
        self.layout_.addStretch(1)
