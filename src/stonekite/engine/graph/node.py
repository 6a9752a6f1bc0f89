"""A stage at work."""

import copy
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.dry import Dry
from stonekite.engine.graph.track import GIVEN_BACK, PASSES, Following, Track, at_start, mix_of, nothing_of
from stonekite.signal.delay import Delay
from stonekite.signal.sanity import clean, finite
from stonekite.stages.base import WORKED, At, Context, Key, Kind, Plan, Stage, keys_in
from stonekite.stages.machinery.rows import Rows, blend, times, times_leg
from stonekite.stages.registry import kind_of

if TYPE_CHECKING:
    from stonekite.engine.graph.line import Line
    from stonekite.engine.graph.probing import Probe

MOST_CAUGHT_UP = 16_384
"""So much is heard again by what is new in a branch whose stage goes on, between two blocks."""


def _passes(legs: np.ndarray) -> None:
    """What a branch does in which nothing stands, and which waits for none."""


def _tracks(kind: Kind, stage: Stage, context: Context) -> tuple[Track, Track]:
    """Of the kind's numbers, and of the mix."""
    return Track(kind.rows or nothing_of, stage, context, fine=kind.fine), Track(
        mix_of, stage, context, role="mix"
    )


class Node:
    """A stage at work: its coefficients, its state, its mix, and what brings its legs back into time.

    `late` is by how many samples what it hears is late; `course` tells where in the recording that is. `lines` are
    its branches. A `twin` that works by the same settings lends what it has designed.
    """

    def __init__(
        self,
        stage: Stage,
        context: Context,
        plan: Plan,
        late: int,
        course: Course,
        lines: "tuple[Line, ...]",
        twin: "Node | None" = None,
    ) -> None:
        self.id = stage.id
        self.stage = stage
        self.context = context
        self.kind: Kind = kind_of(stage)
        self.plan = plan
        self.late = late
        self._course = course
        self._key = stage.key
        self.key_heard: np.ndarray | None = None
        """What the detectors heard (2, frames) of another strip in the last block."""
        every = keys_in(stage)
        self._more_keys = tuple(key for key in every if key is not self._key)
        if every and course.keys is not None:
            course.keys.room_for(late)
        self.tracks: tuple[Track, Track] = _tracks(self.kind, stage, context) if twin is None else twin.tracks
        own = context.rate, course
        self._rows = Following(self.tracks[0], *own, late, self.kind.placed)
        # What is held back has the numbers of where it came in.
        self._out = {
            n: Following(self.tracks[0], *own, late + n, self.kind.placed) for n in {*plan.latency} - {0}
        }
        self._mixes = Following(self.tracks[1], context.rate, course, late + max(plan.latency))
        self.coefficients: Any = (
            self.kind.coefficients(at_start(stage), context) if twin is None else twin.coefficients
        )
        self.latency = max(plan.latency)
        self.state: Any = self.kind.start(self.coefficients)
        upper, lower = plan.latency
        self._alignment = Delay((self.latency - upper, self.latency - lower))
        self._aligns = upper != lower
        self.lines = lines
        # All branches are as late as the latest, whatever the kind makes of them.
        inner = max((line.latency for line in self.lines), default=0)
        self._inner = inner
        self._waits = [Delay((inner - line.latency,) * 2) for line in self.lines]
        self._change_only = stage.change_only
        stands = self.tracks[0].still
        self._standing = None if stands is None else (stands, (stands, stands))
        still = self._mixes.track.still
        needs_dry = stage.change_only or still is None or bool((still.table[0, :2] != 1.0).any())
        # Where the level is not kept, nothing is given back however the mix moves.
        self._gives_back = stage.level_kept if still is None else bool(still.table[0, GIVEN_BACK] != 1.0)
        lent = None if twin is None else twin._dry
        self._dry: Dry | None = (
            Dry(self.kind, stage, context, self.latency, inner, late, course, lent) if needs_dry else None
        )
        self._remembers = None if self.kind.branching is None else self.kind.branching.heard
        inside = [] if self._remembers is not None else [line.latency for line in self.lines]
        self._shape = (type(stage), plan.latency, late, needs_dry, inside)

    def process(self, legs: np.ndarray, clock: int, probe: "Probe | None" = None) -> None:
        """Process legs (2, frames) in place."""
        frames = legs.shape[1]
        places = self._course.runs(clock, frames, self.late) if self.kind.follows_place else ()
        dry = None
        if self._dry is not None:
            dry = self._dry.process(legs, clock)
        through = self._through(clock, probe) if self.lines else ()
        rows, out = self._standing or self._numbers(clock, frames)
        key = None
        if self._key is not None and self._course.keys is not None:
            key = self._course.keys.legs(self._key, self.context.matrix, legs, clock, self.late)
            if key is not None and not self.kind.hears_key:  # what a detector hears is listened to
                legs[:], key = key, None
        self.key_heard = key
        keys = self._heard_by(legs, clock) if self._more_keys else {}
        at = At(clock, through, self._inner, places, rows, out, key, keys)
        self.kind.process(self.state, self.coefficients, legs, at)
        if self._aligns:
            self._alignment.process(legs)
        if not finite(legs):
            legs[:] = clean(legs)
            self.state = self.kind.start(self.coefficients)
        if dry is None and not self._gives_back:
            return
        mixes = self._mixes.block(clock, frames)
        if dry is not None:
            self._blend(legs, dry, mixes)
        if self._gives_back:
            for leg in legs:
                times_leg(leg, mixes, GIVEN_BACK)

    def _through(self, clock: int, probe: "Probe | None") -> tuple[Callable[[np.ndarray], None], ...]:
        """The branches, as the kind runs them."""

        gone = [0] * len(self.lines)

        def through(k: int, legs: np.ndarray) -> None:
            self.lines[k].process(legs, clock + gone[k], probe)
            self._waits[k].process(legs)
            gone[k] += legs.shape[1]

        return tuple(_passes if self._idle(k) else partial(through, k) for k in range(len(self.lines)))

    def _heard_by(self, legs: np.ndarray, clock: int) -> dict[Key, np.ndarray]:
        """What the detectors hear (2, frames) that have keys of their own, as far as those strips are there."""
        store = self._course.keys
        if store is None:
            return {}
        found = {key: store.legs(key, self.context.matrix, legs, clock, self.late) for key in self._more_keys}
        return {key: heard for key, heard in found.items() if heard is not None}

    @property
    def _followings(self) -> list[Following]:
        return [self._rows, *self._out.values(), self._mixes]

    def _numbers(self, clock: int, frames: int) -> tuple[Rows, tuple[Rows, Rows]]:
        """The rows for a block that comes in, and for what comes out of each leg."""
        rows = self._rows.block(clock, frames)
        later = {n: following.block(clock, frames) for n, following in self._out.items()}
        return rows, (later.get(self.plan.latency[0], rows), later.get(self.plan.latency[1], rows))

    def _idle(self, k: int) -> bool:
        """Whether nothing stands in a branch, and it waits for none."""
        return self.lines[k].is_empty and self.lines[k].latency >= self._inner

    @property
    def heard(self) -> "Node":
        """What is heard of it now, of one that works in several ways beside each other."""
        return self

    @property
    def ways(self) -> "list[Node]":
        """Those ways; itself if it has one."""
        return [self]

    def like(self, other: "Node") -> "Node":
        """The way of it that works as another node does; else the one that is heard."""
        return next((way for way in self.ways if way.stage == other.stage), self.heard)

    @property
    def guarded(self) -> bool:
        """Whether its guard has made it silent."""
        guarded = self.kind.offers.guarded
        return guarded is not None and guarded(self.heard.state)

    @property
    def reduction_db(self) -> np.ndarray:
        """What it takes away now (2,), in dB; zeros if it does not say."""
        meter = self.kind.offers.meter
        return np.zeros(2) if meter is None else meter(self.heard.state)

    @property
    def bands_now(self) -> tuple[np.ndarray, np.ndarray] | None:
        """What its bands hear and do now, each (2, bands) in dB, if their gains follow the sound."""
        bands_now = self.kind.offers.bands_now
        return None if bands_now is None else bands_now(self.heard.state)

    def noise_now(self, rate: float) -> np.ndarray | None:
        """Power (3, 2, bins) of noise known, heard and left now, of a stage that reduces noise."""
        noise_now = self.kind.offers.noise_now
        return None if noise_now is None else noise_now(self.heard.coefficients, self.heard.state, rate)

    @property
    def follows(self) -> np.ndarray:
        """The note that each leg is followed at (2,), in Hz; zeros if it follows none."""
        follows = self.kind.offers.follows
        return np.zeros(2) if follows is None else follows(self.heard.state)

    @property
    def worked_db(self) -> np.ndarray:
        """How hard its parts work (2, WORKED) in dB, of a stage that says so."""
        worked = self.kind.offers.worked_db
        return np.full((2, WORKED), -150.0) if worked is None else worked(self.heard.state)

    def _blend(self, legs: np.ndarray, dry: np.ndarray, mixes: Rows) -> None:
        if self._change_only:  # what passes where it is out
            legs -= dry
            times(legs, mixes, 0)
            if mixes.moves:
                for leg in dry:
                    times_leg(leg, mixes, PASSES)
                legs += dry
            return
        blend(legs, dry, mixes, 0)

    def same(self, other: "Node") -> bool:
        """Whether another node does the same at the same time."""
        return self.stage == other.stage and self.late == other.late

    def goes_on_from(self, other: "Node") -> bool:
        """Whether another node's state means the same here: it hears the same time, and the kind says so."""
        other = other.like(self)
        if self._shape != other._shape or self._carried(other, other.kind.start(other.coefficients)) is None:
            return False
        lines = zip(self.lines, other.lines, strict=True)
        if self._remembers is None and not all(new.goes_on_from(old) for new, old in lines):
            return False
        return self._dry is None or other._dry is None or self._dry.goes_on_from(other._dry)

    def _carried(self, other: "Node", state: Any) -> Any:
        return self.kind.carry(other.coefficients, state, self.coefficients)

    def take_over(self, other: "Node", length: int) -> None:
        """Go on from another node's state, where that means the same; the other one works on for `length` frames."""
        other = other.like(self)
        same = self.same(other)
        self.state = copy.deepcopy(other.state) if same else self._carried(other, other.state)
        for ours, theirs in zip(self._followings, other._followings, strict=True):
            ours.go_on_from(theirs)
        if self.kind.joins is not None:
            self.kind.joins(self.state, other.state, length)
        self._alignment = copy.deepcopy(other._alignment)
        if self._inner == other._inner:
            self._waits = copy.deepcopy(other._waits)
        for k, (new, old) in enumerate(zip(self.lines, other.lines, strict=True)):
            if self._remembers is None or new.goes_on_from(old):
                new.take_over(new.carried(old), length)
            else:
                self._catch_up(k, new, old, length)
        if self._dry is not None and other._dry is not None:
            self._dry.take_over(other._dry)

    def _catch_up(self, branch: int, new: "Line", old: "Line", length: int) -> None:
        """Have a branch in which something is new hear what went into it lately."""
        assert self._remembers is not None
        partners = new.partners(old, False)
        wanted = min(new.unknown(partners) + new.latency, MOST_CAUGHT_UP)
        legs = np.ascontiguousarray(
            self._remembers(self.coefficients, self.state, branch, self._inner, wanted)
        )
        new.process(legs, 0)
        self._waits[branch].process(legs)
        new.take_over(partners, length)
