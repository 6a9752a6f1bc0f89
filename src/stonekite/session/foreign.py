"""Stages of kinds that are not installed here: read out of a session file as they are, and written back like that."""

import json
from collections.abc import Callable
from typing import Any

import msgspec

from stonekite.session import tree
from stonekite.session.types import Session
from stonekite.stages.base import HIGHEST_ID
from stonekite.stages.registry import KINDS
from stonekite.stages.unknown import LONGEST, Unknown
from stonekite.words import said

MOST_BYTES = 16 * 2**20
"""A longer session is not read like this: as plain values it would take many times as much room."""
_TAG = Unknown.__struct_config__.tag


def names(session: Session) -> list[str]:
    """What the kinds are called that are not installed here, of stages of a session and its versions."""
    sounds = [session.sound, *(version.sound for version in session.versions)]
    found = [
        stage.name
        for sound in sounds
        for stem in sound.stems
        for _, stage in tree.walk(stem.strip)
        if isinstance(stage, Unknown)
    ]
    return sorted(set(found))


def told(strange: list[str]) -> str:
    """In a sentence that there are kinds of these names."""
    return said(
        "Stages of kinds that are not installed here ({names}) are kept as they came, and let the sound pass."
    ).format(names=", ".join(strange))


def kept(text: bytes) -> bytes | None:
    """A session's JSON in which stages of kinds that are not known stand as such; None if there are none, if it is
    too long for that, or cannot be read like that either.
    """
    if len(text) > MOST_BYTES:
        return None
    try:
        whole = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError):
        return None
    found = []

    def keep(stage: dict[str, Any]) -> dict[str, Any]:
        kind, number = stage.get("kind"), stage.get("id")
        if not isinstance(kind, str) or kind in KINDS or kind == _TAG or not isinstance(number, int):
            return stage
        as_it_came = msgspec.json.encode(stage).decode()
        if not 0 < len(kind) <= 200 or len(as_it_came) > LONGEST:
            return stage
        found.append(as_it_came)
        legs = {leg: None for leg in ("upper", "lower") if stage.get(leg, {}) is None}
        into = stage.get("inserted", True) is not False
        return {"kind": _TAG, "id": number, "inserted": into, "name": kind, "whole": as_it_came, **legs}

    try:
        changed = _walked(whole, keep)
        if not found or not isinstance(changed, dict):
            return None
        # Whatever stands inside has numbers, too, which nothing else may be given.
        inside = max(_highest(json.loads(one)) for one in found)
        if changed.get("format") == 3:
            changed["last_id"] = max(changed.get("last_id", 0), inside)
        return msgspec.json.encode(changed)
    except (RecursionError, TypeError, ValueError):
        return None


def written(text: bytes) -> bytes:
    """A session's JSON in which stages of unknown kinds are again what they were, where they stand now."""
    if f'"{_TAG}"'.encode() not in text:
        return text

    def back(stage: dict[str, Any]) -> dict[str, Any]:
        if stage.get("kind") != _TAG:
            return stage
        return {**json.loads(stage["whole"]), "id": stage["id"], "inserted": stage["inserted"]}

    return msgspec.json.encode(_walked(msgspec.json.decode(text), back))


def _walked(value: Any, change: Callable[[dict[str, Any]], dict[str, Any]], stages: bool = False) -> Any:
    """JSON in which every stage, a member of a list called `stages`, is a changed one, which is not gone into."""
    if isinstance(value, list):
        if not stages:
            return [_walked(one, change) for one in value]
        rows = []
        for one in value:
            new = change(one) if isinstance(one, dict) else one
            rows.append(_walked(one, change) if new is one else new)
        return rows
    if isinstance(value, dict):
        return {key: _walked(one, change, key == "stages") for key, one in value.items()}
    return value


def _highest(value: Any) -> int:
    """The highest number under `id` anywhere in JSON, of those that there can be."""
    if isinstance(value, list):
        return max((_highest(one) for one in value), default=0)
    if not isinstance(value, dict):
        return 0
    own = value.get("id")
    found = [own] if isinstance(own, int) and 0 <= own <= HIGHEST_ID else []
    return max([*found, *(_highest(one) for one in value.values())], default=0)
