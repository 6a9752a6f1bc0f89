"""The lane of rides under the waveforms: the open line with its points, the others thin, a version's dashed."""

import numpy as np
from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from stonekite.desktop.controls.entry import Entry
from stonekite.desktop.controls.theme import faded, font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.pictures.ride_line import Line
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.words import clock, said

_NEAR = 8.0
_PAD = 7.0


class RideLane(Picture):
    """Click on the line or beside it: a point; drag points; Delete or right click: away. Times are in seconds.

    `added` gives time and value, `moved` the place of a point, its time, value and a token of the drag, `removed` and
    `opened` the place of a point.
    """

    added = Signal(float, float)
    moved = Signal(int, float, float, object)
    removed = Signal(int)
    opened = Signal(int)
    typed = Signal(int, str)

    def __init__(self, timeline: Timeline) -> None:
        super().__init__()
        self._timeline = timeline
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(72)
        self.setAccessibleName(said("Ride"))
        self.setToolTip(
            said(
                "Click: a new point, on beats where there are any, with which it moves (Alt: anywhere). Drag a point. "
                "Delete or a right click takes it away. Arrow keys move it, PageUp and PageDown go from one to the "
                "next; Enter or a double click types it: −6 @ 1:02.5, or @ beat 17."
            )
        )
        self._line: Line | None = None
        self._others: list[Line] = []
        self._beside: Line | None = None
        self._place: int | None = None
        self._drag: tuple[int, object] | None = None
        self._position = 0.0
        self._view = (0.0, 1.0)
        self._cursor: QPointF | None = None
        self._edit: Entry | None = None

    def sizeHint(self) -> QSize:
        return QSize(900, 72)

    def plot(self) -> QRectF:
        return QRectF(self.rect()).adjusted(0, _PAD, 0, -_PAD)

    def show_lines(
        self, line: Line | None, others: list[Line], beside: Line | None, place: int | None
    ) -> None:
        """The open line, the others, the one of a version, and which point is open."""
        if self._edit is not None and (line is None or self._line is None or line.ride != self._line.ride):
            self._edit.left.emit()  # what was being typed was of another line
        self._line, self._others, self._beside, self._place = line, others, beside, place
        words = ""
        if line is not None and line.ride is not None:
            words = "; ".join(
                f"{clock(point.at_s)}: {line.setting.shown(point.value)}" for point in line.ride.points[:40]
            )
        self.setAccessibleDescription(f"{line.name}: {words}" if line is not None else "")
        self.renew()

    def show_position(self, seconds: float) -> None:
        """Move the play position, and follow the timeline's view."""
        if self._timeline.view != self._view:
            self._view = self._timeline.view
            self.renew()
        if abs(seconds - self._position) > 1e-3:
            self._position = seconds
            self.update()

    # Geometry

    def y_of(self, value: float) -> float:
        assert self._line is not None
        plot = self.plot()
        return plot.bottom() - self._line.setting.to_travel(value) * plot.height()

    def value_at(self, y: float) -> float:
        assert self._line is not None
        plot = self.plot()
        return self._line.setting.from_travel((plot.bottom() - y) / plot.height())

    def point_of(self, place: int) -> QPointF:
        """Where a point of the open line is."""
        assert self._line is not None and self._line.ride is not None
        point = self._line.ride.points[place]
        return QPointF(self._timeline.x_of(point.at_s), self.y_of(point.value))

    def _near(self, where: QPointF) -> int | None:
        if self._line is None or self._line.ride is None:
            return None
        best, found = _NEAR, None
        for place in range(len(self._line.ride.points)):
            away = (self.point_of(place) - where).manhattanLength()
            if away < best:
                best, found = away, place
        return found

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "lines", self._paint_lines, roles.ground)
        x = self._timeline.x_of(self._position)
        painter.fillRect(QRectF(round(x) - 0.5, 0, 2, self.height()), roles.chalk)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_readout(painter)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(faded(roles.chalk, 0.6), 1, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def _paint_lines(self, painter: QPainter) -> None:
        line = self._line
        if line is None:
            painter.setPen(roles.muted)
            painter.setFont(font(9))
            painter.drawText(
                QRectF(self.rect()),
                Qt.AlignmentFlag.AlignCenter,
                said("Move a control, then click here: it rides from there on."),
            )
            return
        shares = (0.0, 1.0) if line.setting.is_switch else (0.0, 0.5, 1.0)
        heights = [self.plot().bottom() - share * self.plot().height() for share in shares]
        painter.setPen(QPen(mixed(roles.line, roles.ground, 0.6), 1))
        for y in heights:
            painter.drawLine(QPointF(0, y), QPointF(self.width(), y))
        for other in self._others:
            self._paint_line(painter, other, QPen(mixed(self._colour(other), roles.ground, 0.45), 1))
        if self._beside is not None:
            self._paint_line(painter, self._beside, QPen(roles.muted, 1, Qt.PenStyle.DashLine))
        self._paint_line(painter, line, QPen(self._colour(line), 2))
        self._paint_scale(painter, line, shares, heights)
        if line.ride is not None:
            for place in range(len(line.ride.points)):
                where = self.point_of(place)
                if -9 < where.x() < self.width() + 9:
                    painter.setPen(QPen(roles.chalk if place == self._place else self._colour(line), 1.6))
                    painter.setBrush(self._colour(line) if place == self._place else roles.ground)
                    if line.ride.points[place].beat is None:
                        painter.drawEllipse(where, 4.5, 4.5)
                    else:  # it stays at its beat
                        painter.drawRect(QRectF(where.x() - 4, where.y() - 4, 8, 8))
        painter.setFont(font(8.5, bold=True))
        wide = painter.fontMetrics().horizontalAdvance(line.name)
        top = 2.0 if self._room_above(line, wide + 14.0) else self.height() - 17.0
        painter.fillRect(QRectF(2, top, wide + 8, 15), faded(roles.ground, 0.75))
        painter.setPen(self._colour(line))
        painter.drawText(QRectF(6, top, wide + 4, 15), Qt.AlignmentFlag.AlignLeft, line.name)

    def _room_above(self, line: Line, width: float) -> bool:
        """Whether a line leaves more room above it than below, as far as its name reaches."""
        start, stop = self._timeline.view
        times = start + np.linspace(0.0, width / max(1, self.width()), 9) * (stop - start)
        travels = line.travels(times)
        return bool(1.0 - travels.max() >= travels.min())

    def _paint_scale(
        self, painter: QPainter, line: Line, shares: tuple[float, ...], heights: list[float]
    ) -> None:
        """Values of the setting at heights, over whatever line is there."""
        painter.setFont(font(7.5))
        for share, y in zip(shares, heights, strict=True):
            words = line.setting.shown(line.setting.from_travel(share))
            wide = painter.fontMetrics().horizontalAdvance(words) + 6
            box = QRectF(self.width() - wide - 2, min(max(0.0, y - 6), self.height() - 13), wide, 13)
            painter.fillRect(box, faded(roles.ground, 0.85))
            painter.setPen(roles.muted)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    @staticmethod
    def _colour(line: Line) -> QColor:
        return roles.component(line.colour)

    def _paint_line(self, painter: QPainter, line: Line, pen: QPen) -> None:
        xs = np.arange(0.0, self.width() + 2.0, 2.0)
        start, stop = self._timeline.view
        times = start + xs / max(1, self.width()) * (stop - start)
        plot = self.plot()
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(polyline(xs, plot.bottom() - line.travels(times) * plot.height()))

    def _paint_readout(self, painter: QPainter) -> None:
        """The value and the time of the point that is held, or under the cursor."""
        line = self._line
        if line is None or line.ride is None:
            return
        place = self._drag[0] if self._drag is not None else None
        if place is None and self._cursor is not None:
            place = self._near(self._cursor)
        if place is None or place >= len(line.ride.points):
            return
        point, where = line.ride.points[place], self.point_of(place)
        words = f"{line.setting.shown(point.value)}  {clock(point.at_s)}"
        painter.setFont(font(8.5, bold=True))
        wide = painter.fontMetrics().horizontalAdvance(words) + 12
        left = min(max(2.0, where.x() + 9), self.width() - wide - 2)
        top = min(max(2.0, where.y() - 20), self.height() - 19.0)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(roles.raised)
        painter.drawRoundedRect(QRectF(left, top, wide, 17), 4, 4)
        painter.setPen(roles.chalk)
        painter.drawText(QRectF(left, top, wide, 17), Qt.AlignmentFlag.AlignCenter, words)

    # Mouse and keys

    def _time_at(self, x: float, free: bool) -> float:
        seconds = self._timeline.time_at(x)
        return seconds if free else self._timeline.snapped(seconds)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._line is None:
            return
        near = self._near(event.position())
        if event.button() == Qt.MouseButton.RightButton and near is not None:
            self.removed.emit(near)
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if near is None:
            at_s, value = self._time_at(event.position().x(), free), self.value_at(event.position().y())
            self.added.emit(at_s, value)
            near = self._near(QPointF(self._timeline.x_of(at_s), self.y_of(value)))
        else:
            self.opened.emit(near)
        if near is not None:
            self._drag = near, object()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._cursor = event.position()
        if self._drag is None:
            over = self._near(event.position()) is not None
            self.setCursor(Qt.CursorShape.OpenHandCursor if over else Qt.CursorShape.CrossCursor)
        else:
            place, token = self._drag
            free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
            self.moved.emit(
                place, self._time_at(event.position().x(), free), self.value_at(event.position().y()), token
            )
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._drag = None
        if (near := self._near(event.position())) is not None:
            self.opened.emit(near)
            self.type_point(near)

    def type_point(self, place: int) -> None:
        """Open the typed entry over a point: its value and its time."""
        line = self._line
        if self._edit is not None or line is None or line.ride is None:
            return
        point, where = line.ride.points[place], self.point_of(place)
        left = int(min(max(2.0, where.x() - 70), self.width() - 150))
        top = int(min(max(0.0, where.y() - 11), self.height() - 22))
        when = clock(point.at_s) if point.beat is None else said("beat") + f" {point.beat + 1:g}"
        text = f"{line.setting.shown(point.value)} @ {when}"

        def end(typed: str | None) -> None:
            self._edit = None
            if typed is not None:
                self.typed.emit(place, typed)

        self._edit = Entry.over(self, said("Value @ time"), QRect(left, top, 148, 22), text, end)

    def leaveEvent(self, event) -> None:
        self._cursor = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        line, place, key = self._line, self._place, event.key()
        if line is None or line.ride is None:
            super().keyPressEvent(event)
            return
        count = len(line.ride.points)
        if key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            step = -1 if key == Qt.Key.Key_PageUp else 1
            self.opened.emit((0 if step > 0 else count - 1) if place is None else (place + step) % count)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and place is not None:
            self.type_point(place)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and place is not None:
            self.removed.emit(place)
        elif place is not None and key in (
            Qt.Key.Key_Up,
            Qt.Key.Key_Down,
            Qt.Key.Key_Left,
            Qt.Key.Key_Right,
        ):
            point = line.ride.points[place]
            fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            up = {Qt.Key.Key_Up: fine, Qt.Key.Key_Down: -fine}.get(Qt.Key(key), 0.0)
            later = {Qt.Key.Key_Right: fine, Qt.Key.Key_Left: -fine}.get(Qt.Key(key), 0.0)
            span = self._timeline.view[1] - self._timeline.view[0]
            value = line.setting.stepped(point.value, up) if up else point.value
            self.moved.emit(place, max(0.0, point.at_s + later * span / 200), value, "keys")
        else:
            super().keyPressEvent(event)
