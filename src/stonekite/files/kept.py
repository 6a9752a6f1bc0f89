"""What a strip sounds like, computed beforehand: a file of its samples as they are, in 64 bits, read from any frame on.

Nothing is written at its end that is not complete: such files appear as a whole or not at all, and are as long as their
first bytes say.
"""

import contextlib
import os
import shutil
import struct
from collections.abc import Collection, Generator, Iterable
from pathlib import Path

import numpy as np
import platformdirs

from stonekite.files.atomic import replacing
from stonekite.words import said

SUFFIX = ".result"
_HEAD = struct.Struct("<8sqqq")
_MARK = b"SKresult"
FRAME = 16
"""Bytes of two samples."""
_AHEAD_S = 2.0
MOST_BYTES = 4 * 2**30
"""So much is kept at the most, of all sessions."""
LEFT_FREE = 2 * 2**30
"""So much of the disk is left to others."""


class NoRoom(ValueError):
    """There is no room for what should be kept."""


def folder() -> Path:
    """Where results are kept: among what can be made again."""
    return Path(platformdirs.user_cache_path("stonekite")) / "results"


class Result:
    """A kept result: two channels of `frames` frames at a rate in Hz, of which the last `tail` ring on after the end.

    Raises OSError where there is none, and ValueError where it is not whole.
    """

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb", buffering=0)
        head = self._file.read(_HEAD.size)
        if len(head) < _HEAD.size:
            raise ValueError(path.name)
        mark, self.rate, self.frames, self.tail = _HEAD.unpack(head)
        if mark != _MARK or os.fstat(self._file.fileno()).st_size != size_of(self.frames):
            raise ValueError(path.name)
        self.broken = False
        """Whether what should have been there could not be read."""
        self._asked = 0

    def read(self, start: int, out: np.ndarray) -> None:
        """Its frames from a place on into `out` (2, n); silence before its first and after its last one."""
        out[:] = 0.0
        first, last = max(0, start), min(self.frames, start + out.shape[1])
        if first >= last:
            return
        where = _HEAD.size + first * FRAME
        self._look_ahead(first, last)
        try:
            told = os.pread(self._file.fileno(), (last - first) * FRAME, where)
        except OSError:
            told = b""
        if len(told) < (last - first) * FRAME:
            self.broken = True
            return
        out[:, first - start : last - start] = np.frombuffer(told).reshape(-1, 2).T

    def _look_ahead(self, first: int, last: int) -> None:
        """Have the system fetch what will be wanted soon, so that no block waits for a disk."""
        ahead = int(_AHEAD_S * self.rate)
        if not last + ahead // 2 <= self._asked <= last + 2 * ahead:
            self._asked = last + ahead
            os.posix_fadvise(
                self._file.fileno(), _HEAD.size + first * FRAME, ahead * FRAME, os.POSIX_FADV_WILLNEED
            )


def size_of(frames: int) -> int:
    """Bytes of a kept result."""
    return _HEAD.size + frames * FRAME


def write(path: Path, blocks: Iterable[np.ndarray], rate: int, tail: int) -> Generator[int, None, None]:
    """Keep blocks (2, n); gives how many frames are written by now. Nothing is there before all is. Raises OSError."""
    frames = 0
    with replacing(path) as temporary, temporary.open("wb") as file:
        file.write(_HEAD.pack(_MARK, rate, 0, tail))
        for block in blocks:
            file.write(np.ascontiguousarray(block.T, dtype=np.float64).data)
            frames += block.shape[1]
            yield frames
        file.seek(0)
        file.write(_HEAD.pack(_MARK, rate, frames, tail))


def make_room(where: Path, wanted: int, in_use: Collection[str], most: int) -> None:
    """Have room for so many bytes more in a folder: what was used least goes first. Raises NoRoom."""
    there = sorted(_there(where), key=lambda one: one[2])
    whole = sum(size for _, size, _ in there)
    free = shutil.disk_usage(where).free
    spare = sum(size for path, size, _ in there if path.name not in in_use)
    if whole - spare + wanted > most or free + spare - wanted < LEFT_FREE:
        raise NoRoom(said("There is no room to keep more."))
    for path, size, _ in there:
        if whole + wanted <= most and free - wanted >= LEFT_FREE:
            break
        if path.name not in in_use:
            with contextlib.suppress(OSError):
                path.unlink()
                whole, free = whole - size, free + size


def forget_all(where: Path) -> None:
    """Remove all that is kept. What plays from it plays on."""
    for path, _, _ in _there(where):
        with contextlib.suppress(OSError):
            path.unlink()


def _there(where: Path) -> list[tuple[Path, int, float]]:
    """What is kept: files, bytes, and when each was used last."""
    found = []
    with contextlib.suppress(OSError):
        for entry in os.scandir(where):
            with contextlib.suppress(OSError):
                if entry.name.endswith(SUFFIX) and not entry.name.startswith("."):
                    about = entry.stat()
                    found.append((Path(entry.path), about.st_size, about.st_mtime))
    return found
