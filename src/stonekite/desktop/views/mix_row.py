"""One row of the mix: a stem, a bus or the mix itself."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Toggle, Words
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.model.mix_actions import MixActions
from stonekite.desktop.views.mix_cells import KiteCell, MeterCell, NameCell, SendCell, gain_shown
from stonekite.desktop.views.span_cell import SpanCell, Stretch
from stonekite.remembered import Remembered
from stonekite.session.mix import wires
from stonekite.session.mix.fader import Fader
from stonekite.session.mix.places import length_s, name_of
from stonekite.session.tree import number_of
from stonekite.session.types import MIX, Bus, Mix, Sound, Stem
from stonekite.stages.settings import settings_of
from stonekite.words import clock, said

_FADER = settings_of(Fader)
_JOINED = Remembered()
NAME, LEVELS, METER, INTO, SEND = 144, 178, 82, 88, 80
"""Widths of the columns; the kite has what is left."""
HEIGHT = 57


def joined(sound: Sound) -> tuple[object, ...]:
    """What of a sound decides where anything can go: equal as long as nothing is joined otherwise, or called so."""
    return _JOINED.of(sound, None, lambda: _joined(sound))


def _joined(sound: Sound) -> tuple[object, ...]:
    ways = tuple((wire.source, wire.to) for wire in wires.wires(sound))
    return ways, tuple((bus.id, bus.name) for bus in sound.buses), tuple(wires.keys(sound).items())


class MixRow(QWidget):
    """Shows and edits one strip of a sound. `opened` wants its kite, `chosen` that it is the one in hand (with more than
    it), `moved_to` that it stands at another place among its like, `menu` that what can be done with it is asked for."""

    opened = Signal(int)
    chosen = Signal(int, bool)
    dropped = Signal(int, int)
    stepped = Signal(int, int)
    menu_asked = Signal(int, object)
    without_asked = Signal(int)
    seek_asked = Signal(float)
    time_asked = Signal(int)

    def __init__(self, one: Stem | Bus | Mix, sound: Sound, actions: MixActions) -> None:
        super().__init__()
        self.number = number_of(one)
        self._actions = actions
        self._fader = Fader()
        self._chosen = False
        self._sound = sound
        self._shown: tuple[object, ...] = ()
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 8, 2)
        row.setSpacing(7)
        self.name = NameCell()
        self.toggles: dict[str, Toggle] = {}
        named = QVBoxLayout()
        named.setSpacing(1)
        named.addWidget(self.name)
        below = QHBoxLayout()
        below.setContentsMargins(10, 0, 0, 0)
        below.setSpacing(6)
        if self.number != MIX:
            for field, word in (("muted", said("mute")), ("alone", said("alone"))):
                toggle = self.toggles[field] = Toggle(word, _FADER[field].label, _FADER[field].help)
                toggle.clicked.connect(lambda on, field=field: actions.put_fader(self.number, field, on))
                below.addWidget(toggle)
            self.toggles["muted"].set_colour(roles.warning)
        below.addStretch(1)
        named.addLayout(below)
        holder = QWidget()
        holder.setFixedWidth(NAME)
        holder.setLayout(named)
        named.setContentsMargins(0, 0, 0, 0)
        row.addWidget(holder)
        self.kite = KiteCell()
        row.addWidget(self.kite, 1)
        levels = QVBoxLayout()
        levels.setContentsMargins(0, 0, 0, 0)
        levels.setSpacing(2)
        self.fields: dict[str, ValueField] = {}
        self.words = Words()
        if self.number == MIX:
            levels.addWidget(self.words)
        else:
            for field in ("level_db", "place"):
                control = self.fields[field] = ValueField(_FADER[field], compact=True)
                control.moved.connect(
                    lambda value, token, field=field: actions.put_fader(self.number, field, value, token)
                )
                levels.addWidget(control)
        room = QWidget()
        room.setFixedWidth(LEVELS)
        room.setLayout(levels)
        row.addWidget(room)
        self._kinds = self.kite, room
        self.span: SpanCell | None = None
        """Where a stem is in time, in place of its kite and its level; made when it is shown first."""
        self.meter = MeterCell()
        self.meter.setFixedWidth(METER)
        row.addWidget(self.meter)
        self.into = QPushButton()
        self.into.setFixedSize(INTO, 24)
        self.into.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.into.clicked.connect(self._ask_into)
        self.without = Toggle(
            said("without"),
            said("Without it"),
            said(
                "Hear the mix without it, turned to be as loud as with it: to judge what it does, and not how loud it is."
            ),
        )
        self.without.clicked.connect(lambda on: self.without_asked.emit(self.number if on else 0))
        going_on = QVBoxLayout()
        going_on.setContentsMargins(0, 2, 0, 2)
        going_on.setSpacing(2)
        going_on.addWidget(self.into)
        going_on.addWidget(self.without, 0, Qt.AlignmentFlag.AlignHCenter)
        row.addLayout(going_on)
        self.sends: dict[int, SendCell] = {}
        self._buses: tuple[tuple[int, str], ...] = ()
        self._row = row
        self._have_sends(one, sound)
        for widget in (self.into, self.without):
            self._hide_in_the_mix(widget)
        self.name.renamed.connect(lambda name: actions.rename(self.number, name))
        self.name.pressed.connect(lambda more: self.chosen.emit(self.number, more))
        self.name.opened.connect(lambda: self.opened.emit(self.number))
        self.name.dragged.connect(
            lambda y: self.dropped.emit(self.number, self.name.mapTo(self, QPoint(0, y)).y())
        )
        self.name.stepped.connect(lambda steps: self.stepped.emit(self.number, steps))
        self.name.menu_asked.connect(lambda place: self.menu_asked.emit(self.number, place))
        self.kite.opened.connect(lambda: self.opened.emit(self.number))

    def _have_sends(self, one: Stem | Bus | Mix, sound: Sound) -> None:
        """Have a cell for each bus, in their order."""
        buses = tuple((bus.id, bus.name) for bus in sound.buses)
        if buses == self._buses:
            return
        for number, name in self._buses:
            if (number, name) not in buses:
                gone = self.sends.pop(number)
                gone.hide()
                gone.deleteLater()
        for number, name in buses:
            cell = self.sends.get(number)
            if cell is None:
                cell = self.sends[number] = SendCell(name_of(one), name)
                cell.setFixedWidth(SEND)
                cell.moved.connect(
                    lambda level, token, to=number: self._actions.put_send(self.number, to, level, token)
                )
                cell.way_asked.connect(partial(self._put_way, number))
                self._hide_in_the_mix(cell)
            self._row.removeWidget(cell)
            self._row.addWidget(cell)
        self._buses = buses

    def _hide_in_the_mix(self, widget: QWidget) -> None:
        """The mix goes nowhere: what others have for that leaves its room empty."""
        if self.number == MIX:
            hidden = widget.sizePolicy()
            hidden.setRetainSizeWhenHidden(True)
            widget.setSizePolicy(hidden)
            widget.hide()

    def sizeHint(self) -> QSize:
        return QSize(700, HEIGHT)

    def show_one(
        self, one: Stem | Bus | Mix, sound: Sound, chosen: bool, left_out: bool, folded: int, kept: bool
    ) -> None:
        """Show the values of now, whether it is chosen, whether the mix is heard without it, how many rows are put away
        in it, and whether what it sounds like is kept."""
        self._sound = sound
        shown = id(one), joined(sound), chosen, left_out, folded, kept
        if shown == self._shown:
            return
        self._have_sends(one, sound)
        self._shown, self._one = shown, one  # which lives as long as its id stands for it
        self.without.setChecked(left_out)
        self.without.setAccessibleName(said("The mix without {name}").format(name=name_of(one)))
        name = name_of(one)
        split = said("M/S") if one.strip.split.mode == "mid-side" else said("L/R")
        about = self._about(one, split) + (said(" · {count} folded").format(count=folded) if folded else "")
        self.name.show_name(name, about, None if isinstance(one, Mix) else one.hue, isinstance(one, Mix))
        self.kite.show_strip(one.strip, name, kept)
        if chosen != self._chosen:
            self._chosen = chosen
            self.update()
        if isinstance(one, Mix):
            return
        self._fader = one.fader
        for field, control in self.fields.items():
            control.show_value(getattr(one.fader, field))
            control.setAccessibleName(f"{name} {_FADER[field].label.lower()}")
        for field, toggle in self.toggles.items():
            toggle.setChecked(getattr(one.fader, field))
            toggle.setAccessibleName(f"{name} {_FADER[field].label.lower()}")
        target = self._target(one.into)
        words = self.into.fontMetrics().elidedText(f"→ {target}", Qt.TextElideMode.ElideRight, INTO - 20)
        self.into.setText(words)
        self.into.setToolTip(said("{name} goes into: {target}.").format(name=name, target=target))
        self.into.setAccessibleName(said("{name} goes into").format(name=name))
        self.into.setAccessibleDescription(target)
        sent = {send.to: send for send in one.sends}
        for to, cell in self.sends.items():
            cell.show_send(sent.get(to), wires.can_go(sound, self.number, to))

    def show_times(self, stem: Stem, overview: np.ndarray | None, stretch: Stretch) -> None:
        """Show when a stem is heard in place of its kite and its level."""
        if self.span is None:
            self.span = SpanCell()
            self._row.insertWidget(1, self.span, 1)
            self.span.moved.connect(lambda span: self._actions.put_time(self.number, **span._asdict()))
            self.span.seek_asked.connect(self.seek_asked)
            self.span.times_asked.connect(lambda: self.time_asked.emit(self.number))
            self.span.menu_asked.connect(lambda place: self.menu_asked.emit(self.number, place))
            self.span.chosen.connect(lambda more: self.chosen.emit(self.number, more))
        self.span.show_stem(stem, overview, stretch)
        self._show_span(True)

    def show_kite(self) -> None:
        """Show the kite and the level again."""
        self._show_span(False)

    def _show_span(self, on: bool) -> None:
        if self.span is not None:
            self.span.setVisible(on)
        for widget in self._kinds:
            widget.setVisible(not on)

    def forget(self) -> None:
        """Show all of it anew: a wish that was refused stands on its controls."""
        self._shown = ()

    @staticmethod
    def _about(one: Stem | Bus | Mix, split: str) -> str:
        if not isinstance(one, Stem):
            return split
        begins = said(" from {start}").format(start=clock(one.start_s, 0)) if one.start_s else ""
        return f"{split} · {clock(length_s(one), 0)}{begins}"

    def _target(self, number: int) -> str:
        return next((bus.name for bus in self._sound.buses if bus.id == number), said("mix"))

    def take_peaks(self, peaks: np.ndarray) -> None:
        """The greatest samples of the strip since the last look."""
        self.meter.take(peaks, gain_shown(self._fader.level_db, self._fader.muted))

    def _put_way(self, bus: int, before: bool) -> None:
        one = next(one for one in wires.going_on(self._sound) if one.id == self.number)
        send = next(send for send in one.sends if send.to == bus)
        self._actions.put_send(self.number, bus, send.level_db, before=before)

    def _ask_into(self) -> None:
        menu = QMenu(self)
        targets: list[tuple[int, str]] = [
            (MIX, said("The mix")),
            *((bus.id, bus.name) for bus in self._sound.buses),
        ]
        act: Callable[[int], Callable[[], None]] = lambda to: partial(self._actions.put_into, self.number, to)  # noqa: E731
        for to, name in targets:
            if wires.can_go(self._sound, self.number, to):
                menu.addAction(name, act(to))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.into.mapToGlobal(self.into.rect().bottomLeft()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.chosen.emit(self.number, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(roles.muted, 1) if self._chosen else Qt.PenStyle.NoPen)
        painter.setBrush(roles.raised if self._chosen else roles.panel)
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 1.5, -0.5, -1.5), 6, 6)
