"""How one recording has become another by delay, gain and polarity alone, and what is left beyond that.

The delay is first found as the largest cross-correlation, then to a small part of a sample: with a(t - d) the first
recording delayed, the delay d and the gain g make the sum of (b - g a(t - d))^2 least, by Gauss and Newton's method.
"""

import math
from typing import NamedTuple

import numpy as np

from stonekite.signal.delay import FineDelay, fraction_taps
from stonekite.signal.matrix import COMPONENTS, component

REACH_S = 30.0
"""Offsets up to this are found, in an excerpt at least as long."""
_FINE = 1 << 18
"""Samples that the fine offset is found from: those around the loudest place."""
TAPS = 1024
"""Length of the filters that delay by parts of a sample: long, as programme may reach close to half the rate."""
_STEP = 1e-3
_ROUNDS = 12


class Match(NamedTuple):
    """`samples` > 0: the second one is late. `gain` is what the first one is multiplied by, without the polarity, 1 or
    -1. `found` is false where one of them is silent: then nothing is known.
    """

    samples: float
    polarity: int
    gain: float
    found: bool


def _coarse(a: np.ndarray, b: np.ndarray) -> tuple[int, int]:
    """Offset in whole samples and polarity with the largest cross-correlation over both sides."""
    size = 1 << (a.shape[1] + b.shape[1] - 1).bit_length()
    spectrum = (np.conj(np.fft.rfft(a, size, axis=1)) * np.fft.rfft(b, size, axis=1)).sum(axis=0)
    correlation = np.fft.irfft(spectrum, size)
    place = int(np.argmax(np.abs(correlation)))
    return (place if place < size // 2 else place - size), (1 if correlation[place] >= 0 else -1)


def _delayed(a: np.ndarray, start: int, count: int, samples: float) -> np.ndarray:
    """a(t - samples) for `count` samples t from `start` on (2, count); `a` reaches far enough on both sides."""
    whole = math.floor(samples)
    taps = fraction_taps(samples - whole, TAPS)
    first = start - whole + TAPS // 2 - (TAPS - 1)
    part = a[:, first : first + count + TAPS - 1]
    size = 1 << (part.shape[1] - 1).bit_length()
    made = np.fft.irfft(np.fft.rfft(part, size, axis=1) * np.fft.rfft(taps, size), size, axis=1)
    return made[:, TAPS - 1 : TAPS - 1 + count]


def match(a: np.ndarray, b: np.ndarray) -> Match:
    """What turns excerpts a into b, both (2, frames) from the same place of their recordings."""
    if not a.any() or not b.any():
        return Match(0.0, 1, 1.0, False)
    whole, polarity = _coarse(a, b)
    margin = TAPS + 2
    start, stop = max(0, whole) + margin, min(a.shape[1] + whole, b.shape[1]) - margin
    if stop - start < 4 * TAPS:
        gain = math.sqrt(float(np.sum(b**2) / np.sum(a**2)))
        return Match(float(whole), polarity, gain, True)
    if stop - start > _FINE:
        power = np.cumsum(np.concatenate([[0.0], np.sum(b[:, start:stop] ** 2, axis=0)]))
        loudest = int(np.argmax(power[_FINE:] - power[:-_FINE]))
        start, stop = start + loudest, start + loudest + _FINE
    wanted, count = b[:, start:stop], stop - start
    samples, gain = float(whole), 0.0
    for _ in range(_ROUNDS):
        now = _delayed(a, start, count, samples)
        slope = (_delayed(a, start, count, samples + _STEP) - _delayed(a, start, count, samples - _STEP)) / (
            2 * _STEP
        )
        # Least squares of wanted = gain now + (gain move) slope.
        known = np.array(
            [[np.vdot(now, now), np.vdot(now, slope)], [np.vdot(now, slope), np.vdot(slope, slope)]]
        )
        if not np.linalg.det(known) > 0.0:
            break
        gain, moved = np.linalg.solve(known, [np.vdot(now, wanted), np.vdot(slope, wanted)])
        if gain == 0.0:
            break
        step = float(np.clip(moved / gain, -0.5, 0.5))
        samples = float(np.clip(samples + step, whole - 1.0, whole + 1.0))
        if abs(step) < 1e-8:
            break
    if abs(samples - round(samples)) < 1e-5:  # a whole number of samples needs no filter
        samples = float(round(samples))
        now = _delayed(a, start, count, samples)
        gain = float(np.vdot(now, wanted) / np.vdot(now, now))
    return Match(samples, -1 if gain < 0 else 1, abs(float(gain)), True)


class Residual:
    """What is left of the second recording when the first one, matched, is taken away; fed in blocks of both."""

    def __init__(self, found: Match) -> None:
        late = max(0.0, found.samples), max(0.0, -found.samples)
        self._delays = [FineDelay((samples, samples), TAPS) for samples in late]
        most = max(delay.latency for delay in self._delays)
        # What the filter of one delays besides, the other has to wait.
        self._delays = [
            FineDelay((samples + most - delay.latency,) * 2, TAPS)
            for samples, delay in zip(late, self._delays, strict=True)
        ]
        self._gain = found.gain * found.polarity
        self._skip = math.ceil(max(late)) + 2 * TAPS
        self._left = dict.fromkeys(COMPONENTS, 0.0)
        self._whole = dict.fromkeys(COMPONENTS, 0.0)

    def add(self, a: np.ndarray, b: np.ndarray) -> None:
        """Hear blocks (2, frames) of both, of the same length."""
        a, b = np.array(a, order="C"), np.array(b, order="C")
        for delay, block in zip(self._delays, (a, b), strict=True):
            delay.process(block)
        a *= self._gain
        if self._skip:  # where one of them has not begun
            skipped = min(self._skip, a.shape[1])
            self._skip -= skipped
            a, b = a[:, skipped:], b[:, skipped:]
        for name in COMPONENTS:
            whole, left = component(a, name), component(b - a, name)
            self._whole[name] += float(np.dot(whole, whole))
            self._left[name] += float(np.dot(left, left))

    def levels_db(self) -> dict[str, float]:
        """Residual of each component, and of all ("all"), in dB against the matched first recording: minus infinity for
        nothing, NaN where there is nothing to compare with.
        """
        sides = {"all": ("left", "right"), **{name: (name,) for name in COMPONENTS}}
        return {
            name: _ratio_db(sum(self._left[p] for p in parts), sum(self._whole[p] for p in parts))
            for name, parts in sides.items()
        }


def _ratio_db(left: float, whole: float) -> float:
    if left <= 0.0:
        return -math.inf if whole > 0.0 else math.nan
    return 10 * math.log10(left / whole) if whole > 0.0 else math.inf
