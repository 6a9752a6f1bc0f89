"""Detectors and gain computers of dynamic processes, after Giannoulis, Massberg and Reiss, "Digital Dynamic Range
Compressor Design: A Tutorial and Analysis", J. Audio Eng. Soc. 60, 2012.

Feed-forward, in decibels: level (signal/levels/envelope.py), gain computer with a soft knee, and then a smoother whose
time constant is the attack while the reduction grows and the release while it falls (the paper's smooth, branching one).
Attack and release are the times in which the reduction gets to 1 - 1/e, 63 %, of a step.
"""

from typing import TypeVar

import numpy as np

from stonekite.signal.kernel import any_of, greater, inlined, inner, kernel, lesser
from stonekite.signal.vectors.fused import fused
from stonekite.signal.vectors.quick import exp2_into, log2_into

Numbers = TypeVar("Numbers", float, np.ndarray)
Cells = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]

DB_PER_LOG2_POWER = 3.010299956639812
_LOG2_PER_DB = 0.16609640474436813
_FLOOR = 1e-30
"""Power under which there is silence (-300 dB)."""
_NOTHING_DB = 1e-9
"""A smaller reduction is none: gains come back to exactly 1, and denormals never come up."""

THRESHOLD, SLOPE, KNEE, RANGE, ATTACK, RELEASE, SLOW, TRIM, GAIN, HYSTERESIS = range(10)
"""What the numbers (NUMBERS,) are, each of the upper and of the lower leg: threshold in dB; dB of reduction for each dB
beyond it; knee and range in dB; three smoothing factors (for an expander the third is the hold, in samples); detector
trim and gain in dB; hysteresis in dB."""
ROWS = 10
COUPLING = 2 * ROWS
"""Of the numbers the one behind them: 0 if each leg goes by its own reduction, 1 if both do by the greater one."""
NUMBERS = COUPLING + 1
FAST, LONG, OPEN = range(3)
"""Rows of the state (MEMORIES, 2): the two smoothers (for an expander the second is what is left of the hold), and
whether an expander is open."""
MEMORIES = 3


def smoothing(seconds: Numbers, rate: float) -> Numbers:
    """Factor of a one-pole smoother with this time constant; 0 for no time at all."""
    if isinstance(seconds, np.ndarray):
        return np.where(seconds > 0, np.exp(-1.0 / (np.maximum(seconds, 1e-9) * rate)), 0.0)
    return float(np.exp(-1.0 / (seconds * rate))) if seconds > 0 else 0.0


@inlined
def _levels(powers, scratch, out):
    """log2 of powers (frames,) into `out`."""
    frames = out.shape[0]
    for i in range(frames):
        scratch[i] = powers[i] + _FLOOR
    log2_into(scratch[:frames], out)


@inlined
def _soft(beyond, slope, half, bend, most):
    """Reduction in dB of what is so far beyond the threshold."""
    inside = beyond + half
    soft = bend * inside * inside
    value = slope * beyond if beyond > half else (soft if inside > 0.0 else 0.0)
    return lesser(value, most)


@inlined
def _bend(slope, half):
    return slope / (4.0 * half) if half > 0.0 else 0.0


@inlined
def _opened(cell, now, step, offset, leg, fast, left, is_open, moves):
    """A cell of `_expansions`: `now` + k `step` are the numbers of frame k, the first one being `offset`."""
    threshold, trim, hysteresis = now[2 * THRESHOLD + leg], now[2 * TRIM + leg], now[2 * HYSTERESIS + leg]
    opens = threshold - trim
    opens_step = step[2 * THRESHOLD + leg] - step[2 * TRIM + leg]
    closes, closes_step = opens - hysteresis, opens_step - step[2 * HYSTERESIS + leg]
    slope, slope_step = now[2 * SLOPE + leg], step[2 * SLOPE + leg]
    half, half_step = 0.5 * now[2 * KNEE + leg], 0.5 * step[2 * KNEE + leg]
    most, most_step = now[2 * RANGE + leg], step[2 * RANGE + leg]
    attack, attack_step = now[2 * ATTACK + leg], step[2 * ATTACK + leg]
    release, release_step = now[2 * RELEASE + leg], step[2 * RELEASE + leg]
    hold, hold_step = now[2 * SLOW + leg], step[2 * SLOW + leg]
    up, down, steep, wide, far, soon, late, long = opens, closes, slope, half, most, attack, release, hold
    bend = _bend(slope, half)
    peak = 0.0
    for i in range(cell.shape[0]):
        if moves:
            k = offset + float(i)
            up, down = fused(opens_step, k, opens), fused(closes_step, k, closes)
            steep, wide, far = (
                fused(slope_step, k, slope),
                fused(half_step, k, half),
                fused(most_step, k, most),
            )
            soon, late = fused(attack_step, k, attack), fused(release_step, k, release)
            long = fused(hold_step, k, hold)
            bend = _bend(steep, wide)
        level = DB_PER_LOG2_POWER * cell[i]
        if level >= up:
            is_open = 1.0
            left = long
        elif is_open > 0.0 and level < down:
            if left > 0.0:
                left -= 1.0
            else:
                is_open = 0.0
        value = _soft((down if is_open > 0.0 else up) - level, steep, wide, bend, far)
        if is_open > 0.0 and left > 0.0:
            value = 0.0
        factor = late if value > fast else soon
        fast = fused(factor, fast - value, value)
        fast = fast if fast > _NOTHING_DB else 0.0
        cell[i] = fast
        peak = fast if fast > peak else peak
    return fast, left, is_open, peak


@kernel
def _expansions(powers, starts, offsets, table, steps, state, scratch, wanted, greatest):
    """Smoothed reduction in dB (2, frames) of an expander or gate into `wanted`, the greatest of a leg into `greatest`.

    It opens where the level comes over the threshold, and closes where it has been under the threshold less the
    hysteresis for longer than the hold. Attack is the time of opening.
    """
    frames, cells = wanted.shape[1], starts.shape[0]
    for leg in range(2):
        target = wanted[leg]
        _levels(powers[leg], scratch, target)
        fast, left, is_open = state[FAST, leg], state[LONG, leg], state[OPEN, leg]
        peak = 0.0
        for cell in range(cells):
            first = starts[cell]
            last = starts[cell + 1] if cell + 1 < cells else frames
            now, step, offset, part = table[cell], steps[cell], float(offsets[cell]), target[first:last]
            if any_of(step[:COUPLING]):
                fast, left, is_open, most = _opened(part, now, step, offset, leg, fast, left, is_open, True)
            else:
                fast, left, is_open, most = _opened(part, now, step, offset, leg, fast, left, is_open, False)
            peak = greater(peak, most)
        greatest[leg] = peak
        state[FAST, leg], state[LONG, leg], state[OPEN, leg] = fast, left, is_open


@inlined
def _computed(cell, now, step, offset, leg, moves):
    """The gain computer of a cell, from levels to reductions in place."""
    threshold = now[2 * THRESHOLD + leg] - now[2 * TRIM + leg]
    slope, half, most = now[2 * SLOPE + leg], 0.5 * now[2 * KNEE + leg], now[2 * RANGE + leg]
    bend = _bend(slope, half)
    if moves:
        threshold_step = step[2 * THRESHOLD + leg] - step[2 * TRIM + leg]
        slope_step, half_step = step[2 * SLOPE + leg], 0.5 * step[2 * KNEE + leg]
        most_step = step[2 * RANGE + leg]
        for i in range(cell.shape[0]):
            k = offset + float(i)
            steep, wide = fused(slope_step, k, slope), fused(half_step, k, half)
            over = fused(DB_PER_LOG2_POWER, cell[i], -fused(threshold_step, k, threshold))
            cell[i] = _soft(over, steep, wide, _bend(steep, wide), fused(most_step, k, most))
    else:
        for i in range(cell.shape[0]):
            over = fused(DB_PER_LOG2_POWER, cell[i], -threshold)
            cell[i] = _soft(over, slope, half, bend, most)


@inlined
def _smoothed(cell, now, step, offset, leg, fast, long, moves):
    """The smoothers of a cell, in place."""
    attack, attack_step = now[2 * ATTACK + leg], step[2 * ATTACK + leg]
    release, release_step = now[2 * RELEASE + leg], step[2 * RELEASE + leg]
    slow, slow_step = now[2 * SLOW + leg], step[2 * SLOW + leg]
    soon, late, later = attack, release, slow
    peak = 0.0
    if slow > 0.0:
        for i in range(cell.shape[0]):
            if moves:
                k = offset + float(i)
                soon, late = fused(attack_step, k, attack), fused(release_step, k, release)
                later = fused(slow_step, k, slow)
            value = cell[i]
            factor = soon if value > fast else late
            fast = fused(factor, fast - value, value)
            fast = fast if fast > _NOTHING_DB else 0.0
            long = fused(later, long - fast, fast)
            long = long if long > _NOTHING_DB else 0.0
            cell[i] = greater(fast, long)
            peak = cell[i] if cell[i] > peak else peak
    else:
        for i in range(cell.shape[0]):
            if moves:
                k = offset + float(i)
                soon, late = fused(attack_step, k, attack), fused(release_step, k, release)
            value = cell[i]
            factor = soon if value > fast else late
            fast = fused(factor, fast - value, value)
            fast = fast if fast > _NOTHING_DB else 0.0
            cell[i] = fast
            peak = fast if fast > peak else peak
    return fast, long, peak


@kernel
def _reductions(powers, starts, offsets, table, steps, state, scratch, wanted, greatest):
    """Smoothed reduction in dB (2, frames) into `wanted`, the greatest of a leg into `greatest`; `scratch` (frames,) is
    overwritten.

    With LONG in use (SLOW > 0) a second smoother follows that gathers slowly and lets go slowly: short peaks are
    let go by the release, long reductions by it.
    """
    frames, cells = wanted.shape[1], starts.shape[0]
    for leg in range(2):
        target = wanted[leg]
        _levels(powers[leg], scratch, target)
        fast, long = state[FAST, leg], state[LONG, leg]
        peak = 0.0
        for cell in range(cells):
            first = starts[cell]
            last = starts[cell + 1] if cell + 1 < cells else frames
            now, step, offset, part = table[cell], steps[cell], float(offsets[cell]), target[first:last]
            if any_of(step[:COUPLING]):
                _computed(part, now, step, offset, leg, True)
                fast, long, most = _smoothed(part, now, step, offset, leg, fast, long, True)
            else:
                _computed(part, now, step, offset, leg, False)
                fast, long, most = _smoothed(part, now, step, offset, leg, fast, long, False)
            peak = greater(peak, most)
        greatest[leg] = peak
        state[FAST, leg], state[LONG, leg] = fast, long


@kernel
def _apply(legs, block, reductions, lower, starts, offsets, table, steps, scratch, gains):
    """Multiply one leg of block (2, frames), or both (2), by the gains of coupled reductions, towards the lower one if
    asked."""
    for leg in range(2):
        if legs == 2 or legs == leg:
            _apply_to(leg, block, reductions, lower, starts, offsets, table, steps, scratch, gains)


@inner
def _apply_to(leg, block, reductions, lower, starts, offsets, table, steps, scratch, gains):
    frames, cells = block.shape[1], starts.shape[0]
    mine, other = reductions[leg], reductions[1 - leg]
    for cell in range(cells):
        first = starts[cell]
        last = starts[cell + 1] if cell + 1 < cells else frames
        makeup, makeup_step = table[cell, 2 * GAIN + leg], steps[cell, 2 * GAIN + leg]
        coupling, coupling_step = table[cell, COUPLING], steps[cell, COUPLING]
        offset = float(offsets[cell])
        into, own, beside = scratch[first:last], mine[first:last], other[first:last]
        if coupling == 0.0 and coupling_step == 0.0 and makeup_step == 0.0:
            for i in range(last - first):
                into[i] = _LOG2_PER_DB * (makeup - own[i])
        else:
            for i in range(last - first):
                k = offset + float(i)
                share = fused(coupling_step, k, coupling)
                value = own[i]
                shared = lesser(value, beside[i]) if lower else greater(value, beside[i])
                value = fused(1.0 - share, value, share * shared)
                into[i] = _LOG2_PER_DB * (fused(makeup_step, k, makeup) - value)
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


def reduce(powers: np.ndarray, frames: int, cells: Cells, state: np.ndarray, room: Room) -> np.ndarray:
    """Reduction in dB (2, frames) that powers (2, frames or more) ask for; a view of the room's own array."""
    room.for_frames(frames)
    _reductions(powers, *cells, state, room.scratch, room.reductions, room.greatest)
    return room.reductions


def expand(powers: np.ndarray, frames: int, cells: Cells, state: np.ndarray, room: Room) -> np.ndarray:
    """As `reduce`, for an expander: what is under the threshold is turned down."""
    room.for_frames(frames)
    _expansions(powers, *cells, state, room.scratch, room.reductions, room.greatest)
    return room.reductions


def apply(
    block: np.ndarray, reductions: np.ndarray, lower: bool, cells: tuple[Cells, Cells], room: Room
) -> None:
    """Turn block (2, frames) down in place, as far as legs are coupled by the greater of both reductions, or by the lower
    one; each leg by the numbers of its own cells."""
    if cells[0][2] is cells[1][2]:
        _apply(2, block, reductions, lower, *cells[0], room.scratch, room.gains)
        return
    for leg in range(2):
        _apply(leg, block, reductions, lower, *cells[leg], room.scratch, room.gains)
