"""What happens to the stereo signal before the split and after the join."""

import copy
import math
from typing import Any

import numpy as np

from stonekite.session.types import SIDES, Intake, Output
from stonekite.signal.decibels import gain_of
from stonekite.signal.delay import FineDelay
from stonekite.signal.filters import design
from stonekite.stages.base import At, Context
from stonekite.stages.limiter import KIND as LIMITER
from stonekite.stages.limiter import Limiter, LimiterShared, LimiterSide, meter
from stonekite.stages.machinery import cascade
from stonekite.stages.planning import still_rows

DC_HZ = 2.0


class IntakeNode:
    """An intake at work on stereo blocks."""

    def __init__(self, intake: Intake, rate: float) -> None:
        self._use = intake.use
        sides = [getattr(intake, name) for name in SIDES]
        self._gains = [gain_of(side.trim_db) * (-1.0 if side.inverted else 1.0) for side in sides]
        delays = [side.delay_ms * 1e-3 * rate for side in sides]
        self._delay = FineDelay((delays[0], delays[1]))
        self.latency = self._delay.latency
        no_dc = cascade.NOTHING
        if intake.remove_dc:
            no_dc = cascade.Leg.of([("dc", design.sections("high-pass-6", DC_HZ, 0.0, 1.0, rate))])
        self._sections = cascade.Coefficients(no_dc, no_dc)
        self._state: np.ndarray = cascade.start(self._sections)
        self.memory = cascade.memory(no_dc) + 2 * self.latency + math.ceil(max(delays))
        self.layout: Any = (self.latency, *(round(d, 6) for d in delays), intake.remove_dc)

    def take_over(self, other: "IntakeNode") -> None:
        """Go on from another node's state."""
        self._delay = copy.deepcopy(other._delay)
        self._state = other._state.copy()

    def process(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        """A new block (2, frames)."""
        out = np.array(self._chosen(stereo), order="C")
        for row, gain in enumerate(self._gains):
            if gain != 1.0:
                out[row] *= gain
        self._delay.process(out)
        cascade.process(self._state, self._sections, out, At(clock))
        return out

    def _chosen(self, stereo: np.ndarray) -> np.ndarray:
        if self._use == "swapped":
            return stereo[::-1]
        if self._use in SIDES:
            return np.repeat(stereo[SIDES.index(self._use)][None], 2, axis=0)  # type: ignore[arg-type]
        if self._use == "mono":
            return np.repeat(0.5 * (stereo[0] + stereo[1])[None], 2, axis=0)
        return stereo


def shares(position: float, law: str) -> tuple[float, float]:
    """Gains to the left and the right speaker of a side at a position from -100 to 100.

    Constant power: cosine and sine of a quarter turn; linear: parts that add up to one. At the ends nothing
    leaks, exactly.
    """
    share = (position + 100.0) / 200.0
    if law == "linear":
        return 1.0 - share, share
    if share in (0.0, 1.0):
        return 1.0 - share, share
    return math.cos(0.5 * math.pi * share), math.sin(0.5 * math.pi * share)


def output_matrix(output: Output) -> np.ndarray:
    """Gains (2, 2) from the joined left and right (columns) to the result's left and right (rows)."""
    side = 0.5 * output.width / 100.0
    width = np.array([[0.5 + side, 0.5 - side], [0.5 - side, 0.5 + side]])
    place = np.array([shares(getattr(output, name).position, output.law) for name in SIDES]).T
    balance = np.diag([min(1.0, 1.0 - output.balance / 100.0), min(1.0, 1.0 + output.balance / 100.0)])
    return gain_of(output.trim_db) * (balance @ place @ width)


def _ceiling(output: Output) -> Limiter | None:
    """The limiter that holds an output under its ceiling: both sides alike."""
    if not output.limited:
        return None
    side = LimiterSide(ceiling_db=output.ceiling_db)
    return Limiter(id=0, upper=side, lower=side, shared=LimiterShared(coupling=100.0))


def output_latency(output: Output, rate: float) -> int:
    """Samples by which an output at a rate in Hz is late."""
    ceiling = _ceiling(output)
    return 0 if ceiling is None else max(LIMITER.plan(ceiling, Context(rate)).latency)


class OutputNode:
    """An output at work on stereo blocks."""

    def __init__(self, output: Output, rate: float) -> None:
        self._gains = output_matrix(output)
        self._limit: Any = None
        self._state: Any = None
        self.latency = self.memory = 0
        ceiling = _ceiling(output)
        if ceiling is not None:
            plan = LIMITER.plan(ceiling, Context(rate))
            self.latency, self.memory = max(plan.latency), plan.memory
            self._limit = LIMITER.coefficients(ceiling, Context(rate))
            self._state = LIMITER.start(self._limit)
            self._rows = still_rows(ceiling, Context(rate))
        self.layout = self.latency

    def take_over(self, other: "OutputNode") -> None:
        """Go on from another node's state."""
        self._state = copy.deepcopy(other._state)

    def process(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        """A new block (2, frames)."""
        (a, b), (c, d) = self._gains
        left, right = stereo
        out = np.stack([_mixed(left, a, right, b), _mixed(left, c, right, d)])
        if self._limit is not None:
            LIMITER.process(self._state, self._limit, out, At(clock, **self._rows))
        return out

    @property
    def reduction_db(self) -> float:
        """By how much the ceiling turned the last block down at the most."""
        return 0.0 if self._limit is None else float(meter(self._state).max())


def _mixed(left: np.ndarray, a: float, right: np.ndarray, b: float) -> np.ndarray:
    """Row by row, so that no library's matrix product can make a result depend on the block size."""
    if b == 0.0:
        return left * a
    if a == 0.0:
        return right * b
    return left * a + right * b
