"""The worker process: measures and exports sessions, telling progress.

`python -m stonekite.worker` reads requests from standard input and writes answers to standard output as framed
msgpack (stonekite.jobs, stonekite.framing). A new request ends the one that is running.
"""

import os
import queue
import signal
import sys
import threading
from collections.abc import Generator
from pathlib import Path
from typing import Any

import numpy as np

from stonekite.engine.export import Exported, export
from stonekite.engine.overview import Overview
from stonekite.engine.render import open_stem, rendered
from stonekite.files.audio import AudioError
from stonekite.framing import read_frame, write_frame
from stonekite.jobs import (
    Analyse,
    Analysed,
    Answer,
    Cancel,
    Cancelled,
    Export,
    Failed,
    Progress,
    Request,
    Written,
)
from stonekite.measure.summary import Figures, Summary, plain

Steps = Generator[Answer, None, None]


class Worker:
    """Runs one request at a time; `before` results are kept as long as the recording is the same."""

    def __init__(self) -> None:
        self._known: tuple[Any, Figures, str, int] | None = None

    def run(self, request: Analyse | Export) -> Steps:
        """Do the work, giving progress and at last the answer. Close the iterator to cancel."""
        try:
            if isinstance(request, Analyse):
                yield from self._analyse(request)
            else:
                yield from self._export(request)
        except AudioError as error:
            yield Failed(request.number, str(error))
        except OSError as error:
            yield Failed(request.number, f"{(error.strerror or str(error))}.")
        except Exception as error:  # a defect must not look like endless work
            yield Failed(request.number, f"Stone Kite failed at this: {type(error).__name__}: {error}.")

    def _analyse(self, request: Analyse) -> Steps:
        stem = request.stem
        folder = Path(request.folder)
        identity = stem.source
        with open_stem(stem) as reader:
            known = self._known if self._known is not None and self._known[0] == identity else None
            before = Meter(reader.facts.rate) if known is None else None
            after = Meter(reader.facts.rate)
            done = 0
            for unprocessed, processed in rendered(reader, stem.strip):
                if before is not None:
                    before.add(unprocessed)
                after.add(processed)
                done += processed.shape[1]
                yield Progress(request.number, done / reader.facts.frames)
            if before is not None:
                path = before.save(folder / "before.npy")
                known = (identity, before.summary.figures(), path, reader.repaired)
                self._known = known
            assert known is not None
            after_path = after.save(folder / f"after-{request.number % 2}.npy")
            yield Analysed(
                request.number,
                plain(known[1]),
                plain(after.summary.figures()),
                known[2],
                after_path,
                known[3],
            )

    def _export(self, request: Export) -> Steps:
        steps: Generator = export(  # type: ignore[assignment]
            request.session,
            Path(request.path),
            bits=request.bits,
            rate=request.rate,
            parts=request.parts,
            dither=request.dither,
            force=True,
        )
        try:
            for step in steps:
                if isinstance(step, Exported):
                    yield Written(
                        request.number, [str(p) for p in step.paths], step.overs, step.repaired, step.dithered
                    )
                else:
                    yield Progress(request.number, step)
        finally:
            steps.close()


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
    os.nice(10)  # sound and window come first
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
    main()
