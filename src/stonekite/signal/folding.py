"""Two sides folded into one, in time, each frequency from the side that is worth more there.

Of two observations a S + N of the same sound S with noises that have nothing in common, the sum with weights a / N is the
best (maximal-ratio combining: D. G. Brennan, "Linear diversity combining techniques", Proc. IRE 47, 1959). What is common
is told from noise by the cross-spectrum: |C| = a_L a_R S, however much the noises come and go.
"""

import math
from typing import NamedTuple

import numpy as np

from stonekite.signal.filters.partitions import part_size

CENTRES_HZ = tuple(float(f) for f in np.geomspace(40.0, 20_000.0, 28))
"""Where weights are known, a third of an octave apart."""
LATEST_S = 0.02
MOST_DB, LEAST_DB = 6.0, -40.0
ALONE = 10.0
"""A side that has so many times the noise of the other one, of sound as loud, is left out."""
_COMMON = 0.08
"""Coherence (squared) from which on a band tells all about its worth."""
_CLEAN = 1e-4
"""A side has so much noise at the least, as a share of its power."""


class Worth(NamedTuple):
    """Gains (2, bands) of left and right at CENTRES_HZ, in dB; and how sure they are, 0 to 1."""

    gains_db: np.ndarray
    sure: float


def worth(spectra: np.ndarray, rate: float) -> Worth:
    """What each side is worth, from spectra (frames, 2, bins), from 0 Hz to half the rate, of sides that are in time."""
    hz = np.linspace(0.0, 0.5 * rate, spectra.shape[2])
    edges = np.sqrt(np.array(CENTRES_HZ[:-1]) * np.array(CENTRES_HZ[1:]))
    bands = np.digitize(hz, edges)
    power = np.abs(spectra) ** 2
    across = (spectra[:, 0] * np.conj(spectra[:, 1])).real
    # How loud the common sound is on each side is read where it is loudest.
    loud = _banded(np.abs(spectra[:, 0]) * np.abs(spectra[:, 1]), bands)
    n = len(CENTRES_HZ)
    weights, evidence = np.zeros((2, n)), np.zeros(n)
    rest, heard = np.ones(n), np.ones(n)
    own, common = _banded(power, bands), _banded(across, bands)
    for k in range(n):
        total = own[:, :, k].sum(axis=0)
        shared = float(common[:, k].sum())
        if shared <= 0.0 or min(total) <= 0.0:
            continue
        coherence = shared * shared / (total[0] * total[1])
        low, high = np.quantile(loud[:, k], (0.3, 0.85))
        quiet = own[loud[:, k] <= low, :, k].mean(axis=0)
        top = own[loud[:, k] >= high, :, k].mean(axis=0)
        above = np.maximum(top - quiet, 1e-3 * top)
        rest[k], heard[k] = quiet[1] / max(quiet[0], 1e-30), above[1] / above[0]
        ratio = math.sqrt(above[0] / above[1])
        signal = np.minimum(shared * np.array([ratio, 1.0 / ratio]), total)
        # What is there in the quietest frames bounds the noise, however badly the other side tells what is common.
        noise = np.minimum(total - signal, quiet * len(own))
        noise = np.maximum(noise, _CLEAN * total)
        reach = np.sqrt(np.maximum(signal, 1e-30))
        weights[:, k] = reach / noise / np.sum(signal / noise) * 0.5 * reach.sum()
        evidence[k] = min(1.0, coherence / _COMMON) if coherence > 0.02 else 0.0
    sure = float(evidence.max(initial=0.0))
    # Where one side has far more noise on the whole, the other one alone loses next to nothing, and no band of it is
    # turned by what is only guessed.
    level = float(np.median(heard[evidence > 0.5])) if (evidence > 0.5).any() else 1.0
    noisier = float(np.median(rest)) / max(level, 1e-12)
    if sure and (noisier > ALONE or noisier < 1.0 / ALONE):
        gains = np.full((2, n), LEAST_DB)
        alone = 0 if noisier > ALONE else 1
        gains[alone] = 20 * math.log10(
            0.5 * (1.0 + (math.sqrt(level) if alone == 0 else 1 / math.sqrt(level)))
        )
        return Worth(np.clip(gains, LEAST_DB, MOST_DB), sure)
    return Worth(_filled(weights, evidence), sure)


def _banded(values: np.ndarray, bands: np.ndarray) -> np.ndarray:
    """Sums over bins in each band, of the last axis."""
    rows = values.reshape(-1, values.shape[-1])
    sums = np.stack([np.bincount(bands, row, len(CENTRES_HZ)) for row in rows])
    return sums.reshape(*values.shape[:-1], len(CENTRES_HZ))


def _filled(weights: np.ndarray, evidence: np.ndarray) -> np.ndarray:
    """Weights in dB; where a band tells nothing, what its neighbours say, and half of each where none does."""
    n = len(evidence)
    distance = np.abs(np.arange(n)[:, None] - np.arange(n)[None, :])
    near = evidence * np.exp(-0.5 * (distance / 0.8) ** 2) + 1e-4 * evidence * np.exp(-distance / 3.0)
    sums = near.sum(axis=1)
    logs = 20 * np.log10(np.maximum(weights, 1e-6))
    known = np.where(sums > 0, (near @ logs.T).T / np.maximum(sums, 1e-300), 20 * math.log10(0.5))
    return np.clip(known, LEAST_DB, MOST_DB)


def half(rate: float) -> int:
    """Samples on each side of the centre of the responses."""
    return 1 << math.ceil(math.log2(2.0 * LATEST_S * rate))


def gains_at(gains_db: np.ndarray, hz: np.ndarray) -> np.ndarray:
    """Gains (2, n) at frequencies in Hz of those (2, bands) in dB at CENTRES_HZ."""
    place = np.log(np.maximum(np.asarray(hz, dtype=float), 1.0))
    made = 10.0 ** (np.stack([np.interp(place, np.log(CENTRES_HZ), row) for row in gains_db]) / 20.0)
    made[np.max(gains_db, axis=1) <= LEAST_DB] = 0.0  # a side that is left out
    return made


def turned(late_s: float, inverted: bool, hz: np.ndarray) -> np.ndarray:
    """What (2, n) brings left and right into time and upright, at frequencies in Hz; `late_s` > 0: right is late."""
    waits = np.array([[max(late_s, 0.0)], [max(-late_s, 0.0)]])
    made: np.ndarray = np.exp(-2j * np.pi * waits * np.asarray(hz, dtype=float))
    made[1] *= -1.0 if inverted else 1.0
    return made


def taps(gains_db: np.ndarray, late_s: float, inverted: bool, rate: float) -> np.ndarray:
    """Responses (2, 2 half) of left and right, centred on `half` for the side that does not wait."""
    middle = half(rate)
    hz = np.fft.rfftfreq(4 * middle, 1.0 / rate)
    wanted = gains_at(gains_db, hz) * turned(late_s, inverted, hz)
    wanted[:, -1] = wanted[:, -1].real
    made = np.roll(np.fft.irfft(wanted, axis=1), middle, axis=1)[:, : 2 * middle]
    edge = middle // 8
    fade = 0.5 - 0.5 * np.cos(np.pi * np.arange(edge) / edge)
    made[:, :edge] *= fade
    made[:, 2 * middle - edge :] *= fade[::-1]
    return made


def latency(rate: float) -> int:
    """Samples: half of the response, and the block of the convolution."""
    return half(rate) + part_size(2 * half(rate))
