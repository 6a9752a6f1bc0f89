"""Files that appear complete or not at all."""

import contextlib
import os
import secrets
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_MARK = ".stonekite-"
"""Begins the names of what is being written: followed by the process's number, so that others know whether it lives."""


def _living(number: int) -> bool:
    try:
        os.kill(number, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def sweep(folder: Path) -> None:
    """Remove what killed runs left in a folder: files under our temporary names whose process is gone."""
    with contextlib.suppress(OSError):
        for left in os.scandir(folder):
            if not left.name.startswith(_MARK):
                continue
            number = left.name.removeprefix(_MARK).split("-")[0]
            if number.isdecimal() and not _living(int(number)):
                with contextlib.suppress(OSError):
                    os.unlink(left.path)


def _permissions(path: Path) -> int:
    """Those of the file that is replaced, or those that a new one has."""
    with contextlib.suppress(OSError):
        return stat.S_IMODE(path.stat().st_mode)
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


class Together:
    """Files that belong together appear together: none is moved into place before all are complete."""

    def __init__(self) -> None:
        self._ready: list[tuple[Path, Path]] = []

    def __enter__(self) -> "Together":
        return self

    def add(self, temporary: Path, target: Path) -> None:
        """A complete file that waits to be moved into place."""
        self._ready.append((temporary, target))

    def __exit__(self, kind: object, *_: object) -> None:
        for temporary, target in self._ready:
            if kind is None:
                os.replace(temporary, target)
            else:
                with contextlib.suppress(OSError):
                    temporary.unlink(missing_ok=True)
        for folder in {target.parent for _, target in self._ready}:
            _sync(folder)


def _sync(folder: Path) -> None:
    """What was moved into a folder stays there, where the file system can promise that."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


@contextmanager
def replacing(path: Path, together: Together | None = None) -> Iterator[Path]:
    """Give a temporary path in the folder of `path`; move it into place on success, remove it on any failure.

    A link is followed: what it points to is replaced, not the link. The new file has the permissions of the old one.
    The temporary name keeps the suffix, since some writers choose their format by it, and does not get longer with the
    name. With others `together`, it waits for them. Raises OSError as the writer does, about `path`.
    """
    target = Path(os.path.realpath(path))
    sweep(target.parent)
    temporary = target.with_name(f"{_MARK}{os.getpid()}-{secrets.token_hex(4)}{target.suffix[:16]}")
    waits = False
    try:
        yield temporary
        with open(temporary, "rb") as written:
            os.fsync(written.fileno())
        os.chmod(temporary, _permissions(target))
        if together is None:
            os.replace(temporary, target)
            _sync(target.parent)
        else:
            together.add(temporary, target)
            waits = True
    except OSError as error:
        if error.filename is not None and Path(str(error.filename)).name == temporary.name:
            raise OSError(error.errno, error.strerror, str(path)) from None
        raise
    finally:
        if not waits:
            with contextlib.suppress(OSError):
                temporary.unlink(missing_ok=True)
