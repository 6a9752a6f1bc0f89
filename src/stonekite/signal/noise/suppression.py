"""Noise reduction of two legs, each by itself, both by one gain, or analysed together.

Together: what both legs have in common is one source, the noise is not. In every bin the noise of both is whitened; in
the whitened plane the direction of what is more than noise is found (a generalised eigenvalue problem: A. Spriet,
M. Moonen and J. Wouters 2002; R. Serizel, M. Moonen, B. Van Dijk and J. Wouters 2014), and one estimate of its amplitude
serves both legs. So each leg has the benefit of the other one, and what they share moves less. And the noise is followed
by what the legs do not have in common, so that a gust is heard through the voice (signal/noise/tracking.py).

Ingredients: noise power by presence (T. Gerkmann and R. C. Hendriks, IEEE Trans. ASLP 20, 2012), a prior smoothed over
quefrencies (C. Breithaupt, T. Gerkmann and R. Martin, ICASSP 2008), amplitudes with a generalised gamma prior (J. S.
Erkelens, R. C. Hendriks, R. Heusdens and J. Jensen, IEEE Trans. ASLP 15, 2007), weighted by the probability that there is
anything (I. Cohen and B. Berdugo, Signal Processing 81, 2001).

A block is one call: from Python, each kernel and each transform of a frame would cost one.
"""

from stonekite.signal.kernel import copied, filled, greater, inlined, kernel, lesser
from stonekite.signal.noise.frames import BAND, BEGINNING, BETWEEN, COMMON, ONE, TOGETHER, settings, view
from stonekite.signal.noise.gains import gains, prior
from stonekite.signal.noise.plane import plane, put_together
from stonekite.signal.noise.sides import noise_to_legs, noise_to_sides, to_legs, to_sides
from stonekite.signal.noise.tracking import begin, keep_under_lulls, track, track_both
from stonekite.signal.vectors.lanes import LANES, fma, load, load_eight, splat_eight, store
from stonekite.signal.vectors.transforms import backward, forward

SILENT = 1e-8
_RISES, _ALL_RISES, _OVER = 1.5, 2.0, 3.0
"""What is struck is so many times as loud as a frame ago, in its band or in all, and as the noise there."""


@inlined
def _struck(s, m, power):
    """How much of what is struck in this frame is held, by bands, into `m.struck`: where a band of a leg, or all of
    it, grows louder at once, and louder than noise."""
    bands = m.struck.shape[0]
    filled(0.0, m.struck)
    for leg in range(2):
        loud, before, noise = 0.0, 0.0, 0.0
        for band in range(bands):
            here, known = 0.0, 0.0
            for i in range(BAND * band, lesser(s.bins, BAND * (band + 1))):
                here += power[leg, i]
                known += m.noise[leg, i]
            loud, before, noise = loud + here, before + m.last[leg, band], noise + known
            if here > _RISES * m.last[leg, band] and here > _OVER * known:
                m.struck[band] = s.hold
            m.last[leg, band] = here
        if loud > _ALL_RISES * before and loud > _OVER * noise:
            filled(s.hold, m.struck)


@inlined
def _cleaned(s, m, out_re, out_im):
    """One frame's spectra `m.re` and `m.im` (2, bins), cleaned."""
    bins, made = s.bins, m.made
    power, noise, streams = made[0:2], made[2:4], made[4:7]
    together = s.analysis == TOGETHER
    turned = together and s.turned > 0.0
    if turned:
        to_sides(bins, s.turned, m.re)
        to_sides(bins, s.turned, m.im)
        noise_to_sides(bins, s.turned, m.noise, m.across)
    for leg in range(2):
        for i in range(0, bins, 8):
            a, b = load_eight(m.re[leg], i), load_eight(m.im[leg], i)
            store(power[leg], i, a * a + b * b)
    if m.counts[1] == 0 and m.counts[0] < BEGINNING:
        begin(s, m, power)
    elif not s.still or m.counts[1] == 0:
        if together:
            track_both(s, m, power)
        else:
            track(s, m, power)
    if m.counts[1] == 0:
        keep_under_lulls(s, m, power)
    _struck(s, m, power)
    if turned:
        noise_to_legs(bins, s.turned, m.noise, m.across)
    if together:
        for leg in range(2):
            for i in range(0, bins, 8):
                store(noise[leg], i, load_eight(s.louder[leg], i) * load_eight(m.noise[leg], i))
        across = m.scratch[17:19]
        for k in range(2):
            copied(m.across[k], across[k])
        if turned:
            noise_to_sides(bins, s.turned, noise, across)
        plane(s, m, power, noise, across)
        for i in range(0, bins, 8):
            a, b = load_eight(m.parts[0], i), load_eight(m.parts[1], i)
            store(streams[COMMON], i, a * a + b * b)
    else:
        for i in range(0, bins, 8):
            a = load_eight(power[0], i) / (load_eight(s.louder[0], i) * load_eight(m.noise[0], i))
            b = load_eight(power[1], i) / (load_eight(s.louder[1], i) * load_eight(m.noise[1], i))
            store(streams[0], i, a)
            store(streams[1], i, b)
            if s.streams[COMMON]:
                store(streams[COMMON], i, splat_eight(0.5) * (a + b))
    found, logs, presence, xi_db = made[7:10], made[10], made[11], made[12]
    for k in range(3):
        if s.streams[k]:
            prior(s, m, k, streams[k], logs)
            gains(s, m, k, logs, streams[k], found[k], presence, xi_db)
    if together:
        put_together(s, m, found[COMMON], presence, xi_db, out_re, out_im)
        if turned:
            to_legs(bins, s.turned, m.re)
            to_legs(bins, s.turned, m.im)
            to_legs(bins, s.turned, out_re)
            to_legs(bins, s.turned, out_im)
    else:
        _blend(s, found)
    share = splat_eight(s.shown_share)
    for leg in range(2):
        for i in range(0, bins, 8):
            re, im = load_eight(m.re[leg], i), load_eight(m.im[leg], i)
            a, b = re, im
            if together:
                a, b = load_eight(out_re[leg], i), load_eight(out_im[leg], i)
            elif s.works[leg]:
                gain = load_eight(found[leg], i)
                a, b = gain * re, gain * im
            if s.image > 0.0:
                kept = splat_eight(s.image) * load_eight(s.floors[leg], i)
                a, b = fma(kept, re - a, a), fma(kept, im - b, b)
            store(out_re[leg], i, a)
            store(out_im[leg], i, b)
            x, y = load_eight(m.came[leg], i), load_eight(m.went[leg], i)
            store(m.came[leg], i, fma(share, (re * re + im * im) - x, x))
            store(m.went[leg], i, fma(share, (a * a + b * b) - y, y))


@inlined
def _blend(s, found):
    """Gains of the legs, in place: their own, one for both, or between the two."""
    for leg in range(2):
        for i in range(s.bins):
            if s.analysis == ONE:
                found[leg, i] = greater(found[COMMON, i], s.floors[leg, i])
            elif s.analysis == BETWEEN:
                found[leg, i] = found[leg, i] ** (1.0 - s.coupling) * found[COMMON, i] ** s.coupling


@inlined
def _frame(s, m):
    """A hop is complete: clean the frame that ends with it, and give its first hop next."""
    size = m.heard.shape[1]
    # Digital silence tells nothing of the noise: who took it for some would find everything else loud.
    heard, at = False, 0
    while not heard and at < size:
        heard = abs(m.heard[0, at]) > SILENT or abs(m.heard[1, at]) > SILENT
        at += 1
    out_re, out_im = m.made[13:15], m.made[15:17]
    if heard:
        for leg in range(2):
            forward(s.whole, m.heard[leg], s.window, m.work, m.re[leg], m.im[leg])
        _cleaned(s, m, out_re, out_im)
        m.counts[0] += 1
    for leg in range(2):
        waits, given = m.heard[leg], m.given[leg]
        for i in range(0, size - s.hop, LANES):
            store(waits, i, load(waits, i + s.hop))
            store(given, i, load(given, i + s.hop))
        filled(0.0, given[size - s.hop :])
        if heard:
            backward(s.whole, out_re[leg], out_im[leg], m.work, s.back, given)


@kernel
def clean(fixed, memory, block, late, clock):
    """Clean block (2, n), whose first sample is at `clock`, in place; a leg that is not `late` passes."""
    s, m = settings(fixed), view(memory)
    size, n, done = m.heard.shape[1], block.shape[1], 0
    while done < n:
        place = (clock + done) % s.hop
        count = lesser(n - done, s.hop - place)
        start = size - s.hop + place
        for leg in range(2):
            for i in range(count):
                m.heard[leg, start + i] = block[leg, done + i]
                if late[leg]:
                    block[leg, done + i] = m.given[leg, place + i]
        done += count
        if place + count == s.hop:
            _frame(s, m)
