"""Kinds of stage as plain tables, for the command line and the manual."""

from collections.abc import Iterator
from typing import Any, get_args, get_type_hints

import msgspec

from stonekite.stages.base import Kind
from stonekite.stages.settings import Setting, settings_of
from stonekite.words import said


def described(kind: Kind) -> dict[str, Any]:
    """Label, help and every setting of a kind, by name: range, unit, default, help, and why it cannot move over the
    recording (empty if it can)."""
    table = {}
    for name, setting in [*_all_settings(kind.side, ""), *_shared(kind)]:
        table[name] = {
            "label": setting.label,
            "unit": setting.unit,
            "range": _range(setting),
            "default": setting.shown(setting.default),
            "help": setting.help,
            "still": _still(kind, name, setting),
        }
    return {"label": kind.label, "help": kind.help, "settings": table}


def _still(kind: Kind, name: str, setting: Setting) -> str:
    if setting.words is not None or isinstance(setting.default, bool):
        return said("Only numbers move over the recording.")
    return setting.still or ("" if name == "mix" else kind.still)


def _shared(kind: Kind) -> Iterator[tuple[str, Setting]]:
    for field in msgspec.structs.fields(kind.stage):
        if field.name == "shared":
            yield from _all_settings(field.type, "shared.")


def _range(setting: Setting) -> str:
    if setting.words is not None:
        return ", ".join(str(value) for value in setting.words)
    if isinstance(setting.default, bool):
        return "on, off"
    return f"{setting.shown(setting.low)} to {setting.shown(setting.high)}"


def _all_settings(struct: type[msgspec.Struct], prefix: str) -> Iterator[tuple[str, Setting]]:
    for name, setting in settings_of(struct).items():
        yield prefix + name, setting
    for name, hint in get_type_hints(struct).items():
        for inner in structs_in(hint):
            yield from _all_settings(inner, f"{prefix}{name}[].")


def structs_in(hint: Any) -> list[type[msgspec.Struct]]:
    """The struct types that a type consists of, those within tuples and unions, too."""
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct):
        return [hint]
    return [found for argument in get_args(hint) for found in structs_in(argument)]
