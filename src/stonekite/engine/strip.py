"""A strip whose settings may change while it plays: every change glides, without clicks.

There is one way for every change, from a moved slider to another matrix: the new settings start from the
old state beside the old ones, and for 20 ms the output goes over from one to the other. Changes that come
meanwhile wait for the end of it, and only the last of them counts.
"""

import numpy as np

from stonekite.engine.chain import Chain, Tap
from stonekite.session.types import Strip
from stonekite.signal.ring import Ring

GLIDE_S = 0.02
SWITCH_S = 0.008
"""Going over to another version takes so long."""
WARM_S = 0.25
"""So much sound, and as much again as the latency, brings filters into the middle of what plays."""
MEMORY_S = 3.5
"""At least so much of what was heard is kept, for a change to settings that are later than those before."""


def ramp(frames: int, start: int, length: int) -> np.ndarray:
    """Part of a raised-cosine rise from 0 to 1 over `length` samples: `frames` of it from `start` on."""
    return 0.5 - 0.5 * np.cos(np.pi * (np.arange(start, start + frames) + 1) / length)


class StripPlayer:
    """A strip at a rate in Hz, processing blocks and taking new settings between them.

    All settings are at least `at_least` samples late, so that those that are switched between are in time.
    """

    def __init__(self, strip: Strip, rate: float, at_least: int = 0) -> None:
        self.rate = rate
        self.at_least = at_least
        self._chain = Chain(strip, rate, at_least)
        self._old: Chain | None = None
        self._waiting: tuple[Strip, float] | None = None
        self._glided = 0
        self._length = max(1, int(GLIDE_S * rate))
        self._history = Ring(2, max(int(MEMORY_S * rate), self.lead))

    @property
    def latency(self) -> int:
        """Latency of the current settings in samples."""
        return self._chain.latency

    @property
    def chain(self) -> Chain:
        return self._chain

    @property
    def lead(self) -> int:
        """Samples to be heard before the first one that counts."""
        return self.lead_for(self._chain.latency)

    def lead_for(self, latency: int) -> int:
        """Samples to be heard before the first one that counts, for settings of some latency."""
        return int(WARM_S * self.rate) + 2 * latency

    def _make_room(self, chain: Chain) -> None:
        """Remember as much as a chain needs."""
        if self.lead_for(chain.latency) > self._history.size:
            longer = Ring(2, self.lead_for(chain.latency))
            longer.add(self._history.last)
            self._history = longer

    def update(self, strip: Strip, position: int, glide_s: float = GLIDE_S) -> None:
        """Glide to other settings, over so many seconds, from the next block on, which starts at `position`."""
        if self._old is not None:
            self._waiting = strip, glide_s
            return
        fresh = Chain(strip, self.rate, self.at_least)
        if strip == self._chain.strip and fresh.latency == self._chain.latency:
            return
        self._length = max(1, int(glide_s * self.rate))
        self._make_room(fresh)
        fresh.continue_from(self._chain, self._history.last[:, -self.lead_for(fresh.latency) :], position)
        self._old, self._chain, self._glided = self._chain, fresh, 0

    def set(self, strip: Strip) -> None:
        """Take other settings at once, for a new start."""
        self._chain = Chain(strip, self.rate, self.at_least)
        self._old = self._waiting = None
        self._history.clear()
        self._make_room(self._chain)

    def remember(self, history: np.ndarray) -> None:
        """What was heard before now, (2, frames), where more is known of it than this player was given."""
        self._history.clear()
        self._history.add(history)

    def warm(self, history: np.ndarray, position: int) -> None:
        """Hear `history` (2, frames), which ends at `position`, without giving anything."""
        self._history.add(history)
        recent = history[:, -self.lead :]
        if recent.shape[1] and not self._chain.transparent:
            self._chain.process(recent, position - recent.shape[1])

    def reference(self, stereo: np.ndarray) -> np.ndarray:
        """The unprocessed signal in time with what `process` will give for the same block.

        Where a change of settings changes the latency, it goes over from one time to the other.
        """
        now = self._late(stereo, self._chain.latency)
        if self._old is None or self._old.latency == self._chain.latency:
            return now
        rise = np.ones(stereo.shape[1])
        count = min(stereo.shape[1], self._length - self._glided)
        rise[:count] = ramp(count, self._glided, self._length)
        old = self._late(stereo, self._old.latency)
        return old + rise * (now - old)

    def _late(self, stereo: np.ndarray, samples: int) -> np.ndarray:
        if not samples:
            return stereo
        joined = np.concatenate([self._history.last[:, -samples:], stereo], axis=1)
        return joined[:, : stereo.shape[1]]

    def process(self, stereo: np.ndarray, position: int, tap: Tap | None = None) -> np.ndarray:
        """A block (2, frames) through the strip; the result does not depend on the block size."""
        if self._old is None:
            out = self._chain.process(stereo, position, tap)
            self._history.add(stereo)
            return out
        count = min(stereo.shape[1], self._length - self._glided)
        first = stereo[:, :count]
        rise = ramp(count, self._glided, self._length)
        old = self._old.process(first, position)
        out = old + rise * (self._chain.process(first, position, tap) - old)
        self._history.add(first)
        self._glided += count
        if self._glided == self._length:
            self._old = None
            if self._waiting is not None:
                (strip, glide_s), self._waiting = self._waiting, None
                self.update(strip, position + count, glide_s)
        if count == stereo.shape[1]:
            return out
        return np.concatenate([out, self.process(stereo[:, count:], position + count, tap)], axis=1)
