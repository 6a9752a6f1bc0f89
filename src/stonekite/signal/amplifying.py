"""An amplifier at many times the rate: valve-like gain stages with filters between, a tone network, a power stage.

Each gain stage: a coupling high-pass, a low-pass, gain, a bias, and the curve x / sqrt(1 + x^2), taken as its average
over the straight line from the sample before (antiderivative antialiasing of first order: Parker, Zavalishin and Le
Bivic, DAFx 2016). For this curve the average is (x0 + x1) / (sqrt(1 + x0^2) + sqrt(1 + x1^2)): nothing is divided by a
difference. The low-pass of each stage, as the capacitance of a valve makes one, keeps what the next stage bends smooth.

What goes above the curve's knee charges the coupling capacitor of the stage: its bias shifts, quickly there and slowly
back, by a follower with a rise and a recovery time. The supply of the power stage sags by such a follower, too, and
scales its curve: y = s f(x / s). Both followers step once in a sample of the original rate, and what they say is
ramped over the next one.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit

from stonekite.signal.fused import fused
from stonekite.signal.oversampling import LATENCY, LEAD, Down, Up, fall, rise

STAGES = 4
"""Gain stages before the power stage, at the most."""
LATE = LATENCY
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


@njit(cache=True, nogil=True, error_model="numpy")
def _flush(state, count):
    """Silence must not become numbers that are slow to compute with."""
    for k in range(count):
        if abs(state[k]) < _TINY:
            state[k] = 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _bend(x, roots, last, count, level, rest, out):
    """The curve, averaged: x and roots (count + 1,) have the sample before in front."""
    x[0] = last
    for k in range(count + 1):
        roots[k] = math.sqrt(1.0 + x[k] * x[k])
    for k in range(count):
        out[k] = level * ((x[k + 1] + x[k]) / (roots[k + 1] + roots[k]) - rest)


@njit(cache=True, nogil=True, error_model="numpy")
def _stage(buffer, frames, factor, c, follower, state, spare, roots, flush):
    """One gain stage over buffer (frames * factor,) in place. c: high-pass and low-pass shares, gain, bias, shift, level;
    follower: shares of smoothing, rise and fall; state: low of the high-pass, low-pass, last x, nothing, smoothed
    excess, shift now, shift before, how much of the curve is used."""
    high, low, gain, bias, shift, level = c[0], c[1], c[2], c[3], c[4], c[5]
    base, lp = state[0], state[1]
    smooth, now, before, used = state[4], state[5], state[6], state[7]
    step = 1.0 / factor
    keep, keep_low = 1.0 - high, 1.0 - low
    at = 0
    for _frame in range(frames):
        excess = 0.0
        ramp = (now - before) * step
        moved = bias - before
        for _ in range(factor):
            v = buffer[at]
            base = fused(keep, base, high * v)
            lp = fused(keep_low, lp, low * (v - base))
            moved -= ramp
            x = fused(gain, lp, moved)
            at += 1
            spare[at] = x
            over = x - 1.0
            excess += max(over, 0.0)
        smooth += follower[0] * (excess * step - smooth)
        before = now
        target = shift * smooth
        now += (follower[1] if target > now else follower[2]) * (target - now)
        used = max(used * 0.9997, abs(spare[at]))
    # What rests at the bias comes out as nothing.
    _bend(spare, roots, state[2], at, level, bias / math.sqrt(1.0 + bias * bias), buffer)
    state[0], state[1], state[2] = base, lp, spare[at]
    state[4], state[5], state[6], state[7] = smooth, now, before, used
    if flush:
        _flush(state, 7)


@njit(cache=True, nogil=True, error_model="numpy")
def _network(buffer, count, c, makeup, state, flush):
    """The tone network, transposed direct form II; c (2, 4), state (3,)."""
    b0, b1, b2, b3 = c[0, 0], c[0, 1], c[0, 2], c[0, 3]
    a1, a2, a3 = c[1, 1], c[1, 2], c[1, 3]
    z1, z2, z3 = state[0], state[1], state[2]
    for k in range(count):
        x = makeup * buffer[k]
        y = fused(b0, x, z1)
        z1 = fused(b1, x, fused(-a1, y, z2))
        z2 = fused(b2, x, fused(-a2, y, z3))
        z3 = fused(b3, x, -a3 * y)
        buffer[k] = y
    state[0], state[1], state[2] = z1, z2, z3
    if flush:
        _flush(state, 3)


@njit(cache=True, nogil=True, error_model="numpy")
def _power(buffer, frames, factor, c, follower, state, spare, roots, droops, flush):
    """The power stage. c: presence and its share, share of the low-pass, gain, sag, share of the high-pass behind it,
    level; state: low of the presence, low-pass, last x, nothing, smoothed load, droop now and before, two of the
    high-pass, how much of the curve is used."""
    presence, p_share, low, gain, sag, high = c[0], c[1], c[2], c[3], c[4], c[5]
    level = c[6]
    p_low, lp = state[0], state[1]
    smooth, now, before, one, two, used = state[4], state[5], state[6], state[7], state[8], state[9]
    step = 1.0 / factor
    p_keep, keep, keep_high = 1.0 - p_share, 1.0 - low, 1.0 - high
    at = 0
    for i in range(frames):
        load = 0.0
        droops[i] = before
        scale = 1.0 / (1.0 - before)
        turn = (1.0 / (1.0 - now) - scale) * step
        for _ in range(factor):
            lp = fused(keep, lp, low * buffer[at])
            scale += turn
            u = gain * lp
            at += 1
            spare[at] = scale * u
            load += min(
                u * u, 1.0
            )  # of what is asked for, whatever the supply gives: so its times are as they are said
        smooth += follower[0] * (load * step - smooth)
        before = now
        target = sag * smooth
        now += (follower[1] if target > now else follower[2]) * (target - now)
        used = max(used * 0.9997, abs(spare[at]))
    droops[frames] = before
    _bend(spare, roots, state[2], at, level, 0.0, buffer)
    state[2] = spare[at]
    at = 0
    for i in range(frames):
        ramp = (droops[i + 1] - droops[i]) * step
        supply = 1.0 - droops[i]
        for _ in range(factor):
            supply -= ramp
            y = supply * buffer[at]
            p_low = fused(p_keep, p_low, p_share * y)
            y = fused(presence, y - p_low, y)
            one = fused(keep_high, one, high * y)
            y -= one
            two = fused(keep_high, two, high * y)
            buffer[at] = y - two
            at += 1
    state[0], state[1] = p_low, lp
    state[4], state[5], state[6], state[7], state[8], state[9] = smooth, now, before, one, two, used
    if flush:
        _flush(state, 9)


@njit(cache=True, nogil=True, error_model="numpy")
def _amplify(signal, clock, up, down, stages, shift, network, where, power, sag, states, rooms):
    """All of a signal in place, in pieces that end on a grid of the clock."""
    fast, slow = up[3], down[0]
    factor = fast.shape[0]
    buffer, spare, roots, droops = rooms
    done = 0
    while done < signal.shape[0]:
        frames = min(signal.shape[0] - done, PIECE - (clock + done) % PIECE)
        flush = (clock + done + frames) % PIECE == 0
        piece = signal[done : done + frames]
        rise(piece, up)
        for i in range(frames):
            for q in range(factor):
                buffer[i * factor + q] = fast[q, LEAD + i]
        for k in range(stages.shape[0]):
            if k == where[0]:
                _network(buffer, frames * factor, network, where[1], states[STAGES + 1], flush)
            _stage(buffer, frames, factor, stages[k], shift, states[k], spare, roots, flush)
        if where[0] == stages.shape[0]:
            _network(buffer, frames * factor, network, where[1], states[STAGES + 1], flush)
        _power(buffer, frames, factor, power, sag, states[STAGES], spare, roots, droops, flush)
        for i in range(frames):
            for q in range(factor):
                slow[q, LEAD + i] = buffer[i * factor + q]
        fall(down, piece)
        done += frames


def _share(hz: float, rate: float) -> float:
    """Share of what is new in a one-pole low-pass."""
    return -math.expm1(-2.0 * math.pi * min(hz, 0.45 * rate) / rate)


class Settings:
    """A design at a rate, `factor` times as fast inside: all that the kernel needs."""

    def __init__(self, design: Design, rate: float, factor: int) -> None:
        fast = rate * factor

        def follower(times: tuple[float, float]) -> np.ndarray:
            return np.array([-math.expm1(-1.0 / (s * rate)) for s in (SMOOTH_S, *times)])

        self.factor = factor
        rows = [(_share(h, fast), _share(low, fast), *rest) for h, low, *rest in design.stages.tolist()]
        self.stages = np.array(rows)
        self.shift, self.sag = follower(design.shift_s), follower(design.sag_s)
        self.network = design.network
        self.where = (design.network_at, design.makeup)
        self.power = np.array(
            [
                design.presence,
                _share(design.presence_hz, fast),
                _share(design.power_hz, fast),
                design.power_gain,
                design.sag,
                _share(design.transformer_hz, fast),
                design.level,
            ]
        )


class Amplifier:
    """One leg at work, LATE samples late."""

    def __init__(self, settings: Settings) -> None:
        self._up, self._down = Up(settings.factor), Down(settings.factor)
        self.states = np.zeros((STAGES + 2, 10))
        self._count = len(settings.stages)
        self.states[: len(settings.stages), 2] = settings.stages[:, 3]

    def process(self, signal: np.ndarray, clock: int, settings: Settings) -> None:
        """Amplify signal (frames,) in place, whose first sample is at the clock."""
        factor = settings.factor
        many = PIECE * factor
        rooms = np.empty(many), np.empty(many + 1), np.empty(many + 1), np.empty(PIECE + 1)
        _amplify(
            signal, clock, self._up.parts, self._down.parts, settings.stages, settings.shift, settings.network,
            settings.where, settings.power, settings.sag, self.states, rooms,
        )  # fmt: skip

    @property
    def used(self) -> np.ndarray:
        """How far (count + 1,) each gain stage and the power stage were driven lately; 1 is the knee."""
        return np.append(self.states[: self._count, 7], self.states[STAGES, 9])
