"""Digital second-order filters that follow their analogue prototypes up to 20 kHz.

The bilinear transform bends the top of the spectrum; here the squared magnitude of the prototype is
fitted instead. On the unit circle the squared magnitude of a digital filter of order m is a ratio of two
polynomials of degree m in phi = sin^2(w/2) (Vicanek, "Matched Second Order Digital Filters", 2016, uses
m = 2 and three points). The coefficients come from a weighted linear least-squares problem whose weights
are renewed from the last denominator (Sanathanan and Koerner, "Transfer function synthesis as a ratio of
two complex polynomials", IEEE Trans. Automatic Control 8, 1963); the roots inside the unit circle give
the minimum-phase filter. One section (m = 2) is used where it follows within 0.01 dB, otherwise two (m = 4), and up
to four where those are off by more than 0.03 dB: narrow shelves above 12 kHz. Cuts are boosts turned upside down, so
they mirror exactly.

Measured worst case against the prototype, 20 Hz to 20 kHz, f0 50 Hz to 16 kHz, gains to +-12 dB,
Q 0.5 to 6: see tests/test_design.py, which holds the bounds.

Sections are rows (b0, b1, b2, a1, a2) with a0 = 1.
"""

from functools import lru_cache
from math import comb, pi
from typing import Literal

import numpy as np

Prototype = Literal[
    "bell", "low-shelf", "high-shelf", "high-pass", "low-pass", "notch", "high-pass-6", "low-pass-6"
]
Cut = Literal["high-pass", "low-pass"]
SLOPES = (6, 12, 18, 24, 36, 48)
"""Steepness of cuts in dB per octave."""

FIT_TOP_HZ = 20_000.0
_WITH_GAIN = ("bell", "low-shelf", "high-shelf")
_DC_ZEROS = {"high-pass": 2, "high-pass-6": 1}
_ONE_SECTION_DB = 0.01
_TWO_SECTIONS_DB = 0.03
_TINY = 1e-300


def prototype_power(kind: Prototype, f0: float, gain_db: float, q: float, f: np.ndarray) -> np.ndarray:
    """Squared magnitude of the analogue prototype at frequencies f (Hz); same shape as f.

    Prototypes with s normalised to f0 and A = 10^(gain/40), as in Bristow-Johnson, "Cookbook formulae for
    audio EQ biquad filter coefficients": bell (s^2 + sA/Q + 1)/(s^2 + s/(AQ) + 1), shelves
    A(s^2 + s sqrt(A)/Q + A)/(A s^2 + s sqrt(A)/Q + 1) and its mirror, low-pass 1/(s^2 + s/Q + 1),
    high-pass s^2/(...), notch (s^2 + 1)/(...); of first order, high-pass-6 s/(s + 1) and low-pass-6 1/(s + 1).
    """
    u = (np.asarray(f, dtype=float) / f0) ** 2
    a = 10.0 ** (gain_db / 40.0)
    ring = (1 - u) ** 2
    if kind == "bell":
        return (ring + u * (a / q) ** 2) / (ring + u / (a * q) ** 2)
    if kind == "low-shelf":
        return a * a * ((a - u) ** 2 + u * a / q**2) / ((1 - a * u) ** 2 + u * a / q**2)
    if kind == "high-shelf":
        return a * a * ((1 - a * u) ** 2 + u * a / q**2) / ((a - u) ** 2 + u * a / q**2)
    if kind == "low-pass-6":
        return 1.0 / (1 + u)
    if kind == "high-pass-6":
        return u / (1 + u)
    below = ring + u / q**2
    if kind == "low-pass":
        return 1.0 / below
    if kind == "high-pass":
        return u**2 / below
    if kind == "notch":
        return ring / below
    raise ValueError(f"no filter is called {kind!r}")


@lru_cache(maxsize=4096)
def _sections(kind: Prototype, f0: float, gain_db: float, q: float, rate: float) -> tuple:
    if kind in _WITH_GAIN:
        if gain_db == 0.0:
            return ()
        if gain_db < 0.0:
            return tuple(_inverse(row) for row in _sections(kind, f0, -gain_db, q, rate))
    nyquist = rate / 2
    f0 = min(f0, 0.98 * nyquist)
    grid = _grid(f0, nyquist)
    target = np.maximum(prototype_power(kind, f0, gain_db, q, grid), 1e-30)
    best: tuple[float, np.ndarray] | None = None
    for order in (2, 4, 6, 8):
        if order > 4 and best is not None and best[0] < _TWO_SECTIONS_DB:
            break
        found = _fit(kind, f0, rate, grid, target, order)
        if found is not None and (best is None or found[0] < best[0]):
            best = found
        if best is not None and best[0] < _ONE_SECTION_DB:
            break
    if best is None:  # not seen in the tested range; the textbook section is stable everywhere
        return (_bilinear(kind, f0, gain_db, q, rate),)
    return tuple(tuple(float(v) for v in row) for row in best[1])


def sections(kind: Prototype, f0: float, gain_db: float, q: float, rate: float) -> np.ndarray:
    """Sections (n, 5), n = 0 to 4, of one filter.

    f0 in Hz, gain in dB (bells and shelves only), rate in Hz. A bell or shelf of 0 dB has no sections.
    Frequencies above 98 % of half the rate are designed as if they were there.
    """
    return np.array(_sections(kind, float(f0), float(gain_db), float(q), float(rate))).reshape(-1, 5)


def cut(kind: Cut, f0: float, slope: int, rate: float, edge: float = 1.0) -> np.ndarray:
    """Sections (n, 5) of a Butterworth high-pass or low-pass of 6 dB per octave and order (Butterworth, "On the
    Theory of Filter Amplifiers", Wireless Engineer 7, 1930).

    f0 in Hz; slope one of SLOPES, in dB per octave. `edge` multiplies the Q of the sharpest section: 1 is
    maximally flat. At 6 dB per octave there is no Q to sharpen.
    """
    qs = butterworth_qs(slope // 6)
    if qs:
        qs[int(np.argmax(qs))] *= edge
    parts = [sections(kind, f0, 0.0, q, rate) for q in qs]
    if slope // 6 % 2:
        parts.append(sections("high-pass-6" if kind == "high-pass" else "low-pass-6", f0, 0.0, 1.0, rate))
    return np.concatenate(parts)


def tilt(f0: float, gain_db: float, q: float, rate: float) -> np.ndarray:
    """Sections (n, 5) of a tilt about f0 (Hz): `gain_db` from the bottom to the top of the spectrum, half of it
    down below and half of it up above. The prototype is that of a high shelf, turned down by half its gain.
    """
    made = sections("high-shelf", f0, gain_db, q, rate)
    if len(made):
        made[0, :3] *= 10.0 ** (-gain_db / 40.0)
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


def _inverse(row: tuple) -> tuple:
    b0, b1, b2, a1, a2 = row
    return (1 / b0, a1 / b0, a2 / b0, b1 / b0, b2 / b0)


def _grid(f0: float, nyquist: float) -> np.ndarray:
    top = 0.9995 * nyquist
    around = f0 * np.geomspace(0.25, 4.0, 40)
    parts = [np.geomspace(min(10.0, f0 / 4), top, 36), around, np.linspace(0.3 * top, top, 28)]
    grid = np.unique(np.concatenate(parts))
    return grid[grid <= top]


def _fit(
    kind: Prototype, f0: float, rate: float, grid: np.ndarray, target: np.ndarray, order: int
) -> tuple[float, np.ndarray] | None:
    """Fit one order; return (worst error in dB up to 20 kHz, sections) or None if it cannot be factored."""
    phi = np.sin(pi * grid / rate) ** 2
    phi0 = np.sin(pi * f0 / rate) ** 2
    # Bernstein polynomials of t = phi/(phi + phi0) keep the problem well conditioned from 10 Hz up.
    t = phi / (phi + phi0)
    basis = np.stack([comb(order, k) * t**k * (1 - t) ** (order - k) for k in range(order + 1)], axis=1)
    below = basis
    above = basis
    if kind in _DC_ZEROS:  # zeros at 0 Hz, exactly: one of phi is two of z, on the circle
        above = basis[:, _DC_ZEROS[kind] :]
    elif kind == "notch":  # a double zero at f0, exactly
        lesser = order - 2
        above = (
            np.stack([comb(lesser, k) * t**k * (1 - t) ** (lesser - k) for k in range(lesser + 1)], axis=1)
            * ((2 * t - 1) ** 2)[:, None]
        )
    heard = grid <= FIT_TOP_HZ
    # Where the prototype is far down, its error matters less than its level.
    soften = np.sqrt(target / (target + 1e-4)) if kind not in _WITH_GAIN else 1.0
    weight_of_rest = np.where(heard, 1.0, 0.1) * soften
    denominator = np.ones_like(target)
    best: tuple[float, np.ndarray, np.ndarray] | None = None
    for _ in range(10):
        weight = weight_of_rest / (denominator * target)
        columns = np.hstack([above * weight[:, None], -below * (weight * target)[:, None]])
        scale = np.linalg.norm(columns, axis=0)
        solution = np.linalg.svd(columns / scale, full_matrices=False)[2][-1] / scale
        top, bottom = solution[: above.shape[1]], solution[above.shape[1] :]
        denominator = below @ bottom
        if denominator.sum() < 0:
            top, bottom, denominator = -top, -bottom, -denominator
        numerator = above @ top
        if (denominator > 0).all() and (numerator >= 0).all():
            miss = 10 * np.abs(np.log10(np.maximum(numerator, _TINY) / denominator / target))
            counted = heard & (target > 10**-2.6)
            worst = float(miss[counted].max()) if counted.any() else 0.0
            if best is None or worst < best[0]:
                settled = worst < 0.002 or (best is not None and worst > 0.8 * best[0])
                best = (worst, top, bottom)
                if settled:
                    break
            elif worst > 1.5 * best[0]:
                break
        denominator = np.maximum(np.abs(denominator), _TINY)
    if best is None:
        return None
    _, top, bottom = best
    poles = _inside(bottom, phi0, order)
    if kind in _DC_ZEROS:
        count = _DC_ZEROS[kind]
        zeros = np.concatenate([[1.0] * count, _inside(top, phi0, order - count, order)])
    elif kind == "notch":
        w0 = 2 * pi * f0 / rate
        zeros = np.concatenate([[np.exp(1j * w0), np.exp(-1j * w0)], _inside(top, phi0, order - 2)])
    else:
        zeros = _inside(top, phi0, order)
    if max(np.abs(poles)) >= 1.0 - 1e-9 or len(zeros) != order or len(poles) != order:
        return None
    sos = _paired(zeros, poles)
    power = np.abs(response(sos, grid, rate)) ** 2
    fit = heard & (target > 1e-2 * target[heard].max())
    sos[0, :3] *= np.exp(0.5 * np.mean(np.log(target[fit] / power[fit])))
    power = np.abs(response(sos, grid, rate)) ** 2
    counted = heard & (target > 10**-2.6)
    worst = float(10 * np.abs(np.log10(power[counted] / target[counted])).max()) if counted.any() else 0.0
    return worst, sos


def _inside(bernstein: np.ndarray, phi0: float, degree: int, weight_degree: int | None = None) -> np.ndarray:
    """Roots inside the unit circle of a polynomial given by Bernstein coefficients in t."""
    if degree == 0:
        return np.empty(0, dtype=complex)
    if weight_degree is None:
        power = np.array([bernstein[k] * comb(degree, k) for k in range(degree + 1)])
    else:  # the upper coefficients of a higher Bernstein basis, the lowest being zero
        skipped = weight_degree - degree
        power = np.array([bernstein[k] * comb(weight_degree, k + skipped) for k in range(degree + 1)])
    u = np.roots(power[::-1]).astype(complex)  # in units of phi0
    phi = u * phi0
    root = np.sqrt(phi * phi - phi)
    z = 1 - 2 * phi + 2 * root
    other = 1 - 2 * phi - 2 * root
    z = np.where(np.abs(other) < np.abs(z), other, z)
    missing = degree - len(z)  # a vanishing leading coefficient: the root is far away, z is 0
    return np.concatenate([z, np.zeros(missing)])


def _paired(zeros: np.ndarray, poles: np.ndarray) -> np.ndarray:
    """Rows (b0, b1, b2, a1, a2) from roots, conjugates together, the poles nearest the circle first."""

    def quadratics(roots: np.ndarray) -> list[tuple[float, float, float]]:
        real = sorted((r.real for r in roots if abs(r.imag) < 1e-12 * max(1.0, abs(r))), key=abs)
        found = [(-2 * r.real, abs(r) ** 2, abs(r)) for r in roots if r.imag >= 1e-12 * max(1.0, abs(r))]
        while len(real) > 1:
            one, two = real.pop(), real.pop()
            found.append((-(one + two), one * two, max(abs(one), abs(two))))
        if real:
            found.append((-real[0], 0.0, abs(real[0])))
        return found

    below = sorted(quadratics(poles), key=lambda r: -r[2])
    above = quadratics(zeros)
    rows = []
    for a1, a2, _ in below:
        nearest = min(above, key=lambda r: (r[0] - a1) ** 2 + (r[1] - a2) ** 2)
        above.remove(nearest)
        rows.append((1.0, nearest[0], nearest[1], a1, a2))
    return np.array(rows)


def _bilinear(kind: Prototype, f0: float, gain_db: float, q: float, rate: float) -> tuple:
    """The cookbook section, as the last resort of `_sections`."""
    w = 2 * pi * f0 / rate
    c, al, a = np.cos(w), np.sin(w) / (2 * q), 10 ** (gain_db / 40)
    if kind == "bell":
        b, d = (1 + al * a, -2 * c, 1 - al * a), (1 + al / a, -2 * c, 1 - al / a)
    elif kind in ("low-shelf", "high-shelf"):
        s = 1 if kind == "low-shelf" else -1
        r = 2 * np.sqrt(a) * al
        b = (
            a * ((a + 1) - s * (a - 1) * c + r),
            s * 2 * a * ((a - 1) - s * (a + 1) * c),
            a * ((a + 1) - s * (a - 1) * c - r),
        )
        d = (
            (a + 1) + s * (a - 1) * c + r,
            -s * 2 * ((a - 1) + s * (a + 1) * c),
            (a + 1) + s * (a - 1) * c - r,
        )
    else:
        d = (1 + al, -2 * c, 1 - al)
        b = {
            "low-pass": ((1 - c) / 2, 1 - c, (1 - c) / 2),
            "high-pass": ((1 + c) / 2, -(1 + c), (1 + c) / 2),
            "notch": (1.0, -2 * c, 1.0),
        }[kind.removesuffix("-6")]
    return (b[0] / d[0], b[1] / d[0], b[2] / d[0], d[1] / d[0], d[2] / d[0])
