"""Delays and all-passes that swing: chorus and phaser.

Where a swing stands follows from the place in the recording alone, so that it is the same from any start. It is computed
where the place is a multiple of GRID, and goes straight from one such place to the next. Where the place jumps, what it
was ahead by dies away.

Chorus: J. Dattorro, "Effect Design, Part 2: Delay-Line Modulation and Chorus", Journal of the Audio Engineering Society
45 (1997), read between samples by polynomials (C. W. Farrow, "A continuously variable digital delay element", IEEE
International Symposium on Circuits and Systems, 1988): what does not depend on where between two samples it is read is
computed once, side by side. Phaser: all-passes of first order, (a + z^-1) / (1 + a z^-1), in a row, fed back without a
delay: what a row gives is a^n times what goes in, and what it remembers.
"""

import math

import numpy as np

from stonekite.signal.echoing import TINY, room
from stonekite.signal.filters.fir import stretches
from stonekite.signal.kernel import filled, greater, inner, kernel, lesser
from stonekite.signal.vectors.lanes import scalar_fma

GRID = 64
HALF = 8
ORDER = 4
"""Of the polynomials: with it there are five parts, as `stretches` makes."""
ROWS = 2 * (ORDER + 2)
"""Of what a chorus has written: both legs, and of each the ORDER + 1 parts that reading is made of."""
SHORTEST = 16
MOST_VOICES, MOST_PASSES = 3, 12
_EDGE = 0.8
CENTRE, DEPTH, BACK, PHASE = 0, 2, 4, 6
"""Where in the numbers of a row stand, each of the upper and the lower leg: the delay in the middle of the swing, or the
frequency; how far it swings, in samples or octaves; how much is fed back; where the swing stands, in turns."""


def parts() -> np.ndarray:
    """Weights (ORDER + 1, 2 HALF), in the order of the samples, of which the sum with the powers of 2 f - 1 is a delay of
    f samples: by least squares over 0 <= f <= 1, up to 0.8 of half the rate. Within -51 dB up to 0.7 of it, -40 dB at
    the end.
    """
    turns = np.pi * _EDGE * (np.arange(64) + 0.5) / 64
    taps = np.exp(-1j * np.outer(turns, np.arange(2 * HALF) - HALF))
    rows, wanted = [], []
    for f in np.linspace(0.0, 1.0, 17):
        powers = (2.0 * f - 1.0) ** np.arange(ORDER + 1)
        rows.append(np.einsum("m,wk->wmk", powers, taps).reshape(len(turns), -1))
        wanted.append(np.exp(-1j * turns * f))
    whole, right = np.concatenate(rows), np.concatenate(wanted)
    made, *_ = np.linalg.lstsq(
        np.concatenate([whole.real, whole.imag]), np.concatenate([right.real, right.imag]), rcond=None
    )
    return np.ascontiguousarray(made.reshape(ORDER + 1, -1)[:, ::-1])


@inner
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


@kernel
def jump(offsets, counts, was, now, turns, begins, straight):
    """The place is `now` where it would have been `was`: stay where the swings were, for the moment."""
    for leg in range(2):
        for voice in range(counts[leg]):
            more = begins[leg] + voice / counts[leg]
            offsets[leg, voice] += _at(was, turns[leg], more, straight) - _at(now, turns[leg], more, straight)


@kernel
def standing(found, counts, now, later, share, straight):
    """Where the voices of both legs (2, voices) stand in a cell that goes from the phases (2,) `now` to those `later`."""
    for leg in range(2):
        for voice in range(counts[leg]):
            more = voice / counts[leg]
            a, b = swing(now[leg] + more, straight), swing(later[leg] + more, straight)
            found[leg, voice] = a + (b - a) * share


@inner
def _at(place, turns, begin, straight):
    """A swing at a place, straight between the places of the grid."""
    first = (place // GRID) * GRID
    a = swing(first * turns + begin, straight)
    b = swing((first + GRID) * turns + begin, straight)
    return a + (b - a) * ((place - first) / GRID)


@inner
def _prepare(history, first, last, weights, spare):
    """The parts that reading is made of, for the samples from `first` to `last` of both legs."""
    for leg in range(2):
        outs = 2 + leg * (ORDER + 1)
        stretches(history, leg, first - HALF + 1, weights, outs, first, last - first, spare)


@inner
def _read(
    history,
    end,
    leg,
    out,
    frames,
    here,
    turns,
    begin,
    straight,
    now,
    growing,
    moves,
    count,
    offsets,
    fade,
    cells,
):
    """What the voices of one leg read for some samples, of which the first is written at `end`, at place `here`. Where a
    number `moves`, they are samples of one cell."""
    base = 2 + leg * (ORDER + 1)
    p0, p1, p2 = history[base], history[base + 1], history[base + 2]
    p3, p4 = history[base + 3], history[base + 4]
    whole, between = cells[0], cells[1]
    centre, depth = now[CENTRE + leg], now[DEPTH + leg]
    centre_grows, depth_grows = growing[CENTRE + leg], growing[DEPTH + leg]
    done = 0
    share = 1.0 / count
    filled(0.0, out[:frames])
    while done < frames:
        at = here + done
        cell = (at // GRID) * GRID
        until = lesser(frames, done + GRID - (at - cell))
        for voice in range(count):
            if at == cell and abs(offsets[voice]) < 1e-12:
                offsets[voice] = 0.0
            more = begin + voice * share
            stands, goes = cell * turns + more, (cell + GRID) * turns + more
            if moves:
                stands = now[PHASE + leg] + voice * share
                goes = stands + GRID * growing[PHASE + leg]
            a = swing(stands, straight)
            step = (swing(goes, straight) - a) / GRID
            ahead = offsets[voice]
            count_now = until - done
            if moves:
                for k in range(count_now):
                    into = float(at - cell + k)
                    value = lesser(1.0, greater(-1.0, a + step * into + ahead))
                    ahead *= fade
                    delay = centre + centre_grows * into + (depth + depth_grows * into) * value
                    whole[k] = np.floor(delay)
                    between[k] = 2.0 * (delay - whole[k]) - 1.0
            elif ahead == 0.0:
                for k in range(count_now):
                    delay = centre + depth * (a + step * (at - cell + k))
                    whole[k] = np.floor(delay)
                    between[k] = 2.0 * (delay - whole[k]) - 1.0
            else:
                for k in range(count_now):
                    value = a + step * (at - cell + k) + ahead
                    ahead *= fade
                    delay = centre + depth * lesser(1.0, greater(-1.0, value))
                    whole[k] = np.floor(delay)
                    between[k] = 2.0 * (delay - whole[k]) - 1.0
            k = 0
            while k < count_now:  # as long as it reads from one sample to the next, side by side
                run = count_now
                if (
                    moves or ahead != 0.0 or whole[count_now - 1] != whole[k]
                ):  # a swing goes one way within a cell
                    run = k + 1
                    while run < count_now and whole[run] == whole[k]:
                        run += 1
                j = end + done + k - int(whole[k])
                n = run - k
                q0, q1, q2 = p0[j : j + n], p1[j : j + n], p2[j : j + n]
                q3, q4 = p3[j : j + n], p4[j : j + n]
                f = between[k:run]
                into = out[done + k : done + run]
                for m in range(n):
                    into[m] += q0[m] + f[m] * (q1[m] + f[m] * (q2[m] + f[m] * (q3[m] + f[m] * q4[m])))
                k = run
            offsets[voice] = ahead
        done = until


@kernel
def chorus(
    block, start, stop, history, marks, place, turns, begins, straight, voices, works, offsets, fade, weights, spare,
    back, longest, before, rise, come, cells, first_row, moves, table, steps,
):  # fmt: skip
    """Process block[:, start:stop] in place, whose first sample belongs to `place`: in pieces of `longest` samples where
    something is fed `back`. The numbers are those of `first_row` of the table, and where one `moves` of the rows from
    there on. `come` (2, longest or more, or the block) and `cells` (2, GRID) are working space.
    """
    done = start
    while done < stop:
        n = lesser(longest, stop - done)
        here = place + done - start
        row = first_row
        if moves:
            row += here // GRID - place // GRID
            n = lesser(n, GRID - here % GRID)
        now, growing, into = table[row], steps[row], float(here % GRID)
        room(history, marks, n)
        end = marks[0]
        for first in range(2):  # written before it is read where nothing is fed back, otherwise after it
            if (first == 1) == back:
                for leg in range(2):
                    line = history[leg, end : end + n]
                    went_in = block[leg, done : done + n]
                    gain, gain_grows = now[BACK + leg] / voices[leg], growing[BACK + leg] / voices[leg]
                    if not works[leg]:
                        filled(0.0, line)
                    elif back and moves:
                        for i in range(n):
                            put = went_in[i] + (gain + gain_grows * (into + float(i))) * come[leg, i]
                            line[i] = put if abs(put) > TINY else 0.0
                    elif back:
                        for i in range(n):
                            put = went_in[i] + gain * come[leg, i]
                            line[i] = put if abs(put) > TINY else 0.0
                    else:
                        for i in range(n):
                            line[i] = went_in[i] if abs(went_in[i]) > TINY else 0.0
                    for i in range(lesser(n, before.shape[1] - done)):
                        old = before[leg, done + i]
                        line[i] = old + rise[done + i] * (line[i] - old)
                if not back:
                    _prepare(history, end - HALF, end + n - HALF, weights, spare)
            else:
                for leg in range(2):
                    if works[leg]:
                        _read(
                            history, end, leg, come[leg], n, here, turns[leg], begins[leg], straight, now, growing,
                            moves, voices[leg], offsets[leg], fade, cells,
                        )  # fmt: skip
                    else:
                        filled(0.0, come[leg, :n])
        if back:
            _prepare(history, end - HALF, end + n - HALF, weights, spare)
        for leg in range(2):
            if works[leg]:
                loud = 1.0 / math.sqrt(voices[leg])
                came_out = block[leg, done : done + n]
                for i in range(n):
                    came_out[i] = loud * come[leg, i]
        marks[0] = end + n
        done += n


@inner
def _coefficient(middle, octaves, value, rate):
    bent = math.tan(math.pi * lesser(middle * 2.0 ** (octaves * value), 0.45 * rate) / rate)
    return (bent - 1.0) / (bent + 1.0)


@kernel
def phaser(
    block, start, stop, states, place, turns, begins, straight, passes, works, offsets, fade, rate, corners, first_row,
    moves, table, steps,
):  # fmt: skip
    """Process block[:, start:stop] in place, whose first sample belongs to `place`. What both legs have is computed side
    by side. `corners` (2, 2, 2) is working space.
    """
    ends, gains = corners[0], corners[1]
    count_a, count_b = passes[0] if works[0] else 0, passes[1] if works[1] else 0
    both = lesser(count_a, count_b)
    upper, lower = block[0], block[1]
    above, below = states[0], states[1]
    done = start
    while done < stop:
        here = place + (done - start)
        cell = (here // GRID) * GRID
        until = lesser(stop, done + GRID - (here - cell))
        row = first_row + (here // GRID - place // GRID if moves else 0)
        numbers, growing = table[row], steps[row]
        for leg in range(2):
            ahead = offsets[leg, 0]
            now = swing(cell * turns[leg] + begins[leg], straight)
            later = swing((cell + GRID) * turns[leg] + begins[leg], straight)
            if moves:
                now = swing(numbers[PHASE + leg], straight)
                later = swing(numbers[PHASE + leg] + GRID * growing[PHASE + leg], straight)
            for side in range(2):  # a row gives a^n times what goes in at once
                into = float(GRID * side)
                middle = numbers[CENTRE + leg] + into * growing[CENTRE + leg]
                wide = numbers[DEPTH + leg] + into * growing[DEPTH + leg]
                back = numbers[BACK + leg] + into * growing[BACK + leg]
                value = now + ahead if side == 0 else later + ahead * fade
                ends[leg, side] = _coefficient(middle, wide, value, rate)
                gains[leg, side] = 1.0 / (1.0 - back * ends[leg, side] ** passes[leg])
        back_a, back_b = numbers[BACK] if works[0] else 0.0, numbers[BACK + 1] if works[1] else 0.0
        more_a, more_b = growing[BACK] if works[0] else 0.0, growing[BACK + 1] if works[1] else 0.0
        a0, b0, g0, h0 = ends[0, 0], ends[1, 0], gains[0, 0], gains[1, 0]
        a1, b1 = (ends[0, 1] - a0) / GRID, (ends[1, 1] - b0) / GRID
        g1, h1 = (gains[0, 1] - g0) / GRID, (gains[1, 1] - h0) / GRID
        for k in range(done, until):
            share = float(here - cell + k - done)
            a, b = a0 + a1 * share, b0 + b1 * share
            rest_a, rest_b = 0.0, 0.0
            for n in range(both):
                rest_a = scalar_fma(a, rest_a, above[n])
                rest_b = scalar_fma(b, rest_b, below[n])
            for n in range(both, count_a):
                rest_a = scalar_fma(a, rest_a, above[n])
            for n in range(both, count_b):
                rest_b = scalar_fma(b, rest_b, below[n])
            x = (upper[k] + (back_a + more_a * share) * rest_a) * (g0 + g1 * share)
            y = (lower[k] + (back_b + more_b * share) * rest_b) * (h0 + h1 * share)
            for n in range(both):
                out_a = scalar_fma(a, x, above[n])
                out_b = scalar_fma(b, y, below[n])
                above[n] = scalar_fma(-a, out_a, x)
                below[n] = scalar_fma(-b, out_b, y)
                x, y = out_a, out_b
            for n in range(both, count_a):
                out_a = scalar_fma(a, x, above[n])
                above[n] = scalar_fma(-a, out_a, x)
                x = out_a
            for n in range(both, count_b):
                out_b = scalar_fma(b, y, below[n])
                below[n] = scalar_fma(-b, out_b, y)
                y = out_b
            if count_a:
                upper[k] = x
            if count_b:
                lower[k] = y
        if (here + until - done) % GRID == 0:
            for leg in range(2):
                offsets[leg, 0] = offsets[leg, 0] * fade if abs(offsets[leg, 0]) > 1e-12 else 0.0
                for n in range(MOST_PASSES):
                    if abs(states[leg, n]) < TINY:
                        states[leg, n] = 0.0
        done = until
