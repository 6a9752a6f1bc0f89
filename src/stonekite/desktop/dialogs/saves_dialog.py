"""Earlier saves of a session: when, and how each differs from what is open."""

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QListWidget,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.plain import Label
from stonekite.session.keeping.saves import Save
from stonekite.words import said


class SavesDialog(QDialog):
    """Lists saves; `told` gives the lines about one. `hear_asked` and `take_asked` give the one that is chosen."""

    hear_asked = Signal(object)
    take_asked = Signal(object)

    def __init__(
        self, name: str, found: list[Save], told: Callable[[Save], list[str]], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Earlier saves"))
        self._found, self._told = found, told
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 14)
        layout.setSpacing(10)
        title = Label(said("Earlier saves of “{name}”").format(name=name))
        title.setObjectName("title")
        layout.addWidget(title)
        row = QHBoxLayout()
        row.setSpacing(14)
        self.list = QListWidget()
        self.list.setFixedWidth(190)
        self.list.setAccessibleName(said("Earlier saves"))
        for save in found:
            self.list.addItem(save.words)
        right = QVBoxLayout()
        right.setSpacing(6)
        self.head = Label("")
        self.head.setObjectName("muted")
        self.lines = Label("")
        self.lines.setWordWrap(True)
        self.lines.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.lines.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        scroll = QScrollArea()
        scroll.setWidget(self.lines)
        scroll.setWidgetResizable(True)
        right.addWidget(self.head)
        right.addWidget(scroll, 1)
        row.addWidget(self.list)
        row.addLayout(right, 1)
        layout.addLayout(row, 1)
        foot = QHBoxLayout()
        self.hear = QPushButton(said("Hear it beside now"))
        self.hear.setToolTip(
            said("Keep it as a version, and switch to it: as loud, and one key from what is open")
        )
        self.take = QPushButton(said("Take it back"))
        self.take.setToolTip(said("Make it what is open; undo takes that back"))
        self.close_button = QPushButton(said("Close"))
        foot.addStretch(1)
        for button in (self.hear, self.take, self.close_button):
            button.setAutoDefault(False)
            foot.addWidget(button)
        layout.addLayout(foot)
        self.list.currentRowChanged.connect(self._choose)
        self.hear.clicked.connect(lambda: self.hear_asked.emit(self.chosen))
        self.take.clicked.connect(lambda: self.take_asked.emit(self.chosen))
        self.close_button.clicked.connect(self.reject)
        self.resize(760, 460)
        self.list.setCurrentRow(0 if found else -1)
        self._choose(self.list.currentRow())

    @property
    def chosen(self) -> Save | None:
        place = self.list.currentRow()
        return self._found[place] if 0 <= place < len(self._found) else None

    def _choose(self, place: int) -> None:
        save = self.chosen
        self.hear.setEnabled(save is not None)
        self.take.setEnabled(save is not None)
        if save is None:
            self.head.setText("")
            self.lines.setText(said("This session was not saved over anything yet."))
            return
        self.head.setText(said("Then → now:"))
        self.lines.setText("\n".join(self._told(save)))
