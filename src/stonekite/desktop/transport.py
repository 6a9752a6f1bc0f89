"""The window's side of the player: starts it, restarts it if it dies, and knows what it should be doing."""

import os

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from stonekite.desktop import protocol
from stonekite.desktop.processes import Child
from stonekite.desktop.protocol import Event, Fault, OutputIs, Ready, Status
from stonekite.engine.listen import Listening
from stonekite.engine.smoothing import DEFAULT_SMOOTHING
from stonekite.session.types import Source, Strip

RESTARTS = 5


class Transport(QObject):
    """Play, pause, seek, loop and listen. `ticked` comes 30 times a second with the player's status."""

    ticked = Signal()
    output_changed = Signal(str, bool, int)
    ready = Signal()
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None, interval_ms: int = 33) -> None:
        super().__init__(parent)
        self._descriptor = os.memfd_create("stonekite-status")
        os.ftruncate(self._descriptor, Status.SIZE)
        self._shared = Status(self._descriptor)
        self.status: np.void = self._shared.read()
        self.listening = Listening()
        self.playing = False
        self._source: Source | None = None
        self._strip = Strip()
        self._beside: tuple[Strip, ...] = ()
        self._referred: tuple[Source | None, int, int] = (None, 0, 0)
        self._loop = (0, 0)
        self._watched = protocol.Watch(-1)
        self._restarts = 0
        self._child: Child | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(interval_ms)
        self._timer.timeout.connect(self._tick)
        self._expected: tuple[bool, int] | None = None

    def start(self) -> None:
        """Start the player process."""
        self._child = Child(
            "stonekite.desktop.player", Event, (str(self._descriptor),), (self._descriptor,), self
        )
        self._child.told.connect(self._hear)
        self._child.ended.connect(self._restart)
        self._timer.start()

    def close(self) -> None:
        """End the player."""
        self._timer.stop()
        if self._child is not None:
            self._child.close()
            self._child = None
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1

    @property
    def player_pid(self) -> int:
        return self._child.pid if self._child is not None else 0

    def _send(self, command: protocol.Command) -> None:
        if self._child is not None:
            self._child.send(command)

    def _hear(self, event: Event) -> None:
        if isinstance(event, OutputIs):
            self.output_changed.emit(event.name, event.simulated, event.rate)
        elif isinstance(event, Ready):
            self.ready.emit()
        elif isinstance(event, Fault):
            self.playing = False
            self.failed.emit(event.sentence)

    def _restart(self, code: int) -> None:
        """The player died: start another one where it was."""
        if self._restarts >= RESTARTS:
            self.playing = False
            self.failed.emit(
                f"The player stopped again and again (code {code}). Save and start Stone Kite again."
            )
            return
        self._restarts += 1
        was_playing, frame = self.playing, self.frame
        self.start()
        if self._source is not None:
            beside = self._beside
            self.load(self._source, self._strip)
            self.update(self._strip, beside)
            self.set_loop(*self._loop)
            self._send(self._watched)
            self.seek(frame)
            if was_playing:
                self.play()

    def _tick(self) -> None:
        self.status = self._shared.read()
        now = bool(self.status["playing"])
        if self._expected is None:
            self.playing = now
        else:  # a command is on its way: believe it until the player has had time to follow
            wanted, left = self._expected
            self._expected = None if now == wanted or left <= 0 else (wanted, left - 1)
        self.ticked.emit()

    @property
    def position_s(self) -> float:
        """The place in the recording that is heard now, in seconds."""
        return float(self.status["position"])

    @property
    def frame(self) -> int:
        return int(self.position_s * self._source.rate) if self._source is not None else 0

    def load(self, source: Source, strip: Strip) -> None:
        """Play another recording."""
        self._source, self._strip = source, strip
        self.playing = False
        self._loop = (0, 0)
        self._beside = ()
        self._send(protocol.Load(source, strip, self.listening))
        self._send(self._watched)
        if self._referred[0] is not None:
            self._send(protocol.Refer(*self._referred))

    def update(
        self, strip: Strip, beside: tuple[Strip, ...] = (), listening: Listening | None = None
    ) -> None:
        """Hear other settings, in time with those beside them; with `listening` as another version with its gains."""
        if strip is not self._strip or beside != self._beside:
            self._strip, self._beside = strip, beside
            if listening is not None:
                self.listening = listening
            self._send(protocol.Update(strip, beside, listening))
        elif listening is not None:
            self.listen(listening)

    def refer(self, source: Source | None, start: int = 0, end: int = 0) -> None:
        """Get another recording ready to be listened to, looping in these frames of its own."""
        if (source, start, end) != self._referred:
            self._referred = source, start, end
            self._send(protocol.Refer(source, start, end))

    def listen(self, listening: Listening) -> None:
        """Hear something else: processed, unprocessed, difference, one component."""
        if listening != self.listening:
            self.listening = listening
            self._send(protocol.Listen(listening))

    def play(self) -> None:
        self._send(protocol.Play())
        self.playing, self._expected = True, (True, 30)

    def pause(self) -> None:
        self._send(protocol.Pause())
        self.playing, self._expected = False, (False, 30)

    def seek(self, frame: int) -> None:
        self._send(protocol.Seek(frame))

    def set_loop(self, start: int, end: int) -> None:
        """Repeat these frames; equal ends for no loop."""
        self._loop = (start, end)
        self._send(protocol.SetLoop(start, end))

    def watch(self, stage: int, parts: int = DEFAULT_SMOOTHING) -> None:
        """Take spectra before and after the stage of this id (-1: at the end of the legs), 1/parts octave wide."""
        self._watched = protocol.Watch(stage, parts)
        self._send(self._watched)

    def disturb(self, what: str, value: float = 0.0, path: str = "") -> None:
        """For tests: see protocol.Disturb."""
        self._send(protocol.Disturb(what, value, path))  # type: ignore[arg-type]
