"""The paths of a strip against each other: how loud each is alone, and how much later a spur adds best."""

from collections.abc import Generator, Iterator
from typing import NamedTuple

import msgspec
import numpy as np

from stonekite.engine.offline.render import open_source, rendered
from stonekite.measure.loudness import Loudness
from stonekite.session.alone import beside, only
from stonekite.session.spur import LONGEST_MS
from stonekite.session.types import Stem, Strip
from stonekite.words import said

LISTENED_S = 30.0
"""So much of a recording is looked at, from its middle."""
_FINE = 32
"""Parts of a sample that are looked between at first."""
_REACH = 64
UPSIDE_DOWN = 1.15
"""So many times as much as upright a spur has to agree upside down to be taken for inverted."""


class Alignment(NamedTuple):
    """How a spur adds to the rest, in a fold to mono. Levels in dB are those of the whole against what it was as it is.

    `correlation` is that of both when they add best: under 0 where the spur is upside down there, and has to be inverted
    to add; what is told of levels is then of the inverted one. `curve_db` is the level of the whole for delays in equal
    steps from -LONGEST_MS to LONGEST_MS.
    """

    delay_ms: float
    rise_db: float
    correlation: float
    curve_db: np.ndarray


def _middle(frames: int, rate: float) -> tuple[int, int]:
    count = min(frames, int(LISTENED_S * rate))
    start = (frames - count) // 2
    return start, start + count


def _heard(stem: Stem, strip: Strip) -> Iterator[tuple[np.ndarray, float]]:
    """What a strip makes of the middle of a recording, block by block, with the part that is done."""
    plain = msgspec.structs.replace(strip, output=Strip().output)
    with open_source(stem.source) as reader:
        span = _middle(reader.facts.frames, reader.facts.rate)
        done = 0
        for _, processed in rendered(reader, plain, span=span):
            done += processed.shape[1]
            yield processed, done / (span[1] - span[0])


def loudness_of(stem: Stem, paths: list[int | str]) -> Generator[float, None, dict[int | str, float]]:
    """Loudness in LUFS of what `only` names, at the join; yields progress 0 to 1. Raises AudioError."""
    found = {}
    for k, path in enumerate(paths):
        meter = Loudness(stem.source.rate)
        for block, done in _heard(stem, only(stem.strip, path)):
            meter.add(block)
            yield (k + done) / len(paths)
        found[path] = meter.integrated()
    return found


def aligned(stem: Stem, number: int) -> Generator[float, None, Alignment]:
    """The delay of a spur at which it adds most to the rest: their cross-correlation, both sides added up, read between
    samples by a windowed sinc. Yields progress 0 to 1. Raises AudioError, ValueError with a sentence where one is silent.
    """
    strip = stem.strip
    spur = strip.spur(number)
    level = msgspec.structs.replace(spur, delay_ms=0.0)
    at_once = msgspec.structs.replace(
        strip, spurs=tuple(level if one.id == number else one for one in strip.spurs)
    )
    parts = []
    for k, one in enumerate((beside(at_once, number), only(at_once, number))):
        blocks = []
        for block, done in _heard(stem, one):
            blocks.append(block)
            yield 0.5 * (k + done)
        parts.append(np.concatenate(blocks, axis=1))
    if min(_power(part) for part in parts) <= 1e-12 * parts[0].size:
        raise ValueError(said("One of both is silent: there is nothing to align."))
    rest, other = _folded(parts)
    powers = [_power(rest), _power(other)]
    rate = stem.source.rate
    most = int(np.ceil(LONGEST_MS * 1e-3 * rate))
    products = _products(rest, other, most + _REACH)

    steps = np.arange(-most * _FINE, most * _FINE + 1) / _FINE
    steps = steps[np.abs(steps) <= LONGEST_MS * 1e-3 * rate]
    both = _between(products, steps + most + _REACH)
    # An inverted copy would be moved to where least of it is lost: it is told instead, and aligned as it is meant.
    sign = -1.0 if -both.min() > UPSIDE_DOWN * both.max() else 1.0

    def whole(delay: np.ndarray) -> np.ndarray:
        """Power of both together at delays in samples."""
        return powers[0] + powers[1] + 2.0 * sign * _between(products, delay + most + _REACH)

    sums = whole(steps)
    best = int(np.argmax(sums))
    delay = float(steps[best])
    if 0 < best < len(steps) - 1:  # the top of the parabola through three close points
        a, b, c = sums[best - 1 : best + 2]
        delay += 0.5 * (a - c) / (a - 2 * b + c) / _FINE if a - 2 * b + c else 0.0
    now = float(whole(np.array([spur.delay_ms * 1e-3 * rate]))[0])
    top = float(whole(np.array([delay]))[0])
    curve = whole(np.linspace(-LONGEST_MS, LONGEST_MS, 401) * 1e-3 * rate)
    return Alignment(
        float(delay / rate * 1e3),
        float(10 * np.log10(max(top, 1e-30) / max(now, 1e-30))),
        sign * float((top - powers[0] - powers[1]) / (2.0 * np.sqrt(powers[0] * powers[1]))),
        10 * np.log10(np.maximum(curve, 1e-30) / max(now, 1e-30)),
    )


def _power(sound: np.ndarray) -> float:
    return float(np.sum(sound * sound))


def _folded(parts: list[np.ndarray]) -> list[np.ndarray]:
    """Both as they meet in a fold to mono; as they are where one of them is gone there, as a side is."""
    folds = [part.sum(axis=0, keepdims=True) for part in parts]
    there = all(_power(fold) > 1e-4 * _power(part) for fold, part in zip(folds, parts, strict=True))
    return folds if there else parts


def _products(rest: np.ndarray, other: np.ndarray, most: int) -> np.ndarray:
    """Sums over time and sides of rest(t) other(t - d), for d from -most to most."""
    size = 1 << int(np.ceil(np.log2(rest.shape[1] + most + 1)))
    spectrum = np.sum(np.fft.rfft(rest, size, axis=1) * np.conj(np.fft.rfft(other, size, axis=1)), axis=0)
    circular = np.fft.irfft(spectrum, size)
    return np.concatenate([circular[-most:], circular[: most + 1]])


def _between(values: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Values (n,) at places between them, by a sinc under a window of _REACH values on each side."""
    whole = np.floor(places).astype(int)
    part = places - whole
    total = np.zeros(len(places))
    for k in range(-_REACH + 1, _REACH + 1):
        near = np.clip(whole + k, 0, len(values) - 1)
        t = k - part
        total += values[near] * np.sinc(t) * np.cos(0.5 * np.pi * t / _REACH) ** 2
    return total
