"""Curves of second-order sections as finite responses: of linear phase, or with the phase of both legs.

With matched legs both legs get the phase of both curves: each leg its own magnitude, times the all-passes that turn as
the one curve and as the other one do. An all-pass comes from the sections and not from the quotient of a response and
its magnitude, which says nothing where the magnitude is next to nothing. Where a notch takes all away its phase jumps
by half a turn, which no all-pass can: there it turns as the notch would with its zeros a little inside the circle.

The magnitude has a corner at a notch, which a response of finite length rounds off: what is drawn is what the response
does (`response`), not what was wished.
"""

from functools import lru_cache
from math import ceil, log2, pi
from typing import Literal

import numpy as np

from stonekite.signal.filters import design
from stonekite.signal.filters.partitions import part_size
from stonekite.signal.reading import spectrum_at

Phase = Literal["matched", "linear"]
Pair = tuple[np.ndarray | None, np.ndarray | None]
"""Sections (n, 5) of the upper and the lower leg; None for a leg that passes."""

SHORTEST_S, LONGEST_S = 0.04, 1.4
QUADRATURE_S = 0.35
"""A phase of a quarter of a turn down to the lowest tones needs at least so much on each side of the centre."""
_SETTLED = 6.9
"""A response is cut where its slowest part has decayed by this exponent: to a thousandth."""
_GRID = 2
"""The spectrum is sampled this many times finer than the response needs."""
_DRAWN = 4
"""As finely is the spectrum of the response that was made, to read it between."""
_ON_CIRCLE = 1e-7
_NARROWER = 8.0
"""A notch's all-pass turns back over so much less than the notch is wide."""


def _filled(sections: Pair) -> list[np.ndarray]:
    return [np.empty((0, 5)) if rows is None else rows for rows in sections]


def _radii(one: np.ndarray, two: np.ndarray) -> np.ndarray:
    """Magnitudes (n, 2) of the roots of z^2 + one z + two."""
    root = np.sqrt((0.25 * one * one - two).astype(complex))
    return np.abs(np.stack([-0.5 * one + root, -0.5 * one - root], axis=1))


def _notches(rows: np.ndarray) -> np.ndarray:
    """Which sections (n,) have a pair of zeros on the unit circle, away from its ends."""
    one, two = rows[:, 1] / rows[:, 0], rows[:, 2] / rows[:, 0]
    return (np.abs(two - 1.0) < _ON_CIRCLE) & (np.abs(one) < 2.0 - 1e-12)


def _inside(rows: np.ndarray, rate: float) -> np.ndarray:
    """Distances from the unit circle (n,) of the zeros that stand for those of a notch."""
    poles = 1.0 - _radii(rows[:, 3], rows[:, 4]).max(axis=1)
    return np.maximum(poles / _NARROWER, _SETTLED / (LONGEST_S * rate))


def reach(sections: Pair, phase: Phase, rate: float) -> int:
    """Samples on each side of the centre that hold all that is heard of the response.

    A power of two, from the slowest pole or zero, held to SHORTEST_S and LONGEST_S before it is rounded up.
    """
    rows = np.concatenate([np.empty((0, 5)), *_filled(sections)])
    radii = np.concatenate(
        [
            _radii(rows[:, 1] / rows[:, 0], rows[:, 2] / rows[:, 0]).ravel(),
            _radii(rows[:, 3], rows[:, 4]).ravel(),
            1.0 - _inside(rows[_notches(rows)], rate),
        ]
    )
    slowest = float(radii[radii < 1.0 - _ON_CIRCLE].max(initial=0.0))
    wanted = _SETTLED / -np.log(slowest) if 0.0 < slowest < 1.0 else 0.0
    least = SHORTEST_S
    if phase == "matched" and any(_zeros_at_dc(leg) % 2 for leg in _filled(sections)):
        least = QUADRATURE_S
    wanted = min(max(wanted, least * rate), LONGEST_S * rate)
    return 1 << ceil(log2(wanted))


def _zeros_at_dc(rows: np.ndarray) -> int:
    """How many zeros the sections have at 0 Hz."""
    one, two = rows[:, 1] / rows[:, 0], rows[:, 2] / rows[:, 0]
    touches = np.abs(1.0 + one + two) < 1e-12
    return int(touches.sum() + (touches & (np.abs(two - 1.0) < 1e-9)).sum())


def _turn(rows: np.ndarray, z: np.ndarray, rate: float) -> np.ndarray:
    """All-pass that turns as the sections do, at z = e^(-jw): every value has the magnitude 1, but where it is not
    known at 0 Hz."""
    found = np.ones(len(z), dtype=complex)
    notches = _notches(rows)
    moved = np.where(notches, 1.0 - _inside(rows, rate), 1.0) if len(rows) else np.empty(0)
    for (b0, b1, b2, a1, a2), radius in zip(rows, moved, strict=True):
        above = b0 + z * radius * (b1 + z * radius * b2)
        below = 1.0 + z * (a1 + z * a2)
        size = np.abs(above) * np.abs(below)
        found *= np.divide(above * np.conj(below), size, out=np.zeros_like(found), where=size > 0.0)
    return found


def taps(sections: Pair, phase: Phase, rate: float, *, dry: bool = False) -> np.ndarray:
    """Responses (2, 2 reach) of both legs, centred on tap `reach`; of the dry part of a mix if told."""
    legs = _filled(sections)
    half = reach(sections, phase, rate)
    size = 2 * half * _GRID
    f = np.fft.rfftfreq(size, 1.0 / rate)
    wanted = np.ones((2, len(f)), dtype=complex)
    if not dry:
        for row, rows in enumerate(legs):
            wanted[row] = np.abs(design.response(rows, f, rate))
    if phase == "matched":
        z = np.exp(-2j * pi * f / rate)
        turn = _turn(legs[0], z, rate) * _turn(legs[1], z, rate)
        # At 0 Hz a real response can be upright or upside down, as it is just above.
        turn[0] = np.sign(turn[1].real) if abs(turn[1].real) > 0.5 else 0.0
        turn[-1] = np.sign(turn[-2].real) if abs(turn[-2].real) > 0.5 else 0.0
        wanted *= turn
    made = np.roll(np.fft.irfft(wanted, axis=1), half, axis=1)[:, : 2 * half]
    edge = half // 16
    fade = 0.5 - 0.5 * np.cos(pi * np.arange(edge) / edge)
    made[:, :edge] *= fade
    made[:, 2 * half - edge :] *= fade[::-1]
    return made


def works(sections: Pair, phase: Phase) -> tuple[bool, bool]:
    """Which legs are filtered: those the stage is on, and with matched legs both."""
    upper, lower = (phase == "matched" or rows is not None for rows in sections)
    return upper, lower


def latency(sections: Pair, phase: Phase, rate: float) -> tuple[int, int]:
    """Latency in samples of each leg: half the response and the block of the convolution."""
    half = reach(sections, phase, rate)
    late = half + part_size(2 * half)
    upper, lower = works(sections, phase)
    return (late if upper else 0), (late if lower else 0)


def memory(sections: Pair, phase: Phase, rate: float) -> int:
    """Samples after which nothing is left of what came before."""
    half = reach(sections, phase, rate)
    return 2 * half + 2 * part_size(2 * half)


@lru_cache(maxsize=8)
def _drawn(upper: bytes | None, lower: bytes | None, phase: Phase, rate: float, dry: bool) -> np.ndarray:
    """Spectra (2, bins) of the responses, without their latency."""
    sections = tuple(None if rows is None else np.frombuffer(rows).reshape(-1, 5) for rows in (upper, lower))
    made = taps(sections, phase, rate, dry=dry)  # type: ignore[arg-type]
    half = made.shape[1] // 2
    padded = np.zeros((2, _DRAWN * 2 * half))
    padded[:, :half], padded[:, -half:] = made[:, half:], made[:, :half]
    return np.fft.rfft(padded, axis=1)


def response(
    sections: Pair, phase: Phase, rate: float, row: int, frequencies: np.ndarray, dry: bool = False
) -> np.ndarray:
    """Complex response of a leg (row 0 or 1) at frequencies in Hz, without the latency: that of the taps."""
    if not works(sections, phase)[row]:
        return np.ones(np.shape(frequencies), dtype=complex)
    upper, lower = (None if rows is None else np.ascontiguousarray(rows).tobytes() for rows in sections)
    spectrum = _drawn(upper, lower, phase, rate, dry)[row]
    place = np.clip(np.asarray(frequencies, dtype=float) / (0.5 * rate), 0.0, 1.0) * (len(spectrum) - 1)
    return spectrum_at(spectrum, place)
