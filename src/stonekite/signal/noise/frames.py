"""What cleaning remembers from frame to frame, what is fixed, and smoothing over bins: for the kernels of reduction.

Arrays are (legs, bins); powers are those of a Hann window of unit energy. Bins are taken eight or 32 at a time: rows
are as wide as that takes, and what is beyond the last bin is inert.
"""

from typing import NamedTuple

import numpy as np

from stonekite.signal.kernel import copied, inlined, inner
from stonekite.signal.vectors.lanes import LANES, fma, larger, load, smaller, splat, store, zero
from stonekite.signal.vectors.transforms import Packed, Tables, opened

OWN, ONE, TOGETHER, BETWEEN = range(4)
COMMON = 2
"""The third stream, after those of the legs: what is estimated of both at once."""
BEGINNING = 8
"""So many frames are taken for noise where none was learned."""
LOG2_E = 1.4426950408889634
DB = 3.010299956639812
"""Of a doubling of power."""
ODDS = 10.0**1.5
"""As how much louder than the noise something is taken, where it is asked whether there is anything."""
BAND = 32
"""Bins of a band in which strays and gusts are counted."""


class Fixed(NamedTuple):
    """What does not change from frame to frame, in few arrays: a kernel takes each one that it is given from Python at a
    price. `settings` has it by name."""

    numbers: np.ndarray
    counts: np.ndarray
    rows: np.ndarray
    frames: np.ndarray
    weights: np.ndarray
    table: np.ndarray
    whole: Packed
    half: Packed


class Settings(NamedTuple):
    """What does not change, by name: see `suppressor.Settings`. `works` and `streams` are flags; `least` and `most`
    (2, bins) bound the noise; `loose` is whether it is followed freely, `still` whether not at all; `lull` is within how
    many frames a voice lets every bin go; `turned` is the gain of the side where the legs of a mid/side split are cleaned
    as left and right, 0 where they are not.
    """

    bins: int
    hop: int
    analysis: int
    loose: bool
    still: bool
    pitch_low: int
    pitch_high: int
    lull: int
    works: np.ndarray
    streams: np.ndarray
    turned: float
    coupling: float
    hold: float
    image: float
    presence_pole: float
    shown_share: float
    both_share: float
    stray_share: float
    poles: np.ndarray
    floors: np.ndarray
    floor_logs: np.ndarray
    louder: np.ndarray
    least: np.ndarray
    most: np.ndarray
    bases: np.ndarray
    window: np.ndarray
    back: np.ndarray
    ones: np.ndarray
    w3: np.ndarray
    w7: np.ndarray
    w9: np.ndarray
    w25: np.ndarray
    w31: np.ndarray
    table: np.ndarray
    whole: Tables
    half: Tables


@inlined
def settings(f):
    """Fixed, by name."""
    c, x, w, rows = f.counts, f.numbers, f.weights, f.rows
    return Settings(
        c[0], c[1], c[2], c[3] != 0, c[4] != 0, c[5], c[6], c[7], c[8:10], c[10:13],
        x[0], x[1], x[2], x[3], x[4], x[5], x[6], x[7], x[8:11],
        rows[0:2], rows[2:5], rows[5:7], rows[7:9], rows[9:11], rows[11],
        f.frames[0], f.frames[1], f.frames[2],
        w[:3], w[3:10], w[10:19], w[19:44], w[44:75],
        f.table, opened(f.whole), opened(f.half),
    )  # fmt: skip


WIDTHS = (3, 7, 9, 25, 31)
"""Of the windows over bins."""


class Memory(NamedTuple):
    """What is remembered, in few arrays, for the same reason; `view` has it by name."""

    rows: np.ndarray
    sound: np.ndarray
    work: np.ndarray
    padded: np.ndarray
    bands: np.ndarray
    last: np.ndarray
    struck: np.ndarray
    counts: np.ndarray

    @property
    def noise(self) -> np.ndarray:
        return self.rows[0:2]

    @property
    def across(self) -> np.ndarray:
        return self.rows[2:4]

    @property
    def slow(self) -> np.ndarray:
        return self.rows[4:6]

    @property
    def bearing(self) -> np.ndarray:
        return self.rows[14:18]

    @property
    def came(self) -> np.ndarray:
        return self.rows[27:29]

    @property
    def went(self) -> np.ndarray:
        return self.rows[29:31]


ROWS = 95
"""Of `Memory.rows`."""


class View(NamedTuple):
    """What is remembered of both legs, by name: sound that waits, noise, the plane, and the prior of every stream.

    `counts` holds the frames heard, whether noise was learned, whether the plane is new, and whether each stream is.
    `quiet` (6, bins) is of each leg the power lately, the least of it in this lull and in the one before.
    `came` and `went` (2, bins) are the power lately of what was heard and of what is left of it, for pictures.
    """

    heard: np.ndarray
    given: np.ndarray
    noise: np.ndarray
    across: np.ndarray
    slow: np.ndarray
    counts: np.ndarray
    covariance: np.ndarray
    course: np.ndarray
    bearing: np.ndarray
    stray: np.ndarray
    gusts: np.ndarray
    kept: np.ndarray
    poles: np.ndarray
    means: np.ndarray
    last: np.ndarray
    struck: np.ndarray
    came: np.ndarray
    went: np.ndarray
    scratch: np.ndarray
    padded: np.ndarray
    work: np.ndarray
    re: np.ndarray
    im: np.ndarray
    made: np.ndarray
    parts: np.ndarray
    axes: np.ndarray
    quiet: np.ndarray


@inlined
def view(m):
    """What is remembered, by name."""
    r = m.rows
    return View(
        m.sound[0:2], m.sound[2:4], r[0:2], r[2:4], r[4:6], m.counts, r[6:10], r[10:14], r[14:18],
        m.bands[:, :2], m.bands[:, 2:],
        r[18:21], r[21:24], r[24:27], m.last, m.struck, r[27:29], r[29:31], r[31:55], m.padded, m.work,
        r[55:57], r[57:59], r[59:76], r[76:80], r[80:89], r[89:95],
    )  # fmt: skip


def weights_of(count: int) -> np.ndarray:
    """A Hann window (count,) that sums to 1."""
    window = np.hanning(count + 2)[1:-1]
    return window / window.sum()


@inlined
def bounded(x, least, most):
    return smaller(larger(x, least), most)


@inner
def smooth(bins, values, weights, padded, out):
    """Values smoothed over bins by weights (odd number of them), mirrored at the ends."""
    count = weights.shape[0]
    half = count // 2
    copied(values[:bins], padded[half : half + bins])
    for k in range(1, half + LANES):
        if k <= half:
            padded[half - k] = values[k]
        padded[half + bins - 1 + k] = values[bins - 1 - k]
    # Two vectors at a time: one alone would wait for each of its sums.
    for i in range(0, bins, 2 * LANES):
        first, second = zero(), zero()
        for k in range(count):
            weight = splat(weights[k])
            first = fma(weight, load(padded, i + k), first)
            second = fma(weight, load(padded, i + LANES + k), second)
        store(out, i, first)
        store(out, i + LANES, second)
