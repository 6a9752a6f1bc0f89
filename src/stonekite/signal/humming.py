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
STANDS_OUT = 4.0
"""So many times what is around it a harmonic is that tells."""
AGREES, TURNS = 0.0012, 0.006
"""So far apart, as a share, harmonics and looks are that tell of the same pitch; and so far from where it was it is
looked for."""
FALLS_S, RISES_S = 0.1, 4.0
"""How fast it is learned how loud a harmonic usually is, downwards and upwards."""
RECENT_S, LONG_S = 1.5, 8.0
"""A line is laid through so much, and what stands still is averaged over so much."""
MOST_OF = 0.8
"""Where so many looks tell, a bend of the line is believed, too."""
_SLOPES = np.linspace(-0.006, 0.006, 13)
"""How fast hum may drift, as a share in a second."""
_CANDIDATES = 251
_STANDS_OUT_DB = 10.0
_QUIET, _HELD = 0.15, (0.05, 0.35)
"""Shares of the time: how loud something is at its quietest; and for how long it has to stay so."""
_STILL_DB = 3.6
_LEAST = 0.38
"""So much of the harmonics, each counted by how far it stands out, is worth a closer look."""
_LOOKED_AT = 6
_APART_S = (1.0, 2.0)
_DRIFT = 1.5
"""Radians of the first harmonic, at three times so far apart."""
_CHANCE = np.array([0.999, 0.981, 0.885, 0.753, 0.657, 0.593, 0.543, 0.501, 0.473, 0.448, 0.419])
"""How well so many phases agree by chance on the drift that suits them best (found by drawing them)."""
_COHERENT, _LEAST_LOOKS = 0.35, 10


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

    Hum is always there: what is looked at is how loud each frequency is at its quietest, in long frames, where lines are
    sharp. A row of lines in that may still be notes that come again and again: what is found has to be of one source that
    never stopped.
    """
    n = 1 << round(math.log2(1.36 * rate))
    while n > len(sound) and n > 4096:
        n //= 2
    if len(sound) < n:
        return 0.0, 0
    bins = int(HEARD_HZ * 1.1 * n / rate) + 2
    power = np.quantile(_powers(sound, n, bins), _QUIET, axis=0)
    if power.max() <= 1e-14 * n:
        return 0.0, 0
    step = rate / n
    logs = 10 * np.log10(power + 1e-7 * power.max())
    shares = np.clip(_prominence(logs, max(4, int(9.0 / step))) / _STANDS_OUT_DB, 0.0, 1.0)
    short = frame_size(rate)
    powers = _powers(sound, short, int(HEARD_HZ * 1.1 * short / rate) + 6)
    # Three bins together: where in them a line stands makes no difference then.
    levels = 10 * np.log10(powers[:, :-2] + powers[:, 1:-1] + powers[:, 2:] + 1e-20)
    low, high = np.quantile(levels, _HELD, axis=0)
    held = high - low
    candidates = np.exp(np.arange(math.log(LOWEST_HZ), math.log(HIGHEST_HZ), 4e-4))
    scores = np.array([_score(shares, hz / step, int(HEARD_HZ / hz)) for hz in candidates])
    steady = np.array(
        [_steady(shares, held, hz / step, hz * short / rate, int(HEARD_HZ / hz)) for hz in candidates]
    )
    starts = range(0, len(sound) - short + 1, hop(rate))
    looks = np.stack([np.fft.rfft(sound[k : k + short] * _window(short))[: powers.shape[1]] for k in starts])
    told: list[tuple[float, float]] = []
    for top in _tops(np.where(steady, scores, 0.0)):
        near = _refined(logs, step, candidates[top], 0.012, min(12, MOST))
        coherent = _coherence(looks, rate, near)
        if coherent >= _COHERENT:
            told.append((near, float(coherent * scores[top])))
    if not told:
        return 0.0, 0
    # The lowest that is nearly as good: of twice the frequency all harmonics are there, too.
    best = max(worth for _, worth in told)
    near = min(hz for hz, worth in told if worth >= 0.75 * best)
    count = int(min(MOST, HEARD_HZ / near))
    at = np.rint(np.arange(1, count + 1) * near / step).astype(int)
    return near, int(np.sum([shares[k - 1 : k + 2].max() > 0.6 for k in at]))


def _tops(scores: np.ndarray) -> list[int]:
    """The candidates that are worth a closer look: the tops of the highest hills."""
    found: list[int] = []
    left = scores.copy()
    while len(found) < _LOOKED_AT and left[top := int(np.argmax(left))] >= _LEAST:
        if all(abs(top - other) > 20 for other in found):
            found.append(top)
        left[max(0, top - 20) : top + 21] = 0.0
    return found


def _coherence(looks: np.ndarray, rate: float, hz: float) -> float:
    """How much the harmonics of a pitch are of one source that never stopped, from about 0 by chance to 1; from `looks`
    (frames, bins), spectra every hop.

    The phase of each is looked at at three times, equally far apart: what it turned by in the second half less what it
    turned by in the first is 0 where the pitch stands, and goes with the number of the harmonic where that drifts. A note
    that was struck again between them begins anywhere. Looks count at which a harmonic is about as quiet as it usually
    is at its quietest: there the hum is alone.
    """
    n, step = frame_size(rate), hop(rate)
    count = int(min(10, HEARD_HZ / hz))
    # A line between two bins has the phase of its own frequency in either.
    lines = looks[:, np.rint(np.arange(1, count + 1) * hz * n / rate).astype(int)].T
    sizes = np.abs(lines)
    usual = np.quantile(sizes, _QUIET, axis=1)[:, None]
    quiet = (sizes < 2.0 * usual) & (sizes > 0.5 * usual)
    turns = np.angle(lines)
    apart_s = [s for s in _APART_S if len(looks) * step / rate > 3.0 * s]
    found = [_agreement(turns, quiet, max(1, round(s * rate / step))) for s in apart_s]
    return float(np.mean(found)) if found else 0.0


def _agreement(turns: np.ndarray, quiet: np.ndarray, apart: int) -> float:
    """How well phases (harmonics, looks) at three looks so far apart agree about a drift: 0 as by chance, 1 wholly."""
    one, two, three = turns[:, : -2 * apart], turns[:, apart:-apart], turns[:, 2 * apart :]
    counts = quiet[:, : -2 * apart] & quiet[:, apart:-apart] & quiet[:, 2 * apart :]
    arrows = np.exp(1j * (three - 2.0 * two + one)) * counts
    harmonics = np.arange(1, len(turns) + 1)
    drifts = np.exp(-1j * np.linspace(-_DRIFT, _DRIFT, 121)[:, None] * harmonics)
    best = (drifts @ arrows).real.max(axis=0)
    many = counts.sum(axis=0)
    enough = many >= min(4, len(turns))
    if enough.sum() < _LEAST_LOOKS:
        return 0.0
    chance = _CHANCE[many[enough]] * many[enough]
    return float((best[enough] - chance).sum() / (many[enough] - chance).sum())


def _powers(sound: np.ndarray, n: int, bins: int) -> np.ndarray:
    """Power (frames, bins) of frames of n samples, 240 of them at the most."""
    starts = range(0, len(sound) - n + 1, max(n // 4, (len(sound) - n) // 240 + 1))
    return np.stack([np.abs(np.fft.rfft(sound[k : k + n] * _window(n))[:bins]) ** 2 for k in starts])


def _steady(shares: np.ndarray, held: np.ndarray, bins: float, short_bins: float, most: int) -> bool:
    """Whether most of the harmonics that stand out stay as loud as they are at their quietest."""
    k = np.arange(1, min(12, most) + 1)
    at = np.rint(k * bins).astype(int)
    stands = np.maximum(shares[at], np.maximum(shares[at - 1], shares[at + 1])) > 0.6
    here = np.rint(k * short_bins).astype(int) - 1  # the middle of three
    still = stands & (held[here] < _STILL_DB)
    return bool(still.sum() >= min(4, most) and still.sum() >= 0.4 * stands.sum())


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
    """Follows the hum of one leg near a frequency: a look at the last frame, every hop.

    How fast the phase of each harmonic turns from one look to the next says its frequency, far finer than bins lie apart
    (J. L. Flanagan and R. M. Golden, "Phase vocoder", Bell System Technical Journal 45, 1966). Harmonics are weighed by
    how well each tells the pitch; those are left out that are louder than they usually are, and those that do not agree
    with most: a note is no hum. Through what was told lately a straight line is laid that most of it agrees with (after
    M. A. Fischler and R. C. Bolles, "Random sample consensus", Comm. ACM 24, 1981), and gone on to now; where it does
    not rise or fall, the mean over a longer time. So steady hum is met exactly, and what drifts is followed without
    being late.
    """

    def __init__(self, rate: float) -> None:
        self.rate = rate
        self.size = frame_size(rate)
        self.heard = np.zeros(self.size)
        self._bins = min(self.size // 2 + 1, int(HEARD_HZ * 1.1 * self.size / rate) + 8)
        self._every = hop(rate) / rate
        self._before: np.ndarray = np.zeros(0)
        self._late = 0.5 * self.size / rate + 0.5 * self._every
        """What a look tells is true of so long ago."""
        self._told_hz = np.full(max(8, round(LONG_S / self._every)), np.nan)
        self._usual = np.full(MOST + 1, np.inf)
        self._filled = 0
        self._now = 0.0

    def _forget(self) -> None:
        self._told_hz[:] = np.nan
        self._usual[:] = np.inf
        self._before = np.zeros(0)
        self._filled, self._now = 0, 0.0

    def look(self, about: float) -> float:
        """The frequency now, in Hz; `about` where there is nothing to hear."""
        spectrum = np.fft.rfft(self.heard * _window(self.size))[: self._bins]
        if np.abs(spectrum).max() <= 1e-7 * math.sqrt(self.size):
            self._forget()
            return about
        before, self._before = self._before, spectrum
        self._filled += 1
        told = None
        if self._filled * self._every * self.rate > self.size:  # a frame that is half silence tells lies
            told = self._told(spectrum, before, self._now or about)
        self._told_hz[:-1] = self._told_hz[1:]
        self._told_hz[-1] = np.nan if told is None else told
        now = self._agreed(about)
        if now:
            most = REACH * about
            self._now = about + min(most, max(-most, now - about))
        return self._now or about

    def _agreed(self, about: float) -> float:
        """What most of what was told lately agrees about, now; 0 where too little does."""
        long, sure = self._laid(about, RECENT_S)
        short, surer = self._laid(about, RECENT_S / 2.5)
        # What turns faster than a bent line follows it is followed by a shorter one.
        return short if short and surer < 0.4 * sure else long

    def _laid(self, about: float, seconds: float) -> tuple[float, float]:
        """The same from so much of it, and by how much it is off where it was told; 0 where too little agrees."""
        count = max(8, round(seconds / self._every))
        hz = self._told_hz[-count:]
        ago = -self._every * np.arange(count - 1, -1, -1)
        known = ~np.isnan(hz)
        if known.sum() < max(4, 0.2 * count):
            return 0.0, np.inf
        hz, ago = hz[known], ago[known]
        near = AGREES * about
        levels = hz - _SLOPES[:, None] * about * ago
        order = np.sort(levels, axis=1)
        many = (
            (order[:, None, :] >= order[:, :, None]) & (order[:, None, :] <= order[:, :, None] + near)
        ).sum(axis=2)
        which, first = np.unravel_index(int(np.argmax(many)), many.shape)
        best, least = int(many[which, first]), order[which, first]
        inside = (levels[which] >= least) & (levels[which] <= least + near)
        if best < max(4, 0.55 * len(hz)):
            return 0.0, np.inf
        x, y = ago[inside], hz[inside]
        middle, mean = float(x.mean()), float(y.mean())
        spread = float(((x - middle) ** 2).sum())
        slope = float(((x - middle) * (y - mean)).sum()) / spread if spread else 0.0
        off = y - mean - slope * (x - middle)
        error = float(np.sqrt((off**2).mean())) + 2e-6 * about
        whole = self._told_hz[~np.isnan(self._told_hz)]
        long = np.abs(whole - np.median(whole)) < 2.5 * error + 2e-5 * about
        if long.mean() > 0.6 and abs(float(np.median(whole)) - mean) < 2.0 * error:
            return float(whole[long].mean()), error
        if len(x) >= MOST_OF * count:
            bent = np.polyfit(x, y, 2)
            closer = float(np.sqrt(((y - np.polyval(bent, x)) ** 2).mean())) + 2e-6 * about
            if closer < 0.5 * error:
                return float(np.polyval(bent, self._late)), closer
        return mean + slope * (self._late - middle), error

    def _told(self, now: np.ndarray, before: np.ndarray, about: float) -> float | None:
        """The pitch, from how the phases turned; None where too little tells."""
        step = self.rate / self.size
        count = max(1, min(MOST, int(HEARD_HZ / about)))
        level = np.abs(now)
        k = np.arange(1, count + 1)
        wide = np.maximum(1.5, (TURNS if self._now else REACH) * k * about / step)
        middle = k * about / step
        k = k[(middle - wide > 2) & (middle + wide < self._bins - 16)]
        if not len(k):
            return None
        wide, middle = wide[: len(k)], middle[: len(k)]
        reach = np.arange(-int(wide[-1]) - 1, int(wide[-1]) + 2)
        places = middle.astype(int)[:, None] + reach
        near = np.where(np.abs(places - middle[:, None]) <= wide[:, None], level[places], -1.0)
        top = places[np.arange(len(k)), np.argmax(near, axis=1)]
        high = level[top]
        floor = np.median(level[np.maximum(0, top[:, None] + np.arange(-12, 13))], axis=1)
        usual = self._usual[k]
        fall, rise = (1.0 - math.exp(-self._every / s) for s in (FALLS_S, RISES_S))
        usual = np.where(np.isinf(usual), high, usual)
        usual = usual + np.where(high < usual, fall, rise) * (high - usual)
        self._usual[k] = usual
        turned = np.angle(now[top] * np.conj(before[top])) - 2.0 * np.pi * top * step * self._every
        turned = (turned + np.pi) % (2.0 * np.pi) - np.pi
        hz = (top * step + turned / (2.0 * np.pi * self._every)) / k
        loud = high / (floor + 1e-9 * float(level.max()))
        tells = (loud >= STANDS_OUT) & (high <= 1.4 * usual) & (np.abs(hz - about) < 1.5 * REACH * about)
        tells &= (level[top - 1] <= high) & (high >= level[top + 1])
        if not tells.any():
            return None
        hz = hz[tells]
        # A harmonic tells k times as much of the pitch, and as much as it stands out.
        weight = (k[tells] * loud[tells]) ** 2
        capped = np.minimum(weight, 4.0 * np.median(weight))  # no single one decides what most agree on
        order = np.argsort(hz)
        most = hz[order][np.searchsorted(np.cumsum(capped[order]), 0.5 * capped.sum())]
        near = np.abs(hz - most) < AGREES * about
        if near.sum() < min(2, count) or capped[near].sum() < 0.5 * capped.sum():
            return None
        return float(np.average(hz[near], weights=weight[near]))


@kernel
def notch(x, place, come, step, rate, width, depth, deeper, into, count, state):
    """Take a row of notches out of x (n,) in place, whose first sample has this place in its hop.

    The lowest one's frequency is `come` Hz where the hop begins and moves by `step` a sample; `width` in Hz, `depth` is
    the share that is taken away, `deeper` by so much for each sample, `into` of them already; state (MOST, 2).
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
            for i in range(done, done + many):
                v1 = a * (one + g * (x[i] - two))
                v2 = two + g * v1
                one = 2.0 * v1 - one
                two = 2.0 * v2 - two
                x[i] -= (depth + deeper * float(into + i)) * r * v1
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
