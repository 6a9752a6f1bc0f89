"""Recordings of a session that were moved: found again by what is in them, also where a whole folder was moved."""

import os
from collections.abc import Iterator
from pathlib import Path

import msgspec

from stonekite.files.audio import READABLE, fingerprint
from stonekite.session.types import Source

_DEPTH, _ENTRIES, _LOOKS = 5, 5000, 300
"""How deep is looked for, through how many names, and into how many files."""


class Finder:
    """Finds the recordings of a session whose file is in `folder`. What was found tells where others may be."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._moves: list[tuple[Path, Path]] = []
        self._looked: dict[Path, str] = {}
        self._near: list[Path] | None = None

    def moved(self, old: Path, new: Path) -> None:
        """One recording is known to have gone from one place to another: others of its folder, or of one above, too."""
        a, b = old.parent, new.parent
        self._moves.append((a, b))
        while a.name and a.name == b.name:  # as much as both have in common may have been moved as a whole
            a, b = a.parent, b.parent
            self._moves.append((a, b))

    def find(self, source: Source, *, search: bool = True) -> Source:
        """The recording where it is now; as it was noted if it is nowhere. Without `search` only at likely places."""
        if source.generator is not None:
            return source
        try:
            place = self._place(source, search)
        except (OSError, ValueError):  # no place that a file could be at
            return source
        if place is None:
            return msgspec.structs.replace(source, path=os.path.abspath(self._folder / source.path))
        noted = Path(os.path.abspath(self._folder / source.path))
        if place != noted:
            self.moved(noted, place)
        return msgspec.structs.replace(source, path=str(place))

    def _place(self, source: Source, search: bool) -> Path | None:
        written, folder = Path(source.path), self._folder
        noted = Path(os.path.abspath(folder / written))
        tries = [folder / written, folder / written.name, folder / "audio" / written.name]
        tries += [parent / written.name for parent in list(folder.parents)[:1]]
        for old, new in self._moves:
            if noted.is_relative_to(old):
                tries.append(new / noted.relative_to(old))
        present = [place for place in tries if os.path.isfile(place)]
        if not source.fingerprint:
            return present[0].resolve() if present else None
        for place in present:
            if self._mark(place) == source.fingerprint:
                return place.resolve()
        if not search:
            return None
        near = self._audio_near()
        same_name = [place for place in near if place.name == written.name]
        others = [place for place in near if place.name != written.name and place.suffix == written.suffix]
        for place in (*same_name, *others):
            if len(self._looked) > _LOOKS:
                break
            if self._mark(place) == source.fingerprint:
                return place.resolve()
        return None

    def _mark(self, place: Path) -> str:
        if place not in self._looked:
            try:
                self._looked[place] = fingerprint(place)
            except OSError:
                self._looked[place] = ""
        return self._looked[place]

    def _audio_near(self) -> list[Path]:
        """Recordings in the session's folder and those below it."""
        if self._near is None:
            self._near = list(_audio_below(self._folder))
        return self._near


def _audio_below(folder: Path) -> Iterator[Path]:
    count, top = 0, len(folder.parts)
    for here, folders, names in os.walk(folder):
        folders[:] = sorted(one for one in folders if not one.startswith("."))
        if len(Path(here).parts) - top >= _DEPTH:
            folders[:] = []
        for name in sorted(names):
            count += 1
            if count > _ENTRIES:
                return
            place = Path(here) / name
            if place.suffix.lower() in READABLE and place.is_file():
                yield place
