"""A line of stages at work on two legs: what a branch sounds like, wherever it stands."""

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from time import perf_counter

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.courtesy import pause
from stonekite.engine.graph.gliding import Gliding, Ringing, going_over
from stonekite.engine.graph.node import Node
from stonekite.engine.graph.probing import Probe
from stonekite.engine.graph.switched import Switched
from stonekite.stages.base import Context, Plan, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.planning import CannotBuild, building, plan_of, ways_of, works

Known = Mapping[int, Node]
"""Nodes that were built before, by the id of their stage."""


def _twin(stage: Stage, context: Context, known: Known) -> Node | None:
    """The known node of a stage that has been built from the same settings, for the same rate and matrix."""
    node = known.get(stage.id)
    return node if node is not None and node.context == context and node.stage == stage else None


def _built(stage: Stage, context: Context, late: int, course: Course, known: Known) -> Node:
    twin = _twin(stage, context, known)
    plan = plan_of(stage, context) if twin is None else twin.plan

    def build(one: Stage, needs: Plan, twin: Node | None) -> Node:
        lines = tuple(Line(branch.stages, context, late, course, known) for branch in branches_of(one))
        return Node(one, context, needs, late, course, lines, twin)

    ways = ways_of(stage)
    if ways is None:
        return building(stage, lambda: build(stage, plan, twin))
    twins = [None] * len(ways.stages) if twin is None else twin.ways
    nodes = [
        building(stage, partial(build, one, plan_of(one, context), of_old))
        for one, of_old in zip(ways.stages, twins, strict=True)
    ]
    return Switched(stage, context, plan, ways, nodes, late, course)


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
    def is_empty(self) -> bool:
        """Whether nothing stands in it, not even what has nothing to do or rings."""
        return not self._places

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
