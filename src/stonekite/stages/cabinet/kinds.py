"""The cabinets that there are: sizes of the trade, with numbers of our own."""

from typing import Literal, NamedTuple

from stonekite.signal.cabinets import Cabinet, Resonance

CabinetName = Literal["small", "single", "pair", "closed", "stack", "fifteen", "eight", "own"]

_APART = 0.15


class Box(NamedTuple):
    label: str
    cabinet: Cabinet
    inches: int


BOXES: dict[CabinetName, Box] = {
    "small": Box(
        "one 10″, open back",
        Cabinet(
            0.105, ((0.0, 0.0),), True, 0.18, 0.25, 105.0, 1.1, 2300.0, 5600.0,
            (Resonance(430.0, -2.5, 1.0), Resonance(1700.0, 2.0, 1.6), Resonance(3300.0, 5.0, 2.2)),
        ),
        10,
    ),
    "single": Box(
        "one 12″, open back",
        Cabinet(
            0.13, ((0.0, 0.0),), True, 0.24, 0.3, 85.0, 0.95, 1900.0, 5200.0,
            (Resonance(420.0, -3.0, 1.0), Resonance(2500.0, 4.5, 1.8), Resonance(3900.0, 3.5, 2.6)),
        ),
        12,
    ),
    "pair": Box(
        "two 12″, open back",
        Cabinet(
            0.13, ((-_APART, 0.0), (_APART, 0.0)), True, 0.26, 0.3, 80.0, 0.9, 2000.0, 5300.0,
            (Resonance(380.0, -2.5, 0.9), Resonance(2300.0, 4.0, 1.7), Resonance(4200.0, 3.0, 2.6)),
        ),
        12,
    ),
    "closed": Box(
        "two 12″, closed",
        Cabinet(
            0.13, ((-_APART, 0.0), (_APART, 0.0)), False, 0.3, 0.35, 95.0, 1.15, 2000.0, 5000.0,
            (Resonance(480.0, -3.5, 0.9), Resonance(2700.0, 5.0, 1.6), Resonance(3700.0, 2.5, 2.8)),
        ),
        12,
    ),
    "stack": Box(
        "four 12″, closed",
        Cabinet(
            0.13, ((-_APART, 0.3), (_APART, 0.3), (-_APART, 0.0), (_APART, 0.0)), False, 0.34, 0.55, 100.0, 1.25,
            1900.0, 4800.0,
            (Resonance(500.0, -4.0, 0.9), Resonance(2600.0, 5.5, 1.6), Resonance(4000.0, 2.0, 2.6)),
        ),
        12,
    ),
    "fifteen": Box(
        "one 15″, closed",
        Cabinet(
            0.165, ((0.0, 0.0),), False, 0.4, 0.4, 52.0, 0.85, 1300.0, 3800.0,
            (Resonance(350.0, -2.0, 0.9), Resonance(1500.0, 3.0, 1.5), Resonance(2600.0, 2.0, 2.0)),
        ),
        15,
    ),
    "eight": Box(
        "eight 10″, closed",
        Cabinet(
            0.105, tuple((x * 0.14, 0.27 * y) for y in (1, 0, 2, 3) for x in (-1, 1)), False, 0.4, 0.4, 62.0, 0.9,
            2100.0, 5000.0,
            (Resonance(600.0, -2.0, 0.9), Resonance(2200.0, 3.0, 1.6), Resonance(3400.0, 3.0, 2.2)),
        ),
        10,
    ),
}  # fmt: skip
"""Of the first speaker the microphones stand in front; those of pairs are shown on the left."""
