"""What a batch asks of its workers, and what they answer."""

import msgspec

from stonekite.engine.offline.batch import Learn, Row
from stonekite.session.export_sets import ExportSet
from stonekite.session.types import Session


class WriteOne(msgspec.Struct, tag=True):
    """Make of one recording what a set says; `below` is its folder from `out`."""

    number: int
    session: Session
    session_name: str
    chosen: ExportSet
    path: str
    below: str
    out: str
    learn: Learn | None = None
    force: bool = False


class OneWritten(msgspec.Struct, tag=True):
    number: int
    row: Row
