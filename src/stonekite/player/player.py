"""The player: renders sound and feeds the output, as commands tell it."""

import os
import threading
import time
from collections import deque
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from stonekite.engine.graph.courtesy import Turns
from stonekite.engine.mix.layout import Beside, Layout, laid_out, least
from stonekite.engine.mix.strip import GLIDE_S, SWITCH_S
from stonekite.engine.offline.made import feeds
from stonekite.engine.offline.render import open_source
from stonekite.engine.play.listen import Listening
from stonekite.engine.play.live import Live
from stonekite.engine.play.playback import Playback
from stonekite.files.audio import AudioError
from stonekite.files.resampled import at_rate
from stonekite.player import protocol
from stonekite.player.figures import figures_of
from stonekite.player.kept_results import KeptResults
from stonekite.player.kernels import Kernels
from stonekite.player.load_watch import LoadWatch
from stonekite.player.outlet import Outlet
from stonekite.player.protocol import (
    Command,
    Fault,
    Lost,
    Making,
    Ready,
    Refused,
    Status,
)
from stonekite.player.succession import Build, Succession
from stonekite.session import tree
from stonekite.session.mix import places
from stonekite.session.tree import sharing_sound
from stonekite.session.types import MIX, Sound, Strip
from stonekite.stages.planning import CannotBuild

BLOCK, LONG_BLOCK, MANY_STRIPS = 512, 1024, 6
"""Frames that are made at once; and of so many strips, each of which costs a little however short a block is."""
LOOK_S = 1 / 30
START_WAIT_S = 5.0
"""So long a start waits for kernels that its stages need; then it begins without those stages."""
AHEAD_FRAMES = 32768
"""Fetched from the file at once."""


class Player:
    """Carries out commands and keeps the output filled."""

    def __init__(self, status: Status, send) -> None:
        self._status = status
        self._send = send
        self._playback: Playback | None = None
        self._live: Live | None = None
        self._outlet = Outlet(send, self._begin_anew)
        self._beat = 0
        self._places: deque[tuple[int, int, bool]] = deque()
        self._written = 0
        self._busy = self._load = self._told_at = 0.0
        self._updates = 0
        self._obeyed = 0
        self._helper = ThreadPoolExecutor(1, thread_name_prefix="settings", initializer=_behind_the_window)
        self._kernels = Kernels(self._helper)
        self._kept = KeptResults()
        self._next: Succession | None = None
        """What follows what plays."""
        self._sound: Sound | None = None
        self._beside: tuple[Sound, ...] = ()
        self._heard = MIX, MIX
        """The ids of the strips that are heard and watched."""
        self._listening = Listening()
        self._metered = False
        self._block = BLOCK
        self._feeds: tuple[object, ...] = ()
        self._held: float | None = None
        """Since when a start waits for kernels."""
        self._told: tuple[tuple[str, ...], bool, bool] = ((), False, False)
        self._told_at = 0.0
        self._load_watch = LoadWatch(send)
        self._looked = time.monotonic()

    def load_what_is_there(self) -> None:
        """Load the kernels that are compiled already, so that the first sound does not wait for them."""
        self._kernels.load_what_is_there()

    @property
    def busy(self) -> bool:
        """Whether there is something to play."""
        return self._playback is not None

    def obey(self, command: Command) -> None:
        """Carry out one command. A recording that turns out to be damaged is said; playing stops, the player does not."""
        try:
            self._obey(command)
        except AudioError as error:
            self._stop(error)
        self._obeyed += 1

    def _stop(self, error: AudioError) -> None:
        self._send(Fault(str(error)))
        if self._playback is not None:
            self._playback.stop()

    def _obey(self, command: Command) -> None:
        playback = self._playback
        if isinstance(command, protocol.Load):
            self._load_source(command)
        elif isinstance(command, protocol.Disturb):
            if protocol.TESTING in os.environ:
                self._outlet.disturb(command, self._rate())
        elif playback is None:
            return
        elif isinstance(command, protocol.Update):
            if command.listening is not None:
                self._hear_out(command.listening)
            # What is equal is the same again: nothing of it is planned or designed anew.
            self._sound = sharing_sound(command.sound, self._sound or command.sound)
            if command.beside is not None:
                self._beside = command.beside
            self._heard = command.heard, command.opened
            if command.kept is not None:
                self._kept.take(command.kept)
            self._kernels.want(self._sound, self._beside)
            self._follow(GLIDE_S if command.listening is None else SWITCH_S)
            self._updates += 1
        elif self._next is not None and isinstance(command, protocol.Pause | protocol.Seek):
            self._replace_at_once(self._builder())
            self._obey(command)
        elif isinstance(command, protocol.Refer):
            self._refer(command, playback)
        elif isinstance(command, protocol.Listen):
            self._hear_out(command.listening)
        elif isinstance(command, protocol.Play):
            self._held = time.monotonic()
            self._start()
        elif isinstance(command, protocol.Pause):
            self._held = None
            playback.pause()
        elif isinstance(command, protocol.Seek):
            playback.seek(command.frame)
        elif isinstance(command, protocol.SetLoop):
            playback.loop = (command.start, command.end) if command.end > command.start else None
            if self._next is not None:
                self._replace()
        elif isinstance(command, protocol.Meter):
            self._metered = command.on
            playback.meter(command.on)
        elif isinstance(command, protocol.Watch):
            playback.watched = command.stage
            if self._live is not None:
                self._live.smooth(command.parts)

    def _hear_out(self, listening: Listening) -> None:
        self._listening = listening
        if self._playback is not None:
            self._playback.listen(listening)

    def _follow(self, glide_s: float) -> None:
        """Play the settings that were wished for last, as far as what they need is there."""
        if self._playback is None or self._sound is None:
            return
        layout, beside = self._layout()
        following = self._playback.fits(layout) if self._next is None else self._next.layout.fits(layout)
        if self._feeds != places.feeding(self._sound) or not following:
            self._replace()
        elif self._next is None:
            self._playback.update(layout, beside, glide_s)
            self._playback.hear(*self._heard)

    def _layout(self) -> tuple[Layout, Beside]:
        """What is to be played, as far as it can be by now, with what is kept in place of what nobody looks into; and
        what it has to be in time with."""
        assert self._sound is not None
        layout = laid_out(tree.with_strips(self._sound, self._kernels.able))
        return self._kept.instead(layout, least(self._beside), set(self._heard))

    def _strip_peaks(self, playback: Playback) -> np.ndarray:
        """The levels of all strips, in the order of the sound."""
        table = np.zeros((protocol.STRIPS, 4), dtype=np.float32)
        if self._metered and self._sound is not None:
            peaks = playback.take_peaks()
            for row, (_, one) in enumerate(tree.holders(self._sound)):
                table[row] = peaks.get(tree.number_of(one), 0.0)
        return table

    def _replace(self) -> None:
        """Play other recordings, or strips joined otherwise: from a place on that what plays comes to soon."""
        assert self._playback is not None and self._sound is not None
        self._drop_next()
        build = self._builder()
        same_rate = places.timeline(self._sound)[0] == self._playback.rate
        if self._playback.playing and self._playback.ready and same_rate:
            layout, _ = self._layout()
            self._next = Succession(self._playback, layout, build, self._written, self._helper)
        else:
            self._replace_at_once(build)

    def _drop_next(self) -> None:
        if self._next is not None:
            self._next.drop()
            self._next = None

    def _replace_at_once(self, build: Build) -> None:
        old = self._playback
        assert old is not None
        self._drop_next()
        place_s, playing, loop, watched = old.heard_position / old.rate, old.playing, old.loop, old.watched
        old.close()
        self._playback = made = self._opened(build)
        if made is None:
            return
        scale = made.rate / old.rate
        made.loop = None if loop is None else (int(loop[0] * scale), int(loop[1] * scale))
        made.watched = watched
        made.seek(int(place_s * made.rate))
        if playing:
            made.play()

    def _go_over(self) -> None:
        """Go over to what follows, if it can from here."""
        assert self._next is not None and self._playback is not None
        try:
            made = self._next.take(self._written)
        except AudioError as error:
            self._stop(error)
            self._playback.close()
            self._playback = self._next = None
            return
        if made is not None:
            self._playback.close()
            self._playback, self._next = made, None
            made.meter(self._metered)
            self._follow(GLIDE_S)
        elif not self._playback.playing:
            self._replace_at_once(self._builder())

    def _start(self) -> None:
        """Begin to play, if nothing has to be waited for any more."""
        if self._held is None or self._playback is None:
            return
        late = time.monotonic() - self._held > START_WAIT_S
        if self._kernels.complete or (late and self._kernels.ends_there):
            self._held = None
            self._playback.play()

    def _compile(self, now: float) -> None:
        """Hear of kernels that are there now, and say which are still to come."""
        if self._kernels.step():
            self._follow(GLIDE_S)
        self._start()
        labels, seconds = self._kernels.coming
        told = labels, seconds > 0.0, seconds > 0.0 and self._held is not None
        if told != self._told or (seconds and now - self._told_at >= 1.0):
            self._told, self._told_at = told, now
            self._send(Making(labels, seconds, told[2]))

    def _load_source(self, command: protocol.Load) -> None:
        self._drop_next()
        if self._playback is not None:
            self._playback.close()
            self._playback = None
        self._sound, self._beside, self._held = command.sound, (), None
        self._heard, self._listening = (command.heard, command.opened), command.listening
        self._kept.take(command.kept)
        self._kernels.want(self._sound, self._beside)
        self._playback = self._opened(self._builder())
        if self._playback is None:
            return
        rate = self._playback.rate
        self._places.clear()
        self._outlet.open(rate)
        self._send(Ready())

    def _builder(self) -> Build:
        """What makes the sound of now ready to be played. Raises AudioError where a recording cannot be."""
        assert self._sound is not None
        sound, heard, listening, metered = self._sound, self._heard, self._listening, self._metered
        layout, beside = self._layout()
        self._feeds = places.feeding(sound)
        strips = len(sound.stems) + len(sound.buses)
        self._block = LONG_BLOCK if strips > MANY_STRIPS else BLOCK

        def build(turns: Turns | None) -> Playback:
            reader = feeds(sound, open_source, AHEAD_FRAMES)
            made = Playback(reader, layout, listening, None, self._helper, turns)
            made.update(layout, beside)
            made.hear(*heard)
            made.meter(metered)
            return made

        return build

    def _opened(self, build: Build) -> Playback | None:
        """The sound of now, ready to be played; None where a recording cannot be."""
        try:
            made = build(None)
        except AudioError as error:
            self._send(Fault(str(error)))
            return None
        made.live = self._live = Live(made.rate)
        return made

    def _refer(self, command: protocol.Refer, playback: Playback) -> None:
        if command.source is None:
            playback.refer(None)
            return
        try:
            reader = at_rate(open_source(command.source, AHEAD_FRAMES), playback.rate)
        except AudioError as error:
            self._send(Fault(str(error)))
            return
        other = Playback(reader, Strip())
        scale = playback.rate / command.source.rate
        span = int(command.start * scale), int(command.end * scale)
        other.loop = span if span[1] > span[0] else (0, other.frames)
        other.position = other.loop[0]
        playback.refer(other)

    def _begin_anew(self) -> None:
        """Another output: nothing has been written to it."""
        self._written = 0
        self._places.clear()

    def _rate(self) -> int:
        return self._playback.rate if self._playback is not None else 48_000

    def step(self) -> bool:
        """Fill the output as far as there is room and publish figures; False if there was nothing to do."""
        now = time.monotonic()
        worked = False
        self._outlet.check(now, self._rate())
        self._compile(now)
        if self._playback is not None:
            # A strip that takes longer than it lasts must not keep all else from being done.
            until = now + LOOK_S
            while self._outlet.output.room() >= self._block and time.monotonic() < until:
                self._make_block()
                worked = True
            if self._playback is not None and (refused := self._playback.take_refused()) is not None:
                self._send(Refused(refused.stage, str(refused)))
            for path in self._kept.take_lost():
                self._send(Lost(path))
                self._follow(GLIDE_S)
        if now - self._looked >= LOOK_S:
            self._publish(now)
            self._load_watch.look(now, self._playback)
        return worked and not self._load_watch.over

    def _make_block(self) -> None:
        """Give the output the next block; silence where there is none."""
        frames = self._block
        if self._next is not None:
            self._go_over()
            frames = self._next.until(self._written, frames) if self._next is not None else frames
        playback, begin = self._playback, time.perf_counter()
        block = np.zeros((2, frames))
        if playback is not None:
            self._places.append((self._written, playback.heard_position, playback.playing))
            try:
                block = playback.read(frames)
            except AudioError as error:
                self._stop(error)
            except CannotBuild as error:
                playback.without(error.stage)
                self._send(Refused(error.stage, str(error)))
            took = time.perf_counter() - begin
            self._busy += took
            self._load_watch.took(took, frames / playback.rate)
        self._outlet.output.write(block)
        self._outlet.output.starving = playback is not None and playback.playing
        self._written += frames

    def _publish(self, now: float) -> None:
        elapsed, self._looked = now - self._looked, now
        self._load += 0.2 * (self._busy / elapsed - self._load)
        self._busy = 0.0
        playback, live = self._playback, self._live
        self._beat += 1
        if playback is None or live is None:
            self._status.write(beat=self._beat, obeyed=self._obeyed)
            return
        queued, at = self._outlet.output.queued(), time.monotonic()
        heard = self._written - queued
        while len(self._places) > 1 and self._places[1][0] <= heard:
            self._places.popleft()
        position, playing = playback.heard_position, playback.playing
        if self._places:
            written, place, was_playing = self._places[0]
            playing = was_playing or playback.playing
            position = place + (max(0, heard - written) if was_playing else 0)
        self._status.write(
            beat=self._beat,
            obeyed=self._obeyed,
            guarded=next(iter(playback.guarded), 0),
            playing=int(playing or self._held is not None),
            underruns=self._outlet.output.underruns,
            position=min(position, playback.frames) / playback.rate,
            position_at=at,
            queued_s=queued / playback.rate,
            ahead_s=self._outlet.output.ahead_s,
            load=self._load,
            updates=self._updates,
            held_s=playback.held_s,
            strips=self._strip_peaks(playback),
            **figures_of(live, playback.playing),
        )


def _behind_the_window() -> None:
    """Building settings takes no time from showing them, should both be on one core."""
    os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 5)
