"""Playing one stem: a position in its file, a loop, a strip that may change, and what is listened to."""

import time
from concurrent.futures import Future, ThreadPoolExecutor, wait

import numpy as np

from stonekite.engine.graph.chain import latency_of
from stonekite.engine.graph.courtesy import PATIENCE_S, Turns
from stonekite.engine.graph.fading import ramp
from stonekite.engine.graph.probing import Tap
from stonekite.engine.graph.tails import QUIET_DB, frames_of
from stonekite.engine.graph.turned import Turner
from stonekite.engine.play.listen import Listener, Listening
from stonekite.engine.play.live import Live
from stonekite.engine.play.seam import blend_loop_end
from stonekite.engine.play.strip import (
    GLIDE_S,
    MEMORY_S,
    WARM_BLOCK,
    Prepared,
    StripPlayer,
    having_heard,
    latest,
    prepared_beside,
)
from stonekite.files.audio import Blocks
from stonekite.session import tree
from stonekite.session.alone import leaving_out
from stonekite.session.types import Strip
from stonekite.signal.decibels import gain_of
from stonekite.signal.sanity import clean
from stonekite.stages.planning import CannotBuild

SEAM_S = 0.005
"""Starts in the middle, stops, jumps and loop ends are faded over this time."""
CATCH_UP_S, MOST_ROUNDS = 0.011, 24
"""Settings that are this far behind are taken over; after so many rounds, however far behind they are."""
SHORT_STRIP = 12
"""Stages that can catch up within a block."""
QUIET_S = 1.0
"""After the end of the recording playing ends when so long nothing was to be heard of what rings on."""
START_S = 1.0
"""A start beside the playing hears back as far as it can in this time, where that is less than the kinds remember."""


class Playback:
    """Gives sound block by block; from the start of the file exactly what an export gives.

    `live`, if given, hears along for meters and pictures; `watched` is the id of the stage it looks at. With a `helper`
    thread other settings are built and hear what was before beside the playing, and are taken over at the start of a
    block when they are ready; without one they are taken over at once. Starts and jumps hear back beside the playing,
    too: until they have, it is silent.
    """

    def __init__(
        self,
        reader: Blocks,
        strip: Strip,
        listening: Listening | None = None,
        live: Live | None = None,
        helper: ThreadPoolExecutor | None = None,
    ) -> None:
        self.reader = reader
        self.rate = reader.facts.rate
        self.frames = reader.facts.frames
        self.playing = False
        self.position = 0
        self.loop: tuple[int, int] | None = None
        self.watched: int | None = None
        self.held_s = 0.0
        """The longest that going over to other settings has held a block back."""
        self.refused: CannotBuild | None = None
        """Why settings that were wished for are not heard; whoever tells it takes it away."""
        self._strip = strip
        self._beside: tuple[Strip, ...] = ()
        self._player = StripPlayer(Strip(), self.rate)
        self._good = Strip()
        """What was played last that could be built."""
        self._set(strip)
        self._helper = helper
        self._wish: tuple[Strip, tuple[Strip, ...], float] | None = None
        self._coming: Future[Prepared] | None = None
        self._coming_heard = False
        self._taken: Prepared | None = None
        self._late: Prepared | None = None
        self._rounds = 0
        self._starting: Future[None] | None = None
        self._sought = 0
        self._again = False
        self._glide_s = GLIDE_S
        self._listener = Listener(self.rate, listening)
        self._live = live
        self._other: Playback | None = None
        self._clock = 0
        self._turns = Turns()
        self._turner = Turner(self.rate)
        self._turned = listening is not None and listening.turned
        self._seam = max(1, int(SEAM_S * self.rate))
        self._tail = np.zeros((2, 0))
        self._rise = 0
        self._drained = self._quiet = 0
        self._went_round = False
        self._known = 0

    def play(self) -> None:
        if self.playing:
            return
        if self._starting is not None:
            self._again = True
        else:
            if self.position >= self.frames:
                self.position = 0
            self._begin()
        self.playing = True

    def pause(self) -> None:
        if self.playing:
            if self._starting is None:
                self._fade_out()
            self.playing = False

    def stop(self) -> None:
        """End at once, where the recording cannot be read any further."""
        self.playing = False
        self._tail = np.zeros((2, 0))

    def seek(self, frame: int) -> None:
        """Go to a frame, held to the file."""
        if self._starting is not None:
            self._sought, self._again = min(max(0, frame), self.frames - 1), True
            return
        if self.playing:
            self._fade_out()
        self.position = min(max(0, frame), self.frames - 1)
        if self.playing:
            self._begin()

    def update(self, strip: Strip, beside: tuple[Strip, ...] = (), glide_s: float = GLIDE_S) -> None:
        """Glide to other settings from the next block on, or soon after, in time with those `beside` them."""
        self._strip, self._beside = strip, beside
        if not self.playing:
            return
        if self._helper is not None:
            self._wish = strip, beside, glide_s
            return
        try:
            self._player.at_least = latest(beside, self.rate)
            self._recall(2 * max(self._player.at_least, latency_of(strip, self.rate)))
            self._player.update(strip, self._clock, glide_s)
        except CannotBuild as error:
            self.refused = error
        else:
            self._good = strip

    def _follow(self) -> None:
        """Have what was wished for got ready, and go over to it when it is."""
        if self._player.gliding or self._helper is None:
            return
        if self._taken is not None:
            self._helper.submit(self._turns.beside, self._taken.let_go)
            self._taken = None
        if self._coming is None:
            if self._wish is None:
                return
            strip, beside, self._glide_s = self._wish
            self._wish, self._coming_heard, self._rounds = None, False, 0
            self._coming = self._helper.submit(
                self._turns.beside, prepared_beside, strip, self._player.chain, beside
            )
        if not self._coming.done():
            return
        try:
            prepared = self._coming.result()
        except CannotBuild as error:  # what was there before goes on
            self.refused, self._coming = error, None
            return
        if prepared.wanted and not self._coming_heard:
            self._coming_heard = True
            self._recall(2 * prepared.chain.latency)
            history = self._player.heard(prepared.wanted)
            self._coming = self._helper.submit(
                self._turns.beside, having_heard, prepared, history, self._clock
            )
            return
        # What was played meanwhile is heard beside the playing, too, until there is next to nothing left of it.
        behind = prepared.behind(self._clock)
        # A long strip would hold this block back: it is caught up with between blocks.
        most = CATCH_UP_S * self.rate if prepared.chain.size <= SHORT_STRIP else 0
        if behind > most and self._rounds < MOST_ROUNDS:
            self._rounds += 1
            self._late = prepared
            return
        self._coming = None
        self._player.at_least = prepared.at_least
        self._player.take(prepared, self._clock, self._glide_s)
        self._taken = prepared
        self._good = prepared.chain.strip

    def _catch_up(self) -> None:
        """Have what is ready, but late, hear what was played until now, beside the playing until the next block."""
        if self._late is None or self._helper is None:
            return
        prepared, self._late = self._late, None
        heard = self._player.heard(prepared.behind(self._clock))
        self._coming = self._helper.submit(self._turns.beside, having_heard, prepared, heard, self._clock)

    def refer(self, other: "Playback | None") -> None:
        """Have another recording, of the same rate, to listen to in place of this one. If one is heard already, it goes
        over into the new one without a click.
        """
        old, self._other = self._other, other
        if old is None:
            return
        if other is not None and self._listener.refers and old.playing:
            other.play()
            other._rise = 0
            other._tail = old.read(self._seam) * (1.0 - ramp(self._seam, 0, self._seam))
        old.close()

    def _recall(self, frames: int) -> None:
        """Have the player know so much of what came before, read again from the file where it began later."""
        if self._known < frames and self._known < self.position:
            self._known = min(frames, self.position)
            self._player.room_for(self._known)
            self._player.remember(self.reader.read(self.position - self._known, self._known))

    def listen(self, choice: Listening) -> None:
        """Listen to something else from the next block on."""
        self._turned = choice.turned
        self._listener.choose(choice)

    @property
    def heard_position(self) -> int:
        """The source frame that the next output frame belongs to."""
        if self._starting is not None:
            return self._sought
        if not self.playing:
            return self.position
        place = self.position - self._player.latency
        if self._went_round and self.loop is not None and place < self.loop[0] <= self.position:
            start, end = self.loop
            place = end - (start - place) % (end - start)
        return max(0, place)

    def read(self, frames: int) -> np.ndarray:
        """The next block (2, frames) of sound, silent where nothing plays."""
        with self._turns.block():
            return self._read(frames)

    def _read(self, frames: int) -> np.ndarray:
        out = self._produce(frames) if self.playing else np.zeros((2, frames))
        if self._rise < self._seam and self.playing:
            count = min(frames, self._seam - self._rise)
            out[:, :count] *= ramp(count, self._rise, self._seam)
            self._rise += count
        if self._tail.shape[1]:
            count = min(frames, self._tail.shape[1])
            out[:, :count] += self._tail[:, :count]
            self._tail = self._tail[:, count:]
        return out

    @property
    def guarded(self) -> list[int]:
        """The ids of stages that their guards have silenced since playing started."""
        return self._player.chain.guarded if self.playing and self._starting is None else []

    def close(self) -> None:
        """Let go of the file, which a start may still be reading."""
        if self._starting is not None:
            wait([self._starting])
        self.reader.close()

    def _begin(self) -> None:
        """Start at the position: what comes out first belongs to it, however late the strip is."""
        self._wish = self._coming = self._late = None
        self._sought, self._again = self.position, False
        if self._helper is None:
            self._hear_back(self._strip, self._beside)
            self._fade_in()
        else:
            self._starting = self._helper.submit(
                self._turns.beside, self._hear_back, self._strip, self._beside
            )

    def _has_started(self) -> bool:
        """Whether a start has heard back and can be heard; if it goes elsewhere by now, it begins again."""
        if self._starting is None:
            return True
        if not self._starting.done():
            return False
        start, self._starting = self._starting, None
        start.result()
        if self._again:
            self.position = self._sought
            self._begin()
            return False
        self._fade_in()
        return True

    def _fade_in(self) -> None:
        # From the first frame of the file nothing is faded: there is nothing to jump into.
        self._rise = 0 if self._sought else self._seam

    def _set(self, strip: Strip) -> Strip:
        """Have settings for a new start, or in their place what could be built last, or what is left of it without the
        stages that cannot be built; gives what it is."""
        while True:
            try:
                self._player.set(strip)
            except CannotBuild as error:
                if self.refused is None:
                    self.refused = error
                known = {stage.id for _, stage in tree.walk(self._good) if stage.inserted}
                strip = leaving_out(strip, {error.stage}) if error.stage in known or not known else self._good
            else:
                self._good = strip
                return strip

    def without(self, stage: int) -> None:
        """Go on without a stage that failed while it was at work, from where playing is."""
        self._strip = leaving_out(self._strip, {stage})
        self._good = leaving_out(self._good, {stage})
        self._tail = np.zeros((2, 0))
        if self.playing:
            self.position = self.heard_position
            self._begin()

    @property
    def hurried(self) -> bool:
        """Whether what is got ready beside the playing waits for it no longer: where it cannot keep up anyway."""
        return self._turns.patience_s < PATIENCE_S

    @hurried.setter
    def hurried(self, so: bool) -> None:
        self._turns.patience_s = PATIENCE_S / 50.0 if so else PATIENCE_S

    def take_spent_s(self) -> dict[int, float]:
        """What each stage has taken of the processor's time since this was asked last."""
        return self._player.chain.take_spent_s()

    def _hear_back(self, strip: Strip, beside: tuple[Strip, ...]) -> None:
        self._player.at_least = latest(beside, self.rate)
        strip = self._set(strip)
        count = min(self.position, self._player.lead)
        if self._helper is not None and count > 2 * WARM_BLOCK:
            count = min(count, self._affordable(count))
            self._player.set(strip)
        # What comes before that is only remembered, for other settings that may want it soon.
        self._known = max(count, min(self.position, int(MEMORY_S * self.rate)))
        self._player.remember(self.reader.read(self.position - self._known, self._known - count))
        for start in range(self.position - count, self.position, WARM_BLOCK):
            block = self.reader.read(start, min(WARM_BLOCK, self.position - start))
            self._player.warm(block, start + block.shape[1])
        self._clock = self.position
        self._drained = self._quiet = 0
        self._went_round = False
        if self._player.latency:
            ahead = self._source(self._player.latency)
            self._clock += ahead.shape[1]
            self._player.warm(ahead, self._clock)

    def _affordable(self, count: int) -> int:
        """How many frames can be heard in START_S, by the time that one block takes."""
        start = self.position - count
        block = self.reader.read(start, WARM_BLOCK)
        begin = time.perf_counter()
        self._player.warm(block, start + block.shape[1])
        return int(START_S / (time.perf_counter() - begin) + 1) * WARM_BLOCK

    def _fade_out(self) -> None:
        place = self.heard_position
        fall = 1.0 - ramp(self._seam, 0, self._seam)
        tail = self._produce(self._seam) * fall
        tail[:, : self._tail.shape[1]] += self._tail[:, : self._seam]
        self._tail = tail
        self.position = place

    def _produce(self, frames: int) -> np.ndarray:
        if not self._has_started():
            return np.zeros((2, frames))
        begin = time.perf_counter()
        self._follow()
        self.held_s = max(self.held_s, time.perf_counter() - begin)
        source = clean(self._source(frames))
        unprocessed = self._player.reference(source)
        if self._turned:
            self._turner.want(self._strip, self._player.latency, self._helper)
            unprocessed = self._turner.process(source, self._clock, unprocessed)
        tap = Tap(self.watched if self.watched is not None else -1) if self._live is not None else None
        processed = self._player.process(source, self._clock, tap)
        self._clock += frames
        self._known += frames
        self._catch_up()
        quiet = np.abs(processed).max(initial=0.0) < gain_of(QUIET_DB)
        self._quiet = self._quiet + frames if quiet else 0
        other = None
        if self._other is not None and self._listener.refers:
            self._other.play()
            other = self._other.read(frames)
        if self._live is not None and tap is not None:
            before, after = tap.take()
            self._live.hear(processed if other is None else other, unprocessed, before, after)
            self._live.limit(self._player.chain.ceiling_db)
            if self.watched is not None:
                self._live.reduce(before, np.zeros(2) if tap.node is None else tap.node.reduction_db)
                self._live.noise = None if tap.node is None else tap.node.noise_now(self.rate)
                if tap.node is not None:
                    self._live.worked_db = tap.node.worked_db
                self._live.follows = np.zeros(2) if tap.node is None else tap.node.follows
                if tap.node is not None and (bands := tap.node.bands_now) is not None:
                    self._live.move_bands(*bands)
        return self._listener.process(processed, unprocessed, other)

    @property
    def _faded(self) -> bool:
        """Whether nothing rings on any more that would be heard."""
        rings = frames_of(None, self._player.tail, self.rate)
        return self._drained > self._player.latency + rings or self._quiet > int(QUIET_S * self.rate)

    def _source(self, frames: int) -> np.ndarray:
        """The next frames of the file, going round in the loop, with silence after the end."""
        out = np.zeros((2, frames))
        filled = 0
        while filled < frames:
            end = self.frames
            looping = self.loop is not None and self.position < self.loop[1]
            if looping:
                end = min(end, self.loop[1])  # type: ignore[index]
            count = min(frames - filled, end - self.position)
            if count > 0:
                block = self.reader.read(self.position, count)
                if looping:
                    blend_loop_end(block, self.position, self.loop, self._seam, self.reader)  # type: ignore[arg-type]
                out[:, filled : filled + block.shape[1]] = block
                if block.shape[1] < count:  # the file is shorter than its header says
                    self.frames = self.position + block.shape[1]
                self.position += block.shape[1]
                filled += block.shape[1]
            if looping and self.position >= end:
                self.position = self.loop[0]  # type: ignore[index]
                self._player.course.jump(self._clock + filled, self.position)
                self._went_round = True
            elif self.position >= self.frames:
                self._drained += frames - filled
                if self._drained > self._player.latency and self._faded:
                    self.playing = False
                break
        return out
