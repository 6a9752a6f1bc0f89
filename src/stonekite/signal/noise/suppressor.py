"""Two legs in frames, cleaned frame by frame: what signal/noise/suppression.py computes, put in order.

Frames of 42.7 ms under a Hann window, a quarter apart, on a grid of the clock; analysis and synthesis by the same window
(D. Griffin and J. Lim, IEEE Trans. ASSP 32, 1984), so that with gains of 1 everything comes back as it was, a frame late.
"""

import math
from functools import cache
from typing import TYPE_CHECKING, Literal

import numpy as np

from stonekite.lazy import lazy

suppression = lazy("stonekite.signal.noise.suppression")
noise_frames = lazy("stonekite.signal.noise.frames")
noise_gains = lazy("stonekite.signal.noise.gains")
noise_sides = lazy("stonekite.signal.noise.sides")
transforms = lazy("stonekite.signal.vectors.transforms")

Analysis = Literal["one", "own", "together"]
_HOP_S = 512 / 48_000
_STEP = 328
"""In doubles: with it, rows up to eight apart lie 300 bytes or more apart in their pages."""
_LULL_S = 0.8
"""A voice that goes on lets every frequency go within one to two such times: what never does is noise."""
_SHOWN_S = 0.1
"""What is shown is the mean of so much."""
_LEAST, _MOST = 0.7, 4.0
"""Times of its power that noise may go from what was learned, where it is followed within 6 dB. Little down: what is
taken for too loud costs less than what is taken for too quiet, and a lull between gusts is short."""


@cache
def hop(rate: float) -> int:
    """Frames' distance in samples at a rate in Hz: a number whose transforms are quick, near to 10.7 ms."""
    wanted = _HOP_S * rate
    good = {2**a * 3**b * 5**c for a in range(4, 13) for b in range(2) for c in range(3)}
    return min(good, key=lambda n: abs(math.log(n / wanted)))


def size(rate: float) -> int:
    """Samples of a frame."""
    return 4 * hop(rate)


def apart(count: int) -> int:
    """Doubles from one row to the next, of rows of `count`, of which kernels take up to 32 at a time.

    A load from memory waits for a store before it whose place in its page of 4 KB is about the same (Intel 64 and IA-32
    Architectures Optimization Reference Manual, "4-KByte aliasing"): so neighbouring rows lie far apart in their pages.
    """
    return count + 31 + (_STEP - count - 31) % 512


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


def turned(turn: np.ndarray, noise: np.ndarray, across: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Power (2, bins) of legs and what they have in common, re and im over the root of both (2, bins), as those of sums
    of the legs: by gains (sums, legs)."""
    size = np.sqrt(noise[0] * noise[1])
    both = np.multiply.outer(turn[:, 0] * turn[:, 1], 2.0 * size * across[0])
    power = turn**2 @ noise + both
    power = np.maximum(power, noise_sides.LEAST * power.sum(axis=0) + 1e-18)
    re = (turn[0] * turn[1]) @ noise + (turn[0, 0] * turn[1, 1] + turn[0, 1] * turn[1, 0]) * size * across[0]
    im = (turn[0, 0] * turn[1, 1] - turn[0, 1] * turn[1, 0]) * size * across[1]
    common = np.stack([re, im]) / np.sqrt(power[0] * power[1])
    return power, common / np.maximum(1.0, np.hypot(*common))


class Settings:
    """How to clean: fixed for a stage at a rate.

    `works` tells which legs are cleaned, `late` which come out a frame late.

    `louder` (2, bins) is how many times the power of the noise is taken for what it is; None for once.

    `noise` and `across` are what was learned, or None. `floors` (2, bins) are the least gains. `follows` is how what was
    learned is followed: "not", within 6 dB ("music"), or freely ("speech"). `side_over_mid` is the gain of Side in Left
    over that of Mid where the legs are those (signal/matrix.py), None where they are left and right.
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
        side_over_mid: float | None = None,
    ) -> None:
        self.noise, self.across, self.late = noise, across, late
        self.flags = np.array(late)
        self.size, self.hop = size(rate), hop(rate)
        self.bins = self.size // 2 + 1
        if not all(works):
            analysis, coupling = "own", 0.0
        kind = self._kind(analysis, coupling)
        self.side_gain = side_over_mid or 0.0 if kind == noise_frames.TOGETHER else 0.0
        window = _window(rate)
        energy = math.sqrt(float(np.sum(window**2)))

        def share(seconds: float) -> float:
            return 1.0 - math.exp(-self.hop / rate / seconds)

        # Faster than usual below one half, slower above it.
        times = 2.0 ** (1.0 - 2.0 * smoothing)
        places = np.arange(self.bins) * 48_000 / rate
        usual = np.where(places < 12, 0.1, np.where(places < 60, 0.5, 0.95))
        bases = usual ** (self.hop / rate * 48_000 / 768 * times)
        both = np.sqrt(floors[0] * floors[1])
        logs = np.log(np.maximum(np.stack([floors[0], floors[1], both]), 1e-4))
        known = noise if follows == "music" else None
        ones = np.ones((2, self.bins))
        bounds = (np.full((2, self.bins), 1e-18), np.full((2, self.bins), 1e18))
        if known is not None and self.side_gain and across is not None:
            known = self._sides(known, across)
        if known is not None:
            bounds = (_LEAST * known, _MOST * known)
        poles = (share(0.3 if known is None else 4.0), share(0.25), share(1.0))
        numbers = [
            self.side_gain,
            coupling,
            hold,
            image,
            1.0 - share(0.035),
            share(_SHOWN_S),
            share(0.1),
            share(2.0),
        ]
        flags = [
            follows == "speech",
            follows == "not",
            int(rate / 300),
            int(rate / 70),
            round(_LULL_S * rate / self.hop),
            *works,
        ]
        rows = (
            (floors, 1.0),
            (logs, 0.0),
            (ones if louder is None else louder, 1.0),
            (bounds[0], 1e-18),
            (bounds[1], 1e18),
            (bases[None], 0.0),
        )
        self.fixed = noise_frames.Fixed(
            numbers=np.array(numbers + [1.0 - one for one in poles]),
            counts=np.array([self.bins, self.hop, kind, *flags, *self._streams(kind)], dtype=np.int64),
            rows=np.concatenate([self._wide(row, beyond) for row, beyond in rows]),
            frames=np.stack([window / energy, window * energy / 1.5, np.ones(self.size)]),
            weights=np.concatenate([noise_frames.weights_of(n) for n in noise_frames.WIDTHS]),
            table=_table().ravel(),
            whole=transforms.packed(self.size),
            half=transforms.packed(self.size // 2),
        )

    @property
    def louder(self) -> np.ndarray:
        """How many times (2, bins or more) the power of the noise is taken for what it is."""
        return self.fixed.rows[5:7]

    def _kind(self, analysis: Analysis, coupling: float) -> int:
        if analysis == "together":
            return noise_frames.TOGETHER
        if analysis == "one" or coupling >= 1.0:
            return noise_frames.ONE
        return noise_frames.OWN if coupling <= 0.0 else noise_frames.BETWEEN

    def _streams(self, kind: int) -> tuple[bool, bool, bool]:
        """Which of the streams are estimated: of each leg, and of both at once."""
        own, common = kind in (noise_frames.OWN, noise_frames.BETWEEN), kind != noise_frames.OWN
        return own, own, common

    def _wide(self, rows: np.ndarray, beyond: float) -> np.ndarray:
        """Rows (n, bins) as wide as kernels want them."""
        return np.pad(rows, ((0, 0), (0, apart(self.bins) - self.bins)), constant_values=beyond)

    def begun(self) -> "State":
        """What is remembered before anything was heard."""
        bins, n = self.bins, self.size
        wide = apart(bins)
        noise = np.full((2, bins), 1e-18) if self.noise is None else self.noise
        across = np.zeros((2, bins)) if self.across is None else self.across
        made = noise_frames.Memory(
            rows=np.zeros((noise_frames.ROWS, wide)),
            sound=np.zeros((4, n)),
            work=np.zeros((5, apart(n // 2 + 4))),
            padded=np.zeros(wide + 64),
            bands=np.zeros((2, 4, bins // noise_frames.BAND + 1)),
            last=np.zeros((2, bins // noise_frames.BAND + 1)),
            struck=np.zeros(bins // noise_frames.BAND + 1),
            counts=np.array([0, self.noise is not None, 1, 1, 1, 1]),
        )
        made.noise[:] = self._wide(noise, 1e-18)
        made.across[:] = self._wide(across, 0.0)
        made.rows[-6:] = 1e18
        self._calm(made)
        made.bearing[:3] = 0.03
        return made

    def _sides(self, noise: np.ndarray, across: np.ndarray) -> np.ndarray:
        """Power (2, bins) of left and right, up to a gain, of what is known of mid and side."""
        gain = self.side_gain
        return turned(np.array([[1.0, gain], [1.0, -gain]]), noise, across)[0]

    def _calm(self, state: "State") -> None:
        """As if no more had been heard lately than the noise that is known: of left and right, if they are cleaned."""
        state.slow[:] = self._sides(state.noise, state.across) if self.side_gain else state.noise

    def taken_over(self, old: "Settings", state: "State") -> "State":
        """A copy of a state that was left by other settings, for these."""
        copy = type(state)(*(array.copy() for array in state))
        if old.side_gain != self.side_gain:
            self._calm(copy)
        return copy


if TYPE_CHECKING:
    from stonekite.signal.noise.frames import Memory as State


@cache
def _table() -> np.ndarray:
    return noise_gains.gain_table()


def process(state: "State", settings: Settings, block: np.ndarray, clock: int) -> None:
    """Clean block (2, n) in place; what comes out is a frame late."""
    within = np.ascontiguousarray(block)
    suppression.clean(settings.fixed, state, within, settings.flags, clock)
    if within is not block:
        block[:] = within
