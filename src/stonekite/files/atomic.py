"""Files that appear complete or not at all."""

import contextlib
import errno
import hashlib
import json
import os
import secrets
import shutil
import socket
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

_MARK = ".stonekite-"
"""Begins the names of what is being written: followed by a name for the computer and the process's number, so that others
know whether it lives."""


_PLAN = ".moves"
"""Ends the name of the list of files that are being moved into place together."""


_FOREIGN_S = 7 * 86_400.0
"""What another computer or another container was writing is left alone for so long."""


@cache
def _here() -> str:
    """A name for the processes whose numbers can be asked about here: those of this computer, in this container."""
    told = [socket.gethostname()]
    for place in ("/etc/machine-id", "/proc/sys/kernel/random/boot_id"):
        with contextlib.suppress(OSError):
            told.append(Path(place).read_text())
    with contextlib.suppress(OSError):
        told.append(os.readlink("/proc/self/ns/pid"))
    return hashlib.sha256("\n".join(told).encode()).hexdigest()[:10]


def _name(end: str) -> str:
    """A temporary name of this process's own."""
    return f"{_MARK}{_here()}-{os.getpid()}-{secrets.token_hex(4)}{end}"


def _is_left(entry: "os.DirEntry[str]") -> bool:
    """Whether a file under a temporary name was left by a process that is gone, as far as can be told from here."""
    where, _, rest = entry.name.removeprefix(_MARK).partition("-")
    number = rest.split("-")[0]
    if where == _here() and number.isdecimal():
        return not _living(int(number))
    return time.time() - entry.stat().st_mtime > _FOREIGN_S


def _living(number: int) -> bool:
    try:
        os.kill(number, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def sweep(folder: Path) -> None:
    """Tidy up what killed runs left in a folder: what had been written whole is moved into place where moving had
    begun, everything else under our temporary names is removed."""
    left = []
    with contextlib.suppress(OSError):
        for entry in os.scandir(folder):
            if entry.name.startswith(_MARK) and _is_left(entry):
                left.append(Path(entry.path))
    for path in sorted(left, key=lambda one: one.suffix != _PLAN):
        with contextlib.suppress(OSError, ValueError, TypeError):
            if path.suffix == _PLAN:
                for temporary, target in json.loads(path.read_text()):
                    # Names only: nothing outside the folder is ever moved.
                    source = folder / Path(str(temporary)).name
                    if source.name.startswith(_MARK) and source.exists():
                        os.replace(source, folder / Path(str(target)).name)
            _remove(path)


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

    def forget(self, temporary: Path) -> None:
        """Remove one that waits: it is written again."""
        self._ready = [one for one in self._ready if one[0] != temporary]
        with contextlib.suppress(OSError):
            temporary.unlink(missing_ok=True)

    def __exit__(self, kind: object, *_: object) -> None:
        if kind is not None:
            for temporary, _target in self._ready:
                with contextlib.suppress(OSError):
                    temporary.unlink(missing_ok=True)
            return
        # Were this process to end between two moves, the next one in the folder would do the rest.
        folders = {target.parent for _, target in self._ready}
        plan = None
        if len(self._ready) > 1 and len(folders) == 1:
            plan = next(iter(folders)) / _name(_PLAN)
            _write_whole(plan, json.dumps([(a.name, b.name) for a, b in self._ready]))
        for temporary, target in self._ready:
            os.replace(temporary, target)
        for folder in folders:
            _sync(folder)
        if plan is not None:
            plan.unlink(missing_ok=True)


def _write_whole(path: Path, text: str) -> None:
    """Under another name first: half a list would be worse than none."""
    draft = path.with_suffix(".draft")
    with draft.open("w") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    os.replace(draft, path)


def _sync(folder: Path) -> None:
    """What was moved into a folder stays there, where the file system can promise that."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


@contextmanager
def scratch(folder: Path, suffix: str) -> Iterator[Path]:
    """Give a temporary path in a folder; the file or folder that is there is removed in the end, or by the next run."""
    sweep(folder)
    path = folder / _name(suffix)
    try:
        yield path
    finally:
        _remove(path)


def _remove(path: Path) -> None:
    with contextlib.suppress(OSError):
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)


@contextmanager
def replacing(path: Path, together: Together | None = None) -> Iterator[Path]:
    """Give a temporary path in the folder of `path`; move it into place on success, remove it on any failure.

    A link is followed: what it points to is replaced, not the link. The new file has the permissions of the old one.
    The temporary name keeps the suffix, since some writers choose their format by it, and does not get longer with the
    name. With others `together`, it waits for them. Raises OSError as the writer does, about `path`.
    """
    target = Path(os.path.realpath(path))
    if target.is_dir():
        raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
    sweep(target.parent)
    temporary = target.with_name(_name(target.suffix[:16]))
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
