"""Edits: functions from a tree to a new tree that shares what did not change."""

from collections.abc import Sequence
from typing import Any, TypeVar

import msgspec

from stonekite.session import tree
from stonekite.session.spur import SPLIT, SPURS, Spur
from stonekite.session.timing import by_notes, moved_note
from stonekite.session.tree import Path, at
from stonekite.session.types import LEGS, VERSIONS, LegName, Session, Strip, Tempo, Version
from stonekite.stages import riding
from stonekite.stages.base import HIGHEST_ID, Stage
from stonekite.stages.branch import DEEPEST, MOST_STAGES, branches_of
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import Setting, settings_of
from stonekite.words import said

Tree = TypeVar("Tree")


def put(whole: Tree, path: Path, value: Any) -> Tree:
    """A tree with another value at a path.

    Raises msgspec.ValidationError if the value is not one that the declared type accepts.
    """
    if not path:
        return value
    step, rest = path[0], path[1:]
    if isinstance(step, int):
        items = list(whole)  # type: ignore[call-overload]
        items[step] = put(items[step], rest, value)
        return tuple(items)  # type: ignore[return-value]
    was = at(whole, (step,))
    inner = put(was, rest, value)
    changed = msgspec.structs.replace(whole, **{str(step): inner})  # type: ignore[type-var]
    alike = isinstance(value, msgspec.Struct) and type(value) is type(
        was
    )  # such a one was looked at when it was made
    if not rest and not alike:  # only the struct that holds the value can have become invalid
        msgspec.convert(msgspec.to_builtins(changed), type(whole))
    return changed


def other(leg: LegName) -> LegName:
    return "lower" if leg == "upper" else "upper"


def put_linked(stage: Stage, leg: LegName, path: Path, value: Any) -> Stage:
    """A stage with another value in one side and, if it is linked, the same change in the other side.

    Numbers keep the offset they had (the ratio, for settings with a log taper); everything else is copied.
    A path that the other side does not have, such as a band that is only on one leg, is left alone, and so
    are settings that the stage names as unlinked.
    """
    name = str(path[-1])
    holder = at(stage, (leg, *path[:-1]))
    setting = settings_of(type(holder)).get(name) if isinstance(holder, msgspec.Struct) else None
    if setting is not None and setting.note:
        return _put_timed(stage, leg, path, setting, value)
    old = at(stage, (leg, *path))
    stage = put(stage, (leg, *path), value)
    if not stage.linked or str(path[-1]) in stage.unlinked:
        return stage
    there = (other(leg), *path)
    try:
        partner = at(stage, there)
    except LookupError:
        return stage
    if setting is None or setting.words is not None or isinstance(value, bool):
        return put(stage, there, value)
    return put(stage, there, setting.moved_with(partner, old, value))


def given(holder: Any, name: str, value: Any) -> Any:
    """A struct with another value of a setting, which may be one that can be given by a number or, as a text, by a note.

    The number of a note is put right when the whole is (session/timing.py).
    """
    note = settings_of(type(holder))[name].note
    changed = {note: value} if note and isinstance(value, str) else {name: value}
    if note and not isinstance(value, str):
        changed[note] = ""
    return msgspec.structs.replace(holder, **changed)


def _put_timed(stage: Stage, leg: LegName, path: Path, setting: Setting, value: Any) -> Stage:
    """As `put_linked`, of a setting that can be given by a note: a note goes across as a note."""
    name = str(path[-1])
    old = at(stage, (leg, *path[:-1]))
    stage = put(stage, (leg, *path[:-1]), given(old, name, value))
    there = (other(leg), *path[:-1])
    if not stage.linked or name in stage.unlinked:
        return stage
    try:
        partner = at(stage, there)
    except LookupError:
        return stage
    if partner is None:
        return stage
    if isinstance(value, str):
        value = moved_note(getattr(partner, setting.note), getattr(old, setting.note), value)
    else:
        value = setting.moved_with(getattr(partner, name), getattr(old, name), value)
    return put(stage, there, given(partner, name, value))


def link_setting(stage: Stage, name: str, on: bool) -> Stage:
    """A linked stage that carries a setting across, or does not."""
    rest = tuple(other for other in stage.unlinked if other != name)
    return msgspec.structs.replace(stage, unlinked=rest if on else (*rest, name))


def copied_across(stage: Stage, leg: LegName) -> Stage:
    """A stage whose other side is as the side on `leg`."""
    same = riding.on_legs(stage.rides, {leg: leg})
    across = riding.on_legs(
        tuple(ride for ride in same if ride.path.startswith(f"{leg}.")), {leg: other(leg)}
    )
    return msgspec.structs.replace(stage, rides=same + across, **{other(leg): getattr(stage, leg)})


def swapped(stage: Any) -> Stage:
    """A stage whose sides have changed legs."""
    rides = riding.on_legs(stage.rides, {"upper": "lower", "lower": "upper"})
    return msgspec.structs.replace(stage, upper=stage.lower, lower=stage.upper, rides=rides)


def reset(stage: Stage) -> Stage:
    """A stage of the same kind and id as it is when it is new, on the legs it is on."""
    fresh = type(stage)(id=stage.id)
    gone = {leg: None for leg in LEGS if getattr(stage, leg) is None}
    return msgspec.structs.replace(fresh, linked=stage.linked, unlinked=stage.unlinked, **gone)


def _put_stages(session: Session, holder: Path, path: Path, stages: Sequence[Stage]) -> Session:
    if len(stages) > MOST_STAGES:
        raise ValueError(said("A path holds {most} stages at the most.").format(most=MOST_STAGES))
    return put(session, ("sound", *holder, "strip", *path), tuple(stages))


def insert_stage(
    session: Session, holder: Path, stage: Stage, where: int | None = None, branch: int = tree.LEGS_BRANCH
) -> tuple[Session, int]:
    """A session with a stage, under new ids, at a position of a branch, or at its end; returns it and the stage's id.

    Raises ValueError with a sentence if it would stand too deep or be too many, LookupError if there is no such branch.
    """
    place = tree.branch(tree.strip_at(session, holder), branch)
    if place.depth + tree.depth_of(stage) > DEEPEST:
        raise ValueError(
            said(
                "Branches stand in one another {deepest} deep at the most: there is no room for this stage here."
            ).format(deepest=DEEPEST)
        )
    number = tree.next_id(session)
    new, after = tree.renumbered(stage, number)
    if after - 1 > HIGHEST_ID:
        raise ValueError(tree.USED_UP)
    stages = list(place.stages)
    stages.insert(len(stages) if where is None else where, new)
    return tree.counted(_put_stages(session, holder, place.path, stages)), number


def on_one_leg(stage: Any) -> Stage:
    """A stage, and all that stands in it, on the upper leg only, for a path that carries one component."""
    inner = tuple(
        msgspec.structs.replace(branch, stages=tuple(on_one_leg(one) for one in branch.stages))
        for branch in branches_of(stage)
    )
    changed = {"branches": inner} if inner else {}
    rides = riding.on_legs(stage.rides, {"lower" if stage.upper is None else "upper": "upper"})
    return msgspec.structs.replace(
        stage, upper=stage.upper or stage.lower, lower=None, rides=rides, **changed
    )


def add_stage(
    session: Session, holder: Path, kind: str, where: int | None = None, branch: int = tree.LEGS_BRANCH
) -> tuple[Session, int]:
    """A session with a new stage in a branch, on the legs that go through it; returns it and the stage's id."""
    stage = KINDS[kind].stage(id=0)
    if session.sound.tempo != Tempo():
        stage = by_notes(stage)
    if tree.carries_one(tree.strip_at(session, holder), branch):
        stage = on_one_leg(stage)
    return insert_stage(session, holder, stage, where, branch)


def remove_stage(session: Session, holder: Path, number: int) -> Session:
    """A session without the stage of that id; spurs that leave after it leave after the one before it."""
    strip = tree.strip_at(session, holder)
    try:
        place = tree.home(strip, number)
    except LookupError:
        return session
    kept = [stage for stage in place.stages if stage.id != number]
    session = _put_stages(session, holder, place.path, kept)
    if place.branch != tree.LEGS_BRANCH:
        return session
    ids = [stage.id for stage in place.stages]
    before = ids[ids.index(number) - 1] if ids.index(number) else SPLIT
    for k, spur in enumerate(strip.spurs):
        if spur.after == number:
            session = put(session, ("sound", *holder, "strip", "spurs", k, "after"), before)
    return session


def move_stage(session: Session, holder: Path, number: int, where: int, branch: int | None = None) -> Session:
    """A session with the stage of that id at another position of its branch, or of another one.

    Raises ValueError with a sentence where it cannot stand.
    """
    strip = tree.strip_at(session, holder)
    home = tree.home(strip, number)
    _, moved = tree.find(strip, number)
    if branch is None or branch == home.branch:
        stages = [stage for stage in home.stages if stage is not moved]
        stages.insert(where, moved)
        return _put_stages(session, holder, home.path, stages)
    if any(stage == number for _, stage in tree.above(strip, branch)):
        raise ValueError(said("A stage cannot stand inside itself."))
    if tree.branch(strip, branch).depth + tree.depth_of(moved) > DEEPEST:
        raise ValueError(
            said(
                "Branches stand in one another {deepest} deep at the most: there is no room for this stage there."
            ).format(deepest=DEEPEST)
        )
    session = remove_stage(session, holder, number)
    here = tree.strip_at(session, holder)
    place = tree.branch(here, branch)
    stages = list(place.stages)
    stages.insert(where, on_one_leg(moved) if tree.carries_one(here, branch) else moved)
    return _put_stages(session, holder, place.path, stages)


def add_spur(session: Session, holder: Path, spur: Spur, where: int | None = None) -> tuple[Session, int]:
    """A session with a spur, under new ids; returns it and the spur's id.

    Raises ValueError with a sentence if there are as many as there can be.
    """
    spurs = list(tree.strip_at(session, holder).spurs)
    if len(spurs) >= SPURS:
        raise ValueError(said("There are {spurs} spurs already: remove one first.").format(spurs=SPURS))
    number = tree.next_id(session)
    branch, after = tree.renumbered(spur.branch, number)
    if after - 1 > HIGHEST_ID:
        raise ValueError(tree.USED_UP)
    taken = {one.name for one in spurs}
    name = next(n for n in (spur.name, *(f"{spur.name} {k}" for k in range(2, 100))) if n not in taken)
    spurs.insert(
        len(spurs) if where is None else where, msgspec.structs.replace(spur, branch=branch, name=name)
    )
    return tree.counted(put(session, ("sound", *holder, "strip", "spurs"), tuple(spurs))), number


def remove_spur(session: Session, holder: Path, number: int) -> Session:
    """A session without the spur of that id."""
    kept = tuple(spur for spur in tree.strip_at(session, holder).spurs if spur.id != number)
    return put(session, ("sound", *holder, "strip", "spurs"), kept)


def levelled(strip: Strip, loudness: dict[int | str, float]) -> Strip:
    """A strip with paths, legs by name and spurs by id, turned to one loudness: the loudest of theirs in LUFS, as far as
    can be."""
    target = max(loudness.values())
    changed: Strip = strip
    for path, level in loudness.items():
        holder: Any = changed.leg(path) if isinstance(path, str) else changed.spur(path)  # type: ignore[arg-type]
        wanted = settings_of(type(holder))["level_db"].held(round(holder.level_db + target - level, 2))
        new = msgspec.structs.replace(holder, level_db=wanted)
        if isinstance(path, str):
            changed = msgspec.structs.replace(changed, **{path: new})
        else:
            spurs = tuple(new if spur.id == path else spur for spur in changed.spurs)
            changed = msgspec.structs.replace(changed, spurs=spurs)
    return changed


def keep_version(session: Session, note: str = "", number: int | None = None) -> Session:
    """A session with its sound as a version: under a number, or the first that is free.

    Raises ValueError with a sentence if all numbers are taken.
    """
    taken = [version.number for version in session.versions]
    free = [n for n in range(1, VERSIONS + 1) if n not in taken]
    if number is None and not free:
        raise ValueError(
            said("All {versions} versions are kept: replace or remove one.").format(versions=VERSIONS)
        )
    number = free[0] if number is None else number
    kept = [version for version in session.versions if version.number != number]
    kept.append(Version(number=number, note=note, sound=session.sound))
    return msgspec.structs.replace(session, versions=tuple(sorted(kept, key=lambda v: v.number)))


def remove_version(session: Session, number: int) -> Session:
    """A session without the version of that number."""
    kept = tuple(version for version in session.versions if version.number != number)
    return msgspec.structs.replace(session, versions=kept)


def use_version(session: Session, number: int) -> Session:
    """A session that sounds as in a version; the recordings are those of now. Raises LookupError if it is not kept."""
    version = session.version(number)
    if version is None:
        raise LookupError(f"no version {number}")
    now = {stem.id: stem for stem in session.sound.stems}
    stems = tuple(
        msgspec.structs.replace(stem, source=now[stem.id].source) if stem.id in now else stem
        for stem in version.sound.stems
    )
    return msgspec.structs.replace(session, sound=msgspec.structs.replace(version.sound, stems=stems))


def take_stage(session: Session, holder: Path, number: int, stage: int) -> Session:
    """A session in which one stage is as in a version: changed, put in at its place, or taken away.

    Raises LookupError if neither the version nor the strip has it, or if the branch that it stands in is not there.
    """
    version = session.version(number)
    if version is None:
        raise LookupError(f"no version {number}")
    strip = tree.strip_at(session, holder)
    kept = tree.holder(version.sound, tree.number_of(tree.at(session.sound, holder))).strip
    there = dict((one.id, one) for _, one in tree.walk(kept))
    here = dict((one.id, path) for path, one in tree.walk(strip))
    if stage not in there and stage not in here:
        raise LookupError(f"no stage has number {stage}")
    if stage not in there:
        return remove_stage(session, holder, stage)
    if stage in here:
        taken = put(session, ("sound", *holder, "strip", *here[stage]), there[stage])
    else:  # behind what it stands behind there, as far as that is here
        home = tree.home(kept, stage)
        place = tree.branch(strip, home.branch)
        before = [one.id for one in home.stages]
        known = [k for k, one in enumerate(place.stages) if one.id in before[: before.index(stage)]]
        stages = list(place.stages)
        stages.insert(max(known, default=-1) + 1, there[stage])
        taken = _put_stages(session, holder, place.path, stages)
    return _unmixed(taken, holder, stage)


def _unmixed(session: Session, holder: Path, number: int) -> Session:
    """A session in which what stands in a stage has new ids, if something else has one of them by now."""
    found = [n for _, n in tree.numbers(session.sound)]
    if len(set(found)) == len(found):
        return session
    path, stage = tree.find(tree.strip_at(session, holder), number)
    new, _ = tree.renumbered(stage, tree.next_id(session))
    changed = msgspec.structs.replace(new, id=number)
    return tree.counted(put(session, ("sound", *holder, "strip", *path), changed))
