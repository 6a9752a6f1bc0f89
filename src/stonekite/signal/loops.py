"""What becomes of sound in two loops that feed each other: whether it grows, how fast it falls, which echoes there are.

The gains of one turn are matrices (2, 2, n): to a leg from a leg, at n frequencies. For delays that have nothing to do
with each other the phases of all ways round line up sooner or later; the loops then grow as the matrix of the magnitudes
does, whose greatest eigenvalue is real (O. Perron, "Zur Theorie der Matrices", Mathematische Annalen 64, 1907).
"""

import heapq
from typing import NamedTuple

import numpy as np

FREQUENCIES = 129
"""At which an impulse is followed round the loops."""
FALLEN_DB = 60.0
MOST_ECHOES = 500
GROWN = 1e8
"""Times as much power as the impulse had: it grows, and is not followed any further."""


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
    """The echoes of an impulse in the order of their times, and how long it takes from the first one until what is left
    is 60 dB less; None if they do not fall."""

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

    `through` (2, 2, n) is what stands in the loops, to what comes back from what went in; `gains` (2, 2) from what comes
    back to what goes in; `fed` (2,) the impulse; `times` (2,) the ways round in seconds; `levels` (2,) those of the
    echoes, as gains. Where echoes fall together they are added with their phases. `slowest_s` is how long what falls
    slowest takes to fall by e: where there are too many echoes to follow, that is how all of them fall.
    """
    hz, shares = frequencies(rate)
    turned = np.exp(-2j * np.pi * hz[None, :] * times[:, None])
    top = hz > 2000.0
    top_share = shares[top].sum()
    waiting: list[tuple[int, int]] = []
    sounds: dict[tuple[int, int], np.ndarray] = {}

    def add(at: int, leg: int, sound: np.ndarray) -> None:
        if (at, leg) in sounds:
            sounds[at, leg] = sounds[at, leg] + sound
        else:
            sounds[at, leg] = sound
            heapq.heappush(waiting, (at, leg))

    grid = 1e-5  # s: what is closer is one echo
    steps = [max(1, round(t / grid)) for t in times]
    for leg in range(2):
        if fed[leg]:
            add(0, leg, np.full(len(hz), fed[leg], dtype=complex))
    energies: list[tuple[float, float]] = []
    echoes: list[Echo] = []
    loudest = 0.0
    exhausted = False
    while waiting:
        at, leg = heapq.heappop(waiting)
        sound = sounds.pop((at, leg)) * turned[leg]
        back = at + steps[leg]
        for row in range(2):
            came = through[row, leg] * sound
            power = float(np.sum(shares * np.abs(came) ** 2))
            if power <= 0.0:
                continue
            if power > GROWN:
                return Course(echoes, None)
            heard = power * levels[row] ** 2
            if heard > 0.0:
                energies.append((back * grid, power))
                bright = float(np.sum((shares * np.abs(came) ** 2)[top])) / power / top_share
                echoes.append(Echo(back * grid, row, 10 * np.log10(heard), min(1.0, bright)))
            loudest = max(loudest, power)
            if power < 1e-8 * loudest:
                continue
            for to in range(2):
                if gains[to, row]:
                    add(back, to, gains[to, row] * came)
        if len(echoes) > MOST_ECHOES:
            exhausted = True
            break
    if exhausted:
        return Course(echoes, FALLEN_DB / 20.0 * float(np.log(10.0)) * slowest_s)
    return Course(echoes, _fall(energies))


def _fall(energies: list[tuple[float, float]]) -> float:
    """How long it takes from the first echo until what is still to come is FALLEN_DB less than all, by ISO 3382's
    backward sum, in straight lines between the echoes."""
    if not energies:
        return 0.0
    merged: dict[float, float] = {}
    for at, power in energies:
        merged[at] = merged.get(at, 0.0) + power
    times = np.array(sorted(merged))
    powers = np.array([merged[t] for t in times])
    left = np.cumsum(powers[::-1])[::-1]
    curve = 10 * np.log10(left / left[0])
    down = np.flatnonzero(curve <= -FALLEN_DB)
    if not len(down):
        return float(times[-1] - times[0]) if len(times) > 1 else 0.0
    k = int(down[0])
    share = (-FALLEN_DB - curve[k - 1]) / (curve[k] - curve[k - 1])
    return float(times[k - 1] + share * (times[k] - times[k - 1]) - times[0])
