"""Fourier transforms of real rows inside kernels.

NumPy's cost a call from Python for each block, and a real one of 2,048 takes twice as long as here. A row is transformed
as one of half its length with complex values (H. V. Sorensen, D. L. Jones, M. T. Heideman and C. S. Burrus, IEEE Trans.
ASSP 35, 1987), that one as a table of rows and columns (D. H. Bailey, J. Supercomputing 4, 1990), whose columns are
transformed side by side in self-sorting steps (T. G. Stockham, AFIPS 28, 1966; radix 2 to 5), so that every inner loop
runs over neighbours and becomes vector code. Real and imaginary parts lie in arrays of their own.
"""

import math
from functools import cache
from typing import NamedTuple

import numpy as np

from stonekite.signal.kernel import inlined, inner
from stonekite.signal.vectors.lanes import (
    EIGHT,
    evens,
    first_mixed,
    fma,
    halves_first,
    halves_last,
    last_mixed,
    last_of,
    like,
    load_as,
    load_back,
    load_four,
    odds,
    pairs_even,
    pairs_odd,
    running,
    splat_eight,
    splat_four,
    store,
    store_back,
    width,
)
from stonekite.signal.vectors.lanes import total as sum_of


class Tables(NamedTuple):
    """What a transform of `size` real values needs: the radices of columns and rows, their turns one after the other, the
    turns between columns and rows, those that untangle the halves, and half as large ones, each as cosine and sine.
    """

    size: int
    columns: int
    rows: int
    column_radices: np.ndarray
    row_radices: np.ndarray
    turns: np.ndarray
    between: np.ndarray
    last: np.ndarray
    finer: np.ndarray


def _radices(n: int) -> list[int]:
    """Factors of n, 4 before others. Raises ValueError where one is over 5."""
    found = []
    for radix in (4, 5, 3, 2):
        while n % radix == 0:
            found.append(radix)
            n //= radix
    if n > 1:
        raise ValueError(f"a transform's size must be a product of 2, 3 and 5, not of {n}")
    return found


def _circle(angles: np.ndarray) -> np.ndarray:
    return np.stack([np.cos(angles), np.sin(angles)])


def _steps(n: int) -> list[np.ndarray]:
    """Turns (2, radix - 1 times m) of every step of a transform of n values."""
    made = []
    for radix in _radices(n):
        m = n // radix
        made.append(_circle(2.0 * np.pi / n * np.arange(1, radix)[:, None] * np.arange(m)).reshape(2, -1))
        n = m
    return made


@cache
def tables(size: int) -> Tables:
    """Of a transform of `size` real values: 32 times a product of 2, 3 and 5. Raises ValueError otherwise."""
    half = size // 2
    if size < 32 or size % 32:
        raise ValueError(f"a transform's size must be a multiple of 32, not {size}")
    _radices(half)
    columns = max(d for d in range(4, math.isqrt(half) + 1, 4) if half % (4 * d) == 0)
    rows = half // columns
    steps = _steps(columns) + _steps(rows)
    turns = np.concatenate(steps, axis=1) if steps else np.zeros((2, 0))
    # Cosine and sine of whole circles are taken of the remainder, so that large sizes lose nothing.
    products = np.arange(columns)[:, None] * np.arange(rows) % half
    return Tables(
        size,
        columns,
        rows,
        np.array(_radices(columns), dtype=np.int64),
        np.array(_radices(rows), dtype=np.int64),
        np.ascontiguousarray(turns),
        _circle(2.0 * np.pi / half * products).reshape(2, half),
        _circle(2.0 * np.pi / size * np.arange(half + 1)),
        _circle(np.pi / size * np.arange(half + 1)),
    )


class Packed(NamedTuple):
    """The same in two arrays: a kernel takes each one that it is given from Python at a price."""

    sizes: np.ndarray
    circles: np.ndarray


@cache
def packed(size: int) -> Packed:
    """Tables of a size, for `opened` within a kernel."""
    t = tables(size)
    circles = (t.turns, t.between, t.last, t.finer)
    radices = [*t.column_radices, *t.row_radices]
    sizes = [t.size, t.columns, t.rows, len(t.column_radices), *(one.shape[1] for one in circles), *radices]
    return Packed(np.array(sizes, dtype=np.int64), np.concatenate([one.ravel() for one in circles]))


@inlined
def opened(p):
    """The tables that are packed."""
    n, flat = p.sizes, p.circles
    a = 2 * n[4]
    b = a + 2 * n[5]
    c = b + 2 * n[6]
    return Tables(
        n[0],
        n[1],
        n[2],
        n[8 : 8 + n[3]],
        n[8 + n[3] :],
        flat[:a].reshape((2, n[4])),
        flat[a:b].reshape((2, n[5])),
        flat[b:c].reshape((2, n[6])),
        flat[c:].reshape((2, n[7])),
    )


_COS_5, _COS_52 = math.cos(0.4 * math.pi), math.cos(0.8 * math.pi)
_SIN_5, _SIN_52 = math.sin(0.4 * math.pi), math.sin(0.8 * math.pi)
_SIN_3 = math.sqrt(0.75)


@inlined
def _turn(c, t, x, y, re, im, k):
    """Write x + iy, turned back by cosine c and sine t, to k."""
    store(re, k, fma(c, x, t * y))
    store(im, k, c * y - t * x)


@inner
def _two(m, s, ar, ai, br, bi, wr, wi, kind):
    for p in range(m):
        c, t = like(kind, wr[p]), like(kind, wi[p])
        for q in range(0, s, width(kind)):
            j, k = s * p + q, 2 * s * p + q
            x0, y0, x1, y1 = (
                load_as(kind, ar, j),
                load_as(kind, ai, j),
                load_as(kind, ar, j + s * m),
                load_as(kind, ai, j + s * m),
            )
            store(br, k, x0 + x1)
            store(bi, k, y0 + y1)
            _turn(c, t, x0 - x1, y0 - y1, br, bi, k + s)


@inner
def _three(m, s, ar, ai, br, bi, wr, wi, kind):
    half, sine = like(kind, -0.5), like(kind, _SIN_3)
    for p in range(m):
        c1, t1, c2, t2 = like(kind, wr[p]), like(kind, wi[p]), like(kind, wr[m + p]), like(kind, wi[m + p])
        for q in range(0, s, width(kind)):
            j, k = s * p + q, 3 * s * p + q
            x0, y0, x1, y1 = (
                load_as(kind, ar, j),
                load_as(kind, ai, j),
                load_as(kind, ar, j + s * m),
                load_as(kind, ai, j + s * m),
            )
            x2, y2 = load_as(kind, ar, j + 2 * s * m), load_as(kind, ai, j + 2 * s * m)
            u, v = x1 + x2, y1 + y2
            a, b = fma(half, u, x0), fma(half, v, y0)
            c, d = sine * (y1 - y2), sine * (x2 - x1)
            store(br, k, x0 + u)
            store(bi, k, y0 + v)
            _turn(c1, t1, a + c, b + d, br, bi, k + s)
            _turn(c2, t2, a - c, b - d, br, bi, k + 2 * s)


@inner
def _four(m, s, ar, ai, br, bi, wr, wi, kind):
    for p in range(m):
        c1, t1, c2, t2 = like(kind, wr[p]), like(kind, wi[p]), like(kind, wr[m + p]), like(kind, wi[m + p])
        c3, t3 = like(kind, wr[2 * m + p]), like(kind, wi[2 * m + p])
        for q in range(0, s, width(kind)):
            j, k = s * p + q, 4 * s * p + q
            x0, x2 = load_as(kind, ar, j), load_as(kind, ar, j + 2 * s * m)
            y0, y2 = load_as(kind, ai, j), load_as(kind, ai, j + 2 * s * m)
            ex, ey, gx, gy = x0 + x2, y0 + y2, x0 - x2, y0 - y2
            x1, x3 = load_as(kind, ar, j + s * m), load_as(kind, ar, j + 3 * s * m)
            y1, y3 = load_as(kind, ai, j + s * m), load_as(kind, ai, j + 3 * s * m)
            fx, fy, hx, hy = x1 + x3, y1 + y3, x1 - x3, y1 - y3
            store(br, k, ex + fx)
            store(bi, k, ey + fy)
            _turn(c1, t1, gx + hy, gy - hx, br, bi, k + s)
            _turn(c2, t2, ex - fx, ey - fy, br, bi, k + 2 * s)
            _turn(c3, t3, gx - hy, gy + hx, br, bi, k + 3 * s)


@inner
def _five(m, s, ar, ai, br, bi, wr, wi, kind):
    cos, cos2, sin, sin2 = like(kind, _COS_5), like(kind, _COS_52), like(kind, _SIN_5), like(kind, _SIN_52)
    for p in range(m):
        c1, t1, c2, t2 = like(kind, wr[p]), like(kind, wi[p]), like(kind, wr[m + p]), like(kind, wi[m + p])
        c3, t3, c4, t4 = (
            like(kind, wr[2 * m + p]), like(kind, wi[2 * m + p]), like(kind, wr[3 * m + p]), like(kind, wi[3 * m + p])
        )  # fmt: skip
        for q in range(0, s, width(kind)):
            j, k = s * p + q, 5 * s * p + q
            x0, x1, x2 = load_as(kind, ar, j), load_as(kind, ar, j + s * m), load_as(kind, ar, j + 2 * s * m)
            y0, y1, y2 = load_as(kind, ai, j), load_as(kind, ai, j + s * m), load_as(kind, ai, j + 2 * s * m)
            x3, x4 = load_as(kind, ar, j + 3 * s * m), load_as(kind, ar, j + 4 * s * m)
            y3, y4 = load_as(kind, ai, j + 3 * s * m), load_as(kind, ai, j + 4 * s * m)
            ux, uy, vx, vy = x1 + x4, y1 + y4, x1 - x4, y1 - y4
            ex, ey, fx, fy = x2 + x3, y2 + y3, x2 - x3, y2 - y3
            store(br, k, x0 + ux + ex)
            store(bi, k, y0 + uy + ey)
            ax, ay = fma(cos, ux, fma(cos2, ex, x0)), fma(cos, uy, fma(cos2, ey, y0))
            bx, by = fma(sin, vy, sin2 * fy), fma(sin, vx, sin2 * fx)
            _turn(c1, t1, ax + bx, ay - by, br, bi, k + s)
            _turn(c4, t4, ax - bx, ay + by, br, bi, k + 4 * s)
            ax, ay = fma(cos2, ux, fma(cos, ex, x0)), fma(cos2, uy, fma(cos, ey, y0))
            bx, by = sin2 * vy - sin * fy, sin2 * vx - sin * fx
            _turn(c2, t2, ax + bx, ay - by, br, bi, k + 2 * s)
            _turn(c3, t3, ax - bx, ay + by, br, bi, k + 3 * s)


@inner
def _step(radix, m, s, ar, ai, br, bi, wr, wi, kind):
    if radix == 4:
        _four(m, s, ar, ai, br, bi, wr, wi, kind)
    elif radix == 2:
        _two(m, s, ar, ai, br, bi, wr, wi, kind)
    elif radix == 3:
        _three(m, s, ar, ai, br, bi, wr, wi, kind)
    else:
        _five(m, s, ar, ai, br, bi, wr, wi, kind)


@inner
def _side_by_side(n, s, radices, turns, at, ar, ai, br, bi):
    """Transform s columns of n values, that lie in `a`; tells whether the result is in `b`, where `turns` end. Eight
    columns at a time where that comes out even, otherwise four: the same bits.
    """
    swapped = False
    for radix in radices:
        m = n // radix
        wr, wi = turns[0, at : at + (radix - 1) * m], turns[1, at : at + (radix - 1) * m]
        at += (radix - 1) * m
        if s % EIGHT == 0:
            _step(radix, m, s, ar, ai, br, bi, wr, wi, splat_eight(0.0))
        else:
            _step(radix, m, s, ar, ai, br, bi, wr, wi, splat_four(0.0))
        ar, ai, br, bi = br, bi, ar, ai
        swapped = not swapped
        n, s = m, s * radix
    return swapped, at


@inlined
def _turned(cosine, sine, re, im, at, part):
    """Four values of a row of the table, turned as their place in it asks: their real or their imaginary part."""
    x, y = load_four(re, at), load_four(im, at)
    c, s = load_four(cosine, at), load_four(sine, at)
    return c * x + s * y if part == 0 else c * y - s * x


@inner
def _complex(t, ar, ai, br, bi):
    """Transform the values in `a`; tells whether the result is in `b`."""
    swapped, at = _side_by_side(t.columns, t.rows, t.column_radices, t.turns, 0, ar, ai, br, bi)
    if swapped:
        ar, ai, br, bi = br, bi, ar, ai
    columns, rows, between = t.columns, t.rows, t.between
    cosine, sine = between[0], between[1]
    for first in range(0, rows, 4):
        for j in range(0, columns, 4):
            here = j * rows + first
            for part in range(2):
                to = br if part == 0 else bi
                a = _turned(cosine, sine, ar, ai, here, part)
                b = _turned(cosine, sine, ar, ai, here + rows, part)
                c = _turned(cosine, sine, ar, ai, here + 2 * rows, part)
                d = _turned(cosine, sine, ar, ai, here + 3 * rows, part)
                e, f, g, h = pairs_even(a, b), pairs_odd(a, b), pairs_even(c, d), pairs_odd(c, d)
                k = first * columns + j
                store(to, k, halves_first(e, g))
                store(to, k + columns, halves_first(f, h))
                store(to, k + 2 * columns, halves_last(e, g))
                store(to, k + 3 * columns, halves_last(f, h))
    again, _ = _side_by_side(rows, columns, t.row_radices, t.turns, at, br, bi, ar, ai)
    return swapped == again


@inner
def forward(t, x, window, work, re, im):
    """Spectrum (size / 2 + 1,) of x times window (size,); `work` (4, size / 2 + 4) is scratch."""
    half = t.size // 2
    ar, ai = work[0], work[1]
    for k in range(0, half, 4):
        a = load_four(x, 2 * k) * load_four(window, 2 * k)
        b = load_four(x, 2 * k + 4) * load_four(window, 2 * k + 4)
        store(ar, k, evens(a, b))
        store(ai, k, odds(a, b))
    there = _complex(t, work[0], work[1], work[2], work[3])
    zr, zi = (work[2], work[3]) if there else (work[0], work[1])
    zr[half], zi[half] = zr[0], zi[0]
    middle = splat_four(0.5)
    for k in range(0, half, 4):
        x, y, v, w = (
            load_four(zr, k),
            load_four(zi, k),
            load_back(zr, half - k - 3),
            load_back(zi, half - k - 3),
        )
        c, s = load_four(t.last, k), load_four(t.last, half + 1 + k)
        u, d = middle * (y + w), middle * (v - x)
        store(re, k, fma(c, u, fma(s, d, middle * (x + v))))
        store(im, k, fma(c, d, middle * (y - w) - s * u))
    re[half], im[half] = zr[0] - zi[0], 0.0


@inner
def backward(t, re, im, work, window, out):
    """Add to out (size,) what has the spectrum re and im (size / 2 + 1,), times window (size,)."""
    half = t.size // 2
    ar, ai, scale = work[0], work[1], splat_four(1.0 / t.size)
    # As a transform forward of the conjugate.
    for k in range(0, half, 4):
        x, y, v, w = (
            load_four(re, k),
            load_four(im, k),
            load_back(re, half - k - 3),
            load_back(im, half - k - 3),
        )
        c, s = load_four(t.last, k), load_four(t.last, half + 1 + k)
        u, d = x - v, y + w
        store(ar, k, scale * ((x + v) - fma(c, d, s * u)))
        store(ai, k, scale * ((w - y) - (c * u - s * d)))
    there = _complex(t, work[0], work[1], work[2], work[3])
    zr, zi = (work[2], work[3]) if there else (work[0], work[1])
    nothing = splat_four(0.0)
    for k in range(0, half, 4):
        a, b = load_four(zr, k), nothing - load_four(zi, k)
        i = 2 * k
        store(out, i, load_four(out, i) + first_mixed(a, b) * load_four(window, i))
        i += 4
        store(out, i, load_four(out, i) + last_mixed(a, b) * load_four(window, i))


@inner
def cosines(t, x, work, ones, re, im, out):
    """(x[0] + (-1)^k x[n]) / 2 + the sum of x[j] cos(pi j k / n) for k = 0..n, of x (n + 1,), with the tables of size n
    (W. H. Press et al., Numerical Recipes, 2nd ed., 12.3): half the inverse, or the half of the transform, of what is
    real and even. `re` and `im` (n / 2 + 1,) are scratch, as is `work` (5, n); `ones` is (n,).
    """
    n = t.size
    y = work[4]
    c, s = t.finer[0], t.finer[1]
    half, total = splat_four(0.5), splat_four(0.0)
    for j in range(0, n // 2, 4):
        a, b = load_four(x, j), load_back(x, n - j - 3)
        both, apart, turn = half * (a + b), a - b, load_four(s, j)
        store(y, j, both - turn * apart)
        store_back(y, n - j - 3, both + turn * apart)
        total = fma(load_four(c, j), apart, total)
    y[0], y[n // 2] = 0.5 * (x[0] + x[n]), x[n // 2]
    forward(t, y, ones, work, re, im)
    first = sum_of(total) - 0.5 * (x[0] - x[n])  # of which there is a half
    im[0] = -first
    so_far = splat_four(0.0)
    for k in range(0, n // 2, 4):
        sums = so_far - running(load_four(im, k))
        even = load_four(re, k)
        store(out, 2 * k, first_mixed(even, sums))
        store(out, 2 * k + 4, last_mixed(even, sums))
        so_far = last_of(sums)
    out[n] = re[n // 2]
