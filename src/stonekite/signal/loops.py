"""What becomes of sound in two loops that feed each other: whether it grows, how fast it falls, which echoes there are.

The gains of one turn are matrices (2, 2, n): to a leg from a leg, at n frequencies. For delays that have nothing to do
with each other the phases of all ways round line up sooner or later; the loops then grow as the matrix of the magnitudes
does, whose greatest eigenvalue is real (O. Perron, "Zur Theorie der Matrices", Mathematische Annalen 64, 1907).
"""

from typing import NamedTuple

import numpy as np

FREQUENCIES = 129
"""At which an impulse is followed round the loops."""
FALLEN_DB = 60.0
MOST_ECHOES = 500
"""That are told."""
MOST_SUMS, MOST_GROWING = 24_000, 300
"""Echoes that are added up, of loops that fall and of others."""
GROWN = 1e8
"""Times as loud as the impulse: what grows is not followed any further."""
LONGEST_S = 120.0
MEETS_S = 1e-5
"""Echoes that are closer are one."""
TOP_HZ = 2000.0


def greatest(gains: np.ndarray) -> np.ndarray:
    """The greatest factor (n,) by which one turn can make sound louder, of gains (2, 2, n) of any phase."""
    a, b, c, d = np.abs(gains).reshape(4, -1)
    return 0.5 * (a + d) + np.sqrt(0.25 * (a - d) ** 2 + b * c)


def fall_rate(gains: np.ndarray, times: np.ndarray) -> np.ndarray:
    """How fast sound falls in the end (n,), as the exponent of e in a second: of gains (2, 2, n) of one turn, where the
    way round from leg k takes times[k] (2, n) seconds. Negative where it grows; no finite number where it ends at once.
    """
    size = np.abs(gains)
    low, high = np.full(size.shape[2], -50.0), np.full(size.shape[2], 1.0)

    def short(rate: np.ndarray) -> np.ndarray:
        return greatest(size * np.exp(np.minimum(rate * times, 300.0))[None, :, :]) < 1.0

    for _ in range(14):
        high = np.where(short(high), 2.0 * high, high)
    endless = short(high)
    for _ in range(46):
        middle = 0.5 * (low + high)
        less = short(middle)
        low, high = np.where(less, middle, low), np.where(less, high, middle)
    return np.where(endless, np.inf, low)


class Echo(NamedTuple):
    """One echo: its time in seconds, its leg (0 or 1), its level in dB of the impulse, and how much of its top it has
    kept, 0 to 1."""

    seconds: float
    leg: int
    level_db: float
    bright: float


class Course(NamedTuple):
    """The echoes of an impulse in the order of their times, and in how many seconds what is still to come (ISO 3382's
    backward sum of the squares) falls by 60 dB, by its slope; None if they do not fall."""

    echoes: list[Echo]
    falls_s: float | None


def frequencies(rate: float) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies in Hz at which an impulse is followed, and the share of its power that each stands for."""
    edges = np.geomspace(10.0, 0.5 * rate, FREQUENCIES + 1)
    return np.sqrt(edges[1:] * edges[:-1]), np.diff(edges) / (edges[-1] - edges[0])


def course(
    through: np.ndarray,
    gains: np.ndarray,
    fed: np.ndarray,
    times: np.ndarray,
    levels: np.ndarray,
    rate: float,
    slowest_s: float,
) -> Course:
    """The echoes that an impulse in both legs leaves.

    `through` (2, n) is what stands in each loop, to what comes back from what went in, at `frequencies`; `gains` (2, 2)
    from what comes back to what goes in; `fed` (2,) the impulse; `times` (2,) the ways round in seconds; `levels` (2,)
    those of the echoes, as gains. `slowest_s` is how long what falls slowest takes to fall by e, infinite if it does not.

    Whatever the order of its turns, an echo of a turns of the upper loop and b of the lower comes at a T + b U, and has
    gone through what stands there so many times: so the echoes are a lattice of numbers, which add up before anything is
    said of frequencies. Where others fall on the same time, they are added with their phases.
    """
    hz, shares = frequencies(rate)
    horizon = 8.0 * slowest_s + 2.0 * float(times.max())
    coupled = bool(gains[0, 1] or gains[1, 0])
    # What does not fall, or falls too slowly to follow, is followed at its beginning.
    if np.isfinite(slowest_s):
        most = _within(times, coupled, min(horizon, LONGEST_S), MOST_SUMS)
    else:
        once = float(greatest(gains[:, :, None] * through[None, :, :]).max())
        grown = np.log(GROWN) / max(np.log(once), 1e-3) * float(times.min())
        most = _within(times, coupled, max(grown, float(times.max())), MOST_GROWING)
    sums = _lattice(gains, fed, times, most, coupled)
    sums = _met(sums, through, hz, shares)
    if not len(sums.at):
        return Course([], 0.0 if np.isfinite(slowest_s) else None)
    heard = sums.power * levels[sums.leg] ** 2 > 0.0
    bright = np.minimum(1.0, sums.top / np.maximum(sums.power, 1e-300))
    first = np.flatnonzero(heard)[:MOST_ECHOES]
    echoes = [
        Echo(float(sums.at[k]), int(sums.leg[k]), float(db), float(bright[k]))
        for k, db in zip(first, 10 * np.log10(sums.power[first] * levels[sums.leg[first]] ** 2), strict=True)
    ]
    if not np.isfinite(slowest_s):
        return Course(echoes, None)
    if most < horizon:
        return Course(echoes, FALLEN_DB / 20.0 * float(np.log(10.0)) * slowest_s)
    return Course(echoes, _fall(sums.at[heard], sums.power[heard]))


class _Sums(NamedTuple):
    """Echoes in the order of their times: times in seconds, legs, turns of the loops (2, n), their sums, and their powers
    over all frequencies and in the top, against that of the impulse."""

    at: np.ndarray
    leg: np.ndarray
    turns: np.ndarray
    sums: np.ndarray
    power: np.ndarray
    top: np.ndarray


def _within(times: np.ndarray, coupled: bool, seconds: float, count: int) -> float:
    """A time, so many seconds at the most, by which there are no more than about so many echoes."""
    if coupled:
        return min(seconds, float(np.sqrt(count * times[0] * times[1])))
    return min(seconds, count * float(times.min()))


def _lattice(gains: np.ndarray, fed: np.ndarray, times: np.ndarray, most: float, coupled: bool) -> _Sums:
    """All echoes up to a time, without what stands in the loops."""
    rows, columns = (int(most / t) + 1 for t in times)
    turns: list[np.ndarray] = []
    legs: list[np.ndarray] = []
    sums: list[np.ndarray] = []
    if not coupled:
        for row, count in enumerate((rows, columns)):
            passed = np.arange(1, count + 1)
            turns.append(np.stack([passed, 0 * passed] if row == 0 else [0 * passed, passed]))
            legs.append(np.full(count, row))
            sums.append(fed[row] * gains[row, row] ** (passed - 1.0))
    else:
        # What goes into the loops after so many turns of each, with an empty row and column before the first.
        wide = columns + 2
        went = np.zeros((2, (rows + 2) * wide))
        came = np.zeros_like(went)
        went[:, wide + 1] = fed
        for n in range(1, rows + columns + 1):
            low, high = max(0, n - columns), min(n, rows)
            here = slice((low + 1) * wide + n - low + 1, (high + 1) * wide + n - high + 2, wide - 1)
            upper = slice(here.start - wide, here.stop - wide, wide - 1)
            left = slice(here.start - 1, here.stop - 1, wide - 1)
            came[0, here], came[1, here] = went[0, upper], went[1, left]
            went[:, here] = gains @ came[:, here]
        for row in range(2):
            grid = came[row].reshape(rows + 2, wide)[1:, 1:]
            places = np.array(np.nonzero(grid))
            turns.append(places)
            legs.append(np.full(places.shape[1], row))
            sums.append(grid[places[0], places[1]])
    turn, leg, total = np.concatenate(turns, axis=1), np.concatenate(legs), np.concatenate(sums)
    at = times @ turn
    kept = np.flatnonzero((at <= most) & (total != 0.0))
    order = kept[np.lexsort((leg[kept], at[kept]))]
    nothing = np.zeros(len(order))
    return _Sums(at[order], leg[order], turn[:, order], total[order], nothing, nothing)


def _met(sums: _Sums, through: np.ndarray, hz: np.ndarray, shares: np.ndarray) -> _Sums:
    """With what stands in the loops, `through` (2, n): what is too soft to count is left out, and what meets at one time
    on one leg is one echo."""
    if not len(sums.at):
        return sums
    hz_top = hz > TOP_HZ
    counts = sums.turns.max(axis=1) + 1
    passed = [
        np.cumprod(np.vstack([np.ones(len(hz)), np.tile(through[k], (counts[k] - 1, 1))]), axis=0)
        for k in range(2)
    ]
    upper, lower = (np.abs(one) ** 2 for one in passed)
    power = ((upper * shares) @ lower.T)[tuple(sums.turns)] * sums.sums**2
    top = ((upper[:, hz_top] * shares[hz_top]) @ lower[:, hz_top].T)[tuple(sums.turns)] * sums.sums**2
    kept = np.flatnonzero(power > 1e-10 * power.max())
    at, leg, turns, total = sums.at[kept], sums.leg[kept], sums.turns[:, kept], sums.sums[kept]
    power, top = power[kept], top[kept]
    order = np.lexsort((at, leg))
    begins = np.flatnonzero(
        np.concatenate([[True], (np.diff(at[order]) > MEETS_S) | (np.diff(leg[order]) > 0)])
    )
    sizes = np.diff(np.concatenate([begins, [len(order)]]))
    if (many := np.flatnonzero(np.repeat(sizes > 1, sizes))).size:
        those = order[many]
        # Of very many a quarter of the frequencies says as much.
        some = slice(0, None, 1 if len(those) < 4000 else 4)
        weights = shares[some] * (shares.sum() / shares[some].sum())
        each = passed[0][turns[0, those], some] * passed[1][turns[1, those], some]
        each *= total[those, None]
        met = sizes[sizes > 1]
        whole = np.abs(np.add.reduceat(each, np.cumsum(met) - met, axis=0)) ** 2
        firsts = order[begins[sizes > 1]]
        power[firsts] = whole @ weights
        top[firsts] = whole[:, hz_top[some]] @ weights[hz_top[some]]
    one = np.sort(order[begins])
    top_share = shares[hz_top].sum()
    return _Sums(at[one], leg[one], turns[:, one], total[one], power[one], top[one] / top_share)


def _fall(times: np.ndarray, powers: np.ndarray) -> float:
    """How long a fall by FALLEN_DB takes, at the slope of what is still to come until it is so much less: of the line
    closest to it, in which each echo counts by the dB that are gone with it, so that even echoes give their own slope.
    """
    left = np.cumsum(powers[::-1])[::-1]
    if len(left) < 2:
        return 0.0
    before = 10 * np.log10(left / left[0])
    after = np.append(before[1:], -np.inf)
    last = int(np.flatnonzero(after <= -FALLEN_DB)[0]) + 1
    at, gone = times[:last], before[:last] - np.maximum(after[:last], -2.0 * FALLEN_DB)
    level = before[:last] - 0.5 * gone
    middle = np.average(at, weights=gone)
    spread = np.average((at - middle) ** 2, weights=gone)
    if not spread > 0.0:
        return 0.0
    return float(-FALLEN_DB * spread / np.average((at - middle) * level, weights=gone))
