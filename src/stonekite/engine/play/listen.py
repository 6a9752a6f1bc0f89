"""What the ears get: processed, unprocessed or their difference, whole or one component alone."""

import math
from typing import Literal

import msgspec
import numpy as np

from stonekite.engine.graph.fading import ramp
from stonekite.signal.decibels import gain_of
from stonekite.signal.matrix import component
from stonekite.words import Component

SWITCH_S = 0.008

What = Literal["processed", "unprocessed", "difference", "reference"]


class Listening(msgspec.Struct, frozen=True):
    """A choice of what is heard: with the gains in dB that match the levels (never above 0), the gain in dB that makes
    the difference audible, and whether the unprocessed signal is turned in phase as the result is.
    """

    what: What = "processed"
    only: Component | None = None
    processed_db: float = 0.0
    unprocessed_db: float = 0.0
    reference_db: float = 0.0
    difference_db: float = 0.0
    turned: bool = False


def matched_db(loudness: dict[str, float | None]) -> dict[str, float]:
    """Gains in dB that bring all down to the quietest of them; 0 for what is silent or not known."""
    known = [lufs for lufs in loudness.values() if lufs is not None and math.isfinite(lufs)]
    least = min(known, default=0.0)
    return {
        name: least - lufs if lufs is not None and math.isfinite(lufs) else 0.0
        for name, lufs in loudness.items()
    }


def heard(
    listening: Listening, processed: np.ndarray, unprocessed: np.ndarray, reference: np.ndarray | None = None
) -> np.ndarray:
    """What a choice lets through of two aligned blocks (2, frames), and of another recording's, if there is one."""
    upper, lower = gain_of(listening.processed_db), gain_of(listening.unprocessed_db)
    if listening.what == "processed":
        out = processed * upper
    elif listening.what == "unprocessed":
        out = unprocessed * lower
    elif listening.what == "reference":
        out = np.zeros_like(processed) if reference is None else reference * gain_of(listening.reference_db)
    else:
        out = processed * upper - unprocessed * lower
        if listening.difference_db:
            out *= gain_of(listening.difference_db)
    if listening.only is None:
        return out
    return np.repeat(component(out, listening.only)[None], 2, axis=0)


class Listener:
    """Switches between choices from one block to the next, cross-fading within 8 ms."""

    def __init__(self, rate: float, choice: Listening | None = None) -> None:
        self._now = choice or Listening()
        self._old: Listening | None = None
        self._waiting: Listening | None = None
        self._length = max(1, int(SWITCH_S * rate))
        self._faded = 0

    def choose(self, choice: Listening) -> None:
        """Listen to something else from the next block on."""
        if self._old is not None:
            self._waiting = choice
        elif choice != self._now:
            self._old, self._now, self._faded = self._now, choice, 0

    def arrive(self) -> None:
        """Be where it goes: a start has nothing before it that would be faded."""
        self._now = self._waiting or self._now
        self._old = self._waiting = None

    @property
    def refers(self) -> bool:
        """Whether another recording is heard, or will be soon."""
        choices = (self._now, self._old, self._waiting)
        return any(choice is not None and choice.what == "reference" for choice in choices)

    def process(
        self, processed: np.ndarray, unprocessed: np.ndarray, reference: np.ndarray | None = None
    ) -> np.ndarray:
        """What is heard of two aligned blocks (2, frames), and of another recording's."""
        if self._old is None:
            return heard(self._now, processed, unprocessed, reference)
        count = min(processed.shape[1], self._length - self._faded)
        first, second = processed[:, :count], unprocessed[:, :count]
        third = None if reference is None else reference[:, :count]
        rise = ramp(count, self._faded, self._length)
        old = heard(self._old, first, second, third)
        out = old + rise * (heard(self._now, first, second, third) - old)
        self._faded += count
        if self._faded == self._length:
            self._old = None
            if self._waiting is not None:
                choice, self._waiting = self._waiting, None
                self.choose(choice)
        if count == processed.shape[1]:
            return out
        rest = self.process(
            processed[:, count:], unprocessed[:, count:], None if reference is None else reference[:, count:]
        )
        return np.concatenate([out, rest], axis=1)
