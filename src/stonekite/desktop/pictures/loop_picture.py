"""How much louder or quieter sound gets in one turn of a loop, over frequency, and how far that is from growing."""

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from stonekite.desktop.controls.theme import faded, font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.session.types import LEGS, LegName, Split
from stonekite.signal import loops
from stonekite.stages.registry import kind_of
from stonekite.words import figure, said

_HIGH_DB, _LOW_DB = 9.0, -39.0
_LOW_HZ, _HIGH_HZ = 20.0, 20_000.0


class LoopPicture(Picture):
    """One turn of each leg by itself, and of both together, which is what grows or falls."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumWidth(150)
        self.setAccessibleName(said("One turn of the loop over frequency"))
        self.setToolTip(
            said(
                "How much louder or quieter sound gets in one turn: of each leg by itself, and of both together "
                "(chalk).\nWhat stands in the loop counts with the most that it can do. At 0 dB and above the "
                "loop would grow."
            )
        )
        self._shown: tuple | None = None
        self._hz = np.geomspace(_LOW_HZ, _HIGH_HZ, 160)
        self._gains = np.zeros((2, 2, 160))
        self._margin = 0.0
        self._bound = False

    def sizeHint(self) -> QSize:
        return QSize(250, 240)

    def plot(self) -> QRectF:
        return QRectF(30, 6, self.width() - 36.0, self.height() - 24.0)

    def show_stage(self, stage: Any, leg: LegName, split: Split, rate: float) -> None:
        if (stage, leg, split, rate) == self._shown:
            return
        self._shown = stage, leg, split, rate
        echoes = kind_of(stage).offers.echoes
        assert echoes is not None
        self._gains = echoes.gains(stage, np.minimum(self._hz, 0.49 * rate), rate)
        self._margin = echoes.margin_db(stage, rate)
        self._bound = echoes.bounded(stage, rate)
        self.setAccessibleDescription(self.words)
        self.renew()

    @property
    def words(self) -> str:
        """How far it is from growing."""
        if self._margin <= 0.0:
            return said("grows by {figure} a turn: bounded").format(figure=figure(-self._margin, "dB"))
        if self._margin > 60.0:
            return said("nothing comes back")
        return said("{margin} below growing").format(margin=figure(self._margin, "dB")) + (
            said(", bounded") if self._bound else ""
        )

    def _x(self, hz: float) -> float:
        plot = self.plot()
        return plot.left() + plot.width() * np.log(hz / _LOW_HZ) / np.log(_HIGH_HZ / _LOW_HZ)

    def _y(self, db: np.ndarray | float) -> np.ndarray | float:
        plot = self.plot()
        return plot.bottom() - plot.height() * (np.maximum(db, _LOW_DB - 3.0) - _LOW_DB) / (
            _HIGH_DB - _LOW_DB
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "still", self._paint)

    def _paint(self, painter: QPainter) -> None:
        self.ground(painter)
        plot, grid = self.plot(), mixed(roles.line, roles.ground, 0.55)
        painter.setFont(font(7.5))
        zero = float(self._y(0.0))
        painter.fillRect(
            QRectF(plot.left(), plot.top(), plot.width(), zero - plot.top()), faded(roles.fault, 0.14)
        )
        for hz, word in ((100.0, "100"), (1000.0, "1k"), (10_000.0, "10k")):
            painter.setPen(QPen(grid, 1))
            painter.drawLine(QPointF(self._x(hz), plot.top()), QPointF(self._x(hz), plot.bottom()))
            painter.setPen(roles.muted)
            box = QRectF(self._x(hz) - 25, plot.bottom() + 2, 50, 14)
            painter.drawText(box, Qt.AlignmentFlag.AlignHCenter, word)
        for db in (0, -12, -24, -36):
            y = float(self._y(float(db)))
            painter.setPen(QPen(roles.fault if db == 0 else grid, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(roles.muted)
            words = "0 dB" if db == 0 else f"−{-db}"
            align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, y - 7, plot.left() - 4, 14), align, words)
        if self._shown is None:
            return
        stage, leg, split, _ = self._shown
        painter.setClipRect(plot)
        xs = np.array([self._x(hz) for hz in self._hz])
        for row, name in enumerate(LEGS):
            if getattr(stage, name) is None:
                continue
            style = Qt.PenStyle.SolidLine if name == leg else Qt.PenStyle.DashLine
            painter.setPen(QPen(roles.component(split.component(name)), 1, style))
            own = 20 * np.log10(np.maximum(self._gains[row, row], 1e-4))
            painter.drawPolyline(polyline(xs, np.asarray(self._y(own))))
        whole = 20 * np.log10(np.maximum(loops.greatest(self._gains), 1e-4))
        painter.setPen(QPen(roles.chalk, 1.5))
        painter.drawPolyline(polyline(xs, np.asarray(self._y(whole))))
        top = int(np.argmax(whole))
        if whole[top] > _LOW_DB:
            painter.setBrush(roles.warning if self._margin <= 3.0 else roles.chalk)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawEllipse(QPointF(xs[top], float(self._y(float(whole[top])))), 3.5, 3.5)
        painter.setClipping(False)
        painter.setFont(font(8.5))
        painter.setPen(
            roles.fault if self._margin <= 0 else roles.warning if self._margin < 3 else roles.chalk
        )
        box = QRectF(plot.left() + 4, plot.bottom() - 19, plot.width() - 8, 16)
        self.label(painter, box, self.words, Qt.AlignmentFlag.AlignLeft)
