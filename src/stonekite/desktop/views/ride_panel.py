"""Rides under the timeline: which one, its line, how it is recorded, and what is done to a range of it."""

import contextlib
import time
from functools import partial

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QHideEvent, QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.ride_actions import CHANGES, WAYS, RideActions
from stonekite.desktop.pictures.ride_line import line_of
from stonekite.desktop.timeline.ride_lane import RideLane
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.session import ride_edits
from stonekite.session.ride_edits import Address
from stonekite.session.ride_lines import Span
from stonekite.session.types import Leg, Strip
from stonekite.stages.settings import settings_of
from stonekite.words import clock, figure, said

_MODES = {"off": said("Off"), "held": said("While held"), "on": said("From here on")}
_MEANINGS: dict[ride_edits.Meaning, str] = {"line": said("Edits: line"), "point": said("Edits: point")}

BACK_S = (0.0, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0)
"""What the time can be in which a line is found again that was recorded while held."""
_SHARE = 4.0
"""While it plays, what follows takes one in so many parts of the window's time: an echo's picture is dear to make."""


class RidePanel(QWidget):
    """Shows the rides of a document, and keeps what is shown of ridden settings at the play position. `moved_on` says
    that it is another one, so that controls of settings that ride follow; `resized` that it came or went.
    """

    moved_on = Signal()
    resized = Signal()

    def __init__(self, document: Document, transport: Transport, timeline: Timeline) -> None:
        super().__init__()
        self._document, self._transport = document, transport
        self.rides = RideActions(document, self)
        self.rides.heard = self._heard
        self.lane = RideLane(timeline)
        self._compared: Strip | None = None
        self._rests_until = 0.0
        self.wanted = False
        """Whether the panel is shown where nothing rides yet."""
        self.name = QPushButton(said("Ride"))
        self.name.setObjectName("small")
        self.name.setToolTip(said("Choose what rides, or have the setting ride that was moved last"))
        self.way = Segments(
            dict(WAYS), said("On from the point"), said("How the line goes on from the open point")
        )
        self.record = Segments(_MODES, said("Record"))
        keyed(
            self.record,
            said(
                "Record by moving a control while playing: while it is held the line is left, and found again as "
                "soon as the menu says; or the line stays where it was let go"
            ),
            "record",
        )
        self.more = QPushButton(said("Line…"))
        self.more.setObjectName("small")
        self.more.setToolTip(
            said("Scale, shift, thin, reverse, clear, copy and paste: in the loop, or all of it")
        )
        document.edit_of_ridden = preferences.load().edit_of_ridden
        self.meaning = QPushButton()
        self.meaning.setObjectName("small")
        self.meaning.setToolTip(
            said(
                "What it means to move the control of a setting that rides: its line goes up or down by as much, or "
                "gets a point at the play position. Click for the other one"
            )
        )
        self._show_meaning()
        self.meaning.clicked.connect(self._mean)
        head = QHBoxLayout()
        head.setSpacing(8)
        for widget in (self.name, self.way, self.more, self.meaning):
            head.addWidget(widget)
        head.addStretch(1)
        self.words = Label("")
        self.words.setObjectName("muted")
        head.addWidget(self.words)
        label = Label(said("Record"))
        label.setObjectName("muted")
        head.addWidget(label)
        head.addWidget(self.record)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 2, 0, 0)
        layout.setSpacing(4)
        layout.addLayout(head)
        layout.addWidget(self.lane)
        self.hide()
        self.name.clicked.connect(lambda: self._choose_menu().popup(self._below(self.name)))
        self.more.clicked.connect(lambda: self._more_menu().popup(self._below(self.more)))
        self.way.chosen.connect(self.rides.bend)
        self.record.chosen.connect(self._set_mode)
        self.lane.added.connect(self._add)
        self.lane.moved.connect(self.rides.move)
        self.lane.typed.connect(self.rides.type_point)
        self.lane.removed.connect(self.rides.remove)
        self.lane.opened.connect(self._open_point)
        self.rides.changed.connect(self.refresh)
        document.changed.connect(self.refresh)

    @staticmethod
    def _below(button: QPushButton):
        return button.mapToGlobal(button.rect().bottomLeft())

    def _heard(self) -> float | None:
        return self._transport.heard_at(time.monotonic()) if self._transport.playing else None

    def _show_meaning(self) -> None:
        self.meaning.setText(_MEANINGS[self._document.edit_of_ridden])

    def _mean(self) -> None:
        meaning: ride_edits.Meaning = "line" if self._document.edit_of_ridden == "point" else "point"
        self._document.edit_of_ridden = meaning
        self._show_meaning()
        with contextlib.suppress(OSError):
            preferences.save(msgspec.structs.replace(preferences.load(), edit_of_ridden=meaning))

    def _set_mode(self, mode) -> None:
        self.rides.mode = mode

    def toggle_record(self) -> None:
        """Record while held, from here on, or not at all: the next of them."""
        modes = list(_MODES)
        mode = modes[(modes.index(self.rides.mode) + 1) % len(modes)]
        self.wanted = True
        self.record.show_value(mode)
        self._set_mode(mode)
        self.refresh()
        self.rides.said.emit(said("Record rides: {mode}.").format(mode=_MODES[mode].lower()))  # type: ignore[index]

    def toggle(self) -> None:
        """Show the lane, also where nothing rides; or put it away."""
        self.wanted = not self.isVisible()
        if not self.wanted:
            self.hide()
        else:
            self.refresh()

    # Choosing

    def ride(self, address: Address) -> None:
        """Open the ride of a setting; it begins at the play position if it has none."""
        self.wanted = True
        self.rides.choose(address)
        self.rides.begin(self._document.shown_s)
        self.refresh()

    def _choose_menu(self) -> QMenu:
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        strip = self._document.strip
        for address, _ in ride_edits.rides_in(strip):
            action = menu.addAction(ride_edits.called(strip, address), partial(self.rides.choose, address))
            action.setCheckable(True)
            action.setChecked(address == self.rides.chosen)
        last = self._document.touched
        there = last is not None and ride_edits.setting_of(strip, last) is not None
        if last is not None and there and ride_edits.ride_of(strip, last) is None:
            menu.addSeparator()
            words = said("Ride what was moved last: {name}").format(name=ride_edits.called(strip, last))
            menu.addAction(words, partial(self.ride, last))
        if self.rides.ride is not None:
            menu.addSeparator()
            menu.addAction(said("No ride any more: it stands where it is shown"), self.rides.stop)
        if menu.isEmpty():
            menu.addAction(said("Move a control first: then it can be ridden")).setEnabled(False)
        return menu

    def _range(self) -> Span:
        loop = self._document.desk.loop
        source = self._document.stem.source
        return (loop.start_s, loop.end_s) if loop is not None else (0.0, source.frames / source.rate)

    def _more_menu(self) -> QMenu:
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        span = self._range()
        where = said("the loop") if self._document.desk.loop is not None else said("all of it")
        menu.addAction(said("In {where}:").format(where=where)).setEnabled(False)
        there = self.rides.ride is not None
        for what, words in CHANGES.items():
            menu.addAction(words, partial(self.rides.change, what, span)).setEnabled(there)
        menu.addSeparator()
        menu.addAction(said("Copy"), partial(self.rides.copy, span)).setEnabled(there)
        at = (self._document.shown_s, self._range()[1])
        menu.addAction(said("Paste at the play position"), lambda: self.rides.paste((at[0], 1e6), False))
        menu.addAction(
            said("Paste, fitted into {where}").format(where=where), lambda: self.rides.paste(span, True)
        )
        if self.rides.chosen is not None and self.rides.chosen.path == "delay_ms":
            self._add_ways(menu.addMenu(said("The delay gets there")), self.rides.chosen)
        menu.addSeparator()
        back = menu.addMenu(said("Recorded while held: back to the line within"))
        for seconds in BACK_S:
            action = back.addAction(figure(seconds, "s"), partial(setattr, self.rides, "back_s", seconds))
            action.setCheckable(True)
            action.setChecked(self.rides.back_s == seconds)
        return menu

    def _add_ways(self, menu: QMenu, address: Address) -> None:
        """How the delay of a leg or a spur gets from one time to another."""
        setting = settings_of(Leg)["delay_way"]
        path = ride_edits.holder_path(self._document.strip, address)
        now = ride_edits.holder(self._document.strip, address)
        for way, words in (setting.words or {}).items():
            put = partial(
                self._document.put,
                (*(path or ()), "delay_way"),
                way,
                said("Delay rides: {way}").format(way=words),
            )
            action = menu.addAction(words, put)
            action.setCheckable(True)
            action.setChecked(now.delay_way == way)
        menu.setToolTip(setting.help)

    # Points

    def _add(self, at_s: float, value: float) -> None:
        if self.rides.chosen is None and self._document.touched is not None:
            self.rides.choose(self._document.touched)
        self.rides.add(at_s, value)

    def _open_point(self, place: int) -> None:
        self.rides.place = place
        self.refresh()

    # Showing

    def compare(self, strip: Strip | None) -> None:
        """Draw the line of a version beside the one of the state now; None: of none."""
        if strip is not self._compared:
            self._compared = strip
            self.refresh()

    def refresh(self) -> None:
        """Show the rides as they are now."""
        document = self._document
        if not document.is_open:
            return
        self.rides.look()
        strip = document.strip
        known = ride_edits.rides_in(strip)
        self.setVisible(bool(known) or self.wanted)
        if not self.isVisible():
            return
        rides = self.rides
        chosen = rides.chosen if rides.chosen is not None else document.touched
        line = None if chosen is None else line_of(strip, chosen)
        others = [line_of(strip, address) for address, _ in known if address != chosen]
        beside = None
        if self._compared is not None and chosen is not None:
            beside = line_of(self._compared, chosen)
        self.name.setText(said("Ride: {name}").format(name=line.name) if line is not None else said("Ride…"))
        self.name.setAccessibleName(self.name.text())
        self.way.setEnabled(rides.ride is not None)
        self.more.setEnabled(chosen is not None)
        if rides.ride is not None:
            point = rides.ride.points[rides.place or 0]
            self.way.show_value(point.way)
        words = ""
        if rides.ride is not None and rides.place is not None:
            point = rides.ride.points[rides.place]
            setting = rides.setting
            assert setting is not None
            words = f"{setting.shown(point.value)} · {clock(point.at_s)}"
        elif known:
            words = said("1 ride") if len(known) == 1 else said("{count} rides").format(count=len(known))
        self.words.setText(words)
        self.words.setVisible(bool(words))
        self.lane.show_lines(line, [one for one in others if one is not None], beside, rides.place)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.resized.emit()
        self.refresh()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.resized.emit()

    def tick(self, position: float) -> None:
        """Many times a second: where it plays, and what of the open parts follows."""
        document = self._document
        pressed = QGuiApplication.mouseButtons() != Qt.MouseButton.NoButton
        self.rides.tick(pressed)
        if self.isVisible():
            self.lane.show_position(position)
        playing, now = self._transport.playing, time.perf_counter()
        if abs(position - document.shown_s) < 0.02 or (pressed and not playing):
            return
        if playing and now < self._rests_until:
            return
        document.shown_s = position
        if ride_edits.any_rides(document.strip):
            self.moved_on.emit()
            self._rests_until = now + _SHARE * (time.perf_counter() - now)
