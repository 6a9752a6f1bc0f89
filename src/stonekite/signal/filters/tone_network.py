"""The passive tone network of three controls that share one circuit, so that each changes what the others do.

The circuit: the input feeds C1 to the top of the treble control R1, whose wiper is the output, and R4 to a node; from it
C2 goes to the bottom of R1, which is the top of the bass control R2 (a variable resistor), and C3 to the wiper of the
middle control R3, which stands between R2 and ground. Its transfer function of third order is D. T. Yeh and J. O. Smith's
(Proc. DAFx, 2006, section 2), with t, m and l the positions of treble, middle and bass from 0 to 1.
"""

from typing import NamedTuple

import numpy as np


class Parts(NamedTuple):
    """Resistors in ohms and capacitors in farads."""

    r1: float
    r2: float
    r3: float
    r4: float
    c1: float
    c2: float
    c3: float


def transfer(parts: Parts, bass: float, middle: float, treble: float) -> tuple[np.ndarray, np.ndarray]:
    """Coefficients (4,) of the numerator and the denominator in s, from s^0 on, for positions from 0 to 1."""
    r1, r2, r3, r4, c1, c2, c3 = parts
    t, m, low = treble, middle, bass
    three = c1 * c2 * c3
    b1 = t * c1 * r1 + m * c3 * r3 + low * (c1 + c2) * r2 + (c1 + c2) * r3
    b2 = (
        t * (c1 * c2 + c1 * c3) * r1 * r4
        - m * m * (c1 + c2) * c3 * r3 * r3
        + m * (c1 * c3 * r1 * r3 + (c1 + c2) * c3 * r3 * r3)
        + low * (c1 * c2 * r1 * r2 + c1 * c2 * r2 * r4 + c1 * c3 * r2 * r4)
        + low * m * (c1 + c2) * c3 * r2 * r3
        + c1 * c2 * r1 * r3
        + c1 * c2 * r3 * r4
        + c1 * c3 * r3 * r4
    )
    b3 = three * (
        low * m * r2 * r3 * (r1 + r4)
        + (m - m * m) * r3 * r3 * (r1 + r4)
        + t * (1.0 - m) * r1 * r3 * r4
        + t * low * r1 * r2 * r4
    )
    a1 = c1 * (r1 + r3) + c2 * (r3 + r4) + c3 * r4 + m * c3 * r3 + low * (c1 + c2) * r2
    a2 = (
        m * (c1 * c3 * r1 * r3 - c2 * c3 * r3 * r4 + (c1 + c2) * c3 * r3 * r3)
        + low * m * (c1 + c2) * c3 * r2 * r3
        - m * m * (c1 + c2) * c3 * r3 * r3
        + low * (c1 * c2 * r2 * r4 + c1 * c2 * r1 * r2 + c1 * c3 * r2 * r4 + c2 * c3 * r2 * r4)
        + c1 * c2 * r1 * r4
        + c1 * c3 * r1 * r4
        + c1 * c2 * r3 * r4
        + c1 * c2 * r1 * r3
        + c1 * c3 * r3 * r4
        + c2 * c3 * r3 * r4
    )
    a3 = three * (
        low * m * r2 * r3 * (r1 + r4)
        - m * m * r3 * r3 * (r1 + r4)
        + m * (r3 * r3 * r4 + r1 * r3 * r3 - r1 * r3 * r4)
        + low * r1 * r2 * r4
        + r1 * r3 * r4
    )
    return np.array([0.0, b1, b2, b3]), np.array([1.0, a1, a2, a3])


def response(parts: Parts, bass: float, middle: float, treble: float, hz: np.ndarray) -> np.ndarray:
    """Complex response at frequencies in Hz."""
    above, below = transfer(parts, bass, middle, treble)
    s = 2j * np.pi * np.asarray(hz, dtype=float)
    made: np.ndarray = np.polyval(above[::-1], s) / np.polyval(below[::-1], s)
    return made


def digital(
    parts: Parts, bass: float, middle: float, treble: float, rate: float
) -> tuple[np.ndarray, np.ndarray]:
    """Coefficients (4,) in z^-1 of the numerator and the denominator, by the bilinear transform."""
    above, below = transfer(parts, bass, middle, treble)
    c = 2.0 * rate
    plus, minus = np.array([1.0, 1.0]), np.array([1.0, -1.0])

    def mapped(poly: np.ndarray) -> np.ndarray:
        total = np.zeros(4)
        for k, value in enumerate(poly):
            term = np.array([value * c**k])
            for factor in [minus] * k + [plus] * (3 - k):
                term = np.convolve(term, factor)
            total += term
        return total

    b, a = mapped(above), mapped(below)
    return b / a[0], a / a[0]
