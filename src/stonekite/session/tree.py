"""Where in a session a stage, a branch or a setting is: found by id, never by place.

A path is a tuple of field names and positions from a tree down, such as ("stages", 1, "upper", "bands", 2, "gain_db").
"""

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, NamedTuple, TypeVar

import msgspec

from stonekite.remembered import Remembered
from stonekite.session.types import MIX, Bus, Mix, OneComponent, Session, Sound, Split, Stem, Strip
from stonekite.stages.base import LEGS, Context, Key, Stage, keys_in
from stonekite.stages.branch import branches_of
from stonekite.stages.planning import awake, refusals
from stonekite.stages.riding import Ride
from stonekite.words import said

Path = tuple[str | int, ...]
Rides = tuple[Ride, ...]
Tree = TypeVar("Tree")

USED_UP = said(
    "All numbers that stages can have are used up: start a new session with a preset of this strip."
)
LEGS_BRANCH = 0
"""The id of the branch that the legs are; no stem, stage or other branch has it."""


FIRST: Path = ("stems", 0)
"""Where the first stem is in a sound."""
MIX_PATH: Path = ("mix",)


def holders(sound: Sound) -> Iterator[tuple[Path, Stem | Bus | Mix]]:
    """All that has a strip, with its path from the sound down: stems, buses, the mix."""
    yield from ((("stems", k), stem) for k, stem in enumerate(sound.stems))
    yield from ((("buses", k), bus) for k, bus in enumerate(sound.buses))
    yield MIX_PATH, sound.mix


def number_of(holder: Stem | Bus | Mix) -> int:
    """The id of what has a strip; the mix has MIX."""
    return MIX if isinstance(holder, Mix) else holder.id


def holder_path(sound: Sound, number: int) -> Path:
    """Where the stem, the bus or the mix of that id is. Raises LookupError if there is none."""
    for path, holder in holders(sound):
        if number_of(holder) == number:
            return path
    raise LookupError(f"no strip has number {number}")


def holder(sound: Sound, number: int) -> Stem | Bus | Mix:
    """The stem, the bus or the mix of that id. Raises LookupError if there is none."""
    return at(sound, holder_path(sound, number))


def strip_at(session: Session, place: Path) -> Strip:
    """The strip of what is at a path of the sound."""
    return at(session.sound, (*place, "strip"))


def strip_in(sound: Sound, number: int) -> Strip:
    """The strip of the stem, the bus or the mix of that id; an empty one if the sound has none."""
    return next((one.strip for _, one in holders(sound) if number_of(one) == number), Strip())


def put_strip(sound: Sound, number: int, strip: Strip) -> Sound:
    """A sound with another strip of the stem, the bus or the mix of that id. Raises LookupError if there is none."""
    name, *index = holder_path(sound, number)
    if not index:
        return sound if sound.mix.strip is strip else msgspec.structs.replace(sound, mix=Mix(strip=strip))
    row = list(getattr(sound, str(name)))
    k = int(index[0])
    if row[k].strip is strip:
        return sound
    row[k] = msgspec.structs.replace(row[k], strip=strip)
    return msgspec.structs.replace(sound, **{str(name): tuple(row)})


def with_strips(sound: Sound, change: Callable[[Strip], Strip]) -> Sound:
    """A sound whose strips are changed ones; itself if none is another one."""
    changed: dict[str, Any] = {}
    for name in ("stems", "buses"):
        were = getattr(sound, name)
        made = tuple(
            one if (strip := change(one.strip)) is one.strip else msgspec.structs.replace(one, strip=strip)
            for one in were
        )
        if any(a is not b for a, b in zip(made, were, strict=True)):
            changed[name] = made
    if (strip := change(sound.mix.strip)) is not sound.mix.strip:
        changed["mix"] = Mix(strip=strip)
    return msgspec.structs.replace(sound, **changed) if changed else sound


class Place(NamedTuple):
    """A branch where it is: its id, the path to its stages, them, and how many branches it stands in."""

    branch: int
    path: Path
    stages: tuple[Stage, ...]
    depth: int


def at(tree: Any, path: Path) -> Any:
    """The value at a path. Raises LookupError if the path leads nowhere."""
    for step in path:
        if isinstance(step, int):
            tree = tree[step]
        elif step in getattr(tree, "__struct_fields__", ()):
            tree = getattr(tree, step)
        else:
            raise LookupError(f"nothing at {step!r}")
    return tree


def _inside(place: Place) -> Iterator[Place]:
    """A branch, and after it all that stand in its stages."""
    yield place
    for index, stage in enumerate(place.stages):
        for k, branch in enumerate(branches_of(stage)):
            path = (*place.path, index, "branches", k, "stages")
            yield from _inside(Place(branch.id, path, branch.stages, place.depth + 1))


def branches(strip: Strip) -> Iterator[Place]:
    """Every branch of a strip: the legs first, what stands in their stages, then each spur."""
    yield from _inside(Place(LEGS_BRANCH, ("stages",), strip.stages, 0))
    for k, spur in enumerate(strip.spurs):
        yield from _inside(Place(spur.id, ("spurs", k, "branch", "stages"), spur.branch.stages, 1))


def branch(strip: Strip, number: int) -> Place:
    """The branch of that id. Raises LookupError if there is none."""
    for place in branches(strip):
        if place.branch == number:
            return place
    raise LookupError(f"no branch has number {number}")


def walk(strip: Strip) -> Iterator[tuple[Path, Stage]]:
    """Every stage of a strip, with its path from the strip down: a branch's stages in the order of the sound."""
    for place in branches(strip):
        for index, stage in enumerate(place.stages):
            yield (*place.path, index), stage


ENDS = "intake", *LEGS, "output"
"""What of a strip rides can stand in, besides spurs and stages, in the order of the sound."""


def riding_parts(strip: Strip) -> Iterator[tuple[Path, Any]]:
    """All of a strip that rides can stand in, with its path from the strip down."""
    yield from (((name,), getattr(strip, name)) for name in ENDS)
    yield from ((("spurs", k), spur) for k, spur in enumerate(strip.spurs))
    yield from walk(strip)


def rides_told(session: Session) -> str:
    """In a sentence how many settings ride over the recording; empty if none does."""
    strips = (holder.strip for _, holder in holders(session.sound))
    count = sum(len(awake(part)) for strip in strips for _, part in riding_parts(strip))
    if not count:
        return ""
    return said(
        "{count} settings of this session ride over the recording: their lines stand under the timeline."
    ).format(count=count)


def refusal(strip: Strip, rate: float) -> str:
    """Why a stage of a strip cannot be as it is at a rate in Hz, in a sentence; empty if all can."""
    context = Context(rate, strip.split.encoding)
    outer = (*strip.stages, *(stage for spur in strip.spurs for stage in spur.branch.stages))
    return refusals(outer, context)


def refusal_of_new(sound: Sound, old: Sound) -> str:
    """As `refusal`, of the strips that another sound has not."""
    known = {id(one.strip) for _, one in holders(old)}
    rate = sound.stems[0].source.rate
    new = (one.strip for _, one in holders(sound) if id(one.strip) not in known)
    return next((why for strip in new if (why := refusal(strip, rate))), "")


def rides_of(strip: Strip) -> Iterator[Ride]:
    """All rides of a strip, wherever they stand."""
    for _, part in riding_parts(strip):
        yield from getattr(part, "rides", ())


def with_stages(strip: Strip, change: Callable[[Any], Any]) -> Strip:
    """A strip in which all stages, wherever they stand, are changed ones. What stays is the same object."""

    def of(one: Any) -> Any:
        inner = branches_of(one)
        made = tuple(map(in_branch, inner))
        if any(a is not b for a, b in zip(made, inner, strict=True)):
            one = msgspec.structs.replace(one, branches=made)
        return change(one)

    def in_branch(branch: Any) -> Any:
        stages = tuple(map(of, branch.stages))
        same = all(a is b for a, b in zip(stages, branch.stages, strict=True))
        return branch if same else msgspec.structs.replace(branch, stages=stages)

    def of_spur(spur: Any) -> Any:
        branch = in_branch(spur.branch)
        return spur if branch is spur.branch else msgspec.structs.replace(spur, branch=branch)

    changed: dict[str, Any] = {}
    for field, work in (("stages", of), ("spurs", of_spur)):
        row = getattr(strip, field)
        new = tuple(map(work, row))
        if any(a is not b for a, b in zip(new, row, strict=True)):
            changed[field] = new
    return msgspec.structs.replace(strip, **changed) if changed else strip


def with_rides(strip: Strip, change: Callable[[Rides], Rides]) -> Strip:
    """A strip in which the rides, wherever they stand, are changed ones. What keeps its own is the same object."""

    def of(one: Any) -> Any:
        rides = change(one.rides) if one.rides else one.rides
        return one if rides is one.rides else msgspec.structs.replace(one, rides=rides)

    strip = with_stages(strip, of)
    changed: dict[str, Any] = {name: of(getattr(strip, name)) for name in ENDS}
    changed["spurs"] = tuple(map(of, strip.spurs))
    if all(changed[name] is getattr(strip, name) for name in ENDS) and all(
        a is b for a, b in zip(changed["spurs"], strip.spurs, strict=True)
    ):
        return strip
    return msgspec.structs.replace(strip, **changed)


def without_keys(strip: Strip, number: int | None = None) -> Strip:
    """A strip whose detectors hear their own legs, in place of one other strip or of any."""

    def of(stage: Any) -> Any:
        gone = [key for key in keys_in(stage) if number in (None, key.strip)]
        return _without(stage, gone) if gone else stage

    return with_stages(strip, of)


def _without(stage: Any, gone: list[Key]) -> Any:
    """A stage that has none of some keys, nor have its bands."""
    changed: dict[str, Any] = {"key": None} if stage.key in gone else {}
    for leg in LEGS:
        side = getattr(stage, leg)
        if getattr(side, "bands", ()):
            bands = tuple(
                msgspec.structs.replace(band, key=None) if getattr(band, "key", None) in gone else band
                for band in side.bands
            )
            changed[leg] = msgspec.structs.replace(side, bands=bands)
    return msgspec.structs.replace(stage, **changed)


def unkeyed(stage: Stage) -> Stage:
    """A stage of which, and of all in it, the detectors hear their own legs."""
    return without_keys(Strip(stages=(stage,))).stages[0]


def find(strip: Strip, number: int) -> tuple[Path, Stage]:
    """The stage of that id, and its path. Raises LookupError if there is none."""
    for path, stage in walk(strip):
        if stage.id == number:
            return path, stage
    raise LookupError(f"no stage has number {number}")


def home(strip: Strip, stage: int) -> Place:
    """The branch that a stage of that id stands in. Raises LookupError if there is none."""
    for place in branches(strip):
        if any(one.id == stage for one in place.stages):
            return place
    raise LookupError(f"no stage has number {stage}")


def above(strip: Strip, number: int) -> list[tuple[int, int]]:
    """What a branch stands in, from the outside in, itself last: pairs of a branch and the stage in which it stands, 0
    for a spur and for the legs. Raises LookupError if there is none of that id.
    """
    path = branch(strip, number).path
    found = [(strip.spurs[path[1]].id, 0)] if path[0] == "spurs" else []  # type: ignore[index]
    for k, step in enumerate(path):
        if step == "branches":
            inner = at(strip, path[: k + 2])
            found.append((inner.id, at(strip, path[:k]).id))
    return found


def carries_one(strip: Strip, number: int) -> bool:
    """Whether a branch carries one component, on the upper leg: a spur's, and what stands in it."""
    path = branch(strip, number).path
    return path[0] == "spurs" and not strip.spurs[path[1]].of_both  # type: ignore[index]


def carried(strip: Strip, stage: int) -> Split:
    """What the legs that a stage works on carry: those of the split, or one component. Raises LookupError."""
    path, _ = find(strip, stage)
    if path[0] != "spurs" or (spur := strip.spurs[path[1]]).of_both:  # type: ignore[index]
        return strip.split
    return OneComponent(mode=strip.split.mode, matrix=strip.split.matrix, source=spur.source)


def numbers(sound: Sound) -> Iterator[tuple[Path, int]]:
    """The ids of all stems, buses, branches and stages, with their paths from the sound down."""
    for path, one in holders(sound):
        if not isinstance(one, Mix):
            yield (*path, "id"), one.id
        for place in branches(one.strip):
            if place.depth:
                yield (*path, "strip", *place.path[:-1], "id"), place.branch
            for index, stage in enumerate(place.stages):
                yield (*path, "strip", *place.path, index, "id"), stage.id


_HIGHEST = Remembered()


def _highest(sound: Sound) -> int:
    """The highest id in a sound."""

    def of(strip: Strip) -> int:
        found = [place.branch for place in branches(strip)]
        return max([*found, *(stage.id for _, stage in walk(strip))])

    def of_all() -> int:
        return max(
            max(number_of(one), _HIGHEST.of(one.strip, None, partial(of, one.strip)))
            for _, one in holders(sound)
        )

    return _HIGHEST.of(sound, None, of_all)


def last_id(session: Session) -> int:
    """The highest number that a stem, a bus, a branch or a stage of the session or of its versions has, or had."""
    sounds = [session.sound, *(version.sound for version in session.versions)]
    return max(session.last_id, *map(_highest, sounds))


def next_id(session: Session) -> int:
    """A number that nothing in the session ever had."""
    return last_id(session) + 1


def counted(session: Session) -> Session:
    """A session that knows which numbers it has used, so that none comes again when what has it is removed."""
    last = last_id(session)
    return session if last == session.last_id else msgspec.structs.replace(session, last_id=last)


def renumbered(tree: Tree, first: int) -> tuple[Tree, int]:
    """A stage or branch in which it and all that stand in it have ids from `first` on, and the next free one."""
    changed: dict[str, Any] = {"id": first}
    first += 1
    name = "stages" if "stages" in tree.__struct_fields__ else "branches"  # type: ignore[attr-defined]
    inner = []
    for one in getattr(tree, name, ()):
        new, first = renumbered(one, first)
        inner.append(new)
    if inner:
        changed[name] = tuple(inner)
    return msgspec.structs.replace(tree, **changed), first  # type: ignore[type-var]


def depth_of(stage: Stage) -> int:
    """How many branches stand in one another inside a stage."""
    inner = [1 + max((depth_of(s) for s in b.stages), default=0) for b in branches_of(stage)]
    return max(inner, default=0)


def sharing_sound(new: Sound, old: Sound) -> Sound:
    """A sound that has been sent, with what it has in common with the one before it (see `sharing`)."""
    before = {number_of(one): one.strip for _, one in holders(old)}
    changed: dict[str, Any] = {
        name: tuple(
            msgspec.structs.replace(one, strip=sharing(one.strip, before[one.id]))
            if one.id in before
            else one
            for one in getattr(new, name)
        )
        for name in ("stems", "buses")
    }
    return msgspec.structs.replace(new, mix=Mix(strip=sharing(new.mix.strip, before[MIX])), **changed)


def sharing(new: Strip, old: Strip) -> Strip:
    """A strip that has been sent, with the stages of the one before it where they are equal: what is remembered of those
    holds of it, too."""
    if new == old:
        return old
    known = {stage.id: stage for _, stage in walk(old)}
    spurs = tuple(
        msgspec.structs.replace(
            spur, branch=msgspec.structs.replace(spur.branch, stages=_shared(spur.branch.stages, known))
        )
        for spur in new.spurs
    )
    return msgspec.structs.replace(new, stages=_shared(new.stages, known), spurs=spurs)


def _shared(stages: tuple[Stage, ...], known: dict[int, Stage]) -> tuple[Stage, ...]:
    found = []
    for stage in stages:
        before = known.get(stage.id)
        if before is not None and before == stage:
            stage = before
        elif inner := branches_of(stage):
            shared = tuple(msgspec.structs.replace(b, stages=_shared(b.stages, known)) for b in inner)
            stage = msgspec.structs.replace(stage, branches=shared)  # type: ignore[call-arg]
        found.append(stage)
    return tuple(found)


def written(path: Path) -> str:
    """A path as an error shows it: .stems[0].strip.stages[2]."""
    return "".join(f"[{step}]" if isinstance(step, int) else f".{step}" for step in path)
