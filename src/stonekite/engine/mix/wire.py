"""What goes from one strip into another one: held back until it is in time, at gains that glide."""

import numpy as np

from stonekite.engine.graph.fading import ramp
from stonekite.lazy import lazy
from stonekite.signal.ring import Ring

mixing = lazy("stonekite.signal.mixing")


class Past:
    """The last frames that came out of a strip, for wires that hold them back."""

    def __init__(self) -> None:
        self._ring = Ring(2, 0)

    def room_for(self, frames: int) -> None:
        """Keep at least so many."""
        if frames > self._ring.size:
            self._ring = self._ring.grown(2, frames)

    def add(self, block: np.ndarray) -> None:
        """Remember a block (2, frames) that came out."""
        if self._ring.size:
            self._ring.add(block)

    def clear(self) -> None:
        self._ring.clear()

    def late(self, block: np.ndarray, frames: int) -> np.ndarray:
        """What came out so many frames before each of a block (2, frames) that has just come out."""
        if not frames:
            return block
        return np.concatenate([self._ring.last[:, -frames:], block], axis=1)[:, : block.shape[1]]


class Wire:
    """A wire at gains (2, 2) that holds back what goes through it for so many frames. Both go over to other ones within
    `length` frames."""

    def __init__(self, gains: np.ndarray, delay: int = 0) -> None:
        self.aimed = gains
        self._delay = delay
        self._from = gains, delay
        self._done = self._length = 0

    @property
    def rests(self) -> bool:
        """Whether it has gone over."""
        return self._done >= self._length

    def set(self, delay: int) -> None:
        """Be so late, and at what is aimed at, at once: for a new start."""
        self._delay = delay
        self._done = self._length

    def aim(self, gains: np.ndarray, delay: int, length: int) -> None:
        """Go over to other gains and another delay; from where it is, if it is on the way."""
        if delay == self._delay and np.array_equal(gains, self.aimed):
            return
        share = 1.0 if self.rests else float(ramp(1, self._done, self._length)[0])
        now = self._from[0] + share * (self.aimed - self._from[0])
        self._from = now, self._delay if share > 0.5 else self._from[1]
        self.aimed, self._delay = gains, delay
        self._done, self._length = 0, max(1, length)

    def add(self, block: np.ndarray, past: Past, out: np.ndarray) -> None:
        """Add to `out` (2, frames) what arrives of a block that has just come out."""
        past.room_for(max(self._delay, self._from[1]))
        if self.rests:
            if self.aimed.any():
                mixing.add_through(self.aimed, np.ascontiguousarray(past.late(block, self._delay)), out)
            return
        count = min(block.shape[1], self._length - self._done)
        rise = np.ones(block.shape[1])
        rise[:count] = ramp(count, self._done, self._length)
        self._done += count
        old = at_gains(past.late(block, self._from[1]), self._from[0])
        new = at_gains(past.late(block, self._delay), self.aimed)
        out += old + rise * (new - old)


def at_gains(block: np.ndarray, gains: np.ndarray) -> np.ndarray:
    """A block (2, frames) at gains (2, 2), row by row, so that it does not depend on how long the block is."""
    out = np.zeros(block.shape)
    mixing.add_through(gains, np.ascontiguousarray(block), out)
    return out
