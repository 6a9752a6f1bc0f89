"""Echo: delays for each leg that feed back, and across to the other leg, through filters and stages in the loop.

What comes back has gone through the loop once more each time: with filters and stages F, delay T and feedback g the k-th
echo of x is level * F (g F)^(k-1) x(t - k T). The way round is as long as the time says: what filters in the branch are
late by is taken out of the delay. Reading between samples and the bounded loop: signal/echoing.py; what grows, how fast
echoes fall and where they stand: signal/loops.py.
"""

import math
from typing import Any

import msgspec
import numpy as np

from stonekite import words
from stonekite.lazy import lazy
from stonekite.signal import loops
from stonekite.signal.decibels import gain_of
from stonekite.signal.filters import design
from stonekite.stages import riding
from stonekite.stages.base import (
    LEGS,
    RINGS,
    SETTLED,
    At,
    Branching,
    Context,
    Echoes,
    Kind,
    LegName,
    Offers,
    Plan,
)
from stonekite.stages.echo.loop import (
    course,
    cuts,
    endless_of,
    feed,
    feedback,
    filters,
    is_bounded,
    later_corners,
    margin_db,
    own,
    seconds_of,
    shares,
    slowest_s,
    tapped,
    turn,
)
from stonekite.stages.echo.numbers import delays, heard_taps, rows
from stonekite.stages.echo.reading import PHASES, TapWork, Ways, room_for
from stonekite.stages.echo.settings import Echo, EchoSide
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.rows import times, times_leg
from stonekite.stages.machinery.written import PIECE, Written

echoing = lazy("stonekite.signal.echoing")
registry = lazy("stonekite.stages.registry")

LONGEST_S = 60.0
"""A loop that hardly falls, or grows, is taken to remember and to ring for so long."""
GUARD_DB = 12.0
"""What is louder than this, in dBFS, is held there, and goes into no loop; a loop that may grow so loud is silenced
until playing starts anew."""
GUARD_S = 0.005
TAPE = 0.35
"""A delay that glides as a tape does goes on by so much of each sample."""
ROOM = 16
"""Samples in a piece of a loop with stages in it, at the least."""
_ONES = np.ones(2)


def names(stage: Any, leg: LegName) -> tuple[str, ...]:
    return ("",) if getattr(stage, leg) is None else (words.said("loop"),)


def only(stage: Any, branch: int) -> Any:
    """The stage with its echoes alone."""
    sides = {
        leg: msgspec.structs.replace(side, mix=100.0)
        for leg in LEGS
        if (side := getattr(stage, leg)) is not None
    }
    return msgspec.structs.replace(
        stage, shared=msgspec.structs.replace(stage.shared, dry_db=-120.0), **sides
    )


def response(
    stage: Echo, leg: LegName, frequencies: np.ndarray, rate: float, inner: tuple[np.ndarray, ...] = ()
) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz) to itself, if nothing goes into the other one: what passes, its
    echoes and its taps; of loops that fall.
    """
    hz = np.asarray(frequencies, dtype=float)
    if getattr(stage, leg) is None:
        return np.ones(hz.shape, dtype=complex)
    row = LEGS.index(leg)
    works = stage.upper is not None, stage.lower is not None
    inside = [registry.along(stage.branches[0].stages, name, hz, rate) for name in LEGS]
    alone = [design.response(filters(getattr(stage, name), rate).sections, hz, rate) for name in LEGS]
    turned = [np.exp(-2j * np.pi * hz * seconds_of(getattr(stage, name))) for name in LEGS]
    through = [f * b * z for f, b, z in zip(alone, inside, turned, strict=True)]
    g = feedback(stage)
    fed = feed(stage.shared.start, works, False)[:, row]
    # v = fed + G diag(through) v, solved for the leg
    a, b = 1.0 - g[0, 0] * through[0], -g[0, 1] * through[1]
    c, d = -g[1, 0] * through[0], 1.0 - g[1, 1] * through[1]
    whole = a * d - b * c
    went_in = (fed[0] * d - fed[1] * b) / whole, (fed[1] * a - fed[0] * c) / whole
    total = gain_of(stage.shared.dry_db) + gain_of(getattr(stage, leg).level_db) * through[row] * went_in[row]
    for tap in stage.shared.there:
        high, low = later_corners(stage.shared, tap)
        sections = cascade.Leg.of(cuts(high, low, 12, rate)).sections
        into = tapped(tap.fed, works, False)[row, row] * shares(tap)[row]
        total = total + into * design.response(sections, hz, rate) * np.exp(
            -2j * np.pi * hz * tap.time_ms * 1e-3
        )
    return total


def neutral(stage: Echo) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Echo, context: Context) -> Plan:
    if neutral(stage):
        return Plan()
    seconds = slowest_s(stage, context.rate)
    longest = max(seconds_of(side) for side in (stage.upper, stage.lower) if side is not None)
    taps = max((tap.time_ms * 1e-3 for tap in stage.shared.there), default=0.0)
    legs = [filters(getattr(stage, leg), context.rate) for leg in LEGS]
    legs += [
        cascade.Leg.of(cuts(*later_corners(stage.shared, tap), 12, context.rate))
        for tap in stage.shared.there
    ]
    endless = endless_of(stage, context.rate) or not seconds < LONGEST_S / SETTLED
    rings = LONGEST_S if endless else min(LONGEST_S, 1.1 * SETTLED * seconds + 2.0 * longest)
    fade = 0.0
    if stage.shared.duck_db:
        low = gain_of(stage.shared.duck_above_db)
        fade = (SETTLED - math.log(3.0 * low)) * stage.shared.duck_back_ms * 1e-3
    samples = int((max(rings, taps) + fade) * context.rate)
    memory = samples + max(map(cascade.memory, legs)) + 2 * echoing.HALF
    tail = int(RINGS * rings * context.rate) + int((taps + longest) * context.rate)
    glide = int(4.0 / TAPE * context.rate) if stage.shared.moves == "tape" else 0
    return Plan(memory=memory, tail=tail + max(map(cascade.rings, legs)) + 2 * echoing.HALF, glide=glide)


def whole_plan(stage: Echo, own: Plan, inner: tuple[Plan, ...]) -> Plan:
    """With what stands in the loop: how late that is, is taken out of the times."""
    if neutral(stage):
        return own
    return Plan(
        memory=own.memory + 2 * inner[0].memory,
        tail=own.tail + 2 * inner[0].tail,
        glide=own.glide + inner[0].glide,
    )


def refuses(stage: Echo, inner: tuple[Plan, ...], rate: float) -> str:
    """Why what stands in the loop does not fit into the delays, in a sentence; empty if it does."""
    late = max(inner[0].latency)
    if not late:
        return ""
    for side in (stage.upper, stage.lower):
        if side is None:
            continue
        needs = (late + echoing.HALF + ROOM) / rate * 1e3
        if side.time_ms < needs:
            return words.said(
                "What stands in the loop is {late} late, so that a turn cannot be shorter than {needs}: a time "
                "of {time_ms} is {lacks} too short."
            ).format(
                late=words.figure(late / rate * 1000.0, "ms", 1),
                needs=words.figure(needs, "ms", 1),
                time_ms=words.figure(side.time_ms, "ms", 1),
                lacks=words.figure(needs - side.time_ms, "ms", 1),
            )
    return ""


class Coefficients:
    """What both loops and the taps work with."""

    def __init__(self, stage: Echo, context: Context) -> None:
        rate, shared = context.rate, stage.shared
        sides = [getattr(stage, leg) for leg in LEGS]
        self.rate = rate
        self.works = np.array([side is not None for side in sides])
        on = bool(self.works[0]), bool(self.works[1])
        encoded = context.matrix is not None
        # A leg that passes is read, too, and must not make the pieces shorter.
        moments = riding.moments(stage)
        begun = [delays(one, rate) for one in moments]
        self.delays = begun[0]
        self.rides = np.array([any(of[row] != self.delays[row] for of in begun) for row in range(2)])
        """Whether the delays of the legs move by themselves."""
        self.filters = cascade.Coefficients(*(filters(side, rate) for side in sides))
        self.on = self.works.astype(float)[:, None]
        self.feed = feed(shared.start, on, encoded)
        self.feeds_all = np.array_equal(self.feed, np.eye(2))
        self.bound = any(is_bounded(one, rate) for one in moments)
        self.tape = shared.moves == "tape"
        self.branch = len(stage.branches[0].stages) > 0
        self.circle = np.array([max(1, round(delay)) for delay in self.delays])
        heard = heard_taps(shared)
        self.taps = [TapWork(tap, shared, on, encoded, rate) for tap in heard.values()]
        self.slots = list(heard)
        """Which of all taps they are."""
        self.ducks = isinstance(shared.duck_db, np.ndarray) or shared.duck_db != 0.0
        # What falls by itself is held at the guard's limit, and comes back: only what may grow is silenced.
        falls = not self.branch and not any(endless_of(one, rate) for one in moments)
        self.guard = gain_of(GUARD_DB), 0.0 if falls else 1.0 / (GUARD_S * rate)
        # A delay that moves is read by a table of the shortest one that it can be.
        self.shortest = min(delay for of in begun for delay in of)
        self.half = echoing.half_of(self.shortest, rate)
        self.keeps = room_for(max([*(delay for of in begun for delay in of), *map(float, self.circle)]))
        self.keeps_fed = room_for(max((tap.delay for tap in self.taps), default=0.0)) if self.taps else 0
        self._ways: dict[int, Ways] = {}

    def ways(self, late: int) -> Ways:
        if late not in self._ways:
            self._ways[late] = Ways(self.delays, late, self.rate)
        return self._ways[late]


class State:
    """What went into the loops and past the taps, what all filters remember, and how far what moves has come."""

    def __init__(self, coefficients: Coefficients) -> None:
        self.loops = Written(coefficients.keeps)
        self.fed = Written(coefficients.keeps_fed)
        self.filters = cascade.start(coefficients.filters)
        self.taps = [cascade.start(tap.filters) for tap in coefficients.taps]
        self.moving = np.zeros((2, 4))
        self.moving[:, 1] = self.moving[:, 2] = coefficients.delays
        self.envelope = np.zeros(1)
        self.spare = np.zeros(2 * echoing.LANES)
        self.guard = np.array([1.0, 0.0])


def start(coefficients: Coefficients) -> State:
    return State(coefficients)


def coefficients(stage: Echo, context: Context) -> Coefficients:
    return Coefficients(stage, context)


def carry(old: Coefficients, state: State, new: Coefficients) -> State:
    """All sound in the loops goes on, whatever is changed; new filters begin while the old ones go on beside."""
    kept = State(new)
    kept.loops.pour(state.loops)
    kept.fed.pour(state.fed)
    filters = cascade.carry(old.filters, state.filters, new.filters)
    if filters is not None:
        kept.filters = filters
    for k, slot in enumerate(new.slots):
        if slot in old.slots:
            before = old.slots.index(slot)
            taps = cascade.carry(old.taps[before].filters, state.taps[before], new.taps[k].filters)
            if taps is not None:
                kept.taps[k] = taps
    if new.tape:
        kept.moving[:, 1] = state.moving[:, 1]
        kept.moving[:, 3] = np.ceil(np.abs(kept.moving[:, 2] - kept.moving[:, 1]) / TAPE)
    kept.envelope[:] = state.envelope
    kept.guard[:] = state.guard
    return kept


def joins(state: State, old: State, length: int) -> None:
    state.loops.join(old.loops, length)
    state.fed.join(old.fed, length)


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    for start in range(0, block.shape[1], PIECE):
        part = block[:, start : start + PIECE]
        _process(state, coefficients, part, at.piece(start, start + part.shape[1]))


def _process(state: State, c: Coefficients, block: np.ndarray, at: At) -> None:
    frames = block.shape[1]
    wet = np.empty((2, frames))
    fed, limit = block, c.guard[0]
    if block.max() > limit or block.min() < -limit:
        # One damaged sample would go round for as long as the loop takes to fall under the limit.
        fed = np.clip(block, -limit, limit)
    _turn(state, c, fed if c.feeds_all else c.feed @ fed, wet, at)
    levels, dry = at.rows.table[0, echoing.LEVELS : echoing.LEVELS + 2], float(at.rows.table[0, echoing.DRY])
    if c.taps or at.rows.moves:
        times(wet, at.rows, echoing.LEVELS)
        levels = _ONES
    if c.taps:
        _add_taps(state, c, fed, wet, at)
    if c.ducks:
        echoing.duck(wet, fed if at.key is None else at.key, state.envelope, *at.rows.cells)
    if at.rows.moves:
        for row, works in enumerate(c.works):
            if works:
                times_leg(block[row], at.rows, echoing.DRY)
        dry = 1.0
    echoing.guard(block, wet, dry, levels, *c.guard, state.guard, c.works)
    state.loops.went_on(frames)
    state.fed.went_on(frames)


def _turn(state: State, c: Coefficients, fed: np.ndarray, wet: np.ndarray, at: At) -> None:
    """What comes back from the loops, in pieces where stages stand in them."""
    before, rise = state.loops.before(wet.shape[1])
    history, marks = state.loops.history, state.loops.marks
    late = at.lines_late if c.branch else 0
    ways = c.ways(late)
    longest, phases, moving = ways.longest, PHASES.none, state.moving
    moves = moving[0, 3] > 0.0 or moving[1, 3] > 0.0
    if moves or c.rides.any():
        half = c.half if not late else echoing.half_of(max(2.0, c.shortest - late), c.rate)
        phases = PHASES.of(half, c.rate)
        moving = moving.copy()
        moving[:, 1:3] -= late
        shortest = min(float(moving[:, 1:3].min()) if moves else c.shortest - late, c.shortest - late)
        longest = max(1, min(longest, int(shortest) - half))
    fixed = (ways.behind, *ways.taps, moving, TAPE, phases, phases, c.works, state.spare)
    given = (c.circle, c.bound, before, rise)
    if not c.branch:
        echoing.turns(
            history,
            marks,
            fed,
            at.clock,
            *fixed,
            c.rides,
            *at.rows.cells,
            state.filters,
            *given,
            longest,
            wet,
        )
    else:
        cut = [
            (start, min(last, start + longest))
            for first, last, *_ in at.rows.pieces(fed.shape[1])
            for start in range(first, last, longest)
        ]
        for done, stop in cut:
            rows, n = at.rows.within(done, stop), stop - done
            numbers = rows.table[0], rows.steps[0], int(rows.offsets[0])
            echoing.room(history, marks, n)
            piece = np.empty((2, n))
            echoing.take(history, marks, *fixed, late, c.rides, *numbers, piece, 0, n)
            inside = rows.part(echoing.FILTERS, echoing.FILTERS + c.filters.numbers)
            cascade.run(state.filters, c.filters, piece, at.clock + done, inside)
            at.lines[0](piece)
            piece *= c.on
            wet[:, done:stop] = piece
            echoing.give(history, marks, fed, done, *numbers, piece, 0, n, *given)
    if moves:
        state.moving[:, 1] = moving[:, 1] + late
        state.moving[:, 3] = moving[:, 3]


def _add_taps(state: State, c: Coefficients, block: np.ndarray, wet: np.ndarray, at: At) -> None:
    frames = block.shape[1]
    history, marks = state.fed.history, state.fed.marks
    # A tap may be shorter than its filter reaches: the block is written first, and read from before it.
    echoing.room(history, marks, frames)
    echoing.append(history, marks, block, *state.fed.before(frames))
    begin = state.fed.end - frames
    number = echoing.FILTERS + c.filters.numbers
    for tap, kept in zip(c.taps, state.taps, strict=True):
        heard = np.empty((2, frames))
        for row in range(2):
            echoing.read_fixed(history, row, begin, tap.behind, tap.taps, heard, 0, frames, state.spare)
        if at.rows.moves:
            heard = tap.fed @ heard
            times(heard, at.rows, number)
        else:
            heard = (tap.fed * at.rows.table[0, number : number + 2, None]) @ heard
        last = number + tap.numbers
        cascade.run(kept, tap.filters, heard, at.clock, at.rows.part(number + 2, last))
        number = last
        wet += heard


def heard(c: Coefficients, state: State, branch: int, late: int, frames: int) -> np.ndarray:
    """What went into the branch lately, (2, up to so many frames): the delays read back, through the filters."""
    ways = c.ways(late)
    count = int(min(frames, state.loops.keeps - ways.delays.max() - 2 * echoing.HALF))
    count = max(count, 0)
    out = np.zeros((2, count))
    for row in range(2):
        if c.works[row] and count:
            end = state.loops.end - count
            echoing.read_fixed(
                state.loops.history, row, end, ways.behind[row], ways.taps[row], out, 0, count, state.spare
            )
    cascade.process(cascade.start(c.filters), c.filters, out, At(0))
    return out


def guarded(state: State) -> bool:
    return bool(state.guard[1] > 0.0)


def greatest(stage: Echo, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) of the whole stage: what passes, and all echoes as if they came at once."""
    gains = turn(stage, hz, rate)
    size = np.maximum(1.0 - loops.greatest(gains), 1e-3)
    inside = registry.greatest(stage.branches[0].stages, hz, rate) * np.abs(own(stage, hz, rate))[None]
    levels = np.array([0.0 if s is None else gain_of(s.level_db) for s in (stage.upper, stage.lower)])
    total = levels[:, None, None] * inside / size
    taps = sum(max(shares(tap)) for tap in stage.shared.there)
    for row, leg in enumerate(LEGS):
        on = getattr(stage, leg) is not None
        total[row, row] += gain_of(stage.shared.dry_db) if on else 1.0
        total[row] += taps if on else 0.0
    return total


KIND = Kind(
    stage=Echo,
    side=EchoSide,
    label="Echo",
    help="Delays for each leg that come back through filters and stages in their loop, and across.",
    group="Time",
    rank=10,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    joins=joins,
    rows=rows,
    switches=("held",),
    process=process,
    offers=Offers(
        greatest=greatest,
        guarded=guarded,
        echoes=Echoes(course=course, gains=turn, margin_db=margin_db, bounded=is_bounded),
    ),
    branching=Branching(
        plan=whole_plan, response=response, only=only, names=names, heard=heard, refuses=refuses
    ),
)
