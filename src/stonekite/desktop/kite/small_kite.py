"""A strip in small: its two legs, and a mark for each stage on them."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from stonekite.desktop.controls.theme import faded, roles
from stonekite.desktop.kite.stones import stone_path
from stonekite.session.types import LEGS, Strip

_LEAST, _MOST = 15.0, 34.0
"""From one stone to the next."""


def paint_small(painter: QPainter, strip: Strip, room: QRectF) -> None:
    """Paint a strip into a rectangle: stones of what is in are whole, of what is out outlines."""
    middle, height = room.center().y(), room.height() / 2 - 7
    left, right = room.left() + 14, room.right() - 14
    slope = 12.0
    painter.setPen(QPen(roles.muted, 1.2))
    painter.drawLine(QPointF(room.left(), middle), QPointF(left, middle))
    painter.drawLine(QPointF(right, middle), QPointF(room.right(), middle))
    for leg, side in zip(LEGS, (-1.0, 1.0), strict=True):
        y = middle + side * height
        colour = roles.component(strip.split.component(leg))
        path = QPainterPath(QPointF(left, middle))
        for x, there in ((left + slope, y), (right - slope, y), (right, middle)):
            path.lineTo(x, there)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(faded(colour, 0.35) if strip.leg(leg).muted else colour, 1.4))
        painter.drawPath(path)
        count = max(1, len(strip.stages))
        step = min(_MOST, max(_LEAST, (right - left - 2 * slope - 24) / count))
        for k, stage in enumerate(strip.stages):
            x = left + slope + 18 + k * step
            if getattr(stage, leg) is None or x > right - slope - 10:
                continue
            painter.setBrush(roles.raised if stage.inserted else Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(colour if stage.inserted else faded(colour, 0.4), 1.4))
            painter.drawPath(stone_path(QPointF(x, y), stage.id, 0.27))
    for k, spur in enumerate(strip.spurs[:3]):
        y = middle + (k - 0.5 * (min(3, len(strip.spurs)) - 1)) * 5.0
        colour = roles.component(spur.source) if not spur.of_both else roles.chalk
        painter.setPen(QPen(faded(colour, 0.3 if spur.muted else 0.8), 1.0))
        painter.drawLine(QPointF(left + slope + 8, y), QPointF(right - slope - 8, y))
