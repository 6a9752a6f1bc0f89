"""One strip with fixed settings: intake, split, a line of stages with spurs beside it, legs, join, output."""

import copy
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.ends import IntakeNode, OutputNode, intake_latency, output_latency
from stonekite.engine.graph.fading import Fade
from stonekite.engine.graph.joint import Joint
from stonekite.engine.graph.keys import Keys
from stonekite.engine.graph.line import Line
from stonekite.engine.graph.node import Node
from stonekite.engine.graph.probing import END, Probe
from stonekite.engine.graph.spurs import Spurs, legs_latency
from stonekite.lazy import lazy
from stonekite.session.types import Intake, Output, Strip
from stonekite.signal import matrix
from stonekite.signal.delay import Delay
from stonekite.signal.sanity import clean
from stonekite.stages.base import Context

mixing = lazy("stonekite.signal.mixing")

Step = Callable[[Any, int], Any]
"""A part of a chain's work, of what the part before it hands on and the clock before the block."""


@dataclass
class _Carried:
    """A block between the steps of a chain: the legs as they were split and as they are, what spurs take of stages, and
    what comes out of the spurs (spurs, 2, frames)."""

    legs: np.ndarray
    split: np.ndarray
    tapped: dict[int, np.ndarray | None] = field(default_factory=dict)
    rows: np.ndarray = field(default_factory=lambda: np.empty((0, 2, 0)))


def _context(strip: Strip, rate: float) -> Context:
    return Context(rate, strip.split.encoding)


def latency_of(strip: Strip, rate: float) -> int:
    """Samples by which a strip at a rate in Hz is late."""
    late = intake_latency(strip.intake, rate)
    late += legs_latency(strip, _context(strip, rate))
    return late + output_latency(strip.output, rate)


@dataclass(frozen=True)
class Heritage:
    """What of an older chain goes on in a newer one: nodes by id, and whether the ends and the wait in front do.

    `waits` tells the same of the legs' waiting for spurs. `fits` tells that the change can happen where it is: all is as
    late as it was. Otherwise both chains have to play beside each other.
    """

    fits: bool
    partners: dict[int, Node]
    intake: bool
    output: bool
    wait: bool
    waits: bool
    old_spurs: Spurs


class Chain:
    """A strip's settings at a rate in Hz, ready to process.

    `latency` is in samples, and so is `memory`: how far back it is of influence what went in. A chain in which nothing
    does anything gives back its input bit for bit: it does not even encode and decode. It can be made later than it has
    to be, `at_least` so many samples, to be in time with another one. What is damaged in its input is silence to it.
    `course` tells where the clock is in the recording, where playing goes round a loop. What an `older` chain has
    designed for the same settings is not designed again. Blocks may have more rows than those of the recording: two of
    each strip that detectors hear, from the row of `key_rows` on, counted behind the first two.
    """

    def __init__(
        self,
        strip: Strip,
        rate: float,
        at_least: int = 0,
        course: Course | None = None,
        older: "Chain | None" = None,
        key_rows: dict[int, int] | None = None,
    ) -> None:
        self.strip = strip
        self.course = Course() if course is None else course
        self.rate = rate
        encoded = strip.split.encoding
        self._encoding = None if encoded is None else matrix.encoding(encoded)
        self._decoding = None if encoded is None else matrix.decoding(encoded)
        self._own = latency_of(strip, rate)
        self.latency = max(self._own, at_least)
        wait = self._shift = self.latency - self._own
        """By how much what comes in waits, to be as late as it is wanted."""
        self._late = Delay((wait, wait)) if wait else None
        self._unheard = wait
        """So many frames of what waits are still from before the beginning: nothing hears them."""
        before = wait + intake_latency(strip.intake, rate)
        context, ends = _context(strip, rate), Context(rate)
        self.keys = Keys({} if key_rows is None else key_rows, wait)
        inside = self.course.behind(wait, self.keys)
        self._intake = IntakeNode(strip.intake, ends, inside, wait) if strip.intake != Intake() else None
        known = {} if older is None else older.known
        self.line = Line(strip.stages, context, before, inside, known)
        out_late = legs_latency(strip, context)
        self.spurs = Spurs(strip, context, self.line, before, before + out_late, inside, known)
        late = before + out_late
        self._joint = Joint(strip, context, inside, late, out_late - self.line.latency)
        self._output = OutputNode(strip.output, ends, inside, late) if strip.output != Output() else None
        first, second, *after = self._decoding or (1.0,) * 4
        gains = self._joint.gains
        self._joining = gains[0] * first, gains[1] * second, after[0], after[1]
        """Of the legs as they are, before their levels."""
        # Between the ends nothing is computed where nothing is to be done: not even encoding and decoding.
        self._nothing_between = self._plain = not self.line.nodes and not self.spurs and self._joint.idle
        self._fades: dict[str, tuple[Chain, Fade]] = {}
        self._empty = self._only_matrix
        self.transparent = (
            self._plain and self._intake is None and self._output is None and self._late is None
        )

    @property
    def _only_matrix(self) -> bool:
        """Whether legs are encoded, levelled and decoded, and nothing else happens before the output."""
        parts = (
            self.line.nodes,
            self.spurs,
            self._joint.levels,
            self._joint.delays,
            self._intake,
            self._late,
        )
        nothing = not any(parts)
        return nothing and self._encoding is not None and not self._plain

    @property
    def changing(self) -> bool:
        """Whether it is going over from an older chain within itself."""
        parts = self.line, self.spurs, self._joint
        return bool(self._fades) or any(part.changing for part in parts)

    @property
    def size(self) -> int:
        """How many stages are at work, those in branches counted with the ones that hold them."""
        return len(self.nodes)

    @property
    def memory(self) -> int:
        ends = sum(end.memory for end in (self._intake, self._output) if end is not None)
        legs = self.line.memory + self._joint.memory
        return ends + max(legs, self.spurs.memory) + 2 * self.latency

    @property
    def glide(self) -> int:
        """Samples for which it can be on the way from other settings, before its memory counts."""
        return sum(node.plan.glide for node in self.nodes)

    @property
    def nodes(self) -> list[Node]:
        """All stages at work, those in branches within the ones that hold them."""
        return [node for line in self._lines for node in line.nodes]

    @property
    def known(self) -> dict[int, Node]:
        """All stages at work by their ids, those in branches, too."""
        return {node.id: node for line in self._lines for node in line.everything}

    @property
    def _lines(self) -> list[Line]:
        return [self.line, *(node.line for node in self.spurs.nodes)]

    @property
    def tail(self) -> int:
        """Samples for which it sounds on after the recording has ended, besides its latency, until it is 90 dB down."""
        ends = 0 if self._intake is None else self._intake.memory
        return self.line.tail + self._joint.delays.tail + self.spurs.tail + ends

    @property
    def guarded(self) -> list[int]:
        """The ids of stages that their guards have made silent, wherever they stand."""

        def of(line: Line) -> list[int]:
            inner = [number for node in line.nodes for one in node.lines for number in of(one)]
            return [node.id for node in line.nodes if node.guarded] + inner

        return [number for line in self._lines for number in of(line)]

    def take_spent_s(self) -> dict[int, float]:
        """What each stage of the legs and the spurs has taken of the processor's time since this was asked last."""
        found: dict[int, float] = {}
        for line in self._lines:
            found |= line.spent_s
            line.spent_s.clear()
        return found

    def split(self, stereo: np.ndarray) -> np.ndarray:
        """The legs of a stereo block, as a new array (2, frames)."""
        return np.array(stereo, order="C") if self._encoding is None else _crossed(stereo, self._encoding)

    def join(self, legs: np.ndarray) -> np.ndarray:
        """Stereo from legs."""
        return legs if self._decoding is None else _crossed(legs, self._decoding)

    def process(self, stereo: np.ndarray, clock: int, probe: Probe | None = None) -> np.ndarray:
        """A block (2, frames), or more rows with keys, through the strip; `clock` counts what went in before it.

        Returns a new array (2, frames), or `stereo` itself if the chain is transparent and not looked into.
        """
        if stereo.shape[0] > 2:
            self.keys.put(stereo[2:], clock)
            stereo = stereo[:2]
        if self._empty and probe is None:
            out = np.empty(stereo.shape)
            if mixing.cross_twice(np.ascontiguousarray(stereo), self._encoding, self._joining, out):
                return self._left(out, clock)
        stereo = clean(stereo)
        if self.transparent and probe is None and not self.changing:
            return stereo
        if self._late is not None:  # what comes in waits: it is the same for all settings
            stereo = np.array(stereo, order="C")
            self._late.process(stereo)
        if not self._unheard:
            return self._through(stereo, clock, probe)
        count = min(self._unheard, stereo.shape[1])
        self._unheard -= count
        if count < stereo.shape[1]:
            heard = np.ascontiguousarray(stereo[:, count:])
            stereo[:, count:] = self._through(heard, clock + count, probe)
        return stereo

    def _through(self, stereo: np.ndarray, clock: int, probe: Probe | None) -> np.ndarray:
        stereo = self._entered(stereo, clock)
        if not self._plain or probe is not None:
            stereo = self._between(stereo, clock - self._shift, probe)
        return self._left(stereo, clock - self._shift)

    def steps(self) -> list[Step]:
        """What `process` does to a block, in parts: from a block (2, frames) and the clock before it to a block, what
        they hand on between them being their own. Each can be at work on another block at the same time, if each gets
        all blocks in their order. Not while it is changing.
        """
        if self._plain or self.changing or self._late is not None or self.keys.rows:
            return [self.process]

        def enter(stereo: np.ndarray, clock: int) -> _Carried:
            legs = self.split(self._entered(clean(stereo), clock))
            return _Carried(legs, legs.copy() if self.spurs.take_split else legs)

        def through(one: Callable[..., None], carried: _Carried, clock: int) -> _Carried:
            one(carried.legs, clock - self._shift, carried.tapped)
            return carried

        def take(carried: _Carried, clock: int) -> _Carried:
            carried.rows = np.empty((len(self.spurs.working), *carried.legs.shape))
            self.spurs.take(carried.split, carried.legs, carried.tapped, carried.rows)
            return carried

        def spur(row: int, carried: _Carried, clock: int) -> _Carried:
            self.spurs.working[row].process(carried.rows[row], clock - self._shift, None)
            return carried

        def leave(carried: _Carried, clock: int) -> np.ndarray:
            stereo = self._joined(carried.legs, clock - self._shift, carried.rows)
            return self._left(stereo, clock - self._shift)

        steps: list[Step] = [enter, *(partial(through, one) for one in self.line.steps())]
        if self.spurs:
            steps += [take, *(partial(spur, row) for row in range(len(self.spurs.working)))]
        return [*steps, leave]

    def _entered(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        if "intake" in self._fades:
            return self._faded("intake", stereo, Chain._through_intake, clock - self._shift)
        return self._through_intake(stereo, clock - self._shift)

    def _left(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        if "output" in self._fades:
            return self._faded("output", stereo, Chain._through_output, clock)
        return self._through_output(stereo, clock)

    def _faded(
        self, what: str, block: np.ndarray, work: Callable[["Chain", np.ndarray, int], np.ndarray], clock: int
    ) -> np.ndarray:
        """Work of this chain on a block, and of the older one beside it, from which it is going over."""
        old, fade = self._fades[what]
        return fade.process(block, clock, partial(work, old), partial(work, self))

    def _through_intake(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        return stereo if self._intake is None else self._intake.process(stereo, clock)

    def _through_output(self, stereo: np.ndarray, clock: int) -> np.ndarray:
        return stereo if self._output is None else self._output.process(stereo, clock)

    def _between(self, stereo: np.ndarray, clock: int, probe: Probe | None) -> np.ndarray:
        """Split, stages and spurs, legs and join."""
        legs = self.split(stereo)
        split = legs.copy() if self.spurs.take_split else legs
        self.line.process(legs, clock, probe)
        if self.spurs:
            self.spurs.process(split, legs, clock, probe)
        if probe is not None and probe.wants(END):
            probe.hear(END, legs, legs, None)
        return stereo if self._plain else self._joined(legs, clock)

    def _joined(self, legs: np.ndarray, clock: int, rows: np.ndarray | None = None) -> np.ndarray:
        """Legs at their levels, with what the spurs add, as stereo; `rows` is that, where it is not what came last."""
        self._joint.hold(legs, clock)
        simple = not self._joint.changing and not self.spurs and not self._joint.levels
        if self._decoding is not None and simple:  # levels and matrix in one pass: the same bits
            return _crossed(legs, self._joining)
        legs = self._joint.level(legs, clock)
        if self.spurs:
            self.spurs.add_to(legs, rows)
        return self.join(legs)

    def heritage(self, old: "Chain") -> Heritage:
        """What goes on from a chain that was playing: of stages that both have, if they hear the same components at
        the same time.
        """
        same_legs = old.strip.split == self.strip.split
        wait = self._shift == old._shift
        intake, output = (_layout(one) == _layout(two) for one, two in self._ends(old))
        late = [_latency(one) == _latency(two) for one, two in self._ends(old)]
        held = self._joint.layout == old._joint.layout
        fits = same_legs and wait and all(late) and held and self.line.fits(old.line)
        partners = {}
        if fits:
            partners = self.line.carried(old.line) | self.spurs.partners(old.spurs, False)
        elif same_legs:
            upstream = self.strip.intake != old.strip.intake
            partners = self.line.partners(old.line, upstream)
            upstream = upstream or self.strip.stages != old.strip.stages
            partners |= self.spurs.partners(old.spurs, upstream)
        output = output and wait and self._before_output == old._before_output
        waits = fits or not self._joint.holds
        return Heritage(
            fits, partners, intake and wait, output and (fits or self._output is None), wait, waits, old.spurs
        )

    @property
    def _before_output(self) -> int:
        return self.latency - _latency(self._output)

    def unknown(self, heritage: Heritage) -> int:
        """Frames of what was heard that the chain has to hear itself, for what does not go on from another one."""
        if self._output is not None and not heritage.output:
            return self.memory
        wanted = self.line.unknown(heritage.partners)
        if self.spurs:
            wanted = max(wanted, self.spurs.unknown(heritage.old_spurs, heritage.partners, heritage.fits))
        if not heritage.waits:
            wanted = max(wanted, self.line.memory + self.line.latency + self._joint.held)
        if self._intake is not None and (wanted or not heritage.intake):
            wanted += self._intake.memory
        if self._late is not None and not heritage.wait:
            wanted = max(wanted, 1)
        return wanted + 2 * self.latency if wanted else 0

    def take_over(self, old: "Chain", heritage: Heritage, length: int) -> None:
        """Go on from the states of a chain that was playing, where they mean the same here.

        If the change fits, the older chain is used up, and this one goes over from it within `length` frames.
        """
        if heritage.intake and self._intake is not None and old._intake is not None:
            self._intake.take_over(old._intake)
        if heritage.output and self._output is not None and old._output is not None:
            self._output.take_over(old._output)
        if heritage.wait:
            self._late, self._unheard = copy.deepcopy(old._late), old._unheard
        if not heritage.fits:
            self.line.take_over(heritage.partners, length)
            self.spurs.take_over(heritage.partners, length)
            return
        self.keys.go_on_from(old.keys)
        self.line.glide_from(old.line, heritage.partners, length)
        self.spurs.glide_from(old.spurs, heritage.partners, length)
        self._joint.glide_from(old._joint, length)
        if self.strip.intake != old.strip.intake:
            self._fades["intake"] = old, Fade(length)
        if self.strip.output != old.strip.output:
            self._fades["output"] = old, Fade(length)
        self._plain = self._plain and old._plain
        self._empty = False

    def settle(self) -> None:
        """The change is over."""
        self._fades.clear()
        self._joint.settle()
        self.line.settle()
        self.spurs.settle()
        self._plain = self._nothing_between and not self.line.ringing
        self._empty = self._only_matrix and not self.line.ringing

    def _ends(self, old: "Chain") -> list[tuple[Any, Any]]:
        return [(self._intake, old._intake), (self._output, old._output)]

    @property
    def ceiling_db(self) -> float:
        """By how much the output's ceiling turned the last block down at the most."""
        return 0.0 if self._output is None else self._output.reduction_db


def _crossed(rows: np.ndarray, gains: tuple[float, float, float, float]) -> np.ndarray:
    """Rows (2, frames) encoded or decoded, as a new array."""
    out = np.empty(rows.shape)
    mixing.cross(np.ascontiguousarray(rows), *gains, out)
    return out


def _layout(node: IntakeNode | OutputNode | None) -> Any:
    return None if node is None else node.layout


def _latency(node: IntakeNode | OutputNode | None) -> int:
    return 0 if node is None else node.latency
