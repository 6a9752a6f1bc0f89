"""The typed entry of a value."""

from collections.abc import Callable

from PySide6.QtCore import QRect, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication, QLineEdit, QWidget


class Entry(QLineEdit):
    """The typed entry of a value: Enter takes it, Escape leaves it."""

    left = Signal()

    @classmethod
    def over(
        cls, owner: QWidget, name: str, place: QRect, text: str, done: Callable[[str | None], None]
    ) -> "Entry":
        """One over a part of a widget, which gets the focus back after keys; `done` gets what was typed, or None where it
        was left."""
        entry = cls(owner)
        entry.setAccessibleName(name)
        entry.setGeometry(place)
        entry.setText(text)
        entry.selectAll()
        over = False

        def end(typed: str | None) -> None:
            nonlocal over
            if not over:  # letting go of the focus ends it a second time
                over = True
                entry.deleteLater()
                if QApplication.focusWidget() in (
                    entry,
                    None,
                ):  # not where another widget was clicked meanwhile
                    owner.setFocus()
                owner.update()
                done(typed)

        entry.editingFinished.connect(lambda: end(entry.text().strip()))
        entry.left.connect(lambda: end(None))
        entry.show()
        entry.setFocus()
        return entry

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape):
            event.accept()  # the field below would open another entry, a dialog would close
