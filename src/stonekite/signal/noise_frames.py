"""What cleaning remembers from frame to frame, what is fixed, and smoothing over bins: for the kernels of reduction.

Arrays are (legs, bins); powers are those of a Hann window of unit energy. Bins are taken four or sixteen at a time: rows
are as wide as that takes, and what is beyond the last bin is inert.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from stonekite.signal.lanes import LANES, fma, larger, load, smaller, splat, store, zero
from stonekite.signal.transforms import Tables

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
ROOM = 24
"""Rows of scratch."""
BAND = 32
"""Bins of a band in which strays are counted."""


class Fixed(NamedTuple):
    """What does not change from frame to frame: see `suppressor.Settings`. `works` and `streams` are flags; `least` and
    `most` (2, bins) bound the noise; `loose` is whether it is followed freely, `still` whether not at all.
    """

    bins: int
    hop: int
    analysis: int
    coupling: float
    works: np.ndarray
    streams: np.ndarray
    floors: np.ndarray
    floor_logs: np.ndarray
    louder: np.ndarray
    least: np.ndarray
    most: np.ndarray
    loose: bool
    still: bool
    hold: float
    image: float
    window: np.ndarray
    back: np.ndarray
    ones: np.ndarray
    poles: np.ndarray
    presence_pole: float
    shown_share: float
    both_share: float
    stray_share: float
    bases: np.ndarray
    pitch_low: int
    pitch_high: int
    table: np.ndarray
    w3: np.ndarray
    w7: np.ndarray
    w9: np.ndarray
    w25: np.ndarray
    w31: np.ndarray
    whole: Tables
    half: Tables


class Memory(NamedTuple):
    """What is remembered of both legs: sound that waits, noise, the plane, and the prior of every stream.

    `counts` holds the frames heard, whether noise was learned, whether the plane is new, and whether each stream is.
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
    kept: np.ndarray
    poles: np.ndarray
    means: np.ndarray
    last: np.ndarray
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


def weights_of(count: int) -> np.ndarray:
    """A Hann window (count,) that sums to 1."""
    window = np.hanning(count + 2)[1:-1]
    return window / window.sum()


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def bounded(x, least, most):
    return smaller(larger(x, least), most)


@njit(cache=True, nogil=True, error_model="numpy", no_cpython_wrapper=True, no_cfunc_wrapper=True)
def smooth(bins, values, weights, padded, out):
    """Values smoothed over bins by weights (odd number of them), mirrored at the ends."""
    count = weights.shape[0]
    half = count // 2
    padded[half : half + bins] = values[:bins]
    for k in range(1, half + LANES):
        if k <= half:
            padded[half - k] = values[k]
        padded[half + bins - 1 + k] = values[bins - 1 - k]
    for i in range(0, bins, LANES):
        total = zero()
        for k in range(count):
            total = fma(splat(weights[k]), load(padded, i + k), total)
        store(out, i, total)
