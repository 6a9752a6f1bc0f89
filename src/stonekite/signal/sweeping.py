"""Delays and all-passes that swing: chorus and phaser.

Where a swing stands follows from the place in the recording alone, so that it is the same from any start. It is computed
where the place is a multiple of GRID, and goes straight from one such place to the next. Where the place jumps, what it
was ahead by dies away.

Chorus: J. Dattorro, "Effect Design, Part 2: Delay-Line Modulation and Chorus", Journal of the Audio Engineering Society
45 (1997), read by a windowed sinc in place of an all-pass. Phaser: all-passes of first order, (a + z^-1) / (1 + a z^-1),
in a row, fed back without a delay: what a row gives is a^n times what goes in, and what it remembers.
"""

import math

import numpy as np
from numba import njit

from stonekite.signal.delay import fraction_taps
from stonekite.signal.echoing import TINY, room
from stonekite.signal.lanes import fma, load, mul, splat, total

GRID = 32
HALF = 8
PHASES = 256
MOST_VOICES, MOST_PASSES = 3, 12


def table() -> tuple[np.ndarray, np.ndarray]:
    """Taps (PHASES, 16) in the order of the samples, for delays of HALF + k / PHASES, and how the next ones differ."""
    made = [fraction_taps(k / PHASES, 2 * HALF, 6.0)[::-1] for k in range(PHASES)]
    rows = np.array([*made, np.concatenate([made[0][1:], [0.0]])])
    return np.ascontiguousarray(rows[:-1]), np.ascontiguousarray(np.diff(rows, axis=0))


@njit(cache=True, nogil=True, error_model="numpy")
def swing(turns, straight):
    """-1 to 1, of a place in turns: round or straight, from 0 upwards."""
    part = turns - math.floor(turns)
    if not straight:
        return math.sin(2.0 * math.pi * part)
    if part < 0.25:
        return 4.0 * part
    if part < 0.75:
        return 2.0 - 4.0 * part
    return 4.0 * part - 4.0


@njit(cache=True, nogil=True, error_model="numpy")
def jump(offsets, counts, was, now, turns, begins, straight):
    """The place is `now` where it would have been `was`: stay where the swings were, for the moment."""
    for leg in range(2):
        for voice in range(counts[leg]):
            more = begins[leg] + voice / counts[leg]
            offsets[leg, voice] += _at(was, turns[leg], more, straight) - _at(now, turns[leg], more, straight)


@njit(cache=True, nogil=True, error_model="numpy")
def _at(place, turns, begin, straight):
    """A swing at a place, straight between the places of the grid."""
    first = (place // GRID) * GRID
    a = swing(first * turns + begin, straight)
    b = swing((first + GRID) * turns + begin, straight)
    return a + (b - a) * ((place - first) / GRID)


@njit(cache=True, nogil=True, error_model="numpy")
def chorus(
    block, start, stop, history, marks, place, turns, begins, straight, centres, depths, voices, feedback, works, offsets,
    fade, rows, steps, before, rise,
):  # fmt: skip
    """Process block[:, start:stop] in place, whose first sample belongs to `place`."""
    flat_rows, flat_steps = rows.reshape(-1), steps.reshape(-1)
    room(history, marks, stop - start)
    end = marks[0]
    for leg in range(2):
        if not works[leg]:
            for i in range(start, stop):
                history[leg, end + i - start] = 0.0
            continue
        line = history[leg]
        count = voices[leg]
        loud = 1.0 / math.sqrt(count)
        i = start
        now = np.zeros(MOST_VOICES)
        step = np.zeros(MOST_VOICES)
        while i < stop:
            here = place + (i - start)
            first = (here // GRID) * GRID
            last = min(stop, i + GRID - (here - first))
            for voice in range(count):
                more = begins[leg] + voice / count
                a = swing(first * turns[leg] + more, straight)
                b = swing((first + GRID) * turns[leg] + more, straight)
                if here == first and abs(offsets[leg, voice]) < 1e-12:
                    offsets[leg, voice] = 0.0
                now[voice] = a
                step[voice] = (b - a) / GRID
            for k in range(i, last):
                at = end + k - start
                come = 0.0
                for voice in range(count):
                    value = now[voice] + step[voice] * (here - first + k - i) + offsets[leg, voice]
                    offsets[leg, voice] *= fade
                    delay = centres[leg] + depths[leg] * value
                    whole = int(delay)
                    spot = (delay - whole) * PHASES
                    row = int(spot)
                    taps = fma(
                        splat(spot - row),
                        load(flat_steps, row * 2 * HALF),
                        load(flat_rows, row * 2 * HALF),
                    )
                    come += total(mul(taps, load(line, at - whole - HALF + 1)))
                put = block[leg, k] + feedback[leg] * come / count
                if k < before.shape[1]:
                    put = before[leg, k] + rise[k] * (put - before[leg, k])
                if abs(put) < TINY:
                    put = 0.0
                line[at] = put
                block[leg, k] = loud * come
            i = last
    marks[0] = end + stop - start


@njit(cache=True, nogil=True, error_model="numpy")
def _coefficient(middle, octaves, value, rate):
    bent = math.tan(math.pi * min(middle * 2.0 ** (octaves * value), 0.45 * rate) / rate)
    return (bent - 1.0) / (bent + 1.0)


@njit(cache=True, nogil=True, error_model="numpy")
def phaser(
    block, start, stop, states, place, turns, begins, straight, middles, octaves, passes, feedback, works, offsets, fade,
    rate,
):  # fmt: skip
    """Process block[:, start:stop] in place, whose first sample belongs to `place`."""
    rests = np.zeros(MOST_PASSES)
    for leg in range(2):
        if not works[leg]:
            continue
        count = passes[leg]
        state = states[leg]
        i = start
        while i < stop:
            here = place + (i - start)
            first = (here // GRID) * GRID
            last = min(stop, i + GRID - (here - first))
            value = swing(first * turns[leg] + begins[leg], straight)
            after = swing((first + GRID) * turns[leg] + begins[leg], straight)
            # What the swing was ahead by where the place jumped is the same over the whole step of the grid.
            ahead = offsets[leg, 0]
            a0 = _coefficient(middles[leg], octaves[leg], value + ahead, rate)
            a1 = _coefficient(middles[leg], octaves[leg], after + ahead * fade, rate)
            for k in range(i, last):
                share = (here - first + k - i) / GRID
                a = a0 + (a1 - a0) * share
                rest = 0.0
                whole = 1.0
                for n in range(count):
                    rest = a * rest + state[n]
                    rests[n] = rest
                    whole *= a
                x = (block[leg, k] + feedback[leg] * rest) / (1.0 - feedback[leg] * whole)
                went_in = x
                power = 1.0
                for n in range(count):
                    power *= a
                    out = rests[n] + power * x
                    kept = went_in - a * out
                    state[n] = kept if abs(kept) > TINY else 0.0
                    went_in = out
                block[leg, k] = went_in
            if (here + last - i) % GRID == 0:
                offsets[leg, 0] = ahead * fade if abs(ahead) > 1e-12 else 0.0
            i = last
