"""True peak after ITU-R BS.1770-4 Annex 2, looked for closer than the annex's example does.

Halfway between samples by a filter that sees all but the last half per cent of the spectrum, halfway between all of
those by a short one, and at the tops of what then stands four times as dense by the tone through three neighbours
(signal/heights.py): four or eight looks a sample miss up to 0.4 dB of a tone that always stands between them. A top that
may be the highest so far is looked at once more, through a filter that sees all but the last half per mille.
"""

import numpy as np

from stonekite.signal.filters import fir
from stonekite.signal.filters.interpolation import between
from stonekite.signal.heights import height_squared
from stonekite.signal.kernel import inner, kernel, lesser
from stonekite.signal.vectors.fused import fused

TAPS, BETA = 256, 4.0
SHORT, SHORT_BETA = 24, 7.0
_STRETCH = 128 - SHORT // 2 - 2  # so that the long filter works on whole vectors
"""Samples that are looked between together, or skipped together."""
_AROUND = 24
"""Samples around a stretch that a rough look takes in."""
_FAR, _ROUGH = 1.1, 0.45
"""So many times the largest height of three samples, and so much of their largest second difference, is there at the
most: smooth sound stands little above its samples, random signs, the worst of signals, reach 2.06 times."""
_NEAR = 1.4143
"""So many times what stands twice as dense is there at the most: a tone at half the rate by the square root of two."""
LONG, LONG_BETA = 4096, 3.0
_CLOSE, _EXACT, _UNSEEN = 1.06, 1.001, 0.5
"""What is found four times as dense is there up to the first; smooth sound up to the second, and more by so much of what
stands near half the rate."""
_WORTH = 1.002
"""A top is looked at closest only if it may be so many times the highest so far: tones have many alike."""
_LOOKS, _PATIENCE = 4, 100
"""Closest looks in a stretch at the most; and in a row that found nothing higher, after which only what is clearly higher
is looked at: the tops of a steady sound are all alike."""
_ALTERNATING = 16
"""Samples over which is averaged what changes its sign from each to the next."""
_EDGE = LONG // 2 + SHORT // 2
"""Samples before and after a stretch that the filters reach over."""
_COARSE = _EDGE - TAPS // 2 - SHORT // 2
"""Samples before a stretch that only the closest look reaches over."""


@inner
def _closest(signal, place, long):
    """Square of the height at a top, through long (4, LONG); `place` is the place of the top in quarters of a sample."""
    found = (0.0, 0.0, 0.0)
    for k in range(3):
        at = place + k - 1
        first = (at >> 2) - LONG // 2 + 1
        value = signal[at >> 2]
        if at & 3:
            heard, taps = signal[first : first + LONG], long[at & 3]
            a = b = c = d = 0.0  # four sums, so that none waits for the one before
            for i in range(0, LONG, 4):
                a = fused(heard[i], taps[i], a)
                b = fused(heard[i + 1], taps[i + 1], b)
                c = fused(heard[i + 2], taps[i + 2], c)
                d = fused(heard[i + 3], taps[i + 3], d)
            value = (a + b) + (c + d)
        found = found[1], found[2], value
    return height_squared(found[0], found[1], found[2])


@inner
def _rough(signal, first, count):
    """The most that can be in a stretch, from each three samples of it."""
    before, middle, after = (
        signal[first - 1 : first - 1 + count],
        signal[first : first + count],
        signal[first + 1 : first + 1 + count],
    )
    most = bent = 0.0
    for i in range(count):
        height = height_squared(before[i], middle[i], after[i])
        most = height if height > most else most
        bend = abs(before[i] - 2.0 * middle[i] + after[i])
        bent = bend if bend > bent else bent
    return _FAR * np.sqrt(most) + _ROUGH * bent


@inner
def _near_half(signal, first, count):
    """How much of a stretch stands near half the rate: the mean of its second difference against alternating signs."""
    total, most, sign = 0.0, 0.0, 1.0
    for i in range(first - _ALTERNATING, first + count):
        bend = signal[i - 1] - 2.0 * signal[i] + signal[i + 1]
        total += sign * bend
        if i >= first:
            k = i - _ALTERNATING
            total -= sign * (signal[k - 1] - 2.0 * signal[k] + signal[k + 1])
        sign = -sign
        most = abs(total) if abs(total) > most else most
    return 0.25 * most / _ALTERNATING


@kernel
def _scan(signal, taps, short, long, peak, idle, halves, dense, quarters):
    """Largest height of signal (frames,), at least `peak`; of whole stretches only, _EDGE samples from the ends.

    Stretches that a rough look finds far under the peak so far are skipped. `idle` (1,) counts closest looks in a row
    that found nothing higher. `halves`, `dense` and `quarters` are scratch.
    """
    for start in range(0, signal.shape[0] - 2 * _EDGE - _STRETCH + 1, _STRETCH):
        if _rough(signal, start + _EDGE - _AROUND, _STRETCH + 2 * _AROUND) > peak:
            fir.convolve(signal[start + _COARSE :], taps, halves)
            # halves[i] is halfway between this sample and the next one, and so on
            first = start + _COARSE + TAPS // 2 - 1
            most = 0.0
            for i in range(halves.shape[0]):
                on, off = signal[first + i], halves[i]
                dense[2 * i], dense[2 * i + 1] = on, off
                most = on * on if on * on > most else most
                most = off * off if off * off > most else most
            if np.sqrt(most) * _NEAR <= peak:
                continue
            fir.convolve(dense, short, quarters)
            lead = SHORT // 2 - 1
            unseen = _UNSEEN * _near_half(signal, start + _EDGE - _AROUND, _STRETCH + 2 * _AROUND)
            looks = 0
            margin = _EXACT if idle[0] > _PATIENCE else lesser(_CLOSE, _EXACT + unseen / (peak + 1e-30))
            high = (peak * _WORTH / margin) ** 2
            for i in range(1, quarters.shape[0] - 1):
                before, after = dense[lead + i], dense[lead + i + 1]
                on = height_squared(quarters[i - 1], before, quarters[i])
                off = height_squared(before, quarters[i], after)
                if (on > high or off > high) and looks < _LOOKS:
                    looks += 1
                    idle[0] += 1
                    place = 4 * first + 2 * (lead + i) + (off > on)
                    height = _closest(signal, place, long)
                    if height > peak * peak:
                        if height > (peak * _WORTH) ** 2:
                            idle[0] = 0
                        peak = np.sqrt(height)
                        high = (peak * _WORTH / margin) ** 2
    return peak


class Peaks:
    """Sample peak and true peak of both channels of a signal fed in blocks."""

    def __init__(self, rate: float) -> None:
        self._taps, self._short = (
            between(2, *made)[0].copy() for made in ((TAPS, BETA), (SHORT, SHORT_BETA))
        )
        self._long = np.concatenate([np.zeros((1, LONG)), between(4, LONG, LONG_BETA)])
        halves = _STRETCH + SHORT // 2 + 2
        self._room = np.zeros(halves), np.zeros(2 * halves), np.zeros(2 * halves - SHORT + 1)
        self._past = np.zeros((2, 2 * _EDGE))
        self._idle = np.zeros((2, 1), dtype=np.int64)
        self.sample = np.zeros(2)
        self._between = np.zeros(2)

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        if not block.shape[1]:
            return
        self.sample = np.maximum(self.sample, np.abs(block).max(axis=1))
        self._take(block)

    def _take(self, block: np.ndarray) -> None:
        joined = np.concatenate([self._past, block], axis=1)
        done = max(0, joined.shape[1] - 2 * _EDGE) // _STRETCH * _STRETCH
        for leg in range(2):
            looked = joined[leg, : done + 2 * _EDGE]
            highest = max(self._between[leg], self.sample[leg])
            self._between[leg] = _scan(
                looked, self._taps, self._short, self._long, highest, self._idle[leg], *self._room
            )
        self._past = joined[:, done:].copy()

    def true_peak(self) -> np.ndarray:
        """True peak (2,) as an amplitude; what was heard last is followed by silence."""
        ended = Peaks.__new__(Peaks)
        ended.__dict__.update(self.__dict__, _between=self._between.copy(), _idle=self._idle.copy())
        ended._take(np.zeros((2, 2 * _EDGE + _STRETCH)))
        return np.maximum(self.sample, ended._between)
