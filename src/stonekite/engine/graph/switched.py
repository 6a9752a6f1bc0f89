"""A stage whose switches are turned over the recording."""

from typing import TYPE_CHECKING

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.node import Node
from stonekite.engine.graph.track import Following, Track
from stonekite.stages.base import Context, Plan, Stage
from stonekite.stages.machinery.rows import times_leg
from stonekite.stages.planning import Ways

if TYPE_CHECKING:
    from stonekite.engine.graph.probing import Probe


class Switched(Node):
    """A stage that works in several ways beside each other, a node for each, from the beginning on: so it is the same
    from any start. Heard is the one in which its switches stand, which go over in SWITCH_S."""

    def __init__(
        self,
        stage: Stage,
        context: Context,
        plan: Plan,
        ways: Ways,
        nodes: list[Node],
        late: int,
        course: Course,
    ) -> None:
        first = nodes[0]
        self.id, self.stage, self.context, self.kind = first.id, stage, context, first.kind
        self.plan, self.late, self.latency = plan, late, first.latency
        self.lines = tuple(line for node in nodes for line in node.lines)
        self._nodes = nodes
        self._states = ways.states.tolist()
        track = Track(ways.shares, stage, context, role="way")
        self._shares = Following(track, context.rate, course, late + self.latency)
        self._now = 0

    @property
    def heard(self) -> Node:
        return self._nodes[self._now]

    @property
    def ways(self) -> list[Node]:
        return self._nodes

    def process(self, legs: np.ndarray, clock: int, probe: "Probe | None" = None) -> None:
        frames = legs.shape[1]
        if not frames:
            return
        shares = self._shares.block(clock, frames)
        self._now = int(np.argmax(shares.table[0]))
        blocks = [legs.copy() for _ in self._nodes[1:]]
        for k, (node, block) in enumerate(zip(self._nodes, [legs, *blocks], strict=True)):
            node.process(block, clock, probe if k == self._now else None)
        self.key_heard = self.heard.key_heard
        if shares.table[0, self._now] == 1.0 and not shares.steps.any():
            if self._now:
                legs[:] = blocks[self._now - 1]
            return
        for k, block in enumerate([legs, *blocks]):
            for leg in block:
                times_leg(leg, shares, k)
        for block in blocks:
            legs += block

    def goes_on_from(self, other: Node) -> bool:
        return all(way.goes_on_from(other) for way in self._nodes)

    def take_over(self, other: Node, length: int) -> None:
        for way in self._nodes:
            way.take_over(other, length)
        if isinstance(other, Switched) and other._states == self._states:
            self._shares.go_on_from(other._shares)
