"""Earlier saves of a session: kept apart from its file, so that they can be looked at, heard and taken back.

Before a session's file is written anew, what was in it is kept under the time at which it had been saved. Each session
has so many, and all together take no more than so much room; the oldest go first.
"""

import contextlib
import hashlib
import time
from pathlib import Path
from typing import NamedTuple

import platformdirs

from stonekite.files.atomic import replacing
from stonekite.session import storage
from stonekite.session.keeping.finding import Finder
from stonekite.session.types import Session

MOST, MOST_BYTES = 50, 200 * 2**20
"""Of one session, and of all."""


class Save(NamedTuple):
    """What a session's file was at a time (seconds since 1970), and where that is kept."""

    when: float
    path: Path

    @property
    def words(self) -> str:
        return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(self.when))


def folder() -> Path:
    """Where they are kept."""
    return platformdirs.user_state_path("stonekite") / "saves"


def _of(path: Path, where: Path) -> Path:
    name = str(path.absolute()).encode(errors="surrogateescape")
    return where / hashlib.blake2b(name, digest_size=12).hexdigest()


def keep(path: Path, where: Path | None = None) -> None:
    """Keep what is in a session's file, before it is written anew. Raises OSError."""
    place = _of(path, where or folder())
    if not path.is_file() or path.stat().st_size > storage.MAX_BYTES:
        return
    content = path.read_bytes()
    known = listed(path, where)
    if known and known[0].path.read_bytes() == content:
        return
    place.mkdir(parents=True, exist_ok=True)
    with replacing(place / f"{path.stat().st_mtime_ns}{storage.SUFFIX}") as temporary:
        temporary.write_bytes(content)
    _tidy(place.parent, place)


def _tidy(whole: Path, own: Path) -> None:
    """Remove the oldest, of this session and of all."""
    with contextlib.suppress(OSError):
        for old in sorted(own.glob(f"[!.]*{storage.SUFFIX}"), reverse=True)[MOST:]:
            old.unlink(missing_ok=True)
        files = sorted(whole.glob(f"*/[!.]*{storage.SUFFIX}"), key=lambda one: one.name, reverse=True)
        room = MOST_BYTES
        for old in files:
            room -= old.stat().st_size
            if room < 0:
                old.unlink(missing_ok=True)


def listed(path: Path, where: Path | None = None) -> list[Save]:
    """What is kept of a session's file, the newest first."""
    found = []
    for one in _of(path, where or folder()).glob(f"[!.]*{storage.SUFFIX}"):
        with contextlib.suppress(ValueError):
            found.append(Save(int(one.stem) / 1e9, one))
    return sorted(found, reverse=True)


def load(save: Save, path: Path) -> Session:
    """The session as it was, with its recordings where they are now. Raises SessionError."""
    try:
        text = save.path.read_bytes()
    except OSError as error:
        raise storage.SessionError(f"{(error.strerror or str(error))}.") from None
    finder = Finder(path.absolute().parent)
    return storage.with_sources(storage.decode(text, save.words), finder.find)
