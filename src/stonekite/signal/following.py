"""Following the note of a leg, and its octave below.

The period is found as by A. de Cheveigne and H. Kawahara, "YIN, a fundamental frequency estimator for speech and music",
Journal of the Acoustical Society of America 111 (2002): the first lag at which the difference of the signal to itself,
against its mean over all shorter lags, has a dip below a threshold. It is looked for in the lows, at about 6 kHz.

The octave below is made of the note's own first partials: each is brought down to rest by a turning phase, smoothed,
and set turning again half as fast (as in a lock-in amplifier), so that it swells, fades and wavers as the partial does.
What the smoothing lets through of other partials lands on multiples of half the note's frequency, too. Where no note is
found it fades out.
"""

from math import cos, pi, sin

import numpy as np

from stonekite.signal.kernel import filled, greater, inner, kernel, lesser
from stonekite.signal.vectors.fused import fused

LOW_RATE = 6000.0
WINDOW, LONGEST = 192, 190
"""Samples at the low rate that are compared, and the longest period looked for."""
HOP = 48
"""Samples at the low rate between looks."""
_DIP, _STEADY, _LOOKS = 0.12, 0.06, 3
"""A dip is a note; notes of so many looks in a row have to agree so closely before they are followed."""
_QUIET = 1e-7
"""Mean square below which nothing is followed (-70 dBFS)."""
_SIZE = 512
_PARTIALS_ASKED, _LEAST_FIRST = 4, 10.0 ** (-22 / 10)
"""A note's first partial has at least so much of the power of the loudest of so many."""
_WINDOW_COS, _WINDOW_SIN = cos(2.0 * pi / _SIZE), sin(2.0 * pi / _SIZE)
_AT_ENDS, _AT_ENDS_ON = 0.005, 0.03
"""So far beyond the ends of the range, as a share, a note is still begun, and still followed."""

_FOUND, _RUN, _ON, _AMOUNT, _COS, _SIN, _TURN_COS, _TURN_SIN, _NOTE, _SMOOTH, _PARTS = range(4, 15)
"""Places in the state of a leg, behind the filter's memory: the partials at rest are the last, four numbers each."""
PARTIALS = 4
_STATE = 14 + 4 * PARTIALS
_NARROW = 5.0
"""A partial is smoothed over so many times the width of what is between two."""


def divider(rate: float) -> int:
    """By how much the rate is lowered."""
    return max(1, round(rate / LOW_RATE))


def late(rate: float) -> int:
    """Samples by which the leg is held back, so that a note is known when it comes out."""
    return divider(rate) * (WINDOW // 2 + (_LOOKS + 1) * HOP)


@inner
def _period(heard, shortest, longest, scratch):
    """Period in samples of the newest part of heard (_SIZE,), oldest first; 0.0 if there is none."""
    first = _SIZE - WINDOW - longest
    power = 0.0
    for j in range(first, _SIZE):
        power = fused(heard[j], heard[j], power)
    if power < _QUIET * (_SIZE - first):
        return 0.0
    total, found = 0.0, 0
    for lag in range(1, longest + 1):
        a = b = c = d = 0.0
        for j in range(first, first + WINDOW, 4):
            one, two = heard[j] - heard[j + lag], heard[j + 1] - heard[j + 1 + lag]
            three, four = heard[j + 2] - heard[j + 2 + lag], heard[j + 3] - heard[j + 3 + lag]
            a, b = fused(one, one, a), fused(two, two, b)
            c, d = fused(three, three, c), fused(four, four, d)
        apart = (a + b) + (c + d)
        total += apart
        scratch[lag] = apart * lag / (total + 1e-30)
        # Past the bottom of the first dip there is nothing more to look for.
        if lag > shortest and scratch[lag - 1] < _DIP and scratch[lag] > scratch[lag - 1]:
            found = lag - 1
            break
    lag = found
    if lag <= 1:
        return 0.0
    before, here, after = scratch[lag - 1], scratch[lag], scratch[lag + 1]
    bend = before - 2.0 * here + after
    return lag + (0.5 * (before - after) / bend if bend > 0.0 else 0.0)


@inner
def _sounds_itself(heard, turn):
    """Whether what repeats so fast (`turn` radians a sample) has a tone of that pitch: of a fifth or a chord, whose notes
    have a common fundamental, nothing sounds there."""
    square = turn * turn
    step_cosine = 1.0 - square * (0.5 - square * (1.0 / 24.0 - square * (1.0 / 720.0 - square / 40320.0)))
    step_sine = turn * (1.0 - square * (1.0 / 6.0 - square * (1.0 / 120.0 - square / 5040.0)))
    cosine, sine = step_cosine, step_sine
    first, most = 0.0, 0.0
    for k in range(_PARTIALS_ASKED):
        turned_cosine, turned_sine = 1.0, 0.0
        window_cosine, window_sine = 1.0, 0.0
        re, im = 0.0, 0.0
        for j in range(_SIZE):
            value = heard[j] * (0.5 - 0.5 * window_cosine)
            re = fused(value, turned_cosine, re)
            im = fused(value, turned_sine, im)
            turned_cosine, turned_sine = (
                fused(turned_cosine, cosine, -turned_sine * sine),
                fused(turned_cosine, sine, turned_sine * cosine),
            )
            window_cosine, window_sine = (
                fused(window_cosine, _WINDOW_COS, -window_sine * _WINDOW_SIN),
                fused(window_cosine, _WINDOW_SIN, window_sine * _WINDOW_COS),
            )
        power = re * re + im * im
        if k == 0:
            first = power
        most = greater(most, power)
        cosine, sine = (
            fused(cosine, step_cosine, -sine * step_sine),
            fused(cosine, step_sine, sine * step_cosine),
        )
    return first >= _LEAST_FIRST * most


@inner
def _look(heard, state, rate, divided, low_hz, high_hz, scratch):
    """Look for the note anew."""
    longest = lesser(LONGEST, int(divided / low_hz * (1.0 + _AT_ENDS_ON)) + 2)
    shortest = greater(2, int(divided / high_hz * (1.0 - _AT_ENDS_ON)) - 1)
    period = _period(heard, shortest, longest, scratch)
    hz = divided / period if period > 0.0 else 0.0
    # What is followed may go a little beyond the ends of the range: there it would come and go.
    beyond = _AT_ENDS_ON if state[_ON] > 0.0 else _AT_ENDS
    within = low_hz * (1.0 - beyond) <= hz <= high_hz * (1.0 + beyond)
    if not within or not _sounds_itself(heard, 2.0 * pi * hz / divided):
        state[_RUN], state[_ON] = 0.0, 0.0
        state[_FOUND] = 0.0
        return
    ratio = hz / state[_FOUND] if state[_FOUND] > 0.0 else 0.0
    near = 1.0 - _STEADY < ratio < 1.0 + _STEADY
    state[_RUN] = state[_RUN] + 1.0 if near else 1.0
    state[_FOUND] = hz
    if state[_RUN] < _LOOKS:
        return
    if state[_ON] == 0.0:
        state[_ON] = 1.0
        if state[_AMOUNT] == 0.0:
            state[_COS], state[_SIN] = 1.0, 0.0
            state[_NOTE] = hz
    step = hz - state[_NOTE]
    state[_NOTE] += step if abs(step) > 0.03 * hz else 0.35 * step
    angle = pi * state[_NOTE] / rate
    square = angle * angle
    state[_TURN_COS] = 1.0 - square * (0.5 - square * (1.0 / 24.0 - square / 720.0))
    state[_TURN_SIN] = angle * (1.0 - square * (1.0 / 6.0 - square * (1.0 / 120.0 - square / 5040.0)))
    width = 2.0 * angle / _NARROW * 2.0
    state[_SMOOTH] = width / (1.0 + width)
    length = state[_COS] * state[_COS] + state[_SIN] * state[_SIN]
    back = 1.5 - 0.5 * length
    state[_COS] *= back
    state[_SIN] *= back


@inner
def _turned_down(x, state):
    """One sample of the octave below: the partials of x, each turning half as fast."""
    cosine, sine = state[_COS], state[_SIN]
    double_cosine, double_sine = fused(cosine, cosine, -sine * sine), 2.0 * cosine * sine
    smooth = state[_SMOOTH]
    fast_cosine, fast_sine, slow_cosine, slow_sine = double_cosine, double_sine, cosine, sine
    total = 0.0
    for k in range(PARTIALS):
        at = _PARTS + 4 * k
        state[at] = fused(smooth, 2.0 * x * fast_cosine - state[at], state[at])
        state[at + 1] = fused(smooth, -2.0 * x * fast_sine - state[at + 1], state[at + 1])
        state[at + 2] = fused(smooth, state[at] - state[at + 2], state[at + 2])
        state[at + 3] = fused(smooth, state[at + 1] - state[at + 3], state[at + 3])
        total = fused(state[at + 2], slow_cosine, total)
        total = fused(-state[at + 3], slow_sine, total)
        fast_cosine, fast_sine = (
            fused(fast_cosine, double_cosine, -fast_sine * double_sine),
            fused(fast_cosine, double_sine, fast_sine * double_cosine),
        )
        slow_cosine, slow_sine = (
            fused(slow_cosine, cosine, -slow_sine * sine),
            fused(slow_cosine, sine, slow_sine * cosine),
        )
    return total


@kernel
def octave_below(
    delayed, heard, clock, rate, sections, low_hz, high_hz, rise, fall, state, past, scratch, out
):
    """The octave below a leg into out (frames,): from `delayed`, the leg held back by `late`, and `heard`, as it came.

    `sections` (2, 5) is the filter in front of the lower rate, `past` (_SIZE,) what was heard at it, oldest first.
    `rise` and `fall` are by how much the amount changes with each sample.
    """
    every = greater(1, int(np.floor(rate / LOW_RATE + 0.5)))
    divided = rate / every
    for i in range(heard.shape[0]):
        y = heard[i]
        for k in range(2):
            b0, b1, b2, a1, a2 = sections[k]
            z = fused(b0, y, state[2 * k])
            state[2 * k] = fused(-a1, z, fused(b1, y, state[2 * k + 1]))
            state[2 * k + 1] = fused(-a2, z, b2 * y)
            y = z
        place = clock + i
        if place % every == 0:
            for k in range(4):
                if abs(state[k]) < 1e-30:
                    state[k] = 0.0
            # The newest HOP stand at the end; they are moved on once, before they are looked at.
            step = (place // every) % HOP
            past[_SIZE - HOP + step] = y
            if step == HOP - 1:
                _look(past, state, rate, divided, low_hz, high_hz, scratch)
                for k in range(_SIZE - HOP):
                    past[k] = past[k + HOP]
        amount = state[_AMOUNT] + rise if state[_ON] > 0.0 else state[_AMOUNT] - fall
        amount = lesser(1.0, greater(0.0, amount))
        state[_AMOUNT] = amount
        if amount > 0.0:
            out[i] = amount * _turned_down(delayed[i], state)
            cosine = fused(state[_COS], state[_TURN_COS], -state[_SIN] * state[_TURN_SIN])
            state[_SIN] = fused(state[_SIN], state[_TURN_COS], state[_COS] * state[_TURN_SIN])
            state[_COS] = cosine
        else:
            out[i] = 0.0
            filled(0.0, state[_PARTS:])


def rest() -> tuple[np.ndarray, np.ndarray]:
    """The state of a leg in which nothing was heard, and the past at the lower rate."""
    state = np.zeros(_STATE)
    state[_COS] = state[_TURN_COS] = 1.0
    return state, np.zeros(_SIZE)


def scratch() -> np.ndarray:
    """Room for a look."""
    return np.zeros(LONGEST + 2)


def note_hz(state: np.ndarray) -> float:
    """The note that is followed, in Hz; 0 for none."""
    return float(state[_NOTE]) if state[_ON] > 0.0 else 0.0
