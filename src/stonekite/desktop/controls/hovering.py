"""Help under the mouse, for pictures whose parts are not widgets."""

from collections.abc import Callable

from PySide6.QtCore import QObject, QPointF
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QToolTip, QWidget

from stonekite.desktop.controls.plain import tip


class _Help(QObject):
    def __init__(self, widget: QWidget, words: Callable[[QPointF], str]) -> None:
        super().__init__(widget)
        self._widget, self._words = widget, words
        widget.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: object) -> bool:
        if not isinstance(event, QHelpEvent):
            return False
        QToolTip.showText(event.globalPos(), tip(self._words(QPointF(event.pos()))), self._widget)
        return True


def help_by(widget: QWidget, words: Callable[[QPointF], str]) -> None:
    """Have what `words` says of a place in a widget shown there; nothing of an empty one.

    Not by overriding `event`: what a handler raises under such an override ends the process.
    """
    _Help(widget, words)
