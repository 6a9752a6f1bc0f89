"""What was not saved, kept as it is made: a journal for each window, which outlives a crash, a kill and a power cut.

A journal is a row of records, each the whole session as it was after some edits, with its length and a checksum in front.
Only the last one counts; one that is damaged is passed over, and the one before it counts. It is written by a thread of
its own, a moment after an edit, and begun anew with the last record when it gets long. The window that writes it holds a
lock on it as long as it lives, so that nobody takes it for one that was left behind, whatever its process's number is.
"""

import contextlib
import fcntl
import os
import secrets
import struct
import threading
import time
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

import msgspec
import platformdirs

from stonekite.session import storage
from stonekite.session.types import Session

SUFFIX = ".journal"
_MARK = b"SKJ1"
_HEAD = struct.Struct("<4sII")
PAUSE_S = 0.25
"""So long is waited after a record, at the least; a drag makes many edits in a row."""
LONG = 4 << 20
"""A journal longer than this, and than four of its last records, is begun anew."""
MOST_BYTES = 1 << 30
_KEPT_DAYS = 365


class Entry(msgspec.Struct):
    """A record: a session as JSON, its file, how many edits it has that the file has not, the words of the last one, and
    when that was, in seconds since 1970. With no session nothing is unsaved."""

    session: bytes
    path: str | None
    edits: int
    words: str
    when: float


class Left(msgspec.Struct, eq=False):
    """What a window left behind: its session, or None with a `reason` where it cannot be used. `file` stays locked until
    it is let go of or forgotten."""

    path: Path
    file: BinaryIO
    entry: Entry
    session: Session | None
    reason: str = ""

    def let_go(self) -> None:
        """Leave it for another time."""
        self.file.close()

    def forget(self) -> None:
        """Remove it for good."""
        with contextlib.suppress(OSError):
            self.path.unlink()
        self.file.close()


def folder() -> Path:
    """Where journals are."""
    return platformdirs.user_state_path("stonekite") / "journals"


def _record(entry: Entry) -> bytes:
    body = zlib.compress(msgspec.msgpack.encode(entry), 1)
    return _HEAD.pack(_MARK, len(body), zlib.crc32(body)) + body


def last_entry(data: bytes) -> Entry | None:
    """The last record of a journal that can be read, wherever it is damaged; None without one."""
    at = len(data)
    while (at := data.rfind(_MARK, 0, at)) >= 0:
        if at + _HEAD.size > len(data):
            continue
        _, size, check = _HEAD.unpack_from(data, at)
        body = data[at + _HEAD.size : at + _HEAD.size + size]
        if len(body) == size and zlib.crc32(body) == check:
            with contextlib.suppress(zlib.error, msgspec.DecodeError, ValueError):
                return msgspec.msgpack.decode(_unpacked(body), type=Entry)
    return None


def _unpacked(body: bytes) -> bytes:
    """Raises zlib.error where more comes out than any session is long."""
    stream = zlib.decompressobj()
    made = stream.decompress(body, storage.MAX_BYTES + (1 << 16))
    if not stream.eof:
        raise zlib.error("too long")
    return made


def left_behind(where: Path | None = None) -> list[Left]:
    """What windows that are gone had not saved, the newest first. Each stays locked until it is let go of."""
    found = []
    paths = []
    with contextlib.suppress(OSError):
        paths = sorted((where or folder()).glob(f"*{SUFFIX}"))
    for path in paths:
        with contextlib.suppress(OSError):
            if (left := _look(path)) is not None:
                found.append(left)
    return sorted(found, key=lambda left: -left.entry.when)


def _look(path: Path) -> Left | None:
    """One journal; None where its window lives, or nothing in it is unsaved (then it is removed). Raises OSError."""
    if not path.is_file():
        return None
    file = path.open("r+b")
    keep = False
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if os.fstat(file.fileno()).st_ino != path.stat().st_ino:  # begun anew meanwhile
            return None
        entry = last_entry(file.read(MOST_BYTES))
        if entry is None or not entry.session:
            path.unlink()
            return None
        left = Left(path, file, entry, None)
        try:
            left.session = storage.decode(entry.session)
        except storage.SessionError as error:
            left.reason = str(error)
        keep = True
        return left
    finally:
        if not keep:
            file.close()


class Journal:
    """The journal of one window. `failed` is called, by the writing thread, with why it cannot be written."""

    def __init__(self, failed: Callable[[OSError], None], where: Path | None = None) -> None:
        self._where = where or folder()
        self._failed = failed
        self._file: BinaryIO | None = None
        self._path: Path | None = None
        self._size = 0
        self._wanted: tuple[Session | None, Path | None, int, str, float] | None = None
        self._written: Session | None = None
        self._changed = threading.Condition()
        self._ends = self._busy = False
        self._thread = threading.Thread(target=self._work, daemon=True, name="journal")
        self._thread.start()

    def note(self, session: Session, path: Path | None, edits: int, words: str) -> None:
        """A session with edits that its file does not have: written within a moment."""
        self._want((session, path, edits, words, time.time()))

    def clean(self) -> None:
        """Nothing is unsaved any more."""
        self._want((None, None, 0, "", time.time()))

    def _want(self, wanted: tuple[Session | None, Path | None, int, str, float]) -> None:
        with self._changed:
            self._wanted = wanted
            self._changed.notify_all()

    def flush(self, most_s: float = 5.0) -> bool:
        """Wait until all that was noted is written, so long at the most; whether it is."""
        with self._changed:
            return self._changed.wait_for(lambda: self._wanted is None and not self._busy, most_s)

    def close(self) -> None:
        """Write what is to be written, and let go: what is unsaved stays for the next start."""
        with self._changed:
            self._ends = True
            self._changed.notify_all()
        self._thread.join(10.0)

    def _work(self) -> None:
        while True:
            with self._changed:
                while self._wanted is None and not self._ends:
                    self._changed.wait()
                wanted, self._wanted = self._wanted, None
                if wanted is None:
                    break
                self._busy = True
            try:
                self._write(*wanted)
            except OSError as error:
                self._failed(error)
            except (ValueError, RecursionError):  # a name that is not UTF-8: no session can hold it
                pass
            with self._changed:
                self._busy = False
                self._changed.notify_all()
                if not self._ends:
                    self._changed.wait_for(lambda: self._ends, PAUSE_S)
        if self._file is not None:
            if self._written is None and self._path is not None:
                with contextlib.suppress(OSError):
                    self._path.unlink()
            self._file.close()

    def _write(self, session: Session | None, path: Path | None, edits: int, words: str, when: float) -> None:
        if session is None and self._written is None:
            return
        text = b"" if session is None else msgspec.json.encode(session)
        told = None if path is None else os.fsdecode(path)
        record = _record(Entry(text, told, edits, words, when))
        if self._file is None or self._size > max(LONG, 4 * len(record)):
            self._begin(record)
        else:
            self._file.write(record)
            self._file.flush()
            self._size += len(record)
        assert self._file is not None
        os.fdatasync(self._file.fileno())
        self._written = session

    def _begin(self, record: bytes) -> None:
        """A new file with one record, locked before anybody can see it; in the place of the old one, if there is one."""
        self._where.mkdir(parents=True, exist_ok=True)
        path = self._path or self._where / f"{time.strftime('%Y%m%d-%H%M%S')}-{secrets.token_hex(4)}{SUFFIX}"
        draft = path.with_suffix(".new")
        file = draft.open("w+b")
        try:
            fcntl.flock(file, fcntl.LOCK_EX)
            file.write(record)
            file.flush()
            os.fdatasync(file.fileno())
            os.replace(draft, path)
        except OSError:
            file.close()
            with contextlib.suppress(OSError):
                draft.unlink()
            raise
        if self._file is not None:
            self._file.close()
        self._file, self._path, self._size = file, path, len(record)
