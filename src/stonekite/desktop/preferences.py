"""What a user prefers, whatever session is open: a small JSON file of its own."""

import contextlib
from pathlib import Path
from typing import Literal

import msgspec
import platformdirs

from stonekite.files.atomic import replacing


class Preferences(msgspec.Struct, frozen=True):
    """Unknown entries, from other versions, are passed over."""

    theme: Literal["dark", "light"] = "dark"


def place() -> Path:
    """Where preferences are kept."""
    return Path(platformdirs.user_config_dir("stonekite")) / "preferences.json"


def load() -> Preferences:
    """The preferences; the usual ones, where there is no file or none that can be read."""
    with contextlib.suppress(OSError, msgspec.DecodeError):
        return msgspec.json.decode(place().read_bytes(), type=Preferences)
    return Preferences()


def save(preferences: Preferences) -> None:
    """Keep preferences. Raises OSError."""
    place().parent.mkdir(parents=True, exist_ok=True)
    with replacing(place()) as temporary:
        temporary.write_bytes(msgspec.json.encode(preferences))
