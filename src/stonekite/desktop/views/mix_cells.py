"""The cells of a row of the mix: its name, its kite in small, its levels, and what of it is sent to a bus."""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QSizePolicy, QToolTip, QWidget

from stonekite.desktop.controls.entry import Entry
from stonekite.desktop.controls.theme import faded, font, roles
from stonekite.desktop.kite.small_kite import paint_small
from stonekite.session.mix.fader import Send
from stonekite.session.types import HUES, Strip
from stonekite.stages.settings import settings_of
from stonekite.words import said

_SEND = settings_of(Send)["level_db"]
FLOOR_DB = -60.0
FALL_DB = 0.7
"""What a bar falls by in each look."""


def hue(number: int | None) -> QColor:
    """The hue of a stem: greyed, so that it is not taken for a component."""
    if number is None:
        return roles.line
    return QColor.fromHsl(round(360 * number / HUES + 15) % 360, 70, 135)


class NameCell(QWidget):
    """A name and a line about it. `renamed` has another name; `pressed` says that it was clicked, with whether more than
    one is to be chosen; `dragged` where it was dropped, in its own pixels; `menu_asked` where."""

    renamed = Signal(str)
    pressed = Signal(bool)
    opened = Signal()
    dragged = Signal(int)
    menu_asked = Signal(object)
    stepped = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._name = self._about = ""
        self._hue: int | None = None
        self._fixed = False
        self._from: int | None = None
        self._edit: Entry | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(32)
        self.setToolTip(
            said(
                "Double-click or press Enter to open its kite, F2 to rename it; drag it, or press Alt+Up and Alt+Down, "
                "to put it elsewhere. Ctrl+click chooses several."
            )
        )

    def show_name(self, name: str, about: str, number: int | None, fixed: bool) -> None:
        """The name, what is said below it, its hue, and whether it keeps its name."""
        if (name, about, number, fixed) != (self._name, self._about, self._hue, self._fixed):
            self._name, self._about, self._hue, self._fixed = name, about, number, fixed
            self.setAccessibleName(name)
            self.setAccessibleDescription(about)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        if not self._fixed:
            painter.setBrush(hue(self._hue))
            painter.drawRoundedRect(QRectF(0, 2, 4, self.height() - 4), 2, 2)
        room = QRectF(10, 0, self.width() - 12, 18)
        painter.setFont(font(10, bold=True))
        painter.setPen(roles.chalk)
        if self._edit is None:
            name = painter.fontMetrics().elidedText(
                self._name, Qt.TextElideMode.ElideRight, int(room.width())
            )
            painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(font(8))
        painter.setPen(roles.muted)
        painter.drawText(
            QRectF(10, 17, self.width() - 12, 14), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self._about
        )  # fmt: skip
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(faded(roles.chalk, 0.7), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(6.5, 0.5, -0.5, -0.5), 4, 4)

    def rename(self) -> None:
        """Type another name over it."""
        if self._fixed or self._edit is not None:
            return
        room = QRect(6, 0, self.width() - 8, 22)
        self._edit = Entry.over(self, said("Name"), room, self._name, self._typed)

    def _typed(self, text: str | None) -> None:
        self._edit = None
        if text and text != self._name:
            self.renamed.emit(text)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._from = int(event.position().y())
            self.pressed.emit(bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        start, self._from = self._from, None
        if start is not None and abs(event.position().y() - start) > self.height() / 2:
            self.dragged.emit(int(event.position().y()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._from = None
        self.opened.emit()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu_asked.emit(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, alt = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if key == Qt.Key.Key_F2:
            self.rename()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.opened.emit()
        elif alt and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.stepped.emit(-1 if key == Qt.Key.Key_Up else 1)
        elif key == Qt.Key.Key_Menu:
            self.menu_asked.emit(self.mapToGlobal(self.rect().bottomLeft()))
        else:
            super().keyPressEvent(event)


class KiteCell(QWidget):
    """A strip in small. `opened` says that it is to be looked at."""

    opened = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._strip, self._kept = Strip(), False
        self.setMinimumWidth(90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setToolTip(said("Click to open this kite."))

    def show_strip(self, strip: Strip, name: str, kept: bool) -> None:
        """Show a strip, and whether it is played from where it is kept."""
        if strip is not self._strip or kept != self._kept:
            self._strip, self._kept = strip, kept
            self.update()
        self.setAccessibleName(said("{name}, kite").format(name=name))
        count = len(strip.stages) + sum(len(spur.branch.stages) for spur in strip.spurs)
        about = said("{count} stages").format(count=count)
        self.setAccessibleDescription(f"{about}, {said('kept')}" if kept else about)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint_small(painter, self._strip, QRectF(self.rect()).adjusted(2, 2, -2, -2))
        if self._kept:
            painter.setFont(font(8.5))
            painter.setPen(roles.muted)
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, said("kept"))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(faded(roles.chalk, 0.7), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.position().toPoint()):
            self.opened.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit()
        else:
            super().keyPressEvent(event)


class MeterCell(QWidget):
    """Peaks of left and right: what goes into a strip, and what leaves it at its level."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._levels = np.full(4, FLOOR_DB)
        self.setMinimumWidth(60)
        self.setAccessibleName(said("Level before and after"))
        self.setToolTip(
            said(
                "Peaks of left (above) and right from −60 to 0 dBFS: thin what goes in, thick what leaves it at its "
                "level."
            )
        )

    def take(self, peaks: np.ndarray, gain: float) -> None:
        """The greatest samples (4,) since the last look, before and behind; the fader's gain for the latter."""
        scaled = np.asarray(peaks, dtype=float) * (1.0, 1.0, gain, gain)
        level = np.maximum(FLOOR_DB, 20.0 * np.log10(np.maximum(scaled, 1e-6)))
        shown = np.maximum(level, self._levels - FALL_DB)
        if not np.array_equal(shown, self._levels):
            self._levels = shown
            self.update()

    @property
    def levels_db(self) -> list[float]:
        """What is shown: left and right before, left and right behind."""
        return [float(level) for level in self._levels]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        middle = self.height() / 2
        for row, colour in enumerate((roles.left, roles.right)):
            top = middle - 17 + 18 * row
            for level, ink, y, height in (
                (self._levels[row], roles.muted, top, 3.0),
                (self._levels[2 + row], colour, top + 5, 8.0),
            ):
                whole = QRectF(2, y, self.width() - 4, height)
                painter.setBrush(roles.ground)
                painter.drawRect(whole)
                share = min(1.0, max(0.0, 1.0 - level / FLOOR_DB))
                painter.setBrush(roles.fault if level > 0.0 else ink)
                painter.drawRect(QRectF(whole.left(), y, whole.width() * share, height))


class SendCell(QWidget):
    """The level of what is sent to a bus. `moved` gives another one, None for no longer, and a token that is the same
    during one drag; `way_asked` whether it is to leave before the level."""

    moved = Signal(object, object)
    way_asked = Signal(bool)

    def __init__(self, owner: str, bus: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._send: Send | None = None
        self._possible = True
        self._drag: tuple[float, float] | None = None
        self._moved = False
        self._token: object = None
        self._edit: Entry | None = None
        self.setFixedHeight(26)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(said("{name} to {bus}").format(name=owner, bus=bus))
        self.setToolTip(
            said(
                "What of {name} is sent to {bus}. Click to send it or not; drag, turn the wheel or press the arrow keys "
                "to set the level (Shift: fine steps); Enter types it, Del takes it away. The menu has: before the level."
            ).format(name=owner, bus=bus)
        )
        self._describe()

    def sizeHint(self) -> QSize:
        return QSize(80, 26)

    def show_send(self, send: Send | None, possible: bool) -> None:
        """What is sent; whether anything can be."""
        if (send, possible) != (self._send, self._possible):
            self._send, self._possible = send, possible
            self.setEnabled(possible)
            self._describe()
            self.update()

    @property
    def words(self) -> str:
        if not self._possible:
            return "–"
        return said("off") if self._send is None else _SEND.shown(self._send.level_db)

    def _describe(self) -> None:
        before = said(", before the level") if self._send is not None and self._send.before else ""
        self.setAccessibleDescription(self.words + before)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1.5, 1.5, -1.5, -1.5)
        on = self._send is not None
        if self._possible:
            painter.setPen(QPen(roles.chalk if self.hasFocus() or on else roles.line, 1.2 if on else 1.0))
            painter.setBrush(roles.ground)
            painter.drawRoundedRect(box, 11, 11)
        if on and self._send is not None:
            travel = _SEND.to_travel(self._send.level_db)
            painter.setPen(QPen(roles.muted, 2))
            y = box.bottom() - 4
            painter.drawLine(
                QPointF(box.left() + 12, y), QPointF(box.left() + 12 + travel * (box.width() - 24), y)
            )
            if self._send.before:  # it leaves before the level: a mark in front
                painter.setBrush(roles.warning)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.drawEllipse(QPointF(box.left() + 7, box.center().y() - 1), 2.5, 2.5)
        if self._edit is None:
            painter.setPen(roles.chalk if on else roles.muted)
            painter.setFont(font(8.5, bold=on))
            painter.drawText(box.adjusted(0, -2 if on else 0, 0, 0), Qt.AlignmentFlag.AlignCenter, self.words)

    def _put(self, level_db: float | None, token: object = None) -> None:
        if level_db is not None:
            level_db = _SEND.held(level_db)
        if level_db != (None if self._send is None else self._send.level_db):
            self.moved.emit(level_db, token)

    def toggle(self) -> None:
        """Send it as it is, or no longer."""
        self._put(0.0 if self._send is None else None)

    def _step(self, steps: float, token: object) -> None:
        now = _SEND.low if self._send is None else self._send.level_db
        self._put(_SEND.stepped(now, steps) if self._send is not None else -20.0, token)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._possible:
            level = -20.0 if self._send is None else self._send.level_db
            self._drag, self._moved = (event.position().x(), _SEND.to_travel(level)), False
            self._token = object()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        shift = (event.position().x() - self._drag[0]) / 160.0
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            shift *= 0.1
        if self._moved or abs(event.position().x() - self._drag[0]) > 3:
            self._moved = True
            self._put(_SEND.from_travel(min(1.0, max(0.0, self._drag[1] + shift))), self._token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and not self._moved:
            self.toggle()
        self._drag = None

    def wheelEvent(self, event: QWheelEvent) -> None:
        fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        self._step(fine * event.angleDelta().y() / 120, "wheel")
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Right):
            self._step(fine, "keys")
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Left):
            self._step(-fine, "keys")
        elif key == Qt.Key.Key_Space:
            self.toggle()
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self._put(None)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.type_value()
        else:
            super().keyPressEvent(event)

    def type_value(self) -> None:
        """Open the typed entry over the level."""
        if self._edit is not None or not self._possible:
            return
        text = "0" if self._send is None else self.words
        self._edit = Entry.over(self, self.accessibleName(), self.rect(), text, self._typed)
        self._edit.setAlignment(Qt.AlignmentFlag.AlignHCenter)

    def _typed(self, text: str | None) -> None:
        self._edit = None
        if text is None:
            return
        if text.lower() in ("", "off"):
            self._put(None)
            return
        try:
            self._put(_SEND.typed(text, {}))
        except ValueError as error:
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), str(error), self)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction(said("Type a level"), self.type_value)
        menu.addAction(
            said("Send it as it is") if self._send is None else said("Send it no longer"), self.toggle
        )
        if self._send is not None:
            before = menu.addAction(
                said("Before the level"), lambda: self.way_asked.emit(not self._is_before)
            )
            before.setCheckable(True)
            before.setChecked(self._is_before)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    @property
    def _is_before(self) -> bool:
        return self._send is not None and self._send.before


def gain_shown(level_db: float, muted: bool) -> float:
    """The gain of a fader for its meter."""
    return 0.0 if muted or level_db <= -120.0 else math.pow(10.0, level_db / 20.0)
