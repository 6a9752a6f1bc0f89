"""The part of a mix that is not processed."""

import copy
from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.track import Following, Track, at_start, nothing_of
from stonekite.signal.delay import Delay
from stonekite.stages.base import At, Context, Kind, Stage


class Dry:
    """The part of a mix that is not processed, in time and in phase with the one that is; one that works by the same
    settings lends what it has designed. What comes in is `late_in` samples late."""

    def __init__(
        self,
        kind: Kind,
        stage: Stage,
        context: Context,
        latency: int,
        inner: int,
        late_in: int,
        course: Course,
        lent: "Dry | None" = None,
    ) -> None:
        self._kind = kind
        if lent is not None:
            made = lent._coefficients
        else:
            made = None if kind.dry is None else kind.dry.coefficients(at_start(stage), context)
        self._coefficients: Any = made
        self._state: Any = None if made is None else kind.start(made)
        rows = None if kind.dry is None or made is None else kind.dry.rows
        self.track: Track = (
            Track(rows or nothing_of, stage, context, fine=kind.fine) if lent is None else lent.track
        )
        self._rows = Following(self.track, context.rate, course, late_in)
        # What the kind makes the dry part with is as late as the kind is, without what stands in its branches.
        late = latency if made is None else inner
        self._alignment = Delay((late, late))

    def process(self, legs: np.ndarray, clock: int) -> np.ndarray:
        """The dry part of legs (2, frames), as a new array."""
        dry = legs.copy()
        if self._coefficients is not None:
            rows = self._rows.block(clock, legs.shape[1])
            self._kind.process(self._state, self._coefficients, dry, At(clock, rows=rows))
        self._alignment.process(dry)
        return dry

    def _carried(self, other: "Dry", state: Any) -> Any:
        return self._kind.carry(other._coefficients, state, self._coefficients)

    def goes_on_from(self, other: "Dry") -> bool:
        if self._coefficients is None or other._coefficients is None:
            return self._coefficients is other._coefficients
        return self._carried(other, self._kind.start(other._coefficients)) is not None

    def take_over(self, other: "Dry") -> None:
        self._alignment = copy.deepcopy(other._alignment)
        self._rows.go_on_from(other._rows)
        if self._coefficients is not None:
            self._state = self._carried(other, other._state)
