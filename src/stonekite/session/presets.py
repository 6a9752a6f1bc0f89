"""Presets: kept settings of a stage, of one leg of a stage, or of a whole strip, as JSON files.

Those that ship with Stone Kite stand beside the kinds; a user's own are files in a folder, so that they can be
copied, sent and put under version control.
"""

import re
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
import platformdirs

from stonekite.files.atomic import replacing
from stonekite.session import tree
from stonekite.session.grips import renumbered
from stonekite.session.types import LegName, Strip
from stonekite.stages.base import Stage
from stonekite.stages.registry import AnyStage
from stonekite.stages.settings import Settings
from stonekite.words import said

SUFFIX = ".kitepreset"
SHIPPED = Path(__file__).parents[1] / "stages" / "presets"
MAX_BYTES = 2**20

Scope = Literal["stage", "leg", "strip"]


class PresetError(Exception):
    """A preset cannot be read or written. The text is one sentence for the user."""


class Preset(Settings, frozen=True, kw_only=True):
    """A name, a word about it, and what it sets. A leg's preset is a stage of which only the upper side counts."""

    format: Literal[1] = 1
    name: Annotated[str, msgspec.Meta(min_length=1, max_length=60)]
    about: Annotated[str, msgspec.Meta(max_length=400)] = ""
    scope: Scope
    stage: AnyStage | None = None  # type: ignore[valid-type]
    strip: Strip | None = None

    def fits(self, scope: Scope, kind: str | None) -> bool:
        """Whether it can be used there; `kind` is a stage's, None for a strip."""
        return self.scope == scope and kind == self.kind

    @property
    def kind(self) -> str | None:
        """Tag of the stage's kind; None for a strip."""
        return None if self.stage is None else self.stage.__struct_config__.tag


def user_folder() -> Path:
    """Where a user's own presets are."""
    return Path(platformdirs.user_data_dir("stonekite")) / "presets"


def decode(text: bytes, name: str) -> Preset:
    """A preset from JSON text. Raises PresetError naming the place of what is wrong."""
    try:
        preset = msgspec.json.decode(text, type=Preset)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        raise PresetError(
            said("“{name}” is not a preset: {reason}.").format(name=name, reason=_lowered(str(error)))
        ) from None
    if (preset.strip if preset.scope == "strip" else preset.stage) is None:
        raise PresetError(
            said("“{name}” is not a preset: it holds nothing for a {scope}.").format(
                name=name, scope=preset.scope
            )
        )
    return preset


def _lowered(sentence: str) -> str:
    return sentence[:1].lower() + sentence[1:]


def load(path: Path) -> Preset:
    """Read a preset file. Raises PresetError."""
    try:
        if not path.is_file():  # a pipe or a device has no end
            raise PresetError(said("“{name}” is not a file.").format(name=path.name))
        if path.stat().st_size > MAX_BYTES:
            raise PresetError(said("“{name}” is larger than any preset.").format(name=path.name))
        return decode(path.read_bytes(), path.name)
    except OSError as error:
        raise PresetError(
            said("“{name}” cannot be read: {reason}.").format(
                name=path.name, reason=_lowered(error.strerror or str(error))
            )
        ) from None


def save(preset: Preset, path: Path) -> None:
    """Write a preset file, completely or not at all. Raises PresetError."""
    text = msgspec.json.format(msgspec.json.encode(preset), indent=2) + b"\n"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with replacing(path) as temporary:
            temporary.write_bytes(text)
    except OSError as error:
        raise PresetError(
            said("“{name}” was not written: {reason}.").format(
                name=path.name, reason=_lowered(error.strerror or str(error))
            )
        ) from None


def path_for(preset: Preset, folder: Path) -> Path:
    """The file in a folder that a preset of this name, scope and kind is kept in."""
    plain = re.sub(r"[^\w-]+", "-", preset.name.strip().lower()).strip("-") or "preset"
    return folder / f"{preset.kind or 'whole'}.{preset.scope}.{plain}{SUFFIX}"


def listed(folders: list[Path]) -> tuple[list[tuple[Path, Preset]], list[str]]:
    """Presets of some folders by name, and a sentence about each file that is none."""
    found, faults = [], []
    for folder in folders:
        for path in sorted(folder.glob(f"*{SUFFIX}")):
            try:
                found.append((path, load(path)))
            except PresetError as error:
                faults.append(str(error))
    return found, faults


def of_stage(name: str, stage: Stage, about: str = "") -> Preset:
    """A preset that keeps a stage with both its sides."""
    kept = tree.unkeyed(msgspec.structs.replace(stage, id=0, rides=()))
    return Preset(name=name, about=about, scope="stage", stage=kept)


def of_leg(name: str, stage: Stage, leg: LegName, about: str = "") -> Preset:
    """A preset that keeps one side of a stage."""
    kept = type(stage)(id=0, upper=getattr(stage, leg), lower=None)  # type: ignore[call-arg]
    return Preset(name=name, about=about, scope="leg", stage=kept)


def of_strip(name: str, strip: Strip, about: str = "") -> Preset:
    """A preset that keeps a strip, without its intake, which belongs to the recording, and without keys, which belong to
    the session."""
    kept = msgspec.structs.replace(tree.without_keys(strip), intake=Strip().intake)
    return Preset(name=name, about=about, scope="strip", strip=kept)


def on_stage(preset: Preset, stage: Any, first_id: int) -> Stage:
    """A stage with a preset's settings; it keeps its id and whether it is heard. What stands in it gets ids from
    `first_id` on.
    """
    kept: Any
    kept, _ = tree.renumbered(preset.stage, first_id)
    return msgspec.structs.replace(kept, id=stage.id, inserted=stage.inserted, key=stage.key)


def on_leg(preset: Preset, stage: Any, leg: LegName) -> Stage:
    """A stage with a preset's settings on one leg."""
    return msgspec.structs.replace(stage, **{leg: preset.stage.upper})  # type: ignore[union-attr]


def on_strip(preset: Preset, strip: Strip, first_id: int) -> Strip:
    """A strip with a preset's settings and its own intake; branches and stages get ids from `first_id` on."""
    assert preset.strip is not None
    return msgspec.structs.replace(renumbered_strip(preset.strip, first_id), intake=strip.intake)


def renumbered_strip(given: Strip, first_id: int) -> Strip:
    """A strip whose branches and stages have ids from `first_id` on."""
    stages, spurs = [], []
    moved: dict[int, int] = {}
    numbers: dict[int, int] = {}
    for stage in given.stages:
        moved[stage.id] = first_id
        new, first_id = tree.renumbered(stage, first_id)
        numbers |= _numbers((stage,), (new,))
        stages.append(new)
    for spur in given.spurs:
        branch, first_id = tree.renumbered(spur.branch, first_id)
        numbers[spur.id] = branch.id
        numbers |= _numbers(spur.branch.stages, branch.stages)
        after = spur.after if isinstance(spur.after, str) else moved[spur.after]
        spurs.append(msgspec.structs.replace(spur, branch=branch, after=after))
    return msgspec.structs.replace(
        given,
        stages=tuple(stages),
        spurs=tuple(spurs),
        grips=renumbered(given.grips, numbers),
    )


def _numbers(old: tuple[Stage, ...], new: tuple[Stage, ...]) -> dict[int, int]:
    """The numbers that stages had, and those that the same ones have now, those in their branches, too."""
    pairs = zip(tree.walk(Strip(stages=old)), tree.walk(Strip(stages=new)), strict=True)
    return {one.id: two.id for (_, one), (_, two) in pairs}
