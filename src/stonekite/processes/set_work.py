"""The worker's part in export sets, batches and gathered sessions."""

from collections.abc import Generator
from contextlib import closing
from pathlib import Path

from stonekite.engine.offline.batch import Item, Row, one
from stonekite.engine.offline.export import Exported, set_written, told
from stonekite.engine.offline.render import open_source
from stonekite.measure import sections
from stonekite.processes.batch_jobs import OneWritten, WriteOne
from stonekite.processes.jobs import Answer, Progress
from stonekite.processes.set_jobs import (
    GatherSession,
    ProposeSections,
    SectionsProposed,
    SessionGathered,
    SessionUnpacked,
    SetWork,
    SetWritten,
    UnpackSession,
    WriteSet,
)
from stonekite.processes.telling import telling
from stonekite.session.keeping import gathering

Steps = Generator[Answer, None, None]


def run(request: SetWork | WriteOne) -> Steps:
    """Write what is asked for. Close the iterator to cancel: nothing is left. Raises AudioError."""
    if isinstance(request, WriteSet):
        yield from _set(request)
    elif isinstance(request, GatherSession):
        made = yield from telling(
            request.number, gathering.gather(request.session, Path(request.target), request.name)
        )
        yield SessionGathered(request.number, str(made.path), made.files, made.sentences)
    elif isinstance(request, UnpackSession):
        path = yield from telling(request.number, gathering.unpack(Path(request.path)))
        yield SessionUnpacked(request.number, str(path))
    elif isinstance(request, ProposeSections):
        with open_source(request.source) as reader:
            levels = sections.described(reader.blocks(), reader.facts.rate)
        yield SectionsProposed(request.number, sections.boundaries(levels))
    else:
        yield from _one(request)


def _one(request: WriteOne) -> Steps:
    item = Item(Path(request.path), Path(request.below))
    steps = one(
        request.session,
        item,
        request.chosen,
        Path(request.out),
        request.session_name,
        request.learn,
        force=request.force,
    )
    with closing(steps):  # type: ignore[type-var]
        for step in steps:
            yield (
                OneWritten(request.number, step) if isinstance(step, Row) else Progress(request.number, step)
            )


def _set(request: WriteSet) -> Steps:
    steps = set_written(
        request.session, request.chosen, Path(request.folder), request.session_name, force=True
    )
    with closing(steps):  # type: ignore[type-var]
        for step in steps:
            if isinstance(step, Exported):
                yield SetWritten(
                    request.number,
                    [str(path) for path in step.paths],
                    [None if one is None else (one.lufs, one.true_peak_db) for one in step.in_order],
                    told(step),
                )
            else:
                yield Progress(request.number, step)
