"""How one recording has become another by delay, gain and polarity alone, and what is left beyond that.

The delay is first found as the largest cross-correlation, then to a small part of a sample: with a(t - d) the first
recording delayed, the delay d and the gain g make the sum of (b - g a(t - d))^2 least, by Gauss and Newton's method.

Any two recordings have a largest cross-correlation. Whether it means anything is said by how it stands out: of the
correlation itself against the power of both, and of the one in which all frequencies count alike (Knapp and Carter, "The
Generalized Correlation Method for Estimation of Time Delay", IEEE Trans. ASSP 24, 1976) against the rest of it.

A filter that delays by parts of a sample is right up to EDGE of the rate. What is above it is left out on both sides,
where there is such a part.
"""

import math
from typing import NamedTuple

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.delay import Delay
from stonekite.signal.matrix import COMPONENTS, component

fir = lazy("stonekite.signal.filters.fir")

REACH_S = 30.0
"""Offsets up to this are found."""
EXCERPT_S = 30.0
"""So much of the first recording is looked for in the second one."""
TAPS = 1024
"""Length of the filters that delay by parts of a sample."""
_FINE = (1 << 18) - TAPS - 2
"""Samples that the fine offset is found from: those around the loudest place. With the filters' reach they fill a
transform."""
EDGE = 0.482
"""Of the rate: so far they are right. 21.2 kHz at 44.1 kHz."""
_CUT = 0.4915
_STEP = 1e-3
_ROUNDS = 12
_BELIEVED = 0.5


class Match(NamedTuple):
    """`samples` > 0: the second one is late. `gain` is what the first one is multiplied by, without the polarity, 1 or
    -1. `confidence` is 0 (they do not fit) to 1; under a half nothing is known, and `found` is false.
    """

    samples: float
    polarity: int
    gain: float
    confidence: float

    @property
    def found(self) -> bool:
        return self.confidence >= _BELIEVED


UNKNOWN = Match(0.0, 1, 1.0, 0.0)


def fractional_taps(fraction: float, share: float = 1.0) -> np.ndarray:
    """Taps (TAPS,) that delay by TAPS / 2 + fraction samples, and let through EDGE of the rate, or of a share of it."""
    t = np.arange(TAPS) - TAPS // 2 - fraction
    window = np.i0(11.0 * np.sqrt(np.maximum(0.0, 1 - (t / (TAPS // 2)) ** 2))) / np.i0(11.0)
    taps = np.sinc(2 * _CUT * share * t) * window
    return taps / taps.sum()


def _coarse(a: np.ndarray, b: np.ndarray) -> tuple[int, int, float]:
    """Offset in whole samples and polarity with the largest cross-correlation over both sides, and a confidence."""
    size = 1 << (a.shape[1] + b.shape[1] - 1).bit_length()
    one, two = (np.fft.rfft(part, size, axis=1) for part in (a, b))
    spectrum = (np.conj(one) * two).sum(axis=0)
    correlation = np.fft.irfft(spectrum, size)
    place = int(np.argmax(np.abs(correlation)))
    offset = place if place < b.shape[1] else place - size
    start, stop = max(0, offset), min(a.shape[1] + offset, b.shape[1])
    powers = np.sum(a[:, start - offset : stop - offset] ** 2), np.sum(b[:, start:stop] ** 2)
    alike = abs(float(correlation[place])) / max(math.sqrt(float(powers[0] * powers[1])), 1e-300)
    size_of = np.abs(spectrum)
    # Frequencies at which there is next to nothing would count as much as all others.
    spectrum = np.where(size_of > 1e-7 * size_of.max(), spectrum / np.maximum(size_of, 1e-300), 0.0)
    whitened = np.fft.irfft(spectrum, size)
    near = np.abs(whitened[np.arange(place - 2, place + 3) % size]).max()
    stands_out = float(near / max(math.sqrt(float(np.mean(whitened**2))), 1e-300))
    confidence = max(float(np.clip((alike - 0.55) / 0.35, 0, 1)), float(np.clip((stands_out - 8) / 16, 0, 1)))
    return offset, (1 if correlation[place] >= 0 else -1), confidence


class Delayed:
    """a(t - samples) for `count` samples t from `start` on, up to EDGE or a share of it, for samples from whole - 1 to
    whole + 1 and a little more; a (rows, frames) reaches far enough on both sides."""

    def __init__(self, a: np.ndarray, start: int, count: int, whole: int, share: float = 1.0) -> None:
        self._whole, self._count, self._share = whole - 2, count, share
        first = start - whole - 1 + TAPS // 2 - (TAPS - 1)
        part = a[:, first : first + count + TAPS + 2]
        self._size = 1 << (part.shape[1] - 1).bit_length()
        self._spectrum = np.fft.rfft(part, self._size, axis=1)

    def taps(self, samples: float) -> np.ndarray:
        """The filter that delays so far."""
        late = math.floor(samples) - self._whole
        made = np.zeros(TAPS + 3)
        made[late : late + TAPS] = fractional_taps(samples - math.floor(samples), self._share)
        return made

    def through(self, taps: np.ndarray) -> np.ndarray:
        """What comes out of a filter (rows, count)."""
        made = np.fft.irfft(self._spectrum * np.fft.rfft(taps, self._size), self._size, axis=1)
        return made[:, TAPS + 2 : TAPS + 2 + self._count]


def match(a: np.ndarray, b: np.ndarray) -> Match:
    """What turns excerpts a into b, both (2, frames) from the same place of their recordings."""
    if not a.any() or not b.any():
        return UNKNOWN
    whole, polarity, confidence = _coarse(a, b)
    margin = TAPS + 4
    start, stop = max(0, whole) + margin, min(a.shape[1] + whole, b.shape[1]) - margin
    if confidence < _BELIEVED or stop - start < 4 * TAPS:
        gain = math.sqrt(float(np.sum(b**2) / np.sum(a**2)))
        return Match(float(whole), polarity, gain, confidence)
    if stop - start > _FINE:
        power = np.cumsum(np.concatenate([[0.0], np.sum(b[:, start:stop] ** 2, axis=0)]))
        loudest = int(np.argmax(power[_FINE:] - power[:-_FINE]))
        start, stop = start + loudest, start + loudest + _FINE
    count = stop - start
    still = Delayed(b, start, count, 0)
    raw, wanted = b[:, start:stop], still.through(still.taps(0.0))
    delayed = Delayed(a, start, count, whole)
    samples, gain = float(whole), 0.0
    for _ in range(_ROUNDS):
        now = delayed.through(delayed.taps(samples))
        slope = delayed.through((delayed.taps(samples + _STEP) - delayed.taps(samples - _STEP)) / (2 * _STEP))
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
        now = a[:, start - int(samples) : start - int(samples) + count]
        gain = float(np.vdot(now, raw) / np.vdot(now, now))
    return Match(samples, -1 if gain < 0 else 1, abs(float(gain)), confidence)


class _Filtered:
    """A signal delayed by a part of a sample and TAPS / 2 more."""

    def __init__(self, fraction: float, share: float) -> None:
        self._taps = fractional_taps(fraction, share)
        self._past = np.zeros((2, TAPS - 1))

    def process(self, block: np.ndarray) -> None:
        """Delay block (2, frames) in place."""
        joined = np.concatenate([self._past, block], axis=1)
        self._past = joined[:, block.shape[1] :]
        for row in range(2):
            fir.filtered(np.ascontiguousarray(joined[row]), self._taps, block[row])


class Residual:
    """What is left of the second recording when the first one, matched, is taken away; fed in blocks of both.

    If one of them had a lower rate, `share` is that rate's share: what only the other one can have is in neither.
    """

    def __init__(self, found: Match, share: float = 1.0) -> None:
        whole = math.floor(found.samples)
        fraction = found.samples - whole
        late = max(0, whole), max(0, -whole)
        self._delays = [Delay((samples, samples)) for samples in late]
        # Both go through the same filter, one of them with the part of a sample: what is above its edge is in neither.
        filtered = fraction != 0.0 or share < 1.0
        self._filters = [_Filtered(part, share) for part in (fraction, 0.0)] if filtered else []
        self._gain = found.gain * found.polarity
        self._skip = max(late) + (2 * TAPS if filtered else 0)
        self._left = dict.fromkeys(COMPONENTS, 0.0)
        self._whole = dict.fromkeys(COMPONENTS, 0.0)

    def add(self, a: np.ndarray, b: np.ndarray) -> None:
        """Hear blocks (2, frames) of both, of the same length."""
        a, b = np.array(a, order="C"), np.array(b, order="C")
        for delay, block in zip(self._delays, (a, b), strict=True):
            delay.process(block)
        for made, block in zip(self._filters, (a, b), strict=False):
            made.process(block)
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
