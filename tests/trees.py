"""Random settings, stages and strips, for what must hold whatever they are."""

import itertools
import zlib
from typing import Any, get_type_hints

import msgspec
import numpy as np
from conftest import RATE, THOROUGH

from stonekite.session.spur import END, SPLIT, Spur
from stonekite.session.types import SIDES, Intake, IntakeSide, Leg, Output, Place, Split, Strip
from stonekite.signal.matrix import MATRICES
from stonekite.stages.base import LEGS, Context, Stage
from stonekite.stages.branch import Branch, branches_of
from stonekite.stages.describe import structs_in
from stonekite.stages.planning import plan_of, refusal, ridable
from stonekite.stages.registry import KINDS
from stonekite.stages.riding import MOST_SWITCHES, Point, Ride
from stonekite.stages.settings import settings_of

SPLITS = [Split(mode="left-right"), *(Split(matrix=m) for m in MATRICES)]
SLOWEST_S = 1.0
"""Settings that remember for longer are drawn again: the tests wait for them."""


def drawn(struct: type[msgspec.Struct], rng: np.random.Generator, as_new: float = 0.0) -> Any:
    """A struct with all its declared settings at random, evenly along their sliders; with that probability each as it is
    when it is new.
    """
    found = {}
    for name, setting in settings_of(struct).items():
        if as_new and rng.random() < as_new:
            continue
        if setting.words is not None:
            found[name] = list(setting.words)[int(rng.integers(len(setting.words)))]
        elif isinstance(setting.default, bool):
            found[name] = bool(rng.integers(2))
        else:
            found[name] = setting.from_travel(float(rng.uniform()))
    return struct(**found)


def drawn_side(kind, rng: np.random.Generator, as_new: float = 0.0) -> Any:
    side = drawn(kind.side, rng, as_new)
    if hasattr(side, "paths"):
        side = msgspec.structs.replace(side, paths=tuple(drawn(type(p), rng) for p in side.paths))
    bands = kind.offers.bands
    if bands is None:
        return side
    many = tuple(drawn(bands.band, rng) if rng.random() < 0.8 else None for _ in range(int(rng.integers(5))))
    return msgspec.structs.replace(side, bands=many)


def drawn_shared(shared: type[msgspec.Struct], rng: np.random.Generator, as_new: float = 0.0) -> Any:
    values = drawn(shared, rng, as_new)
    tap = get_type_hints(shared).get("taps")
    if tap is None:
        return values
    (struct,) = structs_in(tap)
    taps = tuple(drawn(struct, rng) for _ in range(int(rng.integers(4))))
    removed = int(rng.integers(8))
    return msgspec.structs.replace(
        values, taps=tuple(None if k == removed < len(taps) - 1 else one for k, one in enumerate(taps))
    )


def drawn_stage(
    tag: str,
    rng: np.random.Generator,
    number: int = 7,
    slowest_s: float = SLOWEST_S,
    deep: int = 2,
) -> Stage:
    """A stage of a kind with random settings on random legs, that forgets within so many seconds, with stages in its
    branches, which may have branches again, `deep` times. Ids in it begin a hundred times its own.
    """
    for tried in itertools.count():
        # What forgets as soon as it has to inside a branch is rare in some kinds.
        stage = _drawn_once(KINDS["gain" if deep < 2 and tried == 30 else tag], rng, number, tried)
        # One that never forgets so soon is taken as it comes.
        if plan_of(stage, Context(RATE)).memory < slowest_s * RATE or tried > 60:
            break
    count = len(branches_of(stage))
    inner = tuple(
        drawn_branch(rng, 100 * number + 10 * k, int(rng.integers(3)) if deep else 0, slowest_s / 3, deep - 1)
        for k in range(count)
    )
    if not count:
        return stage
    whole = msgspec.structs.replace(stage, branches=inner)
    if not refusal(whole, Context(RATE)) and not (_is_slow(whole) and not THOROUGH):
        return whole
    # What does not fit would have been refused.
    empty = tuple(msgspec.structs.replace(one, stages=()) for one in inner)
    return msgspec.structs.replace(stage, branches=empty)


def _is_slow(stage: Stage) -> bool:
    """Whether stages stand in loops that are gone round in some hundred frames: that takes minutes."""
    times = [side.time_ms for side in (stage.upper, stage.lower) if hasattr(side, "time_ms")]
    return min(times, default=1000.0) < 12.0 and any(branch.stages for branch in branches_of(stage))


def _drawn_once(kind, rng: np.random.Generator, number: int, tried: int) -> Stage:
    """A random stage without anything in its branches; the longer it was tried, the more of it is as it is when new."""
    as_new = min(0.7, 0.05 * tried)
    sides = {leg: drawn_side(kind, rng, as_new) if rng.random() < 0.85 else None for leg in LEGS}
    shared = get_type_hints(kind.stage).get("shared")
    more = {} if shared is None else {"shared": drawn_shared(shared, rng, as_new)}
    stage = kind.stage(id=number, level_kept=False, **sides, **more)
    return ridden(stage, rng, 0.3) if rng.random() < 0.3 else stage


def ridden(stage: Stage, rng: np.random.Generator, share: float = 1.0, seconds: float = 2.0) -> Stage:
    """A stage with rides of a share of all its settings that can move, over so many seconds, of all shapes."""
    rides, switches = [], 0
    main, beside = rng, np.random.default_rng(zlib.crc32(repr(stage).encode()))
    for path, setting in ridable(stage).items():
        # Switches are drawn beside the rest, so that all else is what a seed always drew.
        turned = setting.is_switch and path != "inserted"
        rng = beside if turned and isinstance(stage, Stage) else main
        switches += turned
        if rng.random() < share and switches * turned <= MOST_SWITCHES:
            times = np.sort(rng.uniform(0.0, seconds, int(rng.integers(1, 5)))).tolist()
            points = tuple(
                Point(
                    at_s=time,
                    value=setting.from_travel(float(rng.choice([0.0, 1.0, rng.uniform()]))),
                    way=("straight", "curved", "held")[int(rng.integers(3))],
                )
                for time in times
            )
            rides.append(Ride(path=path, points=points))
    return msgspec.structs.replace(stage, rides=tuple(rides))


FORGETFUL = [
    tag for tag, kind in KINDS.items() if kind.plan(kind.stage(id=1), Context(RATE)).memory < 10 * RATE
]
"""Kinds that do not remember a whole note: tests of all kinds alone see the others."""


def drawn_branch(rng: np.random.Generator, first: int, count: int, slowest_s: float, deep: int) -> Branch:
    """A branch of so many random stages."""
    tags = [tag for tag in FORGETFUL if deep > 0 or KINDS[tag].branching is None]
    stages = tuple(
        drawn_stage(tags[int(rng.integers(len(tags)))], rng, first + 1 + n, slowest_s, deep)
        for n in range(count)
    )
    return Branch(id=first, stages=stages)


def ridden_part(part: Any, rng: np.random.Generator, share: float = 0.3) -> Any:
    """A leg, a spur, an intake or an output, of which some settings may move: delays by no more than 20 ms."""
    if rng.random() > share:
        return part
    moves = ridden(part, rng, 0.5)
    rides = tuple(
        msgspec.structs.replace(
            ride, points=tuple(msgspec.structs.replace(p, value=p.value % 20.0) for p in ride.points)
        )
        if ride.path == "delay_ms"
        else ride
        for ride in moves.rides
    )
    return msgspec.structs.replace(moves, rides=rides)


def drawn_spur(
    rng: np.random.Generator, number: int, taps: list[int], slowest_s: float = SLOWEST_S / 2
) -> Spur:
    """A random spur that leaves anywhere."""
    spur = drawn(Spur, rng)
    branch = drawn_branch(rng, number, int(rng.integers(3)), slowest_s, 2)
    after = [SPLIT, END, *taps][int(rng.integers(2 + len(taps)))]
    spur = msgspec.structs.replace(
        spur, name=f"Spur {number}", branch=branch, after=after, muted=False, alone=bool(rng.random() < 0.1)
    )
    return ridden_part(spur, rng)


def drawn_ends(rng: np.random.Generator) -> dict[str, Any]:
    """A random intake and output of a strip."""
    sides = {name: msgspec.structs.replace(drawn(IntakeSide, rng), delay_ms=3.3) for name in SIDES}
    places = {name: drawn(Place, rng) for name in SIDES}
    ends = {
        "intake": msgspec.structs.replace(drawn(Intake, rng), **sides),
        "output": msgspec.structs.replace(drawn(Output, rng), **places),
    }
    return {name: ridden_part(end, rng, 0.7) for name, end in ends.items()}


def drawn_strip(seed: int, spurs: int = 2, stages: int = 2) -> Strip:
    """A random strip: stages of all kinds, spurs, and branches in both."""
    rng = np.random.default_rng(seed)
    line = drawn_branch(rng, 0, stages, SLOWEST_S / 2, 3).stages
    legs = {leg: msgspec.structs.replace(drawn(Leg, rng), muted=False, alone=False) for leg in LEGS}
    late = [0.0, float(rng.uniform(0.0, 20.0)), 5.0]
    legs = {
        name: ridden_part(msgspec.structs.replace(leg, delay_ms=late[int(rng.integers(3))]), rng)
        for name, leg in legs.items()
    }
    ends = drawn_ends(rng) if rng.random() < 0.3 else {}
    taps = [stage.id for stage in line]
    beside = tuple(drawn_spur(rng, 10_000 * (k + 1), taps) for k in range(spurs))
    return Strip(split=SPLITS[seed % 4], stages=line, spurs=beside, **legs, **ends)
