"""Pictures of a curve from what goes in to what comes out, of both legs: of levels, or of values."""

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent

from stonekite import words
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.session.edits import other
from stonekite.session.types import LEGS, LegName, Split
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.registry import kind_of
from stonekite.stages.settings import settings_of
from stonekite.words import said

LOW_DB = -66.0


class TransferPicture(Picture):
    """A curve of each leg with where the leg is now; dragging it across moves one setting, the wheel another.

    `moved` gives values and a gesture token.
    """

    moved = Signal(dict, object)
    LOW, HIGH = 0.0, 1.0
    MARKS: tuple[float, ...] = ()

    def __init__(self, handle: Handle) -> None:
        super().__init__()
        self._handle = handle
        self._points = np.linspace(self.LOW, self.HIGH, 133)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(110, 80)
        self._stage: Any = None
        self._leg: LegName = "upper"
        self._split = Split()
        self._live = np.full(2, -160.0), np.zeros(2)
        self._drag: tuple[float, float, object] | None = None

    def sizeHint(self) -> QSize:
        return QSize(210, 210)

    def show_stage(self, stage, leg: LegName, split: Split) -> None:
        if stage is not self._stage or (leg, split) != (self._leg, self._split):
            self._stage, self._leg, self._split = stage, leg, split
            self.renew()

    def show_live(self, peak_in: np.ndarray, reduction: np.ndarray) -> None:
        """Levels in dBFS that go in (2,) and reductions in dB (2,), now."""
        self._live = peak_in, reduction
        self.update()

    # What a picture is of

    def outputs(self, leg: LegName, points: np.ndarray) -> np.ndarray:
        """What comes out of a leg for what goes in."""
        raise NotImplementedError

    def now(self, leg: LegName) -> list[tuple[float, float]]:
        """Where a leg is: what goes in and what comes out."""
        raise NotImplementedError

    def word_of(self, mark: float) -> str:
        """What stands at a mark of the grid."""
        raise NotImplementedError

    def per_pixel(self) -> float:
        """How much of the dragged setting a pixel is."""
        raise NotImplementedError

    # Geometry

    def plot(self) -> QRectF:
        return QRectF(26, 4, self.width() - 34.0, self.height() - 22.0)

    def x_of(self, value: float) -> float:
        return self.plot().left() + (value - self.LOW) / (self.HIGH - self.LOW) * self.plot().width()

    def y_of(self, value: float) -> float:
        return self.plot().bottom() - (value - self.LOW) / (self.HIGH - self.LOW) * self.plot().height()

    def _line(self, leg: LegName) -> QPolygonF:
        plot = self.plot()
        across, up = (
            (values - self.LOW) / (self.HIGH - self.LOW)
            for values in (self._points, self.outputs(leg, self._points))
        )
        return polyline(plot.left() + across * plot.width(), plot.bottom() - up * plot.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.layer(painter, "still", self._paint_still)
        if self._stage is not None:
            painter.setClipRect(self.plot())
            for leg in (other(self._leg), self._leg):
                if getattr(self._stage, leg) is not None:
                    painter.setPen(QPen(roles.ground, 1))
                    painter.setBrush(roles.component(self._split.component(leg)))
                    for x, y in self.now(leg):
                        painter.drawEllipse(QPointF(self.x_of(x), self.y_of(y)), 4.5, 4.5)
            painter.setClipping(False)
        self.frame(painter)

    def _paint_still(self, painter: QPainter) -> None:
        plot = self.plot()
        self.ground(painter)
        painter.setFont(font(7.5))
        for mark in self.MARKS:
            x, y = self.x_of(mark), self.y_of(mark)
            painter.setPen(QPen(mixed(roles.line, roles.ground, 0.55), 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(roles.muted)
            word = self.word_of(mark)
            left = min(x - 15, self.width() - 30)
            painter.drawText(QRectF(left, plot.bottom() + 2, 30, 14), Qt.AlignmentFlag.AlignCenter, word)
            if mark > self.MARKS[0]:
                top = max(0.0, y - 7)
                painter.drawText(QRectF(0, top, 22, 14), Qt.AlignmentFlag.AlignRight, word)
        if self._stage is None:
            return
        painter.setClipRect(plot)
        painter.setPen(QPen(roles.muted, 1, Qt.PenStyle.DotLine))
        ends = (self.LOW, self.HIGH)
        painter.drawLine(*(QPointF(self.x_of(end), self.y_of(end)) for end in ends))
        legs = (other(self._leg), self._leg)
        for leg, style, wide in zip(
            legs, (Qt.PenStyle.DashLine, Qt.PenStyle.SolidLine), (1.4, 2.0), strict=True
        ):
            if getattr(self._stage, leg) is not None:
                colour = roles.component(self._split.component(leg))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(colour if self._stage.inserted else roles.muted, wide, style))
                painter.drawPolyline(self._line(leg))

    # Mouse and keys

    @property
    def _side(self):
        return getattr(self._stage, self._leg, None)

    def _step(self, name: str, steps: float, token: object) -> None:
        setting = settings_of(type(self._side))[name]
        self.moved.emit({name: setting.stepped(getattr(self._side, name), steps)}, token)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._side is not None and event.button() == Qt.MouseButton.LeftButton:
            self._drag = (event.position().x(), getattr(self._side, self._handle.x), object())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and self._side is not None:
            x, start, token = self._drag
            shift = (event.position().x() - x) * self.per_pixel()
            setting = settings_of(type(self._side))[self._handle.x]
            self.moved.emit({self._handle.x: round(setting.held(start + shift), 1)}, token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self._side is not None and self._handle.wheel is not None:
            self._step(self._handle.wheel, event.angleDelta().y() / 120, "wheel")
            event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        fine = 0.2 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        key = event.key()
        if self._side is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._step(self._handle.x, fine if key == Qt.Key.Key_Right else -fine, "keys")
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus) and self._handle.wheel is not None:
            self._step(self._handle.wheel, fine if key == Qt.Key.Key_Plus else -fine, "keys")
        else:
            super().keyPressEvent(event)


class CurvePicture(TransferPicture):
    """Level in against level out."""

    LOW, HIGH = LOW_DB, 0.0
    MARKS = (-60.0, -40.0, -20.0, 0.0)

    def __init__(self, handle: Handle) -> None:
        super().__init__(handle)
        self.setAccessibleName(said("Level in and out of both legs"))
        self.setToolTip(
            said(
                "Level in (across) against level out (up). Drag to move the threshold, turn the wheel for the "
                "ratio (arrow keys, + and −)"
            )
        )

    def outputs(self, leg: LegName, points: np.ndarray) -> np.ndarray:
        curve = kind_of(self._stage).offers.curve
        return points if curve is None else curve(self._stage, leg, points)

    def now(self, leg: LegName) -> list[tuple[float, float]]:
        row = LEGS.index(leg)
        level, reduction = float(self._live[0][row]), float(self._live[1][row])
        if level <= LOW_DB:
            return []
        makeup = kind_of(self._stage).offers.makeup_db
        given = 0.0 if makeup is None else makeup(getattr(self._stage, leg))
        return [(level, level - reduction + given)]

    def word_of(self, mark: float) -> str:
        return f"−{-mark:g}" if mark else "0"

    def per_pixel(self) -> float:
        return -LOW_DB / self.plot().width()


class BendPicture(TransferPicture):
    """Value in against value out, of full scale."""

    LOW, HIGH = -1.0, 1.0
    MARKS = (-1.0, -0.5, 0.0, 0.5, 1.0)

    def __init__(self, handle: Handle) -> None:
        super().__init__(handle)
        self.setAccessibleName(said("Curve along which both legs are bent"))
        self.setToolTip(
            said(
                "What goes in (across) against what comes out (up), of full scale, with the peaks that go in "
                "now. Drag to the right to drive harder, turn the wheel for the other setting (arrow keys, + and "
                "−)"
            )
        )

    def outputs(self, leg: LegName, points: np.ndarray) -> np.ndarray:
        side = getattr(self._stage, leg)
        bend = kind_of(self._stage).offers.bend
        return points if bend is None else bend(side, points)

    def now(self, leg: LegName) -> list[tuple[float, float]]:
        peak = 10 ** (float(self._live[0][LEGS.index(leg)]) / 20)
        if peak < 1e-3:
            return []
        ends = np.array([-peak, peak])
        return list(zip(ends.tolist(), self.outputs(leg, ends).tolist(), strict=True))

    def word_of(self, mark: float) -> str:
        return words.mark(mark)

    def per_pixel(self) -> float:
        setting = settings_of(type(self._side))[self._handle.x]
        return (setting.high - setting.low) / self.plot().width()
