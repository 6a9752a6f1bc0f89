"""What the window asks of a worker about component files, and what it answers."""

import msgspec

from stonekite.engine.offline.rejoining import Leftover
from stonekite.engine.offline.returned import Returned
from stonekite.files.audio import Bits
from stonekite.files.components import Note
from stonekite.measure.headroom import Survey
from stonekite.session.types import Source
from stonekite.signal.matrix import Matrix


class Way(msgspec.Struct, frozen=True):
    """How a recording is encoded: with a matrix, to samples, turned down by trims in dB."""

    matrix: Matrix = "half-sum"
    bits: Bits = "24"
    trims_db: tuple[float, float] = (0.0, 0.0)


class SurveyPair(msgspec.Struct, tag=True):
    """Look at the components of a recording."""

    number: int
    source: Source


class PairSurveyed(msgspec.Struct, tag=True):
    number: int
    survey: Survey


class RehearsePair(msgspec.Struct, tag=True):
    """Find out what encoding would lose."""

    number: int
    source: Source
    way: Way


class PairRehearsed(msgspec.Struct, tag=True):
    """Samples that would be cut off, samples that would not come back, the peak of their differences in dBFS."""

    number: int
    way: Way
    overs: int
    changed: int
    residual_db: float


class WritePair(msgspec.Struct, tag=True):
    """Encode a recording into a folder, and prove by the files that it comes back."""

    number: int
    source: Source
    folder: str
    way: Way
    interleaved: bool = False


class PairWritten(msgspec.Struct, tag=True):
    """What was written; `changed` samples read back from the files are not the recording's."""

    number: int
    paths: list[str]
    way: Way
    overs: int
    changed: int
    samples: int
    residual_db: float
    repaired: int


class TakeBack(msgspec.Struct, tag=True):
    """Hold parts that came back against the recording. `went` is how they were written, if that is known."""

    number: int
    source: Source
    paths: list[str]
    went: Note | None = None


class TakenBack(msgspec.Struct, tag=True):
    number: int
    back: Returned


class HoldAgainst(msgspec.Struct, tag=True):
    """Find what is left of the parts, with these repairs, against the recording."""

    number: int
    source: Source
    back: Returned
    repairs: list[str]


class Held(msgspec.Struct, tag=True):
    number: int
    repairs: list[str]
    left: Leftover


class WriteJoined(msgspec.Struct, tag=True):
    """Write the parts, with these repairs, as a stereo file; with `less` what is left when the recording is taken away.
    `exact` says that they are the recording."""

    number: int
    source: Source
    back: Returned
    repairs: list[str]
    path: str
    bits: Bits | None = None
    exact: bool = False
    less: bool = False


class JoinedWritten(msgspec.Struct, tag=True):
    number: int
    path: str
    less: bool
    overs: int


PairWork = SurveyPair | RehearsePair | WritePair | TakeBack | HoldAgainst | WriteJoined
PairAnswer = PairSurveyed | PairRehearsed | PairWritten | TakenBack | Held | JoinedWritten
