"""What plays is followed by something else without a gap: it plays on until that has heard back to a place ahead."""

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

from stonekite.engine.graph.courtesy import Turns
from stonekite.engine.mix.layout import Layout
from stonekite.engine.play.playback import Playback

LEAD_S, MOST_LEAD_S = 0.3, 8.0
"""So far ahead of now the first attempt takes over, and the last one."""

Build = Callable[[Turns | None], Playback]
"""Makes a playback, whose work beside the playing steps aside with that of another one. Raises AudioError."""


class Succession:
    """One playback that plays, another of the same rate that is to go on from a place which the first one comes to.

    `layout` is what the other one begins with. Attempts that come too late are made again, further ahead.
    """

    def __init__(
        self, old: Playback, layout: Layout, build: Build, written: int, helper: ThreadPoolExecutor
    ) -> None:
        self.layout = layout
        self._old = old
        self._lead_s = LEAD_S
        self._began = written
        self._aim(written)
        self._new: Future[Playback] = helper.submit(old.turns.beside, self._begin, build)

    def _aim(self, written: int) -> None:
        lead = int(self._lead_s * self._old.rate)
        self._at = written + lead
        self._place = self._old.place_in(lead)

    def _begin(self, build: Build) -> Playback:
        new = build(self._old.turns)
        new.loop = self._old.loop
        new.seek(self._place)
        new.play()
        return new

    def until(self, written: int, frames: int) -> int:
        """Of so many frames those that what plays now still gives."""
        if not self._ready or self._at < written:
            return frames
        return min(frames, self._at - written)

    @property
    def _ready(self) -> bool:
        return self._new.done() and (self._new.exception() is not None or self._new.result().ready)

    def take(self, written: int) -> Playback | None:
        """What goes on from here, as soon as so many frames are written that it can. Raises AudioError."""
        if not self._ready:
            return None
        new = self._new.result()
        if self._at < written:  # too late: once more, with the time that it took
            took_s = (written - self._began) / self._old.rate
            self._lead_s = min(1.5 * max(self._lead_s, took_s), MOST_LEAD_S)
            self._began = written
            self._aim(written)
            new.seek(self._place)
        elif self._at == written and self._old.playing:
            new.follow_on(self._old)
            return new
        return None

    def drop(self) -> None:
        """Do without what was to follow."""
        self._new.add_done_callback(_close)


def _close(new: Future[Playback]) -> None:
    if new.exception() is None:
        new.result().close()
