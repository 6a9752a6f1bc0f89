"""What kinds have in common that are second-order sections on each leg.

A state belongs to the section that made it. So that it finds its section again when others come and go, each section
has a *slot*: a name that is the same as long as it is the same filter, with its settings moved at the most.
"""

from collections.abc import Hashable, Sequence
from dataclasses import dataclass

import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.filters import design
from stonekite.stages.base import RINGS, SETTLED, At
from stonekite.stages.machinery.rows import Rows, standing

biquads = lazy("stonekite.signal.filters.biquads")

Slots = tuple[Hashable, ...]

NUMBERS = 80
"""Of a group of sections: as in signal/filters/biquads.py, which the window does not load."""
FARTHEST = 0.5
"""A pole that moves by more than so much of its distance from the unit circle rings of another sound than before: what
it remembers does not go on."""


@dataclass(frozen=True)
class Leg:
    """The sections (n, 5) of one leg in their order, or (k, n, 5) of one that moves, and the slot of each."""

    sections: np.ndarray
    slots: Slots

    @classmethod
    def of(cls, parts: Sequence[tuple[Hashable, np.ndarray]]) -> "Leg":
        """From parts of several sections each, with their names. What has no effect has no sections and no slots."""
        slots = [(name, rows.shape[-2], k) for name, rows in parts for k in range(rows.shape[-2])]
        return cls(design.in_a_row([np.empty((0, 5)), *(rows for _, rows in parts)]), tuple(slots))

    @property
    def first(self) -> np.ndarray:
        """The first of the sections (n, 5)."""
        return self.sections if self.sections.ndim == 2 else self.sections[0]


NOTHING = Leg(np.empty((0, 5)), ())


class Coefficients:
    """The sections of both legs, and the rows of those that stand still."""

    def __init__(self, upper: Leg, lower: Leg) -> None:
        self.legs = (upper, lower)
        self.groups: int = biquads.groups(upper.sections, lower.sections)
        self.works = self.groups > 0
        self.numbers: int = self.groups * NUMBERS
        self.still = standing(rows_of(Leg(upper.first, upper.slots), Leg(lower.first, lower.slots))[0])


def rows_of(upper: Leg, lower: Leg) -> np.ndarray:
    """The sections of both legs as the kernel takes them, rows (k, numbers)."""
    packed: np.ndarray = biquads.pack_many(upper.sections, lower.sections)
    return packed.reshape(len(packed), -1)


def memory(leg: Leg) -> int:
    """Samples after which sections have forgotten what came before."""
    if not len(leg.sections):
        return 0
    slowest = float(radii(leg.sections[:, 3], leg.sections[:, 4]).max())
    return int(1.5 * SETTLED / -np.log(min(max(slowest, 1e-3), 1.0 - 1e-9))) + 2 * len(leg.sections)


def rings(leg: Leg) -> int:
    """Samples until what sections ring on with is 90 dB down."""
    return int(RINGS * memory(leg))


def radii(one: np.ndarray, two: np.ndarray) -> np.ndarray:
    """Largest magnitude of the roots of z^2 + one z + two, for each pair (n,)."""
    part = 0.25 * one * one - two
    apart = 0.5 * np.abs(one) + np.sqrt(np.maximum(part, 0.0))
    return np.where(part < 0.0, np.sqrt(np.abs(two)), apart)


def start(coefficients: Coefficients) -> np.ndarray:
    """The state of sections that have heard nothing."""
    return biquads.rest(coefficients.groups)


def carry(old: Coefficients, state: np.ndarray, new: Coefficients) -> np.ndarray | None:
    """The state, each section's from its own slot; None where there is a section that was not there before, or one that
    has become another filter."""
    fresh = start(new)
    for row, (before, after) in enumerate(zip(old.legs, new.legs, strict=True)):
        places = {slot: k for k, slot in enumerate(before.slots)}
        for k, slot in enumerate(after.slots):
            there = places.get(slot)
            if there is None or _far(before.first[there], after.first[k]):
                return None
            biquads.copy_section(state, there, fresh, k, row)
    return fresh


def _far(old: np.ndarray, new: np.ndarray) -> bool:
    """Whether the poles of a section have moved far, for how long they ring."""
    if np.array_equal(old[3:], new[3:]):
        return False
    poles, moved = (np.sort_complex(np.roots([1.0, row[3], row[4]])) for row in (old, new))
    rest = 1.0 - max(np.abs(poles).max(), np.abs(moved).max())
    return bool(np.abs(poles - moved).max() > FARTHEST * rest)


def process(state: np.ndarray, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    """Filter block (2, frames) in place, by rows that are those of the sections alone; by none, as they stand."""
    run(state, coefficients, block, at.clock, at.rows if at.rows.table.shape[1] else coefficients.still)


def run(state: np.ndarray, coefficients: Coefficients, block: np.ndarray, clock: int, rows: Rows) -> None:
    """Filter block (2, frames) in place by rows as those of `rows_of`."""
    if coefficients.works:
        biquads.cascade_along(block, clock, rows.cells, state)
