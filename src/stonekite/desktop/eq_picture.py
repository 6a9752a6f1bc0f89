"""The picture of an EQ: both legs' curves over the live spectrum, with handles to drag."""

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from stonekite.desktop.response_picture import RANGES_DB, ResponsePicture
from stonekite.desktop.theme import font, roles
from stonekite.session.types import LegName, Split
from stonekite.stages import eq
from stonekite.stages.settings import settings_of

_BAND = settings_of(eq.Band)


class EqPicture(ResponsePicture):
    """Shows an EQ and one chosen leg of it. `dragged` gives slot, changed values and a gesture token."""

    slot_chosen = Signal(int)
    dragged = Signal(int, dict, object)
    add_asked = Signal(float, float)
    remove_asked = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("EQ curves")
        self._slot = -1
        self._hover = -1
        self._drag: tuple[int, object] | None = None

    def show_bands(self, stage: eq.Eq, leg: LegName, split: Split, rate: float, slot: int) -> None:
        """Draw a stage with one leg in front and one band chosen."""
        self._slot = slot
        self.show_stage(stage, leg, split, rate)

    @property
    def range_db(self) -> float:
        """Half the height of the picture: the least range that shows every handle."""
        gains = [
            abs(band.gain_db)
            for side in (getattr(self._stage, "upper", None), getattr(self._stage, "lower", None))
            if side is not None
            for band in side.bands
            if band is not None and band.shape in eq.WITH_GAIN
        ]
        return RANGES_DB[0] if max(gains, default=0.0) <= 13.0 else RANGES_DB[1]

    def bands(self) -> list[tuple[int, eq.Band]]:
        """The chosen leg's bands with their slots."""
        side = getattr(self._stage, self._leg, None)
        return [(k, band) for k, band in enumerate(side.bands) if band is not None] if side else []

    def handle(self, band: eq.Band) -> QPointF:
        """Where a band's handle is."""
        gain = band.gain_db if band.shape in eq.WITH_GAIN else 0.0
        return QPointF(self.x_of(band.frequency_hz), self.y_of(gain))

    def _slot_at(self, point: QPointF) -> int:
        near = [((self.handle(b) - point).manhattanLength(), k) for k, b in self.bands()]
        distance, slot = min(near, default=(99.0, -1))
        return slot if distance < 16 else -1

    def _paint_handles(self, painter: QPainter) -> None:
        for slot, band in self.bands():
            self._paint_handle(painter, slot, band)

    def _paint_handle(self, painter: QPainter, slot: int, band: eq.Band) -> None:
        centre = self.handle(band)
        chosen = slot == self._slot
        colour = self._colour(self._leg) if band.on and self._stage.inserted else roles.muted
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
                self._hover, self._front = slot, None
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
        if band.shape in eq.WITH_GAIN:
            gain = _BAND["gain_db"].held(self.db_at(event.position().y()))
            values["gain_db"] = 0.0 if abs(gain) < 0.15 else round(gain, 1)
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
        q = _BAND["q"].stepped(band.q, fine * event.angleDelta().y() / 60)
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
                self._slot, {"frequency_hz": _BAND["frequency_hz"].stepped(band.frequency_hz, steps)}, "keys"
            )
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and band.shape in eq.WITH_GAIN:
            steps = fine if key == Qt.Key.Key_Up else -fine
            self.dragged.emit(self._slot, {"gain_db": _BAND["gain_db"].stepped(band.gain_db, steps)}, "keys")
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            steps = 2 * fine if key == Qt.Key.Key_Plus else -2 * fine
            self.dragged.emit(self._slot, {"q": _BAND["q"].stepped(band.q, steps)}, "keys")
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove_asked.emit(self._slot)
        else:
            super().keyPressEvent(event)

    def help_at(self, point: QPointF) -> str:
        slot = self._slot_at(point)
        if slot < 0:
            text = super().help_at(point)
            return f"{text}\nDouble-click to add a band" if text else ""
        band = dict(self.bands())[slot]
        parts = [eq.SHAPES[band.shape], _BAND["frequency_hz"].shown(band.frequency_hz)]
        if band.shape in eq.WITH_GAIN:
            parts.append(_BAND["gain_db"].shown(band.gain_db))
        parts.append(f"Q {_BAND['q'].shown(band.q)}")
        return f"Band {slot + 1}: {' · '.join(parts)}\nDrag, wheel for Q, double-click to remove"
