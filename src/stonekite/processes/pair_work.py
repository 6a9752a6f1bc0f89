"""The worker's part in component files."""

from collections.abc import Generator
from pathlib import Path

from stonekite.engine.offline.rejoining import leftover, write_joined
from stonekite.engine.offline.returned import taken_back
from stonekite.files.audio import Reader
from stonekite.files.components import encoded, proved, rehearsed
from stonekite.measure.headroom import Surveyor
from stonekite.processes.jobs import Answer, Progress
from stonekite.processes.pair_jobs import (
    Held,
    HoldAgainst,
    JoinedWritten,
    PairRehearsed,
    PairSurveyed,
    PairWork,
    PairWritten,
    RehearsePair,
    SurveyPair,
    TakeBack,
    TakenBack,
    WritePair,
)
from stonekite.processes.telling import telling
from stonekite.signal.decibels import db_of

Steps = Generator[Answer, None, None]
NOTHING_DB = -400.0
"""For the level of nothing: infinities do not go through JSON."""


def _level(peak: float) -> float:
    return max(NOTHING_DB, db_of(peak))


def run(request: PairWork) -> Steps:
    """Do the work, giving progress and at last the answer. Close the iterator to cancel. Raises AudioError."""
    if isinstance(request, SurveyPair):
        yield from _survey(request)
    elif isinstance(request, RehearsePair):
        way = request.way
        steps = rehearsed(
            Path(request.source.path),
            matrix=way.matrix,
            bits=way.bits,
            trims_db=way.trims_db,
            channels=request.source.channels,
        )
        found = yield from telling(request.number, steps)
        yield PairRehearsed(request.number, way, found.overs, found.changed, _level(found.residual_peak))
    elif isinstance(request, WritePair):
        yield from _write(request)
    elif isinstance(request, TakeBack):
        paths = [Path(path) for path in request.paths]
        back = yield from telling(request.number, taken_back(request.source, paths, request.went))
        yield TakenBack(request.number, back)
    elif isinstance(request, HoldAgainst):
        left = yield from telling(
            request.number, leftover(request.back, request.source, frozenset(request.repairs))
        )
        yield Held(request.number, request.repairs, left)
    else:
        writing = write_joined(
            request.back,
            request.source,
            frozenset(request.repairs),
            Path(request.path),
            bits=request.bits,
            exact=request.exact,
            less=request.less,
            force=True,
        )
        path, overs = yield from telling(request.number, writing)
        yield JoinedWritten(request.number, str(path), request.less, overs)


def _survey(request: SurveyPair) -> Steps:
    with Reader(Path(request.source.path), request.source.channels) as reader:
        surveyor, done = Surveyor(reader.facts), 0
        for block in reader.blocks():
            surveyor.add(block)
            done += block.shape[1]
            yield Progress(request.number, done / reader.facts.frames)
        yield PairSurveyed(request.number, surveyor.survey(reader.repaired))


def _write(request: WritePair) -> Steps:
    source, way = request.source, request.way
    steps = encoded(
        Path(source.path),
        Path(request.folder),
        matrix=way.matrix,
        interleaved=request.interleaved,
        bits=way.bits,
        trims_db=way.trims_db,
        channels=source.channels,
        force=True,
    )
    made = yield from telling(request.number, steps, 0.6)
    proof = proved(Path(source.path), made.paths, source.channels)
    changed, peak = yield from telling(request.number, proof, 0.4, 0.6)
    yield PairWritten(
        request.number,
        [str(path) for path in made.paths],
        way,
        made.overs,
        changed,
        2 * source.frames,
        _level(peak),
        made.repaired,
    )
