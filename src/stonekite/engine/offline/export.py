"""Writing listening points of a session to files."""

import os
from collections.abc import Callable, Generator, Iterator, Mapping
from contextlib import ExitStack, closing
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.tails import Tail, frames_of
from stonekite.engine.mix.layout import going_on_gains
from stonekite.engine.mix.wire import at_gains
from stonekite.engine.offline.ahead import ahead
from stonekite.engine.offline.levelling import DIFFERENCE, UNPROCESSED, Kept, Levelled, Levels, Sink, levelled
from stonekite.engine.offline.render import open_source, rendered
from stonekite.files.amiss import amiss
from stonekite.files.atomic import Together
from stonekite.files.audio import AudioError, Bits, Facts, Writer
from stonekite.session.alone import only
from stonekite.session.differences import names_of
from stonekite.session.export_sets import RESULT, ExportSet, How, Point, called, parts_of
from stonekite.session.mix import places
from stonekite.session.types import LEGS, Session, Stem
from stonekite.signal.matrix import component
from stonekite.words import said

Parts = Literal["result", "component", "all"]


@dataclass
class Exported:
    """What was written: the files, samples that did not fit, and damaged samples read as silence. `guarded` are the names
    of stages that their guards have silenced from some place on. `levels` are those of each file where something was
    measured (`in_order` those of a set, in the order of the files), `sentences` what is to be known of them.
    """

    paths: list[Path]
    overs: int
    repaired: int
    dithered: bool
    guarded: tuple[str, ...] = ()
    levels: dict[Point, Levels] = field(default_factory=dict)
    in_order: list[Levels | None] = field(default_factory=list)
    sentences: tuple[str, ...] = ()


def told(done: Exported) -> list[str]:
    """What is to be known of files that were written, in sentences."""
    return [*done.sentences, *amiss(done.overs, done.repaired, done.guarded)]


def set_written(
    session: Session, chosen: ExportSet, folder: Path, session_name: str = "", *, force: bool = False
) -> Iterator[float | Exported]:
    """Write a set of a session into a folder: all of the recording, or section by section; yields progress 0 to 1 and at
    last an `Exported` of everything. Raises AudioError, SetError.
    """
    parts = parts_of(chosen, session, session_name)
    whole = Exported([], 0, 0, False)
    for k, (section, files) in enumerate(parts):
        span = None if section is None else (section.start_s, section.end_s)
        targets = {point: folder / name for point, name in files.items()}
        with closing(written(session, targets, chosen, force=force, span_s=span)) as steps:  # type: ignore[type-var]
            for step in steps:
                if isinstance(step, float):
                    yield (k + step) / len(parts)
                else:
                    done = step
        whole.paths += done.paths
        whole.overs += done.overs
        whole.repaired = max(whole.repaired, done.repaired)
        whole.dithered = whole.dithered or done.dithered
        whole.guarded = tuple(dict.fromkeys((*whole.guarded, *done.guarded)))
        whole.in_order += [done.levels.get(point) for point in targets]
        head = "" if section is None else f"{section.name}: "
        whole.sentences += tuple(head + sentence for sentence in done.sentences)
    yield whole


def component_path(path: Path, name: str) -> Path:
    """Where the component called `name` of a result at `path` is written: NAME.mid.wav beside NAME.wav."""
    return path.with_name(f"{path.stem}.{name}{path.suffix}")


def needs_dither(chain: Chain, source: Facts, bits: Bits, rate: int | None) -> bool:
    """Whether writing loses what rounding alone would distort.

    Not where an untouched integer recording keeps its depth: then every sample is written as it was.
    """
    if bits not in ("16", "24"):
        return False
    untouched = chain.transparent and rate in (None, source.rate)
    return not (untouched and source.depth is not None and source.depth <= int(bits))


def export(
    session: Session,
    path: Path,
    *,
    bits: Bits = "24",
    rate: int | None = None,
    parts: Parts = "result",
    dither: bool = True,
    force: bool = False,
    tail: Tail = None,
) -> Iterator[float | Exported]:
    """Render a session to `path`; yields progress 0 to 1 and at last an `Exported`.

    `tail` is how long the result goes on after the recording, in seconds: None until what rings on is below QUIET_DB.
    `parts` chooses the stereo result, its two components (NAME.mid.wav and so on), or all of them. Stop
    iterating (close the generator) to cancel: nothing is left behind. Raises AudioError.
    """
    split = places.result(session.sound).strip.split
    targets = {RESULT: path} if parts in ("result", "all") else {}
    if parts in ("component", "all"):
        for leg in LEGS:
            name = split.component(leg)
            targets[Point("after", name)] = component_path(path, name)
    how = How(bits=bits, rate=rate, dither=dither, tail_s=tail)
    yield from written(session, targets, how, force=force)


def written(
    session: Session,
    targets: Mapping[Point, Path],
    how: How,
    *,
    force: bool = False,
    threads: int | None = None,
    span_s: tuple[float, float] | None = None,
) -> Iterator[float | Exported]:
    """Write listening points of a session to files, which appear together; yields progress 0 to 1 and at last an
    `Exported`. With `span_s` only a range in seconds, without a tail. `threads` as those of `rendered`. Stop iterating to
    cancel: nothing is left behind. Raises AudioError.
    """
    _refuse_inputs(session, list(targets.values()))
    stem = places.result(session.sound)
    with open_source(stem.source) as reader, Together() as together, ExitStack() as files:
        facts = reader.facts
        rate = how.rate or facts.rate
        chain = Chain(stem.strip, facts.rate)
        frames = facts.frames + frames_of(how.tail_s, reader.tail + chain.tail, facts.rate)
        lossy = all(path.suffix.lower() == ".ogg" for path in targets.values())
        changed = how.levelled or how.fade_in_s or how.fade_out_s
        only_result = all(point.what in ("result", "after") for point in targets)
        dithered = how.dither and not lossy and how.bits in ("16", "24")
        if dithered and only_result and not changed:
            dithered = needs_dither(chain, facts, how.bits, how.rate)

        def writer(point: Point) -> Writer:
            return Writer(
                targets[point],
                rate,
                channels=1 if point.component else 2,
                bits=how.bits,
                dither=dithered,
                force=force,
                frames=frames * rate // facts.rate,
                together=together,
            )

        if not how.levelled:
            sinks = {point: files.enter_context(writer(point)) for point in targets}
            passes = _Passes(session, list(targets), how, threads, span_s)
            yield from passes.run(chain, sinks)
            files.close()
            paths, overs = [one.path for one in sinks.values()], sum(one.overs for one in sinks.values())
            finished = Exported(paths, overs, passes.repaired, dithered, passes.guarded)
        else:
            folder = next(iter(targets.values())).absolute().parent
            beside = [UNPROCESSED] if how.matched and DIFFERENCE in targets else []
            points = list(dict.fromkeys([*targets, RESULT, *beside]))
            kept = {
                point: files.enter_context(Kept(folder, rate, 1 if point.component else 2))
                for point in points
            }
            passes = _Passes(session, points, how, threads, span_s)
            for step in passes.run(chain, kept):
                yield 0.6 * step
            work = levelled(kept, list(targets), how, writer, together, partial(called, sound=session.sound))
            for part in work:
                if isinstance(part, Levelled):
                    done = part
                else:
                    yield 0.6 + 0.4 * part
            paths = [Path(os.path.realpath(path)) for path in targets.values()]
            finished = Exported(
                paths,
                done.overs,
                passes.repaired,
                dithered,
                passes.guarded,
                done.levels,
                sentences=tuple(done.sentences),
            )
    yield finished


class _Passes:
    """The result heard once for all that comes out of it, and once more for each spur, stem and bus alone."""

    def __init__(
        self,
        session: Session,
        points: list[Point],
        how: How,
        threads: int | None,
        span_s: tuple[float, float] | None,
    ) -> None:
        self._sound = session.sound
        self._stem = places.result(session.sound)
        self._span: tuple[int, int] | None = None
        if span_s is not None:
            source = self._stem.source
            first, last = (min(source.frames, round(at * source.rate)) for at in span_s)
            if first >= last:
                raise AudioError(said("There is nothing of the recording in this section."))
            self._span = first, last
        self._points, self._how, self._threads = points, how, threads
        self.repaired = 0
        self.guarded: tuple[str, ...] = ()

    def run(self, chain: Chain, sinks: Mapping[Point, Sink]) -> Generator[float, None, None]:
        """Write every point to its sink; yields progress 0 to 1. `chain` is the strip's."""
        own = [point for point in self._points if point.what not in ("spur", "strip")]
        alone = [point for point in self._points if point.what in ("spur", "strip")]
        strip, rate = self._stem.strip, self._stem.source.rate
        tail, count = self._how.tail_s, (1 if own else 0) + len(alone)
        done = 0
        if own:
            frames = self._stem.source.frames
            for share, heard in self._pass(self._stem, chain, own, sinks, tail):
                frames = heard
                yield share / count
            done = 1
            # What is alone is as long as the result, so that all of it adds up.
            tail = max(0, frames - self._stem.source.frames) / rate
            called_so = names_of(strip)
            self.guarded = tuple(called_so[number] for number in chain.guarded)
        for point in alone:
            gains = None
            if point.what == "spur":
                stem = msgspec.structs.replace(self._stem, strip=only(strip, point.spur))
            else:
                stem, gains = places.as_stem(self._sound, point.spur), going_on_gains(self._sound, point.spur)
            for share, _ in self._pass(stem, Chain(stem.strip, rate), [point], sinks, tail, gains):
                yield (done + share) / count
            done += 1

    def _pass(
        self,
        stem: Stem,
        chain: Chain,
        points: list[Point],
        sinks: Mapping[Point, Sink],
        tail: Tail,
        gains: np.ndarray | None = None,
    ) -> Generator[tuple[float, int], None, None]:
        """Progress, and the frames that were heard. What comes out is turned by `gains` (2, 2)."""
        how, heard = self._how, 0
        with open_source(stem.source) as reader:
            rate = reader.facts.rate
            target = how.rate or rate
            frames = reader.facts.frames + frames_of(tail, reader.tail + chain.tail, rate)
            if self._span is not None:
                frames = self._span[1] - self._span[0]
            ways = {point: (_converter(rate, target), _Fader(how, target)) for point in points}

            def put(unprocessed: np.ndarray, processed: np.ndarray, last: bool) -> None:
                for point, (convert, fader) in ways.items():
                    block = fader.process(convert(_heard(point, unprocessed, processed), last), last)
                    if block.shape[1]:
                        sinks[point].write(
                            component(block, point.component)[None] if point.component else block
                        )

            threads = self._threads
            results = rendered(reader, stem.strip, span=self._span, tail=tail, chain=chain, threads=threads)
            with closing(ahead(results)) as pairs:  # computing goes on while writing
                for unprocessed, processed in pairs:
                    if gains is not None:
                        processed = at_gains(processed, gains)
                    heard += processed.shape[1]
                    put(unprocessed, processed, False)
                    yield min(1.0, heard / frames), heard
            put(np.zeros((2, 0)), np.zeros((2, 0)), True)
            self.repaired = max(self.repaired, reader.repaired)
        yield 1.0, heard


def _heard(point: Point, unprocessed: np.ndarray, processed: np.ndarray) -> np.ndarray:
    if point.what in ("unprocessed", "before"):
        return unprocessed
    return processed - unprocessed if point.what == "difference" else processed


class _Fader:
    """Fades a signal in and out by raised cosines, whatever its length: so much as is faded out is held back."""

    def __init__(self, how: How, rate: int) -> None:
        self._in, self._out = round(how.fade_in_s * rate), round(how.fade_out_s * rate)
        self._place = 0
        self._held = np.empty((2, 0))

    def process(self, block: np.ndarray, last: bool) -> np.ndarray:
        """What can be given by now; all of it with the last block."""
        if not self._in and not self._out:
            return block
        if self._place < self._in and block.shape[1]:
            t = np.minimum((np.arange(self._place, self._place + block.shape[1]) + 0.5) / self._in, 1.0)
            block = block * (0.5 - 0.5 * np.cos(np.pi * t))
        self._place += block.shape[1]
        if not self._out:
            return block
        held = np.concatenate([self._held, block], axis=1)
        if last:
            count = min(self._out, held.shape[1])
            t = (np.arange(count)[::-1] + 0.5) / count if count else np.empty(0)
            held[:, held.shape[1] - count :] *= 0.5 - 0.5 * np.cos(np.pi * t)
            return held
        ready = max(0, held.shape[1] - self._out)
        self._held = held[:, ready:]
        return held[:, :ready]


def _refuse_inputs(session: Session, paths: list[Path]) -> None:
    """Raises AudioError if one of the files to write is one that the session is made from, or has no folder."""
    sources = [stem.source for stem in session.sound.stems] + [
        reference.source for reference in session.desk.references
    ]
    for path in paths:
        if not path.absolute().parent.is_dir():
            raise AudioError(said("The folder of “{name}” is not there.").format(name=path.name))
        for source in sources:
            used = Path(source.path)
            if source.generator is None and path.exists() and os.path.exists(used) and path.samefile(used):
                raise AudioError(
                    said("“{name}” is a recording of this session: choose another name.").format(
                        name=path.name
                    )
                )


def _converter(source_rate: int, target_rate: int) -> Callable[[np.ndarray, bool], np.ndarray]:
    if source_rate == target_rate:
        return lambda block, last: block
    import soxr

    stream = soxr.ResampleStream(source_rate, target_rate, 2, dtype="float64", quality="VHQ")
    return lambda block, last: stream.resample_chunk(np.ascontiguousarray(block.T), last=last).T
