"""The unprocessed signal turned in phase as the result is: through the dry parts of all stages that turn it.

Then what is heard as the difference, and what is switched to, differs from the result by what the stages do to levels
and not by the phase of a crossover or of matched legs.
"""

from concurrent.futures import Executor, Future

import msgspec
import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.fading import Fade
from stonekite.session.types import Strip
from stonekite.stages.base import LEGS, Stage
from stonekite.stages.registry import kind_of

TURN_S = 0.02


def in_phase(strip: Strip) -> Strip:
    """A strip that only turns as this one does: its split, and of its stages the dry parts that turn."""
    stages = tuple(_dry(stage) for stage in strip.stages if stage.inserted and kind_of(stage).dry is not None)
    return Strip(split=strip.split, stages=stages)


def _dry(stage: Stage) -> Stage:
    sides = {
        leg: None if (side := getattr(stage, leg)) is None else msgspec.structs.replace(side, mix=0.0)
        for leg in LEGS
    }
    return msgspec.structs.replace(stage, level_kept=False, change_only=False, **sides)


class Turner:
    """Turns the unprocessed signal; takes over other settings when a helper has built them."""

    def __init__(self, rate: float) -> None:
        self._rate = rate
        self._chain: Chain | None = None
        self._old: Chain | None = None
        self._fade = Fade(0)
        self._wanted: tuple[Strip, int] | None = None
        self._coming: Future[Chain] | None = None

    def want(self, strip: Strip, latency: int, helper: Executor | None) -> None:
        """Turn as a strip does that is so many samples late."""
        wanted = in_phase(strip), latency
        if wanted == self._wanted:
            return
        self._wanted = wanted
        if helper is None:
            self._take(Chain(wanted[0], self._rate, latency))
        else:
            self._coming = helper.submit(Chain, wanted[0], self._rate, latency)

    def _take(self, chain: Chain) -> None:
        self._old, self._chain = self._chain, chain
        self._fade = Fade(int(TURN_S * self._rate))

    def process(self, stereo: np.ndarray, clock: int, plain: np.ndarray) -> np.ndarray:
        """A block (2, frames) of the recording, turned; `plain` is the same block as it is, in time with it."""
        if self._coming is not None and self._coming.done():
            self._take(self._coming.result())
            self._coming = None
        if self._chain is None:
            return plain
        now = self._chain.process(stereo, clock)
        if self._fade.over:
            self._old = None
            return now
        before = plain if self._old is None else self._old.process(stereo, clock)
        return self._fade.between(before, now)
