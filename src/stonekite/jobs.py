"""What the window asks of a worker process, and what it answers."""

from typing import Any

import msgspec

from stonekite.engine.export import Parts
from stonekite.files.audio import Bits
from stonekite.session.types import Session, Stem


class Analyse(msgspec.Struct, tag=True):
    """Measure a stem before and after its strip; overviews go into .npy files in `folder`."""

    number: int
    stem: Stem
    folder: str


class Export(msgspec.Struct, tag=True):
    number: int
    session: Session
    path: str
    bits: Bits
    rate: int | None
    parts: Parts
    dither: bool


class Cancel(msgspec.Struct, tag=True):
    number: int


class Progress(msgspec.Struct, tag=True):
    number: int
    done: float


class Analysed(msgspec.Struct, tag=True):
    """Figures with None for what is silent or does not exist, and the overview files."""

    number: int
    before: dict[str, Any]
    after: dict[str, Any]
    before_overview: str
    after_overview: str
    repaired: int


class Written(msgspec.Struct, tag=True):
    number: int
    paths: list[str]
    overs: int
    repaired: int
    dithered: bool


class Failed(msgspec.Struct, tag=True):
    number: int
    sentence: str


class Cancelled(msgspec.Struct, tag=True):
    number: int


Request = Analyse | Export | Cancel
Answer = Progress | Analysed | Written | Failed | Cancelled
