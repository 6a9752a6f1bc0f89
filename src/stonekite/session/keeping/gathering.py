"""A session with all that it is made of in one folder or archive, which opens elsewhere."""

import os
import zipfile
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from stonekite.files.atomic import replacing, scratch
from stonekite.files.audio import AudioError, fingerprint, shown_name
from stonekite.session import storage
from stonekite.session.types import Session, Source
from stonekite.words import said

ARCHIVE = ".zip"
_AUDIO = "audio"
_CHUNK = 2**20
MOST_FILES, MOST_BYTES = 500, 2**40
"""No archive that is opened holds more."""


class Gathered(NamedTuple):
    """Where the session is now, how many files it is made of, and what is to be known."""

    path: Path
    files: int
    sentences: list[str]


def gather(session: Session, target: Path, name: str) -> Generator[float, None, Gathered]:
    """Copy a session with its recordings and references to a folder that is not there yet, or an archive (.zip); yields
    progress 0 to 1. Close it to cancel: nothing is left. Raises AudioError, SessionError.

    A reference that is not there is left out, and said; a recording must be there.
    """
    whole = target.suffix.lower() == ARCHIVE
    if target.exists() and not (whole and target.is_file()):
        raise AudioError(said("“{name}” exists already.").format(name=shown_name(target)))
    if not target.absolute().parent.is_dir():
        raise AudioError(said("The folder of “{name}” is not there.").format(name=shown_name(target)))
    stems = {Path(stem.source.path) for stem in session.sound.stems if stem.source.generator is None}
    sentences, missing = [], set()
    for source in storage.sources_of(session):
        if not os.path.isfile(source.path):
            shown = shown_name(Path(source.path))
            if Path(source.path) in stems:
                raise AudioError(said("{name} is not there.").format(name=f"“{shown}”"))
            missing.add(source.path)
            sentences.append(said("“{name}” is not there, and was left out.").format(name=shown))
    references = tuple(one for one in session.desk.references if one.source.path not in missing)
    session = msgspec.structs.replace(
        session, desk=msgspec.structs.replace(session.desk, references=references)
    )
    try:
        with scratch(target.absolute().parent, ".folder") as folder:
            (folder / _AUDIO).mkdir(parents=True)
            kept = yield from _copied(session, folder, 0.5 if whole else 1.0)
            gathered = storage.with_sources(session, lambda source: kept.get(source, source))
            storage.save(gathered, folder / f"{name}{storage.SUFFIX}")
            if whole:
                yield from _archived(folder, target, name)
            else:
                folder.chmod(0o755)
                os.replace(folder, target)
    except OSError as error:
        raise AudioError(
            said("“{name}” cannot be written: {reason}.").format(
                name=shown_name(target), reason=(error.strerror or str(error)).lower()
            )
        ) from None
    path = target if whole else target / f"{name}{storage.SUFFIX}"
    return Gathered(path, len(kept) + 1, sentences)


def _copied(session: Session, folder: Path, share: float) -> Generator[float, None, dict[Source, Source]]:
    """Copies of all recordings in a folder."""
    sources = [source for source in storage.sources_of(session) if os.path.isfile(source.path)]
    total = max(1, sum(Path(source.path).stat().st_size for source in sources))
    places: dict[str, Path] = {}
    taken: set[str] = set()
    kept, done = {}, 0
    for source in sources:
        path = Path(source.path)
        if source.path not in places:
            name, count = path.name, 1
            while name.casefold() in taken:
                count += 1
                name = f"{path.stem} {count}{path.suffix}"
            taken.add(name.casefold())
            place = places[source.path] = folder / _AUDIO / name
            with path.open("rb") as old, place.open("wb") as new:
                while data := old.read(_CHUNK):
                    new.write(data)
                    done += len(data)
                    yield share * done / total
                new.flush()
                os.fsync(new.fileno())
            if fingerprint(place) != fingerprint(path):
                raise AudioError(
                    said("“{name}” was changed while it was copied.").format(name=shown_name(path))
                )
        place = places[source.path]
        kept[source] = msgspec.structs.replace(source, path=str(place), fingerprint=fingerprint(place))
    return kept


def _archived(folder: Path, target: Path, name: str) -> Generator[float, None, None]:
    """Put a folder into an archive. Recordings are stored as they are."""
    files = sorted(path for path in folder.rglob("*") if path.is_file())
    total = max(1, sum(path.stat().st_size for path in files))
    done = 0
    with replacing(target) as temporary, zipfile.ZipFile(temporary, "w", allowZip64=True) as archive:
        for path in files:
            inside = zipfile.ZipInfo.from_file(path, f"{name}/{path.relative_to(folder).as_posix()}")
            with path.open("rb") as old, archive.open(inside, "w", force_zip64=True) as new:
                while data := old.read(_CHUNK):
                    new.write(data)
                    done += len(data)
                    yield 0.5 + 0.5 * done / total


def _members(archive: zipfile.ZipFile, name: str) -> Iterator[tuple[zipfile.ZipInfo, Path]]:
    """Files of an archive, and where each goes in its folder. Raises SessionError where it is none of ours."""
    found = [one for one in archive.infolist() if not one.is_dir()]
    if len(found) > MOST_FILES or sum(one.file_size for one in found) > MOST_BYTES:
        raise storage.SessionError(said("“{name}” holds more than any gathered session.").format(name=name))
    for one in found:
        parts = Path(one.filename).parts[1:]
        fits = len(parts) == 1 and parts[0].endswith(storage.SUFFIX)
        fits = fits or (len(parts) == 2 and parts[0] == _AUDIO and parts[1] not in ("..", "."))
        if not fits or "\\" in one.filename or one.filename.startswith("/"):
            raise storage.SessionError(said("“{name}” is not a gathered session.").format(name=name))
        yield one, Path(*parts)


def unpack(path: Path) -> Generator[float, None, Path]:
    """Take a gathered session out of its archive, into a folder of its name beside it; yields progress 0 to 1 and gives
    the session's file. Raises SessionError.
    """
    name = shown_name(path)
    try:
        with zipfile.ZipFile(path) as archive:
            members = list(_members(archive, name))
            sessions = [place for _, place in members if place.suffix == storage.SUFFIX]
            if len(sessions) != 1:
                raise storage.SessionError(said("“{name}” is not a gathered session.").format(name=name))
            total = max(1, sum(one.file_size for one, _ in members))
            target, count = path.with_suffix(""), 1
            while target.exists():
                count += 1
                target = path.with_name(f"{path.stem} {count}")
            done = 0
            with scratch(path.absolute().parent, ".folder") as folder:
                (folder / _AUDIO).mkdir(parents=True)
                for one, place in members:
                    with archive.open(one) as old, (folder / place).open("wb") as new:
                        while data := old.read(_CHUNK):
                            new.write(data)
                            done += len(data)
                            if done > total:
                                raise storage.SessionError(
                                    said("“{name}” is damaged: it holds more than it says.").format(name=name)
                                )
                            yield done / total
                folder.chmod(0o755)
                os.replace(folder, target)
            return target / sessions[0]
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
        raise storage.SessionError(
            said("“{name}” is not an archive that can be read ({reason}).").format(
                name=name, reason=str(error)[:120].rstrip(".")
            )
        ) from None
    except OSError as error:
        raise storage.SessionError(
            said("“{name}” cannot be unpacked: {reason}.").format(
                name=name, reason=(error.strerror or str(error)).lower()
            )
        ) from None
