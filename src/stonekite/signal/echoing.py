"""Delays that feed back across two legs, read between samples.

What has gone in stands in a history (2, size) that is written at its end and moved back to its beginning when it is
full: so reading is straight through, and a filter of many taps is one addition of a stretch for each tap. A loop is
computed in pieces that are no longer than the shortest way round it; how a block is cut never changes a bit, since every
sample is the same sum in the same order.
"""

import numpy as np

from stonekite.signal.delay import closest_taps
from stonekite.signal.filters.biquads import LAGS, MASKS, NUMBERS, cascade_cell
from stonekite.signal.filters.fir import stretch
from stonekite.signal.kernel import filled, greater, inner, kernel, lesser
from stonekite.signal.vectors.fused import fused
from stonekite.signal.vectors.lanes import LANES

HALF = 24
"""Taps before and after a place between samples at the most."""
SHORTEST = 16
"""Samples that a piece of a loop has, where its delay leaves room for as many."""
PHASES = 512
"""Places between two samples of the table for delays that move."""
TINY = 1e-30
SOFT_FROM = 0.5
"""Up to here a bounded loop is as it is; from here on it bends towards 1."""

GAINS, LEVELS, DRY, DUCK, DELAYS, HOLD, FILTERS = 0, 4, 6, 7, 12, 14, 15
"""Where in the numbers of a row stand: gains (2, 2) to legs from legs; levels of both legs; that of what passes; what
turns down; the delays in samples; how far the loops are frozen; the filters in the loops. Behind them are those of the
taps."""
OLD, NOW, WANTED, LEFT = range(4)
"""Columns of what a moving delay is: where it comes from, where it is, where it goes (samples), and the samples left."""


def half_of(delay: float, rate: float) -> int:
    """How many taps on each side a delay in samples has: as many as 20 kHz needs at a rate, if there is room for them."""
    whole = int(delay)
    most = HALF if _edge(rate) > 0.85 and whole >= HALF + 2 * LANES else 16
    return max(1, min(most, max(whole - SHORTEST, min(whole - 1, 8))))


def _edge(rate: float) -> float:
    return min(0.91, max(0.6, 40_000.0 / rate))


def fixed_taps(delay: float, rate: float) -> tuple[int, np.ndarray]:
    """For a delay in samples: how many samples behind the first tap is, and the taps in the order of the samples; one if
    the delay is whole.
    """
    whole, part = divmod(round(delay, 7), 1.0)
    if not part:
        return int(whole), np.ones(1)
    half = half_of(delay, rate)
    taps = closest_taps(np.array([part]), 2 * half, _edge(rate))[0, ::-1]
    return int(whole) + half - 1, np.ascontiguousarray(taps)


def table(half: int, rate: float) -> np.ndarray:
    """Taps (PHASES + 1, 2 half) for delays of half + k / PHASES samples."""
    return np.ascontiguousarray(closest_taps(np.arange(PHASES + 1) / PHASES, 2 * half, _edge(rate)))


@kernel
def room(history, marks, count):
    """Have room for `count` more samples at the end, and for what a vector reads beyond it; marks are the end, and what
    has to be kept."""
    end, keep = marks[0], marks[1]
    if end + count + 2 * LANES > history.shape[1]:
        for row in range(history.shape[0]):
            for k in range(keep):
                history[row, k] = history[row, end - keep + k]
        marks[0] = keep


@kernel
def read_fixed(lines, row, end, behind, taps, out, start, n, spare):
    """out[row, start + i] = sum of taps[k] lines[row, end + i - behind + k], of lines that go on for LANES more."""
    first = end - behind
    if taps.shape[0] == 1:
        for i in range(n):
            out[row, start + i] = lines[row, first + i]
    else:
        stretch(lines, row, first, taps, out, start, n, spare)


@inner
def read_between(line, at, delay, phases, half):
    """The line a delay in samples before index `at`, by the table of phases."""
    whole = int(np.floor(delay))
    place = (delay - whole) * PHASES
    row = int(place)
    rest = place - row
    total = 0.0
    first = at - whole + half
    for k in range(2 * half):
        tap = phases[row, k] + rest * (phases[row + 1, k] - phases[row, k])
        total += tap * line[first - k]
    return total


@inner
def read_moving(line, end, moving, step, phases, half, out):
    """As `read_fixed`, of a delay that is on its way: it goes on by `step` samples a sample at the most."""
    for i in range(out.shape[0]):
        if moving[LEFT] > 0.0:
            moving[LEFT] -= 1.0
            if moving[LEFT] <= 0.0:
                moving[NOW] = moving[WANTED]
            elif moving[NOW] < moving[WANTED]:
                moving[NOW] = lesser(moving[WANTED], moving[NOW] + step)
            else:
                moving[NOW] = greater(moving[WANTED], moving[NOW] - step)
        out[i] = read_between(line, end + i, moving[NOW], phases, half)


@inner
def read_gliding(line, end, delay, step, offset, phases, half, out):
    """As `read_fixed`, of a delay that goes straight: `delay` + k `step` at frame k, the first of which is `offset`."""
    for i in range(out.shape[0]):
        out[i] = read_between(line, end + i, fused(step, offset + float(i), delay), phases, half)


@inner
def bounded(value):
    """A value as it is up to SOFT_FROM, and from there on bent so that it never reaches 1."""
    size = abs(value)
    if size <= SOFT_FROM:
        return value
    over = (size - SOFT_FROM) / (1.0 - SOFT_FROM)
    size = SOFT_FROM + (1.0 - SOFT_FROM) * over / (1.0 + over)
    return size if value > 0.0 else -size


@kernel
def take(
    history, marks, behind, taps_u, taps_l, moving, step, phases_u, phases_l, works, spare, late, rides, now, growing,
    offset, out, start, n,
):  # fmt: skip
    """Read both legs' delays into out[:, start:start + n]. Of a leg that `rides` they are those of the numbers `now`,
    which grow from frame to frame, less what stands in the loop is `late`."""
    for row in range(2):
        taps = taps_u if row == 0 else taps_l
        if not works[row]:
            filled(0.0, out[row, start : start + n])
            continue
        if rides[row]:
            phases = phases_u if row == 0 else phases_l
            half = phases.shape[1] // 2
            delay, grows = now[DELAYS + row] - late, growing[DELAYS + row]
            part = out[row, start : start + n]
            read_gliding(history[row], marks[0], delay, grows, float(offset), phases, half, part)
            continue
        way = 0
        if moving[row, LEFT] > 0.0:
            phases = phases_u if row == 0 else phases_l
            way = lesser(n, int(moving[row, LEFT]))
            half = phases.shape[1] // 2
            read_moving(
                history[row], marks[0], moving[row], step, phases, half, out[row, start : start + way]
            )
        if way < n:
            read_fixed(history, row, marks[0] + way, behind[row], taps, out, start + way, n - way, spare)


@kernel
def give(history, marks, fed, start, now, growing, offset, back, first, n, circle, bound, before, rise):
    """Write what goes into the loops: what is fed in from `start` on and what came back, back[:, first:first + n], by the
    gains among the numbers, to legs from legs; as far as they are frozen, what went in a whole turn ago (`circle`
    samples) in place of both. As far as there is something `before` (2, frames) that went in under other settings, it
    goes over from that by `rise` (frames,).
    """
    end = marks[0]
    frozen, freezes = now[HOLD], growing[HOLD]
    for row in range(2):
        put = history[row, end : end + n]
        if frozen == 1.0 and freezes == 0.0:
            for i in range(n):
                put[i] = history[row, end + i - circle[row]]
        else:
            own_gain, cross_gain = now[GAINS + 3 * row], now[GAINS + 1 + row]
            own_grows, cross_grows = growing[GAINS + 3 * row], growing[GAINS + 1 + row]
            rides = own_grows != 0.0 or cross_grows != 0.0
            own, other = back[row, first : first + n], back[1 - row, first : first + n]
            into = fed[row, start : start + n]
            if rides:
                for i in range(n):
                    k = float(offset + i)
                    own_now, cross_now = own_gain + own_grows * k, cross_gain + cross_grows * k
                    value = into[i] + (own_now * own[i] + cross_now * other[i])
                    put[i] = value if abs(value) > TINY else 0.0
            else:
                for i in range(n):  # slices, so that it is computed side by side
                    value = into[i] + (own_gain * own[i] + cross_gain * other[i])
                    put[i] = value if abs(value) > TINY else 0.0
            if bound:
                for i in range(n):
                    put[i] = bounded(put[i])
            if frozen != 0.0 or freezes != 0.0:
                for i in range(n):
                    share = frozen + freezes * float(offset + i)
                    put[i] += share * (history[row, end + i - circle[row]] - put[i])
        for i in range(lesser(n, before.shape[1] - start)):
            old = before[row, start + i]
            put[i] = old + rise[start + i] * (put[i] - old)
    marks[0] = end + n


@kernel
def turns(
    history, marks, fed, clock, behind, taps_u, taps_l, moving, step, phases_u, phases_l, works, spare, rides, starts,
    offsets, table, steps, states, circle, bound, before, rise, longest, back,
):  # fmt: skip
    """A whole block of loops in which nothing but filters stands: what comes back, into back (2, frames)."""
    frames, cells = back.shape[1], starts.shape[0]
    done = cell = 0
    last = FILTERS + states.shape[0] * NUMBERS
    while done < frames:
        until = starts[cell + 1] if cell + 1 < cells else frames
        if done == until:
            cell += 1
            until = starts[cell + 1] if cell + 1 < cells else frames
        n = lesser(longest, until - done)
        now, growing, offset = table[cell], steps[cell], offsets[cell] + done - starts[cell]
        room(history, marks, n)
        take(
            history,
            marks,
            behind,
            taps_u,
            taps_l,
            moving,
            step,
            phases_u,
            phases_l,
            works,
            spare,
            0,
            rides,
            now,
            growing,
            offset,
            back,
            done,
            n,
        )
        filters, filters_grow = now[FILTERS:last], growing[FILTERS:last]
        cascade_cell(back, done, done + n, clock + done, filters, filters_grow, offset, states, MASKS, LAGS)
        give(history, marks, fed, done, now, growing, offset, back, done, n, circle, bound, before, rise)
        done += n


@kernel
def append(history, marks, fed, before, rise):
    """Write a block (2, frames) into a history that has room, going over from what went in before, as `give`."""
    end = marks[0]
    for row in range(2):
        for i in range(fed.shape[1]):
            value = fed[row, i]
            if i < before.shape[1]:
                value = before[row, i] + rise[i] * (value - before[row, i])
            history[row, end + i] = value
    marks[0] = end + fed.shape[1]


@kernel
def duck(wet, dry, envelope, starts, offsets, table, steps):
    """Turn down wet (2, frames) by the envelope of dry: not at all below the second of the numbers from DUCK on, to the
    first of them from the third on; the others are how much of what it lacks it gets in each sample, up and down."""
    level, cells, cell = envelope[0], starts.shape[0], 0
    for i in range(wet.shape[1]):
        if cell + 1 < cells and i == starts[cell + 1]:
            cell += 1
        now, growing, k = table[cell], steps[cell], float(offsets[cell] + i - starts[cell])
        least, low = fused(growing[DUCK], k, now[DUCK]), fused(growing[DUCK + 1], k, now[DUCK + 1])
        high = fused(growing[DUCK + 2], k, now[DUCK + 2])
        rise, fall = fused(growing[DUCK + 3], k, now[DUCK + 3]), fused(growing[DUCK + 4], k, now[DUCK + 4])
        peak = greater(abs(dry[0, i]), abs(dry[1, i]))
        level += (rise if peak > level else fall) * (peak - level)
        if level < TINY:
            level = 0.0
        share = lesser(1.0, greater(0.0, (level - low) / (high - low)))
        share = share * share * (3.0 - 2.0 * share)
        gain = 1.0 - (1.0 - least) * share
        wet[0, i] *= gain
        wet[1, i] *= gain
    envelope[0] = level


@kernel
def guard(block, wet, dry, levels, limit, fall, numbers, works):
    """Put dry by its gain and wet by its levels (2,) together into block (2, frames). Where that would be louder than the
    limit, it is held there, and where `fall` is given (of gain, in each sample) the wet part falls silent for good:
    `numbers` are its gain now, and whether it is on its way out.
    """
    frames = block.shape[1]
    if numbers[1] == 0.0:
        loudest = 0.0
        for row in range(2):
            if works[row]:
                own, echo, level = block[row, :frames], wet[row, :frames], levels[row]
                fits = True
                for i in range(frames):
                    # Written so that what is no number does not fit.
                    fits &= abs(dry * own[i] + level * echo[i]) <= limit
                if not fits:
                    loudest = 2.0 * limit
        if loudest <= limit:
            for row in range(2):
                if works[row]:
                    own, echo, level = block[row, :frames], wet[row, :frames], levels[row]
                    for i in range(frames):
                        own[i] = dry * own[i] + level * echo[i]
            return
    gain, muted = numbers[0], numbers[1]
    for i in range(frames):
        for row in range(2):
            if not works[row]:
                continue
            own_now = dry * block[row, i]
            value = own_now + gain * (levels[row] * wet[row, i])
            if not abs(value) <= limit and abs(own_now) <= limit:
                if fall > 0.0:
                    muted = 1.0
                value = limit if value > 0.0 else -limit
                if not np.isfinite(wet[row, i]):
                    value = own_now
            block[row, i] = value
        if muted > 0.0 and gain > 0.0:
            gain = greater(0.0, gain - fall)
    numbers[0], numbers[1] = gain, muted
