"""The picture of how hard the parts of an amplifier work: where each stands against the knee of its curve."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.session.types import LEGS, LegName, Split
from stonekite.words import said

LOW_DB, HIGH_DB = -30.0, 24.0
_MARKS_DB = (-24, -12, 0, 12)


class WorkPicture(Picture):
    """A bar for the input and for every part, of the leg in front; the other leg's as a line beside it."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(120, 80)
        self.setAccessibleName(said("How hard the stages work"))
        self.setToolTip(
            said(
                "Peaks at the input in dBFS, and in front of each gain stage and of the power stage against the "
                "knee of its curve: below −12 dB it is clean, above 0 it bends all that comes"
            )
        )
        self._names: tuple[str, ...] = ()
        self._worked = np.full((2, 0), -150.0)
        self._peak_in = np.full(2, -150.0)
        self._leg: LegName = "upper"
        self._split = Split()

    def sizeHint(self) -> QSize:
        return QSize(190, 210)

    def show_stage(self, names: tuple[str, ...], leg: LegName, split: Split) -> None:
        """Show parts of these names, with one leg in front."""
        if (names, leg, split) != (self._names, self._leg, self._split):
            self._names, self._leg, self._split = names, leg, split
            self.renew()

    def show_live(self, peak_in: np.ndarray, worked_db: np.ndarray) -> None:
        """Levels in dBFS (2,) that go in, and how hard parts (2, most) work, in dB over the knee."""
        self._peak_in, self._worked = np.array(peak_in), np.array(worked_db)
        words = [
            f"{name} {value:.0f} dB"
            for name, value in zip(("input", *self._names), self.levels(LEGS.index(self._leg)), strict=True)
        ]
        self.setAccessibleDescription(", ".join(words))
        self.update()

    def levels(self, row: int) -> list[float]:
        """Of the input and every part of a leg, in dB."""
        worked = self._worked[row, : len(self._names)].tolist()
        worked += [-150.0] * (len(self._names) - len(worked))
        return [float(self._peak_in[row]), *worked]

    def plot(self) -> QRectF:
        return QRectF(30, 6, self.width() - 34, self.height() - 28)

    def y_of(self, db: float) -> float:
        plot = self.plot()
        share = (min(HIGH_DB, max(LOW_DB, db)) - LOW_DB) / (HIGH_DB - LOW_DB)
        return plot.bottom() - share * plot.height()

    def column(self, place: int) -> QRectF:
        """Where the bar of the input (0) or of a part stands."""
        plot = self.plot()
        wide = plot.width() / (len(self._names) + 1)
        return QRectF(plot.left() + place * wide + 0.2 * wide, plot.top(), 0.6 * wide, plot.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "ground", self._paint_ground)
        mine = LEGS.index(self._leg)
        for place, (own, other) in enumerate(zip(self.levels(mine), self.levels(1 - mine), strict=True)):
            box = self.column(place)
            top = self.y_of(own)
            colour = roles.component(self._split.component(self._leg))
            hot = own > 0.0 and place > 0
            painter.fillRect(
                QRectF(box.left(), top, box.width(), box.bottom() - top), mixed(colour, roles.ground, 0.55)
            )
            if hot:
                knee = self.y_of(0.0)
                painter.fillRect(QRectF(box.left(), top, box.width(), knee - top), colour)
            y = round(self.y_of(other)) + 0.5
            if other > LOW_DB:
                behind = roles.component(self._split.component(LEGS[1 - mine]))
                painter.setPen(QPen(behind, 1, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(box.left() - 3, y), QPointF(box.right() + 3, y))

    def _paint_ground(self, painter: QPainter) -> None:
        self.ground(painter)
        plot = self.plot()
        painter.setFont(font(8))
        for db in _MARKS_DB:
            y = round(self.y_of(db)) + 0.5
            painter.setPen(QPen(roles.muted if db == 0 else mixed(roles.line, roles.ground, 0.55), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(roles.muted)
            word = f"+{db}" if db > 0 else f"−{-db}" if db else "0"
            painter.drawText(
                QRectF(0, y - 9, 26, 18), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, word
            )
        for place, name in enumerate((said("in"), *self._names)):
            box = self.column(place)
            painter.drawText(
                QRectF(box.center().x() - 24, plot.bottom() + 3, 48, 16), Qt.AlignmentFlag.AlignCenter, name
            )
