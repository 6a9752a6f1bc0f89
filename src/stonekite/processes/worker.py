"""The worker process: measures and exports sessions, telling progress.

`python -m stonekite.processes.worker` reads requests from standard input and writes answers to standard output as framed
msgpack (stonekite.processes.jobs, stonekite.processes.framing). A new request ends the one that is running.
"""

import contextlib
import os
import queue
import signal
import sys
import threading
from collections.abc import Generator
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

import msgspec
import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import END, Tap
from stonekite.engine.offline import paths, tones
from stonekite.engine.offline.changes import StageChanges
from stonekite.engine.offline.export import Exported, export
from stonekite.engine.offline.fitting import fit
from stonekite.engine.offline.hearing import heard_in_steps
from stonekite.engine.offline.keeping import keep
from stonekite.engine.offline.looking import looked_at
from stonekite.engine.offline.passing import passing
from stonekite.engine.offline.render import open_source, rendered
from stonekite.engine.offline.responses import read_response
from stonekite.engine.offline.slowing import Beginning, slow_range
from stonekite.engine.offline.subjects import measured_all
from stonekite.files.audio import AudioError
from stonekite.files.components import separate
from stonekite.measure import tempo
from stonekite.measure.overview import Overview
from stonekite.measure.source_check import SourceCheck
from stonekite.measure.spectrum import LongTermSpectrum
from stonekite.measure.summary import Figures, Summary, plain
from stonekite.measure.tones import Heard
from stonekite.measure.verdicts import Findings
from stonekite.processes import pair_work, set_work
from stonekite.processes.batch_jobs import WriteOne
from stonekite.processes.children import behind_all
from stonekite.processes.framing import read_frame, write_frame
from stonekite.processes.jobs import (
    Align,
    Aligned,
    Analyse,
    Analysed,
    Answer,
    Cancel,
    Cancelled,
    Compare,
    Compared,
    Done,
    Export,
    Failed,
    FindTempo,
    FindTones,
    Fit,
    Fitted,
    HasLearned,
    Keep,
    KeptAt,
    Learn,
    Look,
    MeasurePaths,
    PassingSeen,
    PathsMeasured,
    Progress,
    RangeBegun,
    RangeSlowed,
    ReadResponse,
    Request,
    ResponseRead,
    Seen,
    SeePassing,
    Separate,
    SlowRange,
    Spectra,
    SpectraFound,
    TempoFound,
    TonesFound,
    Written,
)
from stonekite.processes.pair_jobs import PairWork
from stonekite.processes.set_jobs import SetWork
from stonekite.processes.telling import telling
from stonekite.session import tree
from stonekite.session.export_sets import SetError
from stonekite.session.storage import SessionError
from stonekite.session.types import Source, Strip
from stonekite.signal.sanity import clean
from stonekite.stages.base import Context
from stonekite.stages.registry import kind_of
from stonekite.words import said

Steps = Generator[Answer, None, None]
Work = (
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
)
MOST_LEARNED_S = 120.0
"""Of a longer range its beginning is learned from: more tells nothing new, and takes memory."""
BEHIND = 5
"""As a nice value: beside a busy program of usual priority a quarter of a core is had."""


class Worker:
    """Runs one request at a time; `before` results are kept as long as the recording is the same."""

    def __init__(self) -> None:
        self._known: tuple[Source, Known] | None = None

    def run(self, request: Work) -> Steps:
        """Do the work, giving progress and at last the answer. Close the iterator to cancel."""
        try:
            if isinstance(request, Analyse):
                yield from self._analyse(request)
            elif isinstance(request, Spectra):
                yield from self._spectra(request)
            elif isinstance(request, Compare):
                yield from self._compare(request)
            elif isinstance(request, FindTones):
                yield self._tones(request)
            elif isinstance(request, Learn):
                yield from self._learn(request)
            elif isinstance(request, ReadResponse):
                yield ResponseRead(request.number, read_response(Path(request.path)))
            elif isinstance(request, FindTempo):
                yield self._tempo(request)
            elif isinstance(request, PairWork):
                yield from pair_work.run(request)
            elif isinstance(request, SetWork | WriteOne):
                yield from set_work.run(request)
            elif isinstance(request, Align):
                found = yield from telling(request.number, paths.aligned(request.stem, request.spur))
                yield Aligned(request.number, *found[:3], found.curve_db.tolist())
            elif isinstance(request, SlowRange):
                yield from self._slow(request)
            elif isinstance(request, Fit):
                fitted = yield from telling(
                    request.number, fit(request.source, request.speed, Path(request.path))
                )
                yield Fitted(request.number, fitted)
            elif isinstance(request, Keep):
                behind_all()
                keeping = keep(request.stem, Path(request.folder), request.in_use)
                yield KeptAt(request.number, str((yield from telling(request.number, keeping))))
            elif isinstance(request, Look):
                seen = yield from telling(request.number, looked_at(request.source))
                yield Seen(request.number, seen.tobytes())
            elif isinstance(request, SeePassing):
                went = passing(request.stem, request.stage, *request.span)
                yield PassingSeen(request.number, (yield from telling(request.number, went)).tobytes())
            elif isinstance(request, MeasurePaths):
                loud = yield from telling(request.number, paths.loudness_of(request.stem, request.paths))
                yield PathsMeasured(request.number, [plain(loud[path]) for path in request.paths])
            elif isinstance(request, Separate):
                source = request.source
                made = separate(Path(source.path), Path(request.folder), channels=source.channels)
                yield Written(request.number, [str(p) for p in made], 0, 0, False)
            else:
                yield from self._export(request)
        except (AudioError, SessionError, SetError) as error:
            yield Failed(request.number, str(error))
        except ValueError as error:
            yield Failed(request.number, str(error))
        except OSError as error:
            yield Failed(request.number, f"{(error.strerror or str(error))}.")
        except Exception as error:  # a defect must not look like endless work
            yield Failed(
                request.number,
                said("Stone Kite failed at this: {name}: {error}.").format(
                    name=type(error).__name__, error=error
                ),
            )

    @staticmethod
    def _slow(request: SlowRange) -> Steps:
        steps = slow_range(request.stem, request.span, request.speed, request.semitones, Path(request.path))
        with closing(steps):
            while True:
                try:
                    step = next(steps)
                except StopIteration as end:
                    yield RangeSlowed(request.number, end.value)
                    return
                if isinstance(step, Beginning):
                    yield RangeBegun(request.number, str(step.path), step.frames)
                else:
                    yield Progress(request.number, step)

    def _analyse(self, request: Analyse) -> Steps:
        stem = request.stem
        folder = Path(request.folder)
        with open_source(stem.source) as reader:
            rate = reader.facts.rate
            known = self._known[1] if self._known is not None and self._known[0] == stem.source else None
            before, check = (Meter(rate), SourceCheck(rate)) if known is None else (None, None)
            after = Meter(rate)
            changes = StageChanges(stem.strip, rate)
            done = 0
            for unprocessed, processed in rendered(reader, stem.strip, probe=changes):
                if before is not None and check is not None:
                    before.add(unprocessed)
                    check.add(unprocessed)
                after.add(processed)
                done += processed.shape[1]
                yield Progress(request.number, done / reader.facts.frames)
            if before is not None and check is not None:
                path = before.save(folder / f"before-{request.number}.npy")
                known = Known(before.summary.figures(), path, reader.repaired, check.findings())
                self._known = stem.source, known
            assert known is not None
            yield Analysed(
                request.number,
                plain(known.figures),
                plain(after.summary.figures()),
                known.overview,
                _newest(after, folder, request.number),
                known.repaired,
                known.findings,
                changes.loudness(),
            )

    def _spectra(self, request: Spectra) -> Steps:
        strip = request.stem.strip
        legs = yield from self._averages(request, request.stem.source, strip, Tap(request.stage))
        found = None
        if request.reference is not None:
            plain = Strip(split=strip.split)
            found = yield from self._averages(request, request.reference, plain, Tap(END))
        yield SpectraFound(request.number, legs, found)

    def _compare(self, request: Compare) -> Steps:
        with contextlib.closing(measured_all(request.subjects)) as steps:  # type: ignore[type-var]
            for step in steps:
                if isinstance(step, float):
                    yield Progress(request.number, step)
                    continue
                place, found = step
                identity = request.subjects[place].identity
                if isinstance(found, AudioError):
                    yield Compared(request.number, identity, None, str(found))
                else:
                    yield Compared(request.number, identity, found)
        yield Done(request.number)

    def _tones(self, request: FindTones) -> TonesFound:
        stem = request.stem
        if request.frame is None:
            _, stage = tree.find(stem.strip, request.stage)
            found = tones.test_pair(stage, stem.strip.split, stem.source.rate)
        else:
            found = tones.programme(stem, request.stage, request.frame)
        spectra = [] if found.spectra is None else found.spectra.tolist()
        return TonesFound(request.number, Heard(found.first_hz, found.second_hz, found.lines, spectra))

    def _averages(
        self, request: Spectra, source: Source, strip: Strip, tap: Tap
    ) -> Generator[Answer, None, tuple[list[float], list[float]]]:
        """Long-term levels of both legs of a source, where a tap takes them, before the stage."""
        with open_source(source) as reader:
            average = LongTermSpectrum(reader.facts.rate)
            chain = Chain(strip, reader.facts.rate)
            done = 0
            for block in reader.blocks():
                chain.process(block, done, tap)
                average.add(tap.take()[0])
                done += block.shape[1]
                yield Progress(request.number, done / reader.facts.frames)
        upper, lower = average.levels_db()
        return upper.tolist(), lower.tolist()

    def _learn(self, request: Learn) -> Steps:
        """As the kind says, from what the stage hears."""
        rate = request.stem.source.rate
        start, end = (int(seconds * rate) for seconds in (request.start_s, request.end_s))
        frames = min(max(0, end - start), int(MOST_LEARNED_S * rate))
        legs, _, before = yield from telling(
            request.number, heard_in_steps(request.stem, request.stage, start, frames)
        )
        _, stage = tree.find(request.stem.strip, request.stage)
        context = Context(rate, request.stem.strip.split.encoding)
        learning = kind_of(stage).offers.learning
        assert learning is not None
        learned = learning.from_sound(legs[:, before:], context, request.start_s)
        try:
            msgspec.convert(msgspec.to_builtins(learned), learning.type)
        except msgspec.ValidationError:
            raise ValueError(
                said(
                    "This range is louder, or stranger, than anything that the {what} can be learned from."
                ).format(what=learning.what)
            ) from None
        yield HasLearned(request.number, learned)

    def _tempo(self, request: FindTempo) -> TempoFound:
        """From both channels folded, or from the first one where they are each other's opposite."""
        with open_source(request.source) as reader:
            rate = reader.facts.rate
            sound = clean(reader.read(0, int(tempo.EXCERPT_S * rate)))
        fold = 0.5 * (sound[0] + sound[1])
        if np.sum(fold * fold) < 1e-4 * np.sum(sound * sound):
            fold = sound[0]
        found = tempo.estimated(fold, rate)
        return TempoFound(request.number) if found is None else TempoFound(request.number, *found)

    def _export(self, request: Export) -> Steps:
        steps: Generator = export(  # type: ignore[assignment]
            request.session,
            Path(request.path),
            bits=request.bits,
            rate=request.rate,
            parts=request.parts,
            dither=request.dither,
            tail=request.tail_s,
            force=True,
        )
        try:
            for step in steps:
                if isinstance(step, Exported):
                    yield Written(
                        request.number,
                        [str(p) for p in step.paths],
                        step.overs,
                        step.repaired,
                        step.dithered,
                        list(step.guarded),
                    )
                else:
                    yield Progress(request.number, step)
        finally:
            steps.close()


def _newest(after: "Meter", folder: Path, number: int) -> str:
    """The overview under a name of its own: a window may still look at an older one, whose file stays while it does."""
    for older in folder.glob("after-*.npy"):
        older.unlink(missing_ok=True)
    return after.save(folder / f"after-{number}.npy")


class Known(NamedTuple):
    """What is known of a recording as it arrived: figures, overview file, damaged samples, findings."""

    figures: Figures
    overview: str
    repaired: int
    findings: Findings


class Meter:
    """Figures and overview of one signal."""

    def __init__(self, rate: float) -> None:
        self.summary = Summary(rate)
        self.overview = Overview()

    def add(self, block: np.ndarray) -> None:
        self.summary.add(block)
        self.overview.add(block)

    def save(self, path: Path) -> str:
        np.save(path, self.overview.table())
        return str(path)


def main() -> None:
    """Serve requests until standard input ends."""
    requests: queue.SimpleQueue[Request | None] = queue.SimpleQueue()
    incoming, outgoing = sys.stdin.buffer, os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())  # nothing else may write between the frames

    def listen() -> None:
        while (frame := read_frame(incoming, Request)) is not None:
            requests.put(frame)
        requests.put(None)

    threading.Thread(target=listen, daemon=True).start()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the window, which ends this process
    # Sound and window come first; but on a busy machine somebody who only got what is left would get nothing.
    os.nice(BEHIND)
    # As when standard input ends: what is being written is removed.
    signal.signal(signal.SIGTERM, lambda number, _: requests.put(None))
    worker = Worker()
    told = 0.0
    running: Steps | None = None
    number = -1
    while True:
        try:
            request = requests.get(block=running is None)
        except queue.Empty:
            pass
        else:
            if request is None:
                if running is not None:
                    running.close()
                return
            if running is not None and (not isinstance(request, Cancel) or request.number == number):
                running.close()
                running = None
                write_frame(outgoing, Cancelled(number))
            if not isinstance(request, Cancel):
                number, running = request.number, worker.run(request)
        if running is not None:
            answer = next(running, None)
            if answer is None:
                running = None
            elif not isinstance(answer, Progress) or not told <= answer.done < told + 0.01:
                told = answer.done if isinstance(answer, Progress) else 0.0
                write_frame(outgoing, answer)


if __name__ == "__main__":
    with contextlib.suppress(BrokenPipeError):  # the window has gone, and nobody waits for the answer
        main()
