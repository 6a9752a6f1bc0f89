"""The delay of each leg at the join: the other leg, the spurs and the unprocessed stay where they are."""

import copy
import math

import numpy as np

from stonekite.session.types import Strip
from stonekite.signal.delay import TAPS, FineDelay


def _samples(strip: Strip, rate: float) -> tuple[float, float]:
    return strip.upper.delay_ms * 1e-3 * rate, strip.lower.delay_ms * 1e-3 * rate


def delays_latency(strip: Strip, rate: float) -> int:
    """Samples by which both legs are later than they are asked to be, so that one of them can be by parts of a sample."""
    parts = any(round(samples, 6) % 1.0 for samples in _samples(strip, rate))
    return TAPS // 2 if parts else 0


class LegDelays:
    """Holds the legs of a strip back. False where neither is."""

    def __init__(self, strip: Strip, rate: float) -> None:
        self.layout = tuple(round(samples, 6) for samples in _samples(strip, rate))
        self.latency = delays_latency(strip, rate)
        self._delay = FineDelay((self.layout[0], self.layout[1]))
        self.tail = math.ceil(max(self.layout))
        """Samples for which the later leg sounds on."""

    def __bool__(self) -> bool:
        return any(self.layout)

    @property
    def memory(self) -> int:
        return self.tail + 2 * self.latency

    def take_over(self, other: "LegDelays") -> None:
        """Go on from the state of another one of the same layout."""
        self._delay = copy.deepcopy(other._delay)

    def process(self, legs: np.ndarray) -> None:
        """Hold back a block (2, frames) in place."""
        if self:
            self._delay.process(legs)
