"""The picture of a kind of bands: both legs' curves over the live spectrum, with handles to drag."""

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.known import FREQUENCIES, in_db
from stonekite.desktop.pictures.response_picture import RANGES_DB, ResponsePicture
from stonekite.session.edits import other
from stonekite.session.types import LEGS, LegName, Split
from stonekite.stages.base import Stage
from stonekite.stages.machinery.banded import Bands
from stonekite.stages.registry import kind_of
from stonekite.stages.settings import settings_of
from stonekite.words import said


class BandsPicture(ResponsePicture):
    """Shows a stage of bands and one chosen leg of it. `dragged` gives slot, changed values and a gesture token."""

    slot_chosen = Signal(int)
    dragged = Signal(int, dict, object)
    add_asked = Signal(float, float)
    remove_asked = Signal(int)

    def __init__(self, bands: Bands, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(said("Curves of both legs"))
        self.setMinimumHeight(96)
        self._of = bands
        self._settings = settings_of(bands.band)
        self._gains_db = np.zeros((2, bands.most))
        self._slot = -1
        self._hover = -1
        self._drag: tuple[int, object] | None = None

    def show_bands(self, stage: Stage, leg: LegName, split: Split, rate: float, slot: int) -> None:
        """Draw a stage with one leg in front and one band chosen."""
        self._slot = slot
        self.show_stage(stage, leg, split, rate)

    @property
    def _moves(self) -> bool:
        """Whether the gains follow the sound: the curves then show how far they may go, and are drawn lightly."""
        return self._stage is not None and kind_of(self._stage).offers.response_with is not None

    def show_gains(self, gains_db: np.ndarray) -> None:
        """Gains (2, most) in dB that the bands have now."""
        if not np.array_equal(gains_db, self._gains_db):
            self._gains_db = gains_db
            self.update(self.plot().toAlignedRect())

    def _pen(self, leg: LegName) -> QPen:
        if not self._moves:
            return super()._pen(leg)
        share = 0.75 if leg == self._leg else 0.45
        return QPen(mixed(self._colour(leg), roles.ground, share), 1, Qt.PenStyle.DotLine)

    def _paint_moving(self, painter: QPainter) -> None:
        """What the bands do now, over how far they may go."""
        response_with = None if self._stage is None else kind_of(self._stage).offers.response_with
        if response_with is None:
            return
        plot = self.plot()
        painter.setClipRect(plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for leg in (other(self._leg), self._leg):
            if getattr(self._stage, leg) is None:
                continue
            gains = self._gains_db[LEGS.index(leg)].tolist()
            now = response_with(self._stage, leg, gains, FREQUENCIES, self._rate)
            line = self._curve(in_db(now))
            if leg == self._leg:
                body = QPolygonF(line)
                body.append(QPointF(line.last().x(), plot.center().y()))
                body.append(QPointF(line.first().x(), plot.center().y()))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(mixed(self._colour(leg), roles.ground, 0.35))
                painter.drawPolygon(body)
                painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(super()._pen(leg))
            painter.drawPolyline(line)
        painter.setClipping(False)

    @property
    def range_db(self) -> float:
        """Half the height of the picture: the least range that shows every handle."""
        gains = [
            abs(self.height_of(band))
            for side in (getattr(self._stage, "upper", None), getattr(self._stage, "lower", None))
            if side is not None
            for band in side.bands
            if band is not None
        ]
        return RANGES_DB[0] if max(gains, default=0.0) <= 13.0 else RANGES_DB[1]

    def height_of(self, band) -> float:
        """What a handle's height stands for, in dB; 0 for a shape without it."""
        return 0.0 if band.shape in self._of.flat else getattr(band, self._of.height)

    def bands(self) -> list[tuple[int, Any]]:
        """The chosen leg's bands with their slots."""
        side = getattr(self._stage, self._leg, None)
        return [(k, band) for k, band in enumerate(side.bands) if band is not None] if side else []

    def handle(self, band) -> QPointF:
        """Where a band's handle is."""
        return QPointF(self.x_of(band.frequency_hz), self.y_of(self.height_of(band)))

    def _slot_at(self, point: QPointF) -> int:
        near = [((self.handle(b) - point).manhattanLength(), k) for k, b in self.bands()]
        distance, slot = min(near, default=(99.0, -1))
        return slot if distance < 16 else -1

    def _paint_handles(self, painter: QPainter) -> None:
        for slot, band in self.bands():
            self._paint_handle(painter, slot, band)

    def _paint_handle(self, painter: QPainter, slot: int, band) -> None:
        centre = self.handle(band)
        chosen = slot == self._slot
        colour = self._colour(self._leg) if band.on and self._stage and self._stage.inserted else roles.muted
        painter.setPen(QPen(colour, 2.2 if chosen else 1.6))
        painter.setBrush(roles.chalk if chosen else roles.ground)
        painter.drawEllipse(centre, 9, 9)
        if slot == self._hover and not chosen:
            painter.setPen(QPen(roles.chalk, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(centre, 12, 12)
        painter.setPen(roles.ground if chosen else roles.chalk)
        painter.setFont(font(8.5, bold=True))
        painter.drawText(
            QRectF(centre.x() - 10, centre.y() - 10, 20, 20), Qt.AlignmentFlag.AlignCenter, str(slot + 1)
        )

    # Mouse and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        slot = self._slot_at(event.position())
        if slot < 0:
            return
        self.slot_chosen.emit(slot)
        if event.button() == Qt.MouseButton.LeftButton:
            self._drag = (slot, object())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            slot = self._slot_at(event.position())
            if slot != self._hover:
                self._hover = slot
                self.renew("front")
                self.setCursor(Qt.CursorShape.SizeAllCursor if slot >= 0 else Qt.CursorShape.CrossCursor)
                self.update()
            return
        slot, token = self._drag
        band = dict(self.bands()).get(slot)
        if band is None:
            return
        values: dict[str, float] = {"frequency_hz": self.hertz_at(event.position().x())}
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            values = {}  # only up and down
        if band.shape not in self._of.flat:
            height = self._settings[self._of.height].held(self.db_at(event.position().y()))
            values[self._of.height] = 0.0 if abs(height) < 0.15 else round(height, 1)
        self.dragged.emit(slot, values, token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        slot = self._slot_at(event.position())
        if slot >= 0:
            self.remove_asked.emit(slot)
        elif self.plot().contains(event.position()):
            self.add_asked.emit(self.hertz_at(event.position().x()), self.db_at(event.position().y()))

    def wheelEvent(self, event: QWheelEvent) -> None:
        slot = self._slot_at(event.position())
        band = dict(self.bands()).get(slot if slot >= 0 else self._slot)
        if band is None:
            return
        fine = 0.25 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        q = self._settings["q"].stepped(band.q, fine * event.angleDelta().y() / 60)
        self.dragged.emit(slot if slot >= 0 else self._slot, {"q": q}, "wheel")
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        slots = [slot for slot, _ in self.bands()]
        band = dict(self.bands()).get(self._slot)
        fine = 0.2 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        key = event.key()
        if key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown) and slots:
            step = 1 if key == Qt.Key.Key_PageDown else -1
            place = slots.index(self._slot) + step if self._slot in slots else 0
            self.slot_chosen.emit(slots[place % len(slots)])
        elif band is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            steps = fine if key == Qt.Key.Key_Right else -fine
            self.dragged.emit(
                self._slot,
                {"frequency_hz": self._settings["frequency_hz"].stepped(band.frequency_hz, steps)},
                "keys",
            )
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and band.shape not in self._of.flat:
            steps = fine if key == Qt.Key.Key_Up else -fine
            height = self._settings[self._of.height].stepped(self.height_of(band), steps)
            self.dragged.emit(self._slot, {self._of.height: height}, "keys")
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            steps = 2 * fine if key == Qt.Key.Key_Plus else -2 * fine
            self.dragged.emit(self._slot, {"q": self._settings["q"].stepped(band.q, steps)}, "keys")
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove_asked.emit(self._slot)
        else:
            super().keyPressEvent(event)

    def help_at(self, point: QPointF) -> str:
        slot = self._slot_at(point)
        if slot < 0:
            text = super().help_at(point)
            return said("{text}\nDouble-click to add a band").format(text=text) if text else ""
        band = dict(self.bands())[slot]
        parts = [self._of.shapes[band.shape], self._settings["frequency_hz"].shown(band.frequency_hz)]
        if band.shape not in self._of.flat:
            parts.append(self._settings[self._of.height].shown(self.height_of(band)))
        parts.append(f"Q {self._settings['q'].shown(band.q)}")
        return said("Band {count}: {parts}\nDrag, wheel for Q, double-click to remove").format(
            count=slot + 1, parts=" · ".join(parts)
        )
