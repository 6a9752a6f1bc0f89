"""A line of stages at work on two legs: what a branch sounds like, wherever it stands."""

import copy
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from time import perf_counter
from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.courtesy import pause
from stonekite.engine.graph.dry import Dry
from stonekite.engine.graph.gliding import Gliding, Ringing, going_over
from stonekite.engine.graph.probing import Probe
from stonekite.session.types import LEGS
from stonekite.signal.decibels import gain_of
from stonekite.signal.delay import Delay
from stonekite.signal.sanity import clean, finite
from stonekite.stages.base import WORKED, At, Context, Kind, Plan, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.planning import CannotBuild, building, plan_of, works
from stonekite.stages.registry import kind_of

MOST_CAUGHT_UP = 16_384
"""So much is heard again by what is new in a branch whose stage goes on, between two blocks."""


class Node:
    """A stage at work: its coefficients, its state, its mix, and what brings its legs back into time.

    `late` is by how many samples what it hears is late; `course` tells where in the recording that is. Of the nodes that
    are `known`, one that works by the same settings at the same place lends what it has designed.
    """

    def __init__(
        self, stage: Stage, context: Context, plan: Plan, late: int, course: Course, known: "Known"
    ) -> None:
        self.id = stage.id
        self.stage = stage
        self.context = context
        self.kind: Kind = kind_of(stage)
        self.plan = plan
        self.late = late
        self._course = course
        twin = _twin(stage, context, known)
        self.coefficients: Any = self.kind.coefficients(stage, context) if twin is None else twin.coefficients
        self.latency = max(plan.latency)
        self.state: Any = self.kind.start(self.coefficients)
        upper, lower = plan.latency
        self._alignment = Delay((self.latency - upper, self.latency - lower))
        self._aligns = upper != lower
        self.lines = tuple(Line(branch.stages, context, late, course, known) for branch in branches_of(stage))
        # All branches are as late as the latest, whatever the kind makes of them.
        inner = max((line.latency for line in self.lines), default=0)
        self._inner = inner
        self._waits = [Delay((inner - line.latency,) * 2) for line in self.lines]
        self._change_only = stage.change_only
        self._given_back = gain_of(stage.kept_db) if stage.level_kept else 1.0
        sides = [getattr(stage, leg) for leg in LEGS]
        self._mix = [1.0 if side is None else side.mix / 100.0 for side in sides]
        needs_dry = stage.change_only or self._mix != [1.0, 1.0]
        lent = None if twin is None else twin._dry
        self._dry: Dry | None = (
            Dry(self.kind, stage, context, self.latency, inner, lent) if needs_dry else None
        )
        self._remembers = None if self.kind.branching is None else self.kind.branching.heard
        inside = [] if self._remembers is not None else [line.latency for line in self.lines]
        self._shape = (type(stage), plan.latency, late, needs_dry, inside)

    def process(self, legs: np.ndarray, clock: int, probe: Probe | None = None) -> None:
        """Process legs (2, frames) in place."""
        dry = None
        if self._dry is not None:
            dry = self._dry.process(legs, clock)
        through = self._through(clock, probe) if self.lines else ()
        places = self._course.runs(clock, legs.shape[1], self.late) if self.kind.follows_place else ()
        self.kind.process(self.state, self.coefficients, legs, At(clock, through, self._inner, places))
        if self._aligns:
            self._alignment.process(legs)
        if not finite(legs):
            legs[:] = clean(legs)
            self.state = self.kind.start(self.coefficients)
        if dry is not None:
            self._blend(legs, dry)
        if self._given_back != 1.0:
            legs *= self._given_back

    def _through(self, clock: int, probe: Probe | None) -> tuple[Callable[[np.ndarray], None], ...]:
        """The branches, as the kind runs them."""

        gone = [0] * len(self.lines)

        def through(k: int, legs: np.ndarray) -> None:
            self.lines[k].process(legs, clock + gone[k], probe)
            self._waits[k].process(legs)
            gone[k] += legs.shape[1]

        return tuple(
            partial(through, k) if line._places or line.latency < self._inner else _passes
            for k, line in enumerate(self.lines)
        )

    @property
    def guarded(self) -> bool:
        """Whether its guard has made it silent."""
        guarded = self.kind.offers.guarded
        return guarded is not None and guarded(self.state)

    @property
    def reduction_db(self) -> np.ndarray:
        """What it takes away now (2,), in dB; zeros if it does not say."""
        meter = self.kind.offers.meter
        return np.zeros(2) if meter is None else meter(self.state)

    @property
    def bands_now(self) -> tuple[np.ndarray, np.ndarray] | None:
        """What its bands hear and do now, each (2, bands) in dB, if their gains follow the sound."""
        bands_now = self.kind.offers.bands_now
        return None if bands_now is None else bands_now(self.state)

    def noise_now(self, rate: float) -> np.ndarray | None:
        """Power (3, 2, bins) of noise known, heard and left now, of a stage that reduces noise."""
        noise_now = self.kind.offers.noise_now
        return None if noise_now is None else noise_now(self.coefficients, self.state, rate)

    @property
    def follows(self) -> np.ndarray:
        """The note that each leg is followed at (2,), in Hz; zeros if it follows none."""
        follows = self.kind.offers.follows
        return np.zeros(2) if follows is None else follows(self.state)

    @property
    def worked_db(self) -> np.ndarray:
        """How hard its parts work (2, WORKED) in dB, of a stage that says so."""
        worked = self.kind.offers.worked_db
        return np.full((2, WORKED), -150.0) if worked is None else worked(self.state)

    def _blend(self, legs: np.ndarray, dry: np.ndarray) -> None:
        legs -= dry
        for row, mix in enumerate(self._mix):
            if mix != 1.0:
                legs[row] *= mix
        if not self._change_only:
            legs += dry

    def same(self, other: "Node") -> bool:
        """Whether another node does the same at the same time."""
        return self.stage == other.stage and self.late == other.late

    def goes_on_from(self, other: "Node") -> bool:
        """Whether another node's state means the same here: it hears the same time, and the kind says so."""
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
        self.state = self._carried(other, other.state)
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


Known = Mapping[int, Node]
"""Nodes that were built before, by the id of their stage."""


def _passes(legs: np.ndarray) -> None:
    """What a branch does in which nothing stands, and which waits for none."""


def _twin(stage: Stage, context: Context, known: Known) -> Node | None:
    """The known node of a stage that has been built from the same settings, for the same rate and matrix."""
    node = known.get(stage.id)
    return node if node is not None and node.context == context and node.stage == stage else None


def _built(stage: Stage, context: Context, late: int, course: Course, known: Known) -> Node:
    twin = _twin(stage, context, known)
    plan = plan_of(stage, context) if twin is None else twin.plan
    return building(stage, lambda: Node(stage, context, plan, late, course, known))


class Line:
    """Stages in a row, ready to process. `late` is by how many samples what comes in is late, `course` where it is, and
    what is `known` is not designed again."""

    def __init__(
        self,
        stages: tuple[Stage, ...],
        context: Context,
        late: int = 0,
        course: Course | None = None,
        known: Known | None = None,
    ) -> None:
        course = Course() if course is None else course
        self.latency = 0
        self._late = late
        self._order = [stage.id for stage in stages]
        self._stages = {stage.id: stage for stage in stages}
        self.spent_s: dict[int, float] = {}
        """What each stage has taken of the processor's time since it was looked at last."""
        self.tapped: dict[int, np.ndarray | None] = {}
        """What came out of the stages with these ids in the last block, for who puts them in."""
        self.nodes: list[Node] = []
        self._places: list[tuple[int, Node | Gliding | Ringing | None]] = []
        for stage in stages:
            node = None
            pause()
            if works(stage):
                node = _built(stage, context, late + self.latency, course, known or {})
                self.latency += node.latency
                self.nodes.append(node)
            self._places.append((stage.id, node))

    @property
    def everything(self) -> Iterator[Node]:
        """Its nodes, and those in their branches."""
        for node in self.nodes:
            yield node
            for line in node.lines:
                yield from line.everything

    @property
    def memory(self) -> int:
        """Samples after which nothing of what came before is heard any more."""
        return sum(node.plan.memory for node in self.nodes)

    @property
    def tail(self) -> int:
        """Samples for which it sounds on after its input has ended."""
        return sum(node.plan.tail for node in self.nodes)

    def find(self, stage: int) -> Node | None:
        """The stage of that id at work; None if there is none or it has nothing to do."""
        return next((node for node in self.nodes if node.id == stage), None)

    def late_after(self, stage: int) -> int:
        """By how many samples what comes out of a stage is late."""
        passed = self._late
        for number, node in self._places:
            if isinstance(node, Node):
                passed = node.late + node.latency
            if number == stage:
                return passed
        return passed

    def memory_to(self, stage: int) -> int:
        """Samples after which nothing of what came before is heard any more behind a stage."""
        total = 0
        for number, node in self._places:
            if isinstance(node, Node):
                total += node.plan.memory + node.latency
            if number == stage:
                break
        return total

    def process(self, legs: np.ndarray, clock: int, probe: Probe | None = None) -> None:
        """Process legs (2, frames) in place; the clock counts what went in."""
        for stage, node in self._places:
            before = legs.copy() if probe is not None and probe.wants(stage) else None
            if node is not None:
                pause()
                begin = perf_counter()
                self._work(stage, node, legs, clock, probe)
                self.spent_s[stage] = self.spent_s.get(stage, 0.0) + perf_counter() - begin
            if stage in self.tapped:
                self.tapped[stage] = legs.copy()
            if probe is not None and before is not None:
                probe.hear(stage, before, legs, self.find(stage))

    def _work(
        self,
        stage: int,
        node: "Node | Gliding | Ringing",
        legs: np.ndarray,
        clock: int,
        probe: Probe | None,
    ) -> None:
        """Have a stage process a block. Raises CannotBuild, of that stage, whatever goes wrong in it."""
        try:
            node.process(legs, clock, probe)
        except CannotBuild:
            raise
        except Exception as error:
            if stage not in self._stages:  # one that was taken out, and rings
                raise
            raise CannotBuild(self._stages[stage], error) from error

    def steps(self) -> list[Callable[[np.ndarray, int, dict[int, np.ndarray | None]], None]]:
        """What `process` does without a probe, in parts that each can be at work on another block, if each gets all of
        them in their order: of legs (2, frames) and the clock, in place. What is tapped goes into the dict.
        """

        def step(
            stage: int,
            node: Node | Gliding | Ringing | None,
            legs: np.ndarray,
            clock: int,
            tapped: dict[int, np.ndarray | None],
        ) -> None:
            if node is not None:
                self._work(stage, node, legs, clock, None)
            if stage in self.tapped:
                tapped[stage] = legs.copy()

        return [
            partial(step, stage, node)
            for stage, node in self._places
            if node is not None or stage in self.tapped
        ]

    @property
    def changing(self) -> bool:
        """Whether it is going over from an older line within itself."""
        return any(isinstance(node, Gliding | Ringing) for _, node in self._places)

    def fits(self, old: "Line") -> bool:
        """Whether a change from an older line can happen where it is: what stays keeps its order and its time, and
        what comes or goes takes no time."""
        here, there = {n.id: n for n in self.nodes}, {n.id: n for n in old.nodes}
        both = [n.id for n in self.nodes if n.id in there]
        if both != [n.id for n in old.nodes if n.id in here]:
            return False
        in_time = all(
            here[number].plan.latency == there[number].plan.latency
            and here[number].late == there[number].late
            for number in both
        )
        alone = [n for n in (*self.nodes, *old.nodes) if (n.id in here) != (n.id in there)]
        return in_time and not any(node.latency for node in alone)

    def partners(self, old: "Line", upstream: bool) -> dict[int, Node]:
        """Of which nodes of an older line the state goes on here, by id.

        A stage that holds sound back cannot go on where what it hears has changed: the jump would come out late, when
        nothing hides it. `upstream` tells whether it has changed before the line.
        """
        found: dict[int, Node] = {}
        there = {node.id: node for node in old.nodes}
        before = [node.id for node in old.nodes]
        for place, node in enumerate(self.nodes):
            partner = there.get(node.id)
            upstream = upstream or before[: place + 1] != [n.id for n in self.nodes[: place + 1]]
            if partner is not None and not (upstream and node.latency) and node.goes_on_from(partner):
                found[node.id] = partner
            upstream = upstream or partner is None or not node.same(partner)
        return found

    def carried(self, old: "Line") -> dict[int, Node]:
        """As `partners`, for a change that happens where it is."""
        there = {node.id: node for node in old.nodes}
        return {
            n.id: there[n.id]
            for n in self.nodes
            if n.id in there and (n.same(there[n.id]) or n.goes_on_from(there[n.id]))
        }

    def goes_on_from(self, old: "Line") -> bool:
        """Whether all goes on as it is from an older line, which is as late."""
        return self.fits(old) and not self.unknown(self.carried(old))

    def take_over(self, partners: dict[int, Node], length: int) -> None:
        """Go on from the states of an older line's nodes, which work on for `length` frames."""
        for node in self.nodes:
            if node.id in partners:
                node.take_over(partners[node.id], length)

    def glide_from(self, old: "Line", partners: dict[int, Node], length: int) -> None:
        """Become an older line, which is no longer used, and go over from it where it differs, in `length` frames."""
        there = {node.id: node for node in old.nodes}
        here = {node.id: k for k, node in enumerate(self.nodes)}
        ids = {stage for stage, _ in self._places}
        places: list[tuple[int, Node | Gliding | Ringing | None]] = []
        for stage, node in self._places:
            new, before = (None if node is None else self.nodes[here[stage]]), there.get(stage)
            if new is None and before is None:
                places.append((stage, None))
            elif new is not None and before is not None and new.same(before):
                places.append((stage, before))
                self.nodes[here[stage]] = before
            else:
                if new is not None and stage in partners:
                    new.take_over(partners[stage], length)
                places.append((stage, going_over(before, new, length)))
        # What is gone fades out where it stood: behind the last one before it that is still here.
        stood = [node.id for node in old.nodes]
        for k, number in enumerate(stood):
            if number not in ids:
                known = [place for place, (stage, _) in enumerate(places) if stage in stood[:k]]
                places.insert(max(known, default=-1) + 1, (number, going_over(there[number], None, length)))
        # What rang on already rings on, where it stood.
        for k, (number, ringing) in enumerate(old._places):
            if isinstance(ringing, Ringing) and not ringing.over:
                places.insert(min(k, len(places)), (number, ringing))
        self._places = places

    def settle(self) -> None:
        """The change is over: what is there now goes on, and what rings."""
        still = {node.id: node for node in self.nodes}
        kept: list[tuple[int, Node | Gliding | Ringing | None]] = []
        for stage, node in self._places:
            if isinstance(node, Ringing):
                if not node.over:
                    kept.append((stage, node))
                if stage in self._order and stage not in still:
                    kept.append((stage, None))
            elif stage in self._order:
                kept.append((stage, still.get(stage)))
        self._places = kept

    @property
    def ringing(self) -> bool:
        """Whether something that was taken out still rings."""
        return any(isinstance(node, Ringing) for _, node in self._places)

    def unknown(self, partners: dict[int, Node]) -> int:
        """How far back has to be heard for the stages that cannot go on: also what stands before them has to know."""
        new = [k for k, node in enumerate(self.nodes) if node.id not in partners]
        return sum(node.plan.memory + node.latency for node in self.nodes[: new[-1] + 1]) if new else 0
