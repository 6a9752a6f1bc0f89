"""Digital filters that follow their analogue prototypes up to 20 kHz, for one setting or for thousands at once.

Each is made of three second-order sections, whatever its settings are, so that one can go over into another:

- The first has the poles and zeros of the prototype, each taken from s to exp(s) (the matched z-transform; J. D. Markel
  and A. H. Gray, "Linear Prediction of Speech", 1976, ch. 5, use it for formants).
- What its squared magnitude is off by is smooth in phi = sin^2(w/2). It is followed by a polynomial of the fourth degree
  over one with fixed roots, by least squares at fixed places: a multiplication by a fixed matrix. M. Vicanek, "Matched
  Second Order Digital Filters", 2016, does the same for polynomials of the second degree by three points.
- The polynomial is split into two of the second degree by the largest root of its resolvent cubic (Ferrari), which keeps
  the two lower roots together and goes on steadily from setting to setting; each is then the squared magnitude of one
  section whose zeros lie inside the unit circle, in closed form as in Vicanek.

Cuts are boosts turned upside down, so they mirror exactly, and low shelves are cuts of high ones. All poles lie inside
the unit circle, and as the poles of stable sections of second order make up a triangle, so they do half way from one
setting to another. Where the second and the third section do nothing, they are left out of filters that stand still.

Measured against the prototypes: see tests/test_design.py, which holds the bounds.

Sections are rows (b0, b1, b2, a1, a2) with a0 = 1.
"""

from collections.abc import Sequence
from functools import lru_cache
from math import pi
from typing import Any, Literal

import numpy as np

Prototype = Literal[
    "bell", "low-shelf", "high-shelf", "high-pass", "low-pass", "notch", "high-pass-6", "low-pass-6"
]
Cut = Literal["high-pass", "low-pass"]
SLOPES = (6, 12, 18, 24, 36, 48)
"""Steepness of cuts in dB per octave."""
FIT_TOP_HZ = 20_000.0
SECTIONS = 3
"""Of one filter whose settings may move."""

_NEUTRAL_DB = 0.008
_HEARD = 0.05
"""What is further down than this does not count when it is asked what is needed."""
_HIGHEST = 0.98 * pi
"""Frequencies above it, in radians per sample, are designed as if they were there."""
_FIXED = (1.01548, 1.14864, 2.00216, 7.08077)
"""Roots in phi of the polynomial below; found by search, for the least errors over all kinds."""
_TOP = 0.90504 * pi
"""The highest place, in radians per sample, at which the error is looked at; 20 kHz at 44.1 kHz."""
_WEIGHT = 4.25801
"""How much more or less its square counts than the lowest."""
_PLACES = 10

_BEYOND = 0.3
"""By how much what is above half the rate is less sharp, for each radian per sample that it is above it."""

PASSING = np.array([1.0, 0.0, 0.0, 0.0, 0.0])
"""A section that does nothing."""
Numbers = Any
"""A float, or an array of them."""


def _fit() -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Places in radians per sample, phi there, the polynomial with fixed roots there, and the matrix that gives the four
    coefficients from what is to be followed."""
    x = np.cos(pi * (np.arange(_PLACES)[::-1] + 0.5) / _PLACES)
    places = _TOP * np.sin(0.25 * pi * (1.0 + x))
    phi = np.sin(places / 2) ** 2
    below = np.prod(1.0 - phi[:, None] / np.array(_FIXED), axis=1)
    weights = 1.0 + _WEIGHT * (places / pi) ** 4
    powers = phi[:, None] ** np.arange(1, 5) / below[:, None]
    return places, phi, below, np.linalg.pinv(powers * weights[:, None]) * weights


def _root_pair(damping: Numbers, square: Numbers) -> tuple[np.ndarray, np.ndarray]:
    """Coefficients of z^-1 and z^-2 whose roots are exp(s) of those of s^2 + damping s + square (radians per sample)."""
    half = 0.5 * damping
    apart = np.sqrt(np.abs(half * half - square))
    larger = half + apart
    lesser = np.where(larger > 0.0, square / np.maximum(larger, 1e-300), 0.0)
    one, two = np.exp(-larger), np.exp(-lesser)
    # A pair above half the rate is taken as if it were there, the farther above the less sharp.
    radius = np.exp(-half - _BEYOND * np.maximum(apart - pi, 0.0))
    round_ = -2.0 * radius * np.cos(np.minimum(apart, pi))
    swings = half * half < square
    return np.where(swings, round_, -one - two), np.where(swings, radius * radius, one * two)


class _Part:
    """Numerator or denominator of a prototype: its squared magnitude as a polynomial in the square of the frequency, and
    what it becomes in z; all in radians per sample."""

    def __init__(self, powers: tuple[Numbers, Numbers, Numbers], one: Numbers, two: Numbers) -> None:
        self.powers = powers
        self.one, self.two = np.asarray(one, dtype=float), np.asarray(two, dtype=float)

    @classmethod
    def second(cls, damping: Numbers, square: Numbers) -> "_Part":
        one, two = _root_pair(damping, square)
        return cls((square * square, damping * damping - 2.0 * square, 1.0), one, two)

    @classmethod
    def first(cls, corner: Numbers) -> "_Part":
        return cls((corner * corner, 1.0, 0.0), -np.exp(-corner), 0.0)

    def off(self, places: np.ndarray, phi: np.ndarray) -> np.ndarray:
        """Squared magnitude of the prototype's over that of z, at places (n,): (..., n)."""
        none, one, two = (np.asarray(power)[..., None] for power in self.powers)
        square = places * places
        a, b = self.one[..., None], self.two[..., None]
        made = (1.0 + a + b) ** 2 - 4.0 * phi * (a * (1.0 + b) + 4.0 * b) + 16.0 * b * phi * phi
        return (none + square * (one + square * two)) / made

    @property
    def off_at_dc(self) -> np.ndarray:
        """The same at 0 Hz, where both may be nothing: there z goes as s."""
        none = np.asarray(self.powers[0], dtype=float)
        rest = np.where(none > 0.0, 1.0 + self.one + self.two, 1.0)
        return np.where(none > 0.0, none / rest**2, 1.0)


def _parts(kind: Prototype, w0: Numbers, gain_db: Numbers, q: Numbers) -> tuple[_Part, _Part, Numbers]:
    """Numerator, denominator and factor of a prototype with its corner at `w0` in radians per sample.

    Prototypes with s normalised to f0 and A = 10^(gain/40), as in Bristow-Johnson, "Cookbook formulae for audio EQ
    biquad filter coefficients": bell (s^2 + sA/Q + 1)/(s^2 + s/(AQ) + 1), high shelf A(A s^2 + s sqrt(A)/Q + 1)/(s^2 +
    s sqrt(A)/Q + A), low-pass 1/(s^2 + s/Q + 1), high-pass s^2/(...), notch (s^2 + 1)/(...); of first order, high-pass-6
    s/(s + 1) and low-pass-6 1/(s + 1).
    """
    square = w0 * w0
    if kind == "bell":
        a = 10.0 ** (gain_db / 40.0)
        return _Part.second(w0 * a / q, square), _Part.second(w0 / (a * q), square), 1.0
    if kind == "high-shelf":
        a = 10.0 ** (gain_db / 40.0)
        root = np.sqrt(a)
        above, below = _Part.second(w0 / (root * q), square / a), _Part.second(w0 * root / q, square * a)
        return above, below, a * a
    if kind == "high-pass-6":
        return _Part((0.0, 1.0, 0.0), -1.0, 0.0), _Part.first(w0), 1.0
    if kind == "low-pass-6":
        return _Part((1.0, 0.0, 0.0), 0.0, 0.0), _Part.first(w0), w0
    below = _Part.second(w0 / q, square)
    if kind == "low-pass":
        return _Part((1.0, 0.0, 0.0), 0.0, 0.0), below, square
    if kind == "high-pass":
        return _Part((0.0, 0.0, 1.0), -2.0, 1.0), below, 1.0
    if kind == "notch":
        return _Part.second(0.0 * w0, square), below, 1.0
    raise ValueError(f"no filter is called {kind!r}")


def _split(p: np.ndarray) -> tuple[tuple[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """Two polynomials 1 + one phi + two phi^2, as pairs (one, two), whose product is 1 + p1 phi + ... + p4 phi^4.

    By the reciprocal polynomial, whose roots are all finite. The largest root of the resolvent is the sum of the products
    of the two large and of the two small ones, whether they are real or pairs.
    """
    a, b, c, d = np.moveaxis(p, -1, 0)
    # y^3 - b y^2 + (ac - 4d) y - (a^2 d - 4bd + c^2), without its square by y = x + b/3
    linear = a * c - 4.0 * d
    rest = a * a * d - 4.0 * b * d + c * c
    spread = (b * b - 3.0 * linear) / 9.0
    skew = (-2.0 * b**3 + 9.0 * b * linear - 27.0 * rest) / 54.0
    cubed = spread**3
    root = np.sqrt(np.maximum(spread, 0.0))
    angle = np.arccos(np.clip(-skew / np.maximum(root**3, 1e-300), -1.0, 1.0))
    three = 2.0 * root * np.cos(angle / 3.0)
    size = np.cbrt(np.abs(skew) + np.sqrt(np.maximum(skew * skew - cubed, 0.0)))
    only = -np.sign(skew) * (size + spread / np.where(size > 0.0, size, 1.0))
    y = np.where(skew * skew < cubed, three, only) + b / 3.0
    apart = np.sqrt(np.maximum(0.25 * y * y - d, 0.0))
    twos = 0.5 * y + apart, 0.5 * y - apart
    unlike = np.abs(apart) > 1e-9
    first = np.where(unlike, (a * twos[0] - c) / np.where(unlike, 2.0 * apart, 1.0), 0.5 * a)
    return (first, twos[0]), (a - first, twos[1])


def _zeros(one: Numbers, two: Numbers) -> np.ndarray:
    """Coefficients (..., 3) of 1, z^-1 and z^-2 with roots inside the unit circle, whose squared magnitude is 1 + one phi
    + two phi^2."""
    end = np.sqrt(np.maximum(1.0 + one + two, 1e-12))
    middle = 0.5 * (1.0 + end)
    first = 0.5 * (middle + np.sqrt(np.maximum(middle * middle - 0.25 * two, 0.0)))
    return np.stack([first, 0.5 * (1.0 - end), two / (16.0 * first)], axis=-1)


_AT, _PHI, _BELOW, _MATRIX = _fit()
_POLES = tuple(
    _zeros(np.array(-1.0 / p - 1.0 / q), np.array(1.0 / (p * q))) for p, q in (_FIXED[:2], _FIXED[2:])
)


def _upright(kind: Prototype, w0: Numbers, gain_db: Numbers, q: Numbers) -> np.ndarray:
    """Sections (..., 3, 5) of a prototype that boosts, or has no gain."""
    above, below, factor = _parts(kind, w0, gain_db, q)
    off = above.off(_AT, _PHI) / below.off(_AT, _PHI)
    at_dc = above.off_at_dc / below.off_at_dc
    split = _split((off / at_dc[..., None] - 1.0 / _BELOW) @ _MATRIX.T)
    gain = factor * np.sqrt(at_dc)
    made = np.empty((*gain.shape, SECTIONS, 5))
    made[..., 0, 0], made[..., 0, 1], made[..., 0, 2] = gain, gain * above.one, gain * above.two
    made[..., 0, 3], made[..., 0, 4] = below.one, below.two
    for k, ((one, two), poles) in enumerate(zip(split, _POLES, strict=True)):
        made[..., 1 + k, :3] = _zeros(one, two) / poles[0]
        made[..., 1 + k, 3:] = poles[1:] / poles[0]
    return made


def _upside_down(made: np.ndarray) -> np.ndarray:
    """Sections (..., 5) of what takes away again what others do."""
    b0, b1, b2, a1, a2 = np.moveaxis(made, -1, 0)
    return np.stack([1.0 / b0, a1 / b0, a2 / b0, b1 / b0, b2 / b0], axis=-1)


def moving(kind: Prototype, f0: Numbers, gain_db: Numbers, q: Numbers, rate: float) -> np.ndarray:
    """Sections (..., 3, 5) of one filter for many settings, broadcast against each other: f0 in Hz, gain in dB (bells and
    shelves only), rate in Hz. Without gain the zeros of a bell or shelf are its poles.
    """
    f0, gain_db, q = np.broadcast_arrays(*(np.asarray(v, dtype=float) for v in (f0, gain_db, q)))
    w0 = np.minimum(2.0 * pi * f0 / rate, _HIGHEST)
    if kind not in ("bell", "low-shelf", "high-shelf"):
        return _upright(kind, w0, 0.0, q)
    size = np.abs(gain_db)
    boost = _upright("high-shelf" if kind == "low-shelf" else kind, w0, size, q)
    cut = _upside_down(boost)
    if kind == "low-shelf":  # a boost is what takes away a high shelf, and gives its gain to all
        boost, cut = cut.copy(), boost.copy()
        boost[..., 0, :3] *= 10.0 ** (size / 20.0)[..., None]
        cut[..., 0, :3] *= 10.0 ** (-size / 20.0)[..., None]
    return np.where((gain_db < 0.0)[..., None, None], cut, boost)


@lru_cache(maxsize=4096)
def _sections(kind: Prototype, f0: float, gain_db: float, q: float, rate: float) -> np.ndarray:
    if kind in ("bell", "low-shelf", "high-shelf") and gain_db == 0.0:
        made = np.empty((0, 5))
    else:
        made = moving(kind, f0, gain_db, q, rate)
        hz = np.geomspace(0.0002, min(0.499, FIT_TOP_HZ / rate), 40) * rate
        whole, more = np.abs(response(made, hz, rate)), np.abs(response(made[1:], hz, rate))
        if np.abs(20.0 * np.log10(more[whole > _HEARD])).max(initial=0.0) < _NEUTRAL_DB:
            made = made[:1].copy()
    made.flags.writeable = False
    return made


def _any_moves(*numbers: Numbers) -> bool:
    return any(isinstance(number, np.ndarray) for number in numbers)


def sections(kind: Prototype, f0: Numbers, gain_db: Numbers, q: Numbers, rate: float) -> np.ndarray:
    """Sections (n, 5) of one filter that stands still, n = 0, 1 or 3; (k, 3, 5) where a number is an array (k,).

    f0 in Hz, gain in dB (bells and shelves only), rate in Hz. A bell or shelf of 0 dB has no sections.
    Frequencies above 98 % of half the rate are designed as if they were there.
    """
    if _any_moves(f0, gain_db, q):
        return moving(kind, f0, gain_db, q, rate)
    return _sections(kind, float(f0), float(gain_db), float(q), float(rate)).copy()


def _qs(slope: int, edge: Numbers) -> list[Numbers]:
    """Q of each second-order section of a cut, the sharpest multiplied by `edge`."""
    qs: list[Numbers] = [*butterworth_qs(slope // 6)]
    if qs:
        sharpest = int(np.argmax(qs))
        qs[sharpest] = qs[sharpest] * edge
    return qs


def cut(kind: Cut, f0: Numbers, slope: int, rate: float, edge: Numbers = 1.0) -> np.ndarray:
    """Sections (n, 5) of a Butterworth high-pass or low-pass of 6 dB per octave and order (Butterworth, "On the Theory of
    Filter Amplifiers", Wireless Engineer 7, 1930); (k, n, 5) where a number is an array (k,).

    f0 in Hz; slope one of SLOPES, in dB per octave. `edge` multiplies the Q of the sharpest section: 1 is
    maximally flat. At 6 dB per octave there is no Q to sharpen.
    """
    parts = [sections(kind, f0, 0.0, q, rate) for q in _qs(slope, edge)]
    if slope // 6 % 2:
        parts.append(sections("high-pass-6" if kind == "high-pass" else "low-pass-6", f0, 0.0, 1.0, rate))
    return in_a_row(parts)


def in_a_row(parts: Sequence[np.ndarray]) -> np.ndarray:
    """Sections (n, 5) one after the other; (k, n, 5) where some are of many settings."""
    many = np.broadcast_shapes(*(part.shape[:-2] for part in parts))
    return np.concatenate([np.broadcast_to(part, (*many, *part.shape[-2:])) for part in parts], axis=-2)


def tilt(f0: Numbers, gain_db: Numbers, q: Numbers, rate: float) -> np.ndarray:
    """Sections (n, 5), or (k, 3, 5), of a tilt about f0 (Hz): `gain_db` from the bottom to the top of the spectrum, half
    of it down below and half of it up above. The prototype is that of a high shelf, turned down by half its gain.
    """
    made = sections("high-shelf", f0, gain_db, q, rate)
    if made.shape[-2]:
        made[..., 0, :3] *= 10.0 ** (-np.asarray(gain_db)[..., None] / 40.0)
    return made


def butterworth_qs(order: int) -> list[float]:
    """Q of each second-order section of a Butterworth filter; the first-order one of an odd order has none."""
    return [1.0 / (2.0 * np.sin(pi * (2 * k + 1) / (2 * order))) for k in range(order // 2)]


def response(sos: np.ndarray, f: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of sections (n, 5) at frequencies f (Hz); ones where there are no sections."""
    z = np.exp(-2j * pi * np.asarray(f, dtype=float) / rate)
    h = np.ones(z.shape, dtype=complex)
    for b0, b1, b2, a1, a2 in sos:
        h *= (b0 + z * (b1 + z * b2)) / (1.0 + z * (a1 + z * a2))
    return h
