"""A plot over an axis of frequency or time that it shares with others: linked cursors and zoom."""

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, log

from PySide6.QtCore import QObject, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.pictures.ride_line import Line
from stonekite.measure.measures import Measures
from stonekite.words import NAMES, clock, mark, said

_HERTZ = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000)


@dataclass(frozen=True)
class Pair:
    """What is drawn: names and measures of before and after, and of the difference signal."""

    before_name: str = ""
    after_name: str = ""
    before: Measures | None = None
    after: Measures | None = None
    difference: Measures | None = None
    components: tuple[str, str] = ("mid", "side")
    rides: Sequence[tuple[Line | None, Line | None]] = ()
    """What rides in one of both: the lines of before and after, None where there is no such setting."""


class Axis(QObject):
    """A range of frequency or time that several plots show; `changed` says that it was zoomed or that the mouse is
    somewhere else on it (`cursor`, None for nowhere).
    """

    changed = Signal()
    pointed = Signal()

    def __init__(self, low: float, high: float, *, logarithmic: bool) -> None:
        super().__init__()
        self.logarithmic = logarithmic
        self.whole = low, high
        self.low, self.high = low, high
        self.cursor: float | None = None

    def set_whole(self, low: float, high: float) -> None:
        """Another recording or range: all of it."""
        if (low, high) != self.whole:
            self.whole = low, high
            self.low, self.high = low, high
            self.changed.emit()

    def share(self, value: float) -> float:
        """Where a value is, from 0 to 1."""
        if self.logarithmic:
            return log(max(value, 1e-9) / self.low) / log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)

    def value(self, share: float) -> float:
        if self.logarithmic:
            return self.low * exp(share * log(self.high / self.low))
        return self.low + share * (self.high - self.low)

    def zoom(self, share: float, factor: float) -> None:
        """Show less (factor < 1) or more around a place."""
        middle = self.value(share)
        if self.logarithmic:
            low, high = middle * (self.low / middle) ** factor, middle * (self.high / middle) ** factor
            least = high / low < 1.3
        else:
            low, high = middle + (self.low - middle) * factor, middle + (self.high - middle) * factor
            least = high - low < 0.5
        if not least:
            self.low, self.high = max(self.whole[0], low), min(self.whole[1], high)
            self.changed.emit()

    def move(self, share: float) -> None:
        """Shift what is shown by a share of it."""
        low, high = self.value(share), self.value(1 + share)
        if self.whole[0] <= low and high <= self.whole[1]:
            self.low, self.high = low, high
            self.changed.emit()

    def reset(self) -> None:
        self.low, self.high = self.whole
        self.changed.emit()

    def point(self, value: float | None) -> None:
        """The mouse is at a value; None: it has gone."""
        if value != self.cursor:
            self.cursor = value
            self.pointed.emit()


class Plot(Picture):
    """Something over an axis. Wheel and + and − zoom, arrows and dragging move, double-click and 0 show all."""

    title = ""
    unit = ""

    def __init__(self, axis: Axis) -> None:
        super().__init__()
        self.axis = axis
        self.pair = Pair()
        self._drag: float | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(180, 90)
        self.setAccessibleName(self.title)
        self.setToolTip(
            said("{title}\nWheel: zoom, drag: move, double-click: all (+ and −, arrows, 0)").format(
                title=self.title
            )
        )
        axis.changed.connect(self.renew)
        axis.pointed.connect(self._pointed)

    def sizeHint(self) -> QSize:
        return QSize(400, 180)

    def show_pair(self, pair: Pair) -> None:
        """Draw other measures."""
        self.pair = pair
        self.renew()

    def _pointed(self) -> None:
        self.setAccessibleDescription(self.spoken())
        self.update()

    # What a plot is of

    def known(self) -> bool:
        """Whether there is something to draw."""
        return self.pair.after is not None or self.pair.before is not None

    def up(self) -> tuple[float, float, Sequence[float]]:
        """Lowest and highest value, and the marks between."""
        raise NotImplementedError

    def paint_data(self, painter: QPainter) -> None:
        raise NotImplementedError

    def readout(self) -> str:
        """What is at the cursor, in words, beside the title."""
        raise NotImplementedError

    def spoken(self) -> str:
        """All that is at the cursor, in words."""
        return self.readout()

    def paint_at_cursor(self, painter: QPainter) -> None:
        """What changes with the cursor inside the plot: nothing, mostly."""

    # Geometry

    def plot(self) -> QRectF:
        return QRectF(36, 22, self.width() - 44.0, self.height() - 40.0)

    def x_of(self, value: float) -> float:
        plot = self.plot()
        return plot.left() + plot.width() * self.axis.share(value)

    def y_of(self, value: float) -> float:
        low, high, _ = self.up()
        plot = self.plot()
        return plot.bottom() - plot.height() * (value - low) / (high - low)

    def line(self, xs: Sequence[float], values: Sequence[float | None]) -> list[QPolygonF]:
        """Lines through values, broken where there is none."""
        plot = self.plot()
        runs: list[QPolygonF] = [QPolygonF()]
        for x, value in zip(xs, values, strict=False):
            if value is None or not plot.left() - 20 <= x <= plot.right() + 20:
                if not runs[-1].isEmpty():
                    runs.append(QPolygonF())
            else:
                y = min(plot.bottom() + 30, max(plot.top() - 30, self.y_of(value)))
                runs[-1].append(QPointF(x, y))
        return [run for run in runs if run.size() > 1]

    # Painting: everything but the cursor stands in a pixmap.

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "still", self._paint_still)
        plot = self.plot()
        words = self.readout()
        painter.setFont(font(8.5))
        if self.axis.cursor is not None and self.axis.low <= self.axis.cursor <= self.axis.high:
            x = self.x_of(self.axis.cursor)
            painter.setPen(QPen(roles.muted, 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        self.paint_at_cursor(painter)
        painter.setPen(roles.chalk if self.axis.cursor is not None else roles.muted)
        painter.setFont(font(8.5, bold=True))
        room = plot.width() - painter.fontMetrics().horizontalAdvance(self.title) - 16
        painter.setFont(font(8.5))
        words = painter.fontMetrics().elidedText(words or self.unit, Qt.TextElideMode.ElideLeft, int(room))
        painter.drawText(
            QRectF(plot.right() - room, 2, room, 16),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            words,
        )
        self.frame(painter)

    def _paint_still(self, painter: QPainter) -> None:
        plot = self.plot()
        painter.setFont(font(8.5, bold=True))
        painter.setPen(roles.chalk)
        painter.drawText(QRectF(4, 2, self.width(), 16), Qt.AlignmentFlag.AlignLeft, self.title)
        self.ground(painter)
        painter.setFont(font(7.5))
        self.paint_grid(painter)
        painter.setClipRect(plot)
        if not self.known():
            painter.setPen(roles.muted)
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, said("measuring…"))
        else:
            self.paint_data(painter)
        painter.setClipping(False)

    def paint_grid(self, painter: QPainter) -> None:
        plot = self.plot()
        grid = mixed(roles.line, roles.ground, 0.55)
        right = plot.left()
        for value, word in self.marks():
            x = self.x_of(value)
            if not plot.left() - 1 <= x <= plot.right() + 1:
                continue
            painter.setPen(QPen(grid, 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            width = painter.fontMetrics().horizontalAdvance(word)
            left = min(max(plot.left(), x - width / 2), plot.right() - width)
            if left > right - 1 or right == plot.left():
                painter.setPen(roles.muted)
                painter.drawText(QPointF(left, plot.bottom() + 13), word)
                right = left + width + 6
        for value in self.up()[2]:
            y = self.y_of(value)
            painter.setPen(QPen(roles.line if value == 0 else grid, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(roles.muted)
            word = mark(value)
            painter.drawText(
                QRectF(0, y - 8, 32, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, word
            )

    def marks(self) -> list[tuple[float, str]]:
        """Values across the axis and their words."""
        if self.axis.logarithmic:
            return [(hertz, f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz:g}") for hertz in _HERTZ]
        span = self.axis.high - self.axis.low
        steps = (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200)
        step = next((s for s in steps if span / s <= 9), steps[-1])
        first = int(self.axis.low / step) * step
        digits = 0 if step >= 1 else 1
        times = [first + k * step for k in range(int(span / step) + 3)]
        return [(t, clock(t, digits)) for t in times if self.axis.low <= t <= self.axis.high]

    def both(self) -> list[tuple[Measures, bool]]:
        """Before and after, as far as they are known, and whether it is before."""
        return [
            (found, was)
            for found, was in ((self.pair.before, True), (self.pair.after, False))
            if found is not None
        ]

    def paint_names(self, painter: QPainter, names: Sequence[str]) -> None:
        """Names of components in their colours, in the corner."""
        painter.setFont(font(8.5, bold=True))
        for row, name in enumerate(names):
            painter.setPen(roles.component(name))
            place = self.plot().adjusted(0, 4 + 15 * row, -8, 0)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, NAMES[name])

    @staticmethod
    def pen(colour, was: bool) -> QPen:
        if was:
            return QPen(mixed(colour, roles.ground, 0.7), 1.2, Qt.PenStyle.DashLine)
        return QPen(colour, 1.8)

    # Mouse and keys

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        plot = self.plot()
        x = event.position().x()
        if self._drag is not None:
            self.axis.move((self._drag - x) / plot.width())
            self._drag = x
        inside = plot.left() <= x <= plot.right()
        self.axis.point(self.axis.value((x - plot.left()) / plot.width()) if inside else None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._drag = event.position().x()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.axis.reset()

    def leaveEvent(self, event) -> None:
        self.axis.point(None)

    def wheelEvent(self, event: QWheelEvent) -> None:
        plot = self.plot()
        share = min(1.0, max(0.0, (event.position().x() - plot.left()) / plot.width()))
        self.axis.zoom(share, 0.8 if event.angleDelta().y() > 0 else 1.25)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.axis.zoom(0.5, 0.8 if key == Qt.Key.Key_Plus else 1.25)
        elif key == Qt.Key.Key_0:
            self.axis.reset()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            # The cursor walks; at the ends of what is shown, what is shown walks.
            share = 0.5 if self.axis.cursor is None else self.axis.share(self.axis.cursor)
            share += 0.01 if key == Qt.Key.Key_Right else -0.01
            if not 0 <= share <= 1:
                self.axis.move(0.05 if share > 1 else -0.05)
                share = min(1.0, max(0.0, share))
            self.axis.point(self.axis.value(share))
        else:
            super().keyPressEvent(event)
