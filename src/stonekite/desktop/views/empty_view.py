"""What stands in the middle where nothing is open, or no stage is there yet."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout

from stonekite.desktop.controls.plain import Label
from stonekite.words import said


class EmptyView(QFrame):
    """A sentence and what can be done now: `asked` is the first of it, to open something or to add an EQ."""

    asked = Signal()
    demo_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._words = Label(said("Open a recording or a session, or drop one here."))
        self._words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._words.setObjectName("muted")
        self.button = QPushButton(said("Open…"))
        self._demo = QPushButton(said("Open the demo"))
        self.button.clicked.connect(self.asked)
        self._demo.clicked.connect(self.demo_asked)
        buttons = QHBoxLayout()
        buttons.setSpacing(10)
        buttons.addStretch()
        buttons.addWidget(self.button)
        buttons.addWidget(self._demo)
        buttons.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 10)
        layout.setSpacing(6)
        layout.addStretch()
        layout.addWidget(self._words)
        layout.addSpacing(8)
        layout.addLayout(buttons)
        layout.addStretch()

    def show_no_stage(self, untouched: bool) -> None:
        """Something is open, but without a stage; `untouched` if its legs are as they came, too."""
        self._words.setText(
            said("No stage yet: the legs are joined as they were split.")
            if untouched
            else said("No stage yet: only the legs' levels and switches are at work.")
        )
        self.button.setText(said("Add an EQ"))
        self._demo.hide()
