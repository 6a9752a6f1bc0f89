"""The picture of the signal path: what it shows, and how.

Source, split, two legs that part and meet again, a stone for each side of a stage, spurs outside, join, output. Where
all of it lies stands in layout.py.
"""

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QFontMetricsF,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import faded, font, mixed, restyled, roles
from stonekite.desktop.kite import layout
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.pictures.turn import turn
from stonekite.session import tree
from stonekite.session.types import LEGS, LegName, Strip, anything_alone
from stonekite.stages.base import Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.registry import heard_response, kind_of
from stonekite.words import NAMES, said

STONE = (30.0, 21.0)
_STONE_ROOM, _STONE_MIDDLE = QSize(84, 60), QPointF(42, 30)
"""Of the picture of a stone."""
_QUIET_DB, _LOUD_DB = -60.0, -6.0


@dataclass
class Hit:
    """What lies under a point: a stone, a place to add one, a lane's name, the way out, the split, source or output."""

    what: str
    stage: int = -1
    leg: LegName = "upper"
    branch: int = tree.LEGS_BRANCH


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


class KitePicture(Picture):
    """Draws a strip, or what stands inside one of its stages: the levels of the legs live, the path over them kept.

    `grown` comes when it needs another height, `followed` with the place of what was chosen.
    """

    grown = Signal()
    followed = Signal(int, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(said("Signal path"))
        self._strip = Strip()
        self._source = ("", "")
        self._output = ("", "")
        self._chosen: tuple[int, LegName] | None = None
        self._spur = 0
        self._inside = 0
        self._levels = {"upper": -150.0, "lower": -150.0}
        self._loudness = {"upper": "", "lower": ""}
        self._open = ""
        self._hover: Hit | None = None
        self._press: tuple[QPointF, Hit] | None = None
        self._drag: QPointF | None = None
        self._stones: dict[tuple[int, LegName], tuple[tuple, QPixmap]] = {}
        self._layout = layout.of_strip(self._strip, 900.0)
        self._hidden = False
        self._soon = QTimer(self, interval=12, singleShot=True)
        self._soon.timeout.connect(self.renew)
        restyled.changed.connect(self._forget_stones)

    def sizeHint(self) -> QSize:
        return QSize(900, int(self._layout.height))

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_out()

    def _forget_stones(self) -> None:
        self._stones.clear()

    def show_strip(self, strip: Strip, source: tuple[str, str], output: tuple[str, str]) -> None:
        """Draw another strip, with two lines of words each for the source and the output."""
        self._strip, self._source, self._output = strip, source, output
        there = {stage.id for _, stage in tree.walk(strip)}
        self._stones = {key: kept for key, kept in self._stones.items() if key[0] in there}
        if self._inside not in there:
            self._inside = 0
        if self._spur not in [spur.id for spur in strip.spurs]:
            self._spur = 0
        self._lay_out()
        self._describe()

    def _lay_out(self) -> None:
        """Where everything lies now."""
        leg = self._chosen[1] if self._chosen else "upper"
        height = self._layout.height
        self.setMinimumWidth(int(layout.least_width(self._strip)) if not self._inside else 0)
        if self._inside:
            _, stage = tree.find(self._strip, self._inside)
            if getattr(stage, leg) is None:
                leg = "lower" if leg == "upper" else "upper"
            self._layout = layout.of_stage(self._strip, stage, leg, float(self.width()))
        else:
            self._layout = layout.of_strip(self._strip, float(self.width()))
        if self._layout.height != height:
            self.setFixedHeight(int(self._layout.height))
            self.updateGeometry()
            self.grown.emit()
        self._repaint_soon()

    def show_hidden(self, on: bool) -> None:
        """Say that not all of it fits in."""
        if on != self._hidden:
            self._hidden = on
            self.renew()

    @property
    def inside(self) -> int:
        """The stage whose branches are shown; 0 for the whole strip."""
        return self._inside

    def enter(self, stage: int) -> None:
        """Show what stands inside a stage; 0 shows the whole strip."""
        self._inside = stage
        self._lay_out()

    def choose(self, stage: int | None, leg: LegName = "upper") -> None:
        """Mark a stone as the one whose editor is open, and show where it is."""
        before = self._chosen, self._inside
        self._chosen = None if stage is None else (stage, leg)
        if stage is not None and stage != self._inside:
            try:
                home = tree.home(self._strip, stage).branch
            except LookupError:
                home = tree.LEGS_BRANCH
            above = tree.above(self._strip, home) if home else []
            self._inside = above[-1][1] if above else 0
        if (self._chosen, self._inside) != before:
            self._lay_out()
            self._describe()
        if stage is not None and (stone := self._layout.stone(stage, leg)) is not None:
            self.followed.emit(int(stone.x), int(stone.y))

    def _describe(self) -> None:
        """What is chosen, and then all there is, for those who hear the map."""
        chosen = ""
        if self._spur:
            chosen = said("Spur {name} chosen. ").format(name=self._strip.spur(self._spur).name)
        elif self._chosen is not None:
            chosen = layout.chosen_words(self._strip, *self._chosen)
        self.setAccessibleDescription(
            chosen + layout.in_words(self._strip, self._source[0], self._strip.split)
        )

    def choose_spur(self, number: int) -> None:
        """Mark a spur as what is open; 0 for none."""
        if number == self._spur and not (number and self._inside):
            return
        self._spur = number
        if number:
            self._inside = 0
        self._lay_out()
        self._describe()
        for lane in self._layout.lanes:
            if lane.branch == number:
                self.followed.emit(int(lane.start), int(lane.y))

    def mark(self, view: str) -> None:
        """Mark the source or the output as what is open."""
        self._open = view
        self._repaint_soon()

    def _repaint_soon(self) -> None:
        """After what else an edit repaints, which Qt paints within 5 ms: all in one look would take too long."""
        if not self._soon.isActive():
            self._soon.start()

    def show_levels(self, upper_db: float, lower_db: float) -> None:
        """Levels of the legs, 30 times a second; repaints only what changed visibly."""
        for leg, level in zip(LEGS, (upper_db, lower_db), strict=True):
            old, new = self._levels[leg], level
            if int(old * 2) != int(new * 2):
                self._levels[leg] = new
                self.update(self._line_box(leg))

    def show_loudness(self, upper: str, lower: str) -> None:
        """A figure in words beside the name of each leg."""
        words = {"upper": upper, "lower": lower}
        if words != self._loudness:
            self._loudness = words
            self._repaint_soon()

    # Geometry

    @property
    def _split_x(self) -> float:
        return layout.SPLIT_X

    @property
    def _join_x(self) -> float:
        return self._layout.join_x

    def stone_centre(self, stage: int, leg: LegName) -> QPointF:
        """Where the stone of a stage's side lies. Raises LookupError if it is not on the map."""
        stone = self._layout.stone(stage, leg)
        if stone is None:
            raise LookupError(f"stage {stage} is not shown")
        return QPointF(stone.x, stone.y)

    def plus_centre(self, leg: LegName, branch: int = tree.LEGS_BRANCH) -> QPointF:
        """Where the place to add a stage is. Raises LookupError if it is not on the map."""
        for plus in self._layout.pluses:
            if plus.branch == branch and (branch != tree.LEGS_BRANCH or plus.leg == leg):
                return QPointF(plus.x, plus.y)
        raise LookupError(f"branch {branch} is not shown")

    def lane_centre(self, branch: int) -> QPointF:
        """Where the name of a lane is."""
        return self._name_box(next(lane for lane in self._layout.lanes if lane.branch == branch)).center()

    def split_centre(self) -> QPointF:
        return QPointF(self._split_x, self._layout.middle)

    def new_spur_centre(self) -> QPointF:
        """Where the place to add a spur is."""
        return self._new_spur_box().center()

    def _new_spur_box(self) -> QRectF:
        return QRectF(self._layout.join_x + 46.0, self._layout.middle + 42.0, 122.0, 22.0)

    def _crumb_box(self) -> QRectF:
        return QRectF(8.0, 4.0, self.width() - 16.0, 22.0)

    def _name_box(self, lane: layout.Lane) -> QRectF:
        return QRectF(lane.start, lane.y - 17.0, 92.0, 17.0)

    def _line_box(self, leg: LegName):
        """Where the line of a leg runs, with its ends that part from the middle and come back to it."""
        y, middle = self._layout.legs.get(leg, -100.0), self._layout.middle
        top, bottom = min(y, middle) - 6, max(y, middle) + 6
        return QRectF(self._split_x, top, self._join_x - self._split_x, bottom - top).toAlignedRect()

    def _source_box(self) -> QRectF:
        return QRectF(12, self._layout.middle - 36, 118, 72)

    def _output_box(self) -> QRectF:
        return QRectF(self.width() - 134, self._layout.middle - 36, 122, 72)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._inside:
            self._paint_levels(painter)
        self.layer(painter, "path", self._paint_inside if self._inside else self._paint_strip)
        if self._drag is not None and self._press is not None and self._press[1].what == "stone":
            painter.setPen(QPen(roles.chalk, 1, Qt.PenStyle.DashLine))
            painter.setBrush(faded(roles.raised, 0.6))
            painter.drawPath(stone_path(self._drag, self._press[1].stage))

    def _paint_strip(self, painter: QPainter) -> None:
        for lane in self._layout.lanes:
            self._paint_lane(painter, lane)
        self._paint_ends(painter)
        for stage in self._strip.stages:
            self._paint_tie(painter, stage)
        self._paint_stones(painter)
        mode = self._strip.split.mode
        self._paint_diamond(painter, self._split_x, "M/S" if mode == "mid-side" else "L/R", "split")
        self._paint_diamond(painter, self._join_x, "L/R", "join")
        self._paint_box(painter, self._source_box(), said("Source"), *self._source, hovered="source")
        self._paint_box(painter, self._output_box(), said("Output"), *self._output, hovered="output")
        self._paint_new_spur(painter)
        if self._hidden:
            painter.setFont(font(8.5))
            painter.setPen(roles.muted)
            words = said("{spurs} spurs, {stages} stages: scroll to see all").format(
                spurs=len(self._strip.spurs), stages=len(self._strip.stages)
            )
            painter.drawText(QRectF(14, 6, 220, 16), Qt.AlignmentFlag.AlignLeft, words)

    def _paint_inside(self, painter: QPainter) -> None:
        """The way in above, and the branches of a stage."""
        painter.setFont(font(9))
        x, y = 14.0, 19.0
        words = [crumb for crumb, _ in self._layout.crumbs]
        for k, word in enumerate(words):
            last = k == len(words) - 1
            painter.setFont(font(9, bold=last))
            painter.setPen(roles.chalk if last else roles.muted)
            painter.drawText(QPointF(x, y), word)
            x += QFontMetricsF(painter.font()).horizontalAdvance(word) + 8
            if not last:
                painter.drawText(QPointF(x, y), "›")
                x += 14
        over = self._hover is not None and self._hover.what == "out"
        painter.setFont(font(9))
        painter.setPen(roles.chalk if over else roles.muted)
        painter.drawText(
            self._crumb_box(),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            said("Esc goes out"),
        )
        lanes = self._layout.lanes
        if lanes:
            colour = self._colour_of(lanes[0].component)
            for ends in ((14.0, lanes[0].leaves[0]), (lanes[0].returns[0], self.width() - 14.0)):
                painter.setPen(QPen(colour, 2))
                painter.drawLine(QPointF(ends[0], lanes[0].leaves[1]), QPointF(ends[1], lanes[0].leaves[1]))
        for lane in lanes:
            self._paint_lane(painter, lane)
        self._paint_stones(painter)

    def _paint_lane(self, painter: QPainter, lane: layout.Lane) -> None:
        colour = self._colour_of(lane.component)
        pen = QPen(mixed(colour, roles.panel, 0.85), 1.4)
        pen.setStyle(Qt.PenStyle.DotLine if lane.silent else Qt.PenStyle.SolidLine)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        points = [lane.leaves, (lane.start, lane.y), (lane.end, lane.y), lane.returns]
        painter.drawPolyline(QPolygonF([QPointF(*point) for point in points]))
        over = self._hover is not None and (self._hover.what, self._hover.branch) == ("lane", lane.branch)
        chosen = self._spur == lane.branch
        box = self._name_box(lane)
        painter.setFont(font(9, bold=chosen or not self._inside))
        painter.setPen(roles.chalk if over or chosen else (roles.muted if lane.silent else colour))
        name = QFontMetricsF(painter.font()).elidedText(lane.name, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        if chosen:
            width = min(box.width(), QFontMetricsF(painter.font()).horizontalAdvance(name))
            painter.setPen(QPen(roles.chalk, 1.4))
            painter.drawLine(box.bottomLeft(), box.bottomLeft() + QPointF(width, 0))
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        right = QRectF(lane.end - 80, lane.y - 17, 78, 17)
        words = "muted" if lane.silent else lane.level
        painter.drawText(right, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)

    def _paint_stones(self, painter: QPainter) -> None:
        for plus in self._layout.pluses:
            self._paint_plus(painter, plus)
        for stone in self._layout.stones:
            chosen = self._chosen is not None and self._chosen[0] == stone.stage.id
            mine = chosen and (self._layout.stone(*self._chosen) is stone)  # type: ignore[misc]
            self._paint_stone(painter, stone, mine)

    def _paint_new_spur(self, painter: QPainter) -> None:
        box = self._new_spur_box()
        over = self._hover is not None and self._hover.what == "new spur"
        painter.setFont(font(8.5))
        painter.setPen(roles.chalk if over else roles.muted)
        painter.drawText(
            box.adjusted(0, 0, -24, 0),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            said("new spur"),
        )
        centre = QPointF(box.right() - 10, box.center().y())
        painter.setPen(
            QPen(
                roles.chalk if over else roles.muted,
                1.2,
                Qt.PenStyle.SolidLine if over else Qt.PenStyle.DashLine,
            )
        )
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, 8, 8)
        painter.setPen(QPen(roles.chalk, 1.2))
        painter.drawLine(centre - QPointF(3.5, 0), centre + QPointF(3.5, 0))
        painter.drawLine(centre - QPointF(0, 3.5), centre + QPointF(0, 3.5))

    def _colour(self, leg: LegName):
        return self._colour_of(self._strip.split.component(leg))

    @staticmethod
    def _colour_of(component: str) -> QColor:
        """That of a component; what carries both legs is chalk."""
        return roles.chalk if component == "both" else roles.component(component)

    def _silent(self, leg: LegName) -> bool:
        mine = self._strip.leg(leg)
        return mine.muted or (anything_alone(self._strip) and not mine.alone)

    def _paint_levels(self, painter: QPainter) -> None:
        """The lines of the legs carry their levels: the louder, the wider and the brighter."""
        middle = self._layout.middle
        for leg in LEGS:
            y = self._layout.legs[leg]
            points = [
                QPointF(self._split_x, middle),
                QPointF(self._split_x + 52, y),
                QPointF(self._join_x - 52, y),
                QPointF(self._join_x, middle),
            ]
            level = (self._levels[leg] - _QUIET_DB) / (_LOUD_DB - _QUIET_DB)
            level = min(1.0, max(0.0, level))
            style = Qt.PenStyle.DotLine if self._silent(leg) else Qt.PenStyle.SolidLine
            colour = mixed(self._colour(leg), roles.panel, 0.45 + 0.55 * level)
            pen = QPen(colour, 1.6 + 3.4 * level, style)
            pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
            painter.setPen(pen)
            painter.drawPolyline(QPolygonF(points))

    def _paint_ends(self, painter: QPainter) -> None:
        """The lines from the source and to the output, and the names of the legs."""
        middle = self._layout.middle
        painter.setPen(QPen(roles.chalk, 2))
        painter.drawLine(QPointF(self._source_box().right(), middle), QPointF(self._split_x, middle))
        painter.drawLine(QPointF(self._join_x, middle), QPointF(self._output_box().left(), middle))
        for leg in LEGS:
            y = self._layout.legs[leg]
            name = self._strip.split.component(leg)
            baseline = y - 3 if leg == "upper" else y + 12
            right = self._split_x + 34
            for text, size, bold, ink in (
                (self._loudness[leg], 8.5, False, roles.muted),
                (NAMES[name], 10, True, self._colour(leg)),
            ):
                painter.setFont(font(size, bold=bold))
                painter.setPen(ink)
                width = QFontMetricsF(painter.font()).horizontalAdvance(text)
                painter.drawText(QPointF(right - width, baseline), text)
                right -= width + (8 if text else 0)

    def _paint_tie(self, painter: QPainter, stage: Stage) -> None:
        """The name of a stage between its stones, and what ties them if they are linked."""
        x = self.stone_centre(stage.id, "upper").x()
        middle = self._layout.middle
        chosen = self._chosen is not None and self._chosen[0] == stage.id
        if stage.linked and stage.upper is not None and stage.lower is not None:  # type: ignore[attr-defined]
            painter.setPen(QPen(roles.muted, 1.4))
            for shift in (-3, 3):
                for start, end in (
                    (self._layout.legs["upper"] + 22, middle - 11),
                    (middle + 11, self._layout.legs["lower"] - 22),
                ):
                    painter.drawLine(QPointF(x + shift, start), QPointF(x + shift, end))
        hovered = self._hover is not None and self._hover.stage == stage.id
        if self._layout.crowded and not (chosen or hovered):
            return
        painter.setFont(font(9, bold=chosen))
        painter.setPen(roles.chalk if chosen else roles.muted)
        label = kind_of(stage).label if stage.inserted else f"{kind_of(stage).label} out"
        painter.drawText(QRectF(x - 48, middle - 10, 96, 20), Qt.AlignmentFlag.AlignCenter, label)

    def _paint_stone(self, painter: QPainter, stone: layout.Stone, chosen: bool) -> None:
        centre, stage, leg = QPointF(stone.x, stone.y), stone.stage, stone.leg
        colour = self._colour_of(stone.component)
        if getattr(stage, leg) is None:  # the leg passes through: a ring to put a side back on
            painter.setPen(QPen(colour, 1.5))
            painter.setBrush(roles.panel)
            painter.drawEllipse(centre, 5.5, 5.5)
            return
        hovered = self._hover is not None and (self._hover.stage, self._hover.leg) == (stage.id, leg)
        looks = (stage, chosen, hovered, colour.rgb(), self.devicePixelRatioF(), stone.scale)
        kept = self._stones.get((stage.id, leg))
        if kept is None or kept[0][0] is not stage or kept[0][1:] != looks[1:]:
            if kept is not None and kept[0][4:] == looks[4:] and turn.over:  # as large: it may stand a while
                self._outdated.add("path")
                turn.wait(self)
            else:
                with turn:
                    kept = self._stones[stage.id, leg] = looks, self._stone(stone, colour, chosen, hovered)
        painter.drawPixmap((centre - _STONE_MIDDLE).toPoint(), kept[1])

    def _stone(self, stone: layout.Stone, colour: QColor, chosen: bool, hovered: bool) -> QPixmap:
        """A stone as it is shown again and again until something about it changes."""
        stage = stone.stage
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
        painter.drawPath(stone_path(centre, stage.id, stone.scale))
        if chosen:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(roles.chalk, 1))
            painter.drawPath(
                stone_path(centre, stage.id, stone.scale * (1.22 if stone.scale > 0.9 else 1.28))
            )
        painter.setPen(QPen(roles.chalk if heard else roles.muted, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.translate(centre)
        painter.scale(stone.scale, stone.scale)
        painter.drawPath(_sign(stage, stone.leg))
        painter.end()
        return made

    def _paint_plus(self, painter: QPainter, plus: layout.Plus) -> None:
        centre = QPointF(plus.x, plus.y)
        hit = self._hover
        hovered = hit is not None and hit.what == "plus" and (hit.branch, hit.leg) == (plus.branch, plus.leg)
        colour = self._colour_of(plus.component)
        painter.setPen(QPen(colour, 1.4, Qt.PenStyle.SolidLine if hovered else Qt.PenStyle.DashLine))
        painter.setBrush(roles.raised if hovered else roles.panel)
        painter.drawEllipse(centre, plus.radius, plus.radius)
        painter.setPen(QPen(roles.chalk, 1.4))
        arm = 0.36 * plus.radius
        painter.drawLine(centre - QPointF(arm, 0), centre + QPointF(arm, 0))
        painter.drawLine(centre - QPointF(0, arm), centre + QPointF(0, arm))

    def _paint_diamond(self, painter: QPainter, x: float, word: str, what: str) -> None:
        middle = self._layout.middle
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


_SIGN_HZ = np.geomspace(25, 18_000, 28)
_SIGN_RATE = 96_000.0  # high enough for every frequency of the sign, whatever the recording's rate
_SIGN_DB = 15.0


def _sign(stage: Stage, leg: LegName) -> QPainterPath:
    """What a stone shows: the curve of what its side really does."""
    offers = kind_of(stage).offers
    if branches_of(stage):
        return _branches_sign(stage, leg)
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


def _branches_sign(stage: Stage, leg: LegName) -> QPainterPath:
    """The branches of a stage in small: a line for each, with a mark for each stage in it."""
    names = kind_of(stage).branching.names(stage, leg)  # type: ignore[union-attr]
    shown = [branch for branch, name in zip(branches_of(stage), names, strict=True) if name]
    path = QPainterPath()
    for k, branch in enumerate(shown):
        y = 6.5 * (k - 0.5 * (len(shown) - 1))
        path.moveTo(-16, y)
        path.lineTo(16, y)
        for n in range(min(3, len(branch.stages))):
            path.addEllipse(QPointF(-9 + 9 * n, y), 2.2, 2.2)
    return path
