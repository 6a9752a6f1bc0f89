"""Gains of one stream of noisy spectra: the prior over quefrencies, the table of amplitudes, and what is likely there."""

import math

import numpy as np

from stonekite.signal.kernel import copied, greater, inlined, inner, lesser
from stonekite.signal.noise.frames import BAND, DB, LOG2_E, bounded, smooth
from stonekite.signal.vectors.lanes import (
    EIGHT,
    fma,
    larger,
    largest_of,
    load_eight,
    picked,
    smaller,
    splat_eight,
    store,
)
from stonekite.signal.vectors.lanes import total as sum_of
from stonekite.signal.vectors.quick import exp2_of, log2_of
from stonekite.signal.vectors.transforms import cosines

LOWEST_DB, HIGHEST_DB = -30, 50
NU = 0.7
LEAST_XI = 10.0**-2.5
_LN_2 = 0.6931471805599453
_LEAST_LOG = -9.2
_WHOLE = 6755399441055744.0
"""1.5 times 2^52: what is added to it and taken from it again is rounded to a whole number."""


def gain_table() -> np.ndarray:
    """The logarithm of E[A | R] / R (81, 81) for prior SNR (rows) and R squared (columns) in dB, one apart: of amplitudes
    with a density like a^(NU-1) exp(-a sqrt(NU (NU+1) / xi)), in noise of power 1.
    """
    levels = np.arange(LOWEST_DB, HIGHEST_DB + 1)
    heard = 10.0 ** (levels / 20.0)
    table = np.empty((len(levels), len(levels)))
    scales = np.sqrt(NU * (NU + 1.0) / 10.0 ** (levels / 10.0))
    for k, r in enumerate(heard):
        # Around what was heard, and near nothing, where the prior is steep.
        near = np.linspace(max(r - 6.0, 1e-6), r + 6.0, 241)
        low = np.geomspace(1e-7, max(r - 6.0, 1e-6), 120) if r > 6.0 else np.geomspace(1e-7, near[0], 40)
        a = np.unique(np.concatenate([low, near]))
        logs = (NU - 1.0) * np.log(a) - (a - r) ** 2 + _log_i0e(2.0 * a * r)
        weight = np.gradient(a) * np.exp(logs - scales[:, None] * a)
        total = weight.sum(axis=1)
        mean = np.divide(weight @ a, total, out=np.zeros_like(total), where=total > 0.0)
        table[:, k] = np.log(np.maximum(mean / r, 1e-6))
    return table


def _log_i0e(x: np.ndarray) -> np.ndarray:
    """The logarithm of the modified Bessel function of order 0 times exp(-x)."""
    small = np.minimum(x, 500.0)
    large = np.maximum(x, 500.0)
    return np.where(
        x < 500.0,
        np.log(np.i0(small)) - small,
        -0.5 * np.log(2.0 * np.pi * large) + np.log1p(1.0 / (8.0 * large)),
    )


@inner
def prior(s, m, stream, powers, logs):
    """Half the logarithm of the prior SNR of a stream, of powers (bins,) in noise of power 1: the likeliest one, its
    cepstrum smoothed over frames, each quefrency with its own pole; what may be a pitch goes fast.
    """
    n = s.bins - 1
    cepstrum = m.scratch[1]
    kept, poles = m.kept[stream], m.poles[stream]
    for i in range(0, s.bins, 8):
        store(logs, i, log2_of(larger(load_eight(powers, i) - splat_eight(1.0), splat_eight(LEAST_XI))))
    cosines(s.half, logs, m.work, s.ones, m.scratch[2], m.scratch[3], cepstrum)
    for k in range(0, s.bins, 8):
        store(cepstrum, k, splat_eight(_LN_2 / n) * load_eight(cepstrum, k))
    if m.counts[3 + stream]:
        copied(cepstrum, kept)
        copied(s.bases, poles)
        m.counts[3 + stream] = 0
    sums, squares, tops = splat_eight(0.0), splat_eight(0.0), splat_eight(-1e30)
    last = s.pitch_low + (s.pitch_high - s.pitch_low) // EIGHT * EIGHT
    for k in range(s.pitch_low, last, EIGHT):
        x = load_eight(cepstrum, k)
        sums, squares, tops = sums + x, fma(x, x, squares), larger(tops, x)
    total, square, top = sum_of(sums), sum_of(squares), largest_of(tops)
    count = last - s.pitch_low
    spread = math.sqrt(greater(0.0, square / count - (total / count) ** 2))
    fifth = splat_eight(0.2)
    for k in range(0, s.bins, 8):  # falls at once, comes back slowly
        usual, pole = load_eight(s.bases, k), load_eight(poles, k)
        store(poles, k, smaller(usual, fma(fifth, usual - pole, pole)))
    if top > 0.05 + 2.5 * spread:
        quick, best = 2.0 * s.bases[0], s.pitch_low
        while cepstrum[best] < top:
            best += 1
        for k in range(best - 3, best + 4):
            poles[k] = lesser(poles[k], quick)
    for k in range(0, s.bins, 8):
        x = load_eight(kept, k)
        store(kept, k, fma(splat_eight(1.0) - load_eight(poles, k), load_eight(cepstrum, k) - x, x))
    cosines(s.half, kept, m.work, s.ones, m.scratch[2], m.scratch[3], logs)


@inner
def gains(s, m, stream, logs, powers, out, presence, xi_db):
    """Gains (bins,) of one stream, from half the logarithm of its smoothed prior and its powers, not under its floors;
    how likely there is anything; and the prior in dB.
    """
    bins, mean, floor_logs = s.bins, m.means[stream], s.floor_logs[stream]
    xi, near, wide = m.scratch[0], m.scratch[1], m.scratch[2]
    one, tiny, db, log2_e = splat_eight(1.0), splat_eight(1e-12), splat_eight(DB), splat_eight(LOG2_E)
    two, share, least = splat_eight(2.0), splat_eight(1.0 - s.presence_pole), splat_eight(math.log(LEAST_XI))
    for i in range(0, bins, 8):
        log = log2_e * larger(two * load_eight(logs, i) + splat_eight(0.1823215567939546), least)  # 1.2 times
        now = exp2_of(log)
        held = m.struck[i // BAND]
        if held > 0.0:
            now = larger(now, splat_eight(held) * (load_eight(powers, i) - one))
            log = log2_of(now)
        store(xi, i, now)
        store(xi_db, i, db * log)
        x = load_eight(mean, i)
        store(mean, i, fma(share, now - x, x))
    smooth(bins, mean, s.w3, m.padded, near)
    smooth(bins, mean, s.w31, m.padded, wide)
    for i in range(0, bins, 8):
        x, p = load_eight(xi, i), load_eight(powers, i)
        v = smaller(x / (one + x) * p, splat_eight(200.0))
        absent = smaller(one - _rise(load_eight(near, i)) * _rise(load_eight(wide, i)), splat_eight(0.95))
        there = one - absent
        there = there / fma(absent * (one + x), exp2_of(splat_eight(-LOG2_E) * v), there)
        store(presence, i, there)
        gain = weighed(s.table, load_eight(xi_db, i), log2_of(p + tiny), there, load_eight(floor_logs, i))
        gain = gain * splat_eight(1.0 - m.struck[i // BAND] ** 2)
        store(out, i, smaller(one, exp2_of(gain)))


_FROM, _TO = 0.1, 10.0**-0.5


@inlined
def _rise(power):
    """0 up to -10 dB, 1 from -5 dB on, and between them as the level rises: by a fitted polynomial, within 0.0012."""
    low, high = splat_eight(_FROM), splat_eight(_TO)
    x = bounded(power, low, high)
    bent = fma(
        x,
        fma(x, splat_eight(-158.2465812416112), splat_eight(106.83898247627378)),
        splat_eight(-27.056541693),
    )
    return (x - low) * fma(x - high, bent, splat_eight(1.0 / (_TO - _FROM)))


@inlined
def weighed(table, xi_db, power_log, presence, floor_log):
    """The logarithm of base 2 of four gains: by the table where there is something, the floor where there is nothing."""
    none, most, last = splat_eight(0.0), splat_eight(79.999), splat_eight(-float(LOWEST_DB))
    whole, less, one = splat_eight(_WHOLE), splat_eight(0.499999999), splat_eight(1.0)
    a = bounded(xi_db + last, none, most)
    b = bounded(fma(splat_eight(DB), power_log, last), none, most)
    j, k = (a - less) + whole - whole, (b - less) + whole - whole
    u, v, at = a - j, b - k, fma(splat_eight(81.0), j, k)
    first, second = picked(table, at, 0), picked(table, at, 81)
    low = fma(v, picked(table, at, 1) - first, first)
    high = fma(v, picked(table, at, 82) - second, second)
    gain = larger(fma(u, high - low, low), splat_eight(_LEAST_LOG))
    return splat_eight(LOG2_E) * larger(floor_log, presence * gain + (one - presence) * floor_log)
