"""Delays that feed back across two legs, read between samples.

What has gone in stands in a history (2, size) that is written at its end and moved back to its beginning when it is
full: so reading is straight through, and a filter of many taps is one addition of a stretch for each tap. A loop is
computed in pieces that are no longer than the shortest way round it; how a block is cut never changes a bit, since every
sample is the same sum in the same order.
"""

import numpy as np
from numba import njit

from stonekite.signal.biquads import _MASKS, _cascade
from stonekite.signal.delay import fraction_taps

HALF = 32
"""Taps before and after a place between samples, where the delay leaves room for as many."""
BETA = 7.0
PHASES = 512
"""Places between two samples of the table for delays that move."""
TINY = 1e-30
SOFT_FROM = 0.5
"""Up to here a bounded loop is as it is; from here on it bends towards 1."""

OLD, NOW, WANTED, LEFT = range(4)
"""Columns of what a moving delay is: where it comes from, where it is, where it goes (samples), and the samples left."""


def half_of(delay: float) -> int:
    """How many taps on each side there is room for, of a delay in samples."""
    return max(1, min(HALF, int(delay) - 1))


def fixed_taps(delay: float) -> tuple[int, np.ndarray]:
    """For a delay in samples: by how many whole samples the last tap but none is behind, and the taps; one tap if it is
    whole.
    """
    whole, part = divmod(round(delay, 7), 1.0)
    if not part:
        return int(whole), np.ones(1)
    half = half_of(delay)
    return int(whole) - half, fraction_taps(part, 2 * half, BETA)


def table(half: int) -> np.ndarray:
    """Taps (PHASES + 1, 2 half) for delays of half + k / PHASES samples."""
    made = [fraction_taps(k / PHASES, 2 * half, BETA) for k in range(PHASES)]
    return np.array([*made, np.concatenate([[0.0], made[0][:-1]])])


@njit(cache=True, nogil=True, error_model="numpy")
def room(history, marks, count):
    """Have room for `count` more samples at the end; marks are the end, and what has to be kept."""
    end, keep = marks[0], marks[1]
    if end + count > history.shape[1]:
        for row in range(history.shape[0]):
            for k in range(keep):
                history[row, k] = history[row, end - keep + k]
        marks[0] = keep


@njit(cache=True, nogil=True, error_model="numpy")
def read_fixed(line, end, behind, taps, out):
    """out[i] = sum of taps[k] line[end + i - behind - k]."""
    n = out.shape[0]
    first = end - behind
    for i in range(n):
        out[i] = taps[0] * line[first + i]
    for k in range(1, taps.shape[0]):
        tap = taps[k]
        start = first - k
        for i in range(n):
            out[i] += tap * line[start + i]


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
def read_moving(line, end, moving, step, phases, half, out):
    """As `read_fixed`, of a delay that is on its way: it goes on by `step` samples a sample at the most."""
    for i in range(out.shape[0]):
        if moving[LEFT] > 0.0:
            moving[LEFT] -= 1.0
            if moving[LEFT] <= 0.0:
                moving[NOW] = moving[WANTED]
            elif moving[NOW] < moving[WANTED]:
                moving[NOW] = min(moving[WANTED], moving[NOW] + step)
            else:
                moving[NOW] = max(moving[WANTED], moving[NOW] - step)
        out[i] = read_between(line, end + i, moving[NOW], phases, half)


@njit(cache=True, nogil=True, error_model="numpy")
def bounded(value):
    """A value as it is up to SOFT_FROM, and from there on bent so that it never reaches 1."""
    size = abs(value)
    if size <= SOFT_FROM:
        return value
    over = (size - SOFT_FROM) / (1.0 - SOFT_FROM)
    size = SOFT_FROM + (1.0 - SOFT_FROM) * over / (1.0 + over)
    return size if value > 0.0 else -size


@njit(cache=True, nogil=True, error_model="numpy")
def take(history, marks, behind, taps_u, taps_l, moving, step, phases_u, phases_l, works, out):
    """Read both legs' delays into out (2, n)."""
    n = out.shape[1]
    for row in range(2):
        taps = taps_u if row == 0 else taps_l
        phases = phases_u if row == 0 else phases_l
        if not works[row]:
            out[row, :] = 0.0
            continue
        way = min(n, int(moving[row, LEFT]))
        if way:
            read_moving(
                history[row], marks[0], moving[row], step, phases, phases.shape[1] // 2, out[row, :way]
            )
        if way < n:
            read_fixed(history[row], marks[0] + way, behind[row], taps, out[row, way:])


@njit(cache=True, nogil=True, error_model="numpy")
def give(history, marks, fed, start, gains, back, circle, held, bound, before, rise):
    """Write what goes into the loops: what is fed in from `start` on, and what came back (2, n) by the gains (2, 2), to
    legs from legs; if it is held, what went in a whole turn ago (`circle` samples) in place of both. As far as there is
    something `before` (2, frames) that went in under other settings, it goes over from that by `rise` (frames,).
    """
    end = marks[0]
    n = back.shape[1]
    for row in range(2):
        other = 1 - row
        own_gain, cross_gain = gains[row, row], gains[row, other]
        for i in range(n):
            if held:
                value = history[row, end + i - circle[row]]
            else:
                value = fed[row, start + i] + (own_gain * back[row, i] + cross_gain * back[other, i])
                if bound:
                    value = bounded(value)
            if start + i < before.shape[1]:
                old = before[row, start + i]
                value = old + rise[start + i] * (value - old)
            if abs(value) < TINY:
                value = 0.0
            history[row, end + i] = value
    marks[0] = end + n


@njit(cache=True, nogil=True, error_model="numpy")
def turns(
    history, marks, fed, clock, behind, taps_u, taps_l, moving, step, phases_u, phases_l, works, filters, states, gains,
    circle, held, bound, before, rise, longest, back,
):  # fmt: skip
    """A whole block of loops in which nothing but filters stands: what comes back, into back (2, frames)."""
    frames = back.shape[1]
    done = 0
    while done < frames:
        n = min(longest, frames - done)
        room(history, marks, n)
        part = back[:, done : done + n]
        take(history, marks, behind, taps_u, taps_l, moving, step, phases_u, phases_l, works, part)
        _cascade(part, clock + done, filters, states, _MASKS)
        give(history, marks, fed, done, gains, part, circle, held, bound, before, rise)
        done += n


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
def duck(wet, dry, envelope, least, low, high, rise, fall):
    """Turn down wet (2, frames) by the envelope of dry: not at all below `low`, to `least` from `high` on."""
    level = envelope[0]
    for i in range(wet.shape[1]):
        peak = max(abs(dry[0, i]), abs(dry[1, i]))
        level += (rise if peak > level else fall) * (peak - level)
        if level < TINY:
            level = 0.0
        share = min(1.0, max(0.0, (level - low) / (high - low)))
        share = share * share * (3.0 - 2.0 * share)
        gain = 1.0 - (1.0 - least) * share
        wet[0, i] *= gain
        wet[1, i] *= gain
    envelope[0] = level


@njit(cache=True, nogil=True, error_model="numpy")
def guard(block, wet, dry, limit, fall, numbers, works):
    """Put dry by its gain and wet together into block (2, frames). Where that would be louder than the limit, it is held
    there and the wet part falls silent for good: `numbers` are its gain now, and whether it is on its way out.
    """
    gain, muted = numbers[0], numbers[1]
    for i in range(block.shape[1]):
        for row in range(2):
            if not works[row]:
                continue
            own = dry * block[row, i]
            value = own + gain * wet[row, i]
            if not abs(value) <= limit and abs(own) <= limit:
                muted = 1.0
                value = limit if value > 0.0 else -limit
                if not np.isfinite(wet[row, i]):
                    value = own
            block[row, i] = value
        if muted > 0.0 and gain > 0.0:
            gain = max(0.0, gain - fall)
    numbers[0], numbers[1] = gain, muted
