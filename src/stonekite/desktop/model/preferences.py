"""What a user prefers, whatever session is open: a small JSON file of its own."""

import contextlib
from pathlib import Path
from typing import Literal

import msgspec
import platformdirs

from stonekite import commands
from stonekite.files.atomic import replacing
from stonekite.session.ride_edits import Meaning


class Preferences(msgspec.Struct, frozen=True):
    """Unknown entries, from other versions, are passed over."""

    theme: Literal["dark", "light"] = "dark"
    recent: tuple[str, ...] = ()
    folder: str = ""
    """Where a file was chosen last."""
    keys: dict[str, tuple[str, ...]] = {}
    """Those that are not the usual ones, by the id of their command."""
    knobs: dict[str, tuple[int, int]] = {}
    """Channel and number of the MIDI control that turns a grip, by the place of that."""
    knob_device: str = ""
    edit_of_ridden: Meaning = "line"
    """What an edit of a control does whose setting rides."""
    keeps: bool = True
    """Whether what stems sound like is computed while hands rest, and kept."""


def place() -> Path:
    """Where preferences are kept."""
    return Path(platformdirs.user_config_dir("stonekite")) / "preferences.json"


def load() -> Preferences:
    """The preferences; the usual ones, where there is no file or none that can be read."""
    with contextlib.suppress(OSError, msgspec.DecodeError):
        return msgspec.json.decode(place().read_bytes(), type=Preferences)
    return Preferences()


def own_keys() -> dict[str, tuple[str, ...]]:
    """The user's own keys of commands that there are; none of them where two would have the same."""
    own = {id: keys for id, keys in load().keys.items() if id in commands.BY_ID}
    return {} if commands.conflicts(own) else own


RECENT = 12


def remember(path: Path) -> None:
    """Note a file that was opened or saved; nothing is said if that cannot be kept."""
    known = load()
    name = str(path.absolute())
    try:
        name.encode()
    except UnicodeEncodeError:
        return
    recent = (name, *(other for other in known.recent if other != name))[:RECENT]
    with contextlib.suppress(OSError):
        save(msgspec.structs.replace(known, recent=recent))


def last_folder() -> str:
    """Where a dialog for files begins: where the last one was, at first in the folder for music."""
    for name in (load().folder, platformdirs.user_music_dir()):
        if name and Path(name).is_dir():
            return name
    return str(Path.home())


def note_folder(path: Path) -> None:
    """Note where a file was chosen; nothing is said if that cannot be kept."""
    known, name = load(), str(path.absolute().parent)
    if name != known.folder:
        with contextlib.suppress(OSError, UnicodeEncodeError):
            save(msgspec.structs.replace(known, folder=name))


def save(preferences: Preferences) -> None:
    """Keep preferences. Raises OSError."""
    place().parent.mkdir(parents=True, exist_ok=True)
    with replacing(place()) as temporary:
        temporary.write_bytes(msgspec.json.encode(preferences))
