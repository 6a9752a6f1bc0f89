"""Two small questions: how to separate a recording, and what a starting curve is to follow."""

from PySide6.QtWidgets import (
    QButtonGroup,
    QDialog,
    QHBoxLayout,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.plain import Label
from stonekite.words import said


class Question(QDialog):
    """A question with a few answers, one of which is taken. `answer` is its key."""

    def __init__(self, title: str, words: str, answers: dict[str, str], go: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(430)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 16)
        layout.setSpacing(10)
        label = Label(words)
        label.setWordWrap(True)
        layout.addWidget(label)
        self.group = QButtonGroup(self)
        for key, word in answers.items():
            button = QRadioButton(word)
            button.setProperty("key", key)
            self.group.addButton(button)
            layout.addWidget(button)
        self.group.buttons()[0].setChecked(True)
        buttons = QHBoxLayout()
        buttons.addStretch()
        cancel, self.go = QPushButton(said("Cancel")), QPushButton(go)
        self.go.setDefault(True)
        cancel.clicked.connect(self.reject)
        self.go.clicked.connect(self.accept)
        buttons.addWidget(cancel)
        buttons.addWidget(self.go)
        layout.addLayout(buttons)

    @property
    def answer(self) -> str:
        return self.group.checkedButton().property("key")  # type: ignore[union-attr]
