"""Sessions as older programs wrote them, and how they become sessions of today.

Each older format has the type it was read with, so that what is wrong in such a file is said at its own place.
"""

from typing import Annotated, Literal

import msgspec

from stonekite.session.types import (
    REFERENCES,
    VERSIONS,
    BlindTest,
    Desk,
    Loop,
    Reference,
    Session,
    Sound,
    Stem,
    Strip,
    Version,
)
from stonekite.stages.settings import Settings


class Version1(Settings, frozen=True, kw_only=True):
    """A kept state of the first stem's strip."""

    number: Annotated[int, msgspec.Meta(ge=1, le=VERSIONS)]
    note: Annotated[str, msgspec.Meta(max_length=400)] = ""
    strip: Strip


class Session1(Settings, frozen=True, kw_only=True):
    """Format 1: sound and desk in one, versions of one strip."""

    format: Literal[1]
    stems: Annotated[tuple[Stem, ...], msgspec.Meta(min_length=1, max_length=64)]
    loop: Loop | None = None
    versions: Annotated[tuple[Version1, ...], msgspec.Meta(max_length=VERSIONS)] = ()
    references: Annotated[tuple[Reference, ...], msgspec.Meta(max_length=REFERENCES)] = ()
    blind_tests: Annotated[tuple[BlindTest, ...], msgspec.Meta(max_length=1000)] = ()

    def upgraded(self) -> Session:
        """The same in today's format."""
        first, *others = self.stems
        versions = tuple(
            Version(
                number=version.number,
                note=version.note,
                sound=Sound(stems=(msgspec.structs.replace(first, strip=version.strip), *others)),
            )
            for version in self.versions
        )
        desk = Desk(loop=self.loop, references=self.references, blind_tests=self.blind_tests)
        return Session(sound=Sound(stems=self.stems), versions=versions, desk=desk)


class Session2(Settings, frozen=True, kw_only=True):
    """Format 2: numbers of what was removed were given again."""

    format: Literal[2]
    sound: Sound
    versions: Annotated[tuple[Version, ...], msgspec.Meta(max_length=VERSIONS)] = ()
    desk: Desk = Desk()

    def upgraded(self) -> Session:
        """The same in today's format."""
        return Session(sound=self.sound, versions=self.versions, desk=self.desk)


OLDER = {1: Session1, 2: Session2}
"""The types of older formats; each has `upgraded`, which gives a session of today."""
