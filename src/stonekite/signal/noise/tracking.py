"""Following noise from frame to frame, of each leg by itself or of both by what they do not share."""

import math

from stonekite.signal.kernel import greater, inlined, inner, lesser
from stonekite.signal.noise.frames import BAND, BEGINNING, DB, LOG2_E, ODDS, bounded, smooth
from stonekite.signal.vectors.lanes import fma, larger, load_eight, root, smaller, splat_eight, store
from stonekite.signal.vectors.quick import exp2_of, log2_of

_LOUD = 20.0
"""From how many times the noise on it is the voice that strays are counted of."""
_FREE = 0.05
_STEADY, _GUSTY = 10.0, 0.3
"""How strictly noise is not followed where what strays is loud: where it hardly changes, and where it comes in gusts."""
_SLOWER = 0.1
"""Of how fast noise is followed, where it hardly changes: what is not followed is not mistaken either."""
_GUSTS = (0.15, 0.45)
"""From what square of its way from its mean (doublings of power) on noise comes in gusts, and from what on in nothing
else. Of 32 bins of steady noise it is 0.1."""
_APART = 0.25
"""How much of all may be common where noise alone is told."""
_SHARED, _SHARED_FREELY = (0.3, 3.3), (0.08, 5.0)
"""From which coherence (squared) on noise is shared by both legs, and by how much more with each part of it."""
_QUIET_SHARE = 0.5
"""Of a frame in what was there lately."""
_OVER_LULLS = 5.0
"""The least of steady noise, so smoothed, is 4.5 dB under its mean (one in a hundred 7)."""
_LOG2_ODDS = math.log2(1.0 + ODDS)


@inner
def begin(s, m, power):
    """The first frames of what is heard are noise, where none was learned; and so is what both legs have in common in
    them, re and im over the roots of their noise.
    """
    share = 1.0 / (m.counts[0] + 1.0)
    for leg in range(2):
        for i in range(s.bins):
            m.noise[leg, i] += share * (power[leg, i] + 1e-18 - m.noise[leg, i])
            m.slow[leg, i] = m.noise[leg, i]
    for i in range(0, s.bins, 8):
        a, b, c, d = (
            load_eight(m.re[0], i),
            load_eight(m.im[0], i),
            load_eight(m.re[1], i),
            load_eight(m.im[1], i),
        )
        size = root(load_eight(m.noise[0], i) * load_eight(m.noise[1], i))
        part = splat_eight(share)
        x, y = load_eight(m.across[0], i), load_eight(m.across[1], i)
        x = fma(part, (a * c + b * d) / size - x, x)
        y = fma(part, (b * c - a * d) / size - y, y)
        over = larger(root(x * x + y * y), splat_eight(1.0))
        store(m.across[0], i, x / over)
        store(m.across[1], i, y / over)


@inner
def keep_under_lulls(s, m, power):
    """Noise that was not learned is no louder than what is there in the quietest moment of the last one or two lulls, by
    some dB: of its smoothed power (R. Martin, IEEE Trans. Speech Audio Process. 9, 2001). So a voice that was there from
    the first frame on is not taken for noise.
    """
    count = m.counts[0]
    near, new, early = m.scratch[0], count % s.lull == 0, count < BEGINNING
    for leg in range(2):
        lately, least, before = m.quiet[leg], m.quiet[2 + leg], m.quiet[4 + leg]
        for i in range(0, s.bins, 8):
            p, q = load_eight(power[leg], i), load_eight(lately, i)
            part = splat_eight(1.0 / (count + 1.0) if early else _QUIET_SHARE)
            store(lately, i, fma(part, p - q, q))
        if early:
            continue
        smooth(s.bins, lately, s.w9, m.padded, near)
        for i in range(0, s.bins, 8):
            x, low = load_eight(near, i), load_eight(least, i)
            if new:
                store(before, i, low)
                low = x
            low = smaller(low, x)
            store(least, i, low)
            most = splat_eight(_OVER_LULLS) * smaller(low, load_eight(before, i)) + splat_eight(1e-18)
            store(m.noise[leg], i, smaller(load_eight(m.noise[leg], i), most))


@inner
def track(s, m, power):
    """Follow the noise of each leg by how likely there is nothing else: of the power smoothed over bins and frames.
    Freely: of the bin by itself, as published; then any step is followed, and what is held is taken for noise.
    """
    ratio, near, one = m.scratch[1], m.scratch[2], splat_eight(1.0)
    for leg in range(2):
        slow, own, ours = m.slow[leg], m.noise[leg], power[leg]
        for i in range(0, s.bins, 8):
            p, q = load_eight(ours, i), load_eight(slow, i)
            q = fma(splat_eight(0.4), p - q, q)
            store(slow, i, q)
            store(ratio, i, (p if s.loose else q) / load_eight(own, i))
        if not s.loose:
            smooth(s.bins, ratio, s.w7, m.padded, near)
        for i in range(0, s.bins, 8):
            if s.loose:  # as if what is there were 15 dB louder than the noise
                loud = smaller(load_eight(ratio, i) * splat_eight(ODDS / (1.0 + ODDS)), splat_eight(200.0))
                level = splat_eight(_LOG2_ODDS) - splat_eight(LOG2_E) * loud
            else:
                over_db = splat_eight(DB) * log2_of(load_eight(near, i) + splat_eight(1e-12))
                level = splat_eight(-1.2 * LOG2_E) * (over_db - splat_eight(3.0))
            there = one / (one + exp2_of(level))
            if s.loose:
                there = smaller(there, splat_eight(0.99))
            part, n = splat_eight(1.0 - s.poles[0]) * (one - there), load_eight(own, i)
            n = fma(part, load_eight(ours, i) - n, n)
            store(own, i, bounded(n, load_eight(s.least[leg], i), load_eight(s.most[leg], i)))


@inlined
def _alone(s, power, own):
    """The noise of a leg followed by itself: freely as in `track`; within bounds it stays what it is."""
    if not s.loose:
        return own
    one = splat_eight(1.0)
    loud = smaller(power / own * splat_eight(ODDS / (1.0 + ODDS)), splat_eight(200.0))
    there = smaller(
        one / (one + exp2_of(splat_eight(_LOG2_ODDS) - splat_eight(LOG2_E) * loud)), splat_eight(0.99)
    )
    return fma(splat_eight(1.0 - s.poles[0]) * (one - there), power - own, own)


@inner
def track_both(s, m, power):
    """Follow the noise of both legs by what they do not have in common. With X and Y of the legs, each over the root of
    its noise, and a voice that comes to them as 1 to q, the mean of |X|^2 - Re(X Y*) / q is the noise of X alone, however
    loud the voice is (for q = 1 the product of X and the difference of both).

    Noise that both legs share is common, too, and nothing of that tells of it: in bins where it is known to be so, each
    leg's is followed as by itself (`track`) where it is followed freely, and stays as learned otherwise.

    A second voice elsewhere and a room are not common either. They differ from noise in being there where the voice is
    loud: what strays of it there is counted over a second or two. So much more of what is common is taken off, and since
    that is right in the mean only, noise is followed less where it is loud: the less, the steadier it is (`_gusts`).
    """
    one, four, low = splat_eight(1.0), splat_eight(4.0), splat_eight(0.02)
    least_trust = splat_eight(0.3 if s.loose else 0.0)
    trust, found, ratio, common = m.scratch[0:2], m.scratch[2:4], m.scratch[4:6], m.scratch[9:11]
    for i in range(0, s.bins, 8):
        n0, n1 = load_eight(m.noise[0], i), load_eight(m.noise[1], i)
        size = root(n0 * n1)
        b_re, b_im = load_eight(m.bearing[2], i), load_eight(m.bearing[3], i)
        length = root(b_re * b_re + b_im * b_im) + splat_eight(1e-12)
        a, b, c, d = (
            load_eight(m.re[0], i),
            load_eight(m.im[0], i),
            load_eight(m.re[1], i),
            load_eight(m.im[1], i),
        )
        x = (a * c + b * d) / size - load_eight(m.across[0], i)
        y = (b * c - a * d) / size - load_eight(m.across[1], i)
        both = (x * b_re + y * b_im) / length
        square = (
            larger(load_eight(m.bearing[1], i), low) * n0 / (larger(load_eight(m.bearing[0], i), low) * n1)
        )
        q = root(square)
        # Where a leg has most of the voice, what is left of it after the other one tells little.
        t0, t1 = smaller(one, four * square / (one + square)), smaller(one, four / (one + square))
        r0, r1 = load_eight(power[0], i) / n0, load_eight(power[1], i) / n1
        store(trust[0], i, t0)
        store(trust[1], i, t1)
        store(ratio[0], i, r0)
        store(ratio[1], i, r1)
        common0, common1 = t0 * (both / q), t1 * (both * q)
        store(common[0], i, common0)
        store(common[1], i, common1)
        store(found[0], i, t0 * r0 - common0)
        store(found[1], i, t1 * r1 - common1)
    _gusts(s, m.gusts, power, trust, ratio, common)
    for leg in range(2):
        strays = _strays(s, m.stray[leg], trust[leg], found[leg], ratio[leg])
        for i in range(0, s.bins, 8):
            lost, loud = _lately(m.stray[leg], strays, i)
            share = lesser(0.9, greater(0.0, lost / (loud + 1.0)))
            more = splat_eight(share / (1.0 - share))
            store(found[leg], i, load_eight(found[leg], i) - more * load_eight(common[leg], i))
        for k in range(3):
            smooth(s.bins, (trust, found, ratio)[k][leg], s.w9, m.padded, m.scratch[6 + k])
        own = m.noise[leg]
        for i in range(0, s.bins, 8):
            lost, loud = _lately(m.stray[leg], strays, i)
            stray = greater(0.0, lost / (loud + 1.0) - _FREE)
            if s.loose:  # where nothing at all is common, the noise has become louder
                stray *= lesser(1.0, greater(0.0, 9.5 - 10.0 * lost / (loud + 1e-9)))
            gusty = lesser(
                1.0, greater(0.0, (m.gusts[leg, 1, i // BAND] - _GUSTS[0]) / (_GUSTS[1] - _GUSTS[0]))
            )
            strict = _STEADY + gusty * (_GUSTY - _STEADY)
            v = splat_eight(strict * stray) * load_eight(m.scratch[8], i)
            times = bounded(
                load_eight(m.scratch[7], i) / load_eight(m.scratch[6], i), splat_eight(0.1), splat_eight(6.0)
            )
            part = splat_eight(s.both_share * (_SLOWER + gusty * (1.0 - _SLOWER)))
            part = part * larger(load_eight(trust[leg], i), least_trust) / (one + v * v)
            moved = load_eight(own, i) * fma(part, times - one, one)
            there = load_eight(m.slow[leg], i)
            there = fma(splat_eight(s.both_share), load_eight(power[leg], i) - there, there)
            store(m.slow[leg], i, there)
            # Noise is not much more than all there is, or one leg's would run away from the other's.
            moved = smaller(moved, splat_eight(2.0) * there)
            x, y = load_eight(m.across[0], i), load_eight(m.across[1], i)
            begins = _SHARED_FREELY[0] if s.loose else _SHARED[0]
            slope = _SHARED_FREELY[1] if s.loose else _SHARED[1]
            shared = bounded((x * x + y * y - splat_eight(begins)) * splat_eight(slope), low - low, one)
            alone = _alone(s, load_eight(power[leg], i), load_eight(own, i))
            moved = fma(shared, alone - moved, moved)
            store(own, i, bounded(moved, load_eight(s.least[leg], i), load_eight(s.most[leg], i)))


@inlined
def _lately(stray, strays, i):
    """How much strayed in the band of a bin lately, and how much was loud there; a little of all bands with it."""
    band = i // BAND
    return stray[0, band] + 0.05 * strays[0], stray[1, band] + 0.05 * strays[1]


@inner
def _gusts(s, gusts, power, trust, ratio, common):
    """Count how far the noise of each leg goes from its mean, by bands, into `gusts` (2, 2, bands): the mean level in
    doublings of power, and the mean square of the way from it.

    Told where hardly anything is common. A voice's room and a second voice come with both legs at once, gusts with one:
    what both legs move alike is not counted.
    """
    for band in range(gusts.shape[2]):
        power0 = power1 = all0 = all1 = common0 = common1 = 0.0
        for i in range(BAND * band, lesser(s.bins, BAND * (band + 1))):
            power0 += power[0, i]
            power1 += power[1, i]
            all0 += trust[0, i] * ratio[0, i]
            all1 += trust[1, i] * ratio[1, i]
            common0 += common[0, i]
            common1 += common[1, i]
        told = abs(common0) < _APART * all0 and abs(common1) < _APART * all1
        if told and power0 > 0.0 and power1 > 0.0:
            level0, level1 = math.log2(power0), math.log2(power1)
            if gusts[0, 0, band] == 0.0:
                gusts[0, 0, band], gusts[1, 0, band] = level0, level1
            way0, way1 = level0 - gusts[0, 0, band], level1 - gusts[1, 0, band]
            alike = greater(0.0, lesser(way0, way1)) + lesser(0.0, greater(way0, way1))
            gusts[0, 0, band] += s.stray_share * way0
            gusts[1, 0, band] += s.stray_share * way1
            gusts[0, 1, band] += s.stray_share * ((way0 - alike) ** 2 - gusts[0, 1, band])
            gusts[1, 1, band] += s.stray_share * ((way1 - alike) ** 2 - gusts[1, 1, band])


@inner
def _strays(s, stray, trust, found, ratio):
    """Count how much of what is loud is not common, by bands, into `stray` (2, bands): it and all. Gives both sums."""
    all_stray = all_loud = 0.0
    for band in range(stray.shape[1]):
        lost = loud = 0.0
        for i in range(BAND * band, lesser(s.bins, BAND * (band + 1))):
            if ratio[i] > _LOUD:
                most = trust[i] * lesser(ratio[i], 1e4)
                lost += greater(-most, lesser(3.0 * most, found[i]))
                loud += most
        if loud > 0.0:
            stray[0, band] += s.stray_share * (lost - stray[0, band])
            stray[1, band] += s.stray_share * (loud - stray[1, band])
        all_stray += stray[0, band]
        all_loud += stray[1, band]
    return all_stray, all_loud
