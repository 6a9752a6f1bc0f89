"""What other strips give, for detectors that hear them in place of their own legs."""

import numpy as np

from stonekite.signal import matrix
from stonekite.signal.ring import Ring
from stonekite.signal.sanity import clean
from stonekite.stages.base import LEGS, Key


class _Store:
    """The last frames of all keys, up to a clock."""

    def __init__(self) -> None:
        self.ring = Ring(0, 0)
        self.clock = 0

    def put(self, block: np.ndarray, clock: int, size: int) -> None:
        rows, size = max(block.shape[0], self.ring.rows), max(size, self.ring.size)
        if (rows, size) != (self.ring.rows, self.ring.size):
            self.ring = self.ring.grown(rows, size)
        if clock != self.clock:  # a new start
            self.ring.clear()
        self.ring.add(block)
        self.clock = clock + block.shape[1]


class Keys:
    """The stereo signals of other strips beside the input of a chain. `rows` tells the first of the two rows of each, by
    the id of its strip: it may grow, and never changes otherwise. `later` is how far behind the input the clocks are that
    are asked with."""

    def __init__(self, rows: dict[int, int], later: int) -> None:
        self.rows = rows
        self._later = later
        self._late = 0
        self._store = _Store()

    def room_for(self, late: int) -> None:
        """Remember what stage needs that hears so many frames late."""
        self._late = max(self._late, late + self._later)

    def put(self, block: np.ndarray, clock: int) -> None:
        """What stands beside the input (rows, frames) at a clock."""
        if block.shape[0]:
            self._store.put(clean(block), clock, block.shape[1] + self._late)

    def go_on_from(self, other: "Keys") -> None:
        """Be what another one was, for good: who asks that one hears what is put here."""
        self._store = other._store

    def legs(
        self, key: Key, encoding: matrix.Matrix | None, own: np.ndarray, clock: int, late: int
    ) -> np.ndarray | None:
        """What detectors hear (2, frames) beside a block of their own legs, which is so many frames late: None where the
        strip is not there, and all hear their own."""
        first, store = self.rows.get(key.strip), self._store
        if first is None or first >= store.ring.rows:
            return None
        frames = own.shape[1]
        end = clock - late + self._later + frames - store.clock
        last = store.ring.last[first : first + 2]
        stereo = last[:, last.shape[1] + end - frames : last.shape[1] + end]
        encoded = stereo if encoding is None else matrix.encode(stereo, encoding)
        heard = np.empty_like(own)
        for row, leg in enumerate(LEGS):
            what = getattr(key, leg)
            if what == "own":
                heard[row] = own[row]
            elif what == "leg":
                heard[row] = encoded[row]
            else:
                heard[row] = matrix.component(stereo, what)
        return heard
