"""The picture of what a stage did lately, whose output level depends on its input level."""

from collections import deque

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.pictures.transfer_picture import LOW_DB
from stonekite.session.edits import other
from stonekite.session.types import LEGS, LegName, Split
from stonekite.words import NAMES, said

LOOKS = 240
"""So many looks, 30 a second, are in the history."""
_LOOKS_A_FIGURE = 6
"""Five times a second: figures that change faster cannot be read."""
_DEEP_DB = 24.0
_NEAR = 5.0


def _less(reduction_db: float) -> str:
    return f"−{reduction_db:.1f}" if reduction_db >= 0.05 else "0.0"


class HistoryPicture(Picture):
    """The last seconds: what went in, and how much was taken away on both legs; figures beside it.

    A band marks the reductions that are aimed at. It can be dragged, and is the same for all kinds.
    """

    target_db = (2.0, 4.0)

    def __init__(self) -> None:
        super().__init__()
        self._drag: tuple[str, float, tuple[float, float]] | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(200, 80)
        self.setAccessibleName(said("Reduction of both legs"))
        self.setToolTip(
            said(
                "Reduction hangs from the top; what went into the leg in front stands below. The band is the "
                "reduction aimed at: drag it or its edges (arrow keys, + and −). Click elsewhere to forget what "
                "was (Delete)"
            )
        )
        self._aimed = self.target_db
        self._since_figures = 0
        self._looks: deque[tuple[np.ndarray, np.ndarray]] = deque(maxlen=LOOKS)
        self._leg: LegName = "upper"
        self._split = Split()

    def sizeHint(self) -> QSize:
        return QSize(420, 210)

    def show_stage(self, leg: LegName, split: Split) -> None:
        if (leg, split) != (self._leg, self._split):
            self._leg, self._split = leg, split
            self.renew()

    def add(self, peak_in: np.ndarray, reduction: np.ndarray) -> None:
        """One look more: levels in dBFS (2,) and reductions in dB (2,)."""
        self._looks.append((np.array(peak_in), np.array(reduction)))
        self._since_figures += 1
        if self._since_figures >= _LOOKS_A_FIGURE:
            self._since_figures = 0
            self.renew("figures")
        self.update()

    def forget(self) -> None:
        self._looks.clear()
        self.renew("figures")

    def figures(self, leg: LegName) -> tuple[float, float, float]:
        """Reduction of a leg in dB: now, on average while there was any, and at the most."""
        row = LEGS.index(leg)
        found = np.array([reduction[row] for _, reduction in self._looks])
        if not len(found):
            return 0.0, 0.0, 0.0
        some = found[found > 0.05]
        return float(found[-1]), float(some.mean()) if len(some) else 0.0, float(found.max())

    # The band that marks what is aimed at

    def aim(self, low_db: float, high_db: float) -> None:
        """Mark other reductions."""
        low = min(max(0.0, low_db), _DEEP_DB - 0.5)
        HistoryPicture.target_db = round(low, 1), round(min(max(high_db, low + 0.5), _DEEP_DB), 1)
        self.update()

    def _part_at(self, point: QPointF) -> str | None:
        """Which part of the band is under a point."""
        if not self.plot().contains(point):
            return None
        low, high = (self._y(db) for db in self.target_db)
        if abs(point.y() - low) < min(_NEAR, (high - low) / 3):
            return "low"
        if abs(point.y() - high) < _NEAR:
            return "high"
        return "both" if low < point.y() < high else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        part = self._part_at(event.position())
        if part is None:
            self.forget()
        else:
            self._drag = part, event.position().y(), self.target_db

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            part = self._part_at(event.position())
            self.setCursor(Qt.CursorShape.ArrowCursor if part is None else Qt.CursorShape.SizeVerCursor)
            return
        part, y, (low, high) = self._drag
        shift = (event.position().y() - y) / self.plot().height() * _DEEP_DB
        if part == "both":
            shift = max(shift, -low)
        self.aim(low + shift * (part != "high"), high + shift * (part != "low"))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        low, high = self.target_db
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = 0.5 if key == Qt.Key.Key_Down else -min(0.5, low)
            self.aim(low + step, high + step)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.aim(low, high + (0.5 if key == Qt.Key.Key_Plus else -0.5))
        elif key == Qt.Key.Key_Delete:
            self.forget()
        else:
            super().keyPressEvent(event)

    def plot(self) -> QRectF:
        return QRectF(26, 4, self.width() - 30.0 - 118.0, self.height() - 8.0)

    def _y(self, reduction_db: float) -> float:
        plot = self.plot()
        return plot.top() + min(reduction_db, _DEEP_DB) / _DEEP_DB * plot.height()

    def _across(self) -> np.ndarray:
        """Where the looks stand."""
        plot, count = self.plot(), len(self._looks)
        return plot.right() + plot.width() / LOOKS * np.arange(-count, 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._aimed != self.target_db:  # moved in another picture
            self._aimed = self.target_db
            self._outdated.update(("still", "figures"))
        self.layer(painter, "still", self._paint_still)
        self._paint_traces(painter)
        self._paint_aim(painter)
        self.layer(painter, "figures", self._paint_figures)
        self.frame(painter)

    def _paint_still(self, painter: QPainter) -> None:
        plot = self.plot()
        self.ground(painter)
        painter.setBrush(mixed(roles.chalk, roles.ground, 0.08))
        low, high = self.target_db
        top, bottom = self._y(low), self._y(high)
        painter.drawRect(QRectF(plot.left(), top, plot.width(), bottom - top))
        painter.setFont(font(7.5))
        for db in (0, 6, 12, 18):
            painter.setPen(QPen(mixed(roles.line, roles.ground, 0.55), 1))
            painter.drawLine(QPointF(plot.left(), self._y(db)), QPointF(plot.right(), self._y(db)))
            painter.setPen(roles.muted)
            painter.drawText(
                QRectF(0, max(0.0, self._y(db) - 7), 22, 14),
                Qt.AlignmentFlag.AlignRight,
                f"−{db}" if db else "0",
            )

    def _paint_aim(self, painter: QPainter) -> None:
        """What is aimed at, on a ground of its own: the traces run through there."""
        low, high = self.target_db
        words = said("aim −{low:g} to −{high:g} dB").format(low=low, high=high)
        painter.setFont(font(7.5))
        painter.setPen(roles.muted)
        box = QRectF(self.plot().left() + 4, self._y(high) + 1, self.plot().width(), 14)
        self.label(painter, box, words, Qt.AlignmentFlag.AlignLeft)

    def _paint_traces(self, painter: QPainter) -> None:
        if len(self._looks) < 2:
            return
        plot = self.plot()
        painter.setClipRect(plot)
        levels = np.array([peak for peak, _ in self._looks])
        reductions = np.array([reduction for _, reduction in self._looks])
        mine = LEGS.index(self._leg)
        height = np.clip((levels[:, mine] - LOW_DB) / -LOW_DB, 0.0, 1.0) * plot.height() * 0.6
        xs = self._across()
        colour = roles.component(self._split.component(self._leg))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(mixed(colour, roles.ground, 0.22))
        ends = np.array([plot.bottom()])
        body = np.concatenate([ends, plot.bottom() - height, ends])
        painter.drawPolygon(polyline(np.concatenate([xs[:1], xs, xs[-1:]]), body))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for leg, style in ((other(self._leg), Qt.PenStyle.DashLine), (self._leg, Qt.PenStyle.SolidLine)):
            ys = plot.top() + np.minimum(reductions[:, LEGS.index(leg)], _DEEP_DB) / _DEEP_DB * plot.height()
            painter.setPen(QPen(roles.component(self._split.component(leg)), 1, style))
            painter.drawPolyline(polyline(xs, ys))
        painter.setClipping(False)

    def _paint_figures(self, painter: QPainter) -> None:
        left = self.plot().right() + 10
        for row, leg in enumerate(LEGS):
            name = self._split.component(leg)
            top = 4.0 + row * min(74.0, self.height() / 2)
            painter.setFont(font(9, bold=True))
            painter.setPen(roles.component(name))
            painter.drawText(QRectF(left, top, 110, 16), Qt.AlignmentFlag.AlignLeft, NAMES[name])
            painter.setFont(font(8.5))
            if self.height() < 130:  # in one line what does not fit in three
                now, _, most = self.figures(leg)
                painter.setPen(roles.chalk)
                words = said("{now}, most {most}").format(now=_less(now), most=_less(most))
                painter.drawText(QRectF(left, top + 16, 110, 14), Qt.AlignmentFlag.AlignLeft, words)
                continue
            for k, (word, value) in enumerate(
                zip((said("now"), said("mean"), said("most")), self.figures(leg), strict=True)
            ):
                line = QRectF(left, top + 17 + 15 * k, 108, 14)
                painter.setPen(roles.muted)
                reached = word == "mean" and self.target_db[0] <= value <= self.target_db[1]
                painter.drawText(
                    line,
                    Qt.AlignmentFlag.AlignLeft,
                    said("{word} · aim").format(word=word) if reached else word,
                )
                painter.setPen(roles.chalk)
                painter.drawText(line, Qt.AlignmentFlag.AlignRight, f"{_less(value)} dB")
