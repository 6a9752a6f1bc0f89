"""What happens to the stereo signal before the split and after the join. Numbers that ride move along their tracks, as
those of stages do."""

import copy
import math
from typing import Any

import msgspec
import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.node import Node
from stonekite.engine.graph.track import Following, Track
from stonekite.session.types import SIDES, Intake, Output
from stonekite.signal.decibels import gain_of
from stonekite.signal.delay import FineDelay
from stonekite.signal.filters import design
from stonekite.stages.base import LEGS, At, Context, Plan
from stonekite.stages.limiter import Limiter, LimiterShared, LimiterSide
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.rows import stacked, times
from stonekite.stages.planning import awake, is_moving, plan_of, seam_memory

DC_HZ = 2.0


def trims_of(intake: Intake, context: Context) -> np.ndarray:
    """Rows (n, 2) of the gains of left and right."""
    sides = [getattr(intake, name) for name in SIDES]
    return stacked(*(gain_of(side.trim_db) * (1.0 - 2.0 * np.asarray(side.inverted)) for side in sides))


def intake_latency(intake: Intake, rate: float) -> int:
    """Samples by which an intake at a rate in Hz is late."""
    left, right = (getattr(intake, name).delay_ms * 1e-3 * rate for name in SIDES)
    return FineDelay((left, right)).latency


class IntakeNode:
    """An intake at work on stereo blocks, which are so many samples `late`."""

    def __init__(self, intake: Intake, context: Context, course: Course, late: int) -> None:
        self._use = intake.use
        rate = context.rate
        self._gains = Following(Track(trims_of, intake, context), rate, course, late)
        sides = [getattr(intake, name) for name in SIDES]
        delays = [side.delay_ms * 1e-3 * rate for side in sides]
        self._delay = FineDelay((delays[0], delays[1]))
        self.latency = self._delay.latency
        no_dc = cascade.NOTHING
        if intake.remove_dc:
            no_dc = cascade.Leg.of([("dc", design.sections("high-pass-6", DC_HZ, 0.0, 1.0, rate))])
        self._sections = cascade.Coefficients(no_dc, no_dc)
        self._state: np.ndarray = cascade.start(self._sections)
        jumps = seam_memory(rate) if is_moving(intake) else 0
        self.memory = cascade.memory(no_dc) + 2 * self.latency + math.ceil(max(delays)) + jumps
        self.layout: Any = (self.latency, *(round(d, 6) for d in delays), intake.remove_dc)

    def take_over(self, other: "IntakeNode") -> None:
        """Go on from another node's state."""
        self._gains.go_on_from(other._gains)
        self._delay = copy.deepcopy(other._delay)
        self._state = other._state.copy()

    def process(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        """A new block (2, frames)."""
        out = np.array(self._chosen(stereo), order="C")
        times(out, self._gains.block(clock, out.shape[1]), 0)
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


def shares(position: Any, law: str) -> tuple[Any, Any]:
    """Gains to the left and the right speaker of a side at a position from -100 to 100, or at positions (n,).

    Constant power: cosine and sine of a quarter turn; linear: parts that add up to one. At the ends nothing
    leaks, exactly.
    """
    share = (position + 100.0) / 200.0
    if law == "linear":
        return 1.0 - share, share
    ends = (share == 0.0) | (share == 1.0)
    angle = 0.5 * np.pi * share
    return np.where(ends, 1.0 - share, np.cos(angle))[()], np.where(ends, share, np.sin(angle))[()]


def output_matrix(output: Output) -> np.ndarray:
    """Gains (2, 2) from the joined left and right (columns) to the result's left and right (rows); (n, 2, 2) of an output
    of which something moves."""
    side = 0.5 * np.asarray(output.width) / 100.0
    near, far = 0.5 + side, 0.5 - side
    (left, l_over), (r_over, right) = (shares(getattr(output, name).position, output.law) for name in SIDES)
    level = gain_of(output.trim_db)
    to_left = np.minimum(1.0, 1.0 - output.balance / 100.0)
    to_right = np.minimum(1.0, 1.0 + output.balance / 100.0)
    rows = (to_left * left, to_left * r_over), (to_right * l_over, to_right * right)
    gains = [level * gain for a, b in rows for gain in (a * near + b * far, a * far + b * near)]
    made = stacked(*gains).reshape(-1, 2, 2)
    return made[0] if len(made) == 1 else made


def crossing_of(output: Output, context: Context) -> np.ndarray:
    """Rows (n, 4) of the gains of an output."""
    return output_matrix(output).reshape(-1, 4)


def _ceiling(output: Output) -> Limiter | None:
    """The limiter that holds an output under its ceiling: both sides alike."""
    if not output.limited:
        return None
    side = LimiterSide(ceiling_db=output.ceiling_db)
    rides = tuple(
        msgspec.structs.replace(ride, path=f"{leg}.ceiling_db")
        for ride, _ in awake(output)
        if ride.path == "ceiling_db"
        for leg in LEGS
    )
    return Limiter(id=0, upper=side, lower=side, shared=LimiterShared(coupling=100.0), rides=rides)


def output_latency(output: Output, rate: float) -> int:
    """Samples by which an output at a rate in Hz is late."""
    ceiling = _ceiling(output)
    return 0 if ceiling is None else max(plan_of(ceiling, Context(rate)).latency)


class OutputNode:
    """An output at work on stereo blocks, which are so many samples `late`."""

    def __init__(self, output: Output, context: Context, course: Course, late: int) -> None:
        self._gains = Following(Track(crossing_of, output, context), context.rate, course, late)
        ceiling = _ceiling(output)
        plan = Plan() if ceiling is None else plan_of(ceiling, context)
        self._limit = None if ceiling is None else Node(ceiling, context, plan, late, course, ())
        self.latency = max(plan.latency)
        self.memory = plan.memory + (seam_memory(context.rate) if is_moving(output) else 0)
        self.layout = self.latency

    def take_over(self, other: "OutputNode") -> None:
        """Go on from another node's state."""
        self._gains.go_on_from(other._gains)
        if self._limit is not None and other._limit is not None:
            self._limit.take_over(other._limit, 0)

    def process(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        """A new block (2, frames)."""
        rows = self._gains.block(clock, stereo.shape[1])
        left, right = stereo
        if rows.moves:
            a, b, c, d = (rows.along(number, len(left)) for number in range(4))
            out = np.stack([left * a + right * b, left * c + right * d])
        else:
            a, b, c, d = rows.table[0]
            out = np.stack([_mixed(left, a, right, b), _mixed(left, c, right, d)])
        if self._limit is not None:
            self._limit.process(out, clock)
        return out

    @property
    def reduction_db(self) -> float:
        """By how much the ceiling turned the last block down at the most."""
        return 0.0 if self._limit is None else float(self._limit.reduction_db.max())


def _mixed(left: np.ndarray, a: float, right: np.ndarray, b: float) -> np.ndarray:
    """Row by row, so that no library's matrix product can make a result depend on the block size."""
    if b == 0.0:
        return left * a
    if a == 0.0:
        return right * b
    return left * a + right * b
