"""What a grip does to one setting, as a small line: from left to right the grip, upwards the setting in its range."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import font, roles
from stonekite.session.grips import Target

_WIDE, _STEPS = 36, 18


class TargetLine(QWidget):
    """The name of what is moved, its line, and where on that the grip is now."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._name = ""
        self._target: Target | None = None
        self._switch = False
        self._position = 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(18)

    def sizeHint(self) -> QSize:
        return QSize(160, 18)

    def text(self) -> str:
        """The words of it."""
        return self._name

    def show_target(self, name: str, target: Target | None, switch: bool, position: float) -> None:
        """Show a target, or words alone."""
        shown = name, target, switch, position
        if shown != (self._name, self._target, self._switch, self._position):
            self._name, self._target, self._switch, self._position = shown
            self.setAccessibleName(name)
            self.update()

    def _height(self, position: float) -> float:
        assert self._target is not None
        travel = self._target.at(position)
        return float(travel >= 0.5) if self._switch else travel

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        room = self.width() - (_WIDE + 8 if self._target is not None else 0)
        words = painter.fontMetrics().elidedText(self._name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(0, 0, room, self.height()), Qt.AlignmentFlag.AlignVCenter, words)
        if self._target is None:
            return
        box = QRectF(self.width() - _WIDE - 1, 2, _WIDE, self.height() - 4)
        painter.fillRect(box, roles.ground)
        inner = box.adjusted(3, 3, -3, -3)

        def at(position: float) -> QPointF:
            return QPointF(
                inner.left() + position * inner.width(),
                inner.bottom() - self._height(position) * inner.height(),
            )

        painter.setPen(QPen(roles.muted, 1.2))
        painter.drawPolyline(QPolygonF([at(float(one)) for one in np.linspace(0.0, 1.0, _STEPS + 1)]))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(roles.chalk)
        painter.drawEllipse(at(self._position), 2.2, 2.2)
