"""The settings of one strip while it plays: those that are wished for are got ready beside the playing, and taken over at
the start of a block. What cannot be built is told, and what was there before plays on."""

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

from stonekite.engine.graph.chain import latency_of
from stonekite.engine.graph.courtesy import Turns
from stonekite.engine.mix.strip import (
    GLIDE_S,
    Prepared,
    StripPlayer,
    having_heard,
    latest,
    prepared_beside,
)
from stonekite.session import tree
from stonekite.session.alone import leaving_out
from stonekite.session.types import Strip
from stonekite.stages.planning import CannotBuild

CATCH_UP_S, MOST_ROUNDS = 0.011, 24
"""Settings that are this far behind are taken over; after so many rounds, however far behind they are."""
SHORT_STRIP = 12
"""Stages that can catch up within a block."""

Recall = Callable[[int], None]


class Changing:
    """A strip at a rate in Hz and what is wished for of it.

    With a `helper` thread other settings are built and hear what was before beside the playing; without one they are
    taken over at once. `recall` has all players know so many frames of what came before.
    """

    def __init__(
        self,
        strip: Strip,
        rate: float,
        recall: Recall,
        helper: ThreadPoolExecutor | None,
        turns: Turns,
    ) -> None:
        self.player = StripPlayer(Strip(), rate)
        self.refused: CannotBuild | None = None
        """Why settings that were wished for are not heard; whoever tells it takes it away."""
        self.strip = strip
        self.beside: tuple[Strip, ...] = ()
        self._good = Strip()
        """What was played last that could be built."""
        self._recall, self._helper, self._turns = recall, helper, turns
        self._wish: tuple[Strip, tuple[Strip, ...], float] | None = None
        self._coming: Future[Prepared] | None = None
        self._coming_heard = False
        self._taken: Prepared | None = None
        self._late: Prepared | None = None
        self._rounds = 0
        self._glide_s = GLIDE_S

    def begin(self) -> None:
        """Have the settings for a new start, or in their place what could be built last, or what is left of it without
        the stages that cannot be built."""
        self.player.at_least = latest(self.beside, self.player.rate)
        strip = self.strip
        while True:
            try:
                self.player.set(strip)
            except CannotBuild as error:
                if self.refused is None:
                    self.refused = error
                known = {stage.id for _, stage in tree.walk(self._good) if stage.inserted}
                strip = leaving_out(strip, {error.stage}) if error.stage in known or not known else self._good
            else:
                self._good = strip
                return

    def drop_wishes(self) -> None:
        """What was being got ready is not wanted any more: a new start has the settings of now."""
        self._wish = self._coming = self._late = None

    def without(self, stage: int) -> None:
        """Go on without a stage that failed, from the next start on."""
        self.strip = leaving_out(self.strip, {stage})
        self._good = leaving_out(self._good, {stage})

    def want(self, strip: Strip, beside: tuple[Strip, ...]) -> None:
        """These settings, in time with those beside them, for the next start."""
        self.strip, self.beside = strip, beside

    def update(self, strip: Strip, beside: tuple[Strip, ...], clock: int, glide_s: float) -> None:
        """Glide to other settings from the next block on, or soon after, in time with those beside them."""
        self.want(strip, beside)
        if self._helper is not None:
            self._wish = strip, beside, glide_s
            return
        try:
            self.player.at_least = latest(beside, self.player.rate)
            self._recall(2 * max(self.player.at_least, latency_of(strip, self.player.rate)))
            self.player.update(strip, clock, glide_s)
        except CannotBuild as error:
            self.refused = error
        else:
            self._good = strip

    @property
    def getting_ready(self) -> bool:
        """Whether settings are being got ready."""
        return self._coming is not None

    def follow(self, clock: int, may_begin: bool = True) -> None:
        """Have what was wished for got ready, if that may begin now, and go over to it when it is."""
        if self.player.gliding or self._helper is None:
            return
        if self._taken is not None:
            self._helper.submit(self._turns.beside, self._taken.let_go)
            self._taken = None
        if self._coming is None:
            if self._wish is None or not may_begin:
                return
            strip, beside, self._glide_s = self._wish
            self._wish, self._coming_heard, self._rounds = None, False, 0
            self._coming = self._helper.submit(
                self._turns.beside, prepared_beside, strip, self.player.chain, beside
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
            history = self.player.heard(prepared.wanted)
            self._coming = self._helper.submit(self._turns.beside, having_heard, prepared, history, clock)
            return
        # What was played meanwhile is heard beside the playing, too, until there is next to nothing left of it.
        behind = prepared.behind(clock)
        # A long strip would hold this block back: it is caught up with between blocks.
        most = CATCH_UP_S * self.player.rate if prepared.chain.size <= SHORT_STRIP else 0
        if behind > most and self._rounds < MOST_ROUNDS:
            self._rounds += 1
            self._late = prepared
            return
        self._coming = None
        self.player.at_least = prepared.at_least
        self.player.take(prepared, clock, self._glide_s)
        self._taken = prepared
        self._good = prepared.chain.strip

    def catch_up(self, clock: int) -> None:
        """Have what is ready, but late, hear what was played until now, beside the playing until the next block."""
        if self._late is None or self._helper is None:
            return
        prepared, self._late = self._late, None
        heard = self.player.heard(prepared.behind(clock))
        self._coming = self._helper.submit(self._turns.beside, having_heard, prepared, heard, clock)
