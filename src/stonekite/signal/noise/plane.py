"""The plane of both legs in every bin: the noise of both whitened, and the direction of what is more than noise in it."""

from stonekite.signal.kernel import inner
from stonekite.signal.noise.frames import BAND, BEGINNING, COMMON, DB, LOG2_E, ODDS, bounded, smooth
from stonekite.signal.noise.gains import weighed
from stonekite.signal.vectors.lanes import fma, larger, load_eight, root, smaller, splat_eight, store
from stonekite.signal.vectors.quick import exp2_of, log2_of

_ACROSS_DEPTH = 1.75
"""How many times the amount goes down what lies across the voice."""


@inner
def plane(s, m, power, noise, across):
    """The whitened plane of both legs, whose noise has power and is in common `across`: what each bin is along the
    source, and across it.

    Into `axes` (9, bins): the triangle that whitens (l11, l21 re and im, l22), cosine, sine and turn (re and im) of the
    direction, and how much of what is more than noise lies across it; into `parts` (4, bins) what was heard along and
    across, re and im of both.
    """
    scratch, padded, axes, parts = m.scratch, m.padded, m.axes, m.parts
    c_re, c_im, size, there = scratch[0], scratch[1], scratch[2], scratch[4]
    smooth(s.bins, across[0], s.w9, padded, c_re)
    smooth(s.bins, across[1], s.w9, padded, c_im)
    tiny, none, one = splat_eight(1e-12), splat_eight(0.0), splat_eight(1.0)
    for i in range(0, s.bins, 8):
        n0, n1, x, y = (
            load_eight(noise[0], i),
            load_eight(noise[1], i),
            load_eight(c_re, i),
            load_eight(c_im, i),
        )
        both = root(n0 * n1)
        square = x * x + y * y
        # Of few averages there is a coherence where there is none: so much of it is taken off.
        kept = (larger(none, square - splat_eight(1.0 / 55.0))) * splat_eight(55.0 / 54.0)
        scale = both * smaller(root(kept), splat_eight(0.999)) / larger(root(square), tiny)
        x, y = x * scale, y * scale
        l11 = root(n0)
        down = one / l11
        a_re, a_im = x * down, none - y * down
        l22 = root(larger(n1 - a_re * a_re - a_im * a_im, splat_eight(0.001) * n1))
        over = one / l22
        u, v = load_eight(m.re[0], i) * down, load_eight(m.im[0], i) * down
        p = (load_eight(m.re[1], i) - (a_re * u - a_im * v)) * over
        r = (load_eight(m.im[1], i) - (a_re * v + a_im * u)) * over
        loud = larger(u * u + v * v, p * p + r * r)
        store(size, i, both)
        store(c_re, i, x)
        store(c_im, i, y)
        store(axes[0], i, l11)
        store(axes[1], i, a_re)
        store(axes[2], i, a_im)
        store(axes[3], i, l22)
        store(parts[0], i, u)
        store(parts[1], i, v)
        store(parts[2], i, p)
        store(parts[3], i, r)
        quiet = splat_eight(-LOG2_E) * smaller(loud * splat_eight(ODDS / (1.0 + ODDS)), splat_eight(200.0))
        store(there, i, exp2_of(quiet))
    fast, slow = 1.0 - s.poles[1], 1.0 - s.poles[2]
    if m.counts[1] == 0 and m.counts[0] < BEGINNING:
        fast = slow = 0.0
    if m.counts[2]:
        for i in range(s.bins):
            m.covariance[0, i], m.covariance[1, i] = noise[0, i], noise[1, i]
            m.covariance[2, i], m.covariance[3, i] = c_re[i], c_im[i]
            m.course[0, i] = m.course[1, i] = m.course[2, i] = 0.03 * size[i]
            m.course[3, i] = 0.0
        m.counts[2] = 0
    for i in range(0, s.bins, 8):
        presence = larger(splat_eight(0.02), one / (one + splat_eight(1.0 + ODDS) * load_eight(there, i)))
        a, b = splat_eight(fast) * presence, splat_eight(slow) * presence
        e, f, g, h = (
            load_eight(m.re[0], i),
            load_eight(m.im[0], i),
            load_eight(m.re[1], i),
            load_eight(m.im[1], i),
        )
        over = one / load_eight(size, i)
        for k in range(4):
            if k < 2:
                now, own = load_eight(power[k], i), load_eight(noise[k], i)
            elif k == 2:
                now, own = e * g + f * h, load_eight(c_re, i)
            else:
                now, own = f * g - e * h, load_eight(c_im, i)
            x, y = load_eight(m.covariance[k], i), load_eight(m.course[k], i)
            x = fma(a, now - x, x)
            y = fma(b, (now - own) - y, y)
            store(m.covariance[k], i, x)
            store(m.course[k], i, y)
            store(scratch[9 + k], i, x - own)
            store(scratch[13 + k], i, y * over)
    # What is more than noise, and the longer memory of its direction, each smoothed over bins.
    for k in range(4):
        smooth(s.bins, scratch[9 + k], s.w3, padded, scratch[5 + k])
        smooth(s.bins, scratch[13 + k], s.w25, padded, m.bearing[k])
    half = splat_eight(0.5)
    for i in range(0, s.bins, 8):
        n0, n1, both = load_eight(noise[0], i), load_eight(noise[1], i), load_eight(size, i)
        x, y = load_eight(c_re, i), load_eight(c_im, i)
        x0 = larger(load_eight(m.bearing[0], i), splat_eight(0.02)) * both
        x1 = larger(load_eight(m.bearing[1], i), splat_eight(0.02)) * both
        y_re, y_im = load_eight(m.bearing[2], i) * both, load_eight(m.bearing[3], i) * both
        shrink = smaller(one, root(x0 * x1 / larger(y_re * y_re + y_im * y_im, splat_eight(1e-60))))
        y_re, y_im = y_re * shrink, y_im * shrink
        whole = larger(n0 * n1 - x * x - y * y, splat_eight(0.001) * n0 * n1)
        trace = (n1 * x0 + n0 * x1 - splat_eight(2.0) * (x * y_re + y * y_im)) / whole
        scale = splat_eight(2.0) / larger(trace, tiny)
        d0, d1 = fma(scale, x0, load_eight(scratch[5], i)), fma(scale, x1, load_eight(scratch[6], i))
        d_re, d_im = fma(scale, y_re, load_eight(scratch[7], i)), fma(scale, y_im, load_eight(scratch[8], i))
        a_re, a_im = load_eight(axes[1], i), load_eight(axes[2], i)
        down, over = one / load_eight(axes[0], i), one / load_eight(axes[3], i)
        # L^-1 D L^-H, by rows; the lower left of D is conj(d).
        b00 = d0 * down
        b10_re = (d_re - a_re * b00) * over
        b10_im = (none - d_im - a_im * b00) * over
        u, v = d_re * down, d_im * down
        b11 = (d1 - (a_re * u - a_im * v)) * over
        m00, m_re, m_im = b00 * down, b10_re * down, b10_im * down
        m11 = (b11 - (m_re * a_re + m_im * a_im)) * over
        middle, apart = half * (m00 + m11), half * (m00 - m11)
        length = root(m_re * m_re + m_im * m_im) + splat_eight(1e-20)
        reach = root(apart * apart + length * length) + splat_eight(1e-20)
        leaning = half * (apart / reach)
        co, si = root(larger(none, half + leaning)), root(larger(none, half - leaning))
        p_re, p_im = m_re / length, m_im / length
        store(axes[4], i, co)
        store(axes[5], i, si)
        store(axes[6], i, p_re)
        store(axes[7], i, p_im)
        beside = (middle - reach - splat_eight(0.3)) / larger(middle + reach, splat_eight(1e-9))
        store(axes[8], i, bounded(beside, none, one))
        u, v = load_eight(parts[0], i), load_eight(parts[1], i)
        g, h = load_eight(parts[2], i), load_eight(parts[3], i)
        turned_re, turned_im = p_re * g + p_im * h, p_re * h - p_im * g
        store(parts[0], i, co * u + si * turned_re)
        store(parts[1], i, co * v + si * turned_im)
        store(parts[2], i, co * turned_re - si * u)
        store(parts[3], i, co * turned_im - si * v)


@inner
def put_together(s, m, along, presence, xi_db, out_re, out_im):
    """Both legs, re and im (2, bins), from what lies along the source, by its gains, and across it, by a prior that is
    tied to it."""
    bins, parts, axes, floor_logs = s.bins, m.parts, m.axes, s.floor_logs[COMMON]
    for i in range(0, bins, 8):
        u, v = load_eight(parts[2], i), load_eight(parts[3], i)
        beside = log2_of(larger(load_eight(axes[8], i), splat_eight(1e-6)))
        tied = larger(load_eight(xi_db, i) + splat_eight(DB) * beside, splat_eight(-25.0))
        level = log2_of(u * u + v * v + splat_eight(1e-12))
        floor_log = splat_eight(_ACROSS_DEPTH) * load_eight(floor_logs, i)
        across = weighed(s.table, tied, level, load_eight(presence, i), floor_log)
        across = exp2_of(across * splat_eight(1.0 - m.struck[i // BAND] ** 2))
        across = smaller(splat_eight(1.0), across)
        gain = load_eight(along, i)
        g, h = gain * load_eight(parts[0], i), gain * load_eight(parts[1], i)
        u, v = across * u, across * v
        co, si, p_re, p_im = (
            load_eight(axes[4], i),
            load_eight(axes[5], i),
            load_eight(axes[6], i),
            load_eight(axes[7], i),
        )
        y_re, y_im = co * g - si * u, co * h - si * v
        x_re, x_im = si * g + co * u, si * h + co * v
        o_re, o_im = x_re * p_re - x_im * p_im, x_re * p_im + x_im * p_re
        a, b, c, d = (
            load_eight(axes[0], i),
            load_eight(axes[1], i),
            load_eight(axes[2], i),
            load_eight(axes[3], i),
        )
        store(out_re[0], i, a * y_re)
        store(out_im[0], i, a * y_im)
        store(out_re[1], i, b * y_re - c * y_im + d * o_re)
        store(out_im[1], i, b * y_im + c * y_re + d * o_im)
