"""The image scope: recent samples in a kite-shaped field, mid upwards and side across."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.words import said


class Scope(Picture):
    """Draws stereo samples (2, n): left leans left, right leans right, what both share stands upright."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(110)
        self.setAccessibleName(said("Image scope"))
        self.setToolTip(
            said(
                "Where the sound sits in the image: upright is Mid, across is Side, the upper edges are Left and "
                "Right. The scale follows the level."
            )
        )
        self._points = np.zeros((2, 0))
        self._scale = 0.1

    def sizeHint(self) -> QSize:
        return QSize(200, 190)

    def show_samples(self, stereo: np.ndarray) -> None:
        """Draw recent samples; the scale follows their peak slowly."""
        peak = float(np.abs(stereo).max(initial=0.0))
        self._scale = max(peak, self._scale * 0.97, 1e-4)
        if peak < 1e-5 and not self._points.any():
            return
        self._points = np.array(stereo)
        self.update()

    @property
    def _reach(self) -> float:
        return min(self.width() / 2 - 16, self.height() / 2 - 15)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "field", self._paint_field, roles.panel)
        if not self._points.shape[1]:
            return
        left, right = self._points / self._scale
        x = self.width() / 2 + (right - left) * 0.5 * self._reach
        y = self.height() / 2 - (left + right) * 0.5 * self._reach
        painter.setPen(QPen(mixed(roles.chalk, roles.ground, 0.75), 1.0))
        painter.drawPoints(polyline(x, y))

    def _paint_field(self, painter: QPainter) -> None:
        centre, reach = QPointF(self.width() / 2, self.height() / 2), self._reach
        corners = [QPointF(0, -reach), QPointF(reach, 0), QPointF(0, reach), QPointF(-reach, 0)]
        painter.setPen(QPen(roles.line, 1))
        painter.setBrush(roles.ground)
        painter.drawPolygon(QPolygonF([centre + c for c in corners]))
        painter.drawLine(centre - QPointF(reach, 0), centre + QPointF(reach, 0))
        painter.drawLine(centre - QPointF(0, reach), centre + QPointF(0, reach))
        painter.setFont(font(9, bold=True))
        half = reach / 2
        for name, place in (
            ("mid", QPointF(0, -reach - 8)),
            ("side", QPointF(reach + 8, 0)),
            ("left", QPointF(-half - 10, -half - 8)),
            ("right", QPointF(half + 10, -half - 8)),
        ):
            painter.setPen(roles.component(name))
            spot = centre + place
            painter.drawText(
                QRectF(spot.x() - 10, spot.y() - 10, 20, 20), Qt.AlignmentFlag.AlignCenter, name[0].upper()
            )
