"""Curves that bend a signal, at many times its rate so that what they add does not fold back.

Three curves of slope 1 in the middle. Soft: the error function erf(sqrt(pi) x / 2). Hard: a straight line between -1
and 1. Folded: (2 / pi) sin(pi x / 2), which comes back when it is driven further. A bias before the curve makes the
halves unequal.

The overtones of a soft curve that is not driven hard fall off so fast that eight times the rate is enough. Those of a
hard one do not, nor those of a soft one that is driven until it is as steep: they take the average of the curve over the
straight lines from the sample before and to the sample after, weighted by a triangle (second-order antiderivative
antialiasing; Parker, Zavalishin and Le Bivic, "Reducing the aliasing of nonlinear waveshaping using continuous-time
convolution", DAFx 2016; Bilbao, Esqueda, Parker and Valimaki, 2017). For the hard curve the integrals are those of |x|,
in closed form and without the divisions that made differences of antiderivatives imprecise; for the soft one those of
the error function, and its Taylor series where a line is too short to divide by. What the average takes from the highest
tones the way back gives back (signal/filters/oversampling.py).

A folded curve cannot be averaged so: driven by g, a tone swings through it g times as fast as the tone is, and what comes
out is there at full level. It needs a rate as high as that: `plan_of` says how high, and where driving has to end.

Sines of 100 Hz to 14 kHz at full level, at 44.1, 48 and 96 kHz, with any asymmetry, then have no product under 20 kHz
that is not theirs above -75 dB of all that comes out in standard quality, -95 dB in high (tests/test_drive.py).
"""

from math import erf, pi, sin, sqrt

import numpy as np
from numpy.polynomial import chebyshev, polynomial
from scipy import special  # type: ignore[import-untyped]

from stonekite.signal.filters.oversampling import CHUNK, LATENCY, LEAD, Down, Up, fall, rise
from stonekite.signal.kernel import greater, inlined, inner, kernel, lesser
from stonekite.signal.vectors.fused import fused
from stonekite.signal.vectors.quick import exp2_into

SOFT, HARD, FOLDED, STEEP = range(4)
"""STEEP is the soft curve, averaged."""
LATE = LATENCY + 1
"""Samples by which what comes out is late: one more than the oversampling, as a hard curve looks ahead."""
_STEP = 32
"""So many columns are worked on together; the rows have room for them beyond the frames."""
_SCALE = 0.5 * sqrt(pi)
_END = 3.7
"""From here on the error function is 1 to six digits, and a polynomial of its square before, to seven."""
_LOG2_E = 1.4426950408889634
_ROOT = 1.0 / sqrt(pi)
_SHORT_LINE = 0.2
"""A line shorter than this is averaged over by a Taylor series, to a millionth."""
_TERMS = 20
_ERFC = (
    chebyshev.Chebyshev.interpolate(
        lambda t: special.erfcx(2.0 / np.maximum(t, 1e-6) - 2.0), _TERMS - 1, domain=[0.0, 1.0]
    )
    .convert(kind=polynomial.Polynomial)
    .coef
)
_ERF = chebyshev.cheb2poly(
    chebyshev.chebinterpolate(
        lambda t: special.erf(np.sqrt(0.5 * (t + 1)) * _END) / (np.sqrt(0.5 * (t + 1)) * _END + 1e-300), 14
    )
)


@inlined
def _horner(t, c):
    """Polynomial of degree 14."""
    v = fused(fused(fused(fused(c[14], t, c[13]), t, c[12]), t, c[11]), t, c[10])
    v = fused(fused(fused(fused(fused(v, t, c[9]), t, c[8]), t, c[7]), t, c[6]), t, c[5])
    return fused(fused(fused(fused(fused(v, t, c[4]), t, c[3]), t, c[2]), t, c[1]), t, c[0])


@inner
def _soft(x, gain, bias, c, out):
    rest = erf(_SCALE * bias)
    for i in range(out.shape[0]):
        v = lesser(greater(fused(gain, x[i], bias) * _SCALE, -_END), _END)
        out[i] = fused(v, _horner(fused(v * v, 2.0 / (_END * _END), -1.0), c), -rest)


@inlined
def _towards(a, b):
    """Integral of t |a + (b - a) t| over t from 0 to 1."""
    crossing = a * b < 0.0
    turn = a / (a - b) if crossing else 0.0
    total = fused(a, 1 / 6, fused(-a * turn * turn, 1 / 3, b * (1 / 3)))
    negative = b < 0.0 or (b == 0.0 and a < 0.0)
    return -total if negative else total


@inner
def _hard(before, x, after, gain, bias, out):
    rest = lesser(greater(bias, -1.0), 1.0)
    for i in range(out.shape[0]):
        x0 = fused(gain, before[i], bias)
        x1 = fused(gain, x[i], bias)
        x2 = fused(gain, after[i], bias)
        value = _towards(x0 + 1.0, x1 + 1.0) - _towards(x0 - 1.0, x1 - 1.0)
        value += _towards(x2 + 1.0, x1 + 1.0) - _towards(x2 - 1.0, x1 - 1.0)
        out[i] = 0.5 * value - rest


@inner
def _folded(x, gain, bias, out):
    rest = sin(0.5 * pi * bias) * 2.0 / pi
    for i in range(out.shape[0]):
        turns = 0.25 * (gain * x[i] + bias)
        f = turns - np.floor(turns + 0.5)  # of a whole turn, -1/2..1/2
        # sin(2 pi f): brought to a quarter of a turn, where its series is short.
        f = f if abs(f) <= 0.25 else (0.5 if f > 0.0 else -0.5) - f
        v = 2.0 * pi * f
        s = v * v
        series = fused(s, fused(s, 1 / 6227020800, -1 / 39916800), 1 / 362880)
        series = fused(s, fused(s, fused(s, fused(s, series, -1 / 5040), 1 / 120), -1 / 6), 1.0)
        out[i] = fused(v * series, 2.0 / pi, -rest)


@inner
def _error_function(x, gain, bias, g, e):
    """Of u = sqrt(pi) (gain x + bias) / 2: erf(u) into `g`, exp(-u^2) into `e`.

    erf(u) = 1 - exp(-u^2) p(2 / (2 + u)) for u >= 0, with a Chebyshev polynomial p of erfc (Press, Teukolsky, Vetterling
    and Flannery, "Numerical Recipes", 3rd edition, section 6.2.2).
    """
    for i in range(x.shape[0]):
        u = fused(gain, x[i], bias) * _SCALE
        g[i] = greater(-u * u * _LOG2_E, -900.0)
    exp2_into(g, e)
    for i in range(x.shape[0]):
        u = fused(gain, x[i], bias) * _SCALE
        t = 2.0 / (2.0 + abs(u))
        p = _ERFC[_TERMS - 1]
        for k in range(_TERMS - 2, -1, -1):
            p = fused(p, t, _ERFC[k])
        size = fused(-e[i], p, 1.0)
        g[i] = size if u >= 0.0 else -size


@inlined
def _erf_towards(a, ga, ea, b, gb, eb):
    """Integral of t erf(a + (b - a) t) over t from 0 to 1; erf and exp(-u^2) of both ends are known."""
    d = b - a
    first_b = fused(b, gb, eb * _ROOT)
    second_a = fused(fused(0.5 * a, a, 0.25), ga, 0.5 * a * ea * _ROOT)
    second_b = fused(fused(0.5 * b, b, 0.25), gb, 0.5 * b * eb * _ROOT)
    short = abs(d) < _SHORT_LINE
    inverse = 1.0 / (1.0 if short else d)
    closed = fused(second_a - second_b, inverse, first_b) * inverse
    slope = 2.0 * _ROOT * eb
    bb = b * b
    series = d * d * (1 / 24) * (-2.0 * b) - d * (1 / 6)
    series -= d * d * d * (1 / 120) * (4.0 * bb - 2.0)
    series += d * d * d * d * (1 / 720) * (12.0 * b - 8.0 * b * bb)
    return 0.5 * gb + slope * series if short else closed


@inner
def _steep(before, x, after, gain, bias, g0, e0, g1, e1, g2, e2, out):
    rest = erf(_SCALE * bias)
    for i in range(out.shape[0]):
        u0 = fused(gain, before[i], bias) * _SCALE
        u1 = fused(gain, x[i], bias) * _SCALE
        u2 = fused(gain, after[i], bias) * _SCALE
        value = _erf_towards(u0, g0[i], e0[i], u1, g1[i], e1[i])
        out[i] = value + _erf_towards(u2, g2[i], e2[i], u1, g1[i], e1[i]) - rest


@inner
def _bend_steep(rows, out, frames, gain, bias, g, e):
    """The soft curve, averaged: as `_bend`; `g` and `e` are working space of the shape of the rows."""
    factor = rows.shape[0]
    stop = LEAD + (frames + _STEP - 1) // _STEP * _STEP
    for q in range(factor):
        _error_function(rows[q, LEAD - 2 : stop], gain, bias, g[q, LEAD - 2 : stop], e[q, LEAD - 2 : stop])
    for q in range(factor):
        now, last = (LEAD - 1, stop - 1), (LEAD - 2, stop - 2)
        b, c = (q - 1, now) if q > 0 else (factor - 1, last)
        a, d = (q + 1, now) if q < factor - 1 else (0, (LEAD, stop))
        _steep(
            rows[b, c[0] : c[1]],
            rows[q, now[0] : now[1]],
            rows[a, d[0] : d[1]],
            gain,
            bias,
            g[b, c[0] : c[1]],
            e[b, c[0] : c[1]],
            g[q, now[0] : now[1]],
            e[q, now[0] : now[1]],
            g[a, d[0] : d[1]],
            e[a, d[0] : d[1]],
            out[q, LEAD:stop],
        )


@inner
def _bend(rows, out, frames, shape, gain, bias, polynomial):
    """Row by row, one sample back, so that a hard curve has what comes after it.

    Columns are worked on in whole vectors, so that every sample is computed by the same code.
    """
    factor = rows.shape[0]
    stop = LEAD + (frames + _STEP - 1) // _STEP * _STEP
    for q in range(factor):
        x, target = rows[q, LEAD - 1 : stop - 1], out[q, LEAD:stop]
        if shape == SOFT:
            _soft(x, gain, bias, polynomial, target)
        elif shape == FOLDED:
            _folded(x, gain, bias, target)
        else:
            before = rows[q - 1, LEAD - 1 : stop - 1] if q > 0 else rows[factor - 1, LEAD - 2 : stop - 2]
            after = rows[q + 1, LEAD - 1 : stop - 1] if q < factor - 1 else rows[0, LEAD:stop]
            _hard(before, x, after, gain, bias, target)


@kernel
def _shape(signal, up, down, shape, gain, bias, polynomial, g, e):
    """All of a signal, in pieces that stay in the processor's cache; in one call, so that two threads can work."""
    for start in range(0, signal.shape[0], CHUNK):
        piece = signal[start : start + CHUNK]
        rise(piece, up)
        if shape == STEEP:
            _bend_steep(up[3], down[0], piece.shape[0], gain, bias, g, e)
        else:
            _bend(up[3], down[0], piece.shape[0], shape, gain, bias, polynomial)
        fall(down, piece)


def soft(values: np.ndarray) -> np.ndarray:
    """What the soft curve makes of steady values (n,)."""
    made: np.ndarray = special.erf(_SCALE * values)
    return made


def plan_of(shape: int, drive_db: float, high: bool) -> tuple[int, int]:
    """How a curve (SOFT, HARD, FOLDED) is followed in standard or high quality: as which shape, at how many times the
    rate. A folded one driven by more than 30 dB would need more than there is."""
    if shape == FOLDED:
        wanted = 8 if drive_db <= 18.0 else (16 if drive_db <= 24.0 else 32)
        return shape, max(16 if high else 8, wanted)
    if high:
        return (STEEP if shape == SOFT and drive_db > 18.0 else shape), (32 if drive_db > 24.0 else 16)
    return (STEEP if shape == SOFT and drive_db > 14.0 else shape), (16 if drive_db > 17.0 else 8)


class Shaper:
    """Bends one leg at `factor` times its rate; with averages or without."""

    def __init__(self, factor: int, shape: int) -> None:
        self._up, self._down = Up(factor), Down(factor, sharpened=shape in (HARD, STEEP))
        # Of a steep curve, its values and those of its slope; nobody else needs the room.
        self._room = np.zeros((2, *self._up.rows.shape)) if shape == STEEP else np.zeros((2, 0, 0))

    def process(self, signal: np.ndarray, shape: int, gain: float, bias: float) -> None:
        """Bend signal (frames,) in place: curve(gain x + bias) - curve(bias), LATE samples late."""
        _shape(signal, self._up.parts, self._down.parts, shape, gain, bias, _ERF, *self._room)
