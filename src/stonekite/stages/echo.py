"""Echo: delays for each leg that feed back, and across to the other leg, through filters and stages in the loop.

What comes back has gone through the loop once more each time: with filters and stages F, delay T and feedback g the k-th
echo of x is level * F (g F)^(k-1) x(t - k T). The way round is as long as the time says: what filters in the branch are
late by is taken out of the delay. Reading between samples and the bounded loop: signal/echoing.py; what grows, how fast
echoes fall and where they stand: signal/loops.py.
"""

import math
from functools import lru_cache
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite import words
from stonekite.lazy import lazy
from stonekite.signal import design, loops
from stonekite.signal.decibels import gain_of
from stonekite.stages import cascade
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
    Side,
    Stage,
)
from stonekite.stages.branch import Branch
from stonekite.stages.settings import NoteName, Settings, choice, flag, number
from stonekite.stages.written import PIECE, Written

echoing = lazy("stonekite.signal.echoing")
registry = lazy("stonekite.stages.registry")

MOST_TAPS = 8
LONGEST_S = 60.0
"""A loop that hardly falls, or grows, is taken to remember and to ring for so long."""
GUARD_DB = 12.0
"""What is louder than this, in dBFS, makes the guard silence the stage until playing starts anew."""
GUARD_S = 0.005
TAPE = 0.35
"""A delay that glides as a tape does goes on by so much of each sample."""
OPEN_LOW_HZ, OPEN_HIGH_HZ = 20.0, 20_000.0
"""A high-pass or low-pass that stands at the end of its range is not there."""
ROOM = 16
"""Samples in a piece of a loop with stages in it, at the least."""
_ONES = np.ones(2)
_DUCK_RISE_S, _DUCK_SPAN = 0.005, 4.0


def _time(default: float) -> Any:
    meta = number(
        "Time",
        "ms",
        1.0,
        4000.0,
        taper="log",
        step=1 / 24,
        note="time_note",
        help="When it comes back. A note can be typed, too: 1/8 dotted, 1.5 beats",
    )
    return Annotated[float, meta]


def _level(label: str, help: str, both: bool = False, high: float = 6.0) -> Any:
    return number(label, "dB", -120.0, high, taper="fader", step=0.5, help=help, both=both)


def _corner(label: str, help: str) -> msgspec.Meta:
    return number(label, "Hz", OPEN_LOW_HZ, OPEN_HIGH_HZ, taper="log", step=1 / 12, help=help)


_HIGH_PASS = _corner("High-pass", "Each time round takes more of the bottom; at 20 Hz it is not there")
_LOW_PASS = _corner("Low-pass", "Each time round takes more of the top; at 20 kHz it is not there")


def _bell_gain(which: str) -> Any:
    meta = number(
        f"{which} gain", "dB", -18.0, 18.0, step=0.5, help="Of a bell in the loop: each time once more"
    )
    return Annotated[float, meta]


def _bell_hz(which: str) -> Any:
    return Annotated[float, _corner(f"{which} at", "Middle of a bell in the loop")]


def _bell_q(which: str) -> Any:
    return Annotated[
        float, number(f"{which} Q", "", 0.3, 8.0, taper="log", step=1 / 12, help="How narrow the bell is")
    ]


class EchoSide(Side, frozen=True, kw_only=True):
    time_ms: _time(500.0) = 500.0  # type: ignore[valid-type]
    level_db: Annotated[float, _level("Level", "Level of the echoes")] = -6.0
    feedback_db: Annotated[
        float, _level("Feedback", "How loud what comes back goes in again, on the same leg")
    ] = -9.0
    cross_db: Annotated[
        float, _level("Across", "How loud what comes back goes into the other leg", both=True)
    ] = -120.0
    high_pass_hz: Annotated[float, _HIGH_PASS] = OPEN_LOW_HZ
    low_pass_hz: Annotated[float, _LOW_PASS] = OPEN_HIGH_HZ
    slope: Annotated[
        Literal[6, 12],
        choice("Slope", {6: "6", 12: "12"}, help="Of the high-pass and the low-pass, in dB per octave"),
    ] = 12
    low_gain_db: _bell_gain("Low bell") = 0.0  # type: ignore[valid-type]
    low_hz: _bell_hz("Low bell") = 250.0  # type: ignore[valid-type]
    low_q: _bell_q("Low bell") = 0.9  # type: ignore[valid-type]
    high_gain_db: _bell_gain("High bell") = 0.0  # type: ignore[valid-type]
    high_hz: _bell_hz("High bell") = 2500.0  # type: ignore[valid-type]
    high_q: _bell_q("High bell") = 0.9  # type: ignore[valid-type]
    time_note: NoteName = ""


Fed = Literal["own", "fold", "upper", "lower"]


class Tap(Settings, frozen=True, kw_only=True):
    """One echo that does not come back again."""

    time_ms: _time(250.0) = 250.0  # type: ignore[valid-type]
    level_db: Annotated[float, _level("Level", "Level of the tap")] = -6.0
    place: Annotated[
        float,
        number(
            "Place",
            "%",
            -100.0,
            100.0,
            step=5.0,
            both=True,
            help="−100 is the upper leg alone, 100 the lower one",
        ),
    ] = 0.0
    fed: Annotated[
        Fed,
        choice(
            "Of",
            {"own": "Each leg", "fold": "Both folded", "upper": "Upper leg", "lower": "Lower leg"},
            help="What the tap repeats",
        ),
    ] = "own"
    high_pass_hz: Annotated[float, _HIGH_PASS] = OPEN_LOW_HZ
    low_pass_hz: Annotated[float, _LOW_PASS] = OPEN_HIGH_HZ
    time_note: NoteName = ""


class EchoShared(Settings, frozen=True, kw_only=True):
    start: Annotated[
        Literal["both", "upper", "lower"],
        choice(
            "Starts on",
            {"both": "Each leg", "upper": "Upper", "lower": "Lower"},
            help="Where sound goes in: each leg into its own loop, or both as mono into one, to go across from there",
        ),
    ] = "both"
    dry_db: Annotated[float, _level("Dry", "Level of what passes beside the echoes", high=0.0)] = 0.0
    moves: Annotated[
        Literal["tape", "crossfade"],
        choice(
            "Time moves",
            {"tape": "As tape", "crossfade": "Crossfaded"},
            help="How another time is reached while it plays: gliding, which bends the pitch, or going over at once",
        ),
    ] = "crossfade"
    always_bound: Annotated[
        bool,
        flag(
            "Bound",
            help="Bend what is louder than −6 dBFS in the loop; what would grow is always held like that",
        ),
    ] = False
    held: Annotated[
        bool,
        flag(
            "Freeze",
            help="Hold what is in the loops while it plays: nothing goes in, nothing fades. From the start nothing is in",
        ),
    ] = False
    duck_db: Annotated[
        float,
        number("Duck by", "dB", 0.0, 24.0, step=0.5, help="How far loud dry sound turns the echoes down"),
    ] = 0.0
    duck_above_db: Annotated[
        float,
        number(
            "above", "dBFS", -60.0, 0.0, step=1.0, help="From this level on; as far as it goes 12 dB above"
        ),
    ] = -30.0
    duck_back_ms: Annotated[
        float,
        number(
            "Back within",
            "ms",
            20.0,
            2000.0,
            taper="log",
            step=1 / 4,
            help="How slowly the echoes rise again",
        ),
    ] = 250.0
    darker: Annotated[
        float,
        number("Darker by", "oct", 0.0, 2.0, step=0.05, help="Each later tap has a low-pass so much lower"),
    ] = 0.0
    thinner: Annotated[
        float,
        number(
            "Thinner by", "oct", 0.0, 2.0, step=0.05, help="Each later tap has a high-pass so much higher"
        ),
    ] = 0.0
    taps: Annotated[tuple[Tap, ...], msgspec.Meta(max_length=MOST_TAPS)] = ()


class Echo(Stage, frozen=True, kw_only=True, tag="echo"):
    upper: EchoSide | None = EchoSide()
    lower: EchoSide | None = EchoSide()
    shared: EchoShared = EchoShared()
    branches: Annotated[tuple[Branch, ...], msgspec.Meta(min_length=1, max_length=1)] = (Branch(),)


def _cuts(high_hz: float, low_hz: float, slope: int, rate: float) -> list[tuple[Any, np.ndarray]]:
    parts = []
    if high_hz > OPEN_LOW_HZ:
        parts.append((("high-pass", slope), design.cut("high-pass", high_hz, slope, rate)))
    if low_hz < OPEN_HIGH_HZ:
        parts.append((("low-pass", slope), design.cut("low-pass", low_hz, slope, rate)))
    return parts


def _filters(side: EchoSide | None, rate: float) -> cascade.Leg:
    """The filters in the loop of one leg."""
    if side is None:
        return cascade.NOTHING
    parts = _cuts(side.high_pass_hz, side.low_pass_hz, side.slope, rate)
    for name, hz, gain, q in (
        ("low", side.low_hz, side.low_gain_db, side.low_q),
        ("high", side.high_hz, side.high_gain_db, side.high_q),
    ):
        parts.append((name, design.sections("bell", hz, gain, q, rate)))
    return cascade.Leg.of(parts)


def later_corners(shared: EchoShared, tap: Tap) -> tuple[float, float]:
    """High-pass and low-pass in Hz of a tap: its own, or what the rule makes of them by how many come before it."""
    before = sum(other.time_ms < tap.time_ms for other in shared.taps)
    high = tap.high_pass_hz * 2.0 ** (before * shared.thinner)
    low = min(tap.low_pass_hz, OPEN_HIGH_HZ) * 2.0 ** (-before * shared.darker)
    return min(high, 0.5 * OPEN_HIGH_HZ), max(low, 2.0 * OPEN_LOW_HZ)


def shares(tap: Tap) -> tuple[float, float]:
    """Gains of a tap on the upper and the lower leg: a balance, so that in the middle both have all of it."""
    level = gain_of(tap.level_db)
    return level * min(1.0, 1.0 - tap.place / 100.0), level * min(1.0, 1.0 + tap.place / 100.0)


def feed(start: str, works: tuple[bool, bool], encoded: bool) -> np.ndarray:
    """Gains (2, 2) from the legs to the loops. As mono goes in: the middle, of left and right half their sum."""
    if start == "both":
        gains = np.eye(2)
    else:
        mono = np.array([1.0, 0.0]) if encoded else np.array([0.5, 0.5])
        if not all(works):  # a path that carries one component
            mono = np.array(works, dtype=float)
        gains = np.zeros((2, 2))
        gains[0 if start == "upper" else 1] = mono
    for row, on in enumerate(works):
        if not on:
            gains[row] = 0.0
    return gains


def _tapped(fed: Fed, works: tuple[bool, bool], encoded: bool) -> np.ndarray:
    """Gains (2, 2) from the legs to what a tap repeats on each leg."""
    if fed == "own":
        return np.diag([float(on) for on in works])
    row = {"upper": [1.0, 0.0], "lower": [0.0, 1.0], "fold": [1.0, 0.0] if encoded else [0.5, 0.5]}[fed]
    return np.array([row, row]) * np.array([[float(on)] for on in works])


def feedback(stage: Echo) -> np.ndarray:
    """Gains (2, 2) from what comes back on the legs to what goes into them."""
    gains = np.zeros((2, 2))
    for row, side in enumerate((stage.upper, stage.lower)):
        if side is not None:
            gains[row, row] = gain_of(side.feedback_db)
            gains[1 - row, row] = gain_of(side.cross_db)
    for row, leg in enumerate(LEGS):
        if getattr(stage, leg) is None:
            gains[row, :] = 0.0
    return gains


def _looked_at(stage: Echo, rate: float) -> np.ndarray:
    """Frequencies in Hz at which the loop is looked at: all over, and where its bells are."""
    hz, _ = loops.frequencies(rate)
    more = [1.0]
    for side in (stage.upper, stage.lower):
        if side is not None:
            more += [side.low_hz, side.high_hz]
    return np.unique(np.concatenate([hz, np.minimum(more, 0.49 * rate)]))


def _own(stage: Echo, hz: np.ndarray, rate: float) -> np.ndarray:
    """Complex response (2, n) of the filters in each loop."""
    return np.array(
        [design.response(_filters(getattr(stage, leg), rate).sections, hz, rate) for leg in LEGS]
    ).reshape(2, len(hz))


def turn(stage: Echo, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) of one turn at frequencies in Hz, with what stands in the loop: what goes in from
    what went in before."""
    inside = registry.greatest(stage.branches[0].stages, hz, rate) * np.abs(_own(stage, hz, rate))[None]
    return np.einsum("ab,bcn->acn", feedback(stage), inside)


@lru_cache(maxsize=256)
def _loop(stage: Echo, rate: float) -> tuple[float, float]:
    """The greatest factor of one turn, and how many seconds the slowest takes to fall by e."""
    hz = _looked_at(stage, rate)
    gains = turn(stage, hz, rate)
    phases = np.unwrap(np.angle(_own(stage, hz, rate)), axis=1)
    # The way round is longer by what the filters hold back.
    late = np.maximum(0.0, -np.gradient(phases, 2 * np.pi * hz, axis=1))
    times = np.array([_seconds(getattr(stage, leg)) for leg in LEGS])[:, None] + late
    slowest = float(loops.fall_rate(gains, times).min())
    return float(loops.greatest(gains).max()), (1.0 / slowest if slowest > 0.0 else math.inf)


def _plain(stage: Echo) -> Echo:
    """What the loop depends on: the rest as it is when it is new, so that it is not computed again."""
    sides: dict[str, Any] = {}
    for leg in LEGS:
        side = getattr(stage, leg)
        if side is not None:
            sides[leg] = msgspec.structs.replace(side, level_db=0.0, mix=100.0, time_note="")
    return Echo(id=0, branches=stage.branches, **{"upper": None, "lower": None, **sides})


def _seconds(side: EchoSide | None) -> float:
    return 1e-3 if side is None else side.time_ms * 1e-3


def margin_db(stage: Echo, rate: float) -> float:
    """How far the loop is from growing, in dB; less than nothing for one that would."""
    factor, _ = _loop(_plain(stage), rate)
    return -20.0 * math.log10(max(factor, 1e-9))


def is_bounded(stage: Echo, rate: float) -> bool:
    """Whether what is in the loop is held under full scale."""
    return stage.shared.always_bound or margin_db(stage, rate) < 1e-6


def course(stage: Echo, rate: float, fed: tuple[float, float] | None = None) -> loops.Course:
    """The echoes of an impulse in both legs, or of the gains `fed` into the loops, without the taps."""
    return _course(_plain_course(stage), rate, fed)


def _plain_course(stage: Echo) -> Echo:
    shared = EchoShared(start=stage.shared.start)
    return Echo(id=0, upper=stage.upper, lower=stage.lower, branches=stage.branches, shared=shared)


@lru_cache(maxsize=64)
def _course(stage: Echo, rate: float, fed: tuple[float, float] | None) -> loops.Course:
    hz, _ = loops.frequencies(rate)
    own = _own(stage, hz, rate)
    inside = [registry.along(stage.branches[0].stages, leg, hz, rate) for leg in LEGS]
    through = np.zeros((2, 2, len(hz)), dtype=complex)
    works = stage.upper is not None, stage.lower is not None
    for row in range(2):
        if works[row]:
            through[row, row] = own[row] * inside[row]
    times = np.array([_seconds(getattr(stage, leg)) for leg in LEGS])
    levels = np.array([0.0 if s is None else gain_of(s.level_db) for s in (stage.upper, stage.lower)])
    into = feed(stage.shared.start, works, False).sum(axis=1) if fed is None else np.array(fed)
    return loops.course(through, feedback(stage), into, times, levels, rate)


def names(stage: Any, leg: LegName) -> tuple[str, ...]:
    return ("",) if getattr(stage, leg) is None else ("loop",)


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
    own = [design.response(_filters(getattr(stage, name), rate).sections, hz, rate) for name in LEGS]
    turned = [np.exp(-2j * np.pi * hz * _seconds(getattr(stage, name))) for name in LEGS]
    through = [f * b * z for f, b, z in zip(own, inside, turned, strict=True)]
    g = feedback(stage)
    fed = feed(stage.shared.start, works, False)[:, row]
    # v = fed + G diag(through) v, solved for the leg
    a, b = 1.0 - g[0, 0] * through[0], -g[0, 1] * through[1]
    c, d = -g[1, 0] * through[0], 1.0 - g[1, 1] * through[1]
    whole = a * d - b * c
    went_in = (fed[0] * d - fed[1] * b) / whole, (fed[1] * a - fed[0] * c) / whole
    total = gain_of(stage.shared.dry_db) + gain_of(getattr(stage, leg).level_db) * through[row] * went_in[row]
    for tap in stage.shared.taps:
        high, low = later_corners(stage.shared, tap)
        sections = cascade.Leg.of(_cuts(high, low, 12, rate)).sections
        into = _tapped(tap.fed, works, False)[row, row] * shares(tap)[row]
        total = total + into * design.response(sections, hz, rate) * np.exp(
            -2j * np.pi * hz * tap.time_ms * 1e-3
        )
    return total


def neutral(stage: Echo) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Echo, context: Context) -> Plan:
    if neutral(stage):
        return Plan()
    _, seconds = _loop(_plain(stage), context.rate)
    longest = max(_seconds(side) for side in (stage.upper, stage.lower) if side is not None)
    taps = max((tap.time_ms * 1e-3 for tap in stage.shared.taps), default=0.0)
    legs = [_filters(getattr(stage, leg), context.rate) for leg in LEGS]
    legs += [
        cascade.Leg.of(_cuts(*later_corners(stage.shared, tap), 12, context.rate))
        for tap in stage.shared.taps
    ]
    endless = stage.shared.held or is_bounded(stage, context.rate) or not seconds < LONGEST_S / SETTLED
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
            return (
                f"What stands in the loop is {words.figure(late / rate * 1e3, 'ms', 1)} late, so that a turn cannot be "
                f"shorter than {words.figure(needs, 'ms', 1)}: a time of {words.figure(side.time_ms, 'ms', 1)} is "
                f"{words.figure(needs - side.time_ms, 'ms', 1)} too short."
            )
    return ""


class _Ways:
    """How the delays are read when what stands in the loop is so many samples late."""

    def __init__(self, delays: list[float], late: int, rate: float) -> None:
        held = [max(2.0, delay - late) for delay in delays]
        self.delays = np.array(held)
        made = [echoing.fixed_taps(delay, rate) for delay in held]
        self.behind = np.array([behind for behind, _ in made])
        self.taps = [taps for _, taps in made]
        self.halves = [echoing.half_of(delay, rate) for delay in held]
        longest = max(1, min(int(d) - h for d, h in zip(held, self.halves, strict=True)))
        # Whole vectors: a piece of one sample more would cost as much as two.
        self.longest = longest - longest % 16 if longest > 16 else longest


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
        self.delays = [_seconds(side or sides[1 - row]) * rate for row, side in enumerate(sides)]
        self.filters = cascade.Coefficients(*(_filters(side, rate) for side in sides))
        self.gains = feedback(stage)
        self.on = self.works.astype(float)[:, None]
        self.feed = feed(shared.start, on, encoded)
        self.feeds_all = np.array_equal(self.feed, np.eye(2))
        self.levels = np.array([0.0 if side is None else gain_of(side.level_db) for side in sides])
        self.dry = gain_of(shared.dry_db)
        self.held = shared.held
        self.bound = is_bounded(stage, rate)
        self.tape = shared.moves == "tape"
        self.branch = len(stage.branches[0].stages) > 0
        self.circle = np.array([max(1, round(delay)) for delay in self.delays])
        self.taps = [_TapWork(tap, shared, on, encoded, rate) for tap in shared.taps if gain_of(tap.level_db)]
        self.duck: tuple[float, ...] | None = None
        if shared.duck_db:
            low = gain_of(shared.duck_above_db)
            rise, fall = (-math.expm1(-1.0 / (s * rate)) for s in (_DUCK_RISE_S, shared.duck_back_ms * 1e-3))
            self.duck = gain_of(-shared.duck_db), low, _DUCK_SPAN * low, rise, fall
        self.guard = gain_of(GUARD_DB), 1.0 / (GUARD_S * rate)
        # A delay that moves is read by a table of the shortest one that it can be.
        self.half = min(echoing.half_of(delay, rate) for delay in self.delays)
        self.keeps = _room(max([*self.delays, *map(float, self.circle)]))
        self.keeps_fed = _room(max((tap.delay for tap in self.taps), default=0.0)) if self.taps else 0
        self.spare = np.zeros(2 * echoing.LANES)
        self._ways: dict[int, _Ways] = {}

    def ways(self, late: int) -> _Ways:
        if late not in self._ways:
            self._ways[late] = _Ways(self.delays, late, self.rate)
        return self._ways[late]


def _room(delay: float) -> int:
    """Samples of history for a delay: in steps, so that it rarely has to grow; with some for what is new in the loop."""
    return 1 << math.ceil(math.log2(1.25 * delay + PIECE + 2 * echoing.HALF))


class _TapWork:
    """One tap at work: its delay in samples, how it is read, its filters, and gains (2, 2) to the legs from the legs."""

    def __init__(
        self, tap: Tap, shared: EchoShared, works: tuple[bool, bool], encoded: bool, rate: float
    ) -> None:
        self.delay = tap.time_ms * 1e-3 * rate
        self.behind, self.taps = echoing.fixed_taps(self.delay, rate)
        filters = cascade.Leg.of(_cuts(*later_corners(shared, tap), 12, rate))
        self.filters = cascade.Coefficients(filters, filters)
        up, down = shares(tap)
        self.gains = _tapped(tap.fed, works, encoded) * np.array([[up], [down]])


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
    if len(old.taps) == len(new.taps):
        for k, (before, after) in enumerate(zip(old.taps, new.taps, strict=True)):
            taps = cascade.carry(before.filters, state.taps[k], after.filters)
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
        _process(state, coefficients, part, at._replace(clock=at.clock + start))


def _process(state: State, c: Coefficients, block: np.ndarray, at: At) -> None:
    frames = block.shape[1]
    wet = np.empty((2, frames))
    _turn(state, c, block if c.feeds_all else c.feed @ block, wet, at)
    levels = c.levels
    if c.taps:
        wet *= levels[:, None]
        levels = _ONES
        _add_taps(state, c, block, wet, at)
    if c.duck is not None:
        echoing.duck(wet, block, state.envelope, *c.duck)
    echoing.guard(block, wet, c.dry, levels, *c.guard, state.guard, c.works)
    state.loops.went_on(frames)
    state.fed.went_on(frames)


def _turn(state: State, c: Coefficients, fed: np.ndarray, wet: np.ndarray, at: At) -> None:
    """What comes back from the loops, in pieces where stages stand in them."""
    before, rise = state.loops.before(wet.shape[1])
    history, marks = state.loops.history, state.loops.marks
    late = at.lines_late if c.branch else 0
    ways = c.ways(late)
    longest, phases, moving = ways.longest, _PHASES.none, state.moving
    moves = moving[0, 3] > 0.0 or moving[1, 3] > 0.0
    if moves:
        half = c.half if not late else min(ways.halves)
        phases = _PHASES.of(half, c.rate)
        moving = moving.copy()
        moving[:, 1:3] -= late
        longest = max(1, min(longest, int(moving[:, 1:3].min()) - half))
    fixed = (ways.behind, *ways.taps, moving, TAPE, phases, phases, c.works, c.spare)
    given = (c.circle, c.held, c.bound, before, rise)
    if not c.branch:
        echoing.turns(
            history,
            marks,
            fed,
            at.clock,
            *fixed,
            c.filters.table,
            state.filters,
            c.gains,
            *given,
            longest,
            wet,
        )
    else:
        done, frames = 0, fed.shape[1]
        while done < frames:
            n = min(longest, frames - done)
            echoing.room(history, marks, n)
            piece = np.empty((2, n))
            echoing.take(history, marks, *fixed, piece, 0, n)
            cascade.process(state.filters, c.filters, piece, at._replace(clock=at.clock + done))
            at.lines[0](piece)
            piece *= c.on
            wet[:, done : done + n] = piece
            echoing.give(history, marks, fed, done, c.gains, piece, 0, n, *given)
            done += n
    if moves:
        state.moving[:, 1] = moving[:, 1] + late
        state.moving[:, 3] = moving[:, 3]


class _Tables:
    """Tables of taps for delays that move, by how many taps they have."""

    none = np.zeros((1, 2))

    def __init__(self) -> None:
        self._made: dict[tuple[int, float], np.ndarray] = {}

    def of(self, half: int, rate: float) -> np.ndarray:
        if (half, rate) not in self._made:
            self._made[half, rate] = echoing.table(half, rate)
        return self._made[half, rate]


_PHASES = _Tables()


def _add_taps(state: State, c: Coefficients, block: np.ndarray, wet: np.ndarray, at: At) -> None:
    frames = block.shape[1]
    history, marks = state.fed.history, state.fed.marks
    # A tap may be shorter than its filter reaches: the block is written first, and read from before it.
    echoing.room(history, marks, frames)
    echoing.append(history, marks, block, *state.fed.before(frames))
    begin = state.fed.end - frames
    for tap, filters in zip(c.taps, state.taps, strict=True):
        heard = np.empty((2, frames))
        for row in range(2):
            echoing.read_fixed(history, row, begin, tap.behind, tap.taps, heard, 0, frames, c.spare)
        heard = tap.gains @ heard
        cascade.process(filters, tap.filters, heard, at)
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
                state.loops.history, row, end, ways.behind[row], ways.taps[row], out, 0, count, c.spare
            )
    cascade.process(cascade.start(c.filters), c.filters, out, At(0))
    return out


def guarded(state: State) -> bool:
    return bool(state.guard[1] > 0.0)


def greatest(stage: Echo, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) of the whole stage: what passes, and all echoes as if they came at once."""
    gains = turn(stage, hz, rate)
    size = np.maximum(1.0 - loops.greatest(gains), 1e-3)
    inside = registry.greatest(stage.branches[0].stages, hz, rate) * np.abs(_own(stage, hz, rate))[None]
    levels = np.array([0.0 if s is None else gain_of(s.level_db) for s in (stage.upper, stage.lower)])
    total = levels[:, None, None] * inside / size
    taps = sum(max(shares(tap)) for tap in stage.shared.taps)
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
