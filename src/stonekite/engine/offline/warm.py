"""Kernels compiled, or loaded, before they are needed: part by part of a strip, in the ways that they are set.

To compile all of them takes a minute, so that what plays does not wait for all: `parts_of` says what a strip needs, and a
mark beside the compiled kernels (signal/kept_kernels.py) what has been compiled on this machine already.
"""

import contextlib
import hashlib
from collections.abc import Iterable, Iterator
from functools import cache
from pathlib import Path
from typing import Any, get_type_hints

import msgspec
import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.lazy import lazy
from stonekite.session import tree
from stonekite.session.spur import Spur
from stonekite.session.types import Intake, IntakeSide, Leg, Output, Split, Strip
from stonekite.stages.base import LEGS, At, Context, Kind, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.machinery.rows import standing
from stonekite.stages.planning import still_rows
from stonekite.stages.registry import KINDS, kind_of
from stonekite.stages.riding import Point, Ride
from stonekite.stages.settings import settings_of

kept_kernels = lazy("stonekite.signal.kept_kernels")
mixing = lazy("stonekite.signal.mixing")

RATE = 48_000
ENDS = "ends"
"""What every strip needs besides its stages: split and join, mixing, delays, width, ceiling."""
_SECONDS = {ENDS: 5.0, "noise": 18.0, "amp": 8.0, "cabinet": 8.0, "echo": 5.0, "dynamic-eq": 2.0}
_USUAL_S = 3.0


def parts_of(strip: Strip) -> list[Strip]:
    """What a strip is made of, each by itself: its ends, and every stage, wherever it stands, without what is in it."""
    upper, lower = _held_back(strip.upper), _held_back(strip.lower)
    if not upper.rides and any(part.rides for _, part in tree.riding_parts(strip)):
        upper = Leg(rides=(_moving("level_db"),))
    ends = Strip(intake=strip.intake, split=strip.split, output=strip.output, upper=upper, lower=lower)
    spurs = [Strip(upper=leg) for spur in strip.spurs if (leg := _held_back(spur)).rides]
    found = {way_of(part): part for part in (ends, *spurs)}
    for _, stage in tree.walk(strip):
        part = part_of(strip, stage)
        found.setdefault(way_of(part), part)
    return list(found.values())


def _moving(path: str) -> Ride:
    return Ride(path=path, points=(Point(at_s=0.0, value=1.0), Point(at_s=1.0, value=2.0)))


def _held_back(held: Leg | Spur) -> Leg:
    """What of a leg or a spur needs kernels of its own: a delay that rides."""
    rides = any(ride.path == "delay_ms" and not ride.stands for ride in held.rides)
    return Leg(delay_way=held.delay_way, rides=(_moving("delay_ms"),)) if rides else Leg()


def part_of(strip: Strip, stage: Stage) -> Strip:
    """The part that a stage of a strip is."""
    empty = tuple(msgspec.structs.replace(branch, stages=()) for branch in branches_of(stage))
    alone = msgspec.structs.replace(stage, inserted=True, **({"branches": empty} if empty else {}))
    return Strip(split=strip.split, stages=(alone,))


def way_of(part: Strip) -> str:
    """A part's kind, and a name for which of its choices are made: what decides which kernels it needs."""
    if not part.stages:
        ends = (
            part.intake,
            part.output.limited,
            tuple((leg.delay_way, [ride.path for ride in leg.rides]) for leg in (part.upper, part.lower)),
            msgspec.structs.replace(part.output, ceiling_db=-1.0) == Output(),
        )
        return f"{ENDS}-{hashlib.sha256(repr((ends, part.split.encoding is None)).encode()).hexdigest()[:16]}"
    stage = part.stages[0]
    told: list[Any] = [part.split.encoding is None]
    for holder in (stage, *(getattr(stage, leg) for leg in LEGS), getattr(stage, "shared", None)):
        told.append(holder is None)
        for name, setting in {} if holder is None else settings_of(type(holder)).items():
            if setting.words is not None or isinstance(setting.default, bool):
                told.append(getattr(holder, name))
    return f"{kind_name(part)}-{hashlib.sha256(repr(told).encode()).hexdigest()[:16]}"


def kind_name(part: Strip) -> str:
    """The tag of a part's kind; ENDS for the ends."""
    return str(part.stages[0].__struct_config__.tag) if part.stages else ENDS


def label_of(part: Strip) -> str:
    """What a part's kind is called; nothing for the ends."""
    return kind_of(part.stages[0]).label if part.stages else ""


def seconds_for(names: Iterable[str]) -> float:
    """About how long it takes to compile what these kinds need on a usual processor, in seconds."""
    return sum(_SECONDS.get(name, _USUAL_S) for name in names)


def is_compiled(part: Strip) -> bool:
    """Whether what a part needs is kept already: then it is there within a moment."""
    return _mark(kind_name(part)).exists() or _mark(way_of(part)).exists()


def are_compiled(name: str) -> bool:
    """The same of a kind in all its ways."""
    return _mark(name).exists()


def warm_part(part: Strip) -> None:
    """Load, or compile, what one part needs."""
    if not part.stages:
        _warm_mixing()
        if part.upper.rides:
            _warm_moving()
        part = msgspec.structs.replace(part, upper=msgspec.structs.replace(part.upper, level_db=-1.0))
    chain = Chain(part, RATE)
    chain.process(np.full((2, chain.latency + 600), 1e-3), 0)
    _made(way_of(part))


def warm_kernels(names: Iterable[str] = (ENDS, *KINDS)) -> None:
    """Load, or compile, what kinds need in all their ways."""
    for name in names:
        if name == ENDS:
            _warm_ends()
        else:
            _warm_kind(KINDS[name])
        _made(name)


def _made(name: str) -> None:
    with contextlib.suppress(OSError):  # where nothing can be kept it is compiled again
        _marks().mkdir(parents=True, exist_ok=True)
        _mark(name).touch()


@cache
def _marks() -> Path:
    """The folder of the marks: of these sources, and of this processor."""
    from numba.core.registry import cpu_target

    signal = Path(str(kept_kernels.__file__)).parent
    sources = "".join(kept_kernels.digest_of(file) for file in sorted(signal.rglob("*.py")))
    told = f"{sources} {cpu_target.target_context.codegen().magic_tuple()}"
    return Path(kept_kernels.home()) / f"marks-{hashlib.sha256(told.encode()).hexdigest()[:20]}"


def _mark(name: str) -> Path:
    return _marks() / name


def _warm_ends() -> None:
    """Silence through all that is not a stage."""
    _warm_mixing()
    _warm_moving()
    intake = Intake(remove_dc=True, left=IntakeSide(delay_ms=0.37, trim_db=-1.0))
    moving = _moving("delay_ms")
    held_back = Leg(rides=(moving, _moving("level_db"))), Leg(rides=(moving,), delay_way="tape")
    for strip in (
        Strip(upper=held_back[0], lower=held_back[1]),
        Strip(intake=intake, output=Output(limited=True, width=50.0)),
        Strip(upper=Leg(level_db=-1.0)),
        Strip(split=Split(mode="left-right"), upper=Leg(level_db=-1.0)),
    ):
        Chain(strip, RATE).process(np.zeros((2, 600)), 0)


def _warm_mixing() -> None:
    all_of, rows = np.zeros(1, dtype=np.int64), np.zeros((1, 2, 600))
    mixing.mix_each(np.eye(2)[None], all_of, rows[0], rows)
    mixing.add_through(np.eye(2), rows[0], rows[0].copy())
    mixing.add_each(np.eye(2)[None], all_of, rows, rows[0], np.empty((2, mixing.TILE)))


def _warm_moving() -> None:
    """What a mix that rides needs, of whatever kind."""
    still = standing(np.zeros(2))
    mixing.blend_moving(np.zeros((2, 600)), np.zeros((2, 600)), *still.cells, 0)


def _warm_kind(kind: Kind) -> None:
    for stage in _all_ways(kind):
        for context in (Context(RATE, "half-sum"), Context(RATE)):
            coefficients = kind.coefficients(stage, context)
            frames = max(kind.plan(stage, context).latency) + 600
            lines = (lambda block: None,) * len(branches_of(stage))
            at = At(0, lines, **still_rows(stage, context))
            kind.process(kind.start(coefficients), coefficients, np.zeros((2, frames)), at)


def _all_ways(kind: Kind) -> Iterator[Stage]:
    """Stages with each choice that a kind offers, one at a time: as new, and with everything moved."""
    changed = msgspec.structs.replace
    shared = get_type_hints(kind.stage).get("shared")
    new, moved = _side_of(kind, kind.side()), _side_of(kind, _moved(kind.side))
    made: Any = kind.stage
    first = made(id=0, upper=moved, lower=moved)
    yield made(id=0, upper=new, lower=new)
    yield first
    yield changed(first, upper=None)
    for holder in (kind.side, shared):
        for name, setting in {} if holder is None else settings_of(holder).items():
            values = tuple(setting.words or ())
            if isinstance(setting.default, bool):
                values = (not setting.default,)
            for value in values:
                if holder is shared:
                    yield changed(first, shared=changed(first.shared, **{name: value}))
                else:
                    side = changed(moved, **{name: value})
                    yield changed(first, upper=side, lower=side)


def _moved(struct: type[msgspec.Struct]) -> Any:
    """Settings whose numbers are not where they are at first."""
    numbers = {
        name: setting.from_travel(0.6)
        for name, setting in settings_of(struct).items()
        if setting.words is None and not isinstance(setting.default, bool)
    }
    return struct(**numbers)


def _side_of(kind: Kind, side: Any) -> Any:
    """A side with a band, of a kind whose sides have some."""
    bands = kind.offers.bands
    return side if bands is None else msgspec.structs.replace(side, bands=(_moved(bands.band),))
