"""Controls that come from a declared setting: nothing about range, unit or words is said again here."""

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import (
    QApplication,
    QMenu,
    QSizePolicy,
    QToolTip,
    QWidget,
)

from stonekite import notes
from stonekite.desktop.controls.choices import Choice, Segments, Toggle
from stonekite.desktop.controls.entry import Entry
from stonekite.desktop.controls.ride_sign import WIDTH, add_ride, add_tie, paint_ride
from stonekite.desktop.controls.theme import faded, font, roles
from stonekite.stages.settings import Setting
from stonekite.words import said

FINE = 0.1


class ValueField(QWidget):
    """A number: label, value to type into, slider to drag, wheel and arrow keys to turn.

    `moved` gives the new value and a token that is the same during one drag. Of a time that can be given by a note the
    value may be a text: the note.
    """

    moved = Signal(object, object)
    refused = Signal(str)
    tie_asked = Signal(bool)
    ride_asked = Signal()

    def __init__(
        self, setting: Setting, owner: str = "", *, compact: bool = False, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setting = setting
        self._compact = compact
        self._value = float(setting.default or 0.0)
        self._colour = roles.chalk
        self._drag: tuple[float, float] | None = None
        self._token: object = None
        self._edit: Entry | None = None
        self._tied: bool | None = None
        self._ridden = False
        self._units: dict[str, float] = {}
        self._note, self._bpm = "", 120.0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(f"{owner} {setting.label}".strip())
        unit = f" in {setting.unit}" if setting.unit else ""
        self.setToolTip(
            said(
                "{label}{unit}: {help}.\n{low} to {high}. Drag, turn the wheel or press the arrow keys (Shift: "
                "fine steps), type a value, double-click to reset."
            ).format(
                label=setting.label,
                unit=unit,
                help=setting.help,
                low=setting.shown(setting.low),
                high=setting.shown(setting.high),
            )
        )
        self._describe()

    def sizeHint(self) -> QSize:
        return QSize(210, 24) if self._compact else QSize(130, 38)

    def minimumSizeHint(self) -> QSize:
        return QSize(170, 24) if self._compact else QSize(84, 38)

    def set_label(self, label: str) -> None:
        """Another word before the value than the declared one."""
        self.setting = replace(self.setting, label=label)
        self.update()

    def set_units(self, units: dict[str, float]) -> None:
        """Other units that may be typed, and how much of the setting's own each is; the first is shown as well."""
        if units != self._units:
            self._units = units
            self.update()

    def show_note(self, note: str, bpm: float) -> None:
        """The note by which the value is given, nothing if it is given by a number; and the tempo that notes go by."""
        if (note, bpm) != (self._note, self._bpm):
            self._note, self._bpm = note, bpm
            self._describe()
            self.update()

    @property
    def _shown(self) -> str:
        return self._note or self.setting.shown(self._value)

    def _move_to_note(self, note: str, token: object = None) -> None:
        """Be given by a note from now on. Raises ValueError with a sentence if it is too long or too short."""
        if not self.setting.note_fits(note, self._bpm):
            raise ValueError(
                said(
                    "{label}: {note} is {shown} at {bpm:g} beats a minute. It goes from {low} to {high}."
                ).format(
                    label=self.setting.label,
                    note=note,
                    shown=self.setting.shown(self._of(note)),
                    bpm=self._bpm,
                    low=self.setting.shown(self.setting.low),
                    high=self.setting.shown(self.setting.high),
                )
            )
        if note != self._note:
            self.show_value(self.setting.of_note(note, self._bpm))
            self.show_note(note, self._bpm)
            self.moved.emit(note, token)

    def _of(self, note: str) -> float:
        length = notes.seconds(note, self._bpm)
        return 1.0 / length if self.setting.unit == "Hz" else 1000.0 * length

    def _step(self, steps: float, token: object) -> None:
        """Turned by steps: from note to note where it is given by one."""
        if not self._note:
            self._move(self.setting.stepped(self._value, steps), token)
            return
        known = [note for note in notes.by_length() if self.setting.note_fits(note, self._bpm)]
        way = (steps > 0) != (self.setting.unit == "Hz")  # a longer note is a slower rate
        now = notes.beats(self._note)
        further = [note for note in known if (notes.beats(note) - now) * (1 if way else -1) > 1e-9]
        if further:
            self._move_to_note(further[0] if way else further[-1], token)

    def set_default(self, value: float) -> None:
        """Another value to go back to than the declared one."""
        self.setting = replace(self.setting, default=value)

    @property
    def value(self) -> float:
        return self._value

    def show_value(self, value: float) -> None:
        """Show a value without saying that it moved."""
        if value != self._value:
            self._value = value
            self._describe()
            self.update()

    def set_colour(self, colour) -> None:
        """The component colour of the filled part of the slider."""
        if colour != self._colour:
            self._colour = colour
            self.update()

    def set_tied(self, tied: bool | None) -> None:
        """Mark the value as carried across to the other leg or not; None where there is no link."""
        if tied != self._tied:
            self._tied = tied
            self._describe()
            self.update()

    def set_ridden(self, ridden: bool) -> None:
        """Mark the value as one that moves over the recording: to move it moves its whole line."""
        if ridden != self._ridden:
            self._ridden = ridden
            self._describe()
            self.update()

    def _describe(self) -> None:
        tie = {None: "", True: said(", linked"), False: said(", not linked")}[self._tied]
        given = f"{self._note}, " if self._note else ""
        ride = said(", rides") if self._ridden else ""
        self.setAccessibleDescription(given + self.setting.shown(self._value) + tie + ride)

    def _move(self, value: float, token: object = None) -> None:
        value = self.setting.held(value)
        if value != self._value or self._note:
            self.show_value(value)
            self.show_note("", self._bpm)
            self.moved.emit(value, token)

    def _track(self) -> QRectF:
        if self._compact:
            sign = WIDTH if self._ridden else 0
            return QRectF(52 + sign, self.height() / 2 - 2, self.width() - 122 - sign, 4)
        return QRectF(7, self.height() - 10, self.width() - 14, 4)

    def _on_value(self, point: QPointF) -> bool:
        """Whether a point is on the figure rather than on the slider."""
        if self._compact:
            return point.x() > self.width() - 64
        return point.y() < 20 and point.x() > self.width() / 2

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        on = self.isEnabled()
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        top = QRectF(2, 3 if self._compact else 2, self.width() - 4, 18)
        shown = self._shown
        label = self.setting.label
        if self._note:
            label += f" · {self.setting.shown(self._value)}"
        if self._units and self._value and not self._compact:
            unit, share = next(iter(self._units.items()))
            label += f" · {self._value / share:.1f} {unit}"
        marks = (0 if self._tied is None else 9) + (WIDTH if self._ridden else 0)
        room = top.width() - self.fontMetrics().horizontalAdvance(shown) - 8 - marks
        if not self._compact and painter.fontMetrics().horizontalAdvance(label) > room and self.setting.unit:
            shown = shown.removesuffix(self.setting.unit).rstrip()  # the unit is in the tooltip, too
            room = top.width() - painter.fontMetrics().horizontalAdvance(shown) - (6 + marks)
        if not self._compact:
            label = painter.fontMetrics().elidedText(label, Qt.TextElideMode.ElideRight, int(room))
        shift = 0.0
        if self._tied is not None:
            shift = 9.0
            self._paint_tie(painter)
        if self._ridden:
            paint_ride(painter, top.left() + shift)
            painter.setPen(roles.muted)
            shift += WIDTH
        painter.drawText(
            top.adjusted(shift, 0, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, label
        )
        painter.setPen(roles.chalk if on else roles.muted)
        painter.setFont(font(9))
        if self._edit is None:
            painter.drawText(
                top,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                shown,
            )
        track = self._track()
        travel = self.setting.to_travel(self._value)
        place = track.left() + travel * track.width()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(track, 2, 2)
        start = track.left()
        if self.setting.low < 0 < self.setting.high and self.setting.taper == "linear":
            start = track.left() + self.setting.to_travel(0.0) * track.width()
        painter.setBrush(self._colour if on else roles.line)
        painter.drawRoundedRect(
            QRectF(min(start, place), track.top(), abs(place - start), track.height()), 2, 2
        )
        painter.setBrush(roles.chalk if on else roles.line)
        painter.drawEllipse(QPointF(place, track.center().y()), 5.5, 5.5)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(faded(roles.chalk, 0.7), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 5, 5)

    def _paint_tie(self, painter: QPainter) -> None:
        """Two strokes, as between the stones of a linked stage; broken where the value stays on its leg."""
        painter.setPen(QPen(roles.chalk if self._tied else roles.muted, 1.2))
        for x in (3.0, 6.0):
            if self._tied:
                painter.drawLine(QPointF(x, 6.5), QPointF(x, 15.5))
            else:
                painter.drawLine(QPointF(x, 6.5), QPointF(x, 9.0))
                painter.drawLine(QPointF(x, 13.0), QPointF(x, 15.5))

    def tie_place(self) -> QPointF:
        """Where the mark of the link is."""
        return QPointF(5, 11)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction(said("Type a value"), self.type_value)
        menu.addAction(
            said("Reset to {default}").format(default=self.setting.shown(self.setting.default)), self.reset
        )
        if self.setting.note:
            by_note = menu.addMenu(said("As a note"))
            for note in reversed(notes.by_length()):
                if self.setting.note_fits(note, self._bpm):
                    by_note.addAction(note, partial(self._move_to_note, note))
        if self._tied is not None:
            add_tie(menu, self._tied, self.tie_asked.emit)
        add_ride(menu, self._ridden, self.ride_asked.emit)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self._tied is not None and event.position().x() < 10 and event.position().y() < 20:
            self.tie_asked.emit(not self._tied)
            return
        self._drag = (event.position().x(), self.setting.to_travel(self._value))
        self._token = object()
        track = self._track()
        place = track.left() + self._drag[1] * track.width()
        on_track = track.adjusted(-7, -8, 7, 8).contains(event.position())
        if on_track and abs(event.position().x() - place) > 8:
            travel = (event.position().x() - track.left()) / track.width()
            self._drag = (event.position().x(), travel)
            self._move(self.setting.from_travel(travel), self._token)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        start, travel = self._drag
        shift = (event.position().x() - start) / self._track().width()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            shift *= FINE
        if abs(event.position().x() - start) > 1:
            self._move(self.setting.from_travel(travel + shift), self._token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        clicked = self._drag is not None and abs(event.position().x() - self._drag[0]) < 2
        self._drag = None
        if clicked and self._on_value(event.position()):
            self.type_value()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._on_value(event.position()):
            return  # the click before opened the typed entry
        self.reset()

    def reset(self) -> None:
        """Back to the declared default."""
        self._move(float(self.setting.default))

    def wheelEvent(self, event: QWheelEvent) -> None:
        delta = event.angleDelta().y() or event.angleDelta().x()
        fine = FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        self._step(fine * delta / 120, "wheel" + self.setting.label)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        fine = FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        steps = {
            Qt.Key.Key_Up: 1.0,
            Qt.Key.Key_Right: 1.0,
            Qt.Key.Key_Down: -1.0,
            Qt.Key.Key_Left: -1.0,
            Qt.Key.Key_PageUp: 6.0,
            Qt.Key.Key_PageDown: -6.0,
        }.get(Qt.Key(event.key()))
        if steps is not None:
            self._step(fine * steps, "keys" + self.setting.label)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_F2):
            self.type_value()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.reset()
        elif event.key() == Qt.Key.Key_Minus:
            self.type_value("-")
        else:
            super().keyPressEvent(event)

    def type_value(self, text: str | None = None) -> None:
        """Open the typed entry over the value."""
        if self._edit is not None or not self.isEnabled():
            return
        edit = Entry(self)
        edit.setAccessibleName(self.accessibleName())
        width = 84 if self._compact else self.width() * 2 // 3
        edit.setGeometry(self.width() - width, 0, width, 22)
        edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        edit.setText(self._shown if text is None else text)
        if text is None:
            edit.selectAll()
        edit.editingFinished.connect(self._typed)
        edit.left.connect(self._leave)
        edit.show()
        edit.setFocus()
        self._edit = edit
        self.update()

    def _leave(self) -> None:
        """Close the typed entry; the value stays."""
        if self._edit is not None:
            self._edit.setText(self._shown)
            self._typed()

    def _typed(self) -> None:
        edit, self._edit = self._edit, None
        if edit is None:
            return
        text = edit.text()
        edit.deleteLater()
        self.update()
        if text != self._shown:
            try:
                if self.setting.note and notes.looks_like(text):
                    self._move_to_note(notes.kept(text))
                else:
                    self._move(self.setting.typed(text, self._units))
            except ValueError as error:
                self.refused.emit(str(error))
                QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), str(error), self)
        if QApplication.focusWidget() in (edit, None):  # not where another widget was clicked meanwhile
            self.setFocus()


Control = ValueField | Segments | Choice | Toggle
_SIDE_BY_SIDE = 3
"""More words than this do not stand side by side."""


def control_for(setting: Setting, owner: str, *, compact: bool = False, rides: bool = False) -> Control:
    """The control that fits a declared setting: a slider, words, or a switch, that `rides` where a switch can."""
    if setting.words is not None:
        if len(setting.words) > _SIDE_BY_SIDE:
            return Choice(setting, owner)
        return Segments(setting.words, f"{owner} {setting.label}", f"{setting.label}: {setting.help}")
    if isinstance(setting.default, bool):
        return Toggle(
            setting.label, f"{owner} {setting.label}", setting.help, rides=rides and not setting.still
        )
    return ValueField(setting, owner, compact=compact)


def on_move(control: Control, act: Callable[[Any, object], None]) -> None:
    """Call `act` with a new value and a gesture token whenever a control is moved."""
    if isinstance(control, ValueField):
        control.moved.connect(act)
    elif isinstance(control, Toggle):
        control.clicked.connect(lambda on: act(on, None))
    else:
        control.chosen.connect(lambda value: act(value, None))


def show_on(control: Control, value: Any) -> None:
    """Show a value on any control."""
    if isinstance(control, Toggle):
        control.setChecked(value)
    else:
        control.show_value(value)
