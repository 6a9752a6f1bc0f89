"""A strip whose settings may change while it plays: every change glides, without clicks.

The new settings start from the old state beside the old ones, and for 20 ms what comes out goes over from one to the
other: within the chain, at the stages that have changed, as long as all stays as late as it was; otherwise, as for
another matrix, both chains play beside each other. Changes that come meanwhile wait for the end of it, and only the
last of them counts.
"""

import contextlib
from functools import partial

import numpy as np

from stonekite.engine.graph.chain import Chain, latency_of
from stonekite.engine.graph.course import Course
from stonekite.engine.graph.fading import ramp
from stonekite.engine.graph.probing import Probe
from stonekite.remembered import Remembered
from stonekite.session.types import Strip
from stonekite.signal.ring import History
from stonekite.stages.planning import CannotBuild

GLIDE_S = 0.02
SWITCH_S = 0.008
"""Going over to another version takes so long."""
MEMORY_S = 3.5
"""So much of what was heard is kept, and more for what is late: settings that are new have to hear it."""
LONGEST_MEMORY_S = 90.0
"""A start in the middle hears so much of what comes before it at the most."""
WARM_BLOCK = 16384


class Prepared:
    """Settings that are ready to be played after others: built, and where something in them does not go on from
    those, having heard what was before. Made beside the playing, taken over by it.
    """

    def __init__(self, strip: Strip, old: Chain, at_least: int) -> None:
        self.chain = Chain(strip, old.rate, at_least, old.course, old, old.keys.rows)
        self.old = old
        self.at_least = at_least
        self._heritage = self.chain.heritage(old)
        self.wanted = self.chain.unknown(self._heritage)
        """Frames of what was heard that it has to hear."""
        self._heard_to: int | None = None
        self._built = (
            self.chain.nodes
        )  # not let go of while it is taken over: that takes as long as all the rest

    def let_go(self) -> None:
        """Forget all of it, when the change is over: away from the playing, which would be held by it."""
        self.__dict__.clear()

    @property
    def same(self) -> bool:
        """Whether it is what plays already."""
        return self.chain.strip == self.old.strip and self.chain.latency == self.old.latency

    def hear(self, history: np.ndarray, clock: int) -> None:
        """Hear the last frames (2, frames) that were played, which end at the clock."""
        start = clock - history.shape[1]
        for k in range(0, history.shape[1], WARM_BLOCK):
            self.chain.process(history[:, k : k + WARM_BLOCK], start + k)
        self._heard_to = clock

    def behind(self, clock: int) -> int:
        """Frames that it has still to hear at a clock."""
        return 0 if self._heard_to is None else clock - self._heard_to

    @property
    def in_place(self) -> bool:
        """Whether the change happens within the chain; otherwise both play beside each other."""
        return self._heritage.fits

    def catch_up(self, history: History, clock: int, length: int) -> None:
        """Be there at the clock, where the playing has gone on since, and take over what goes on; go over in `length`
        frames."""
        if (behind := self.behind(clock)) > 0:
            self.hear(history.last(behind), clock)
        self.chain.take_over(self.old, self._heritage, length)


class StripPlayer:
    """A strip at a rate in Hz, processing blocks and taking new settings between them.

    All settings are at least `at_least` samples late, so that those that are switched between are in time.
    """

    def __init__(self, strip: Strip, rate: float, at_least: int = 0) -> None:
        self.rate = rate
        self.at_least = at_least
        self.course = Course()
        self.key_rows: dict[int, int] = {}
        """Where in what comes in the strips are that detectors hear: see Chain."""
        self._chain = Chain(strip, rate, at_least, self.course, key_rows=self.key_rows)
        self._beside: Chain | None = None
        self._waiting: tuple[Strip, float] | None = None
        self._glided = self._length = max(1, int(GLIDE_S * rate))
        self._history = History(2, int(MEMORY_S * rate) + 2 * self._chain.latency)

    @property
    def latency(self) -> int:
        """Latency of the current settings in samples."""
        return self._chain.latency

    @property
    def tail(self) -> int:
        """Samples for which the current settings sound on after the recording has ended, besides their latency."""
        return self._chain.tail

    @property
    def chain(self) -> Chain:
        return self._chain

    @property
    def gliding(self) -> bool:
        """Whether the last change is still going on."""
        return self._glided < self._length

    @property
    def lead(self) -> int:
        """Samples to be heard before the first one that counts, so that it is as if all had been heard."""
        return min(self._chain.memory, int(LONGEST_MEMORY_S * self.rate))

    def room_for(self, frames: int) -> None:
        """Remember at least so many frames."""
        if frames > self._history.size:
            self._history = self._history.grown(0, frames)

    def heard(self, frames: int) -> np.ndarray:
        """The last frames (2, n) that were played, as many of those asked for as are remembered; a copy."""
        return self._history.last(frames) if frames else np.empty((2, 0))

    def prepare(self, strip: Strip) -> Prepared:
        """Get other settings ready; they still have to hear the frames that they want."""
        return Prepared(strip, self._chain, self.at_least)

    def update(self, strip: Strip, clock: int, glide_s: float = GLIDE_S) -> None:
        """Glide to other settings, over so many seconds, from the next block on, which starts at `clock`."""
        if self.gliding:
            self._waiting = strip, glide_s
            return
        prepared = self.prepare(strip)
        if prepared.wanted:
            self.room_for(2 * prepared.chain.latency)
            prepared.hear(self.heard(prepared.wanted), clock)
        self.take(prepared, clock, glide_s)

    def take(self, prepared: Prepared, clock: int, glide_s: float = GLIDE_S) -> None:
        """Glide to settings that were got ready while these were playing, from the next block on."""
        if prepared.same:
            return
        self._length = max(1, int(glide_s * self.rate))
        prepared.catch_up(self._history, clock, self._length)
        self.room_for(2 * prepared.chain.latency)
        self._beside = None if prepared.in_place else self._chain
        self._chain, self._glided = prepared.chain, 0

    def set(self, strip: Strip) -> None:
        """Take other settings at once, for a new start."""
        self.course.begin()
        self._chain = Chain(strip, self.rate, self.at_least, self.course, key_rows=self.key_rows)
        self._beside = self._waiting = None
        self._glided = self._length
        self._history = History(2, self._history.size)  # there may be other keys than before
        self.room_for(int(MEMORY_S * self.rate) + 2 * self._chain.latency)

    def remember(self, history: np.ndarray) -> None:
        """What was heard before now, (2, frames), where more is known of it than this player was given; not where keys
        are heard, of which no more is known."""
        if self.key_rows:
            return
        self._history.clear()
        self._history.add(history)

    def warm(self, history: np.ndarray, clock: int) -> None:
        """Hear `history` (2, frames), which ends at `clock`, without giving anything."""
        self._add(history)
        if self._chain.transparent:
            return
        start = clock - history.shape[1]
        for k in range(0, history.shape[1], WARM_BLOCK):
            self._chain.process(history[:, k : k + WARM_BLOCK], start + k)

    def reference(self, stereo: np.ndarray, more: int = 0) -> np.ndarray:
        """The unprocessed signal in time with what `process` will give for the same block, or so many frames later.

        Where a change of settings changes the latency, it goes over from one time to the other.
        """
        now = self._late(stereo, self._chain.latency + more)
        if self._beside is None or self._beside.latency == self._chain.latency:
            return now
        rise = np.ones(stereo.shape[1])
        count = min(stereo.shape[1], self._length - self._glided)
        rise[:count] = ramp(count, self._glided, self._length)
        old = self._late(stereo, self._beside.latency + more)
        return old + rise * (now - old)

    def _late(self, stereo: np.ndarray, samples: int) -> np.ndarray:
        stereo = stereo[:2]
        if not samples:
            return stereo
        self.room_for(samples)
        joined = np.concatenate([self._history.last(samples)[:2], stereo], axis=1)
        return joined[:, : stereo.shape[1]]

    def _add(self, block: np.ndarray) -> None:
        """Remember a block, with the keys beside it."""
        if block.shape[0] > self._history.rows:
            self._history = self._history.grown(block.shape[0], 0)
        self._history.add(block)

    def process(self, stereo: np.ndarray, clock: int, probe: Probe | None = None) -> np.ndarray:
        """A block (2, frames) through the strip; the result does not depend on the block size."""
        if not self.gliding:
            out = self._chain.process(stereo, clock, probe)
            self._add(stereo)
            return out
        count = min(stereo.shape[1], self._length - self._glided)
        first = stereo[:, :count]
        old = None if self._beside is None else self._beside.process(first, clock)
        out = self._chain.process(first, clock, probe)
        if old is not None:
            out = old + ramp(count, self._glided, self._length) * (out - old)
        self._add(first)
        self._glided += count
        if self._glided == self._length:
            self._beside = None
            self._chain.settle()
            if self._waiting is not None:
                (strip, glide_s), self._waiting = self._waiting, None
                self.update(strip, clock + count, glide_s)
        if count == stereo.shape[1]:
            return out
        return np.concatenate([out, self.process(stereo[:, count:], clock + count, probe)], axis=1)


_LATE = Remembered()


def latest(strips: tuple[Strip, ...], rate: float) -> int:
    """The latency of the latest of some strips, in samples."""
    late = 0
    for strip in strips:
        with contextlib.suppress(CannotBuild):  # that is said when it is to be heard
            late = max(late, _LATE.of(strip, rate, partial(latency_of, strip, rate)))
    return late


def prepared_beside(strip: Strip, old: Chain, beside: tuple[Strip, ...]) -> Prepared:
    """Settings ready to be played after a chain, in time with those beside them. Raises CannotBuild."""
    return Prepared(strip, old, latest(beside, old.rate))


def having_heard(prepared: Prepared, history: np.ndarray, clock: int) -> Prepared:
    """Settings that have heard what was played last, which ends at the clock."""
    prepared.hear(history, clock)
    return prepared
