"""The worker's part in export sets."""

from collections.abc import Generator
from contextlib import closing
from pathlib import Path

from stonekite.engine.offline.export import Exported, written
from stonekite.files.audio import AudioError
from stonekite.processes.jobs import Answer, Progress
from stonekite.processes.set_jobs import SetWritten, WriteSet
from stonekite.session.export_sets import SetError, names
from stonekite.words import said

Steps = Generator[Answer, None, None]


def told(done: Exported) -> list[str]:
    """What is to be known of files that were written, in sentences."""
    sentences = list(done.sentences)
    if done.overs:
        sentences.append(
            said("{overs} samples were over full scale and were cut off there.").format(overs=done.overs)
        )
    if done.repaired:
        sentences.append(
            said("{repaired} damaged samples were written as silence.").format(repaired=done.repaired)
        )
    for name in done.guarded:
        sentences.append(
            said("{name} was louder than +12 dBFS: its guard made it silent from there on.").format(name=name)
        )
    return sentences


def run(request: WriteSet) -> Steps:
    """Write the set. Close the iterator to cancel: nothing is left. Raises AudioError."""
    folder = Path(request.folder)
    try:
        targets = {
            point: folder / name
            for point, name in names(request.chosen, request.session, request.session_name).items()
        }
    except SetError as error:
        raise AudioError(str(error)) from None
    with closing(written(request.session, targets, request.chosen, force=True)) as steps:  # type: ignore[type-var]
        for step in steps:
            if isinstance(step, Exported):
                levels = [step.levels.get(point) for point in targets]
                yield SetWritten(
                    request.number,
                    [str(path) for path in step.paths],
                    [None if one is None else (one.lufs, one.true_peak_db) for one in levels],
                    told(step),
                )
            else:
                yield Progress(request.number, step)
