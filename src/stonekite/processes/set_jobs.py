"""What the window asks of a worker about export sets, and what it answers."""

import msgspec

from stonekite.session.export_sets import ExportSet
from stonekite.session.types import Session


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
