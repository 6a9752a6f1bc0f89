"""Two tones, and what comes of them where something is bent: harmonics of each, sums and differences of both."""

from itertools import product

import msgspec
import numpy as np

ORDER = 5
"""Products of so many tones in all are looked for: 3A - 2B is one of five."""
LOW_HZ = 20.0
_AROUND = 5
"""Bins on each side of a frequency that belong to a tone there, with the window that is used."""
_NEAR = 0.015
"""Frequencies closer than this share of one another are not told apart."""
_SEARCH_HZ = (60.0, 5000.0)


class Product(msgspec.Struct, frozen=True):
    """A frequency, and how many times each tone is in it: 2A - B is (2, -1)."""

    hertz: float
    first: int
    second: int

    @property
    def name(self) -> str:
        """As it is written: A, 3B, 2A−B."""
        parts = [
            f"{'−' if count < 0 else '+'}{abs(count) if abs(count) > 1 else ''}{letter}"
            for count, letter in sorted(
                ((self.first, "A"), (self.second, "B")), key=lambda pair: (pair[0] < 0, pair[1])
            )
            if count
        ]
        return "".join(parts).removeprefix("+")

    @property
    def mixed(self) -> bool:
        """Whether both tones are in it."""
        return self.first != 0 and self.second != 0

    @property
    def order(self) -> int:
        return abs(self.first) + abs(self.second)


class Line(msgspec.Struct, frozen=True):
    """A product and its level in dBFS (of a sine's peak) on the left and the right, before and after."""

    product: Product
    before: tuple[float, float]
    after: tuple[float, float]


class Heard(msgspec.Struct, frozen=True):
    """Frequencies of two tones (0: none), levels of their products, and of the programme the spectra (4, bands) in dB:
    left and right before the stage, then after it."""

    first_hz: float
    second_hz: float
    lines: list[Line]
    spectra: list[list[float]]


def products(first_hz: float, second_hz: float, top_hz: float) -> list[Product]:
    """All products up to ORDER between LOW_HZ and a highest frequency, by frequency. Of those that fall together the
    one of the lowest order counts.
    """
    found: list[Product] = []
    for first, second in product(range(-ORDER, ORDER + 1), repeat=2):
        hertz = first * first_hz + second * second_hz
        if 0 < abs(first) + abs(second) <= ORDER and LOW_HZ <= hertz < top_hz:
            found.append(Product(hertz, first, second))
    kept: list[Product] = []
    for one in sorted(found, key=lambda p: p.order):
        if all(abs(one.hertz - other.hertz) > 1e-3 for other in kept):
            kept.append(one)
    return sorted(kept, key=lambda p: p.hertz)


def _window(frames: int) -> np.ndarray:
    turns = 2 * np.pi * np.arange(frames) / frames
    return 0.35875 - 0.48829 * np.cos(turns) + 0.14128 * np.cos(2 * turns) - 0.01168 * np.cos(3 * turns)


class Spectrum:
    """Power of a sound (2, frames) at a rate in Hz: levels of the tones in it.

    `periodic`: all tones make whole turns in it, so that each fills one bin and no other. Otherwise through the
    four-term window of Blackman and Harris (Harris, "On the use of windows for harmonic analysis", Proc. IEEE 66,
    1978), whose side lobes are 92 dB down.
    """

    def __init__(self, sound: np.ndarray, rate: float, *, periodic: bool = False) -> None:
        frames = sound.shape[1]
        window = np.ones(frames) if periodic else _window(frames)
        self._around = 0 if periodic else _AROUND
        spectrum = np.fft.rfft(sound * window, axis=1)
        # By Parseval the power of a sine, over the bins that it fills, sums to the square of its amplitude.
        scale = 4.0 / (frames * float(np.sum(window**2)))
        self.power = scale * (spectrum.real**2 + spectrum.imag**2)
        self._width = rate / frames

    def levels_db(self, hertz: float) -> tuple[float, float]:
        """Level in dBFS of a tone on the left and the right: of its peak, so a full-scale sine is 0."""
        middle = round(hertz / self._width)
        part = self.power[:, max(0, middle - self._around) : middle + self._around + 1].sum(axis=1)
        left, right = 10 * np.log10(np.maximum(part, 1e-16))
        return float(left), float(right)

    def strongest(self, row: int, apart_from: float | None = None) -> float | None:
        """Frequency of the strongest tone of a side, or None in silence; not one that stands to `apart_from` in the
        ratio of small whole numbers.
        """
        start, stop = (round(hertz / self._width) for hertz in _SEARCH_HZ)
        power = self.power[row].copy()
        power[:start] = 0.0
        power[stop:] = 0.0
        if apart_from is not None:
            hertz = np.arange(len(power)) * self._width
            for over, under in product(range(1, ORDER), repeat=2):
                if over + under > ORDER:
                    continue
                there = apart_from * over / under
                power[np.abs(hertz - there) < max(_NEAR * there, 2 * _AROUND * self._width)] = 0.0
        peak = int(np.argmax(power))
        if power[peak] < 1e-12:
            return None
        around = np.log(
            np.maximum(power[peak - 1 : peak + 2], 1e-30)
        )  # the top of a parabola through three bins
        bent = around[0] - 2 * around[1] + around[2]
        shift = 0.5 * (around[0] - around[2]) / bent if bent < 0 else 0.0
        return float((peak + shift) * self._width)


def lines(before: Spectrum, after: Spectrum, first_hz: float, second_hz: float, top_hz: float) -> list[Line]:
    """Levels of all products of two tones."""
    return [
        Line(one, before.levels_db(one.hertz), after.levels_db(one.hertz))
        for one in products(first_hz, second_hz, top_hz)
    ]


def gains(found: list[Line]) -> tuple[float, float]:
    """By how much the power of the two tones themselves has grown on the left and the right; 1 where they are not."""
    both = [line for line in found if line.product.order == 1]
    left, right = (
        sum(_power(line.after[row]) for line in both)
        / max(sum(_power(line.before[row]) for line in both), 1e-15)
        for row in (0, 1)
    )
    return left, right


def added_db(line: Line, grown: tuple[float, float]) -> tuple[float, float]:
    """Level in dBFS of what was not there before, on the left and the right; -160 for nothing.

    `grown` are the gains of the tones: as much more of what was there is no news.
    """
    left, right = (_less_db(_power(line.after[row]), _power(line.before[row]) * grown[row]) for row in (0, 1))
    return left, right


def sum_db(levels_db: list[float]) -> float:
    """Level in dB of several together; -160 for none."""
    return float(10 * np.log10(sum((_power(level) for level in levels_db), 1e-16)))


def _power(level_db: float) -> float:
    return 10 ** (level_db / 10)


def _less_db(power: float, before: float) -> float:
    """What is left of a power, where it has grown by more than 1 dB."""
    return 10 * float(np.log10(max(power - before, 1e-16))) if power > 1.26 * before else -160.0
