"""Playing: a position in the recordings, a loop, strips that may change, and what is listened to."""

import time
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np

from stonekite.engine.graph.courtesy import PATIENCE_S, Turns
from stonekite.engine.graph.fading import ramp
from stonekite.engine.graph.probing import Tap
from stonekite.engine.graph.tails import QUIET_DB, frames_of
from stonekite.engine.graph.turned import Turner
from stonekite.engine.mix.layout import Beside, Layout, alone
from stonekite.engine.mix.mixer import Mixer
from stonekite.engine.mix.strip import GLIDE_S, MEMORY_S, WARM_BLOCK
from stonekite.engine.play.listen import Listener, Listening
from stonekite.engine.play.live import Live
from stonekite.engine.play.seam import blend_loop_end
from stonekite.files.audio import Blocks
from stonekite.session.types import Strip
from stonekite.signal.decibels import gain_of
from stonekite.signal.sanity import clean
from stonekite.stages.planning import CannotBuild

SEAM_S = 0.005
"""Starts in the middle, stops, jumps and loop ends are faded over this time."""
QUIET_S = 1.0
"""After the end of the recording playing ends when so long nothing was to be heard of what rings on."""
START_S = 1.0
"""A start beside the playing hears back as far as it can in this time, where that is less than the kinds remember."""


def _layout_of(wanted: Layout | Strip) -> Layout:
    return alone(wanted) if isinstance(wanted, Strip) else wanted


def _whole(part: np.ndarray, frames: int) -> np.ndarray:
    """What was seen of a block: silence where a strip had not begun, or is not there."""
    missing = frames - part.shape[1]
    return np.concatenate([np.zeros((2, missing)), part], axis=1) if missing > 0 else part


class Playback:
    """Gives sound block by block; from the start of the file exactly what an export gives.

    It plays the strips of a layout, or a single one, from a reader with two rows for each stem. `live`, if given, hears
    along for meters and pictures; `watched` is the id of the stage it looks at. With a `helper` thread other settings are
    built and hear what was before beside the playing, and are taken over at the start of a block when they are ready;
    without one they are taken over at once. Starts and jumps hear back beside the playing, too: until they have, it is
    silent.
    """

    def __init__(
        self,
        reader: Blocks,
        wanted: Layout | Strip,
        listening: Listening | None = None,
        live: Live | None = None,
        helper: ThreadPoolExecutor | None = None,
        turns: Turns | None = None,
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
        self.open: int | None = None
        """The strip whose stage is watched; None for the one that is heard."""
        self._layout, self._beside = _layout_of(wanted), Beside()
        self._begun_with = self._layout, self._beside
        self._helper = helper
        self.turns = turns or Turns()
        """With what makes blocks: work beside it steps aside. It can be another playback's that plays until this one."""
        self._mixer = Mixer(self._layout, self.rate, None, helper, self.turns, self._recall)
        self._heard = self._layout.last
        self._starting: Future[None] | None = None
        self._sought = 0
        self._again = False
        self._glide_s = GLIDE_S
        self._listener = Listener(self.rate, listening)
        self.live = live
        self._other: Playback | None = None
        self._clock = 0
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

    def update(
        self,
        wanted: Layout | Strip,
        beside: Beside | None = None,
        glide_s: float = GLIDE_S,
    ) -> None:
        """Glide to other settings from the next block on, or soon after, in time with those `beside` them. A layout has
        to fit the one of now."""
        self._layout, self._beside = _layout_of(wanted), beside or {}
        if self._starting is not None:
            self._glide_s = glide_s  # it is taken up when the start is over
        elif not self.playing:
            self._mixer.want(self._layout, self._beside)
        else:
            self._mixer.update(self._layout, self._beside, self._clock, glide_s)

    def meter(self, on: bool) -> None:
        """Keep the peaks of all strips, or do not."""
        self._mixer.metered = on

    def take_peaks(self) -> dict[int, np.ndarray]:
        """The greatest samples (4,) of each strip since this was asked last: before it and behind it."""
        return self._mixer.take_peaks()

    def fits(self, layout: Layout) -> bool:
        """Whether what plays can go over to a layout."""
        return self._layout.fits(layout)

    def hear(self, number: int, opened: int | None = None) -> None:
        """Have the strip of that id come out from the next block on, and look into one that is open."""
        self._heard, self.open = number, opened
        if self._starting is None:
            self._mixer.hear(number)

    def take_refused(self) -> CannotBuild | None:
        """Why settings that were wished for are not heard, once."""
        return self._mixer.take_refused()

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
        """Have stems know so much of what came before, read again from their files where they began later."""
        if self._known < frames and self._known < self.position:
            self._known = min(frames, self.position)
            self._mixer.remember(self.reader.read(self.position - self._known, self._known))

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
        place = self.position - self._mixer.latency
        if self._went_round and self.loop is not None and place < self.loop[0] <= self.position:
            start, end = self.loop
            place = end - (start - place) % (end - start)
        return max(0, place)

    @property
    def ready(self) -> bool:
        """Whether a start has heard back, so that the next block is heard. One that is to begin elsewhere by now begins
        again."""
        if self._starting is not None and self._starting.done() and self._again:
            return self._has_started()
        return self._starting is None or self._starting.done()

    def place_in(self, frames: int) -> int:
        """The source frame that comes out after so many more frames, in the loop of now."""
        here = self.heard_position
        if self.loop is not None and here < self.loop[1] <= here + frames:
            start, end = self.loop
            return start + (here + frames - end) % (end - start)
        return here + frames

    def follow_on(self, old: "Playback") -> None:
        """Go on where another one of the same rate stops, faded from one into the other; listened to and watched as that
        one was."""
        old.pause()
        self._tail = old._tail
        self._listener, self._turned, self.watched = old._listener, old._turned, old.watched
        self._other, old._other = old._other, None
        self.live, old.live = old.live, None

    def read(self, frames: int) -> np.ndarray:
        """The next block (2, frames) of sound, silent where nothing plays."""
        with self.turns.block():
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
        return self._mixer.guarded if self.playing and self._starting is None else []

    def close(self) -> None:
        """Let go of the files. A start that may still be reading them ends soon, and is not waited for."""
        self._again = True
        if self._starting is not None and self._helper is not None:
            self._helper.submit(self.reader.close)
        else:
            self.reader.close()

    def _begin(self) -> None:
        """Start at the position: what comes out first belongs to it, however late the strip is."""
        self._mixer.want(self._layout, self._beside)
        self._mixer.hear(self._heard)
        self._begun_with = self._layout, self._beside
        self._sought, self._again = self.position, False
        if self._helper is None:
            self._hear_back()
            self._fade_in()
        else:
            self._starting = self._helper.submit(self.turns.beside, self._hear_back)

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
        if self._begun_with[0] is not self._layout or self._begun_with[1] is not self._beside:
            self._mixer.update(self._layout, self._beside, self._clock, self._glide_s)
        self._mixer.hear(self._heard)
        self._fade_in()
        return True

    def _fade_in(self) -> None:
        # From the first frame of the file nothing is faded: there is nothing to jump into.
        self._rise = 0 if self._sought else self._seam
        self._listener.arrive()

    def without(self, stage: int) -> None:
        """Go on without a stage that failed while it was at work, from where playing is."""
        self._mixer.without(stage)
        self._layout = self._mixer.layout
        self._tail = np.zeros((2, 0))
        if self.playing:
            self.position = self.heard_position
            self._begin()

    @property
    def hurried(self) -> bool:
        """Whether what is got ready beside the playing waits for it no longer: where it cannot keep up anyway."""
        return self.turns.patience_s < PATIENCE_S

    @hurried.setter
    def hurried(self, so: bool) -> None:
        self.turns.patience_s = PATIENCE_S / 50.0 if so else PATIENCE_S

    def take_spent_s(self) -> dict[int, float]:
        """What each stage has taken of the processor's time since this was asked last."""
        return self._mixer.take_spent_s()

    def _hear_back(self) -> None:
        mixer = self._mixer
        mixer.begin()
        count = min(self.position, mixer.lead)
        if self._helper is not None and count > 2 * WARM_BLOCK:
            count = min(count, self._affordable(count))
            mixer.begin()
        # What comes before that is only remembered, for other settings that may want it soon.
        self._known = max(count, min(self.position, int(MEMORY_S * self.rate)))
        mixer.remember(self.reader.read(self.position - self._known, self._known - count))
        for start in range(self.position - count, self.position, WARM_BLOCK):
            if self._again:  # it goes elsewhere by now, or nowhere
                return
            block = self.reader.read(start, min(WARM_BLOCK, self.position - start))
            mixer.warm(block, start + block.shape[1])
        self._clock = self.position
        self._drained = self._quiet = 0
        self._went_round = False
        if mixer.latency:
            ahead = self._source(mixer.latency)
            self._clock += ahead.shape[1]
            mixer.warm(ahead, self._clock)

    def _affordable(self, count: int) -> int:
        """How many frames can be heard in START_S, by the time that one block takes."""
        start = self.position - count
        begin = time.perf_counter()
        block = self.reader.read(start, WARM_BLOCK)
        self._mixer.warm(block, start + block.shape[1])
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
        mixer = self._mixer
        begin = time.perf_counter()
        mixer.follow(self._clock)
        self.held_s = max(self.held_s, time.perf_counter() - begin)
        source = clean(self._source(frames))
        tap = Tap(self.watched if self.watched is not None else -1) if self.live is not None else None
        processed, unprocessed = mixer.process(source, self._clock, tap, self.open)
        if self._turned:
            self._turner.want(mixer.layout.strips[mixer.heard], mixer.heard_latency, self._helper)
            unprocessed = self._turner.process(
                mixer.heard_input, mixer.clock_of_heard(self._clock), unprocessed
            )
        self._clock += frames
        self._known += frames
        mixer.catch_up(self._clock)
        quiet = np.abs(processed).max(initial=0.0) < gain_of(QUIET_DB)
        self._quiet = self._quiet + frames if quiet else 0
        other = None
        if self._other is not None and self._listener.refers:
            self._other.play()
            other = self._other.read(frames)
        if self.live is not None and tap is not None:
            heard = _whole(np.concatenate([np.empty((2, 0)), *tap.heard], axis=1), frames)
            _, after = (_whole(part, frames) for part in tap.take())
            self.live.hear(processed if other is None else other, unprocessed, heard, after)
            self.live.limit(mixer.ceiling_db)
            if self.watched is not None:
                self.live.reduce(heard, np.zeros(2) if tap.node is None else tap.node.reduction_db)
                self.live.noise = None if tap.node is None else tap.node.noise_now(self.rate)
                if tap.node is not None:
                    self.live.worked_db = tap.node.worked_db
                self.live.follows = np.zeros(2) if tap.node is None else tap.node.follows
                if tap.node is not None and (bands := tap.node.bands_now) is not None:
                    self.live.move_bands(*bands)
        return self._listener.process(processed, unprocessed, other)

    @property
    def _faded(self) -> bool:
        """Whether nothing rings on any more that would be heard."""
        rings = frames_of(None, self._mixer.tail, self.rate)
        return self._drained > self._mixer.latency + rings or self._quiet > int(QUIET_S * self.rate)

    def _source(self, frames: int) -> np.ndarray:
        """The next frames of the file, going round in the loop, with silence after the end."""
        out = np.zeros((self.reader.rows, frames))
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
                self._mixer.jump(self._clock + filled, self.position)
                self._went_round = True
            elif self.position >= self.frames:
                self._drained += frames - filled
                if self._drained > self._mixer.latency and self._faded:
                    self.playing = False
                break
        return out
