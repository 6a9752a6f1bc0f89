"""Two legs in frames, cleaned frame by frame: what signal/suppression.py computes, put in order.

Frames of 42.7 ms under a Hann window, a quarter apart, on a grid of the clock; analysis and synthesis by the same window
(D. Griffin and J. Lim, IEEE Trans. ASSP 32, 1984), so that with gains of 1 everything comes back as it was, a frame late.
"""

import copy
import math
from functools import cache
from typing import Literal

import numpy as np

from stonekite.lazy import lazy

suppression = lazy("stonekite.signal.suppression")

Analysis = Literal["one", "own", "together"]
STREAMS = 3
SILENT = 1e-8
_HOP_S = 512 / 48_000
_SHOWN_S = 0.1
"""What is shown is the mean of so much."""


@cache
def hop(rate: float) -> int:
    """Frames' distance in samples at a rate in Hz: a number whose transforms are quick, near to 10.7 ms."""
    wanted = _HOP_S * rate
    good = {2**a * 3**b * 5**c for a in range(4, 13) for b in range(2) for c in range(3)}
    return min(good, key=lambda n: abs(math.log(n / wanted)))


def size(rate: float) -> int:
    """Samples of a frame."""
    return 4 * hop(rate)


@cache
def _window(rate: float) -> np.ndarray:
    return np.hanning(size(rate) + 1)[:-1]


def spectra(sound: np.ndarray, rate: float) -> np.ndarray:
    """Spectra (frames, 2, bins) of sound (2, n)."""
    n, step = size(rate), hop(rate)
    window = _window(rate) / math.sqrt(float(np.sum(_window(rate) ** 2)))
    count = max(0, (sound.shape[1] - n) // step + 1)
    return np.stack([np.fft.rfft(sound[:, k * step : k * step + n] * window) for k in range(count)])


def learned(sound: np.ndarray, rate: float) -> tuple[np.ndarray, np.ndarray]:
    """Noise of sound (2, n): power (2, bins), and what its legs have in common, re and im (2, bins)."""
    frames = spectra(sound, rate)
    noise = np.mean(np.abs(frames) ** 2, axis=0) + 1e-18
    across = np.mean(frames[:, 0] * np.conj(frames[:, 1]), axis=0) / np.sqrt(noise[0] * noise[1])
    return noise, np.stack([across.real, across.imag])


class Settings:
    """How to clean: fixed for a stage at a rate.

    `works` tells which legs are cleaned, `late` which come out a frame late.

    `louder` (2, bins) is how many times the power of the noise is taken for what it is; None for once.

    `noise` and `across` are what was learned, or None. `floors` (2, bins) are the least gains. `follows` is how what was
    learned is followed: "not", within 6 dB ("music"), or freely ("speech").
    """

    def __init__(
        self,
        rate: float,
        analysis: Analysis,
        coupling: float,
        floors: np.ndarray,
        noise: np.ndarray | None,
        across: np.ndarray | None,
        follows: Literal["not", "music", "speech"] = "music",
        louder: np.ndarray | None = None,
        smoothing: float = 0.5,
        hold: float = 0.0,
        image: float = 0.0,
        works: tuple[bool, ...] = (True, True),
        late: tuple[bool, ...] = (True, True),
    ) -> None:
        self.rate, self.analysis, self.coupling = rate, analysis, coupling
        self.floors, self.noise, self.across, self.follows = floors, noise, across, follows
        self.hold, self.image, self.works, self.late = hold, image, works, late
        if not all(works):
            self.analysis, self.coupling = "own", 0.0
        self.size, self.hop = size(rate), hop(rate)
        self.bins = self.size // 2 + 1
        self.louder = louder
        window = _window(rate)
        self.energy = math.sqrt(float(np.sum(window**2)))
        self.window = window / self.energy
        self.back = window * self.energy / 1.5

        def pole(seconds: float) -> float:
            return math.exp(-self.hop / rate / seconds)

        fixed = follows == "not" and noise is not None
        self.poles = np.array(
            [1.0 if fixed else pole(0.3), 1.0 if fixed else pole(0.5), pole(0.25), pole(1.0)]
        )
        self.presence_pole = pole(0.035)
        self.shown_share = 1.0 - pole(_SHOWN_S)
        # Faster than usual below one half, slower above it.
        times = 2.0 ** (1.0 - 2.0 * smoothing)
        places = np.minimum(np.arange(self.size), self.size - np.arange(self.size)) * 48_000 / rate
        usual = np.where(places < 12, 0.1, np.where(places < 60, 0.5, 0.95))
        self.bases = usual ** (self.hop / rate * 48_000 / 768 * times)
        self.pitch = int(rate / 300), int(rate / 70)
        self.taps = {n: suppression.weights_of(n) for n in (3, 7, 9, 25, 31)}
        self.table = _table()
        self.active = self._active()
        both = np.sqrt(floors[0] * floors[1])
        self.floor_logs = np.log(np.maximum(np.stack([floors[0], floors[1], both]), 1e-4))
        self.bounds = (0.25 * noise, 4.0 * noise) if follows == "music" and noise is not None else None

    def _active(self) -> list[int]:
        if self.analysis == "together":
            return [suppression.COMMON]
        if self.analysis == "one" or self.coupling >= 1.0:
            return [suppression.COMMON]
        return [0, 1] if self.coupling <= 0.0 else [0, 1, suppression.COMMON]


@cache
def _table() -> np.ndarray:
    return suppression.gain_table()


class State:
    """What is remembered of both legs: sound that waits, noise, the plane, and the prior of every stream."""

    def __init__(self, settings: Settings) -> None:
        bins, n = settings.bins, settings.size
        self.heard = np.zeros((2, n))
        self.given = np.zeros((2, n))
        self.noise = np.full((2, bins), 1e-18) if settings.noise is None else settings.noise.copy()
        self.across = np.zeros((2, bins)) if settings.across is None else settings.across.copy()
        self.slow = self.noise.copy()
        self.frames = 0
        self.known = settings.noise is not None
        self.covariance, self.course = np.zeros((4, bins)), np.zeros((4, bins))
        self.plane_fresh = True
        self.kept = np.zeros((STREAMS, n))
        self.poles = np.ones((STREAMS, n))
        self.fresh = [True] * STREAMS
        self.means = np.zeros((STREAMS, bins))
        self.last = np.zeros(2)
        self.came, self.went = np.zeros((2, bins)), np.zeros((2, bins))
        """Power lately, of what was heard and of what is left of it: for pictures."""
        self.scratch = np.zeros((suppression.ROOM, bins))
        self.padded = np.zeros(bins + 40)

    def copied(self) -> "State":
        return copy.deepcopy(self)


def process(state: State, settings: Settings, block: np.ndarray, clock: int) -> None:
    """Clean block (2, n) in place; what comes out is a frame late."""
    n, done = block.shape[1], 0
    while done < n:
        place = (clock + done) % settings.hop
        count = min(n - done, settings.hop - place)
        part = block[:, done : done + count]
        start = settings.size - settings.hop + place
        state.heard[:, start : start + count] = part
        for row, late in enumerate(settings.late):
            if late:  # the other one passes at once
                part[row] = state.given[row, place : place + count]
        done += count
        if place + count == settings.hop:
            _frame(state, settings)


def _frame(state: State, s: Settings) -> None:
    """A hop is complete: clean the frame that ends with it, and give its first hop next."""
    cleaned: np.ndarray | float = 0.0
    # Digital silence tells nothing of the noise: who took it for some would find everything else loud.
    if float(np.abs(state.heard).max()) > SILENT:
        heard = np.fft.rfft(state.heard * s.window)
        cleaned = np.fft.irfft(_cleaned(state, s, heard), s.size) * s.back
        state.frames += 1
    state.heard[:, : -s.hop] = state.heard[:, s.hop :]
    state.given[:, : -s.hop] = state.given[:, s.hop :]
    state.given[:, -s.hop :] = 0.0
    state.given += cleaned


def _cleaned(state: State, s: Settings, heard: np.ndarray) -> np.ndarray:
    """One frame's spectra (2, bins), cleaned."""
    bins, scratch = s.bins, state.scratch
    re, im = heard.real.copy(), heard.imag.copy()
    power = np.empty((2, bins))
    suppression.track(
        re, im, power, state.noise, state.across, -1 if state.known else state.frames, state.slow, s.poles, s.taps[7],
        state.padded, scratch, s.follows == "speech",
    )  # fmt: skip
    if s.bounds is not None:
        np.clip(state.noise, *s.bounds, out=state.noise)
    noise = state.noise if s.louder is None else s.louder * state.noise
    onset = _begins(state, power, s)
    parts, axes = np.empty((4, bins)), np.empty((9, bins))
    streams = np.empty((STREAMS, bins))
    together = s.analysis == "together"
    if together:
        learning = not state.known and state.frames < suppression.BEGINNING
        suppression.plane(
            re, im, power, noise, state.across, state.covariance, state.course, s.poles, s.taps[3], s.taps[9],
            s.taps[25], state.padded, scratch, axes, parts, state.plane_fresh, learning,
        )  # fmt: skip
        state.plane_fresh = False
        streams[suppression.COMMON] = parts[0] * parts[0] + parts[1] * parts[1]
    else:
        np.divide(power, noise, out=streams[:2])
        if suppression.COMMON in s.active:
            streams[suppression.COMMON] = 0.5 * (streams[0] + streams[1])
    made, presence, xi_db = np.empty((3, STREAMS, bins))
    logs = np.empty((len(s.active), bins))
    for row, k in enumerate(s.active):
        suppression.likely(streams[k], scratch, logs[row])
    cepstra = np.fft.irfft(logs, s.size)
    for row, k in enumerate(s.active):
        suppression.quefrencies(
            cepstra[row], state.kept[k], state.poles[k], s.bases, *s.pitch, state.fresh[k]
        )
        state.fresh[k] = False
    smooth = np.fft.rfft(state.kept[s.active]).real
    for row, k in enumerate(s.active):
        logs[row] = smooth[row]
        suppression.gains(
            logs[row], streams[k], s.floor_logs[k], onset, s.hold, state.means[k], s.presence_pole, s.taps[3], s.taps[31],
            state.padded, scratch, s.table, made[k], presence[k], xi_db[k],
        )  # fmt: skip
    out = np.empty((2, bins), dtype=complex)
    if together:
        c = suppression.COMMON
        suppression.put_together(
            parts, axes, made[c], presence[c], xi_db[c], s.floor_logs[c], 1.75, scratch, s.table, re, im
        )
        out.real, out.imag = re, im
    else:
        np.multiply(heard, _blended(made, s), out=out)
    for row, works in enumerate(s.works):
        if not works:
            out[row] = heard[row]
    if s.image:
        out += s.image * s.floors * (heard - out)
    state.came += s.shown_share * (power - state.came)
    state.went += s.shown_share * (out.real**2 + out.imag**2 - state.went)
    return out


def _blended(made: np.ndarray, s: Settings) -> np.ndarray:
    """Gains (2, bins) of the legs: their own, one for both, or between the two."""
    if s.active == [suppression.COMMON]:
        return np.stack([np.maximum(made[suppression.COMMON], floor) for floor in s.floors])
    if len(s.active) == 2:
        return made[:2]
    return made[:2] ** (1.0 - s.coupling) * made[suppression.COMMON] ** s.coupling


def _begins(state: State, power: np.ndarray, s: Settings) -> bool:
    """Whether something is struck in this frame: all of it is at least twice as loud as in the last one."""
    if not s.hold:
        return False
    loud = power.sum(axis=1)
    begins = bool((loud > 2.0 * state.last).any())
    state.last = loud
    return begins
