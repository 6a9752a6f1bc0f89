"""Where in a session a stage or a setting is: found by id, never by place.

A path is a tuple of field names and positions from a tree down, such as ("stages", 1, "upper", "bands", 2, "gain_db").
"""

from collections.abc import Iterator
from typing import Any

from stonekite.session.types import Session, Sound, Strip
from stonekite.stages.base import Stage

Path = tuple[str | int, ...]


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


def walk(strip: Strip) -> Iterator[tuple[Path, Stage]]:
    """Every stage of a strip in the order of the sound, with its path from the strip down."""
    for index, stage in enumerate(strip.stages):
        yield ("stages", index), stage


def find(strip: Strip, number: int) -> tuple[Path, Stage]:
    """The stage of that id, and its path. Raises LookupError if there is none."""
    for path, stage in walk(strip):
        if stage.id == number:
            return path, stage
    raise LookupError(f"no stage has number {number}")


def numbers(sound: Sound) -> Iterator[tuple[Path, int]]:
    """The ids of all stems and stages, with their paths from the sound down."""
    for s, stem in enumerate(sound.stems):
        yield ("stems", s, "id"), stem.id
        for path, stage in walk(stem.strip):
            yield ("stems", s, "strip", *path, "id"), stage.id


def next_id(session: Session) -> int:
    """A number that no stem and no stage of the session has, nor of its versions."""
    sounds = [session.sound, *(version.sound for version in session.versions)]
    return max((number for sound in sounds for _, number in numbers(sound)), default=0) + 1


def written(path: Path) -> str:
    """A path as an error shows it: .stems[0].strip.stages[2]."""
    return "".join(f"[{step}]" if isinstance(step, int) else f".{step}" for step in path)
