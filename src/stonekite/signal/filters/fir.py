"""Short filters without recursion, sample by sample in the same order whatever the block size."""

import numpy as np

from stonekite.signal.kernel import inlined, inner, kernel, lesser
from stonekite.signal.vectors.lanes import LANES, fma, load, scalar_fma, splat, store, zero


@kernel
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


@inlined
def stretch(lines, row, first, weights, out, begin, frames, spare):
    """out[row, begin + i] = sum of weights[k] lines[row, first + i + k], of contiguous lines that go on for LANES more
    than asked for; the number of weights is even. `spare` is room for LANES values.
    """
    at = row * lines.shape[1] + first
    count = weights.shape[0]
    one = splat(1.0)
    start = 0
    while start < frames:
        # Two sums at once, as one would wait for itself, and more would not fit into the registers.
        a, b = zero(), zero()
        for k in range(0, count, 2):
            here = at + start + k
            a = fma(load(lines, here), splat(weights[k]), a)
            b = fma(load(lines, here + 1), splat(weights[k + 1]), b)
        store(spare, 0, fma(a, one, b))
        for i in range(lesser(LANES, frames - start)):
            out[row, begin + start + i] = spare[i]
        start += LANES


@inner
def stretches(lines, row, first, weights, outs, begin, frames, spare):
    """Of one row of contiguous lines as `stretch`, by five rows of weights (5, n) at once, into the rows from `outs` on,
    from the column `begin` on."""
    at = row * lines.shape[1] + first
    count = weights.shape[1]
    start = 0
    while start < frames:
        a, b, c, d, e = zero(), zero(), zero(), zero(), zero()
        for k in range(count):
            heard = load(lines, at + start + k)
            a = fma(heard, splat(weights[0, k]), a)
            b = fma(heard, splat(weights[1, k]), b)
            c = fma(heard, splat(weights[2, k]), c)
            d = fma(heard, splat(weights[3, k]), d)
            e = fma(heard, splat(weights[4, k]), e)
        n = lesser(LANES, frames - start)
        if n == LANES:
            to = outs * lines.shape[1] + begin + start
            store(lines, to, a)
            store(lines, to + lines.shape[1], b)
            store(lines, to + 2 * lines.shape[1], c)
            store(lines, to + 3 * lines.shape[1], d)
            store(lines, to + 4 * lines.shape[1], e)
        else:
            for m in range(5):
                store(spare, 0, a if m == 0 else b if m == 1 else c if m == 2 else d if m == 3 else e)
                for i in range(n):
                    lines[outs + m, begin + start + i] = spare[i]
        start += LANES


def filtered(joined: np.ndarray, taps: np.ndarray, out: np.ndarray) -> None:
    """Convolve with taps (n,); `joined` is the last n - 1 samples heard and then the block, `out` (frames,)."""
    convolve(joined, np.ascontiguousarray(taps[::-1]), out)
