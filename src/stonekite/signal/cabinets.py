"""Loudspeakers in cabinets, as microphones hear them.

The cone is a disc whose points radiate into half a space (Rayleigh's integral; L. L. Kinsler, A. R. Frey, A. B. Coppens
and J. V. Sanders, Fundamentals of Acoustics, chapter 7): near field, distance, and what is lost beside the axis follow
from the paths. Above its break-up frequency the outer parts no longer move with the coil: high tones come from the
middle.
A closed box makes a high-pass of second order (R. H. Small, J. Audio Eng. Soc. 20, 1972). Of an open one the wave from
the back comes round, upside down. The floor gives the first reflection.

A microphone hears of every point the share a of the pressure and 1 - a of its gradient along its axis, which of a near
point is more at low frequencies, by 1 + 1 / (jkR) (H. F. Olson, Acoustical Engineering, chapter 8): the proximity effect.

What a cabinet's cone and a microphone's capsule do besides is drawn by a few resonances: numbers of our own.
"""

import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import soxr

SOUND = 343.0
"""Speed of sound in m/s."""
_FINE, _COARSE = (10, 7), (3, 4)
"""Rings and angles by which the cone in front of a microphone is told, and those that are further away."""
NEAR_S = 0.08
"""How long a cabinet rings in front of its microphones."""
_SHADED_HZ = 1000.0
REFERENCE_M = 0.1
"""At this distance in front of the middle of a cone it is as loud as what drives it, where no resonance is."""


class Resonance(NamedTuple):
    hz: float
    gain_db: float
    q: float


class Cabinet(NamedTuple):
    """Speakers of a radius in m at places (across, up) in m, the first of which the microphones stand before."""

    radius: float
    places: tuple[tuple[float, float], ...]
    open_back: bool
    depth: float
    """From the cone to the back, in m."""
    height: float
    """Of the first speaker over the floor, in m."""
    box_hz: float
    box_q: float
    break_up_hz: float
    top_hz: float
    """From here on nothing is left of the cone: a low-pass of fourth order."""
    resonances: tuple[Resonance, ...]


class Capsule(NamedTuple):
    """How much is pressure (1 omni, 0.5 cardioid, 0 figure of eight), its ends in Hz, and its resonances."""

    pressure: float
    low_hz: float
    high_hz: float
    resonances: tuple[Resonance, ...]


class Placed(NamedTuple):
    """Where a microphone stands: across from the middle of the cone and in front of it in m, turned by radians."""

    across: float
    distance: float
    angle: float


CAPSULES = {
    "dynamic": Capsule(0.5, 70.0, 14_000.0, (Resonance(5200.0, 5.0, 1.2), Resonance(250.0, -2.0, 0.8))),
    "ribbon": Capsule(0.0, 35.0, 11_000.0, (Resonance(3000.0, -1.5, 0.7),)),
    "condenser": Capsule(0.5, 30.0, 19_000.0, (Resonance(9500.0, 3.0, 1.0),)),
    "omni": Capsule(1.0, 15.0, 20_000.0, ()),
}


@lru_cache(maxsize=16)
def _points(radius: float, rings: int, angles: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Across, up (n,) and area (n,) of the points that stand for a disc; denser in the middle."""
    nodes, weights = np.polynomial.legendre.leggauss(rings)
    s, w = 0.5 * (nodes + 1.0), 0.5 * weights
    rho = radius * s * s  # d rho = 2 radius s ds
    area = 2.0 * np.pi * rho * 2.0 * radius * s * w / angles
    # Microphones stand at the height of the cone: what is above is heard as what is below, and half of it will do.
    phi = np.pi * (np.arange(angles) + 0.5) / angles
    across = (rho[:, None] * np.cos(phi)).ravel()
    up = (rho[:, None] * np.sin(phi)).ravel()
    return across, up, np.repeat(area, angles)


def _bell(resonances: tuple[Resonance, ...], hz: np.ndarray) -> np.ndarray:
    made = np.ones(len(hz), dtype=complex)
    for r in resonances:
        s, root = 1j * hz / r.hz, 10.0 ** (r.gain_db / 40.0)
        made = made * (s * s + s * root / r.q + 1.0) / (s * s + s / (root * r.q) + 1.0)
    return made


def _high(hz: np.ndarray, corner: float, q: float) -> np.ndarray:
    s = 1j * hz / corner
    made: np.ndarray = s * s / (s * s + s / q + 1.0)
    return made


def _low(hz: np.ndarray, corner: float) -> np.ndarray:
    """A low-pass of fourth order (Butterworth)."""
    s = 1j * hz / corner
    made: np.ndarray = 1.0 / ((s * s + 0.7654 * s + 1.0) * (s * s + 1.8478 * s + 1.0))
    return made


def _heard(
    hz: np.ndarray,
    sources: tuple[np.ndarray, np.ndarray, float],
    strengths: np.ndarray,
    placed: Placed,
    pressure: float,
) -> np.ndarray:
    """What a microphone hears (n,) of points at (across, up) and so far behind the front: strengths (n, points) or
    (points,) e^(-jkR) / R, by its pattern."""
    across, up, behind = sources
    x, y, z = placed.across - across, -up, placed.distance + behind
    paths = np.sqrt(x * x + y * y + z * z)
    k = 2.0 * np.pi * hz[:, None] / SOUND
    waves = strengths * np.exp(-1j * k * paths) / paths
    if pressure == 1.0:
        return np.asarray(waves.sum(axis=1))
    # Its axis looks at the front, turned by its angle in the plane of the plan.
    along = (x * math.sin(placed.angle) + z * math.cos(placed.angle)) / paths
    with np.errstate(divide="ignore"):
        near = 1.0 + 1.0 / (1j * np.maximum(k, 1e-3) * paths)
    return np.asarray((waves * (pressure + (1.0 - pressure) * along * near)).sum(axis=1))


def cone(cabinet: Cabinet, hz: np.ndarray) -> np.ndarray:
    """What the coil, the cone and the box do to all that is heard, at frequencies in Hz."""
    made = _bell(cabinet.resonances, hz) * _low(hz, cabinet.top_hz)
    return made * _high(hz, cabinet.box_hz, cabinet.box_q)


def _moving(cabinet: Cabinet, hz: np.ndarray, many: tuple[int, int]) -> np.ndarray:
    """How far every point of the disc moves (n, points): above the break-up the outer ones less and less, while what is
    left, and lighter, moves the more."""
    across, up, area = _points(cabinet.radius, *many)
    rho = np.sqrt(across * across + up * up)
    x = hz[:, None] / cabinet.break_up_hz * rho / cabinet.radius
    moving = 1.0 / (1.0 + x * x)
    left = moving @ area / area.sum()
    return np.asarray(moving / (left**0.8)[:, None])


def direct(cabinet: Cabinet, capsule: Capsule, placed: Placed, hz: np.ndarray) -> np.ndarray:
    """The complex response (n,) of a cabinet by a microphone in front of its first speaker, at frequencies in Hz: with
    the time that sound takes."""
    hz = np.asarray(hz, dtype=float)
    home = cabinet.places[0]
    total = np.zeros(len(hz), dtype=complex)
    near = math.hypot(placed.across, placed.distance) < 4.0 * cabinet.radius
    for place in cabinet.places:
        many = _FINE if near and place is home else _COARSE
        across, up, area = _points(cabinet.radius, *many)
        moving = _moving(cabinet, hz, many)
        x, y = place[0] - home[0], place[1] - home[1]
        heard = _heard(hz, (across + x, up + abs(y), 0.0), moving * area, placed, capsule.pressure)
        if place is not home:  # from aside, the rim and the depth of a cone shade its highs
            aside = math.hypot(x - placed.across, y) / math.hypot(x - placed.across, y, placed.distance)
            heard = heard / (1.0 + 1j * hz * aside / _SHADED_HZ) ** 2
        total += heard
    disc = area.sum()
    if cabinet.open_back:
        # The back's wave comes out of the opening, as from one point behind; the frame takes its highs.
        for place in cabinet.places:
            point = (np.array([place[0] - home[0]]), np.array([place[1] - home[1]]), cabinet.depth)
            back = _heard(hz, point, np.array([-0.75 * disc]), placed, capsule.pressure)
            total += back / (1.0 + 1j * hz / 700.0)
    # The floor: as from below it.
    below = (np.array([0.0]), np.array([-2.0 * cabinet.height]), 0.0)
    floor = _heard(hz, below, np.array([0.6 * disc * len(cabinet.places)]), placed, capsule.pressure)
    total += floor / (1.0 + 1j * hz / 2500.0)
    r = REFERENCE_M
    reference = 2.0 * np.pi * (math.hypot(r, cabinet.radius) - r)  # of the disc, at rest
    ends = _high(hz, capsule.low_hz, 0.7) / (1.0 + 1j * hz / capsule.high_hz)
    return total / reference * cone(cabinet, hz) * ends * _bell(capsule.resonances, hz)


def up_to_hearing(hz: np.ndarray) -> int:
    """How many of the frequencies (n,) are below 22 kHz: nothing of a cabinet is above."""
    return int(np.searchsorted(hz, 22_000.0))


def near_count(rate: float) -> int:
    """Samples in which all that is near has rung out."""
    return 2 * math.ceil(0.5 * NEAR_S * rate)


def flight_s(placed: Placed) -> float:
    """How long sound takes from the middle of the cone, in s."""
    return math.hypot(placed.across, placed.distance) / SOUND


@lru_cache(maxsize=64)
def alignment_s(cabinet: Cabinet, capsules: tuple[Capsule, Capsule], places: tuple[Placed, Placed]) -> float:
    """By how much the second of two microphones has to come earlier, in s, so that their sum dips least from 100 Hz to
    5 kHz: near the difference of the paths, which a microphone close to a wide cone does not hear exactly."""
    hz = np.geomspace(100.0, 5000.0, 200)
    first, second = (direct(cabinet, *one, hz) for one in zip(capsules, places, strict=True))
    known = flight_s(places[1]) - flight_s(places[0])
    tries = known + np.arange(-0.1e-3, 0.1e-3, 2e-6)
    sums = np.abs(first + second * np.exp(2j * np.pi * hz * tries[:, None]))
    return float(tries[int(np.argmax((sums / (np.abs(first) + np.abs(second))).min(axis=1)))])


BASE_RATE = 48_000.0
"""The tail of a room is drawn at this rate, so that it is the same room at every other one."""


def _tails(distance: float, decay_s: float, lasts_s: float, rate: float, count: int) -> np.ndarray:
    """Noise (2, count) that decays, of a density that is the same at every rate."""
    many = round(lasts_s * BASE_RATE)
    noise = np.random.default_rng(1911).standard_normal((2, many))
    t = np.arange(many) / BASE_RATE
    tails = noise * np.exp(-6.9 * t / decay_s) * (1.0 - np.exp(-t / 0.012))
    tails[:, : int(distance / SOUND * BASE_RATE)] = 0.0
    if rate == BASE_RATE and many == count:
        return tails
    made = np.zeros((2, count))
    other = soxr.resample(tails.T, BASE_RATE, rate, quality="VHQ").T * (BASE_RATE / rate)
    made[:, : min(count, other.shape[1])] = other[:, :count]
    return made


def room(
    cabinet: Cabinet, distance: float, spread: float, decay_s: float, lasts_s: float, rate: float, count: int
) -> np.ndarray:
    """Responses (2, count) of a pair of omnis `spread` apart, so far away in m, in a room that decays in so many seconds
    by 60 dB and is over after `lasts_s`: the direct sound, first reflections of walls and ceiling by image sources (J. B.
    Allen and D. A. Berkley, J. Acoust. Soc. Am. 65, 1979), and a tail of noise, that is darker."""
    hz = np.fft.rfftfreq(2 * count, 1.0 / rate)
    short = near_count(rate)
    coarse = np.fft.rfftfreq(short, 1.0 / rate)
    low = up_to_hearing(coarse)
    disc = np.pi * cabinet.radius**2 * len(cabinet.places)
    r = REFERENCE_M
    reference = 2.0 * np.pi * (math.hypot(r, cabinet.radius) - r)
    walls = ((-2.1, 0.0, 0.0), (2.6, 0.0, 0.0), (0.0, 2.7, 0.0), (0.0, 0.0, 2.4), (0.0, -cabinet.height, 0.0))
    sides = []
    tails = _tails(distance, decay_s, lasts_s, rate, count)
    for row, across in enumerate((-0.5 * spread, 0.5 * spread)):
        placed = Placed(across, distance, 0.0)
        spectrum = np.zeros(len(coarse), dtype=complex)
        spectrum[:low] = direct(cabinet, CAPSULES["omni"], placed, coarse[:low])
        heard = np.fft.rfft(np.fft.irfft(spectrum), 2 * count)
        dark = cone(cabinet, hz) / (1.0 + 1j * hz / 3500.0) * _high(hz, 30.0, 0.7)
        for x, y, z in walls:
            path = math.sqrt((across - 2 * x) ** 2 + (2 * y) ** 2 + (distance + 2 * z) ** 2)
            heard += 0.7 * disc / path / reference * np.exp(-2j * np.pi * hz * path / SOUND) * dark
        level = 0.9 * disc / reference / math.sqrt(0.04 * BASE_RATE)
        heard += np.fft.rfft(tails[row], 2 * count) * level * dark
        sides.append(np.fft.irfft(heard)[:count])
    made = np.stack(sides)
    over = min(1.0, lasts_s * rate / count) * count
    place = np.clip((np.arange(count) - 0.875 * over) / (0.125 * over), 0.0, 1.0)
    return made * (0.5 + 0.5 * np.cos(np.pi * place))
