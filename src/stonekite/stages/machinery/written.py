"""Sound that a stage writes down and reads again later: delays that go on through changes of settings without a click."""

import numpy as np

PIECE = 8192
"""So much is written at once at the most."""

_NOTHING = np.zeros((2, 0)), np.zeros(0)


class Written:
    """The last `keeps` frames of what was written, and more, straight in a row (signal/echoing.py): both legs in the two
    first rows, and in others what is made of them.

    After a change of settings the old state works on beside the new one for a while; what is written then goes over from
    what the old one writes: otherwise the change would click when it is read again.
    """

    def __init__(self, keeps: int, rows: int = 2) -> None:
        self.history = np.zeros((rows, 2 * keeps + PIECE + 64 if keeps else 0))
        self.marks = np.array([keeps, keeps])
        self._clock = 0
        self._old: Written | None = None
        self._length = self._gone = 0

    @property
    def keeps(self) -> int:
        return int(self.marks[1])

    @property
    def end(self) -> int:
        """Where the next frame is written."""
        return int(self.marks[0])

    def pour(self, source: "Written") -> None:
        """Begin with what another one holds, as far as both go; what is older than that begins softly."""
        keeps = min(source.keeps, self.keeps)
        self._clock = source._clock
        if not keeps:
            return
        self.history[:, self.end - keeps : self.end] = source.history[:, source.end - keeps : source.end]
        if self.keeps > source.keeps:
            fade = min(256, keeps)
            self.history[:, self.end - keeps : self.end - keeps + fade] *= np.linspace(0.0, 1.0, fade)

    def join(self, old: "Written", length: int) -> None:
        """Go over from what an older one goes on writing for so many frames."""
        self._old, self._length, self._gone = old, length, 0

    def before(self, frames: int) -> tuple[np.ndarray, np.ndarray]:
        """What the older one has written for the next frames (2, n), as far as this one goes over from it, and how far
        it has gone over (n,)."""
        old = self._old
        if old is None:
            return _NOTHING
        count = min(frames, self._length - self._gone)
        # The older one has worked on the block already; one that does so no longer has nothing to say.
        behind = old._clock - self._clock
        if not old.keeps or behind < count:
            return _NOTHING
        first = old.end - behind
        rise = (np.arange(self._gone, self._gone + count) + 1) / self._length
        return old.history[:2, first : first + count].copy(), 0.5 - 0.5 * np.cos(np.pi * rise)

    def went_on(self, frames: int) -> None:
        """So many frames have been written."""
        self._clock += frames
        if self._old is not None:
            self._gone += frames
            if self._gone >= self._length:
                self._old = None
