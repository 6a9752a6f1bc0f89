"""Writing a session's result to files."""

from collections.abc import Iterator
from contextlib import ExitStack, closing
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.tails import Tail, frames_of
from stonekite.engine.offline.ahead import ahead
from stonekite.engine.offline.render import open_source, rendered
from stonekite.files.atomic import Together
from stonekite.files.audio import AudioError, Bits, Facts, Writer
from stonekite.session.differences import names_of
from stonekite.session.types import Session
from stonekite.signal.matrix import component
from stonekite.words import said

Parts = Literal["result", "component", "all"]


@dataclass
class Exported:
    """What was written: the files, samples that did not fit, and damaged samples read as silence. `guarded` are the names
    of stages that their guards have silenced from some place on."""

    paths: list[Path]
    overs: int
    repaired: int
    dithered: bool
    guarded: tuple[str, ...] = ()


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
    stem = session.sound.stems[0]
    split = stem.strip.split
    names = {"result": [], "component": [split.component("upper"), split.component("lower")]}
    names["all"] = names["component"]
    with open_source(stem.source) as reader, Together() as together, ExitStack() as files:
        source = reader.facts
        target_rate = rate or source.rate
        chain = Chain(stem.strip, source.rate)
        lossy = path.suffix.lower() == ".ogg"
        dithered = dither and not lossy and needs_dither(chain, source, bits, rate)
        frames = source.frames + frames_of(tail, chain.tail, source.rate)
        out_frames = frames * target_rate // source.rate
        wanted = [path] if parts in ("result", "all") else []
        wanted += [component_path(path, name) for name in names[parts]]
        _refuse_inputs(session, wanted)

        def writer(where: Path, channels: int) -> Writer:
            return files.enter_context(
                Writer(
                    where,
                    target_rate,
                    channels=channels,
                    bits=bits,
                    dither=dithered,
                    force=force,
                    frames=out_frames,
                    together=together,
                )
            )

        stereo = writer(path, 2) if parts in ("result", "all") else None
        singles = {name: writer(component_path(path, name), 1) for name in names[parts]}
        convert = _converter(source.rate, target_rate)
        done = 0
        with closing(
            ahead(rendered(reader, stem.strip, tail=tail, chain=chain, threads=None))
        ) as results:  # computing goes on while writing
            for _, processed in results:
                done += processed.shape[1]
                _write(stereo, singles, convert(processed, False))
                yield min(1.0, done / frames)
        _write(stereo, singles, convert(np.zeros((2, 0)), True))
        writers = [w for w in (stereo, *singles.values()) if w is not None]
        overs = sum(w.overs for w in writers)
        called = names_of(stem.strip)
        guarded = tuple(called[number] for number in chain.guarded)
        finished = Exported([w.path for w in writers], overs, reader.repaired, dithered, guarded)
    yield finished


def _refuse_inputs(session: Session, paths: list[Path]) -> None:
    """Raises AudioError if one of the files to write is one that the session is made from."""
    sources = [stem.source for stem in session.sound.stems] + [
        reference.source for reference in session.desk.references
    ]
    for path in paths:
        for source in sources:
            used = Path(source.path)
            if source.generator is None and path.exists() and used.exists() and path.samefile(used):
                raise AudioError(
                    said("“{name}” is a recording of this session: choose another name.").format(
                        name=path.name
                    )
                )


def _write(stereo: Writer | None, singles: dict[str, Writer], block: np.ndarray) -> None:
    if stereo is not None:
        stereo.write(block)
    for name, single in singles.items():
        single.write(component(block, name)[None])


def _converter(source_rate: int, target_rate: int):
    if source_rate == target_rate:
        return lambda block, last: block
    import soxr

    stream = soxr.ResampleStream(source_rate, target_rate, 2, dtype="float64", quality="VHQ")
    return lambda block, last: stream.resample_chunk(np.ascontiguousarray(block.T), last=last).T
