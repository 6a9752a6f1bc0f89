"""The kite map: the signal path, and the way around in it.

Source, split, two legs that part and meet again, a stone for each side of a stage, join, output.
"""

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from stonekite.desktop.controls.plain import tip
from stonekite.desktop.controls.theme import faded, font, mixed, restyled, roles
from stonekite.session.types import LEGS, LegName, Strip
from stonekite.stages.base import Stage
from stonekite.stages.registry import KINDS, heard_response, kind_of
from stonekite.words import NAMES

STONE = (30.0, 21.0)
_STONE_ROOM, _STONE_MIDDLE = QSize(84, 60), QPointF(42, 30)
"""Of the picture of a stone."""
_QUIET_DB, _LOUD_DB = -60.0, -6.0


@dataclass
class Hit:
    """What lies under a point: a stone, a place to add one, the split, the source or the output."""

    what: str
    stage: int = -1
    leg: LegName = "upper"


def stone_path(centre: QPointF, seed: int, scale: float = 1.0) -> QPainterPath:
    """The outline of a beach stone: a slightly uneven oval, always the same for the same number."""
    lean = ((seed * 37) % 7 - 3) / 3.0
    path = QPainterPath()
    w, h = STONE[0] * scale, STONE[1] * scale
    x, y = centre.x(), centre.y()
    path.moveTo(x - w, y + lean)
    path.cubicTo(x - w, y - h * (0.75 + 0.12 * lean), x - w * 0.5, y - h, x + w * 0.1 * lean, y - h)
    path.cubicTo(x + w * 0.6, y - h, x + w, y - h * (0.62 - 0.1 * lean), x + w, y - lean)
    path.cubicTo(x + w, y + h * (0.72 + 0.14 * lean), x + w * 0.45, y + h, x - w * 0.08 * lean, y + h)
    path.cubicTo(x - w * 0.6, y + h, x - w, y + h * (0.7 - 0.1 * lean), x - w, y + lean)
    return path


class KiteMap(QWidget):
    """Draws a strip and tells what is clicked. Stages are chosen by click, arrow keys and Enter."""

    stone_chosen = Signal(int, str)
    add_asked = Signal(str)
    split_asked = Signal(QPointF)
    source_asked = Signal()
    output_asked = Signal()
    stone_menu_asked = Signal(int, str, QPointF)
    stone_moved = Signal(int, int)
    stone_dropped = Signal(int, str)
    stone_removed = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Signal path")
        self._strip = Strip()
        self._source = ("", "")
        self._output = ("", "")
        self._chosen: tuple[int, LegName] | None = None
        self._levels = {"upper": -150.0, "lower": -150.0}
        self._loudness = {"upper": "", "lower": ""}
        self._open = ""
        self._hover: Hit | None = None
        self._press: tuple[QPointF, Hit] | None = None
        self._drag: QPointF | None = None
        self._stones: dict[tuple[int, LegName], tuple[tuple, QPixmap]] = {}
        restyled.changed.connect(self._forget_stones)

    def sizeHint(self) -> QSize:
        return QSize(900, 152)

    def _forget_stones(self) -> None:
        self._stones.clear()

    def show_strip(self, strip: Strip, source: tuple[str, str], output: tuple[str, str]) -> None:
        """Draw another strip, with two lines of words each for the source and the output."""
        self._strip, self._source, self._output = strip, source, output
        there = {stage.id for stage in strip.stages}
        self._stones = {key: kept for key, kept in self._stones.items() if key[0] in there}
        self.setAccessibleDescription(self._in_words())
        self._repaint_soon()

    def choose(self, stage: int | None, leg: LegName = "upper") -> None:
        """Mark a stone as the one whose editor is open."""
        self._chosen = None if stage is None else (stage, leg)
        self._repaint_soon()

    def mark(self, view: str) -> None:
        """Mark the source or the output as what is open."""
        self._open = view
        self._repaint_soon()

    def _repaint_soon(self) -> None:
        """After what else an edit repaints: one look without a break would be too long."""
        QTimer.singleShot(0, self, self.update)

    def show_levels(self, upper_db: float, lower_db: float) -> None:
        """Levels of the legs, 30 times a second; repaints only what changed visibly."""
        for leg, level in zip(LEGS, (upper_db, lower_db), strict=True):
            old, new = self._levels[leg], level
            if int(old * 2) != int(new * 2):
                self._levels[leg] = new
                self.update(self._line_box(leg))

    def show_loudness(self, upper: str, lower: str) -> None:
        """A figure in words beside the name of each leg."""
        self._loudness = {"upper": upper, "lower": lower}
        self.update()

    def _in_words(self) -> str:
        words = [f"{NAMES[self._strip.split.component(leg)]} leg" for leg in LEGS]
        stages = ", ".join(kind_of(stage).label for stage in self._strip.stages) or "no stages"
        return f"{self._source[0]}, split into {words[0]} and {words[1]}, {stages}"

    # Geometry

    def _y(self, leg: LegName) -> float:
        middle = self.height() / 2
        return middle - 44 if leg == "upper" else middle + 44

    @property
    def _split_x(self) -> float:
        return 168.0

    @property
    def _join_x(self) -> float:
        return self.width() - 178.0

    def _stage_x(self, index: int) -> float:
        first, last = self._split_x + 112.0, self._join_x - 88.0
        count = len(self._strip.stages)
        step = min(96.0, (last - first - 66) / max(1, count - 1)) if count > 1 else 96.0
        return first + step * index

    @property
    def _plus_x(self) -> float:
        return self._join_x - 84.0

    def stone_centre(self, stage: int, leg: LegName) -> QPointF:
        """Where the stone of a stage's side lies."""
        index = [s.id for s in self._strip.stages].index(stage)
        return QPointF(self._stage_x(index), self._y(leg))

    def plus_centre(self, leg: LegName) -> QPointF:
        """Where the place to add a stage is."""
        return QPointF(self._plus_x, self._y(leg))

    def split_centre(self) -> QPointF:
        return QPointF(self._split_x, self.height() / 2)

    def _line_box(self, leg: LegName):
        y = self._y(leg)
        return QRectF(self._split_x, y - 6, self._join_x - self._split_x, 12).toAlignedRect()

    def _source_box(self) -> QRectF:
        return QRectF(12, self.height() / 2 - 36, 118, 72)

    def _output_box(self) -> QRectF:
        return QRectF(self.width() - 134, self.height() / 2 - 36, 122, 72)

    def _hit(self, point: QPointF) -> Hit | None:
        for stage in self._strip.stages:
            for leg in LEGS:
                if stone_path(self.stone_centre(stage.id, leg), stage.id).contains(point):
                    return Hit("stone", stage.id, leg)
        for leg in LEGS:
            if (point - self.plus_centre(leg)).manhattanLength() < 20:
                return Hit("plus", leg=leg)
        if (point - self.split_centre()).manhattanLength() < 30:
            return Hit("split")
        if self._source_box().contains(point):
            return Hit("source")
        if self._output_box().contains(point):
            return Hit("output")
        return None

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_lines(painter)
        for index, stage in enumerate(self._strip.stages):
            self._paint_stage(painter, index, stage)
        for leg in LEGS:
            self._paint_plus(painter, leg)
        mode = self._strip.split.mode
        self._paint_diamond(painter, self._split_x, "M/S" if mode == "mid-side" else "L/R", "split")
        self._paint_diamond(painter, self._join_x, "L/R", "join")
        self._paint_box(painter, self._source_box(), "Source", *self._source, hovered="source")
        self._paint_box(painter, self._output_box(), "Output", *self._output, hovered="output")
        if self._drag is not None and self._press is not None and self._press[1].what == "stone":
            painter.setPen(QPen(roles.chalk, 1, Qt.PenStyle.DashLine))
            painter.setBrush(faded(roles.raised, 0.6))
            painter.drawPath(stone_path(self._drag, self._press[1].stage))

    def _colour(self, leg: LegName):
        return roles.component(self._strip.split.component(leg))

    def _silent(self, leg: LegName) -> bool:
        mine, others = self._strip.leg(leg), [self._strip.leg(name) for name in LEGS]
        return mine.muted or (any(o.alone for o in others) and not mine.alone)

    def _paint_lines(self, painter: QPainter) -> None:
        middle = self.height() / 2
        painter.setPen(QPen(roles.chalk, 2))
        painter.drawLine(QPointF(self._source_box().right(), middle), QPointF(self._split_x, middle))
        painter.drawLine(QPointF(self._join_x, middle), QPointF(self._output_box().left(), middle))
        for leg in LEGS:
            y = self._y(leg)
            points = [
                QPointF(self._split_x, middle),
                QPointF(self._split_x + 52, y),
                QPointF(self._join_x - 52, y),
                QPointF(self._join_x, middle),
            ]
            level = (self._levels[leg] - _QUIET_DB) / (_LOUD_DB - _QUIET_DB)
            level = min(1.0, max(0.0, level))
            colour = self._colour(leg)
            style = Qt.PenStyle.DotLine if self._silent(leg) else Qt.PenStyle.SolidLine
            # The line carries the leg's level: the louder, the wider and the brighter.
            pen = QPen(mixed(colour, roles.panel, 0.45 + 0.55 * level), 1.6 + 3.4 * level, style)
            pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
            painter.setPen(pen)
            painter.drawPolyline(QPolygonF(points))
            name = self._strip.split.component(leg)
            baseline = y - 3 if leg == "upper" else y + 12
            right = self._split_x + 34
            for text, size, bold, ink in (
                (self._loudness[leg], 8.5, False, roles.muted),
                (NAMES[name], 10, True, colour),
            ):
                painter.setFont(font(size, bold=bold))
                painter.setPen(ink)
                width = QFontMetricsF(painter.font()).horizontalAdvance(text)
                painter.drawText(QPointF(right - width, baseline), text)
                right -= width + (8 if text else 0)

    def _paint_stage(self, painter: QPainter, index: int, stage: Stage) -> None:
        x = self._stage_x(index)
        middle = self.height() / 2
        chosen = self._chosen is not None and self._chosen[0] == stage.id
        if stage.linked and stage.upper is not None and stage.lower is not None:  # type: ignore[attr-defined]
            painter.setPen(QPen(roles.muted, 1.4))
            for shift in (-3, 3):
                for start, end in (
                    (self._y("upper") + 22, middle - 11),
                    (middle + 11, self._y("lower") - 22),
                ):
                    painter.drawLine(QPointF(x + shift, start), QPointF(x + shift, end))
        painter.setFont(font(9, bold=chosen))
        painter.setPen(roles.chalk if chosen else roles.muted)
        label = kind_of(stage).label
        painter.drawText(
            QRectF(x - 48, middle - 10, 96, 20),
            Qt.AlignmentFlag.AlignCenter,
            label if stage.inserted else f"{label} out",
        )
        for leg in LEGS:
            self._paint_stone(painter, stage, leg, chosen and self._chosen[1] == leg)  # type: ignore[index]

    def _paint_stone(self, painter: QPainter, stage: Stage, leg: LegName, chosen: bool) -> None:
        centre = self.stone_centre(stage.id, leg)
        colour = self._colour(leg)
        if getattr(stage, leg) is None:  # the leg passes through: a ring to put a side back on
            painter.setPen(QPen(colour, 1.5))
            painter.setBrush(roles.panel)
            painter.drawEllipse(centre, 5.5, 5.5)
            return
        hovered = self._hover is not None and (self._hover.stage, self._hover.leg) == (stage.id, leg)
        looks = (stage, chosen, hovered, colour.rgb(), self.devicePixelRatioF())
        kept = self._stones.get((stage.id, leg))
        if kept is None or kept[0][0] is not stage or kept[0][1:] != looks[1:]:
            kept = self._stones[stage.id, leg] = looks, self._stone(stage, leg, colour, chosen, hovered)
        painter.drawPixmap((centre - _STONE_MIDDLE).toPoint(), kept[1])

    def _stone(self, stage: Stage, leg: LegName, colour: QColor, chosen: bool, hovered: bool) -> QPixmap:
        """A stone as it is shown again and again until something about it changes."""
        ratio = self.devicePixelRatioF()
        made = QPixmap(_STONE_ROOM * ratio)
        made.setDevicePixelRatio(ratio)
        made.fill(Qt.GlobalColor.transparent)
        painter = QPainter(made)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        centre = _STONE_MIDDLE
        heard = stage.inserted
        painter.setBrush(roles.raised if hovered or chosen else mixed(roles.raised, roles.panel, 0.6))
        pen = QPen(colour if heard else roles.muted, 2.4 if chosen else 1.5)
        if not heard:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.drawPath(stone_path(centre, stage.id))
        if chosen:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(roles.chalk, 1))
            painter.drawPath(stone_path(centre, stage.id, 1.22))
        painter.setPen(QPen(roles.chalk if heard else roles.muted, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(_sign(stage, leg).translated(centre))
        painter.end()
        return made

    def _paint_plus(self, painter: QPainter, leg: LegName) -> None:
        centre = self.plus_centre(leg)
        hovered = self._hover is not None and self._hover.what == "plus" and self._hover.leg == leg
        painter.setPen(
            QPen(self._colour(leg), 1.4, Qt.PenStyle.SolidLine if hovered else Qt.PenStyle.DashLine)
        )
        painter.setBrush(roles.raised if hovered else roles.panel)
        painter.drawEllipse(centre, 11, 11)
        painter.setPen(QPen(roles.chalk, 1.4))
        painter.drawLine(centre - QPointF(4, 0), centre + QPointF(4, 0))
        painter.drawLine(centre - QPointF(0, 4), centre + QPointF(0, 4))

    def _paint_diamond(self, painter: QPainter, x: float, word: str, what: str) -> None:
        middle = self.height() / 2
        hovered = self._hover is not None and self._hover.what == what
        painter.setPen(QPen(roles.chalk, 1.6))
        painter.setBrush(roles.raised if hovered else roles.panel)
        painter.drawPolygon(
            QPolygonF(
                [
                    QPointF(x - 25, middle),
                    QPointF(x, middle - 25),
                    QPointF(x + 25, middle),
                    QPointF(x, middle + 25),
                ]
            )
        )
        painter.setFont(font(9, bold=True))
        painter.drawText(QRectF(x - 25, middle - 10, 50, 20), Qt.AlignmentFlag.AlignCenter, word)

    def _paint_box(
        self, painter: QPainter, box: QRectF, title: str, first: str, second: str, hovered: str
    ) -> None:
        over = self._hover is not None and self._hover.what == hovered
        border = roles.chalk if self._open == hovered else (roles.muted if over else roles.line)
        painter.setPen(QPen(border, 1))
        painter.setBrush(roles.raised)
        painter.drawRoundedRect(box, 5, 5)
        inner = box.adjusted(9, 7, -7, -7)
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, title)
        painter.setFont(font(9, bold=True))
        painter.setPen(roles.chalk)
        elided = QFontMetricsF(painter.font()).elidedText(first, Qt.TextElideMode.ElideMiddle, inner.width())
        painter.drawText(inner.adjusted(0, 18, 0, 0), Qt.AlignmentFlag.AlignTop, elided)
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        painter.drawText(inner.adjusted(0, 37, 0, 4), Qt.AlignmentFlag.AlignTop, second)

    # Mouse and keys

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is not None and self._press[1].what == "stone":
            if (event.position() - self._press[0]).manhattanLength() > 8 or self._drag is not None:
                self._drag = event.position()
                self.update()
            return
        hit = self._hit(event.position())
        if hit != self._hover:
            self._hover = hit
            self.setCursor(Qt.CursorShape.PointingHandCursor if hit else Qt.CursorShape.ArrowCursor)
            self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._hover = None
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        hit = self._hit(event.position())
        if hit is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._press = (event.position(), hit)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        press, drag = self._press, self._drag
        self._press = self._drag = None
        self.update()
        if press is None:
            return
        hit = press[1]
        if drag is not None and hit.what == "stone":
            self._drop(hit, drag)
        elif hit.what == "stone":
            self.stone_chosen.emit(hit.stage, hit.leg)
        elif hit.what == "plus":
            self.add_asked.emit(hit.leg)
        elif hit.what == "split":
            self.split_asked.emit(event.globalPosition())
        elif hit.what == "source":
            self.source_asked.emit()
        elif hit.what == "output":
            self.output_asked.emit()

    def _drop(self, hit: Hit, where: QPointF) -> None:
        """Along the legs: another place in the order. Away from them: off this leg."""
        if abs(where.y() - self._y(hit.leg)) > 40:
            self.stone_dropped.emit(hit.stage, hit.leg)
            return
        ids = [stage.id for stage in self._strip.stages]
        nearest = min(range(len(ids)), key=lambda k: abs(self._stage_x(k) - where.x()))
        if nearest != ids.index(hit.stage):
            self.stone_moved.emit(hit.stage, nearest)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        hit = self._hit(QPointF(event.pos()))
        if hit is not None and hit.what == "stone":
            self.stone_menu_asked.emit(hit.stage, hit.leg, QPointF(event.globalPos()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ids = [stage.id for stage in self._strip.stages]
        key = event.key()
        arrows = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down)
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Insert):
            self.add_asked.emit(self._chosen[1] if self._chosen else "upper")
        elif key in arrows and ids:
            stage, leg = self._chosen or (ids[0], "upper")
            index = ids.index(stage)
            if key == Qt.Key.Key_Left:
                index = max(0, index - 1)
            elif key == Qt.Key.Key_Right:
                index = min(len(ids) - 1, index + 1)
            else:
                leg = "upper" if key == Qt.Key.Key_Up else "lower"
            if event.modifiers() & Qt.KeyboardModifier.AltModifier and ids[index] != stage:
                self.stone_moved.emit(stage, index)
            else:
                self.stone_chosen.emit(ids[index], leg)
        elif key == Qt.Key.Key_Delete and self._chosen is not None:
            self.stone_removed.emit(self._chosen[0])
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            hit = self._hit(QPointF(event.pos()))
            text = self._help(hit) if hit is not None else ""
            QToolTip.showText(event.globalPos(), tip(text), self)
            return True
        return super().event(event)

    def _help(self, hit: Hit) -> str:
        if hit.what == "stone":
            stage = next(s for s in self._strip.stages if s.id == hit.stage)
            name = NAMES[self._strip.split.component(hit.leg)]
            if getattr(stage, hit.leg) is None:
                return f"{name} passes this {kind_of(stage).label} untouched. Click to put it on this leg."
            return (
                f"{kind_of(stage).label} on {name}. Click: edit. Drag along: reorder (Alt+arrows). "
                "Drag away: take off this leg. Delete: remove the stage."
            )
        split = self._strip.split
        return {
            "plus": f"Add a stage ({', '.join(kind.label for kind in KINDS.values())}) at the end of the legs",
            "split": "How the stereo signal is split: left/right, or mid/side with one of three matrices"
            + (f" (now {split.matrix})" if split.mode == "mid-side" else ""),
            "source": "What arrived, and its intake (F5). Another recording: Ctrl+O",
            "output": "Where both sides of the result stand (F7). Export it: Ctrl+E",
        }[hit.what]


_SIGN_HZ = np.geomspace(25, 18_000, 28)
_SIGN_RATE = 96_000.0  # high enough for every frequency of the sign, whatever the recording's rate
_SIGN_DB = 15.0


def _sign(stage: Stage, leg: LegName) -> QPainterPath:
    """What a stone shows: the curve of what its side really does."""
    offers = kind_of(stage).offers
    if offers.curve is not None:
        span = np.linspace(-54.0, 0.0, len(_SIGN_HZ))
        levels = (offers.curve(stage, leg, span) + 27.0) / 27.0 * _SIGN_DB
    elif offers.bend is not None and getattr(stage, leg) is not None:
        span = np.linspace(-1.0, 1.0, len(_SIGN_HZ))
        bent = offers.bend(getattr(stage, leg), span)
        levels = bent / max(1e-3, float(np.abs(bent).max())) * 0.8 * _SIGN_DB
    else:
        response = np.abs(heard_response(stage, leg, _SIGN_HZ, _SIGN_RATE))
        levels = 20 * np.log10(np.maximum(response, 1e-4))
    levels = np.clip(levels, -_SIGN_DB, _SIGN_DB)
    path = QPainterPath()
    for k, level in enumerate(levels.tolist()):
        point = QPointF(-18 + 36 * k / (len(_SIGN_HZ) - 1), -level / _SIGN_DB * 12)
        if k:
            path.lineTo(point)
        else:
            path.moveTo(point)
    return path
