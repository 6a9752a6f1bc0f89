"""How much louder or quieter the whole gets with the delay of a spur: drag the delay along the curve."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.session.spur import LONGEST_MS
from stonekite.words import figure, said

_LOW_DB, _HIGH_DB = -12.0, 9.0


class DelayPicture(Picture):
    """The level of the whole against what it is now, for every delay that a spur can have.

    `moved` gives another delay in ms and a gesture token; a double-click wishes for none.
    """

    moved = Signal(float, object)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(90)
        self.setAccessibleName(said("Level of the whole by the delay of the spur"))
        self.setToolTip(said("Drag: another delay (Left, Right; with Shift finer). Double-click: none"))
        self._delay_ms = 0.0
        self._curve: np.ndarray | None = None
        self._words = ""
        self._colour = roles.chalk
        self._drag: object | None = None

    def sizeHint(self) -> QSize:
        return QSize(700, 200)

    def plot(self) -> QRectF:
        return QRectF(40, 8, self.width() - 62, self.height() - 30)

    def show_spur(self, delay_ms: float, colour: QColor) -> None:
        """Mark a delay in ms."""
        self._delay_ms, self._colour = delay_ms, colour
        self.setAccessibleDescription(said("Delay {delay_ms}").format(delay_ms=figure(delay_ms, "ms", 2)))
        self.renew("still")

    def show_curve(self, curve_db: np.ndarray | None, words: str = "") -> None:
        """Levels in dB for delays in equal steps over the whole range, and a word about them; None while not known."""
        self._curve, self._words = curve_db, words
        self.setAccessibleDescription(words)
        self.renew("still")

    def x_of(self, delay_ms: float) -> float:
        plot = self.plot()
        return plot.left() + plot.width() * (delay_ms + LONGEST_MS) / (2 * LONGEST_MS)

    def _y(self, db: float) -> float:
        plot = self.plot()
        return plot.bottom() - plot.height() * (db - _LOW_DB) / (_HIGH_DB - _LOW_DB)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "still", self._paint)
        self.frame(painter)

    def _paint(self, painter: QPainter) -> None:
        self.ground(painter)
        plot = self.plot()
        painter.setFont(font(7.5))
        grid = mixed(roles.line, roles.ground, 0.55)
        for ms in range(-20, 21, 5):
            painter.setPen(QPen(grid, 1))
            painter.drawLine(QPointF(self.x_of(ms), plot.top()), QPointF(self.x_of(ms), plot.bottom()))
            painter.setPen(roles.muted)
            box = QRectF(self.x_of(ms) - 30, plot.bottom() + 3, 60, 14)
            word = f"{ms} ms".replace("-", "−") if abs(ms) in (0, 20) else str(ms).replace("-", "−")
            painter.drawText(box, Qt.AlignmentFlag.AlignHCenter, word)
        for db in range(-6, 9, 6):
            painter.setPen(QPen(roles.line if db == 0 else grid, 1))
            painter.drawLine(QPointF(plot.left(), self._y(db)), QPointF(plot.right(), self._y(db)))
            painter.setPen(roles.muted)
            painter.drawText(
                QRectF(0, self._y(db) - 7, plot.left() - 6, 14),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{db:+d}".replace("-", "−") if db else "0 dB",
            )
        painter.setClipRect(plot)
        if self._curve is None:
            painter.setPen(roles.muted)
            painter.setFont(font(9))
            painter.drawText(
                plot,
                Qt.AlignmentFlag.AlignCenter,
                said("Align to leg shows how the whole adds up at every delay"),
            )
        else:
            painter.setPen(QPen(self._colour, 1))
            delays = np.linspace(-LONGEST_MS, LONGEST_MS, len(self._curve))
            xs = plot.left() + plot.width() * (delays + LONGEST_MS) / (2 * LONGEST_MS)
            ys = [self._y(float(db)) for db in self._curve]
            painter.drawPolyline(polyline(xs, np.array(ys)))
        x = self.x_of(self._delay_ms)
        painter.setPen(QPen(roles.chalk, 1))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        if self._words:
            painter.setFont(font(8.5))
            self.label(
                painter,
                QRectF(plot.left() + 8, plot.top() + 5, 100, 16),
                self._words,
                Qt.AlignmentFlag.AlignLeft,
            )
        words = figure(self._delay_ms, "ms", 2)
        painter.setFont(font(8.5, bold=True))
        wide = painter.fontMetrics().horizontalAdvance(words) + 14
        left = min(plot.right() - wide - 2, max(plot.left() + 2, x - 0.5 * wide))
        box = QRectF(left, plot.bottom() - 24, wide, 19)
        painter.setBrush(roles.ground)
        painter.setPen(QPen(self._colour, 1.2))
        painter.drawRoundedRect(box, 6, 6)
        painter.setPen(roles.chalk)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
        painter.setClipping(False)

    def _delay_at(self, x: float) -> float:
        plot = self.plot()
        share = min(1.0, max(0.0, (x - plot.left()) / plot.width()))
        return round((2 * share - 1) * LONGEST_MS, 2)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.plot().contains(event.position()):
            self._drag = object()
            self.moved.emit(self._delay_at(event.position().x()), self._drag)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None:
            self.moved.emit(self._delay_at(event.position().x()), self._drag)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.moved.emit(0.0, None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 0.01 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.1
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            way = 1 if event.key() == Qt.Key.Key_Right else -1
            held = min(LONGEST_MS, max(-LONGEST_MS, self._delay_ms + way * step))
            self.moved.emit(round(held, 2), "keys")
        else:
            super().keyPressEvent(event)
