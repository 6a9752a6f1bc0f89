"""Looking at stages while they work."""

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

import numpy as np

if TYPE_CHECKING:
    from stonekite.engine.graph.node import Node

END = -1
"""The place behind the last stage, for probes: it has no stage and no id."""


class Probe(Protocol):
    """Looks at stages while they work."""

    def wants(self, stage: int) -> bool:
        """Whether it looks at the stage of that id, or at the END."""

    def hear(self, stage: int, before: np.ndarray, after: np.ndarray, node: "Node | None") -> None:
        """The legs (2, frames) before and after a stage, and the stage at work, if it has anything to do.

        Both may be changed afterwards: keep copies.
        """


@dataclass
class Tap:
    """Collects what goes into and comes out of one stage, wherever it stands, or the ends of the legs if there is no such
    stage. `node` is the stage at work, once it was heard.
    """

    stage: int
    before: list[np.ndarray] = field(default_factory=list)
    after: list[np.ndarray] = field(default_factory=list)
    heard: list[np.ndarray] = field(default_factory=list)
    """What the detectors of the stage heard: what goes into it, or its key."""
    node: "Node | None" = None
    _found: bool = False

    def wants(self, stage: int) -> bool:
        return stage in (self.stage, END)

    def hear(self, stage: int, before: np.ndarray, after: np.ndarray, node: "Node | None") -> None:
        if stage == END:
            if not self._found:
                self.heard.append(before.copy())
                self.before.append(before.copy())
                self.after.append(after.copy())
            self._found = False
            return
        self._found = True
        self.node = node
        key = None if node is None else node.key_heard
        self.heard.append((before if key is None else key).copy())
        self.before.append(before.copy())
        self.after.append(after.copy())

    def take(self) -> tuple[np.ndarray, np.ndarray]:
        """What was collected, two arrays (2, frames), without frames where nothing was; and start anew."""
        nothing = np.empty((2, 0))
        taken = (
            np.concatenate([nothing, *self.before], axis=1),
            np.concatenate([nothing, *self.after], axis=1),
        )
        for collected in (self.before, self.after, self.heard):
            collected.clear()
        return taken
