"""What keys are before they are commands: letters of a text that is typed, or H held down."""

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import QApplication, QLineEdit, QWidget

from stonekite.desktop.controls.plain import tip

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window

_WATCHED = frozenset(
    {
        QEvent.Type.KeyPress,
        QEvent.Type.KeyRelease,
        QEvent.Type.ToolTip,
        QEvent.Type.WindowDeactivate,
        QEvent.Type.ShortcutOverride,
    }
)


class KeyFilter(QObject):
    """Sees the events of the whole application. While text is typed, letters and digits belong to the text and not to
    the shortcuts; while H is held, the open stage is heard out; tooltips are never taken for rich text.
    """

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window

    def eventFilter(self, watched: QObject, event: Any) -> bool:
        kind = event.type()
        if kind not in _WATCHED:  # asked of every event there is
            return False
        if kind in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
            return event.key() == Qt.Key.Key_H and self._hold(event)
        if kind == QEvent.Type.ToolTip and isinstance(watched, QWidget) and watched.toolTip():
            words = watched.toolTip()
            if words != tip(words) and not words.startswith("<qt>"):  # a name that looks like rich text
                watched.setToolTip(tip(words))
        if kind == QEvent.Type.WindowDeactivate and self._window.hearing.without_stage:
            self._window.hearing.hear_alone(None)
        if kind == QEvent.Type.ShortcutOverride and isinstance(QApplication.focusWidget(), QLineEdit):
            plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)
            if plain and event.text():
                event.accept()
                return True
        return False

    def _hold(self, event: Any) -> bool:
        window = self._window
        if (
            isinstance(QApplication.focusWidget(), QLineEdit)
            or window.blind_testing.running
            or event.modifiers()
            or QApplication.activeModalWidget() is not None
            or not window.stages.stage
        ):
            return False
        if not event.isAutoRepeat():
            window.hearing.hear_alone("out" if event.type() == QEvent.Type.KeyPress else None)
        return True
