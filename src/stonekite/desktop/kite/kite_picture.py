"""The picture of the signal path: source, split, two legs that part and meet again, a stone for each side of a stage,
spurs outside, join, output.
"""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QColor,
    QFontMetricsF,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
)

from stonekite.desktop.controls.theme import faded, font, mixed, roles
from stonekite.desktop.kite import layout
from stonekite.desktop.kite.kite_places import KitePlaces
from stonekite.desktop.kite.stones import STONE, key_sign, ride_sign, sign, stone_path
from stonekite.desktop.pictures.turn import turn
from stonekite.session import tree
from stonekite.session.types import LEGS, LegName, anything_alone
from stonekite.stages.base import Stage, hears_another
from stonekite.stages.registry import label_of
from stonekite.words import NAMES, said

_STONE_ROOM, _STONE_MIDDLE = QSize(84, 60), QPointF(42, 30)
"""Of the picture of a stone."""
_QUIET_DB, _LOUD_DB = -60.0, -6.0


class KitePicture(KitePlaces):
    """Draws it: the levels of the legs live, the path over them kept."""

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
                spurs=len(self._strip.spurs), stages=sum(1 for _ in tree.walk(self._strip))
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
        right = QRectF(lane.end - 140, lane.y - 17, 138, 17)
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
        label = label_of(stage) if stage.inserted else f"{label_of(stage)} out"
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
        if any(ride.path.startswith((f"{stone.leg}.", "shared.")) for ride in stage.rides):
            ride_sign(painter, centre + QPointF(STONE[0] * 0.72, -STONE[1] * 0.82) * stone.scale)
        if hears_another(stage, stone.leg):
            key_sign(painter, centre + QPointF(-STONE[0] * 0.72, -STONE[1] * 0.82) * stone.scale)
        painter.setPen(QPen(roles.chalk if heard else roles.muted, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.translate(centre)
        painter.scale(stone.scale, stone.scale)
        painter.drawPath(sign(stage, stone.leg))
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
