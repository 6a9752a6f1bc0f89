"""The delay of each leg at the join: the other leg, the spurs and the unprocessed stay where they are."""

import copy
import math
from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.riding_delay import RidingDelay
from stonekite.session.types import LEGS, Leg, Strip
from stonekite.signal.delay import TAPS, FineDelay
from stonekite.stages.base import Context
from stonekite.stages.planning import moved, moves_in, seam_memory


def _samples(leg: Leg, rate: float) -> float:
    """The delay of a leg that stands still."""
    still = moved(leg, np.zeros(1)) if leg.rides else leg
    return round(float(np.max(still.delay_ms)) * 1e-3 * rate, 6)


def _moves(strip: Strip) -> bool:
    return any(moves_in(strip.leg(leg), "delay_ms") for leg in LEGS)


def delays_latency(strip: Strip, rate: float) -> int:
    """Samples by which both legs are later than they are asked to be, so that one of them can be by parts of a sample."""
    parts = any(_samples(strip.leg(leg), rate) % 1.0 for leg in LEGS)
    return TAPS // 2 if parts or _moves(strip) else 0


class LegDelays:
    """Holds the legs of a strip back, which are so many samples `late`. False where neither is."""

    def __init__(self, strip: Strip, context: Context, course: Course, late: int) -> None:
        legs = strip.upper, strip.lower
        self.latency = delays_latency(strip, context.rate)
        self._moving: list[RidingDelay] = []
        if _moves(strip):
            self._moving = [RidingDelay(leg, context, course, late) for leg in legs]
            longest: tuple[float, float] = (self._moving[0].longest, self._moving[1].longest)
            self.layout: Any = tuple((leg.delay_ms, leg.delay_way, leg.rides) for leg in legs)
        else:
            longest = self.layout = _samples(legs[0], context.rate), _samples(legs[1], context.rate)
        self._delay = None if self._moving else FineDelay(longest)
        self._jumps = seam_memory(context.rate) if self._moving else 0
        whole = math.ceil(max(longest))
        self.tail = whole + self.latency if whole else 0
        """Samples for which the later leg sounds on: parts of a sample reach as far behind a place as before it."""
        self.memory = whole + 2 * self.latency + self._jumps

    def __bool__(self) -> bool:
        return bool(self._moving) or self.tail > 0

    def take_over(self, other: "LegDelays") -> None:
        """Go on from the state of another one of the same layout."""
        self._delay, self._moving = copy.deepcopy(other._delay), other._moving

    def process(self, legs: np.ndarray, clock: int) -> None:
        """Hold back a block (2, frames) in place."""
        if self._moving:
            for leg, moving in zip(legs, self._moving, strict=True):
                moving.process(leg, clock)
        elif self and self._delay is not None:
            self._delay.process(legs)
