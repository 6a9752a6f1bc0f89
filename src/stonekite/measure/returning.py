"""Which component of a stereo recording a mono recording is, and what happened to it elsewhere.

Both are looked at in short pieces: where a part was worked on, no delay and no gain make it fit any more, but the pieces
around it agree. In each piece the delay d and the gain g of every component c make the sum of (p - g c(t - d))^2 least
(Gauss and Newton's method, as in measure.matching); what most pieces agree in is what happened to the whole.
"""

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np

from stonekite.measure.matching import TAPS, Delayed
from stonekite.signal.matrix import COMPONENTS
from stonekite.words import Component

PIECE = 16384
"""Samples that are looked at at once."""
MARGIN = TAPS + 8
"""So many more of the stereo recording are wanted before and after them."""
_FITS_DB = -40.0
"""What is left of a piece that is as it went is less than this."""
_ALIKE_DB = -6.0
"""What is left of a piece that was worked on, but comes from there, is less than this."""
_ROUNDS = 5
_STEP = 1e-3
_LOUD = 1e-5
"""Of the power of the loudest piece: quieter ones tell nothing."""
_SAME_DB, _SAME_SAMPLES = 0.02, 0.02
"""Pieces that differ by less agree."""
_ORDER: tuple[Component, ...] = ("mid", "side", "left", "right")
_ROWS = {"left": (1.0, 0.0), "right": (0.0, 1.0), "mid": (0.5, 0.5), "side": (0.5, -0.5)}


class Piece(NamedTuple):
    """What was found in one piece: the delay of the best component, and for all, in the order of COMPONENTS, gain and
    what is left (of its power, 0 to 1). `power` is that of the piece."""

    samples: float
    gains: tuple[float, ...]
    left: tuple[float, ...]
    power: float


class Fit(NamedTuple):
    """What a part is: that component, late by `samples`, times `gain` (under 0: inverted).

    `throughout` tells that no piece is as it went: then delay and gain are the nearest ones, and only the first is worth
    something. `share` is how many of the pieces that are loud enough agree.
    """

    component: Component
    samples: float
    gain: float
    share: float
    throughout: bool


def coarse(stereo: np.ndarray, part: np.ndarray, lead: int = 0) -> tuple[int, float, Component]:
    """By how many samples `part` (frames,) is later than a component of `stereo` (2, frames), how sure that is (0 to 1,
    under a half it is not known), and of which one. The part begins `lead` samples after the other one.

    Confidence as in measure.matching: how the correlation stands out, of itself and with all frequencies alike.
    """
    if not part.any() or not stereo.any():
        return 0, 0.0, "mid"
    size = 1 << (stereo.shape[1] + len(part) - 1).bit_length()
    sides, other = np.fft.rfft(stereo, size, axis=1), np.fft.rfft(part, size)
    best, offset = -math.inf, 0
    named: Component = "mid"
    for name in _ORDER:
        a, b = _ROWS[name]
        spectrum = np.conj(a * sides[0] + b * sides[1]) * other
        magnitude = np.abs(spectrum)
        top = float(magnitude.max())
        if top <= 0.0:
            continue
        plain = np.fft.irfft(spectrum, size)
        place = int(np.argmax(np.abs(plain)))
        here = place if place < len(part) else place - size
        start, stop = max(0, here), min(stereo.shape[1] + here, len(part))
        alike = 0.0
        if stop - start >= 4096:
            mine = stereo[:, start - here : stop - here]
            mine = a * mine[0] + b * mine[1]
            powers = float(np.dot(mine, mine)) * float(np.dot(part[start:stop], part[start:stop]))
            alike = abs(float(plain[place])) / max(math.sqrt(powers), 1e-300)
        # Frequencies at which there is next to nothing would count as much as all others.
        even = np.fft.irfft(
            np.where(magnitude > 1e-7 * top, spectrum / np.maximum(magnitude, 1e-300), 0.0), size
        )
        peak = int(np.argmax(np.abs(even)))
        near = float(np.abs(even[peak]))
        stands_out = near / max(math.sqrt(float(np.mean(even**2))), 1e-300)
        there = peak if peak < len(part) else peak - size
        for found, sure in ((here, (alike - 0.55) / 0.35), (there, (stands_out - 8.0) / 16.0)):
            if sure > best:
                best, offset, named = sure, found + lead, name
    return offset, max(0.0, min(1.0, best)), named


def looked_at(stereo: np.ndarray, part: np.ndarray, start: float, share: float = 1.0) -> Piece | None:
    """Fit one piece: `part` (PIECE + 2 MARGIN,), and `stereo` as long, which would be in time if the delay were 0;
    `start` is where the delay is looked for, within a sample. `share` is the part of the band that both can have. None
    if one of them is silent.
    """
    wanted = Delayed(part[None], MARGIN, PIECE, 0, share)
    target = wanted.through(wanted.taps(0.0))[0]
    power = float(np.dot(target, target))
    if power <= 0.0 or not stereo.any():
        return None
    whole = round(start)
    sides = Delayed(stereo, MARGIN, PIECE, whole, share)
    samples, best = start, 0
    gains: list[float] = []
    left: list[float] = []
    for turn in range(_ROUNDS + 1):
        samples = float(np.clip(samples, whole - 1.0, whole + 1.0))
        now = sides.through(sides.taps(samples))
        slope = sides.through((sides.taps(samples + _STEP) - sides.taps(samples - _STEP)) / (2 * _STEP))
        gains, left, moves = [], [], []
        for name in COMPONENTS:
            a, b = _ROWS[name]
            one, rate = a * now[0] + b * now[1], a * slope[0] + b * slope[1]
            gain, move, rest = _least(one, rate, target, power)
            gains.append(gain)
            left.append(rest)
            moves.append(move)
        best = int(np.argmin(left))
        if turn == _ROUNDS or abs(moves[best]) < 1e-5:
            break
        samples += float(np.clip(moves[best], -0.5, 0.5))
    return Piece(samples, tuple(gains), tuple(left), power)


def _least(one: np.ndarray, rate: np.ndarray, target: np.ndarray, power: float) -> tuple[float, float, float]:
    """Gain of one, by how much later it has to be, and what is left with this gain alone."""
    own = float(np.dot(one, one))
    if own <= 1e-20 * power or own <= 1e-280:
        return 0.0, 0.0, 1.0
    first = float(np.dot(one, target))
    gain = first / own
    rest = target - gain * one
    cross, steep = float(np.dot(one, rate)), float(np.dot(rate, rate))
    area = own * steep - cross * cross
    move = 0.0
    if area > 1e-12 * own * steep and gain:
        second = float(np.dot(rate, target))
        straight = (steep * first - cross * second) / area
        if straight:
            move = (own * second - cross * first) / area / straight
    return gain, move, float(np.dot(rest, rest)) / power


def agreed(pieces: Iterable[Piece | None], likely: Sequence[Component] = ()) -> Fit | None:
    """What most pieces agree in; None if nothing fits anywhere. Of components that fit alike, as all do in a recording
    whose sides are the same, the first of `likely` is taken.
    """
    known = [piece for piece in pieces if piece is not None]
    top = max((piece.power for piece in known), default=0.0)
    known = [piece for piece in known if piece.power > _LOUD * top]
    if not known:
        return None
    order: list[Component] = [*likely, *(name for name in _ORDER if name not in likely)]
    within = 10 ** (_FITS_DB / 10)
    votes = {name: sum(piece.left[COMPONENTS.index(name)] < within for piece in known) for name in COMPONENTS}
    most = max(votes.values())
    if not most:
        return _nearest(known, order)
    # What fits in fewer pieces only fits where the sides are the same.
    named = [name for name in order if votes[name] == most]
    sums = {name: sum(p.left[COMPONENTS.index(name)] for p in known) for name in named}
    least = min(sums.values())
    component: Component = next(name for name in named if sums[name] <= 4.0 * least + 1e-9)
    row = COMPONENTS.index(component)
    fitting = [piece for piece in known if piece.left[row] < within]
    places = np.array([piece.samples for piece in fitting])
    gains = np.array([piece.gains[row] for piece in fitting])
    levels = 20 * np.log10(np.maximum(np.abs(gains), 1e-30)) + np.where(gains < 0, 1000.0, 0.0)
    friends = (np.abs(places[:, None] - places) < _SAME_SAMPLES) & (
        np.abs(levels[:, None] - levels) < _SAME_DB
    )
    centre = int(np.argmax(friends.sum(axis=1)))
    chosen = friends[centre]
    # The better a piece fits, and the louder it is, the more it tells.
    weights = np.array([piece.power / max(piece.left[row], 1e-13) for piece in fitting])[chosen]
    samples = float(np.average(places[chosen], weights=weights))
    gain = float(np.average(gains[chosen], weights=weights))
    return Fit(component, samples, gain, float(chosen.sum()) / len(known), False)


def _nearest(known: list[Piece], order: list[Component]) -> Fit | None:
    """The component that is most like a part which was worked on from beginning to end."""
    sums = {name: sum(piece.power * piece.left[COMPONENTS.index(name)] for piece in known) for name in order}
    best: Component = min(order, key=lambda name: sums[name])
    row = COMPONENTS.index(best)
    likest = min(known, key=lambda piece: piece.left[row])
    if likest.left[row] > 10 ** (_ALIKE_DB / 10):
        return None
    return Fit(best, likest.samples, likest.gains[row], 0.0, True)
