"""What is compared: a recording as it came, as a strip makes it, or what the strip changes; all of it or a span."""

import hashlib
from collections.abc import Generator, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from queue import SimpleQueue
from threading import Event

import msgspec
import numpy as np

from stonekite.engine.offline.ahead import ahead
from stonekite.engine.offline.render import open_source, rendered
from stonekite.files.audio import AudioError
from stonekite.files.resampled import at_rate
from stonekite.lazy import lazy
from stonekite.measure.measures import Measures
from stonekite.session.types import Source, Strip
from stonekite.signal.decibels import gain_of
from stonekite.words import said

meters = lazy("stonekite.measure.meters")


class Subject(msgspec.Struct, frozen=True):
    """A source, unprocessed without a strip, in a span of its own frames (None: all of it), measured at a rate in Hz.

    With `difference_db` it is the difference: the processed signal at the first gain in dB less the unprocessed one at
    the second.
    """

    source: Source
    strip: Strip | None = None
    span: tuple[int, int] | None = None
    rate: int | None = None
    difference_db: tuple[float, float] | None = None

    @property
    def identity(self) -> str:
        """Equal for what sounds the same: by the recording's content, the settings and the span."""
        source = msgspec.structs.replace(self.source, path=self.source.fingerprint or self.source.path)
        content = msgspec.msgpack.encode(msgspec.structs.replace(self, source=source))
        return hashlib.blake2b(content, digest_size=16).hexdigest()


def sound(subject: Subject) -> Iterator[tuple[np.ndarray, int]]:
    """Blocks (2, frames) of a subject, each with the frames that there are in all. Raises AudioError."""
    with open_source(subject.source) as reader:
        span = subject.span or (0, reader.facts.frames)
        span = max(0, span[0]), min(span[1], reader.facts.frames)
        if span[0] >= span[1]:
            raise AudioError(said("There is nothing in this range to measure."))
        rate = subject.rate or reader.facts.rate
        if subject.strip is None:
            ratio = rate / reader.facts.rate
            start, stop = int(span[0] * ratio), int(span[1] * ratio)
            for block in at_rate(reader, rate).blocks(start=start, stop=stop):
                yield block, stop - start
            return
        for unprocessed, processed in rendered(reader, subject.strip, span=span):
            block = processed
            if subject.difference_db is not None:
                mine, theirs = (gain_of(gain) for gain in subject.difference_db)
                block = processed * mine - unprocessed * theirs
            yield block, span[1] - span[0]


def measured(subject: Subject) -> Generator[float, None, Measures]:
    """Measure a subject: yields progress 0 to 1 and returns its measures. Raises AudioError."""
    rate = subject.rate or subject.source.rate
    start_s = 0.0 if subject.span is None else subject.span[0] / subject.source.rate
    heard = meters.Meters(rate, start_s)
    done = 0
    with closing(ahead(sound(subject))) as blocks:
        for block, frames in blocks:
            heard.add(block)
            done += block.shape[1]
            yield min(1.0, done / frames)
    return heard.measures()


def measured_all(subjects: list[Subject]) -> Iterator[float | tuple[int, Measures | AudioError]]:
    """Measure subjects, two at a time: progress 0 to 1 of all of them, and each with its place as soon as it is known.

    Stop iterating (close the generator) to cancel.
    """
    told: SimpleQueue[tuple[int, float | Measures | Exception]] = SimpleQueue()
    stopped = Event()

    def work(place: int) -> None:
        try:
            steps = measured(subjects[place])
            while not stopped.is_set():
                told.put((place, next(steps)))
            steps.close()
        except StopIteration as end:
            told.put((place, end.value))
        except Exception as error:
            told.put((place, error))

    progress = [0.0] * len(subjects)
    left = len(subjects)
    with ThreadPoolExecutor(2, thread_name_prefix="measuring") as pool:
        try:
            for place in range(len(subjects)):
                pool.submit(work, place)
            while left:
                place, what = told.get()
                if isinstance(what, float):
                    progress[place] = what
                    yield sum(progress) / len(progress)
                    continue
                left -= 1
                progress[place] = 1.0
                if isinstance(what, AudioError | Measures):
                    yield place, what
                else:
                    raise what
        finally:
            stopped.set()
            pool.shutdown(cancel_futures=True)
