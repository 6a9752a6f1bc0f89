"""Detectors and gain computers of dynamic processes, after Giannoulis, Massberg and Reiss, "Digital Dynamic Range
Compressor Design: A Tutorial and Analysis", J. Audio Eng. Soc. 60, 2012.

Feed-forward, in decibels: level (signal/levels/envelope.py), gain computer with a soft knee, and then a smoother whose
time constant is the attack while the reduction grows and the release while it falls (the paper's smooth, branching one).
Attack and release are the times in which the reduction gets to 1 - 1/e, 63 %, of a step.
"""

import numpy as np

from stonekite.signal.kernel import greater, inlined, kernel, lesser
from stonekite.signal.vectors.fused import fused
from stonekite.signal.vectors.quick import exp2_into, log2_into

DB_PER_LOG2_POWER = 3.010299956639812
_LOG2_PER_DB = 0.16609640474436813
_FLOOR = 1e-30
"""Power under which there is silence (-300 dB)."""
_NOTHING_DB = 1e-9
"""A smaller reduction is none: gains come back to exactly 1, and denormals never come up."""

THRESHOLD, SLOPE, KNEE, RANGE, ATTACK, RELEASE, SLOW, TRIM, GAIN, HYSTERESIS = range(10)
"""Rows of the parameters (ROWS, 2): threshold in dB; dB of reduction for each dB beyond it; knee and range in dB; three
smoothing factors (for an expander the third is the hold, in samples); detector trim and gain in dB; hysteresis in dB."""
ROWS = 10
FAST, LONG, OPEN = range(3)
"""Rows of the state (MEMORIES, 2): the two smoothers (for an expander the second is what is left of the hold), and
whether an expander is open."""
MEMORIES = 3


def smoothing(seconds: float, rate: float) -> float:
    """Factor of a one-pole smoother with this time constant; 0 for no time at all."""
    return float(np.exp(-1.0 / (seconds * rate))) if seconds > 0 else 0.0


@inlined
def _levels(powers, scratch, out):
    """log2 of powers (frames,) into `out`."""
    frames = out.shape[0]
    for i in range(frames):
        scratch[i] = powers[i] + _FLOOR
    log2_into(scratch[:frames], out)


@kernel
def _expansions(powers, parameters, state, scratch, wanted, greatest):
    """Smoothed reduction in dB (2, frames) of an expander or gate into `wanted`, the greatest of a leg into `greatest`.

    It opens where the level comes over the threshold, and closes where it has been under the threshold less the
    hysteresis for longer than the hold. Attack is the time of opening.
    """
    frames = wanted.shape[1]
    for leg in range(2):
        target = wanted[leg]
        _levels(powers[leg], scratch, target)
        opens = parameters[THRESHOLD, leg] - parameters[TRIM, leg]
        closes = opens - parameters[HYSTERESIS, leg]
        slope, half, most = parameters[SLOPE, leg], 0.5 * parameters[KNEE, leg], parameters[RANGE, leg]
        bend = slope / (4.0 * half) if half > 0.0 else 0.0
        attack, release, hold = parameters[ATTACK, leg], parameters[RELEASE, leg], parameters[SLOW, leg]
        fast, left, is_open = state[FAST, leg], state[LONG, leg], state[OPEN, leg]
        peak = 0.0
        for i in range(frames):
            level = DB_PER_LOG2_POWER * target[i]
            if level >= opens:
                is_open = 1.0
                left = hold
            elif is_open > 0.0 and level < closes:
                if left > 0.0:
                    left -= 1.0
                else:
                    is_open = 0.0
            under = (closes if is_open > 0.0 else opens) - level
            inside = under + half
            value = slope * under if under > half else (bend * inside * inside if inside > 0.0 else 0.0)
            if is_open > 0.0 and left > 0.0:
                value = 0.0
            value = lesser(value, most)
            factor = release if value > fast else attack
            fast = fused(factor, fast - value, value)
            fast = fast if fast > _NOTHING_DB else 0.0
            target[i] = fast
            peak = fast if fast > peak else peak
        greatest[leg] = peak
        state[FAST, leg], state[LONG, leg], state[OPEN, leg] = fast, left, is_open


@kernel
def _reductions(powers, parameters, state, scratch, wanted, greatest):
    """Smoothed reduction in dB (2, frames) into `wanted`, the greatest of a leg into `greatest`; `scratch` (frames,) is
    overwritten.

    With LONG in use (SLOW > 0) a second smoother follows that gathers slowly and lets go slowly: short peaks are
    let go by the release, long reductions by it.
    """
    frames = wanted.shape[1]
    for leg in range(2):
        target = wanted[leg]
        _levels(powers[leg], scratch, target)
        threshold = parameters[THRESHOLD, leg] - parameters[TRIM, leg]
        slope = parameters[SLOPE, leg]
        half = 0.5 * parameters[KNEE, leg]
        bend = slope / (4.0 * half) if half > 0.0 else 0.0
        most = parameters[RANGE, leg]
        for i in range(frames):
            over = fused(DB_PER_LOG2_POWER, target[i], -threshold)
            inside = over + half
            soft = bend * inside * inside
            value = slope * over if over > half else (soft if inside > 0.0 else 0.0)
            target[i] = lesser(value, most)
        attack, release, slow = parameters[ATTACK, leg], parameters[RELEASE, leg], parameters[SLOW, leg]
        fast, long = state[FAST, leg], state[LONG, leg]
        peak = 0.0
        if slow > 0.0:
            for i in range(frames):
                value = target[i]
                factor = attack if value > fast else release
                fast = fused(factor, fast - value, value)
                fast = fast if fast > _NOTHING_DB else 0.0
                long = fused(slow, long - fast, fast)
                long = long if long > _NOTHING_DB else 0.0
                target[i] = greater(fast, long)
                peak = target[i] if target[i] > peak else peak
        else:
            for i in range(frames):
                value = target[i]
                factor = attack if value > fast else release
                fast = fused(factor, fast - value, value)
                fast = fast if fast > _NOTHING_DB else 0.0
                target[i] = fast
                peak = fast if fast > peak else peak
        greatest[leg] = peak
        state[FAST, leg], state[LONG, leg] = fast, long


@kernel
def _apply(block, reductions, coupling, parameters, scratch, gains):
    """Multiply block (2, frames) by the gains of coupled reductions; coupling < 0 is towards the smaller one."""
    frames = block.shape[1]
    for leg in range(2):
        makeup = parameters[GAIN, leg]
        mine, other = reductions[leg], reductions[1 - leg]
        for i in range(frames):
            value = mine[i]
            if coupling > 0.0:
                value = fused(1.0 - coupling, value, coupling * greater(value, other[i]))
            elif coupling < 0.0:
                value = fused(1.0 + coupling, value, -coupling * lesser(value, other[i]))
            scratch[i] = _LOG2_PER_DB * (makeup - value)
        exp2_into(scratch[:frames], gains[:frames])
        for i in range(frames):
            block[leg, i] *= gains[i]


class Room:
    """Working space for blocks of any size."""

    def __init__(self) -> None:
        self.scratch = np.empty(0)
        self.gains = np.empty(0)
        self.reductions = np.empty((2, 0))
        self.greatest = np.zeros(2)
        """The greatest reduction of each leg in the last block, in dB."""

    def for_frames(self, frames: int) -> None:
        if len(self.scratch) < frames:
            self.scratch, self.gains = np.empty(frames), np.empty(frames)
        if self.reductions.shape[1] != frames:
            self.reductions = np.empty((2, frames))


def reduce(
    powers: np.ndarray, frames: int, parameters: np.ndarray, state: np.ndarray, room: Room
) -> np.ndarray:
    """Reduction in dB (2, frames) that powers (2, frames or more) ask for; a view of the room's own array."""
    room.for_frames(frames)
    _reductions(powers, parameters, state, room.scratch, room.reductions, room.greatest)
    return room.reductions


def expand(
    powers: np.ndarray, frames: int, parameters: np.ndarray, state: np.ndarray, room: Room
) -> np.ndarray:
    """As `reduce`, for an expander: what is under the threshold is turned down."""
    room.for_frames(frames)
    _expansions(powers, parameters, state, room.scratch, room.reductions, room.greatest)
    return room.reductions


def apply(
    block: np.ndarray, reductions: np.ndarray, coupling: float, parameters: np.ndarray, room: Room
) -> None:
    """Turn block (2, frames) down in place. Coupling 0: each leg by its own reduction; 1: both by the larger; -1: both
    by the smaller.
    """
    _apply(block, reductions, coupling, parameters, room.scratch, room.gains)
