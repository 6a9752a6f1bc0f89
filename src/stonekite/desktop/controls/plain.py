"""Words that may come from a file are shown as they are: names and notes are never taken for rich text."""

import html

from PySide6.QtCore import Qt
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QMessageBox, QWidget

from stonekite.words import said

MOST = 700
"""A longer sentence in a box is cut: no fault needs so many words."""


class Label(QLabel):
    """A label that shows its text as it is."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


def tip(text: str) -> str:
    """A tooltip's text that Qt will not take for rich text."""
    if "<" not in text:
        return text
    return f"<qt>{html.escape(text)}</qt>".replace("\n", "<br>")


def message(title: str, text: str, parent: QWidget | None = None) -> QMessageBox:
    """A box with plain words; add buttons and `exec` it."""
    short = text if len(text) <= MOST else f"{text[: MOST - 120]} … {text[-80:]}"
    box = QMessageBox(QMessageBox.Icon.NoIcon, title, "", parent=parent)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(short)
    return box


def ok_or_cancel(dialog: QDialog) -> QDialogButtonBox:
    """The buttons of a dialog that is accepted or rejected."""
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    for button in buttons.buttons():
        button.setIcon(QIcon())
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return buttons


def may_overwrite(names: list[str], parent: QWidget | None = None) -> bool:
    """Ask whether files of these names, which are there already, may be overwritten; nothing is asked about none."""
    if not names:
        return True
    shown = said(" and ").join(f"“{name}”" for name in names[:4])
    if len(names) > 4:
        shown += said(" and {count} more").format(count=len(names) - 4)
    box = message(said("Overwrite?"), said("{names} will be overwritten.").format(names=shown), parent)
    go = box.addButton(said("Overwrite"), QMessageBox.ButtonRole.AcceptRole)
    box.addButton(QMessageBox.StandardButton.Cancel)
    box.exec()
    return box.clickedButton() is go
