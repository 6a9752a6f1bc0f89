"""Hum: found by its harmonics, followed, and taken out by a row of notches.

A notch is the input less a share of a band-pass of unit gain, as a state-variable filter by trapezoidal integration
(V. Zavalishin, The Art of VA Filter Design, 2012, section 4), which stays steady while its frequency moves.
"""

import math
from functools import cache

import numpy as np

from stonekite.signal.kernel import kernel, lesser

MOST = 32
"""Harmonics."""
GRID = 64
"""Samples between which the notches stand still."""
LOWEST_HZ, HIGHEST_HZ = 20.0, 200.0
"""Between these hum is looked for."""
HEARD_HZ = 1500.0
"""Up to here harmonics tell of the pitch."""
REACH = 0.025
"""So far from where it was found hum is followed, as a share."""
SMOOTH_S = 0.08
TREND_S = 0.35
"""Over so much the trend is taken by which a look is brought forward from the middle of its frame to now."""
_CANDIDATES = 251
_STANDS_OUT_DB = 10.0
_LEAST = 0.45
"""So much of the harmonics, each counted by how far it stands out, makes a hum."""


def frame_size(rate: float) -> int:
    """Samples in which hum is followed: about 0.34 s, a power of two."""
    return 1 << round(math.log2(0.34 * rate))


def hop(rate: float) -> int:
    """Samples from one look to the next: about 0.05 s, on the grid."""
    return GRID * max(1, round(0.05 * rate / GRID))


@cache
def _window(n: int) -> np.ndarray:
    return np.hanning(n + 1)[:-1]


def _prominence(logs: np.ndarray, width: int) -> np.ndarray:
    """By how much every bin of a spectrum in dB stands out of what is `width` bins around it."""
    padded = np.pad(logs, width, mode="edge")
    around = np.median(np.lib.stride_tricks.sliding_window_view(padded, 2 * width + 1), axis=1)
    return logs - around


def found(sound: np.ndarray, rate: float) -> tuple[float, int]:
    """The frequency of the hum in sound (n,) in Hz, and how many harmonics stand out; (0, 0) without one.

    From the median of long spectra: what does not last, as a voice, is not in it.
    """
    n = 1 << round(math.log2(1.36 * rate))
    while n > len(sound) and n > 4096:
        n //= 2
    if len(sound) < n:
        return 0.0, 0
    starts = range(0, len(sound) - n + 1, max(n // 4, (len(sound) - n) // 60 + 1))
    bins = int(HEARD_HZ * 1.1 * n / rate) + 2
    powers = [np.abs(np.fft.rfft(sound[k : k + n] * _window(n))[:bins]) ** 2 for k in starts]
    power = np.median(np.stack(powers), axis=0)
    if power.max() <= 1e-14 * n:
        return 0.0, 0
    step = rate / n
    logs = 10 * np.log10(power + 1e-6 * power.max())
    shares = np.clip(_prominence(logs, max(4, int(9.0 / step))) / _STANDS_OUT_DB, 0.0, 1.0)
    # What wanders is spread over some bins, the more the higher: the best one near the harmonic counts.
    candidates = np.exp(np.arange(math.log(LOWEST_HZ), math.log(HIGHEST_HZ), 4e-4))
    scores = np.array([_score(shares, hz / step, int(HEARD_HZ / hz)) for hz in candidates])
    best = scores.max()
    if best < _LEAST:
        return 0.0, 0
    # The lowest that is nearly as good: of twice the frequency all harmonics are there, too; then the top of its hill.
    first = int(np.argmax(scores >= 0.8 * best))
    hill = slice(first, first + 40)
    near = _refined(logs, step, candidates[hill][int(np.argmax(scores[hill]))], 0.012, min(12, MOST))
    count = int(min(MOST, HEARD_HZ / near))
    at = np.rint(np.arange(1, count + 1) * near / step).astype(int)
    return near, int(np.sum([shares[k - 1 : k + 2].max() > 0.6 for k in at]))


def _score(shares: np.ndarray, bins: float, most: int) -> float:
    """How far harmonics stand out on the whole, whose distance is so many bins."""
    count = min(10, most)
    at = np.rint(np.arange(1, count + 1) * bins).astype(int)
    return float(np.mean(np.maximum(shares[at], np.maximum(0.8 * shares[at - 1], 0.8 * shares[at + 1]))))


def _refined(logs: np.ndarray, step: float, about: float, reach: float, most: int) -> float:
    """The pitch (Hz) within a share `reach` of one, on whose harmonics a spectrum in dB has most."""
    candidates = about * (1.0 + np.linspace(-reach, reach, _CANDIDATES))
    count = max(1, min(most, int(HEARD_HZ / about)))
    places = candidates[:, None] * np.arange(1, count + 1)[None, :] / step
    places = np.minimum(places, len(logs) - 2)
    whole = places.astype(int)
    share = places - whole
    sums = ((1 - share) * logs[whole] + share * logs[whole + 1]).sum(axis=1)
    best = int(np.argmax(sums))
    if 0 < best < len(sums) - 1:
        a, b, c = sums[best - 1 : best + 2]
        curve = a - 2 * b + c
        shift = 0.5 * (a - c) / curve if curve < 0 else 0.0
        return float(candidates[best] + shift * (candidates[1] - candidates[0]))
    return float(candidates[best])


class Follower:
    """Follows the hum of one leg near a frequency: a look at the last frame, every hop."""

    def __init__(self, rate: float) -> None:
        self.rate = rate
        self.size = frame_size(rate)
        self.heard = np.zeros(self.size)
        self._bins = min(self.size // 2 + 1, int(HEARD_HZ * 1.1 * self.size / rate) + 3)
        self._logs = np.zeros(self._bins)
        every = hop(rate) / rate
        self._share, self._turning = (1.0 - math.exp(-every / s) for s in (SMOOTH_S, TREND_S))
        self._late = (0.5 * self.size / rate + SMOOTH_S) / every + 1.0
        self._last, self._trend = 0.0, 0.0

    def look(self, about: float) -> float:
        """The frequency now, in Hz; `about` where there is nothing to hear."""
        power = np.abs(np.fft.rfft(self.heard * _window(self.size))[: self._bins]) ** 2
        if power.max() <= 1e-14 * self.size:
            self._logs[:] = 0.0
            self._last, self._trend = 0.0, 0.0
            return about
        self._logs += self._share * (10 * np.log10(power + 1e-6 * power.max()) - self._logs)
        now = _refined(self._logs, self.rate / self.size, about, REACH, MOST)
        if self._last:
            self._trend += self._turning * (now - self._last - self._trend)
        self._last = now
        most = REACH * about
        return about + min(most, max(-most, now - about + self._late * self._trend))


@kernel
def notch(x, place, come, step, rate, width, depth, count, state):
    """Take a row of notches out of x (n,) in place, whose first sample has this place in its hop.

    The lowest one's frequency is `come` Hz where the hop begins and moves by `step` a sample; `width` in Hz, `depth` is
    the share that is taken away; state (MOST, 2).
    """
    done = 0
    n = x.shape[0]
    while done < n:
        begin = (place + done) % GRID
        many = lesser(GRID - begin, n - done)
        here = come + step * (place + done - begin)
        for k in range(count):
            hz = here * (k + 1)
            if hz > 0.45 * rate:
                break
            g = math.tan(math.pi * hz / rate)
            r = lesser(width / hz, 1.5)
            a = 1.0 / (1.0 + g * (g + r))
            one, two = state[k, 0], state[k, 1]
            taken = depth * r
            for i in range(done, done + many):
                v1 = a * (one + g * (x[i] - two))
                v2 = two + g * v1
                one = 2.0 * v1 - one
                two = 2.0 * v2 - two
                x[i] -= taken * v1
            if begin + many == GRID and abs(one) < 1e-25 and abs(two) < 1e-25:
                one, two = 0.0, 0.0
            state[k, 0], state[k, 1] = one, two
        done += many


def response(hz: np.ndarray, base: float, width: float, depth: float, count: int, rate: float) -> np.ndarray:
    """Complex response of the notches at frequencies in Hz."""
    s = 1j * np.tan(np.pi * np.minimum(np.asarray(hz, dtype=float), 0.4999 * rate) / rate)
    made = np.ones(np.shape(hz), dtype=complex)
    for k in range(1, count + 1):
        if base * k > 0.45 * rate:
            break
        g, r = math.tan(math.pi * base * k / rate), min(width / (base * k), 1.5)
        made *= 1.0 - depth * (r * s * g) / (s * s + r * s * g + g * g)
    return made
