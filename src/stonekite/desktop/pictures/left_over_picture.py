"""What is left of two signals over the time, in dBFS, against what there was."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.words import clock, said

_TOP_DB, _BOTTOM_DB = 0.0, -144.0


class LeftOverPicture(Picture):
    """Draws levels over the time: the recording grey and dashed, what is left of it in chalk, and what was worked on."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(64)
        self.setAccessibleName(said("Left over against the recording"))
        self._levels: list[float] = []
        self._own: list[float] = []
        self._step_s = 0.1
        self._worked: list[tuple[float, float]] = []

    def sizeHint(self) -> QSize:
        return QSize(300, 90)

    def plot(self) -> QRectF:
        return QRectF(self.rect()).adjusted(30, 4, -4, -16)

    def show_left(
        self, levels: list[float], own: list[float], step_s: float, worked: list[tuple[float, float]]
    ) -> None:
        """Draw other levels in dBFS, one for each step of the time; none: nothing is known."""
        self._levels, self._own, self._step_s, self._worked = levels, own, step_s, worked
        self.renew()

    def _y(self, level: float) -> float:
        plot = self.plot()
        share = (_TOP_DB - max(_BOTTOM_DB, min(_TOP_DB, level))) / (_TOP_DB - _BOTTOM_DB)
        return plot.top() + share * plot.height()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "all", self._paint, roles.panel)

    def _paint(self, painter: QPainter) -> None:
        self.ground(painter)
        plot = self.plot()
        painter.setFont(font(7.5))
        for level in (0, -48, -96, -144):
            y = self._y(level)
            painter.setPen(QPen(roles.line, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(roles.muted)
            painter.drawText(
                QRectF(0, y - 7, plot.left() - 4, 14),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{level}".replace("-", "−"),
            )
        count = len(self._levels)
        if not count:
            return
        whole = count * self._step_s
        for start, end in self._worked:
            left = plot.left() + plot.width() * start / whole
            painter.fillRect(
                QRectF(left, plot.top(), max(2.0, plot.width() * (end - start) / whole), plot.height()),
                mixed(roles.warning, roles.ground, 0.18),
            )
        for values, pen in (
            (self._own, QPen(roles.muted, 1, Qt.PenStyle.DashLine)),
            (self._levels, QPen(roles.chalk, 1)),
        ):
            painter.setPen(pen)
            columns = max(2, min(int(plot.width()), count))
            line = []
            for k in range(columns):
                a, b = k * count // columns, max(k * count // columns + 1, (k + 1) * count // columns)
                line.append(
                    QPointF(plot.left() + plot.width() * k / (columns - 1), self._y(max(values[a:b])))
                )
            painter.drawPolyline(line)
        painter.setPen(roles.muted)
        for share, align in (
            (0.0, Qt.AlignmentFlag.AlignLeft),
            (1.0, Qt.AlignmentFlag.AlignRight),
        ):
            painter.drawText(
                QRectF(plot.left(), plot.bottom() + 1, plot.width(), 14), align, clock(whole * share, 0)
            )
        painter.drawText(
            QRectF(plot.left(), plot.bottom() + 1, plot.width(), 14),
            Qt.AlignmentFlag.AlignHCenter,
            said("dBFS over the time; dashed: the recording"),
        )
