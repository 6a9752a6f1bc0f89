"""The output: width, where each side of the result stands, balance and level, with a picture of it."""

import math
from functools import partial
from typing import Any

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.fields import Control, ValueField, control_for, on_move, show_on
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.model.document import Document
from stonekite.engine.graph.ends import output_matrix
from stonekite.session import edits, tree
from stonekite.session.ride_edits import Address
from stonekite.session.types import SIDES, Output, Place, SideName
from stonekite.signal.decibels import db_of
from stonekite.stages.settings import settings_of
from stonekite.words import LETTERS, NAMES, figure, said

_PLACE = settings_of(Place)["position"]
_HALF_DEG = 62.0
"""Angle in the picture from the centre to a loudspeaker."""
_BAR = 128.0


class PlacePicture(QWidget):
    """Draws where left and right end up, and the level that goes to each loudspeaker. Drag a side to place it."""

    moved = Signal(str, float, object)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(130)
        self.setAccessibleName(said("Placement of left and right"))
        self.setToolTip(
            said("Drag a side to where it is to be heard (arrow keys; PageUp and PageDown choose the side)")
        )
        self._output = Output()
        self._drag: tuple[SideName, object] | None = None
        self._at: SideName = "left"

    def sizeHint(self) -> QSize:
        return QSize(800, 220)

    def show_output(self, output: Output) -> None:
        self._output = output
        gains = output_matrix(output)
        words = [
            said("{name} at {position}, {left} to the left and {right} to the right").format(
                name=NAMES[side],
                position=_PLACE.shown(getattr(output, side).position),
                left=_db(gains[0, k]),
                right=_db(gains[1, k]),
            )
            for k, side in enumerate(SIDES)
        ]
        self.setAccessibleDescription("; ".join(words))
        self.update()

    # Geometry: a listener below, an arc of places before them, a loudspeaker at each end.

    @property
    def _ear(self) -> QPointF:
        return QPointF(self.width() / 2, self.height() - 22)

    @property
    def _radius(self) -> float:
        return min(self.height() - 74.0, self.width() * 0.36)

    def _on_arc(self, position: float, radius: float) -> QPointF:
        angle = math.radians(_HALF_DEG * position / 100)
        return self._ear + QPointF(radius * math.sin(angle), -radius * math.cos(angle))

    def place_of(self, side: SideName) -> QPointF:
        """Where the handle of a side is. Both may stand at the same place: right stands nearer to the listener then."""
        apart = abs(self._output.left.position - self._output.right.position)
        inward = 0.0 if side == "left" else 34.0 * min(1.0, max(0.0, (70.0 - apart) / 40.0))
        return self._on_arc(getattr(self._output, side).position, self._radius - inward)

    def position_at(self, point: QPointF) -> float:
        """The position that a point of the picture belongs to."""
        from_ear = point - self._ear
        angle = math.degrees(math.atan2(from_ear.x(), max(1e-6, -from_ear.y())))
        return _PLACE.held(100 * angle / _HALF_DEG)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        self._paint_arc(painter)
        for row, name in enumerate(SIDES):
            self._paint_speaker(painter, row, name)
        for side in SIDES:
            self._paint_side(painter, side)

    def _paint_arc(self, painter: QPainter) -> None:
        """All places, and what stands between both sides: the width that is left."""
        ear, radius = self._ear, self._radius
        box = QRectF(ear.x() - radius, ear.y() - radius, 2 * radius, 2 * radius)
        places = [getattr(self._output, side).position for side in SIDES]
        middle, half = sum(places) / 2, abs(places[1] - places[0]) / 2 * min(1.0, self._output.width / 100)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(mixed(roles.chalk, roles.ground, 0.07))
        start = 90 - _HALF_DEG * (middle + half) / 100
        span = 2 * _HALF_DEG * half / 100
        painter.drawPie(box, round(16 * start), round(16 * span))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(roles.line, 1))
        painter.drawArc(box, round(16 * (90 - _HALF_DEG)), round(32 * _HALF_DEG))
        painter.setPen(QPen(roles.chalk, 2.4))
        painter.drawArc(box, round(16 * start), round(16 * span))
        painter.setFont(font(8))
        for position in range(-100, 101, 25):
            painter.setPen(QPen(roles.line if position else roles.muted, 1))
            painter.drawLine(self._on_arc(position, radius - 4), self._on_arc(position, radius + 4))
        painter.setPen(QPen(roles.muted, 1.4))
        painter.setBrush(roles.panel)
        painter.drawEllipse(ear, 8, 8)
        painter.setPen(roles.muted)
        painter.drawText(
            QRectF(ear.x() - 60, ear.y() + 6, 120, 16), Qt.AlignmentFlag.AlignCenter, said("listener")
        )

    def _paint_side(self, painter: QPainter, side: SideName) -> None:
        centre = self.place_of(side)
        colour = roles.component(side)
        held = self._at == side and self.hasFocus()
        painter.setPen(QPen(mixed(colour, roles.ground, 0.6), 1.4))
        painter.drawLine(self._ear, centre)
        painter.setBrush(roles.raised if held else roles.ground)
        painter.setPen(QPen(roles.chalk if held else colour, 1.8))
        painter.drawEllipse(centre, 12, 12)
        painter.setPen(colour)
        painter.setFont(font(9, bold=True))
        painter.drawText(
            QRectF(centre.x() - 12, centre.y() - 10, 24, 20), Qt.AlignmentFlag.AlignCenter, LETTERS[side]
        )
        painter.setFont(font(8.5))
        painter.setPen(roles.chalk)
        # The words of the left side stand off the arc, outside; those of the right one under it, inside, or beside it
        # where the listener is under it.
        position = getattr(self._output, side).position
        if side == "left":
            away = self._on_arc(position, self._radius + 38)
        elif centre.y() + 32.0 < self._ear.y() - 8.0 or abs(centre.x() - self._ear.x()) > 52.0:
            away = centre + QPointF(0.0, 23.0)
        else:
            away = centre + QPointF(52.0, 0.0)
        painter.drawText(
            QRectF(away.x() - 60, away.y() - 9, 120, 18),
            Qt.AlignmentFlag.AlignCenter,
            _where(position),
        )

    def _paint_speaker(self, painter: QPainter, row: int, name: SideName) -> None:
        """How much of left and of right arrives at a loudspeaker."""
        gains = output_matrix(self._output)
        left = 24.0 if name == "left" else self.width() - 24.0 - _BAR
        top = self.height() / 2 - 34
        painter.setPen(roles.muted)
        painter.setFont(font(8.5))
        painter.drawText(
            QRectF(left, top, _BAR, 16),
            Qt.AlignmentFlag.AlignLeft,
            said("{name} loudspeaker").format(name=NAMES[name]),
        )
        for k, side in enumerate(SIDES):
            gain = float(gains[row, k])
            y = top + 22 + 28 * k
            colour = roles.component(side)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(mixed(roles.line, roles.ground, 0.6))
            painter.drawRoundedRect(QRectF(left, y + 16, _BAR, 5), 2, 2)
            painter.setBrush(colour)
            level = max(0.0, 1 + db_of(abs(gain)) / 48) if gain else 0.0
            painter.drawRoundedRect(QRectF(left, y + 16, _BAR * min(1.0, level), 5), 2, 2)
            painter.setPen(colour)
            painter.setFont(font(8.5, bold=True))
            painter.drawText(QRectF(left, y, _BAR, 14), Qt.AlignmentFlag.AlignLeft, LETTERS[side])
            painter.setPen(roles.chalk)
            painter.setFont(font(8.5))
            painter.drawText(QRectF(left, y, _BAR, 14), Qt.AlignmentFlag.AlignRight, _db(gain))

    # Mouse and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for side in SIDES:
            if (self.place_of(side) - event.position()).manhattanLength() < 18:
                self._drag, self._at = (side, object()), side
                self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        side, token = self._drag
        position = self.position_at(event.position())
        nearest = min((-100, -50, 0, 50, 100), key=lambda p: abs(p - position))
        caught = abs(nearest - position) < 2 and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        self.moved.emit(side, float(nearest if caught else round(position)), token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        for side in SIDES:
            if (self.place_of(side) - event.position()).manhattanLength() < 18:
                self.moved.emit(side, -100.0 if side == "left" else 100.0, None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        step = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}.get(Qt.Key(key))
        if step is not None:
            large = 1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 5
            position = _PLACE.held(getattr(self._output, self._at).position + large * step)
            self.moved.emit(self._at, position, "keys")
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self._at = "right" if self._at == "left" else "left"
            self.update()
        else:
            super().keyPressEvent(event)


def _db(gain: float) -> str:
    if abs(gain) < 1e-6:
        return "−∞ dB"
    turned = " inv." if gain < 0 else ""
    return figure(db_of(abs(gain)), "dB", sign=True) + turned


def _where(position: float) -> str:
    if math.isclose(position, 0.0, abs_tol=0.4):
        return said("centre")
    words = said("{share:.0f} % left") if position < 0 else said("{share:.0f} % right")
    return words.format(share=abs(position))


_CEILING = ("limited", "ceiling_db")


class OutputView(QFrame):
    """Edits the output of a document's strip."""

    export_asked = Signal()
    ride_asked = Signal(Address)
    refused = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._document = document
        self.title = Label(said("Output"))
        self.title.setObjectName("title")
        self.words = Label("")
        self.words.setObjectName("muted")
        self.export = QPushButton(said("Export…"))
        self.export.setObjectName("small")
        keyed(self.export, said("Write the result to a file"), "export")
        self.reset = QPushButton(said("Reset"))
        self.reset.setObjectName("small")
        self.reset.setToolTip(said("Both sides where they were, full width, no balance, no trim, no ceiling"))
        head = QHBoxLayout()
        head.setSpacing(12)
        head.addWidget(self.title)
        head.addWidget(self.words, 1)
        head.addWidget(self.reset)
        head.addWidget(self.export)
        self.picture = PlacePicture()
        self.controls: dict[tuple[str, ...], Control] = {}
        output = settings_of(Output)
        row, ceiling = QHBoxLayout(), QHBoxLayout()
        row.setSpacing(12)
        ceiling.setSpacing(12)
        for path, setting, words in (
            *((((side, "position"), _PLACE, NAMES[side])) for side in SIDES),
            *(((name,), setting, said("Output")) for name, setting in output.items()),
        ):
            control = self.controls[path] = control_for(setting, words)
            if isinstance(control, ValueField):
                address = Address("output", 0, ".".join(path))
                control.ride_asked.connect(partial(self.ride_asked.emit, address))
                control.refused.connect(self.refused)
                if len(path) > 1:
                    control.set_colour(roles.component(path[0]))
                    control.set_label(said("{name} at").format(name=words))
                    control.set_default(-100.0 if path[0] == "left" else 100.0)
            on_move(
                control,
                partial(self._put, path, f"{words} {setting.label.lower()}"),
            )
            place = ceiling if path[0] in _CEILING else row
            place.addWidget(control, 1 if isinstance(control, ValueField) else 0)
        self.swap = Toggle(
            said("Swapped"), said("Swap left and right"), said("Left to the right and right to the left")
        )
        row.addWidget(self.swap)
        self.controls["ceiling_db",].setMaximumWidth(220)
        self.limiting = Label("")
        self.limiting.setObjectName("muted")
        self.limiting.setToolTip(
            said("What the ceiling takes away now, and the most since it was put in (click to forget)")
        )
        self.limiting.mousePressEvent = lambda event: self._forget()  # type: ignore[method-assign]
        ceiling.addWidget(self.limiting, 1)
        self._most_db = 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 10)
        layout.setSpacing(8)
        layout.addLayout(head)
        layout.addWidget(self.picture, 1)
        layout.addLayout(row)
        layout.addLayout(ceiling)
        self.picture.moved.connect(
            lambda side, position, token: self._put(
                (side, "position"), said("{name} place").format(name=NAMES[side]), position, token
            )
        )
        self.export.clicked.connect(self.export_asked)
        self.reset.clicked.connect(lambda: self._document.put(("output",), Output(), said("Output reset")))
        self.swap.clicked.connect(self._swap)

    def refresh(self) -> None:
        """Show the document's output."""
        if not self._document.is_open:
            return
        output = self._document.output
        ridden = {ride.path for ride in output.rides}
        self.picture.show_output(output)
        for path, control in self.controls.items():
            show_on(control, tree.at(output, path))
            if isinstance(control, ValueField):
                control.set_ridden(".".join(path) in ridden)
        self.swap.setChecked(output.left.position > output.right.position)
        self.words.setText(
            said("as it comes out of the join")
            if output == Output()
            else said("width, then places, balance, level and ceiling")
        )
        self.controls["ceiling_db",].setEnabled(output.limited)
        if not output.limited:
            self._forget()

    def _forget(self) -> None:
        self._most_db = 0.0
        self.limiting.setText("")

    def show_ceiling(self, reduction_db: float) -> None:
        """What the ceiling takes away now, in dB."""
        if not self._document.is_open or not self._document.strip.output.limited:
            return
        self._most_db = max(self._most_db, reduction_db)
        self.limiting.setText(
            said("takes {reduction_db:.1f} dB, {most_db:.1f} dB at the most").format(
                reduction_db=reduction_db, most_db=self._most_db
            )
        )

    def _swap(self) -> None:
        output = self._document.strip.output
        swapped = edits.put(edits.put(output, ("left",), output.right), ("right",), output.left)
        self._document.put(("output",), swapped, said("Output sides swapped"))

    def _put(self, path: tree.Path, words: str, value: Any, token: object) -> None:
        gesture = None if token is None else (token, "output", *path)
        output = edits.put(self._document.output, path, value)
        words = said("Output: {reason}").format(reason=words.lower())
        self._document.put_shown(("output",), output, words, gesture)
