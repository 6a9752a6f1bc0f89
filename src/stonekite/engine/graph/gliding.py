"""A stage that goes over into another one, or that was taken out and rings on."""

from typing import TYPE_CHECKING

import numpy as np

from stonekite.engine.graph.fading import Fade, ramp

if TYPE_CHECKING:
    from stonekite.engine.graph.node import Node
    from stonekite.engine.graph.probing import Probe


class Gliding:
    """A stage that goes over into another one of the same latency; None for nothing."""

    def __init__(self, old: "Node | None", new: "Node | None", length: int) -> None:
        self._old, self._new = old, new
        self._fade = Fade(length)

    def process(self, legs: np.ndarray, clock: int, probe: "Probe | None" = None) -> None:
        """Process legs (2, frames) in place."""

        def old(block: np.ndarray, begin: int) -> np.ndarray:
            if self._old is not None:
                self._old.process(block, begin)
            return block

        def new(block: np.ndarray, begin: int) -> np.ndarray:
            if self._new is not None:
                self._new.process(block, begin, probe)
            return block

        legs[:] = self._fade.process(legs, clock, old, new)


class Ringing:
    """A stage that was taken out and rings on: it hears nothing new, and what it still gives is added to what passes."""

    def __init__(self, node: "Node", length: int) -> None:
        self._node = node
        self._length = length
        self._done = 0

    @property
    def over(self) -> bool:
        """Whether nothing is left of it."""
        return self._done >= self._length + self._node.plan.tail

    def process(self, legs: np.ndarray, clock: int, probe: "Probe | None" = None) -> None:
        """Process legs (2, frames) in place."""
        if self.over:
            return
        count = min(legs.shape[1], max(0, self._length - self._done))
        rise = ramp(count, self._done, self._length)
        rest = np.zeros_like(legs)
        rest[:, :count] = (1.0 - rise) * legs[:, :count]
        legs[:, :count] *= rise
        self._node.process(rest, clock)
        legs += rest
        self._done += legs.shape[1]


def going_over(old: "Node | None", new: "Node | None", length: int) -> Gliding | Ringing:
    """From one stage to another; one that goes away rings on if it is to, and if it has anything to ring with."""
    if new is None and old is not None and old.stage.rings_on and old.plan.tail:
        return Ringing(old, length)
    return Gliding(old, new, length)
