"""Noise reduction of two legs, each by itself, both by one gain, or analysed together.

Together: what both legs have in common is one source, the noise is not. In every bin the noise of both is whitened; in
the whitened plane the direction of what is more than noise is found (a generalised eigenvalue problem: A. Spriet,
M. Moonen and J. Wouters 2002; R. Serizel, M. Moonen, B. Van Dijk and J. Wouters 2014), and one estimate of its amplitude
serves both legs. So each leg has the benefit of the other one, and what they share moves less.

Ingredients: noise power by presence (T. Gerkmann and R. C. Hendriks, IEEE Trans. ASLP 20, 2012), a prior smoothed over
quefrencies (C. Breithaupt, T. Gerkmann and R. Martin, ICASSP 2008), amplitudes with a generalised gamma prior (J. S.
Erkelens, R. C. Hendriks, R. Heusdens and J. Jensen, IEEE Trans. ASLP 15, 2007), weighted by the probability that there is
anything (I. Cohen and B. Berdugo, Signal Processing 81, 2001).

Arrays are (legs, bins); powers are those of a Hann window of unit energy.
"""

import math

import numpy as np
from numba import njit

from stonekite.signal.quick import exp2_into, log2_into

LOWEST_DB, HIGHEST_DB = -30, 50
NU = 0.3
LEAST_XI = 10.0**-2.5
_LOG2_E = 1.4426950408889634
_LN_2 = 0.6931471805599453
_DB = 3.010299956639812
"""Of a doubling of power."""
_LEAST_LOG = -9.2
_ODDS = 10.0**1.5
ROOM = 16
"""Rows of scratch."""
COMMON = 2
"""The third stream, after those of the legs: what is estimated of both at once."""
BEGINNING = 8
"""So many frames are taken for noise where none was learned."""


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


@njit(cache=True, nogil=True, error_model="numpy")
def _smooth(values, weights, padded, out):
    """Values smoothed over bins by weights (odd number of them), mirrored at the ends."""
    n, count = values.shape[0], weights.shape[0]
    half = count // 2
    for i in range(n):
        padded[half + i] = values[i]
    for k in range(1, half + 1):
        padded[half - k] = values[k]
        padded[half + n - 1 + k] = values[n - 1 - k]
    out[:] = 0.0
    for k in range(count):
        weight, part = weights[k], padded[k : k + n]
        for i in range(n):
            out[i] += weight * part[i]


def weights_of(count: int) -> np.ndarray:
    """A Hann window (count,) that sums to 1."""
    window = np.hanning(count + 2)[1:-1]
    return window / window.sum()


@njit(cache=True, nogil=True, error_model="numpy")
def track(re, im, power, noise, across, heard, slow, poles, w7, padded, scratch, loose):
    """Follow the noise of both legs, of spectra re and im (2, bins): its power (2, bins) and what it has in common, re
    and im (2, bins). Gives `power`, that of the frame.

    `heard` is how many frames were heard where nothing was learned (then the first ones are noise), -1 where something
    was; `poles` are those of power and of what is in common, 1 where nothing is followed. `slow` (2, bins) is the power
    smoothed. With `loose` the presence is that of the bin by itself: it follows any step, and takes what is held for
    noise.
    """
    bins = re.shape[1]
    for leg in range(2):
        a, b, out = re[leg], im[leg], power[leg]
        for i in range(bins):
            out[i] = a[i] * a[i] + b[i] * b[i]
    if 0 <= heard < BEGINNING:
        share = 1.0 / (heard + 1.0)
        for i in range(bins):
            for leg in range(2):
                noise[leg, i] += share * (power[leg, i] + 1e-18 - noise[leg, i])
                slow[leg, i] = noise[leg, i]
            size = math.sqrt(noise[0, i] * noise[1, i])
            one = (re[0, i] * re[1, i] + im[0, i] * im[1, i]) / size
            two = (im[0, i] * re[1, i] - re[0, i] * im[1, i]) / size
            across[0, i] += share * (one - across[0, i])
            across[1, i] += share * (two - across[1, i])
            norm = math.sqrt(across[0, i] ** 2 + across[1, i] ** 2)
            if norm > 1.0:
                across[0, i] /= norm
                across[1, i] /= norm
        return
    if poles[0] >= 1.0:
        return
    for leg in range(2):
        s, p, own, ratio = slow[leg], power[leg], noise[leg], scratch[0]
        for i in range(bins):
            s[i] += 0.4 * (p[i] - s[i])
            ratio[i] = (p[i] if loose else s[i]) / own[i]
        level, there = scratch[2], scratch[3 + leg]
        if (
            loose
        ):  # as published: by what the bin is now, as if what is there were 15 dB louder than the noise
            for i in range(bins):
                level[i] = math.log2(1.0 + _ODDS) - _LOG2_E * min(ratio[i] * _ODDS / (1.0 + _ODDS), 200.0)
        else:
            _smooth(ratio, w7, padded, scratch[1])
            for i in range(bins):
                scratch[1, i] = scratch[1, i] + 1e-12
            log2_into(scratch[1], level)
            for i in range(bins):
                level[i] = -1.2 * _LOG2_E * (_DB * level[i] - 3.0)
        exp2_into(level, there)
        for i in range(bins):
            there[i] = min(0.99, 1.0 / (1.0 + there[i])) if loose else 1.0 / (1.0 + there[i])
    a, b = 1.0 - poles[0], 1.0 - poles[1]
    for i in range(bins):
        none = (1.0 - scratch[3, i]) * (1.0 - scratch[4, i])
        size = math.sqrt(noise[0, i] * noise[1, i])
        one = (re[0, i] * re[1, i] + im[0, i] * im[1, i]) / size
        two = (im[0, i] * re[1, i] - re[0, i] * im[1, i]) / size
        across[0, i] += b * none * (one - across[0, i])
        across[1, i] += b * none * (two - across[1, i])
    for leg in range(2):
        for i in range(bins):
            moved = noise[leg, i] + a * (1.0 - scratch[3 + leg, i]) * (power[leg, i] - noise[leg, i])
            noise[leg, i] = max(moved, 1e-18)


@njit(cache=True, nogil=True, error_model="numpy")
def plane(
    re,
    im,
    power,
    noise,
    across,
    covariance,
    course,
    poles,
    w3,
    w9,
    w25,
    padded,
    scratch,
    axes,
    parts,
    fresh,
    learning,
):
    """The whitened plane of both legs: what each bin is along the source, and across it.

    Into `axes` (9, bins): the triangle that whitens (l11, l21 re and im, l22), cosine, sine and turn (re and im) of the
    direction, and how much of what is more than noise lies across it; into `parts` (4, bins) what was heard along and
    across, re and im of both. `covariance` and `course` (4, bins) are what is remembered: of signal and noise, and of the
    direction over a longer time: upper, lower, re and im of both.
    """
    bins = re.shape[1]
    c_re, c_im, size, q, there = scratch[0], scratch[1], scratch[2], scratch[3], scratch[4]
    _smooth(across[0], w9, padded, c_re)
    _smooth(across[1], w9, padded, c_im)
    l11, a_re, a_im, l22 = axes[0], axes[1], axes[2], axes[3]
    w0_re, w0_im, w1_re, w1_im = parts[0], parts[1], parts[2], parts[3]
    n0, n1 = noise[0], noise[1]
    for i in range(bins):
        size[i] = math.sqrt(n0[i] * n1[i])
        square = c_re[i] * c_re[i] + c_im[i] * c_im[i]
        # Of few averages there is a coherence where there is none: so much of it is taken off.
        kept = max(0.0, (square - 1.0 / 55.0) / (1.0 - 1.0 / 55.0))
        scale = size[i] * min(math.sqrt(kept), 0.999) / max(math.sqrt(square), 1e-12)
        c_re[i] *= scale
        c_im[i] *= scale
        l11[i] = math.sqrt(n0[i])
        down = 1.0 / l11[i]
        a_re[i], a_im[i] = c_re[i] * down, -c_im[i] * down
        rest = n1[i] - a_re[i] * a_re[i] - a_im[i] * a_im[i]
        l22[i] = math.sqrt(max(rest, 0.001 * n1[i]))
        u, v = re[0, i] * down, im[0, i] * down
        over = 1.0 / l22[i]
        w0_re[i], w0_im[i] = u, v
        w1_re[i] = (re[1, i] - (a_re[i] * u - a_im[i] * v)) * over
        w1_im[i] = (im[1, i] - (a_re[i] * v + a_im[i] * u)) * over
        loud = max(u * u + v * v, w1_re[i] * w1_re[i] + w1_im[i] * w1_im[i])
        q[i] = -_LOG2_E * min(loud * _ODDS / (1.0 + _ODDS), 200.0)
    exp2_into(q, there)
    fast, slow = 1.0 - poles[2], 1.0 - poles[3]
    if learning:
        fast = slow = 0.0
    f0, f1, f2, f3 = covariance[0], covariance[1], covariance[2], covariance[3]
    h0, h1, h2, h3 = course[0], course[1], course[2], course[3]
    if fresh:
        for i in range(bins):
            f0[i], f1[i], f2[i], f3[i] = n0[i], n1[i], c_re[i], c_im[i]
            h0[i] = h1[i] = h2[i] = 0.03 * size[i]
            h3[i] = 0.0
    for i in range(bins):
        presence = max(0.02, 1.0 / (1.0 + (1.0 + _ODDS) * there[i]))
        one = re[0, i] * re[1, i] + im[0, i] * im[1, i]
        two = im[0, i] * re[1, i] - re[0, i] * im[1, i]
        a, b = fast * presence, slow * presence
        f0[i] += a * (power[0, i] - f0[i])
        f1[i] += a * (power[1, i] - f1[i])
        f2[i] += a * (one - f2[i])
        f3[i] += a * (two - f3[i])
        h0[i] += b * (power[0, i] - n0[i] - h0[i])
        h1[i] += b * (power[1, i] - n1[i] - h1[i])
        h2[i] += b * (one - c_re[i] - h2[i])
        h3[i] += b * (two - c_im[i] - h3[i])
    # What is more than noise, and the longer memory of its direction, each smoothed over bins.
    for k in range(4):
        own = n0 if k == 0 else n1 if k == 1 else c_re if k == 2 else c_im
        f, h, more, turned = covariance[k], course[k], scratch[3], scratch[4]
        for i in range(bins):
            more[i] = f[i] - own[i]
            turned[i] = h[i] / size[i]
        _smooth(more, w3, padded, scratch[5 + k])
        _smooth(turned, w25, padded, scratch[9 + k])
    d0s, d1s, d2s, d3s = scratch[5], scratch[6], scratch[7], scratch[8]
    s0s, s1s, s2s, s3s = scratch[9], scratch[10], scratch[11], scratch[12]
    cosine, sine, t_re, t_im, beside = axes[4], axes[5], axes[6], axes[7], axes[8]
    for i in range(bins):
        x0, x1 = max(s0s[i], 0.02) * size[i], max(s1s[i], 0.02) * size[i]
        y_re, y_im = s2s[i] * size[i], s3s[i] * size[i]
        shrink = min(1.0, math.sqrt(x0 * x1 / max(y_re * y_re + y_im * y_im, 1e-60)))
        y_re *= shrink
        y_im *= shrink
        whole = max(n0[i] * n1[i] - c_re[i] * c_re[i] - c_im[i] * c_im[i], 0.001 * n0[i] * n1[i])
        trace = (n1[i] * x0 + n0[i] * x1 - 2.0 * (c_re[i] * y_re + c_im[i] * y_im)) / whole
        scale = 2.0 / max(trace, 1e-12)
        d0, d1 = d0s[i] + scale * x0, d1s[i] + scale * x1
        d_re, d_im = d2s[i] + scale * y_re, d3s[i] + scale * y_im
        down, over = 1.0 / l11[i], 1.0 / l22[i]
        # L^-1 D L^-H, by rows; the lower left of D is conj(d).
        b00 = d0 * down
        b10_re = (d_re - a_re[i] * b00) * over
        b10_im = (-d_im - a_im[i] * b00) * over
        u, v = d_re * down, d_im * down
        b11_re = (d1 - (a_re[i] * u - a_im[i] * v)) * over
        m00, m_re, m_im = b00 * down, b10_re * down, b10_im * down
        m11 = (b11_re - (m_re * a_re[i] + m_im * a_im[i])) * over
        middle, apart = 0.5 * (m00 + m11), 0.5 * (m00 - m11)
        length = math.sqrt(m_re * m_re + m_im * m_im) + 1e-20
        reach = math.sqrt(apart * apart + length * length) + 1e-20
        co = math.sqrt(min(1.0, max(0.0, 0.5 + 0.5 * apart / reach)))
        si = math.sqrt(min(1.0, max(0.0, 0.5 - 0.5 * apart / reach)))
        p_re, p_im = m_re / length, m_im / length
        cosine[i], sine[i], t_re[i], t_im[i] = co, si, p_re, p_im
        beside[i] = min(1.0, max(0.0, (middle - reach - 0.3) / max(middle + reach, 1e-9)))
        u, v = w0_re[i], w0_im[i]
        turned_re = p_re * w1_re[i] + p_im * w1_im[i]
        turned_im = p_re * w1_im[i] - p_im * w1_re[i]
        w0_re[i], w0_im[i] = co * u + si * turned_re, co * v + si * turned_im
        w1_re[i], w1_im[i] = co * turned_re - si * u, co * turned_im - si * v


@njit(cache=True, nogil=True, error_model="numpy")
def likely(powers, scratch, out):
    """The logarithm of the likeliest prior SNR, of powers (bins,) in noise of power 1."""
    for i in range(powers.shape[0]):
        scratch[0, i] = max(powers[i] - 1.0, LEAST_XI)
    log2_into(scratch[0], out)
    for i in range(powers.shape[0]):
        out[i] *= _LN_2


@njit(cache=True, nogil=True, error_model="numpy")
def quefrencies(cepstrum, kept, poles, bases, low, high, fresh):
    """Smooth a cepstrum (n,) over frames into `kept`, each quefrency with its own pole; what may be a pitch, between
    `low` and `high`, goes fast.
    """
    n = cepstrum.shape[0]
    if fresh:
        kept[:] = cepstrum
        poles[:] = bases
    best, total, squares = low, 0.0, 0.0
    for k in range(low, high):
        total += cepstrum[k]
        squares += cepstrum[k] ** 2
        if cepstrum[k] > cepstrum[best]:
            best = k
    count = high - low
    spread = math.sqrt(max(0.0, squares / count - (total / count) ** 2))
    for k in range(n):  # falls at once, comes back slowly
        poles[k] = min(bases[k], 0.8 * poles[k] + 0.2 * bases[k])
    if cepstrum[best] > 0.05 + 2.5 * spread:
        quick = 2.0 * bases[0]
        for k in range(-3, 4):
            poles[best + k] = min(poles[best + k], quick)
            poles[n - best - k] = min(poles[n - best - k], quick)
    for k in range(n):
        kept[k] += (1.0 - poles[k]) * (cepstrum[k] - kept[k])


@njit(cache=True, nogil=True, error_model="numpy")
def gains(
    logs, powers, floor_logs, onset, hold, mean, pole, w3, w31, padded, scratch, table, out, presence, xi_db,
):  # fmt: skip
    """Gains (bins,) of one stream, from the logarithm of its smoothed prior and its powers, not under its floors, whose
    logarithms are given; how likely there is anything; and the prior in dB. `mean` is what the prior was lately.
    """
    bins = powers.shape[0]
    xi, near, wide, level, work = scratch[0], scratch[1], scratch[2], scratch[3], scratch[4]
    least = math.log(LEAST_XI)
    for i in range(bins):
        logs[i] = max(logs[i] + 0.1823215567939546, least)  # 1.2 times
        work[i] = logs[i] * _LOG2_E
    exp2_into(work, xi)
    if onset:
        for i in range(bins):
            xi[i] = max(xi[i], hold * (powers[i] - 1.0))
        log2_into(xi, work)
    for i in range(bins):
        xi_db[i] = _DB * work[i]
        mean[i] += (1.0 - pole) * (xi[i] - mean[i])
    _smooth(mean, w3, padded, near)
    _smooth(mean, w31, padded, wide)
    for i in range(bins):
        near[i] = max(near[i], 1e-12)
        wide[i] = max(wide[i], 1e-12)
        level[i] = powers[i] + 1e-12
    log2_into(near, work)
    for i in range(bins):
        near[i] = min(1.0, max(0.0, (_DB * work[i] + 10.0) / 5.0))
    log2_into(wide, work)
    for i in range(bins):
        wide[i] = min(1.0, max(0.0, (_DB * work[i] + 10.0) / 5.0))
        work[i] = -_LOG2_E * min(xi[i] / (1.0 + xi[i]) * powers[i], 200.0)
    exp2_into(work, presence)
    for i in range(bins):
        absent = min(1.0 - near[i] * wide[i], 0.95)
        presence[i] = 1.0 / (1.0 + absent / (1.0 - absent) * (1.0 + xi[i]) * presence[i])
    log2_into(level, work)
    _weighed(table, xi_db, work, presence, floor_logs, 1.0, level)
    exp2_into(level, out)
    for i in range(bins):
        out[i] = min(1.0, out[i])


@njit(cache=True, nogil=True, error_model="numpy")
def _weighed(table, xi_db, power_logs, presence, floor_logs, depth, out):
    """The logarithm of base 2 of gains: by the table where there is something, the floor where there is nothing."""
    for i in range(xi_db.shape[0]):
        a = min(79.999, max(0.0, xi_db[i] - LOWEST_DB))
        b = min(79.999, max(0.0, _DB * power_logs[i] - LOWEST_DB))
        j, k = int(a), int(b)
        u, v = a - j, b - k
        gain = (1.0 - u) * ((1.0 - v) * table[j, k] + v * table[j, k + 1]) + u * (
            (1.0 - v) * table[j + 1, k] + v * table[j + 1, k + 1]
        )
        floor = depth * floor_logs[i]
        out[i] = _LOG2_E * max(floor, presence[i] * max(gain, _LEAST_LOG) + (1.0 - presence[i]) * floor)


@njit(cache=True, nogil=True, error_model="numpy")
def put_together(parts, axes, along, presence, xi_db, floor_logs, depth, scratch, table, re, im):
    """Both legs, re and im (2, bins), from what lies along the source, by its gains, and across it, by a prior that is
    tied to it."""
    bins = along.shape[0]
    z_re, z_im = parts[2], parts[3]
    tied, level, logs, work = scratch[0], scratch[1], scratch[2], scratch[3]
    for i in range(bins):
        work[i] = max(axes[8, i], 1e-6)
        level[i] = z_re[i] * z_re[i] + z_im[i] * z_im[i] + 1e-12
    log2_into(work, tied)
    log2_into(level, logs)
    for i in range(bins):
        tied[i] = max(xi_db[i] + _DB * tied[i], -25.0)
    _weighed(table, tied, logs, presence, floor_logs, depth, work)
    exp2_into(work, level)
    for i in range(bins):
        g, h = along[i] * parts[0, i], along[i] * parts[1, i]
        across = min(1.0, level[i])
        u, v = across * z_re[i], across * z_im[i]
        co, si = axes[4, i], axes[5, i]
        y_re, y_im = co * g - si * u, co * h - si * v
        x_re, x_im = si * g + co * u, si * h + co * v
        o_re = x_re * axes[6, i] - x_im * axes[7, i]
        o_im = x_re * axes[7, i] + x_im * axes[6, i]
        re[0, i], im[0, i] = axes[0, i] * y_re, axes[0, i] * y_im
        re[1, i] = axes[1, i] * y_re - axes[2, i] * y_im + axes[3, i] * o_re
        im[1, i] = axes[1, i] * y_im + axes[2, i] * y_re + axes[3, i] * o_im
