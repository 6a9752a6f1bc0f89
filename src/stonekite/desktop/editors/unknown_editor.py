"""What is shown of a stage whose kind is not installed here."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout

from stonekite.desktop.controls.plain import Label
from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.view_bar import ViewBar
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.response_picture import ResponsePicture
from stonekite.stages.base import LegName
from stonekite.words import said


class UnknownEditor(Editor):
    """Says what the stage is, and what becomes of it: there is nothing to set."""

    def __init__(self, document: Document, kind: str) -> None:
        super().__init__()
        self._document = document
        self.view = ViewBar(ResponsePicture())
        self.view.hide()
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        self.words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(40, 0, 40, 0)
        layout.addWidget(self.view)
        layout.addWidget(self.words, 1)

    def show_stage(self, number: int, leg: LegName) -> None:
        stage = self._document.stage(number)
        self.words.setText(
            said(
                "This stage is of the kind “{name}”, which is not installed here.\n"
                "It is kept as it came, with all its settings, and lets the sound pass."
            ).format(name=getattr(stage, "name", ""))
        )

    def show_heard(self, what: str | None) -> None:
        """Nothing of it can be heard alone."""

    def show_live(self, status: np.void) -> None:
        """It does nothing."""
