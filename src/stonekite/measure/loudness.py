"""Loudness after ITU-R BS.1770-4 and EBU Tech 3341 and 3342, for two channels of weight 1."""

import math

import numpy as np

from stonekite.signal.filters import biquads

BIN_S = 0.01
"""Energy is kept in bins of this length, so momentary and short-term loudness are looked at 100 times a
second (Tech 3341 asks for at least 50 for the largest momentary value)."""

_MOMENTARY, _SHORT, _STEP = 40, 300, 10  # in bins: 400 ms, 3 s, and gating blocks every 100 ms
_ABSOLUTE_LUFS, _RELATIVE_LU, _RANGE_RELATIVE_LU = -70.0, -10.0, -20.0


LEAST_WEIGHTED = 8_000
"""From this rate on the standard's weighting is within 0.05 dB; what is under it is weighted as far as it goes."""


def k_weighting(rate: float) -> np.ndarray:
    """The two sections (2, 5) of the K-weighting filter at a rate in Hz.

    The standard gives coefficients for 48 kHz; other rates use the analogue values they came from, found
    by inverting the bilinear transform (as in De Man, "Evaluation of Implementations of the EBU R128
    Loudness Measurement", AES Convention 145, 2018). At rates that do not reach up to the shelf there is none: what it
    would do under half of such a rate is little.
    """
    f0, gain_db, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * f0 / rate)
    high, band = 10 ** (gain_db / 20), (10 ** (gain_db / 20)) ** 0.4996667741545416
    a0 = 1 + k / q + k * k
    shelf = (
        (high + band * k / q + k * k) / a0,
        2 * (k * k - high) / a0,
        (high - band * k / q + k * k) / a0,
        2 * (k * k - 1) / a0,
        (1 - k / q + k * k) / a0,
    )
    if f0 >= 0.49 * rate:
        shelf = (1.0, 0.0, 0.0, 0.0, 0.0)
    f0, q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * f0 / rate)
    a0 = 1 + k / q + k * k
    # The standard's high-pass gives a little more than it gets, and at the lowest rates would give 2 dB more.
    gain = 1.0 if rate >= LEAST_WEIGHTED else 1.0 / a0
    return np.array([shelf, (gain, -2 * gain, gain, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0)])


def lufs(power: np.ndarray | float) -> np.ndarray:
    """Loudness of K-weighted power summed over channels; minus infinity for zero."""
    with np.errstate(divide="ignore"):
        return -0.691 + 10 * np.log10(power)


class Binned:
    """Sums of samples over consecutive bins of 10 ms, for any sample rate and any block size."""

    def __init__(self, rate: float) -> None:
        self._per_bin = rate * BIN_S
        self._count = 0
        self._filled = 0
        self._open = 0.0
        self._bins: list[np.ndarray] = []

    def add(self, values: np.ndarray) -> None:
        """Add values (frames,)."""
        start, stop = self._count, self._count + len(values)
        self._count = stop
        last = int(stop / self._per_bin + 1e-9)
        edges = np.rint(np.arange(self._filled + 1, last + 1) * self._per_bin).astype(np.int64) - start
        edges = edges[edges <= len(values)]
        if not len(edges):
            self._open += float(values.sum())
            return
        cuts = np.concatenate([[0], edges])
        sums = np.add.reduceat(np.append(values, 0.0), cuts)
        sums[0] += self._open
        self._open = float(sums[-1])
        self._bins.append(sums[:-1])
        self._filled += len(edges)

    def means(self) -> np.ndarray:
        """Mean of every complete bin."""
        joined = np.concatenate(self._bins) if self._bins else np.empty(0)
        self._bins = [joined]
        return joined / self._per_bin


class Loudness:
    """A loudness meter: feed it with `add`, read it whenever you like."""

    def __init__(self, rate: float) -> None:
        sections = k_weighting(rate)
        self._coefficients = biquads.pack(sections, sections)
        self._state = biquads.rest(len(self._coefficients))
        self._position = 0
        self._power = Binned(rate)

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        weighted = np.array(block, order="C")
        biquads.cascade(weighted, self._position, self._coefficients, self._state)
        self._position += block.shape[1]
        np.square(weighted, out=weighted)
        self._power.add(weighted[0] + weighted[1])

    def _windows(self, bins: int) -> np.ndarray:
        means = self._power.means()
        if len(means) < bins:
            return np.empty(0)
        # Sums of the bins themselves, not differences of a running total: silence stays exactly silent.
        return np.lib.stride_tricks.sliding_window_view(means, bins).mean(axis=1)

    def momentary(self) -> np.ndarray:
        """Momentary loudness (LUFS, 400 ms) at every 10 ms from 0.4 s on."""
        return lufs(self._windows(_MOMENTARY))

    def short_term(self) -> np.ndarray:
        """Short-term loudness (LUFS, 3 s) at every 10 ms from 3 s on."""
        return lufs(self._windows(_SHORT))

    def momentary_max(self) -> float:
        return float(self.momentary().max(initial=-math.inf))

    def short_term_max(self) -> float:
        return float(self.short_term().max(initial=-math.inf))

    def integrated(self) -> float:
        """Integrated loudness (LUFS) with the absolute and the relative gate; minus infinity if all is gated."""
        return integrated(gating_blocks(self._power.means()))

    def range(self) -> float:
        """Loudness range (LU) after Tech 3342: 10th to 95th percentile of gated short-term loudness."""
        power = self._windows(_SHORT)[::_STEP]
        power = power[lufs(power) >= _ABSOLUTE_LUFS]
        if not len(power):
            return 0.0
        levels = lufs(power)
        levels = levels[levels >= lufs(power.mean()) + _RANGE_RELATIVE_LU]
        low, high = np.percentile(levels, [10, 95])
        return float(high - low)


def gating_blocks(bins: np.ndarray) -> np.ndarray:
    """Power of the 400 ms blocks, one every 100 ms, that loudness is gated by, from K-weighted power in bins."""
    if len(bins) < _MOMENTARY:
        return np.empty(0)
    return np.lib.stride_tricks.sliding_window_view(bins, _MOMENTARY)[::_STEP].mean(axis=1)


def integrated(power: np.ndarray) -> float:
    """Gated loudness (LUFS) of the powers of 400 ms blocks; minus infinity if all is gated."""
    power = power[lufs(power) >= _ABSOLUTE_LUFS]
    if not len(power):
        return -math.inf
    power = power[lufs(power) >= lufs(power.mean()) + _RELATIVE_LU]
    return float(lufs(power.mean()))
