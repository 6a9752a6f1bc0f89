"""Spurs at work: paths that leave the legs, go through stages of their own, and come back at the join in time."""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from stonekite.engine.graph.course import Course
from stonekite.engine.graph.ends import shares
from stonekite.engine.graph.fading import Fade
from stonekite.engine.graph.leg_delays import delays_latency
from stonekite.engine.graph.line import Known, Line
from stonekite.engine.graph.node import Node
from stonekite.engine.graph.probing import Probe
from stonekite.engine.graph.riding_delay import RidingDelay, ends_ms
from stonekite.engine.graph.track import LEVELS, factor_of, following, standing_of
from stonekite.lazy import lazy
from stonekite.session.spur import END, SPLIT, Spur
from stonekite.session.types import Split, Strip, anything_alone
from stonekite.signal import matrix
from stonekite.signal.delay import TAPS, FineDelay
from stonekite.stages.base import Context
from stonekite.stages.machinery.rows import stacked, times, times_leg
from stonekite.stages.planning import along, moves_in, seam_memory

mixing = lazy("stonekite.signal.mixing")

GLIDE_S = 0.02
"""In which a spur opens or closes."""

ROWS = {"left": 0, "right": 1, "mid": 0, "side": 1}


def legs_to_stereo(split: Split) -> np.ndarray:
    """Gains (2, 2) from the legs (columns) to left and right (rows)."""
    return np.eye(2) if split.encoding is None else matrix.decode(np.eye(2), split.encoding)


def stereo_to_legs(split: Split) -> np.ndarray:
    """Gains (2, 2) from left and right (columns) to the legs (rows)."""
    return np.eye(2) if split.encoding is None else matrix.encode(np.eye(2), split.encoding)


def taken(spur: Spur, split: Split) -> np.ndarray:
    """Gains (2, 2) from the legs (columns) to what goes into a spur (rows); of one component, the lower row is empty.

    A component that the split does not carry is encoded with the split's own matrix.
    """
    if spur.of_both:
        return np.eye(2)
    gains = np.zeros((2, 2))
    if split.mode == _mode(spur):
        gains[0, ROWS[spur.source]] = 1.0
    else:
        encoded = np.eye(2) if _mode(spur) == "left-right" else matrix.encode(np.eye(2), split.matrix)
        gains[0] = (encoded @ legs_to_stereo(split))[ROWS[spur.source]]
    return gains


def _mode(spur: Spur) -> str:
    return "left-right" if spur.source in ("left", "right") else "mid-side"


def given(spur: Spur, split: Split) -> np.ndarray:
    """Gains (2, 2) from what comes out of a spur (columns) to the legs behind their levels (rows). Where its level or its
    place moves, that has been done to it."""
    moves = moves_in(spur, *LEVELS, "position")
    spur = standing_of(spur)
    level = 1.0 if moves else float(factor_of(spur))
    if spur.of_both:
        return level * np.eye(2)
    gains = np.zeros((2, 2))
    if spur.placed and moves:
        return stereo_to_legs(split)
    if spur.placed:
        gains[:, 0] = stereo_to_legs(split) @ np.array(shares(spur.position, "constant-power"))
    elif split.mode == _mode(spur):
        gains[ROWS[spur.source], 0] = 1.0
    else:
        decoded = np.eye(2) if _mode(spur) == "left-right" else matrix.decode(np.eye(2), split.matrix)
        gains[:, 0] = stereo_to_legs(split) @ decoded[:, ROWS[spur.source]]
    return level * gains


def _levels_of(spur: Spur, context: Context) -> np.ndarray:
    """Rows (n, 2) of what both rows that come out of a spur are levelled by; of one that is placed, left and right."""
    level = factor_of(spur)
    if spur.of_both or not spur.placed:
        return stacked(level, level)
    return stacked(*(level * share for share in shares(spur.position, "constant-power")))


def _openings_of(spur: Spur, context: Context) -> np.ndarray:
    """Rows (n, 1) of how far a spur is open."""
    return 1.0 - np.atleast_1d(spur.closed)[:, None]


class SpurNode:
    """A spur at work. `late` is by how many samples what it takes is late, `out_late` what it has to be when it comes
    back.
    """

    def __init__(
        self,
        spur: Spur,
        strip: Strip,
        context: Context,
        late: int,
        out_late: int,
        course: Course,
        known: Known,
    ) -> None:
        self.id = spur.id
        self.spur = spur
        self.taken = taken(spur, strip.split)
        heard = spur.alone or not anything_alone(strip)
        self.gains = given(spur, strip.split) if heard else np.zeros((2, 2))
        self.line = Line(spur.branch.stages, context, late, course, known)
        self._jumps = seam_memory(context.rate)
        self.level = following((*LEVELS, "position"), _levels_of, spur, context, course, out_late)
        self._spreads = spur.placed and not spur.of_both
        self.door = following(("closed",), _openings_of, spur, context, course, late)
        self._open = 0.0 if self.door is None and standing_of(spur).closed else 1.0
        self.opened = self._open
        """How far it is open now: it opens and closes within GLIDE_S."""
        self._step = 1.0 / max(1.0, GLIDE_S * context.rate)
        self._delays = _Delays(spur, context, course, out_late, out_late - late - self.line.latency)
        self.shape = spur.after, late, self._delays.shape

    def process(self, rows: np.ndarray, clock: int, probe: Probe | None) -> None:
        """What it takes (2, frames) becomes, in place, what comes out of it, without a level that stands."""
        if self.opened != self._open or self._open == 0.0:
            self._gate(rows)
        if self.door is not None:
            doors = self.door.block(clock, rows.shape[1])
            for row in rows:
                times_leg(row, doors, 0)
        self.line.process(rows, clock, probe)
        self._delays.process(rows, clock)
        if self.level is not None:
            if self._spreads:
                rows[1] = rows[0]
            times(rows, self.level.block(clock, rows.shape[1]), 0)

    def _gate(self, rows: np.ndarray) -> None:
        """Let in as much as it is open."""
        steps = np.arange(1, rows.shape[1] + 1) * self._step
        sign = 1.0 if self._open > self.opened else -1.0
        gains = np.clip(
            self.opened + sign * steps, min(self.opened, self._open), max(self.opened, self._open)
        )
        rows *= 0.5 - 0.5 * np.cos(np.pi * gains)
        self.opened = float(gains[-1]) if rows.shape[1] else self.opened

    @property
    def memory(self) -> int:
        jumps = self._jumps if self.level is not None or self.door is not None else 0
        return self.line.memory + self.line.latency + self.waits + jumps

    @property
    def waits(self) -> int:
        """Samples for which it holds back what has gone through its stages."""
        return self._delays.memory

    def wait_as(self, other: "SpurNode") -> None:
        """Go on holding back from where another one of the same shape is."""
        self._delays = other._delays


class _Delays:
    """What holds a spur back behind its stages, by its delay and by so many samples more (less, if that is less than
    nothing), where what comes out is so many samples `late`."""

    def __init__(self, spur: Spur, context: Context, course: Course, late: int, more: int) -> None:
        delay, fine = _shortest(spur, context.rate)
        self._moving: list[RidingDelay] = []
        self._still: FineDelay | None = None
        self.shape: Any
        if moves_in(spur, "delay_ms"):
            given = context, course, late, more - fine
            self._moving = [RidingDelay(spur, *given) for _ in range(2)]
            self.memory = self._moving[0].longest + 2 * fine + seam_memory(context.rate)
            rides = [ride for ride in spur.rides if ride.path == "delay_ms"]
            self.shape = rides, spur.delay_way, more
            return
        still = FineDelay((more - fine + delay,) * 2)
        if still.latency > 0 or more + delay > 0:
            self._still = still
        self.memory = math.ceil(more + delay) + still.latency
        self.shape = still.latency, round(more + delay, 6)

    def process(self, rows: np.ndarray, clock: int) -> None:
        """Hold rows (2, frames) back in place."""
        if self._still is not None:
            self._still.process(rows)
        for row, moving in zip(rows, self._moving, strict=False):
            moving.process(row, clock)


def _shortest(spur: Spur, rate: float) -> tuple[float, int]:
    """The delay of a spur in samples, the shortest that it comes to, and by how many more it is late if it is no whole
    number, or moves."""
    if moves_in(spur, "delay_ms"):
        return ends_ms(spur)[0] * 1e-3 * rate, TAPS // 2
    still = ends_ms(spur)[0] if spur.rides else spur.delay_ms
    delay = round(still * 1e-3 * rate, 6)
    return delay, FineDelay((abs(delay), abs(delay))).latency


def needs(spur: Spur, late: int, context: Context) -> int:
    """By how many samples the legs have to be late at least, for a spur that takes what is `late` to be in time."""
    delay, fine = _shortest(spur, context.rate)
    return math.ceil(late + max(along(spur.branch.stages, context).latency) + fine - delay)


class _Place:
    """A spur that is there, or one that comes or goes within `length` frames."""

    def __init__(self, old: SpurNode | None, new: SpurNode | None, length: int = 0) -> None:
        self.old, self.new = old, new
        self._fade = Fade(length)

    @property
    def node(self) -> SpurNode:
        """The one that sounds: where there are two, the old one has given its stages to the new one."""
        node = self.new or self.old
        assert node is not None
        return node

    @property
    def stays(self) -> bool:
        return self.old is self.new

    def fade(self, rows: np.ndarray) -> np.ndarray:
        """What comes out of it (2, frames), as it comes or goes: what it adds to the legs."""
        return self._fade.process(
            rows, 0, lambda part, _: _levelled(self.old, part), lambda part, _: _levelled(self.new, part)
        )


def _levelled(node: SpurNode | None, rows: np.ndarray) -> np.ndarray:
    return np.zeros_like(rows) if node is None else node.gains @ rows


class Spurs:
    """All spurs of a strip beside a line that hears what is `before` samples late; they come back `out_late` late."""

    def __init__(
        self,
        strip: Strip,
        context: Context,
        line: Line,
        before: int,
        out_late: int,
        course: Course,
        known: Known,
    ) -> None:
        self._line = line
        self._rows = np.empty((0, 2, 0))
        self.nodes: list[SpurNode] = []
        for spur in strip.spurs:
            late = before + late_at(spur, strip, context)
            self.nodes.append(SpurNode(spur, strip, context, late, out_late, course, known))
        self._stand([_Place(node, node) for node in self.nodes])

    def _stand(self, places: list[_Place]) -> None:
        """Have these spurs at work, and the line keep what they take."""
        self._places = places
        nodes = [place.node for place in places]
        self.working = nodes
        """Those that make a row each of what is taken."""
        self._taken = np.array([node.taken for node in nodes]).reshape(-1, 2, 2)
        self._gains = np.array([node.gains for node in nodes]).reshape(-1, 2, 2)
        self._steady = np.array([k for k, place in enumerate(places) if place.stays], dtype=np.int64)
        self._moving = [k for k, place in enumerate(places) if not place.stays]
        self._from = {
            after: np.array([k for k, node in enumerate(nodes) if node.spur.after == after], dtype=np.int64)
            for after in dict.fromkeys(node.spur.after for node in nodes)
        }
        self.take_split = any(node.spur.after == SPLIT for node in nodes)
        """Whether a spur takes the legs as they were split."""
        self._line.tapped = {after: None for after in self._from if isinstance(after, int)}

    def __bool__(self) -> bool:
        return bool(self._places)

    @property
    def memory(self) -> int:
        """Samples after which nothing of what came before is heard any more."""
        return max((self._memory_to(node) + node.memory for node in self.nodes), default=0)

    @property
    def tail(self) -> int:
        return max((node.line.tail + node.waits for node in self.nodes), default=0)

    def _memory_to(self, node: SpurNode) -> int:
        if node.spur.after == SPLIT:
            return 0
        if node.spur.after == END:
            return self._line.memory + self._line.latency
        return self._line.memory_to(node.spur.after)  # type: ignore[arg-type]

    def process(self, split: np.ndarray, end: np.ndarray, clock: int, probe: Probe | None) -> None:
        """Take what goes into the spurs from the legs (2, frames), as they were split and behind the line, and make of
        it what comes out."""
        shape = len(self._places), *end.shape
        if self._rows.shape != shape:
            self._rows = np.empty(shape)
        self.take(split, end, self._line.tapped, self._rows)
        for node, own in zip(self.working, self._rows, strict=True):
            node.process(own, clock, probe)

    def take(
        self, split: np.ndarray, end: np.ndarray, tapped: Mapping[int, np.ndarray | None], rows: np.ndarray
    ) -> None:
        """Into rows (spurs, 2, frames) what goes into the spurs; `tapped` is what came out of stages."""
        for after, which in self._from.items():
            legs = split if after == SPLIT else tapped.get(after)  # type: ignore[arg-type]
            mixing.mix_each(self._taken, which, end if legs is None else legs, rows)

    def add_to(self, legs: np.ndarray, rows: np.ndarray | None = None) -> None:
        """Add rows (spurs, 2, frames), or what came out last, by the spurs' levels, to legs (2, frames)."""
        rows = self._rows if rows is None else rows
        mixing.add_each(self._gains, self._steady, rows, legs, np.empty((2, mixing.TILE)))
        for k in self._moving:
            legs += self._places[k].fade(rows[k])

    def _stays(self, new: SpurNode, old: SpurNode | None) -> bool:
        """Whether a spur goes on where it is, its stages and its level changed at the most."""
        return (
            old is not None
            and new.shape == old.shape
            and np.array_equal(new.taken, old.taken)
            and new.line.fits(old.line)
        )

    def partners(self, old: "Spurs", upstream: bool) -> dict[int, Node]:
        """Of which stages of older spurs the state goes on here, by id; `upstream` as for a line."""
        there = {node.id: node for node in old.nodes}
        found: dict[int, Node] = {}
        for node in self.nodes:
            before = there.get(node.id)
            if before is None:
                continue
            if self._stays(node, before) and not upstream:
                found.update(node.line.carried(before.line))
            else:
                same_input = before.spur.after == node.spur.after and np.array_equal(before.taken, node.taken)
                found.update(node.line.partners(before.line, upstream or not same_input))
        return found

    def unknown(self, old: "Spurs", partners: dict[int, Node], in_place: bool) -> int:
        """How far back has to be heard for what does not go on from older spurs."""
        there = {node.id: node for node in old.nodes}
        wanted = 0
        for node in self.nodes:
            stays = in_place and self._stays(node, there.get(node.id))
            inner = node.line.unknown(partners)
            if not stays:
                inner = max(inner, node.waits + node.line.latency)
                if node.id not in there:
                    inner = node.memory
            if inner:
                wanted = max(wanted, inner + self._memory_to(node))
        return wanted

    def take_over(self, partners: dict[int, Node], length: int) -> None:
        for node in self.nodes:
            node.line.take_over(partners, length)

    def glide_from(self, old: "Spurs", partners: dict[int, Node], length: int) -> None:
        """Become older spurs, which are no longer used, and go over from them in `length` frames."""
        there = {node.id: node for node in old.nodes}
        places = []
        for node in self.nodes:
            before = there.pop(node.id, None)
            if before is not None and self._stays(node, before):
                node.line.glide_from(before.line, partners, length)
                node.wait_as(before)
                node.opened = before.opened
                if node.level is not None:
                    node.level.glide_from(before.level)
                if node.door is not None:
                    node.door.glide_from(before.door)
                changed = not np.array_equal(before.gains, node.gains)
                places.append(_Place(before if changed else node, node, length if changed else 0))
                continue
            node.line.take_over(partners, length)
            places.append(_Place(None, node, length))
            if before is not None:
                places.append(_Place(before, None, length))
        places += [_Place(node, None, length) for node in there.values()]
        self._stand(places)

    def settle(self) -> None:
        """The change is over."""
        for node in self.nodes:
            node.line.settle()
        self._stand([_Place(node, node) for node in self.nodes])

    @property
    def changing(self) -> bool:
        return any(not place.stays or place.node.line.changing for place in self._places)


def late_at(spur: Spur, strip: Strip, context: Context) -> int:
    """By how many samples what a spur takes is later than what is split."""
    if spur.after == SPLIT:
        return 0
    passed = list(strip.stages)
    if spur.after != END:
        ids = [stage.id for stage in passed]
        passed = passed[: ids.index(spur.after) + 1] if spur.after in ids else passed
    return max(along(passed, context).latency)


def legs_latency(strip: Strip, context: Context) -> int:
    """Samples by which the legs are late at the join, so that every spur can be in time."""
    found = [max(along(strip.stages, context).latency) + delays_latency(strip, context.rate)]
    found += [needs(spur, late_at(spur, strip, context), context) for spur in strip.spurs]
    return max(found)
