"""Curves of second-order sections as finite responses: of linear phase, or with the phase of both legs."""

from typing import Literal

import numpy as np

from stonekite.signal import biquads, convolution

SHORTEST_S, LONGEST_S = 0.04, 1.4
_SETTLED = 6.9
"""A response is cut where its slowest part has decayed by this exponent: to a thousandth."""
_GRID = 2
"""The spectrum is sampled this many times finer than the response needs."""


def reach(sections: list[np.ndarray], rate: float) -> int:
    """Samples on each side of the centre that hold all that is heard of the sections' response.

    A power of two, from the slowest pole or zero inside the unit circle, held to SHORTEST_S and LONGEST_S before
    it is rounded up. The zeros of a notch lie on the circle and are not waited for: around a narrow one, linear
    phase is off by up to 1.4 dB where it is 24 dB down (60 Hz, Q 12).
    """
    rows = np.concatenate([np.empty((0, 5)), *sections])
    radii = np.concatenate(
        [_radii(rows[:, 1] / rows[:, 0], rows[:, 2] / rows[:, 0]), _radii(rows[:, 3], rows[:, 4])]
    )
    slowest = float(radii[radii < 1.0 - 1e-7].max(initial=0.0))
    wanted = _SETTLED / -np.log(slowest) if 0.0 < slowest < 1.0 else 0.0
    wanted = min(max(wanted, SHORTEST_S * rate), LONGEST_S * rate)
    return 1 << int(np.ceil(np.log2(wanted)))


def _radii(one: np.ndarray, two: np.ndarray) -> np.ndarray:
    """Largest magnitude of the roots of z^2 + one z + two, for each pair (n,)."""
    part = 0.25 * one * one - two
    apart = 0.5 * np.abs(one) + np.sqrt(np.maximum(part, 0.0))
    return np.where(part < 0.0, np.sqrt(np.abs(two)), apart)


def _spectra(sections: list[np.ndarray], size: int) -> np.ndarray:
    """Spectra (2, size // 2 + 1) of the sections of two legs, from their responses to an impulse."""
    impulse = np.zeros((2, size))
    impulse[:, 0] = 1.0
    packed = biquads.pack(*sections)
    biquads.cascade(impulse, 0, packed, biquads.rest(packed))
    return np.fft.rfft(impulse, axis=1)


def responses(sections: list[np.ndarray], phase: Literal["matched", "linear"], half: int) -> np.ndarray:
    """Responses (2, 2 * half) of two legs, centred on tap `half`."""
    size = 2 * half * _GRID
    own = _spectra(sections, size)
    size_of = np.abs(own)
    if phase == "linear":
        wanted = size_of.astype(complex)
    else:
        turn = own / np.maximum(size_of, 1e-12)
        wanted = own * turn[::-1]
    taps = np.roll(np.fft.irfft(wanted, axis=1), half, axis=1)[:, : 2 * half]
    edge = half // 16
    fade = 0.5 - 0.5 * np.cos(np.pi * np.arange(edge) / edge)
    taps[:, :edge] *= fade
    taps[:, 2 * half - edge :] *= fade[::-1]
    return taps


def _works(sections: tuple[np.ndarray | None, ...], phase: str) -> list[bool]:
    """Which legs are filtered: those the stage is on, and with matched legs both."""
    if phase == "matched":
        return [True, True]
    return [rows is not None for rows in sections]


def _filled(sections: tuple[np.ndarray | None, ...]) -> list[np.ndarray]:
    return [np.empty((0, 5)) if rows is None else rows for rows in sections]


def latency(sections: tuple[np.ndarray | None, ...], phase: str, rate: float) -> tuple[int, int]:
    """Latency in samples of each leg: half the response and the block of the convolution."""
    half = reach(_filled(sections), rate)
    late = half + convolution.part_size(2 * half)
    upper, lower = _works(sections, phase)
    return (late if upper else 0), (late if lower else 0)


class LongFilters:
    """Both legs' responses, ready to be convolved with."""

    def __init__(
        self,
        upper: np.ndarray | None,
        lower: np.ndarray | None,
        phase: Literal["matched", "linear"],
        rate: float,
    ) -> None:
        filled = _filled((upper, lower))
        works = _works((upper, lower), phase)
        # The rows that are filtered: both, or the one.
        self._rows = slice(works.index(True), 2 if works[1] else 1) if any(works) else slice(0, 0)
        self._spectra = convolution.spectra_of(responses(filled, phase, reach(filled, rate))[self._rows])

    def start(self) -> convolution.Convolver:
        """The state of filters that have heard nothing."""
        return convolution.Convolver(self._spectra)

    def layout(self) -> tuple:
        """Rows and lengths: filters of the same length go on from each other's state."""
        return (self._rows.start, *self._spectra.shape)

    def process(self, state: convolution.Convolver, block: np.ndarray, position: int) -> None:
        """Filter block (2, frames) in place."""
        state.process(block[self._rows], position, self._spectra)
