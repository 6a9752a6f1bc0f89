"""The picture of microphones in front of a loudspeaker, seen from above: they are dragged and turned there."""

from math import atan2, cos, degrees, radians, sin
from typing import Any

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from stonekite.desktop.controls.hovering import help_by
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.session.types import LegName, Split
from stonekite.signal.decibels import SILENCE_DB
from stonekite.stages.base import Placing
from stonekite.stages.registry import kind_of
from stonekite.stages.settings import Setting, settings_of
from stonekite.words import NAMES, said

FURTHEST_CM, WIDEST_CM = 62.0, 32.0
"""What the plan shows in front of the cone, and to either side of its middle."""
_ROOM_SHARE = 0.2
"""Of the width, on the right, where the room begins: not to scale."""
_LONG, _THICK = 30.0, 10.0
_NEAR = 11.0


class PlanPicture(Picture):
    """`moved` gives changed values of the side in front and a gesture token."""

    moved = Signal(dict, object)

    def __init__(self) -> None:
        super().__init__()
        help_by(self, self._help_at)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(300, 90)
        self.setAccessibleName(said("Microphones in front of the cabinet, from above"))
        self._stage: Any = None
        self._leg: LegName = "upper"
        self._split = Split()
        self._at = 0
        self._drag: tuple[str, bool, QPointF, object] | None = None

    def sizeHint(self) -> QSize:
        return QSize(520, 220)

    def show_stage(self, stage: Any, leg: LegName, split: Split) -> None:
        self._stage, self._leg, self._split = stage, leg, split
        self.setAccessibleDescription("; ".join(self.words(name) for name in self.names))
        self.renew()

    @property
    def _side(self) -> Any:
        return getattr(self._stage, self._leg, None)

    @property
    def _placing(self) -> Placing:
        placing = kind_of(self._stage).offers.placing
        assert placing is not None
        return placing

    @property
    def names(self) -> tuple[str, ...]:
        """What can be moved: microphones and the pair in the room; nothing where nothing stands."""
        if self._side is None or not self._placing.radius_cm(self._side):
            return ()
        return (*self._placing.mics, self._placing.room)

    def _value(self, name: str) -> float:
        return float(getattr(self._side, name))

    def _setting(self, name: str) -> Setting:
        return settings_of(type(self._side))[name]

    # Geometry

    def plot(self) -> QRectF:
        return QRectF(4, 6, self.width() - 8, self.height() - 12)

    @property
    def _cone_x(self) -> float:
        return self.plot().left() + 62.0

    @property
    def _room_x(self) -> float:
        plot = self.plot()
        return plot.right() - _ROOM_SHARE * plot.width()

    def point(self, across_cm: float, away_cm: float) -> QPointF:
        """Where a place in front of the cone is drawn."""
        plot = self.plot()
        x = self._cone_x + away_cm / FURTHEST_CM * (self._room_x - self._cone_x)
        return QPointF(x, plot.center().y() - across_cm / WIDEST_CM * plot.height() / 2)

    def place_at(self, point: QPointF) -> tuple[float, float]:
        """What place (across, away) in cm a point is."""
        plot = self.plot()
        away = (point.x() - self._cone_x) / (self._room_x - self._cone_x) * FURTHEST_CM
        return (plot.center().y() - point.y()) / (plot.height() / 2) * WIDEST_CM, away

    def head(self, name: str) -> QPointF:
        """Where a microphone's front is, or the upper one of the room pair."""
        if name == self._placing.room:
            return self._pair()[0]
        return self.point(self._value(f"{name}_across_cm"), self._value(f"{name}_away_cm"))

    def tail(self, name: str) -> QPointF:
        """Where a microphone's other end is: it is turned there."""
        turned = radians(self._value(f"{name}_angle_deg"))
        across = self._value(f"{name}_across_cm")
        up = sin(turned) * (1.0 if across >= 0.0 else -1.0)
        return self.head(name) + QPointF(_LONG * cos(turned), -_LONG * up)

    def _pair(self) -> tuple[QPointF, QPointF]:
        away, wide = self._setting(f"{self._placing.room}_m"), self._setting(f"{self._placing.room}_wide_m")
        plot = self.plot()
        share = away.to_travel(self._value(f"{self._placing.room}_m"))
        x = self._room_x + 16.0 + share * (plot.right() - self._room_x - 40.0)
        y = (0.12 + 0.7 * wide.to_travel(self._value(f"{self._placing.room}_wide_m"))) * plot.height() / 2
        return QPointF(x, plot.center().y() - y), QPointF(x, plot.center().y() + y)

    def is_on(self, name: str) -> bool:
        """Whether a microphone or the room pair is heard."""
        return self._value(f"{name}_db") > SILENCE_DB

    def words(self, name: str) -> str:
        """What stands where, in a few words."""

        def shown(field: str) -> str:
            return self._setting(field).shown(getattr(self._side, field))

        if name == self._placing.room:
            return said("room pair: {away} away, {apart} apart").format(
                away=shown(f"{name}_m"), apart=shown(f"{name}_wide_m")
            )
        number = name.split("_")[-1]
        return said("{number} {name}: {away} away, {across} across").format(
            number=number,
            name=shown(name).lower(),
            away=shown(f"{name}_away_cm"),
            across=shown(f"{name}_across_cm"),
        )

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "still", self._paint_still)

    def _paint_still(self, painter: QPainter) -> None:
        self.ground(painter)
        if self._side is None:
            return
        plot = self.plot()
        painter.setFont(font(8.5))
        if not self.names:
            painter.setPen(roles.muted)
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, self._placing.words(self._side))
            return
        grid = mixed(roles.line, roles.ground, 0.55)
        for away in range(10, int(FURTHEST_CM), 10):
            x = round(self.point(0.0, away).x()) + 0.5
            painter.setPen(QPen(grid, 1))
            painter.drawLine(QPointF(x, plot.top() + 18), QPointF(x, plot.bottom() - 16))
            painter.setPen(roles.muted)
            if away % 20 == 0:
                painter.drawText(
                    QRectF(x - 30, plot.bottom() - 16, 60, 16), Qt.AlignmentFlag.AlignCenter, f"{away} cm"
                )
        painter.drawText(plot.adjusted(66, 3, 0, 0), Qt.AlignmentFlag.AlignLeft, said("from above"))
        painter.drawText(plot.adjusted(0, 3, -8, 0), Qt.AlignmentFlag.AlignRight, said("room, not to scale"))
        painter.setPen(QPen(roles.line, 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(self._room_x, plot.top() + 18), QPointF(self._room_x, plot.bottom() - 16))
        self._paint_cone(painter)
        for k, name in enumerate(self.names):
            held = self.hasFocus() and k == self._at
            self._paint_pair(painter, held) if name == self._placing.room else self._paint_mic(
                painter, name, held
            )
        self.frame(painter)

    def _paint_cone(self, painter: QPainter) -> None:
        plot = self.plot()
        radius = self._placing.radius_cm(self._side)
        top, bottom = self.point(radius, 0.0), self.point(-radius, 0.0)
        colour = roles.component(self._split.component(self._leg))
        painter.setPen(QPen(mixed(roles.muted, roles.ground, 0.5), 1))
        painter.setBrush(mixed(roles.muted, roles.ground, 0.16))
        reach = min(top.y() - 12.0 - plot.top(), 0.0)
        box = QRectF(plot.left() + 14, top.y() - 12 - reach, 48, bottom.y() - top.y() + 24 + 2 * reach)
        painter.drawRect(box)
        if self._placing.open_back(self._side):
            painter.setPen(QPen(roles.ground, 3))
            painter.drawLine(
                QPointF(box.left(), box.center().y() - 20), QPointF(box.left(), box.center().y() + 20)
            )
        painter.setPen(QPen(colour, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        middle = (top.y() + bottom.y()) / 2
        painter.drawPolyline(
            QPolygonF([top, QPointF(top.x() - 22, middle - 8), QPointF(top.x() - 22, middle + 8), bottom])
        )
        painter.setBrush(mixed(colour, roles.ground, 0.45))
        painter.drawEllipse(QPointF(top.x() - 20, middle), 5, 9)
        painter.setPen(QPen(mixed(colour, roles.ground, 0.45), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(top.x(), middle), QPointF(self._room_x, middle))

    def _ink(self, name: str, held: bool) -> QPen:
        if not self.is_on(name):
            return QPen(roles.chalk if held else roles.muted, 1.2, Qt.PenStyle.DashLine)
        return QPen(roles.chalk if held else roles.component(self._split.component(self._leg)), 1.8)

    def _paint_mic(self, painter: QPainter, name: str, held: bool) -> None:
        head, tail = self.head(name), self.tail(name)
        pen = self._ink(name, held)
        painter.save()
        painter.translate(head)
        painter.rotate(degrees(_angle_of(tail - head)))
        painter.setPen(pen)
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(QRectF(-4, -_THICK / 2, _LONG + 4, _THICK), 5, 5)
        painter.setBrush(pen.color())
        painter.drawEllipse(QPointF(0, 0), 4, 4)
        painter.restore()
        plot = self.plot()
        painter.setFont(font(8.5, bold=True))
        painter.setPen(roles.chalk if self.is_on(name) else roles.muted)
        words = (
            self.words(name)
            if self.is_on(name)
            else said("{value}: off").format(value=self.words(name).split(":")[0])
        )
        box = QRectF(
            head.x() + _LONG + 8, head.y() - 9, painter.fontMetrics().horizontalAdvance(words) + 6, 18
        )
        if box.right() > self._room_x:
            box.moveRight(self._room_x - 4)
            box.moveTop(head.y() + (8 if head.y() < plot.center().y() else -26))
        box.moveTop(min(plot.bottom() - 34, max(plot.top() + 18, box.top())))
        # Two that stand side by side: the words of the lower one go further down, those of the upper one up.
        for other in self.names[:-1]:
            beside = self.head(other)
            if other != name and abs(beside.y() - head.y()) < 20 and abs(box.center().y() - beside.y()) < 24:
                upper = (head.y(), name) < (beside.y(), other)
                middle = 0.5 * (head.y() + beside.y()) - 18
                first = min(plot.bottom() - 52, max(plot.top() + 18, middle))
                box.moveTop(first if upper else first + 18)
        self.label(painter, box, words, Qt.AlignmentFlag.AlignLeft)

    def _paint_pair(self, painter: QPainter, held: bool) -> None:
        name = self._placing.room
        pen = self._ink(name, held)
        painter.setPen(QPen(pen.color(), 1, Qt.PenStyle.DotLine))
        one, two = self._pair()
        painter.drawLine(one, two)
        painter.setPen(pen)
        painter.setBrush(roles.ground)
        for point in (one, two):
            painter.drawEllipse(point, 5, 5)
        painter.setFont(font(8.5, bold=True))
        painter.setPen(roles.chalk if self.is_on(name) else roles.muted)
        away = self._setting(f"{name}_m").shown(self._value(f"{name}_m"))
        words = said("room {away}").format(away=away) if self.is_on(name) else said("room off")
        wide = painter.fontMetrics().horizontalAdvance(words)
        left = min(self.plot().right() - wide - 4, one.x() - wide / 2)
        painter.drawText(QPointF(left, min(self.plot().bottom() - 4, two.y() + 20)), words)

    # Mouse and keys

    def held_at(self, point: QPointF) -> tuple[str, bool] | None:
        """What is under a point, and whether by its other end."""
        for name in self.names:
            ends = [(self.head(name), False)]
            if name == self._placing.room:
                ends.append((self._pair()[1], False))
            else:
                ends.append((self.tail(name), True))
            for end, turns in ends:
                away = end - point
                if abs(away.x()) < _NEAR and abs(away.y()) < _NEAR:
                    return name, turns
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        held = self.held_at(event.position())
        if held is not None and event.button() == Qt.MouseButton.LeftButton:
            self._at = self.names.index(held[0])
            off = event.position() - (self.tail(held[0]) if held[1] else self.head(held[0]))
            self._drag = (*held, off, object())
            self.renew()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            held = self.held_at(event.position())
            self.setCursor(Qt.CursorShape.SizeAllCursor if held else Qt.CursorShape.ArrowCursor)
            return
        name, turns, off, token = self._drag
        point = event.position() - off
        if name == self._placing.room:
            plot = self.plot()
            travel = (point.x() - self._room_x - 16.0) / (plot.right() - self._room_x - 40.0)
            wide = (abs(event.position().y() - plot.center().y()) / (plot.height() / 2) - 0.12) / 0.7
            self._move({f"{name}_m": self._setting(f"{name}_m").from_travel(travel),
                        f"{name}_wide_m": self._setting(f"{name}_wide_m").from_travel(wide)}, token)  # fmt: skip
        elif turns:
            along = point - self.head(name)
            inward = -along.y() if self._value(f"{name}_across_cm") >= 0.0 else along.y()
            self._move({f"{name}_angle_deg": degrees(_angle_of(QPointF(max(along.x(), 0.1), inward)))}, token)
        else:
            across, away = self.place_at(point)
            self._move({f"{name}_across_cm": across, f"{name}_away_cm": away}, token)

    def _move(self, values: dict[str, float], token: object) -> None:
        places = {field: 0 if field.endswith("deg") else 1 for field in values}
        self.moved.emit(
            {
                field: round(self._setting(field).held(value), places[field])
                for field, value in values.items()
            },
            token,
        )

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        fine = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        if not self.names:
            super().keyPressEvent(event)
            return
        self._at = min(self._at, len(self.names) - 1)
        name = self.names[self._at]
        across, away = (
            ("room_wide_m", "room_m")
            if name == self._placing.room
            else (f"{name}_across_cm", f"{name}_away_cm")
        )
        steps = {
            Qt.Key.Key_Up: (across, 1.0),
            Qt.Key.Key_Down: (across, -1.0),
            Qt.Key.Key_Right: (away, 1.0),
            Qt.Key.Key_Left: (away, -1.0),
        }
        if key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self._at = (self._at + (1 if key == Qt.Key.Key_PageDown else -1)) % len(self.names)
            self.renew()
        elif key in steps:
            field, step = steps[Qt.Key(key)]
            setting = self._setting(field)
            size = 1.0 if setting.unit == "cm" and not fine else setting.step if setting.unit == "m" else 0.1
            self._move({field: self._value(field) + step * size}, "keys")
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus) and name != self._placing.room:
            step = 5.0 if key == Qt.Key.Key_Plus else -5.0
            self._move({f"{name}_angle_deg": self._value(f"{name}_angle_deg") + step}, "keys")
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event) -> None:
        self.renew()

    focusOutEvent = focusInEvent

    def _help_at(self, where: QPointF) -> str:
        if self._side is None:
            return ""
        held = self.held_at(where)
        if held is None:
            return said(
                "Drag a microphone, or turn it by its other end (Page keys choose, arrows move, + and − turn)"
            )
        return f"{NAMES[self._split.component(self._leg)]}, {self.words(held[0])}"


def _angle_of(along: QPointF) -> float:
    """Radians by which a direction is turned from straight to the right, towards greater y."""
    return atan2(along.y(), along.x())
