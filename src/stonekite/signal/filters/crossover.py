"""Cutting a signal into bands that add up flat again.

S. Linkwitz and R. Riley, "Active crossover networks for noncoincident drivers", Journal of the Audio Engineering Society
24 (1976): each side of a crossover is a Butterworth filter twice over, so that both are 6 dB down where they meet and
their sum is an all-pass with the poles of the one Butterworth filter. The bands on the other side of a crossover go
through that all-pass, too; all of them together are then the product of all all-passes, of magnitude one everywhere.

By the bilinear transform, warped so that each crossover stays at its frequency: it maps sums to sums, so that what is
flat in the analogue prototype is flat to the last bits at every rate.
"""

from typing import Any, Literal

import numpy as np

Hertz = float | np.ndarray
Slope = Literal[24, 48]
_HIGHEST = 0.48
"""Of the rate: a crossover above it works as if it were there."""


def _sections(order: int, hz: Hertz, rate: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Sections (n, 5) of a Butterworth low-pass and high-pass of an even order, and of the all-pass with their poles;
    (k, n, 5) where the frequency is an array (k,)."""
    warped = np.tan(np.pi * np.minimum(hz, _HIGHEST * rate) / rate)
    one_of_each = np.ones_like(warped)
    low, high, turned = [], [], []
    for k in range(order // 2):
        damping = 2.0 * np.sin(np.pi * (2 * k + 1) / (2 * order))
        whole = 1.0 + damping * warped + warped * warped
        one = 2.0 * (warped * warped - 1.0) / whole
        two = (1.0 - damping * warped + warped * warped) / whole
        gain = warped * warped / whole
        low.append([gain, 2.0 * gain, gain, one, two])
        high.append([1.0 / whole, -2.0 / whole, 1.0 / whole, one, two])
        turned.append([two, one, one_of_each, one, two])
    return laid(low), laid(high), laid(turned)


def laid(sections: list[list[Any]]) -> np.ndarray:
    """Sections (n, 5), or (k, n, 5) of numbers that are arrays (k,)."""
    return np.moveaxis(np.array(sections), -1, 0) if np.ndim(sections[0][0]) else np.array(sections)


def turned(crossovers: tuple[Hertz, ...], slope: Slope, rate: float) -> list[np.ndarray]:
    """The all-pass of each crossover: sections (n, 5). All in a row are what the bands add up to."""
    return [_sections(slope // 12, hz, rate)[2] for hz in crossovers]


def bands(crossovers: tuple[Hertz, ...], slope: Slope, rate: float) -> list[list[tuple[str, np.ndarray]]]:
    """For each band between crossovers in rising order, from the lowest: its filters, each with a name that is its own
    within the band, and its sections (n, 5).
    """
    made = [_sections(slope // 12, hz, rate) for hz in crossovers]
    found = []
    for band in range(len(crossovers) + 1):
        parts = []
        for k, (low, high, turn) in enumerate(made):
            if band > k:
                parts += [(f"above {k} a", high), (f"above {k} b", high)]
            elif band == k:
                parts += [(f"below {k} a", low), (f"below {k} b", low)]
            else:
                parts.append((f"beside {k}", turn))
        found.append(parts)
    return found
