"""Short filters without recursion, sample by sample in the same order whatever the block size."""

import numpy as np
from numba import njit

from stonekite.signal.lanes import LANES, fma, load, mul, scalar_fma, store


@njit(cache=True, nogil=True, error_model="numpy")
def _filter(joined, weights, taps, out):
    count = taps.shape[0]
    frames = out.shape[0]
    whole = frames // LANES * LANES
    for start in range(0, whole, LANES):
        total = mul(load(joined, start), load(weights, 0))
        for k in range(1, count):
            total = fma(load(joined, start + k), load(weights, k * LANES), total)
        store(out, start, total)
    for i in range(whole, frames):
        value = joined[i] * taps[0]
        for k in range(1, count):
            value = scalar_fma(joined[i + k], taps[k], value)
        out[i] = value


def filtered(joined: np.ndarray, taps: np.ndarray, out: np.ndarray) -> None:
    """Convolve with taps (n,); `joined` is the last n - 1 samples heard and then the block, `out` (frames,)."""
    backwards = np.ascontiguousarray(taps[::-1])
    _filter(joined, np.repeat(backwards, LANES), backwards, out)
