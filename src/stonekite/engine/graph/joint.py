"""Where the legs come together: each waits for the latest spur, is held back by its delay, and has its level."""

from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.fading import Fade
from stonekite.engine.graph.leg_delays import LegDelays
from stonekite.engine.graph.track import LEVELS, factor_of, following, level_of, standing_of
from stonekite.session.types import Leg, Strip, anything_alone
from stonekite.signal.delay import Delay
from stonekite.stages.base import Context
from stonekite.stages.machinery.rows import times_leg
from stonekite.stages.planning import moves_in, seam_memory


def leg_gains(strip: Strip) -> tuple[float, float]:
    """Gain of the upper and lower leg at the join: level, polarity, mute and alone; of one that moves, alone only."""
    alone = anything_alone(strip)

    def gain(leg: Leg) -> float:
        if alone and not leg.alone:
            return 0.0
        return 1.0 if moves_in(leg, *LEVELS) else float(factor_of(standing_of(leg)))

    return gain(strip.upper), gain(strip.lower)


class Joint:
    """The legs of a strip at the join, where they are so many samples `late`; the stages are `line_late` late."""

    def __init__(self, strip: Strip, context: Context, course: Course, late: int, waits: int) -> None:
        self.gains = leg_gains(strip)
        levels = [
            following(LEVELS, level_of, leg, context, course, late) for leg in (strip.upper, strip.lower)
        ]
        self.levels = {row: level for row, level in enumerate(levels) if level is not None}
        """Of the legs whose level moves."""
        self.delays = LegDelays(strip, context, course, late)
        self._waits = waits - self.delays.latency
        self._wait = Delay((self._waits, self._waits))
        self._jumps = seam_memory(context.rate) if self.levels else 0
        self._from: tuple[Joint, Fade] | None = None

    @property
    def idle(self) -> bool:
        """Whether it does nothing but wait."""
        return not self.levels and not self.delays and self.gains == (1.0, 1.0)

    @property
    def layout(self) -> Any:
        """What has to be the same for another one to go on from this one."""
        return self._waits, self.delays.layout

    @property
    def held(self) -> int:
        """Samples for which it holds the legs back."""
        return self._waits + self.delays.memory

    @property
    def holds(self) -> bool:
        """Whether it has sound in it."""
        return bool(self._waits or self.delays)

    @property
    def memory(self) -> int:
        return self.delays.memory + self._jumps

    @property
    def changing(self) -> bool:
        return self._from is not None

    def glide_from(self, old: "Joint", length: int) -> None:
        """Go over from an older one of the same layout, which is no longer used, in `length` frames."""
        self._wait = old._wait
        self.delays.take_over(old.delays)
        for row, level in self.levels.items():
            level.glide_from(old.levels.get(row))
        if self.gains != old.gains or self.levels.keys() != old.levels.keys():
            self._from = old, Fade(length)

    def settle(self) -> None:
        """The change is over."""
        self._from = None

    def hold(self, legs: np.ndarray, clock: int) -> None:
        """Have a block (2, frames) wait, in place."""
        self._wait.process(legs)
        self.delays.process(legs, clock)

    def level(self, legs: np.ndarray, clock: int) -> np.ndarray:
        """A block (2, frames), which is lost, at its levels."""
        if self._from is None:
            return self._levelled(legs, clock)
        old, fade = self._from
        return fade.process(legs, clock, old._levelled, self._levelled)

    def _levelled(self, legs: np.ndarray, clock: int) -> np.ndarray:
        for row, gain in enumerate(self.gains):
            if gain != 1.0:
                legs[row] *= gain
        for row, level in self.levels.items():
            times_leg(legs[row], level.block(clock, legs.shape[1]), 0)
        return legs
