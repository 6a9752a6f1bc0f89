"""Echoes over time, of which the first ones and the taps can be dragged."""

from typing import Any

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent

from stonekite import notes
from stonekite.desktop.pictures.echo_painting import LOW_DB, EchoPainting, Grip
from stonekite.stages.registry import kind_of
from stonekite.stages.settings import settings_of
from stonekite.words import said

_NEAR = 11.0


class Echogram(EchoPainting):
    """`moved` gives a leg, other values of it and a gesture token; `tap_moved` a tap's place, values and a token.
    `tap_asked` wishes for a new tap at a time in ms, `tap_chosen` tells which one is in hand, `tap_removed` which one is
    not wanted any more. With Ctrl a time goes from note to note: then it is a text.
    """

    moved = Signal(str, dict, object)
    tap_moved = Signal(int, dict, object)
    tap_asked = Signal(float)
    tap_chosen = Signal(int)
    tap_removed = Signal(int)
    leg_chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setToolTip(
            said(
                "Drag the first echo of a leg, or a tap: time and level (Ctrl: from note to note). Double-click: "
                "a new tap.\nPage up and down: another one. Left, right: time. Up, down: level (Shift: finer). "
                "Delete: no tap. Wheel: zoom."
            )
        )
        self._drag: tuple[Grip, float, QPointF, object] | None = None

    # Mouse and keys

    def _at(self, point: QPointF) -> Grip | None:
        near = [(float((self.place_of(g) - point).manhattanLength()), g) for g in self.grips()]
        near = [(d, g) for d, g in near if d <= 1.6 * _NEAR]
        return min(near, key=lambda one: one[0])[1] if near else None

    def _choose(self, grip: Grip) -> None:
        self._chosen = (grip.leg, grip.tap)
        if grip.tap is not None:
            self.tap_chosen.emit(grip.tap)
        elif grip.leg != self._leg:
            self.leg_chosen.emit(grip.leg)
        self.setAccessibleDescription(f"{self._words}. {self._word_of(self._grip())}")
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        grip = self._at(event.position())
        if grip is not None:
            self._choose(grip)
            self._drag = (grip, self._holder(grip).level_db, event.position(), object())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            over = self._at(event.position()) is not None
            self.setCursor(Qt.CursorShape.SizeAllCursor if over else Qt.CursorShape.ArrowCursor)
            return
        grip, began_db, start, token = self._drag
        fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        way = (event.position() - start) * fine
        if way.manhattanLength() < 2:
            return
        seconds = grip.seconds + way.x() / (self.plot().width() - 8) * self.view_s
        up = -way.y() if grip.leg == "upper" else way.y()
        level = up / self._reach() * 1.15 * -LOW_DB
        values: dict[str, Any] = {}
        if abs(way.x()) > 1.5:
            values["time_ms"] = self._time(
                seconds, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            )
        if abs(way.y()) > 1.5:
            values["level_db"] = self._held("level_db", began_db + level)
        if values:
            self._emit(grip, values, token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._at(event.position()) is None and self.plot().contains(event.position()):
            seconds = (
                (event.position().x() - self.plot().left() - 8) / (self.plot().width() - 8) * self.view_s
            )
            self.tap_asked.emit(self._time(seconds, False))

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 0.8 ** (event.angleDelta().y() / 120)
        self._view = min(20.0, max(0.01, self.view_s * factor))
        self.renew()
        event.accept()

    def _side(self) -> type:
        return kind_of(self._stage).side

    def _held(self, name: str, value: float) -> float:
        return settings_of(self._side())[name].held(round(value, 2))

    def _time(self, seconds: float, by_note: bool) -> Any:
        """A time in ms, or the note that is nearest to it."""
        setting = settings_of(self._side())["time_ms"]
        ms = setting.held(round(1000.0 * seconds, 2))
        fits = [note for note in notes.by_length() if setting.note_fits(note, self._tempo.bpm)]
        if not by_note or not fits:
            return ms
        return min(fits, key=lambda note: abs(1000.0 * notes.seconds(note, self._tempo.bpm) - ms))

    def _emit(self, grip: Grip, values: dict[str, Any], token: object) -> None:
        if grip.tap is None:
            self.moved.emit(grip.leg, values, token)
        else:
            self.tap_moved.emit(grip.tap, values, token)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, grip = event.key(), self._grip()
        fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        if grip is None:
            super().keyPressEvent(event)
            return
        holder = self._holder(grip)
        if key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            grips = self.grips()
            here = [(g.leg, g.tap) for g in grips].index((grip.leg, grip.tap))
            self._choose(grips[(here + (1 if key == Qt.Key.Key_PageDown else -1)) % len(grips)])
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            way = 1 if key == Qt.Key.Key_Right else -1
            by_note = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier) or bool(holder.time_note)
            setting = settings_of(self._side())["time_ms"]
            if by_note:
                known = [n for n in notes.by_length() if setting.note_fits(n, self._tempo.bpm)]
                lengths = [1000.0 * notes.seconds(n, self._tempo.bpm) for n in known]
                further = [
                    n for n, ms in zip(known, lengths, strict=True) if (ms - holder.time_ms) * way > 1e-6
                ]
                if further:
                    self._emit(grip, {"time_ms": further[0] if way > 0 else further[-1]}, "keys")
            else:
                self._emit(grip, {"time_ms": setting.stepped(holder.time_ms, fine * way)}, "keys")
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            way = 1 if key == Qt.Key.Key_Up else -1
            self._emit(grip, {"level_db": self._held("level_db", holder.level_db + 0.5 * fine * way)}, "keys")
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and grip.tap is not None:
            self.tap_removed.emit(grip.tap)
        elif key == Qt.Key.Key_Insert:
            self.tap_asked.emit(min(4000.0, 1000.0 * grip.seconds * 0.5))
        else:
            super().keyPressEvent(event)
