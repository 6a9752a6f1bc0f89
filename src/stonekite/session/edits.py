"""Edits: functions from a tree to a new tree that shares what did not change."""

from typing import Any, TypeVar

import msgspec

from stonekite.session.tree import Path, at, find, next_id
from stonekite.session.types import LEGS, VERSIONS, LegName, Session, Version
from stonekite.stages.base import Stage
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import settings_of

Tree = TypeVar("Tree")


def put(tree: Tree, path: Path, value: Any) -> Tree:
    """A tree with another value at a path.

    Raises msgspec.ValidationError if the value is not one that the declared type accepts.
    """
    if not path:
        return value
    step, rest = path[0], path[1:]
    if isinstance(step, int):
        items = list(tree)  # type: ignore[call-overload]
        items[step] = put(items[step], rest, value)
        return tuple(items)  # type: ignore[return-value]
    inner = put(at(tree, (step,)), rest, value)
    changed = msgspec.structs.replace(tree, **{str(step): inner})  # type: ignore[type-var]
    if not rest:  # only the struct that holds the value can have become invalid
        msgspec.convert(msgspec.to_builtins(changed), type(tree))
    return changed


def other(leg: LegName) -> LegName:
    return "lower" if leg == "upper" else "upper"


def put_linked(stage: Stage, leg: LegName, path: Path, value: Any) -> Stage:
    """A stage with another value in one side and, if it is linked, the same change in the other side.

    Numbers keep the offset they had (the ratio, for settings with a log taper); everything else is copied.
    A path that the other side does not have, such as a band that is only on one leg, is left alone, and so
    are settings that the stage names as unlinked.
    """
    old = at(stage, (leg, *path))
    stage = put(stage, (leg, *path), value)
    if not stage.linked or str(path[-1]) in stage.unlinked:
        return stage
    there = (other(leg), *path)
    try:
        partner = at(stage, there)
    except LookupError:
        return stage
    name = str(path[-1])
    holder = at(stage, (leg, *path[:-1]))
    setting = settings_of(type(holder)).get(name) if isinstance(holder, msgspec.Struct) else None
    if setting is None or setting.words is not None or isinstance(value, bool):
        return put(stage, there, value)
    return put(stage, there, setting.moved_with(partner, old, value))


def link_setting(stage: Stage, name: str, on: bool) -> Stage:
    """A linked stage that carries a setting across, or does not."""
    rest = tuple(other for other in stage.unlinked if other != name)
    return msgspec.structs.replace(stage, unlinked=rest if on else (*rest, name))


def copied_across(stage: Stage, leg: LegName) -> Stage:
    """A stage whose other side is as the side on `leg`."""
    return msgspec.structs.replace(stage, **{other(leg): getattr(stage, leg)})


def swapped(stage: Any) -> Stage:
    """A stage whose sides have changed legs."""
    return msgspec.structs.replace(stage, upper=stage.lower, lower=stage.upper)


def reset(stage: Stage) -> Stage:
    """A stage of the same kind and id as it is when it is new, on the legs it is on."""
    fresh = type(stage)(id=stage.id)
    gone = {leg: None for leg in LEGS if getattr(stage, leg) is None}
    return msgspec.structs.replace(fresh, linked=stage.linked, unlinked=stage.unlinked, **gone)


def insert_stage(session: Session, stem: int, stage: Stage, where: int) -> tuple[Session, int]:
    """A session with a stage, under a new id, at a position of a stem's strip; returns it and the id."""
    number = next_id(session)
    stages = list(session.sound.stems[stem].strip.stages)
    stages.insert(where, msgspec.structs.replace(stage, id=number))
    return put(session, ("sound", "stems", stem, "strip", "stages"), tuple(stages)), number


def add_stage(session: Session, stem: int, kind: str, where: int | None = None) -> tuple[Session, int]:
    """A session with a new stage in a stem's strip; returns it and the stage's id."""
    place = len(session.sound.stems[stem].strip.stages) if where is None else where
    return insert_stage(session, stem, KINDS[kind].stage(id=0), place)


def remove_stage(session: Session, stem: int, number: int) -> Session:
    """A session without the stage of that id."""
    kept = tuple(s for s in session.sound.stems[stem].strip.stages if s.id != number)
    return put(session, ("sound", "stems", stem, "strip", "stages"), kept)


def move_stage(session: Session, stem: int, number: int, where: int) -> Session:
    """A session with the stage of that id at another position."""
    _, moved = find(session.sound.stems[stem].strip, number)
    stages = [stage for stage in session.sound.stems[stem].strip.stages if stage is not moved]
    stages.insert(where, moved)
    return put(session, ("sound", "stems", stem, "strip", "stages"), tuple(stages))


def keep_version(session: Session, note: str = "", number: int | None = None) -> Session:
    """A session with its sound as a version: under a number, or the first that is free.

    Raises ValueError with a sentence if all numbers are taken.
    """
    taken = [version.number for version in session.versions]
    free = [n for n in range(1, VERSIONS + 1) if n not in taken]
    if number is None and not free:
        raise ValueError(f"All {VERSIONS} versions are kept: replace or remove one.")
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


def take_stage(session: Session, stem: int, number: int, stage: int) -> Session:
    """A session in which one stage is as in a version: changed, put in at its place, or taken away.

    Raises LookupError if neither the version nor the strip has it.
    """
    version = session.version(number)
    if version is None:
        raise LookupError(f"no version {number}")
    strip = session.sound.stems[stem].strip
    there = {one.id: one for one in version.strip.stages}
    here = [one.id for one in strip.stages]
    if stage not in there and stage not in here:
        raise LookupError(f"no stage has number {stage}")
    if stage not in there:
        return remove_stage(session, stem, stage)
    stages = list(strip.stages)
    if stage in here:
        stages[here.index(stage)] = there[stage]
    else:  # behind what it stands behind there, as far as that is here
        before = [one.id for one in version.strip.stages]
        known = [here.index(one) for one in before[: before.index(stage)] if one in here]
        stages.insert(max(known, default=-1) + 1, there[stage])
    return put(session, ("sound", "stems", stem, "strip", "stages"), tuple(stages))
