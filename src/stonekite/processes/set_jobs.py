"""What the window asks of a worker about export sets, gathered sessions and sections, and what it answers."""

import msgspec

from stonekite.session.export_sets import ExportSet
from stonekite.session.types import Session, Source


class WriteSet(msgspec.Struct, tag=True):
    """Write a set of a session into a folder; `session_name` is for the names of the files."""

    number: int
    session: Session
    session_name: str
    chosen: ExportSet
    folder: str


class SetWritten(msgspec.Struct, tag=True):
    """Files with their loudness in LUFS and true peak in dBTP where these were measured, and what is to be known."""

    number: int
    paths: list[str]
    levels: list[tuple[float | None, float | None] | None]
    sentences: list[str]


class GatherSession(msgspec.Struct, tag=True):
    """Copy a session with all that it is made of to a folder or an archive; it is called `name` there."""

    number: int
    session: Session
    target: str
    name: str


class SessionGathered(msgspec.Struct, tag=True):
    number: int
    path: str
    files: int
    sentences: list[str]


class UnpackSession(msgspec.Struct, tag=True):
    """Take a gathered session out of its archive."""

    number: int
    path: str


class SessionUnpacked(msgspec.Struct, tag=True):
    number: int
    path: str


class ProposeSections(msgspec.Struct, tag=True):
    """Find where a recording changes."""

    number: int
    source: Source


class SectionsProposed(msgspec.Struct, tag=True):
    """Times in seconds at which something new begins."""

    number: int
    times: list[float]


SetWork = WriteSet | GatherSession | UnpackSession | ProposeSections
SetAnswer = SetWritten | SessionGathered | SessionUnpacked | SectionsProposed
