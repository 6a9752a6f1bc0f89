"""How an echo's delays are read: between samples, by tables while they move, and as taps."""

import math

import numpy as np

from stonekite.lazy import lazy
from stonekite.stages.echo.loop import cuts, later_corners, shares, tapped
from stonekite.stages.echo.settings import EchoShared, Tap
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.rows import beside
from stonekite.stages.machinery.written import PIECE

echoing = lazy("stonekite.signal.echoing")


class Ways:
    """How the delays are read when what stands in the loop is so many samples late."""

    def __init__(self, delays: list[float], late: int, rate: float) -> None:
        held = [max(2.0, delay - late) for delay in delays]
        self.delays = np.array(held)
        made = [echoing.fixed_taps(delay, rate) for delay in held]
        self.behind = np.array([behind for behind, _ in made])
        self.taps = [taps for _, taps in made]
        self.halves = [echoing.half_of(delay, rate) for delay in held]
        longest = max(1, min(int(d) - h for d, h in zip(held, self.halves, strict=True)))
        # A vector that is hardly used costs as much as a full one, and a piece has its own price.
        beyond = longest % 16
        self.longest = longest - beyond if longest > 16 and beyond < 8 else longest


def room_for(delay: float) -> int:
    """Samples of history for a delay: in steps, so that it rarely has to grow; with some for what is new in the loop."""
    return 1 << math.ceil(math.log2(1.25 * delay + PIECE + 2 * echoing.HALF))


class TapWork:
    """One tap at work: its delay in samples, how it is read, its filters, and what (2, 2) of the legs it repeats."""

    def __init__(
        self, tap: Tap, shared: EchoShared, works: tuple[bool, bool], encoded: bool, rate: float
    ) -> None:
        self.delay = tap.time_ms * 1e-3 * rate
        self.behind, self.taps = echoing.fixed_taps(self.delay, rate)
        filters = cascade.Leg.of(cuts(*later_corners(shared, tap), 12, rate))
        self.filters = cascade.Coefficients(filters, filters)
        self.fed = tapped(tap.fed, works, encoded)
        self.numbers = 2 + self.filters.numbers
        """Of a row of those that may move: its share on both legs, and its filters."""


def tap_rows(tap: Tap, shared: EchoShared, rate: float) -> np.ndarray:
    """Rows (n, numbers) of a tap."""
    filters = cascade.Leg.of(cuts(*later_corners(shared, tap), 12, rate))
    return beside(*shares(tap), cascade.rows_of(filters, filters))


class _Tables:
    """Tables of taps for delays that move, by how many taps they have."""

    none = np.zeros((1, 2))

    def __init__(self) -> None:
        self._made: dict[tuple[int, float], np.ndarray] = {}

    def of(self, half: int, rate: float) -> np.ndarray:
        if (half, rate) not in self._made:
            self._made[half, rate] = echoing.table(half, rate)
        return self._made[half, rate]


PHASES = _Tables()
