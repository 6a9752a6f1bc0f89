"""What can be done with the rides of a document: which one is open, its points, what is recorded by moving a control."""

import time
from collections.abc import Callable
from typing import Any, Literal

from PySide6.QtCore import QObject, Signal

from stonekite.desktop.model.document import Document
from stonekite.session import edits, ride_edits, ride_lines
from stonekite.session.ride_edits import Address
from stonekite.session.ride_lines import Span
from stonekite.session.timing import beat_exactly_at, time_of
from stonekite.session.types import Strip
from stonekite.stages.riding import Point, Ride, Way
from stonekite.stages.settings import Setting
from stonekite.words import clock, parsed_time, said

REST_S = 0.4
"""A control that is turned by keys or the wheel is let go so long after its last step."""
_STEP_S = 0.03
"""While a control is held still, what is recorded grows by so much."""
RecordMode = Literal["off", "held", "on"]


class _Take:
    """What is being recorded of one setting."""

    def __init__(self, address: Address, strip: Strip, gesture: object) -> None:
        self.address, self.gesture = address, gesture
        self.ride = ride_edits.ride_of(strip, address)
        self.base = ride_edits.value_of(strip, address)
        self.taken: list[tuple[float, float]] = []
        self.moved = time.monotonic()


class RideActions(QObject):
    """Edits rides through the document. `changed` comes when another one or another point is open, `said` with a word."""

    changed = Signal()
    said = Signal(str)

    def __init__(self, document: Document, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self.chosen: Address | None = None
        self.place: int | None = None
        """Which point is open."""
        self.mode: RecordMode = "off"
        self.back_s = 0.5
        self.heard: Callable[[], float | None] = lambda: None
        """The place that is heard now, in seconds; None while nothing plays."""
        self._take: _Take | None = None
        self._clip: list[tuple[float, float, Way]] | None = None
        document.record = self._record
        document.opened.connect(self.forget)

    def forget(self) -> None:
        """Another session: no ride is open."""
        self.chosen, self.place, self._take = None, None, None
        self.changed.emit()

    @property
    def ride(self) -> Ride | None:
        """The open ride."""
        return None if self.chosen is None else ride_edits.ride_of(self._document.strip, self.chosen)

    @property
    def setting(self) -> Setting | None:
        """What the open ride moves."""
        return None if self.chosen is None else ride_edits.setting_of(self._document.strip, self.chosen)

    def choose(self, address: Address | None) -> None:
        """Open a ride, or a setting that has none yet."""
        if address != self.chosen:
            self.chosen, self.place = address, None
            self.changed.emit()

    def look(self) -> None:
        """After a change: what is gone is not open any more; what rides is opened if nothing is."""
        strip = self._document.strip
        if self.chosen is not None and ride_edits.setting_of(strip, self.chosen) is None:
            self.chosen, self.place = None, None
        known = ride_edits.rides_in(strip)
        if self.chosen is None and known:
            self.chosen = known[0][0]
        ride = self.ride
        if self.place is not None and (ride is None or self.place >= len(ride.points)):
            self.place = None

    # Points

    def _put(self, ride: Ride | None, words: str, gesture: object = None) -> bool:
        address, strip = self.chosen, self._document.strip
        if address is None:
            return False
        try:
            changed = ride_edits.put_ride(strip, address, ride)
        except ValueError as error:
            self.said.emit(str(error))
            return False
        session = edits.put(self._document.session, ("sound", *self._document.holder, "strip"), changed)
        name = ride_edits.called(strip, address)
        return self._document.edit(session, said("{name}: {what}").format(name=name, what=words), gesture)

    def begin(self, at_s: float) -> None:
        """Have the open setting ride: a first point where it is looked at."""
        if self.chosen is None or self.ride is not None:
            return
        if why := ride_edits.why_not(self._document.strip, self.chosen):
            self.said.emit(why)
            return
        value = ride_edits.value_of(self._document.strip, self.chosen)
        ride = Ride(path=self.chosen.path, points=(Point(at_s=at_s, value=value),))
        if self._put(ride, said("rides")):
            self.place = 0
            self.changed.emit()

    def _beat(self, at_s: float) -> float | None:
        """The beat that a point stays at, if it was put on one."""
        return beat_exactly_at(self._document.session.sound.tempo, at_s)

    def type_point(self, place: int, text: str) -> None:
        """A point is where it is typed to be: a value, a time (1:02.5, or beat 17), or both with @ between them."""
        ride, setting = self.ride, self.setting
        if ride is None or setting is None or place >= len(ride.points):
            return
        point = ride.points[place]
        written, at, when = text.partition("@")
        tempo = self._document.session.sound.tempo
        try:
            value = setting.typed(written.strip(), {}) if written.strip() else point.value
            at_s = point.at_s
            if at and when.strip():
                word, _, number = when.strip().lower().partition(" ")
                if word == said("beat"):
                    at_s = max(0.0, time_of(tempo, float(number.replace(",", ".")) - 1.0))
                else:
                    at_s = parsed_time(when.strip())
        except ValueError as error:
            self.said.emit(str(error))
            return
        self.move(place, at_s, value, object())

    def add(self, at_s: float, value: float) -> None:
        """One more point."""
        ride, setting = self.ride, self.setting
        if self.chosen is None or setting is None:
            return
        point = Point(at_s=at_s, value=setting.held(value), beat=self._beat(at_s))
        made = (
            Ride(path=self.chosen.path, points=(point,))
            if ride is None
            else ride_lines.with_point(ride, point)
        )
        if self._put(made, said("point at {time}").format(time=clock(at_s))):
            self.place = next((k for k, one in enumerate(made.points) if one.at_s == at_s), None)
            self.changed.emit()

    def move(self, place: int, at_s: float, value: float, gesture: object) -> None:
        """A point stands elsewhere."""
        ride, setting = self.ride, self.setting
        if ride is not None and setting is not None and place < len(ride.points):
            self.place = place
            made = ride_lines.moved_point(ride, place, at_s, setting.held(value), self._beat(at_s))
            self._put(made, said("point moved"), (gesture, "ride", self.chosen))

    def remove(self, place: int) -> None:
        """A point is gone; with the last one the ride."""
        ride = self.ride
        if ride is not None and place < len(ride.points):
            self.place = None
            self._put(ride_lines.without_point(ride, place), said("point removed"))

    def bend(self, way: Way) -> None:
        """The line goes on from the open point, or from all of them, in another way."""
        ride = self.ride
        if ride is None:
            return
        places = range(len(ride.points)) if self.place is None else [self.place]
        for place in places:
            ride = ride_lines.with_way(ride, place, way)
        self._put(ride, said("goes on {way}").format(way=WAYS[way].lower()))

    def stop(self) -> None:
        """The open setting does not ride any more; it stands where it is shown."""
        if self.ride is not None:
            self._put(None, said("rides no more"))

    def change(self, what: str, span: Span) -> None:
        """One of CHANGES, within a range of seconds."""
        ride, setting = self.ride, self.setting
        if ride is None or setting is None or span[1] - span[0] < 0.01:
            return
        act: Callable[[list[Point]], list[Point]] = {
            "wider": ride_lines.scaled(setting, 1.25),
            "narrower": ride_lines.scaled(setting, 0.8),
            "up": ride_lines.shifted(setting, 0.02),
            "down": ride_lines.shifted(setting, -0.02),
            "thin": ride_lines.thinned(setting, 0.5),
            "reverse": ride_lines.reversed_in_time,
            "clear": ride_lines.cleared,
        }[what]
        self._put(ride_lines.within(ride, setting, span, act), CHANGES[what].lower())

    def copy(self, span: Span) -> None:
        """Keep the part of the line in a range."""
        ride, setting = self.ride, self.setting
        if ride is not None and setting is not None:
            self._clip = ride_lines.copied(ride, setting, span)
            self.said.emit(
                said("Copied the line from {start} to {end}.").format(
                    start=clock(span[0]), end=clock(span[1])
                )
            )

    def paste(self, span: Span, fitted: bool) -> None:
        """Put what was copied into a range, stretched to its length if it is to fit; onto another setting by the place in
        its range."""
        setting, address = self.setting, self.chosen
        if not self._clip or setting is None or address is None:
            self.said.emit(said("Nothing of a line was copied yet."))
            return
        if why := ride_edits.why_not(self._document.strip, address):
            self.said.emit(why)
            return
        stretch = (span[1] - span[0]) / max(self._clip[-1][0], 1e-6) if fitted else 1.0
        now = ride_edits.value_of(self._document.strip, address)
        self._put(
            ride_lines.pasted(self.ride, setting, address.path, now, self._clip, span, stretch),
            said("pasted"),
        )

    # Recording

    def _record(self, address: Address, value: float, gesture: object = None) -> Strip | None:
        """The document is about to change a setting: record it instead, if that is wanted."""
        heard = self.heard() if self.mode != "off" else None
        if heard is None:
            return None
        strip = self._document.strip
        if ride_edits.why_not(strip, address):
            return None
        if self._take is not None and self._take.address != address:
            self._finish()
            strip = self._document.strip
        if self._take is None:
            self._take = _Take(address, strip, gesture)
            self.chosen, self.place = address, None
        take = self._take
        if not self._grow(heard, value):
            return None
        take.moved = time.monotonic()
        return self._recorded(take, "on")

    def _grow(self, heard: float, value: float) -> bool:
        """Take down where the control is at a place; whether that goes on from what was taken down before."""
        assert self._take is not None
        taken = self._take.taken
        if taken and heard < taken[-1][0] - 0.05:  # a loop began anew, or the place was left
            return False
        if taken and heard <= taken[-1][0] + 1e-4:
            taken[-1] = taken[-1][0], value
        else:
            if taken and heard - taken[-1][0] > 2 * _STEP_S:
                taken.append((heard - _STEP_S, taken[-1][1]))
            taken.append((heard, value))
        return True

    def _recorded(self, take: _Take, way: Any) -> Strip:
        strip = self._document.strip
        setting = ride_edits.setting_of(strip, take.address)
        assert setting is not None
        ride = ride_lines.recorded(
            take.ride, setting, take.address.path, take.base, take.taken, way, self.back_s
        )
        return ride_edits.put_ride(strip, take.address, ride)

    def tick(self, pressed: bool) -> None:
        """Many times a second: a control that is held still is recorded, too, and one that was let go has been."""
        take = self._take
        if take is None:
            return
        heard = self.heard()
        if ride_edits.setting_of(self._document.strip, take.address) is None:
            self._take = None
            return
        held = pressed or time.monotonic() - take.moved < REST_S
        if heard is None or not held or not self._grow(heard, take.taken[-1][1]):
            self._finish()

    def _finish(self) -> None:
        """It was let go: what was taken becomes the line."""
        take, self._take = self._take, None
        if take is None or not take.taken:
            return
        strip = self._recorded(take, "held" if self.mode == "held" else "on")
        session = edits.put(self._document.session, ("sound", *self._document.holder, "strip"), strip)
        name = ride_edits.called(strip, take.address)
        self._document.edit(session, said("{name}: recorded").format(name=name), take.gesture)
        self.changed.emit()


WAYS: dict[Way, str] = {"straight": said("Straight"), "curved": said("Curved"), "held": said("Held")}
CHANGES: dict[str, str] = {
    "up": said("Shift up"),
    "down": said("Shift down"),
    "wider": said("Scale up"),
    "narrower": said("Scale down"),
    "thin": said("Thin"),
    "reverse": said("Reverse"),
    "clear": said("Clear"),
}
"""What is done to a line in a range."""
