"""What chorus and phaser have in common: how fast they swing, from where, and what happens where the place jumps."""

import math
from collections.abc import Callable, Iterator
from typing import Annotated, Any, Literal

import numpy as np

from stonekite.lazy import lazy
from stonekite.stages import riding
from stonekite.stages.base import LEGS, At, Context
from stonekite.stages.machinery.rows import CELL, SEAM_S, Rows
from stonekite.stages.settings import Settings, choice, number

sweeping = lazy("stonekite.signal.sweeping")

Rate = Annotated[
    float,
    number(
        "Rate",
        "Hz",
        0.02,
        10.0,
        taper="log",
        step=1 / 6,
        decimals=2,
        note="rate_note",
        help="How often it swings. A note can be typed, too: 1/1, 1/4 dotted, 2 beats",
    ),
]
"""Of a side that has a field rate_note beside it."""


class SwingShared(Settings, frozen=True, kw_only=True):
    apart_deg: Annotated[
        float,
        number(
            "Lower leg ahead by",
            "°",
            0.0,
            360.0,
            step=15.0,
            decimals=0,
            both=True,
            help="Of a swing: 90 is a quarter of one",
        ),
    ] = 90.0
    shape: Annotated[
        Literal["round", "straight"],
        choice("Swing", {"round": "Round", "straight": "Straight"}, help="As a sine, or to and fro as fast"),
    ] = "round"


def greatest_gains(stage: Any, hz: np.ndarray, swung: Callable[[Any], float]) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): of each leg by itself, of what a side swings,
    whose greatest gain before it is fed back `swung` tells.
    """
    found = np.repeat(np.eye(2)[:, :, None], len(hz), axis=2)
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        if side is not None:
            found[row, row] = swung(side) / (1.0 - abs(side.feedback) / 100.0)
    return found


def neutral(stage: Any) -> bool:
    """Whether nothing swings."""
    return stage.upper is None and stage.lower is None


def _begun(number: Any) -> float:
    """A number where the recording begins."""
    return float(number[0]) if isinstance(number, np.ndarray) else float(number)


class Swings:
    """How both legs swing, in turns of a sample, and from which place of a turn."""

    def __init__(self, stage: Any, rate: float) -> None:
        sides = [getattr(stage, leg) for leg in LEGS]
        self.works = np.array([side is not None for side in sides])
        self.turns = np.array([0.0 if side is None else _begun(side.rate_hz) / rate for side in sides])
        self.begins = np.array([0.0, _begun(stage.shared.apart_deg) / 360.0])
        self.straight = stage.shared.shape == "straight"
        self.fade = math.exp(-1.0 / (SEAM_S * rate))


class Swung:
    """Where both legs are: the place that comes next, and what each voice is ahead by since a jump."""

    def __init__(self) -> None:
        self.next: int | None = None
        self.offsets = np.zeros((2, sweeping.MOST_VOICES))
        self.stood = np.zeros((2, sweeping.MOST_VOICES))
        """Where the swings of what moves were when the last block ended."""

    def copied(self) -> "Swung":
        made = Swung()
        made.next, made.offsets, made.stood = self.next, self.offsets.copy(), self.stood.copy()
        return made

    def runs(
        self, swings: Swings, counts: np.ndarray, at: At, frames: int, most: int = 2**31
    ) -> Iterator[tuple[int, int, int]]:
        """The parts of a block, no longer than `most`, in which the place goes straight on: first frame, the frame after
        the last, and the place of the first. What the voices were ahead by is known before each part is worked on.
        """
        ends = [*(first for first, _ in at.runs[1:]), frames]
        for (first, place), end in zip(at.runs, ends, strict=True):
            if first < end and self.next is not None and self.next != place:
                if at.rows.moves:
                    self.offsets += self.stood - self._standing(
                        swings, counts, at.rows, at.rows.cell_at(first), first
                    )
                else:
                    sweeping.jump(
                        self.offsets, counts, self.next, place, swings.turns, swings.begins, swings.straight
                    )
            for start in range(first, end, most):
                stop = min(end, start + most)
                yield start, stop, place + start - first
            if first < end:
                self.next = place + end - first
                if at.rows.moves:
                    self.stood = self._standing(swings, counts, at.rows, at.rows.cell_at(end - 1), end)

    def _standing(self, swings: Swings, counts: np.ndarray, rows: Rows, cell: int, frame: int) -> np.ndarray:
        """Where the swings (2, voices) stand at a frame of the block, by the rows of a cell."""
        now = rows.table[cell, -2:]
        share = float(rows.offsets[cell] + frame - rows.starts[cell]) / CELL
        found = np.zeros_like(self.stood)
        sweeping.standing(found, counts, now, now + CELL * rows.steps[cell, -2:], share, swings.straight)
        return found


def phases(stage: Any, context: Context) -> list[np.ndarray]:
    """Where both legs stand in their swings, in turns, at the times of the context; nothing where it has none."""
    if context.seconds is None:
        return [np.zeros(1), np.zeros(1)]
    made = []
    for leg, begin in zip(LEGS, (0.0, stage.shared.apart_deg / 360.0), strict=True):
        side = getattr(stage, leg)
        rate = 0.0 if side is None else side.rate_hz
        made.append(riding.integral(stage, f"{leg}.rate_hz", rate, context.seconds) + begin)
    return made


def seam_memory(rate: float) -> int:
    """Samples after which a jump of the place is forgotten."""
    return math.ceil(15.0 * SEAM_S * rate)
