"""Which knob of a MIDI device turns which grip, and what is turned."""

import contextlib
from collections import deque
from collections.abc import Sequence

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from stonekite import midi
from stonekite.desktop.model import preferences
from stonekite.midi import HIGHEST, Knob
from stonekite.words import said

_MS = 20
_CLOSE = 1.5 / HIGHEST
_TURNS_MS = 500
"""What a knob does without a longer rest is one step to undo."""


class Knobs(QObject):
    """Hears one device. `turned` gives the place of a grip, its position and a token; `changed` comes when another device
    is open, or another knob was chosen, `said` with a word.

    A knob that stands elsewhere than its grip does nothing until it comes past where that is: nothing jumps.
    """

    turned = Signal(int, float, object)
    changed = Signal()
    said = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        known = preferences.load()
        self.of = {int(place): Knob(*knob) for place, knob in known.knobs.items()}
        self.device: midi.Device | None = None
        self.name = ""
        self.learning: int | None = None
        """The grip for which the next knob that is turned is taken."""
        self.positions: dict[int, float] = {}
        """Where the grips stand."""
        self._waiting: deque[Sequence[int]] = deque(maxlen=4096)
        self._at: dict[int, float] = {}
        self._held: dict[int, float] = {}
        self._token: object = object()
        self._timer = QTimer(self)
        self._timer.setInterval(_MS)
        self._timer.timeout.connect(self.look)
        self._rests = QTimer(self)
        self._rests.setSingleShot(True)
        self._rests.setInterval(_TURNS_MS)
        self._rests.timeout.connect(self._rested)

    def begin(self) -> None:
        """Open the device that was open last, if it is there."""
        wanted = preferences.load().knob_device
        if wanted and not self.name and wanted in midi.names():
            self.open(wanted)

    def open(self, name: str) -> None:
        """Hear another device; none if the name is empty."""
        self.close()
        if name:
            try:
                self.device = midi.opened(name, self._waiting.append)
            except OSError as error:
                self.said.emit(str(error))
                name = ""
        self.name = name
        if name:
            self._timer.start()
        self._keep()

    def close(self) -> None:
        """Hear nothing more."""
        self._timer.stop()
        if self.device is not None:
            self.device.close()
        self.device, self.name = None, ""
        self._waiting.clear()

    def learn(self, place: int | None) -> None:
        """Have the next knob that is turned turn a grip; None: no more."""
        self.learning = place
        self.changed.emit()

    def forget(self, place: int) -> None:
        """A grip is turned by no knob any more."""
        self.of.pop(place, None)
        self._keep()

    def _keep(self) -> None:
        known = preferences.load()
        kept = {str(place): tuple(knob) for place, knob in self.of.items()}
        with contextlib.suppress(OSError):
            preferences.save(msgspec.structs.replace(known, knobs=kept, knob_device=self.name))
        self.changed.emit()

    def look(self) -> None:
        """Take what was turned since."""
        last: dict[Knob, int] = {}
        first: dict[Knob, int] = {}
        while self._waiting:
            told = midi.turned(self._waiting.popleft())
            if told is not None:
                first.setdefault(told.knob, told.value)
                last[told.knob] = told.value
        for knob, value in last.items():
            if self.learning is not None:
                self._take(knob, value)
                continue
            for place, own in self.of.items():
                if own == knob:
                    self._turn(place, first[knob] / HIGHEST, value / HIGHEST)

    def _take(self, knob: Knob, value: int) -> None:
        assert self.learning is not None
        place, self.learning = self.learning, None
        self.of = {other: own for other, own in self.of.items() if own != knob} | {place: knob}
        self._at[place] = value / HIGHEST
        self._keep()
        self.said.emit(said("Knob {number} turns this grip now.").format(number=knob.number))

    def _turn(self, place: int, first: float, position: float) -> None:
        stands = self.positions.get(place)
        if stands is None:
            return
        before = self._at.get(place, first)
        self._at[place] = position
        held = self._held.get(place)
        if held is None or abs(held - stands) > _CLOSE:  # it was moved by something else
            low, high = min(before, first, position), max(before, first, position)
            if not low - _CLOSE <= stands <= high + _CLOSE:
                self._held.pop(place, None)
                return
        self._held[place] = self.positions[place] = position
        self._rests.start()
        self.turned.emit(place, position, self._token)

    def _rested(self) -> None:
        self._token = object()
