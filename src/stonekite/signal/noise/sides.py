"""Legs of a mid/side split as left and right, and back: spectra, and what is known of the noise of both.

What legs have in common is a matter of left and right: a voice in the middle is all of one leg of a mid/side split and
nothing of the other, and noise that differs from side to side is in both. So that noise is reduced together alike in
every split, it is done for left and right. With L = M + g S and R = M - g S, up to a gain of both.
"""

from stonekite.signal.kernel import inlined, inner
from stonekite.signal.vectors.lanes import larger, load_eight, root, smaller, splat_eight, store

LEAST = 1e-6
"""Of the noise of both sides, which one has at least: what was learned of mid and side is known to so many digits that
less of it is what was rounded."""
_LEAST_LEG = 1e-15
"""The same of mid and side, of what is followed in left and right."""


@inlined
def _kept(noise, across, i, share, n0, n1, re, im):
    """Store noise and what it has in common at eight bins, no more of that than there can be."""
    least = splat_eight(share) * (n0 + n1)
    n0, n1 = larger(n0, least), larger(n1, least)
    size = root(n0 * n1)
    re, im = re / size, im / size
    one = splat_eight(1.0)
    over = smaller(one, one / larger(root(re * re + im * im), splat_eight(1e-12)))
    store(noise[0], i, n0)
    store(noise[1], i, n1)
    store(across[0], i, re * over)
    store(across[1], i, im * over)


@inner
def noise_to_sides(bins, gain, noise, across):
    """Power (2, bins) of mid and side and what they have in common, re and im over the root of both, made that of left
    and right, in place."""
    one, two = splat_eight(gain * gain), splat_eight(2.0 * gain)
    for i in range(0, bins, 8):
        mid, side = load_eight(noise[0], i), load_eight(noise[1], i)
        size = root(mid * side)
        re, im = size * load_eight(across[0], i), size * load_eight(across[1], i)
        both, apart = mid + one * side, two * re
        _kept(
            noise, across, i, LEAST, both + apart, both - apart, mid - one * side, splat_eight(0.0) - two * im
        )


@inner
def noise_to_legs(bins, gain, noise, across):
    """The same, back."""
    half, quarter = splat_eight(0.5), splat_eight(0.25)
    one, part = splat_eight(0.25 / (gain * gain)), splat_eight(0.25 / gain)
    for i in range(0, bins, 8):
        left, right = load_eight(noise[0], i), load_eight(noise[1], i)
        size = root(left * right)
        re, im = size * load_eight(across[0], i), size * load_eight(across[1], i)
        both, apart = left + right, re + re
        _kept(
            noise,
            across,
            i,
            _LEAST_LEG,
            quarter * (both + apart),
            one * (both - apart),
            part * (left - right),
            splat_eight(0.0) - half * splat_eight(1.0 / gain) * im,
        )


@inner
def to_sides(bins, gain, rows):
    """Mid and side (2, bins) made left and right, in place."""
    much = splat_eight(gain)
    for i in range(0, bins, 8):
        mid, side = load_eight(rows[0], i), much * load_eight(rows[1], i)
        store(rows[0], i, mid + side)
        store(rows[1], i, mid - side)


@inner
def to_legs(bins, gain, rows):
    """The same, back."""
    half, much = splat_eight(0.5), splat_eight(0.5 / gain)
    for i in range(0, bins, 8):
        left, right = load_eight(rows[0], i), load_eight(rows[1], i)
        store(rows[0], i, half * (left + right))
        store(rows[1], i, much * (left - right))
