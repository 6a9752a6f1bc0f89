"""Delays that move: sound read between its samples, at places that go on quicker or slower, or over from one to another.

Between two samples stands a windowed sinc as in signal/delay.py, kept for PHASES parts of a sample and straight between
two of them: -116 dB off at the most.
"""

from functools import cache

import numpy as np

from stonekite.signal.delay import TAPS, fraction_taps
from stonekite.signal.kernel import inner, kernel

PHASES = 512
OVER = 1024
"""Going over from one delay to another takes so many frames, and begins at places so far from each other."""


@cache
def phases() -> np.ndarray:
    """Taps (PHASES + 1, TAPS) that delay by TAPS / 2 and so many parts of a sample, the last one first."""
    return np.ascontiguousarray(
        [
            *(fraction_taps(k / PHASES)[::-1] for k in range(PHASES)),
            np.concatenate([[0.0], fraction_taps(0.0)])[:TAPS][::-1],
        ]
    )


@cache
def rise() -> np.ndarray:
    """How much of the new delay is heard, frame by frame (OVER,)."""
    return 0.5 - 0.5 * np.cos(np.pi * np.arange(1, OVER + 1) / OVER)


@inner
def read(joined, frame, delay, taps):
    """What stands `delay` samples, and TAPS / 2, before a frame of a signal."""
    whole = int(delay)
    phase = (delay - whole) * (taps.shape[0] - 1)
    row = int(phase)
    share = phase - row
    count = taps.shape[1]
    first = frame - whole - count + 1
    a, b, c, d = 0.0, 0.0, 0.0, 0.0
    for k in range(0, count, 2):
        one, two = joined[first + k], joined[first + k + 1]
        a += taps[row, k] * one
        b += taps[row, k + 1] * two
        if share > 0.0:
            c += taps[row + 1, k] * one
            d += taps[row + 1, k + 1] * two
    value = a + b
    return value + share * (c + d - value) if share > 0.0 else value


@kernel
def as_tape(joined, starts, offsets, table, steps, number, taps, out):
    """Into out (frames,) what a signal, of which the last frames are the block, was before a delay that goes straight
    within each cell: `number` of the numbers of rows, in samples."""
    past = joined.shape[0] - out.shape[0]
    for cell in range(starts.shape[0]):
        begin = starts[cell]
        end = starts[cell + 1] if cell + 1 < starts.shape[0] else out.shape[0]
        for i in range(begin, end):
            delay = table[cell, number] + (offsets[cell] + i - begin) * steps[cell, number]
            out[i] = read(joined, past + i, delay, taps)


@kernel
def going_over(joined, marks, wanted, state, taps, rising, out):
    """As `as_tape`, going over from one delay to another, where `wanted` (n,) differs at the frames `marks` (n,). `state`
    (3,) is the delay that it comes from, the one that it goes to, and how many frames of the way are done."""
    past = joined.shape[0] - out.shape[0]
    length = rising.shape[0]
    mark = 0
    for i in range(out.shape[0]):
        if mark < marks.shape[0] and marks[mark] == i:
            if state[2] >= length and wanted[mark] != state[1]:
                state[0], state[1], state[2] = state[1], wanted[mark], 0.0
            mark += 1
        value = read(joined, past + i, state[1], taps)
        if state[2] < length:
            share = rising[int(state[2])]
            value = (1.0 - share) * read(joined, past + i, state[0], taps) + share * value
            state[2] += 1.0
        out[i] = value
