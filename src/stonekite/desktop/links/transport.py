"""The window's side of the player: starts it, restarts it if it dies, and knows what it should be doing."""

import os
import time
from collections import deque
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from stonekite.desktop.links.posting import Posting
from stonekite.engine.play.listen import Listening
from stonekite.engine.play.smoothing import DEFAULT_SMOOTHING
from stonekite.player import protocol
from stonekite.player.protocol import (
    Event,
    Fault,
    Lost,
    Making,
    OutputIs,
    Overloaded,
    Ready,
    Refused,
    Renew,
    Status,
    Warm,
)
from stonekite.processes.children import Child, Deliver
from stonekite.session.types import MIX, Sound, Source
from stonekite.words import said

BUSY, MINUTE_S = 5, 60.0
"""Players that died so often within a minute, before another one was ready, are started again more slowly."""
SLOW_S = 5.0
SPARE_AFTER_S = 4.0
"""So long after a player is there another one is started, to take its place."""
FROZEN_S = 3.0
"""A player that has not said anything for so long does not move any more."""
FOLLOW_TICKS = 30
"""What a player has carried out shows in its status after so many ticks at the latest: the queue is heard out first."""


class _Process:
    """A player: its process, and the block of memory that it writes its status to. `heard` gets what it says, `over` its
    exit code."""

    def __init__(
        self,
        heard: Callable[["_Process", Event], None],
        over: Callable[["_Process", int], None],
        deliver: Deliver,
    ) -> None:
        self.descriptor = os.memfd_create("stonekite-status")
        os.ftruncate(self.descriptor, Status.SIZE)
        self.shared = Status(self.descriptor)
        self.warm = False
        self.realtime = False
        self.sent = 0
        self.child = Child(
            "stonekite.player.process",
            Event,
            lambda event: heard(self, event),
            lambda code: over(self, code),
            deliver,
            (str(self.descriptor),),
            (self.descriptor,),
        )

    def send(self, command: protocol.Command) -> None:
        """Raises ValueError with a sentence for what cannot be said."""
        self.child.send(command)
        self.sent += 1

    def close(self) -> None:
        self.child.close()
        self.let_go()

    def let_go(self) -> None:
        """Of what a process that has ended leaves."""
        self.child.let_go()
        if self.descriptor >= 0:
            os.close(self.descriptor)
            self.descriptor = -1


def _same(some: tuple[Sound, ...], others: tuple[Sound, ...]) -> bool:
    """Whether they are the same objects: nothing else is as quick to tell, and all that is left alone stays one."""
    return len(some) == len(others) and all(a is b for a, b in zip(some, others, strict=True))


class Transport(QObject):
    """Play, pause, seek, loop and listen. `ticked` comes 30 times a second with the player's status."""

    ticked = Signal()
    output_changed = Signal(str, bool, int)
    ready = Signal()
    failed = Signal(str)
    making = Signal(object)
    """What is compiled for the first time on this machine, as the player says it (protocol.Making)."""
    refused = Signal(int, str)
    """The id of a stage whose settings cannot be computed, and why."""
    overloaded = Signal(object)
    """What takes more than the processor has (protocol.Overloaded)."""

    lost = Signal(str)
    """A file with what was kept cannot be read."""

    def __init__(self, parent: QObject | None = None, interval_ms: int = 33) -> None:
        super().__init__(parent)
        self.status: np.void = protocol.nothing_yet()
        self.listening = Listening()
        self.playing = False
        self.realtime = False
        self._sound: Sound | None = None
        self._places = (MIX, MIX)
        """The ids of the strips that are heard and watched."""
        self._beside: tuple[Sound, ...] = ()
        self._beside_told: tuple[Sound, ...] | None = None
        """What the player knows of it."""
        self.kept_of: Callable[[Sound], tuple[protocol.KeptAs, ...]] = lambda sound: ()
        """What is kept of a sound, and need not be computed."""
        self._kept: tuple[protocol.KeptAs, ...] = ()
        self._referred: tuple[Source | None, int, int] = (None, 0, 0)
        self._loop = (0, 0)
        self._slowed: tuple[float, float] | None = None
        """Where what plays begins in the recording, in seconds, and at which part of its speed it plays."""
        self._watched = protocol.Watch(-1)
        self._metered = protocol.Meter(False)
        self._post = Posting(self)
        self._player: _Process | None = None
        self._spare: _Process | None = None
        self._renewing = self._preparing = False
        self._deaths: deque[float] = deque(maxlen=BUSY)
        self._beat = (-1, 0.0)
        self._timer = QTimer(self)
        self._timer.setInterval(interval_ms)
        self._timer.timeout.connect(self._tick)
        self._again = QTimer(self)
        self._again.setSingleShot(True)
        self._again.timeout.connect(self._begin_again)
        self._expected: tuple[bool, int, int] | None = None
        """Whether it shall play, the number of the command that said so, and for how many ticks that is believed after
        it has been carried out."""

    def start(self) -> None:
        """Start the player process."""
        self._player = self._made()
        self._timer.start()

    def _made(self) -> _Process:
        return _Process(self._hear, self._ended, self._post)

    def close(self) -> None:
        """End the player."""
        self._timer.stop()
        self._again.stop()
        for process in (self._player, self._spare):
            if process is not None:
                process.close()
        self._player = self._spare = None

    @property
    def player_pid(self) -> int:
        return self._player.child.pid if self._player is not None else 0

    def _send(self, command: protocol.Command) -> None:
        if self._player is not None:
            try:
                self._player.send(command)
            except ValueError as error:
                self.failed.emit(str(error))

    def _hear(self, process: _Process, event: Event) -> None:
        if isinstance(event, Warm):
            process.warm, process.realtime = True, event.realtime
            if process is self._player:
                self.realtime = event.realtime
                self._have_spare_later()
        if process is self._spare and self._renewing and process.warm:
            self._renewing = False
            self._promote()
            return
        if process is not self._player:
            return
        if isinstance(event, OutputIs):
            self.output_changed.emit(event.name, event.simulated, event.rate)
        elif isinstance(event, Ready):
            self.ready.emit()
        elif isinstance(event, Renew):
            if self._renewing:
                return  # the fresh one is on its way
            # A spare that was started before the device came back does not know of it.
            self._renewing = True
            if self._spare is not None:
                self._spare.close()
            self._spare = self._made()
        elif isinstance(event, Fault):
            self.playing, self._expected = False, None
            self.failed.emit(event.sentence)
        elif isinstance(event, Making):
            self._preparing = event.seconds > 0.0
            self.making.emit(event)
        elif isinstance(event, Refused):
            self.refused.emit(event.stage, event.sentence)
        elif isinstance(event, Overloaded):
            self.overloaded.emit(event)
        elif isinstance(event, Lost):
            self.lost.emit(event.path)

    def _have_spare_later(self) -> None:
        """Not at once: at first there is enough to do until the first sound."""
        QTimer.singleShot(int(SPARE_AFTER_S * 1000), self, self._have_spare)

    def _have_spare(self) -> None:
        """Another player that is ready to go on if this one dies: to start one takes seconds."""
        if self._preparing:
            self._have_spare_later()
        elif self._spare is None and self._player is not None:
            self._spare = self._made()

    def _ended(self, process: _Process, code: int) -> None:
        """A player died: another one goes on where it was."""
        process.let_go()
        if process is self._spare:
            self._spare = None
            self._renewing = False
            return
        if process is not self._player:
            return
        self._player = None
        now = time.monotonic()
        often = len(self._deaths) == BUSY and now - self._deaths[0] < MINUTE_S
        self._deaths.append(now)
        if often and (self._spare is None or not self._spare.warm):  # they die faster than new ones come
            self.failed.emit(
                said(
                    "The player stopped again and again (code {code}); the next one starts in {slow_s:.0f} seconds. "
                    "If it does not come back, take out the stage that was changed last."
                ).format(code=code, slow_s=SLOW_S)
            )
            self._again.start(int(SLOW_S * 1000))
        else:
            self._begin_again()

    def _begin_again(self) -> None:
        if self._spare is None:
            self._spare = self._made()
        self._promote()

    def _promote(self) -> None:
        """Go on in the spare player, with all that the one before was told."""
        old, self._player = self._player, self._spare
        self._spare = None
        was_playing, frame = self.playing, self.frame
        self._beat = (-1, 0.0)
        # Nothing that the old one said is said by the new one: least of all that it moves.
        self.status["obeyed"] = self.status["beat"] = 0
        if old is not None:
            old.close()
        if self._player is not None and self._player.warm:
            self.realtime = self._player.realtime
            self._have_spare()
        if self._sound is not None:
            beside, loop, sound, heard = self._beside, self._loop, self._sound, self._places
            slowed = self._slowed
            self.load(sound, *heard)
            self.update(sound, *heard, beside)
            self.set_loop(*loop)
            self._slowed = slowed
            self.seek(frame)
            if was_playing:
                self.play()

    def _watch_over(self) -> None:
        """A player that lives but does not move is ended, and another one goes on."""
        beat, now = int(self.status["beat"]), time.monotonic()
        if beat != self._beat[0]:
            self._beat = (beat, now)
        elif beat > 0 and now - self._beat[1] > FROZEN_S and self._player is not None:
            self._beat = (beat, now)
            self._player.child.kill()

    def _tick(self) -> None:
        if self._player is None:
            self.ticked.emit()
            return
        status = self._player.shared.read()
        if int(status["beat"]):  # one that has just been started has nothing to say yet
            self.status = status
        self._watch_over()
        now = bool(self.status["playing"])
        if self._expected is None:
            self.playing = now
        elif int(self.status["obeyed"]) >= self._expected[1]:
            wanted, number, left = self._expected
            self._expected = None if now == wanted or left <= 0 else (wanted, number, left - 1)
        self.ticked.emit()

    @property
    def sound(self) -> Sound | None:
        """What it was told to play."""
        return self._sound

    @property
    def position_s(self) -> float:
        """The place in the recording that is heard now, in seconds."""
        at_s = float(self.status["position"])
        return at_s if self._slowed is None else self._slowed[0] + self._slowed[1] * at_s

    def heard_at(self, moment: float) -> float:
        """The place in seconds that was heard at a moment of time.monotonic(), within the last tenths of a second: what a
        hand does belongs there, and not where the last news of the player was."""
        later = moment - float(self.status["position_at"]) if self.status["playing"] else 0.0
        speed = 1.0 if self._slowed is None else self._slowed[1]
        return max(0.0, self.position_s + speed * min(max(later, -0.5), 0.5))

    @property
    def frame(self) -> int:
        return int(self.position_s * self._sound.stems[0].source.rate) if self._sound is not None else 0

    def load(self, sound: Sound, heard: int, opened: int) -> None:
        """Play other recordings, through the strip of the id `heard`."""
        self._sound, self._places, self._slowed = sound, (heard, opened), None
        self._loop = (0, 0)
        self._beside, self._beside_told = (), None
        self._kept = self.kept_of(sound)
        self._send(protocol.Load(sound, heard, opened, self.listening, self._kept))
        self._expect(False)
        self._send(self._watched)
        if self._metered.on:
            self._send(self._metered)
        if self._referred[0] is not None:
            self._send(protocol.Refer(*self._referred))

    def at_the_same_place(self, load: Callable[[], None]) -> None:
        """Have something else loaded, and go on where it is and as it is."""
        frame, playing = self.frame, self.playing
        load()
        self.seek(frame)
        if playing:
            self.play()

    def slow(self, sound: Sound, start_s: float, speed: float) -> None:
        """Play a recording that was made of a range which begins at a time, slowed down, round and round."""
        stem = sound.stems[0]
        self.load(sound, stem.id, stem.id)
        self.set_loop(0, stem.source.frames)
        self._slowed = start_s, speed

    def slow_on(self, sound: Sound) -> None:
        """Play a longer recording in place of one that `slow` plays, which is its beginning."""
        stem = sound.stems[0]
        slowed, self._slowed = self._slowed, None
        self.set_loop(0, stem.source.frames)
        self.update(sound, stem.id, stem.id)
        self._slowed = slowed

    def update(
        self,
        sound: Sound,
        heard: int,
        opened: int,
        beside: tuple[Sound, ...] = (),
        listening: Listening | None = None,
    ) -> None:
        """Hear other settings, in time with those beside them; with `listening` as another version with its gains."""
        kept = self.kept_of(sound)
        there = (heard, opened) == self._places and sound is self._sound and kept == self._kept
        if not there or not _same(beside, self._beside):
            self._sound, self._places, self._beside = sound, (heard, opened), beside
            if listening is not None:
                self.listening = listening
            known = self._beside_told is not None and _same(beside, self._beside_told)
            self._beside_told = beside
            told = None if kept == self._kept else kept
            self._kept = kept
            self._send(protocol.Update(sound, heard, opened, None if known else beside, listening, told))
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
        self._want(True)

    def pause(self) -> None:
        self._want(False)

    def _want(self, playing: bool) -> None:
        self._send(protocol.Play() if playing else protocol.Pause())
        self._expect(playing)

    def _expect(self, playing: bool) -> None:
        """Believe what the last command asks for until the player has carried it out."""
        number = self._player.sent if self._player is not None else 0
        self.playing, self._expected = playing, (playing, number, FOLLOW_TICKS)

    def seek(self, frame: int) -> None:
        if self._slowed is not None and self._sound is not None:
            stem = self._sound.stems[0]
            inside = (frame - self._slowed[0] * stem.source.rate) / self._slowed[1]
            frame = int(inside) if 0.0 <= inside < stem.source.frames else 0
        self._send(protocol.Seek(frame))

    def set_loop(self, start: int, end: int) -> None:
        """Repeat these frames; equal ends for no loop. What is slowed down goes round as a whole."""
        if self._slowed is not None:
            return
        self._loop = (start, end)
        self._send(protocol.SetLoop(start, end))

    def watch(self, stage: int, parts: int = DEFAULT_SMOOTHING) -> None:
        """Take spectra before and after the stage of this id (-1: at the end of the legs), 1/parts octave wide."""
        self._watched = protocol.Watch(stage, parts)
        self._send(self._watched)

    def meter(self, on: bool) -> None:
        """Have the levels of all strips told, or not."""
        self._metered = protocol.Meter(on)
        self._send(self._metered)

    def disturb(self, what: str, value: float = 0.0, path: str = "") -> None:
        """For tests: see protocol.Disturb."""
        self._send(protocol.Disturb(what, value, path))  # type: ignore[arg-type]
