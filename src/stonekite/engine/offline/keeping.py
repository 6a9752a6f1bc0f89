"""What strips sound like is computed beforehand and kept on the disk, under a name that tells all that it depends on."""

import contextlib
import hashlib
import math
import os
import platform
import time
from collections.abc import Collection, Generator
from contextlib import closing
from functools import cache
from importlib.metadata import version
from pathlib import Path

import stonekite
from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.tails import frames_of
from stonekite.engine.offline.render import open_source, rendered
from stonekite.engine.offline.subjects import Subject
from stonekite.files import kept
from stonekite.session.types import Source, Stem
from stonekite.words import said

LEAST_COST = 0.015
"""What takes less of a processor's time than this part of how long it lasts is computed as it is heard."""
COST_S = 0.5, 2.5
"""The part of it in which that is measured, in seconds from the beginning: what was compiled is loaded by then."""
BLOCK = 16384


class NotWorth(ValueError):
    """To compute it costs next to nothing."""


@cache
def _program() -> str:
    """What this program and its libraries are: others may compute otherwise."""
    told = [stonekite.__version__, *(f"{name} {version(name)}" for name in ("numpy", "scipy", "numba"))]
    told.append(platform.node())  # what is kept may be on a disk that machines share
    root = Path(stonekite.__file__).parent
    for path in sorted(root.rglob("*.py")):
        about = path.stat()
        told.append(f"{path.relative_to(root)} {about.st_size} {about.st_mtime_ns}")
    return hashlib.sha256("\n".join(told).encode()).hexdigest()


def _recordings(source: Source) -> list[str]:
    """Of all files that a source is made of, what changes when they do."""
    if source.made is not None:
        return [told for stem in source.made.sound.stems for told in _recordings(stem.source)]
    if source.generator is not None:
        return []
    about = os.stat(source.path)
    return [f"{source.path} {about.st_size} {about.st_mtime_ns} {about.st_ino}"]


def name_of(stem: Stem) -> str:
    """The file that keeps what a stem sounds like: the same name, the same samples. Raises OSError where a recording is
    not there."""
    told = [_program(), Subject(stem.source, stem.strip).identity, *_recordings(stem.source)]
    return hashlib.sha256("\n".join(told).encode()).hexdigest()[:40] + kept.SUFFIX


class _Cost:
    """Measures which part of the time that it lasts it takes to compute something."""

    def __init__(self, rate: float) -> None:
        self._rate = rate
        self._from: tuple[int, float] | None = None
        self._told = False

    def at(self, frames: int) -> float:
        """The cost when so many frames are computed, once as soon as it is known; before and after that infinite."""
        begins, ends = (int(seconds * self._rate) for seconds in COST_S)
        if self._from is None and frames >= begins:
            self._from = frames, time.process_time()
        elif self._from is not None and not self._told and frames >= ends:
            self._told = True
            return (time.process_time() - self._from[1]) * self._rate / (frames - self._from[0])
        return math.inf


def keep(
    stem: Stem, where: Path, in_use: Collection[str], most: int = kept.MOST_BYTES, least: float = LEAST_COST
) -> Generator[float, None, Path]:
    """Have what a stem sounds like in a folder: yields progress 0 to 1 and returns the file, at once if it is there.

    What was used least makes room, but not what is `in_use` (names). Raises NotWorth where it costs too little, NoRoom,
    AudioError, OSError.
    """
    name = name_of(stem)
    path = where / name
    with contextlib.suppress(OSError, ValueError):
        kept.Result(path)
        os.utime(path)  # used now
        return path
    where.mkdir(parents=True, exist_ok=True)
    with open_source(stem.source) as reader:
        rate = reader.facts.rate
        chain = Chain(stem.strip, rate)
        tail = frames_of(None, reader.tail + chain.tail, rate)
        frames = reader.facts.frames + tail
        kept.make_room(where, kept.size_of(frames), in_use, most)
        pairs = rendered(reader, stem.strip, BLOCK, chain=chain, tail=tail / rate)
        cost = _Cost(rate)
        with closing(kept.write(path, (processed for _, processed in pairs), rate, tail)) as written:
            for done in written:
                if cost.at(done) < least:
                    raise NotWorth
                yield done / frames
    if name_of(stem) != name:  # somebody wrote a recording meanwhile
        path.unlink(missing_ok=True)
        raise kept.NoRoom(said("A recording was changed while it was read."))
    return path
