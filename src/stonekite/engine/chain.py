"""One strip with fixed settings: intake, split, stages, legs, join, output."""

import copy
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from stonekite.engine.ends import IntakeNode, OutputNode, output_latency
from stonekite.session.types import LEGS, Intake, Leg, Output, Strip
from stonekite.signal import matrix
from stonekite.signal.decibels import gain_of
from stonekite.signal.delay import Delay
from stonekite.signal.matrix import Matrix
from stonekite.stages.base import Kind, Stage
from stonekite.stages.registry import kind_of

Observer = Callable[[int, np.ndarray, np.ndarray], None]
"""Is told a stage's id and the legs before and after it."""


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


class _Node:
    """A stage at work: its coefficients, its state, its mix, and what brings its legs back into time."""

    def __init__(self, stage: Stage, rate: float, encoding: Matrix | None) -> None:
        self.id = stage.id
        self.kind: Kind = kind_of(stage)
        self.coefficients: Any = self.kind.prepare(stage, rate, encoding)
        latencies = self.kind.latency(stage, rate)
        self.latency = max(latencies)
        self.state: Any = self.kind.start(self.coefficients)
        self._alignment = Delay((self.latency - latencies[0], self.latency - latencies[1]))
        self._change_only = stage.change_only
        self._given_back = gain_of(stage.kept_db) if stage.level_kept else 1.0
        sides = [getattr(stage, leg) for leg in LEGS]
        self._mix = [1.0 if side is None else side.mix / 100.0 for side in sides]
        needs_dry = stage.change_only or self._mix != [1.0, 1.0]
        self._dry = Delay((self.latency, self.latency)) if needs_dry else None
        self.layout = (type(stage), latencies, needs_dry, self.kind.layout(self.coefficients))

    def process(self, legs: np.ndarray, position: int) -> None:
        dry = None
        if self._dry is not None:
            dry = legs.copy()
            self._dry.process(dry)
        self.kind.process(self.state, self.coefficients, legs, position)
        self._alignment.process(legs)
        # One sum is not finite if any sample is not: cheaper than looking at each.
        if not np.isfinite(legs.sum()):
            np.nan_to_num(legs, copy=False, nan=0.0, posinf=0.0, neginf=0.0)
            np.clip(legs, -1e12, 1e12, out=legs)
            self.state = self.kind.start(self.coefficients)
        if dry is not None:
            self._blend(legs, dry)
        if self._given_back != 1.0:
            legs *= self._given_back

    def _blend(self, legs: np.ndarray, dry: np.ndarray) -> None:
        legs -= dry
        for row, mix in enumerate(self._mix):
            if mix != 1.0:
                legs[row] *= mix
        if not self._change_only:
            legs += dry

    def take_over(self, other: "_Node") -> None:
        """Go on from another node's state."""
        self.state = copy.deepcopy(other.state)
        self._alignment = copy.deepcopy(other._alignment)
        self._dry = copy.deepcopy(other._dry)


def leg_gains(strip: Strip) -> tuple[float, float]:
    """Gain of the upper and lower leg at the join: level, polarity, mute and alone."""
    alone = [strip.leg(name).alone for name in LEGS]

    def gain(leg: Leg) -> float:
        if leg.muted or (any(alone) and not leg.alone):
            return 0.0
        return gain_of(leg.level_db) * (-1.0 if leg.inverted else 1.0)

    return gain(strip.upper), gain(strip.lower)


def _works(stage: Stage) -> bool:
    """Whether a stage has anything to do."""
    if not stage.inserted:
        return False
    given_back = stage.level_kept and stage.kept_db != 0.0
    return given_back or stage.change_only or not kind_of(stage).neutral(stage)


def latency_of(strip: Strip, rate: float) -> int:
    """Samples by which a strip at a rate in Hz is late."""
    late = IntakeNode(strip.intake, rate).latency if strip.intake != Intake() else 0
    late += sum(max(kind_of(stage).latency(stage, rate)) for stage in strip.stages if _works(stage))
    return late + output_latency(strip.output, rate)


class Chain:
    """A strip's settings at a rate in Hz, ready to process.

    `latency` is in samples. A chain in which nothing does anything gives back its input bit for bit: it
    does not even encode and decode. It can be made later than it has to be, `at_least` so many samples, to be in
    time with another one.
    """

    def __init__(self, strip: Strip, rate: float, at_least: int = 0) -> None:
        self.strip = strip
        self.rate = rate
        self.observer: Observer | None = None
        self._gains = leg_gains(strip)
        self._intake = IntakeNode(strip.intake, rate) if strip.intake != Intake() else None
        self._output = OutputNode(strip.output, rate) if strip.output != Output() else None
        self._nodes = [_Node(stage, rate, strip.split.encoding) for stage in strip.stages if _works(stage)]
        self._own = latency_of(strip, rate)
        self.latency = max(self._own, at_least)
        self._late = Delay((self.latency - self._own,) * 2) if self.latency > self._own else None
        # Between the ends nothing is computed where nothing is to be done: not even encoding and decoding.
        self._plain = not self._nodes and self._gains == (1.0, 1.0)
        self.transparent = (
            self._plain and self._intake is None and self._output is None and self._late is None
        )

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
        if self._late is not None:  # what comes in waits: it is the same for all settings
            stereo = np.array(stereo, order="C")
            self._late.process(stereo)
            position -= self.latency - self._own
        if self._intake is not None:
            stereo = self._intake.process(stereo, position)
        if not self._plain or tap is not None:
            stereo = self._between(stereo, position, tap)
        if self._output is not None:
            stereo = self._output.process(stereo, position)
        return stereo

    def _between(self, stereo: np.ndarray, position: int, tap: Tap | None) -> np.ndarray:
        """Split, stages, legs and join."""
        legs = self.split(stereo)
        place = self._place_of(tap)
        for index, node in enumerate(self._nodes):
            if tap is not None and index == place:
                tap.before.append(legs.copy())
            before = legs.copy() if self.observer is not None else None
            node.process(legs, position)
            if self.observer is not None and before is not None:
                self.observer(node.id, before, legs)
            if tap is not None and index == place and node.id == tap.stage:
                tap.after.append(legs.copy())
        if tap is not None and place == len(self._nodes):
            tap.before.append(legs.copy())
        if tap is not None and len(tap.after) < len(tap.before):  # the tapped stage does nothing
            tap.after.append(tap.before[-1])
        if self._plain:
            return stereo
        for row, gain in enumerate(self._gains):
            if gain != 1.0:
                legs[row] *= gain
        return self.join(legs)

    def reduction_db(self, stage: int) -> np.ndarray:
        """What a stage takes away now (2,), in dB; zeros if it does not say."""
        for node in self._nodes:
            if node.id == stage and hasattr(node.kind, "meter"):
                return node.kind.meter(node.state)
        return np.zeros(2)

    def bands_now(self, stage: int) -> tuple[np.ndarray, np.ndarray] | None:
        """What the bands of a stage hear and do now, each (2, bands) in dB, if their gains follow the sound."""
        for node in self._nodes:
            if node.id == stage and hasattr(node.kind, "bands_now"):
                return node.kind.bands_now(node.state)
        return None

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
        same_intake, same_output = (_layout(one) == _layout(two) for one, two in self._ends(old))
        same_legs = old.strip.split == self.strip.split
        partners = {node.id: node for node in old._nodes} if same_legs else {}
        kept = {
            node.id for node in self._nodes if node.id in partners and partners[node.id].layout == node.layout
        }
        same_time = self.latency - self._own == old.latency - old._own
        if len(kept) < len(self._nodes) or not (same_intake and same_output and same_time):
            self.process(history, position - history.shape[1])
        if same_intake and self._intake is not None and old._intake is not None:
            self._intake.take_over(old._intake)
        if same_output and self._output is not None and old._output is not None:
            self._output.take_over(old._output)
        if same_time:
            self._late = copy.deepcopy(old._late)
        for node in self._nodes:
            if node.id in kept:
                node.take_over(partners[node.id])

    def _ends(self, old: "Chain") -> list[tuple[Any, Any]]:
        return [(self._intake, old._intake), (self._output, old._output)]

    @property
    def ceiling_db(self) -> float:
        """By how much the output's ceiling turned the last block down at the most."""
        return 0.0 if self._output is None else self._output.reduction_db


def _layout(node: IntakeNode | OutputNode | None) -> Any:
    return None if node is None else node.layout
