"""One strip with fixed settings: split, stages, legs, join."""

import copy
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from stonekite.session.types import LEGS, Leg, Strip
from stonekite.signal import matrix
from stonekite.signal.decibels import gain_of
from stonekite.stages.base import Kind, Stage
from stonekite.stages.registry import kind_of


@dataclass
class Tap:
    """Collects what goes into and comes out of one stage, or the ends of the legs if there is no such stage."""

    stage: int
    before: list[np.ndarray] = field(default_factory=list)
    after: list[np.ndarray] = field(default_factory=list)

    def take(self) -> tuple[np.ndarray, np.ndarray]:
        """What was collected, two arrays (2, frames), and start anew."""
        taken = np.concatenate(self.before, axis=1), np.concatenate(self.after, axis=1)
        self.before.clear()
        self.after.clear()
        return taken


class Delay:
    """Delays the two rows of a signal by whole numbers of samples."""

    def __init__(self, samples: tuple[int, int]) -> None:
        self._lines = [np.zeros(n) for n in samples]

    def process(self, block: np.ndarray) -> None:
        """Delay block (2, frames) in place."""
        for row, line in enumerate(self._lines):
            if len(line):
                joined = np.concatenate([line, block[row]])
                block[row] = joined[: block.shape[1]]
                self._lines[row] = joined[block.shape[1] :]


class _Node:
    """A stage at work: its coefficients, its state, and what brings its legs back into time."""

    def __init__(self, stage: Stage, rate: float) -> None:
        self.id = stage.id
        self.kind: Kind = kind_of(stage)
        self.coefficients: Any = self.kind.prepare(stage, rate)
        latencies = self.kind.latency(stage, rate)
        self.latency = max(latencies)
        self.layout = (type(stage), latencies, np.shape(self.coefficients))
        self.state: Any = self.kind.start(self.coefficients)
        self.alignment = Delay((self.latency - latencies[0], self.latency - latencies[1]))

    def process(self, legs: np.ndarray, position: int) -> None:
        self.kind.process(self.state, self.coefficients, legs, position)
        self.alignment.process(legs)
        # One sum is not finite if any sample is not: cheaper than looking at each.
        if not np.isfinite(legs.sum()):
            np.nan_to_num(legs, copy=False, nan=0.0, posinf=0.0, neginf=0.0)
            np.clip(legs, -1e12, 1e12, out=legs)
            self.state = self.kind.start(self.coefficients)

    def take_over(self, other: "_Node") -> None:
        """Go on from another node's state."""
        self.state = copy.deepcopy(other.state)
        self.alignment = copy.deepcopy(other.alignment)


def leg_gains(strip: Strip) -> tuple[float, float]:
    """Gain of the upper and lower leg at the join: level, polarity, mute and alone."""
    alone = [strip.leg(name).alone for name in LEGS]

    def gain(leg: Leg) -> float:
        if leg.muted or (any(alone) and not leg.alone):
            return 0.0
        return gain_of(leg.level_db) * (-1.0 if leg.inverted else 1.0)

    return gain(strip.upper), gain(strip.lower)


class Chain:
    """A strip's settings at a rate in Hz, ready to process.

    `latency` is in samples. A chain in which nothing does anything gives back its input bit for bit: it
    does not even encode and decode.
    """

    def __init__(self, strip: Strip, rate: float) -> None:
        self.strip = strip
        self.rate = rate
        self._gains = leg_gains(strip)
        self._nodes = [
            _Node(stage, rate)
            for stage in strip.stages
            if stage.inserted and not kind_of(stage).neutral(stage)
        ]
        self.latency = sum(node.latency for node in self._nodes)
        self.transparent = not self._nodes and self._gains == (1.0, 1.0)

    def split(self, stereo: np.ndarray) -> np.ndarray:
        """The legs of a stereo block, as a new array (2, frames)."""
        if self.strip.split.mode == "left-right":
            return np.array(stereo, order="C")
        return matrix.encode(stereo, self.strip.split.matrix)

    def join(self, legs: np.ndarray) -> np.ndarray:
        """Stereo from legs."""
        return legs if self.strip.split.mode == "left-right" else matrix.decode(legs, self.strip.split.matrix)

    def process(self, stereo: np.ndarray, position: int, tap: Tap | None = None) -> np.ndarray:
        """A block (2, frames) through the strip; `position` is the sample position of its first frame.

        Returns a new array, or `stereo` itself if the chain is transparent and not tapped.
        """
        if self.transparent and tap is None:
            return stereo
        legs = self.split(stereo)
        place = self._place_of(tap)
        for index, node in enumerate(self._nodes):
            if tap is not None and index == place:
                tap.before.append(legs.copy())
            node.process(legs, position)
            if tap is not None and index == place and node.id == tap.stage:
                tap.after.append(legs.copy())
        if tap is not None and place == len(self._nodes):
            tap.before.append(legs.copy())
        if tap is not None and len(tap.after) < len(tap.before):  # the tapped stage does nothing
            tap.after.append(tap.before[-1])
        if self.transparent:
            return stereo
        for row, gain in enumerate(self._gains):
            if gain != 1.0:
                legs[row] *= gain
        return self.join(legs)

    def _place_of(self, tap: Tap | None) -> int:
        """How many working stages come before the tapped one."""
        before = [stage.id for stage in self.strip.stages]
        if tap is None or tap.stage not in before:
            return len(self._nodes)
        before = before[: before.index(tap.stage)]
        return sum(node.id in before for node in self._nodes)

    def continue_from(self, old: "Chain", history: np.ndarray, position: int) -> None:
        """Take over from a chain that was playing.

        Stages that both have go on from their states. If there are new ones, or the legs carry other
        components than before, the chain first hears `history` (2, frames), the input that ended at
        `position`, so that filters start in the middle of the sound and not at its beginning.
        """
        same_legs = old.strip.split == self.strip.split
        partners = {node.id: node for node in old._nodes} if same_legs else {}
        kept = {
            node.id for node in self._nodes if node.id in partners and partners[node.id].layout == node.layout
        }
        if len(kept) < len(self._nodes):
            self.process(history, position - history.shape[1])
        for node in self._nodes:
            if node.id in kept:
                node.take_over(partners[node.id])
