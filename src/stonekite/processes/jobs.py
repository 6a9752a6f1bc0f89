"""What the window asks of a worker process, and what it answers."""

from typing import Any

import msgspec

from stonekite.engine.offline.export import Parts
from stonekite.engine.offline.subjects import Subject
from stonekite.files.audio import Bits
from stonekite.measure.measures import Measures
from stonekite.measure.tones import Heard
from stonekite.measure.verdicts import Findings
from stonekite.processes.batch_jobs import OneWritten, WriteOne
from stonekite.processes.pair_jobs import PairAnswer, PairWork
from stonekite.processes.set_jobs import SetAnswer, SetWork
from stonekite.session.types import Session, Source, Stem
from stonekite.stages.cabinet.settings import OwnResponse


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
    tail_s: float | None


class Separate(msgspec.Struct, tag=True):
    """Write both sides of a source to two mono files in a folder."""

    number: int
    source: Source
    folder: str


class Cancel(msgspec.Struct, tag=True):
    number: int


class Progress(msgspec.Struct, tag=True):
    number: int
    done: float


class Spectra(msgspec.Struct, tag=True):
    """Find the long-term spectra of both legs before a stage and, if there is one, of a reference recording."""

    number: int
    stem: Stem
    stage: int
    reference: Source | None = None


class FindTones(msgspec.Struct, tag=True):
    """Find what a stage makes of two tones: of the test pair, or of the strongest ones around a frame."""

    number: int
    stem: Stem
    stage: int
    frame: int | None = None


class TonesFound(msgspec.Struct, tag=True):
    """What the stage makes of two tones."""

    number: int
    heard: Heard


class Compare(msgspec.Struct, tag=True):
    """Measure subjects; each is answered by a Compared as soon as it is known, at last comes Done."""

    number: int
    subjects: list[Subject]


class Compared(msgspec.Struct, tag=True):
    """Measures of a subject of that identity, or why there are none."""

    number: int
    identity: str
    measures: Measures | None
    fault: str = ""


class Done(msgspec.Struct, tag=True):
    number: int


class Analysed(msgspec.Struct, tag=True):
    """Figures with None for what is silent or does not exist, and the overview files.

    `findings` are those of the recording as it arrived, `changes` the loudness in LU that each stage at work
    adds, without the level that it gives back.
    """

    number: int
    before: dict[str, Any]
    after: dict[str, Any]
    before_overview: str
    after_overview: str
    repaired: int
    findings: Findings
    changes: dict[int, float]


class SpectraFound(msgspec.Struct, tag=True):
    """Levels in dB (bands,) of the upper and the lower leg, of the recording and of the reference."""

    number: int
    legs: tuple[list[float], list[float]]
    reference: tuple[list[float], list[float]] | None


class Written(msgspec.Struct, tag=True):
    number: int
    paths: list[str]
    overs: int
    repaired: int
    dithered: bool
    guarded: list[str] = []


class Failed(msgspec.Struct, tag=True):
    number: int
    sentence: str


class Cancelled(msgspec.Struct, tag=True):
    number: int


class Align(msgspec.Struct, tag=True):
    """Find the delay at which a spur adds best to the rest of its strip."""

    number: int
    stem: Stem
    spur: int


class Aligned(msgspec.Struct, tag=True):
    """As engine.paths.Alignment."""

    number: int
    delay_ms: float
    rise_db: float
    correlation: float
    curve_db: list[float]


class SlowRange(msgspec.Struct, tag=True):
    """Write a range of frames of a stem's result to a file, at a part of its speed and so many semitones higher."""

    number: int
    stem: Stem
    span: tuple[int, int]
    speed: float
    semitones: float
    path: str


class RangeBegun(msgspec.Struct, tag=True):
    """So many frames of its beginning are in a file of their own, while the rest is still made."""

    number: int
    path: str
    frames: int


class RangeSlowed(msgspec.Struct, tag=True):
    """So many frames were written."""

    number: int
    frames: int


class Fit(msgspec.Struct, tag=True):
    """Write a recording to a file, at so many times its speed."""

    number: int
    source: Source
    speed: float
    path: str


class Fitted(msgspec.Struct, tag=True):
    """So many frames were written."""

    number: int
    frames: int


class Keep(msgspec.Struct, tag=True):
    """Have what a stem sounds like kept in a folder; files of the names that are `in_use` stay there."""

    number: int
    stem: Stem
    folder: str
    in_use: list[str]


class KeptAt(msgspec.Struct, tag=True):
    """The file in which it is kept."""

    number: int
    path: str


class Look(msgspec.Struct, tag=True):
    """See what a recording looks like."""

    number: int
    source: Source


class Seen(msgspec.Struct, tag=True):
    """Least and greatest samples of both sides: two rows of float32."""

    number: int
    overview: bytes


class SeePassing(msgspec.Struct, tag=True):
    """See what goes through a stage in a range of frames."""

    number: int
    stem: Stem
    stage: int
    span: tuple[int, int]


class PassingSeen(msgspec.Struct, tag=True):
    """Levels in dBFS (4, bands, columns) of both legs before and after the stage, as float32."""

    number: int
    levels: bytes


class MeasurePaths(msgspec.Struct, tag=True):
    """Measure how loud paths of a strip are alone: legs by name, spurs by id."""

    number: int
    stem: Stem
    paths: list[int | str]


class PathsMeasured(msgspec.Struct, tag=True):
    """Loudness of each path in LUFS; None for one that is silent."""

    number: int
    loudness: list[float | None]


class Learn(msgspec.Struct, tag=True):
    """Have a stage learn from a range of its recording, in seconds."""

    number: int
    stem: Stem
    stage: int
    start_s: float
    end_s: float


class HasLearned(msgspec.Struct, tag=True):
    """What the stage's kind says was learned, as plain values."""

    number: int
    learned: Any


class ReadResponse(msgspec.Struct, tag=True):
    """Make a file ready to be a cabinet's response."""

    number: int
    path: str


class ResponseRead(msgspec.Struct, tag=True):
    number: int
    response: OwnResponse


class FindTempo(msgspec.Struct, tag=True):
    """Find how fast a recording goes."""

    number: int
    source: Source


class TempoFound(msgspec.Struct, tag=True):
    """As measure.tempo.Found; without a tempo where nothing comes again."""

    number: int
    bpm: float | None = None
    first_beat_s: float = 0.0
    confidence: float = 0.0
    other_bpm: float = 0.0


Request = (
    Learn
    | ReadResponse
    | FindTempo
    | Analyse
    | Export
    | Spectra
    | Separate
    | FindTones
    | Compare
    | Align
    | MeasurePaths
    | SlowRange
    | Fit
    | Keep
    | Look
    | SeePassing
    | PairWork
    | SetWork
    | WriteOne
    | Cancel
)
Answer = (
    Progress
    | Analysed
    | SpectraFound
    | TonesFound
    | Compared
    | Aligned
    | PathsMeasured
    | RangeBegun
    | RangeSlowed
    | Fitted
    | KeptAt
    | Seen
    | PassingSeen
    | TempoFound
    | HasLearned
    | ResponseRead
    | PairAnswer
    | SetAnswer
    | OneWritten
    | Done
    | Written
    | Failed
    | Cancelled
)
