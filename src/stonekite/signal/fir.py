"""Short filters without recursion, sample by sample in the same order whatever the block size."""

import numpy as np
from numba import njit

from stonekite.signal.lanes import LANES, fma, load, scalar_fma, splat, store, zero


@njit(cache=True, nogil=True, error_model="numpy")
def convolve(joined, weights, out):
    """out[i] = sum of weights[k] joined[i + k]. Several vectors at once, as each sum alone would wait for itself."""
    count = weights.shape[0]
    frames = out.shape[0]
    start = 0
    while start + 4 * LANES <= frames:
        a, b, c, d = zero(), zero(), zero(), zero()
        for k in range(count):
            weight = splat(weights[k])
            at = start + k
            a = fma(load(joined, at), weight, a)
            b = fma(load(joined, at + LANES), weight, b)
            c = fma(load(joined, at + 2 * LANES), weight, c)
            d = fma(load(joined, at + 3 * LANES), weight, d)
        store(out, start, a)
        store(out, start + LANES, b)
        store(out, start + 2 * LANES, c)
        store(out, start + 3 * LANES, d)
        start += 4 * LANES
    while start + LANES <= frames:
        a = zero()
        for k in range(count):
            a = fma(load(joined, start + k), splat(weights[k]), a)
        store(out, start, a)
        start += LANES
    for i in range(start, frames):
        value = 0.0
        for k in range(count):
            value = scalar_fma(joined[i + k], weights[k], value)
        out[i] = value


def filtered(joined: np.ndarray, taps: np.ndarray, out: np.ndarray) -> None:
    """Convolve with taps (n,); `joined` is the last n - 1 samples heard and then the block, `out` (frames,)."""
    convolve(joined, np.ascontiguousarray(taps[::-1]), out)
