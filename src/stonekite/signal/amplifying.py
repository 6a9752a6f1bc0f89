"""An amplifier at many times the rate: valve-like gain stages with filters between, a tone network, a power stage.

Each gain stage: a coupling high-pass, a low-pass, gain, a bias, and the curve x / sqrt(1 + x^2), taken as its average
over the straight line from the sample before (antiderivative antialiasing of first order: Parker, Zavalishin and Le
Bivic, DAFx 2016). For this curve the average is (x0 + x1) / (sqrt(1 + x0^2) + sqrt(1 + x1^2)): nothing is divided by a
difference. The low-pass of each stage, as the capacitance of a valve makes one, keeps what the next stage bends smooth.

What goes above the curve's knee charges the coupling capacitor of the stage: its bias shifts, quickly there and slowly
back, by a follower with a rise and a recovery time. The supply of the power stage sags by such a follower, too, and
scales its curve: y = s f(x / s). Both followers step once in a sample of the original rate, and what they say is
ramped over the next one.

Each filter waits for itself from sample to sample, so two legs take no longer than one: they lie beside each other as a
vector of two, if their amplifiers have as many stages. One by itself is both.
"""

import math
from functools import partial
from typing import NamedTuple

import numpy as np

from stonekite.signal.filters.oversampling import LATENCY, LEAD, Down, Up, fall, rise
from stonekite.signal.kernel import inlined, inner, kernel, lesser
from stonekite.signal.vectors.lanes import (
    both,
    fma,
    larger,
    load_four,
    load_two,
    root,
    smaller,
    splat_four,
    splat_two,
    store,
    twice,
    where_larger,
)
from stonekite.signal.vectors.pairs import LONG, handed_on

STAGES = 4
"""Gain stages before the power stage, at the most."""
LATE = LATENCY
CHUNK = 2048
"""So many samples are handed on from one half to the other, where there are that many."""
PIECE = 128
"""So many samples are worked on at once, so that everything stays in the processor's cache."""
SMOOTH_S = 0.001
"""What a follower follows is smoothed by so much first."""
_TINY = 1e-25


class Design(NamedTuple):
    """What one leg goes through. Gains are linear, in front of each curve.

    `stages` (count, 6): high-pass in Hz, low-pass in Hz, gain, bias, shift, level after the curve. `network` holds the
    coefficients (2, 4) of the tone network at the fast rate, which stands before stage `network_at` (count: before the
    power stage) with a gain `makeup`. `presence` is the gain less 1 above `presence_hz`. The power stage has a low-pass
    `power_hz`, a gain, a sag from 0 to 1, and a high-pass `transformer_hz`.
    """

    stages: np.ndarray
    shift_s: tuple[float, float]
    network: np.ndarray
    network_at: int
    makeup: float
    presence: float
    presence_hz: float
    power_gain: float
    power_hz: float
    transformer_hz: float
    sag: float
    sag_s: tuple[float, float]
    level: float


@inner
def _keep(state, values, at, upper, lower, flush):
    """Write a pair into what both legs remember; silence must not become numbers that are slow to compute with."""
    store(values, 0, state)
    for lane, leg in ((0, upper), (1, lower)):
        value = values[lane]
        leg[at] = 0.0 if flush and abs(value) < _TINY else value


@inlined
def _size(x):
    return larger(x, splat_two(0.0) - x)


@inner
def _bend(x, roots, last, count, level, rest, out):
    """The curve, averaged, of pairs: x and roots (count + 1 pairs) have the sample before in front."""
    store(x, 0, last)
    one, levels, rests = splat_four(1.0), twice(level), twice(rest)
    for k in range(0, 2 * (count + 1), 4):
        v = load_four(x, k)
        store(roots, k, root(one + v * v))
    for k in range(0, 2 * count, 4):
        average = (load_four(x, k + 2) + load_four(x, k)) / (load_four(roots, k + 2) + load_four(roots, k))
        store(out, k, levels * (average - rests))


@inner
def _stage(buffer, frames, factor, c, k, follower, upper, lower, spare, roots, flush):
    """One gain stage over the pairs in buffer (frames * factor) in place. Of c, from k on: high-pass and low-pass shares,
    gain, bias, shift, level; follower: shares of smoothing, rise and fall; upper and lower: low of the high-pass,
    low-pass, last x, nothing, smoothed excess, shift now, shift before, how much of the curve is used."""
    high, low, gain = load_two(c, k), load_two(c, k + 2), load_two(c, k + 4)
    bias, shift, level = load_two(c, k + 6), load_two(c, k + 8), load_two(c, k + 10)
    base, lp = both(upper[0], lower[0]), both(upper[1], lower[1])
    smooth, now = both(upper[4], lower[4]), both(upper[5], lower[5])
    before, used = both(upper[6], lower[6]), both(upper[7], lower[7])
    smoothing, rises, falls = load_two(follower, 0), load_two(follower, 2), load_two(follower, 4)
    one, nothing, fades = splat_two(1.0), splat_two(0.0), splat_two(0.9997)
    step = splat_two(1.0 / factor)
    keep, keep_low = one - high, one - low
    x, at = nothing, 0
    for _frame in range(frames):
        excess = nothing
        ramp = (now - before) * step
        moved = bias - before
        for _ in range(factor):
            v = load_two(buffer, at)
            base = fma(keep, base, high * v)
            lp = fma(keep_low, lp, low * (v - base))
            moved = moved - ramp
            x = fma(gain, lp, moved)
            at += 2
            store(spare, at, x)
            excess = excess + larger(x - one, nothing)
        smooth = smooth + smoothing * (excess * step - smooth)
        before = now
        target = shift * smooth
        now = now + where_larger(target, now, rises, falls) * (target - now)
        used = larger(used * fades, _size(x))
    last = both(upper[2], lower[2])
    # What rests at the bias comes out as nothing.
    _bend(spare, roots, last, at // 2, level, bias / root(one + bias * bias), buffer)
    _keep(base, roots, 0, upper, lower, flush)
    _keep(lp, roots, 1, upper, lower, flush)
    _keep(x, roots, 2, upper, lower, flush)
    _keep(smooth, roots, 4, upper, lower, flush)
    _keep(now, roots, 5, upper, lower, flush)
    _keep(before, roots, 6, upper, lower, flush)
    _keep(used, roots, 7, upper, lower, False)


@inner
def _network(buffer, count, c, makeup, upper, lower, roots, flush):
    """The tone network over pairs, transposed direct form II; c (2, 4) of pairs, upper and lower (3,)."""
    gain, nothing = load_two(makeup, 0), splat_two(0.0)
    b0, b1, b2, b3 = load_two(c, 0), load_two(c, 2), load_two(c, 4), load_two(c, 6)
    a1, a2, a3 = nothing - load_two(c, 10), nothing - load_two(c, 12), nothing - load_two(c, 14)
    z1, z2, z3 = both(upper[0], lower[0]), both(upper[1], lower[1]), both(upper[2], lower[2])
    for k in range(0, 2 * count, 2):
        x = gain * load_two(buffer, k)
        y = fma(b0, x, z1)
        z1 = fma(b1, x, fma(a1, y, z2))
        z2 = fma(b2, x, fma(a2, y, z3))
        z3 = fma(b3, x, a3 * y)
        store(buffer, k, y)
    _keep(z1, roots, 0, upper, lower, flush)
    _keep(z2, roots, 1, upper, lower, flush)
    _keep(z3, roots, 2, upper, lower, flush)


@inner
def _power(buffer, frames, factor, c, follower, upper, lower, spare, roots, droops, flush):
    """The power stage over pairs. c: presence and its share, share of the low-pass, gain, sag, share of the high-pass
    behind it, level; upper and lower: low of the presence, low-pass, last x, nothing, smoothed load, droop now and
    before, two of the high-pass, how much of the curve is used."""
    presence, p_share, low, gain = load_two(c, 0), load_two(c, 2), load_two(c, 4), load_two(c, 6)
    sag, high, level = load_two(c, 8), load_two(c, 10), load_two(c, 12)
    p_low, lp = both(upper[0], lower[0]), both(upper[1], lower[1])
    smooth, now, before = both(upper[4], lower[4]), both(upper[5], lower[5]), both(upper[6], lower[6])
    first, second, used = both(upper[7], lower[7]), both(upper[8], lower[8]), both(upper[9], lower[9])
    smoothing, rises, falls = load_two(follower, 0), load_two(follower, 2), load_two(follower, 4)
    one, nothing, fades = splat_two(1.0), splat_two(0.0), splat_two(0.9997)
    step = splat_two(1.0 / factor)
    p_keep, keep, keep_high = one - p_share, one - low, one - high
    x, at = nothing, 0
    for i in range(frames):
        load = nothing
        store(droops, 2 * i, before)
        scale = one / (one - before)
        turn = (one / (one - now) - scale) * step
        for _ in range(factor):
            lp = fma(keep, lp, low * load_two(buffer, at))
            scale = scale + turn
            u = gain * lp
            x = scale * u
            at += 2
            store(spare, at, x)
            # Of what is asked for, whatever the supply gives: so its times are as they are said.
            load = load + smaller(u * u, one)
        smooth = smooth + smoothing * (load * step - smooth)
        before = now
        target = sag * smooth
        now = now + where_larger(target, now, rises, falls) * (target - now)
        used = larger(used * fades, _size(x))
    store(droops, 2 * frames, before)
    _bend(spare, roots, both(upper[2], lower[2]), at // 2, level, nothing, buffer)
    at = 0
    for i in range(frames):
        ramp = (load_two(droops, 2 * i + 2) - load_two(droops, 2 * i)) * step
        supply = one - load_two(droops, 2 * i)
        for _ in range(factor):
            supply = supply - ramp
            y = supply * load_two(buffer, at)
            p_low = fma(p_keep, p_low, p_share * y)
            y = fma(presence, y - p_low, y)
            first = fma(keep_high, first, high * y)
            y = y - first
            second = fma(keep_high, second, high * y)
            store(buffer, at, y - second)
            at += 2
    _keep(p_low, roots, 0, upper, lower, flush)
    _keep(lp, roots, 1, upper, lower, flush)
    _keep(x, roots, 2, upper, lower, flush)
    _keep(smooth, roots, 4, upper, lower, flush)
    _keep(now, roots, 5, upper, lower, flush)
    _keep(before, roots, 6, upper, lower, flush)
    _keep(first, roots, 7, upper, lower, flush)
    _keep(second, roots, 8, upper, lower, flush)
    _keep(used, roots, 9, upper, lower, False)


@inlined
def _spread(parts, signal, buffer, lane, factor):
    """A signal at the fast rate into one lane of the pairs in buffer."""
    rise(signal, parts)
    fast = parts[3]
    for i in range(signal.shape[0]):
        for q in range(factor):
            buffer[2 * (i * factor + q) + lane] = fast[q, LEAD + i]


@inlined
def _gather(parts, buffer, lane, factor, signal):
    """One lane of the pairs in buffer back to the rate of the signal."""
    slow = parts[0]
    for i in range(signal.shape[0]):
        for q in range(factor):
            slow[q, LEAD + i] = buffer[2 * (i * factor + q) + lane]
    fall(parts, signal)


@inner
def _stages(first, last, buffer, frames, factor, designs, where, states, rooms, flush):
    """Gain stages from the first to before the last one, with the network where it stands."""
    stages, shift, network, makeup, _, _ = designs
    upper, lower = states
    spare, roots, _ = rooms
    for k in range(first, last):
        if k == where:
            _network(
                buffer, frames * factor, network, makeup, upper[STAGES + 1], lower[STAGES + 1], roots, flush
            )
        _stage(buffer, frames, factor, stages, 12 * k, shift, upper[k], lower[k], spare, roots, flush)


@inlined
def _front(buffer, one, two, ups, last, designs, where, states, alone, rooms, flush):
    """Two signals (frames,) at the fast rate, through the gain stages before the last one, into pairs in buffer."""
    frames, factor = one.shape[0], ups[0][3].shape[0]
    _spread(ups[0], one, buffer, 0, factor)
    if alone:
        for i in range(0, 2 * frames * factor, 2):
            buffer[i + 1] = buffer[i]
    else:
        _spread(ups[1], two, buffer, 1, factor)
    _stages(0, last, buffer, frames, factor, designs, where, states, rooms, flush)


@inlined
def _back(buffer, one, two, downs, first, designs, where, states, alone, rooms, flush):
    """The rest, from pairs in buffer into two signals (frames,)."""
    stages, _, network, makeup, power, sag = designs
    upper, lower = states
    spare, roots, droops = rooms
    frames, factor, count = one.shape[0], downs[0][0].shape[0], stages.shape[0]
    _stages(first, count, buffer, frames, factor, designs, where, states, rooms, flush)
    if where == count:
        _network(buffer, frames * factor, network, makeup, upper[STAGES + 1], lower[STAGES + 1], roots, flush)
    _power(buffer, frames, factor, power, sag, upper[STAGES], lower[STAGES], spare, roots, droops, flush)
    _gather(downs[0], buffer, 0, factor, one)
    if not alone:
        _gather(downs[1], buffer, 1, factor, two)


@kernel
def _amplify(signals, clock, part, fast, ups, downs, middle, designs, where, states, alone, rooms):
    """All of two signals in place, in pieces that end on a grid of the clock; `alone` where both are the same. Of part
    0 or 1 only what is before, or behind, gain stage `middle`, by way of `fast` (2 frames factor,); of 2 all.
    """
    one, two = signals
    factor = ups[0][3].shape[0]
    done = 0
    while done < one.shape[0]:
        frames = lesser(one.shape[0] - done, PIECE - (clock + done) % PIECE)
        flush = (clock + done + frames) % PIECE == 0
        first, second = one[done : done + frames], two[done : done + frames]
        start = 0 if part == 2 else 2 * done * factor
        buffer = fast[start : start + 2 * frames * factor]
        if part != 1:
            _front(buffer, first, second, ups, middle, designs, where, states, alone, rooms, flush)
        if part != 0:
            _back(buffer, first, second, downs, middle, designs, where, states, alone, rooms, flush)
        done += frames


def _share(hz: float, rate: float) -> float:
    """Share of what is new in a one-pole low-pass."""
    return -math.expm1(-2.0 * math.pi * min(hz, 0.45 * rate) / rate)


class Settings:
    """A design at a rate, `factor` times as fast inside."""

    def __init__(self, design: Design, rate: float, factor: int) -> None:
        fast = rate * factor

        def follower(times: tuple[float, float]) -> np.ndarray:
            return np.array([-math.expm1(-1.0 / (s * rate)) for s in (SMOOTH_S, *times)])

        self.factor = factor
        rows = [(_share(h, fast), _share(low, fast), *rest) for h, low, *rest in design.stages.tolist()]
        self.count = len(rows)
        self.network_at = design.network_at
        self.rest = design.stages[:, 3]
        power = (
            design.presence,
            _share(design.presence_hz, fast),
            _share(design.power_hz, fast),
            design.power_gain,
            design.sag,
            _share(design.transformer_hz, fast),
            design.level,
        )
        self.parts = (
            np.array(rows),
            follower(design.shift_s),
            design.network,
            np.array([design.makeup]),
            np.array(power),
            follower(design.sag_s),
        )

    @property
    def shape(self) -> tuple[int, int, int]:
        """Two legs with the same one can be amplified at once."""
        return self.factor, self.count, self.network_at


class Pair:
    """The settings of two legs of the same shape, or of one twice, as the kernel takes them."""

    def __init__(self, upper: Settings, lower: Settings) -> None:
        self.factor = upper.factor
        self.network_at = upper.network_at
        self.parts = tuple(
            np.ascontiguousarray(np.stack(two, axis=-1)) for two in zip(upper.parts, lower.parts, strict=True)
        )


class Amplifier:
    """One leg at work, LATE samples late."""

    def __init__(self, settings: Settings) -> None:
        self.up, self.down = Up(settings.factor), Down(settings.factor)
        self.states = np.zeros((STAGES + 2, 10))
        self._count = settings.count
        self.states[: settings.count, 2] = settings.rest

    @property
    def used(self) -> np.ndarray:
        """How far (count + 1,) each gain stage and the power stage were driven lately; 1 is the knee."""
        return np.append(self.states[: self._count, 7], self.states[STAGES, 9])


def amplify(
    amplifiers: tuple[Amplifier, Amplifier],
    signals: tuple[np.ndarray, np.ndarray],
    clock: int,
    settings: Pair,
) -> None:
    """Amplify two signals (frames,) in place, whose first samples are at the clock: those of two legs, or one twice.

    Of a long one the second half of an amplifier works on what has left the first, where another thread has time.
    """
    upper, lower = amplifiers
    frames, factor = len(signals[0]), settings.factor
    count = len(settings.parts[0])

    def work(part: int, start: int, stop: int, fast: np.ndarray) -> None:
        many = 2 * PIECE * factor
        rooms = np.empty(many + 4), np.empty(many + 4), np.empty(2 * PIECE + 2)
        _amplify(
            (signals[0][start:stop], signals[1][start:stop]), clock + start, part, fast,
            (upper.up.parts, lower.up.parts), (upper.down.parts, lower.down.parts), (count + 3) // 2,
            settings.parts, settings.network_at, (upper.states, lower.states), upper is lower, rooms,
        )  # fmt: skip

    if frames < LONG:
        work(2, 0, frames, np.empty(2 * PIECE * factor))
        return
    rooms = [np.empty(2 * CHUNK * factor) for _ in range(2)]

    def half(part: int, k: int) -> None:
        work(part, k * CHUNK, min(frames, (k + 1) * CHUNK), rooms[k % 2])

    handed_on(partial(half, 0), partial(half, 1), -(-frames // CHUNK))
