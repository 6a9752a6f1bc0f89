"""A strip over many recordings: which files, what each of them becomes, and what was measured."""

import hashlib
from collections.abc import Generator, Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import NamedTuple, TypeVar

import msgspec
import numpy as np

from stonekite.engine.offline.changes import StageChanges
from stonekite.engine.offline.compare import source_of
from stonekite.engine.offline.export import Exported, told, written
from stonekite.engine.offline.hearing import heard_in_steps
from stonekite.engine.offline.levelling import Levels, levels_of
from stonekite.engine.offline.render import open_source, rendered
from stonekite.files.audio import READABLE, AudioError, Reader, fingerprint
from stonekite.session import edits, presets, tree
from stonekite.session.export_sets import RESULT, ExportSet, SetError, names
from stonekite.session.kept_levels import with_levels
from stonekite.session.mix.places import is_one, name_of
from stonekite.session.storage import load
from stonekite.session.types import Desk, Session, Sound, Source, Stem, Strip
from stonekite.stages.base import Context
from stonekite.stages.registry import kind_of
from stonekite.words import parsed_range, said

_LEARNED_S, _STEP_S = 1.0, 0.25
"""What is learned anew is learned from the quietest stretch of this length; where it is looked for."""


class Learn(msgspec.Struct, frozen=True):
    """Where stages that learned something learn it anew: in the quietest second of each recording, or in a range."""

    start_s: float | None = None
    end_s: float | None = None


class Item(NamedTuple):
    """One recording, and the folder that what is made of it goes to, from the batch's own."""

    path: Path
    below: Path


class Row(msgspec.Struct, frozen=True, kw_only=True):
    """What became of one recording: files that were written, levels before and after, sentences; or why nothing did.
    `kept` tells that it had been written before."""

    path: str
    written: list[str] = []
    before: Levels | None = None
    after: Levels | None = None
    seconds: float = 0.0
    sentences: list[str] = []
    fault: str = ""
    kept: bool = False


def items_of(paths: Sequence[Path], out: Path) -> list[Item]:
    """Recordings of files and folders, those of a folder in the order of their names and with the folders below it; what
    stands in the folder that is written to is none of them."""
    found: list[Item] = []
    own = out.resolve()
    for path in paths:
        if not path.is_dir():
            found.append(Item(path, Path()))
            continue
        for inner in sorted(path.rglob("*")):
            if inner.suffix.lower() not in READABLE or inner.name.startswith("."):
                continue
            if own in inner.resolve().parents and own != path.resolve():
                continue
            found.append(Item(inner, inner.parent.relative_to(path)))
    return list(dict.fromkeys(found))


def session_for(session: Session, path: Path) -> Session:
    """The session's strip on another recording. Raises AudioError."""
    stem = session.sound.stems[0]
    source = source_of(path)
    source = msgspec.structs.replace(source, fingerprint=fingerprint(path))
    other = Stem(id=stem.id, name=path.stem, source=source, strip=stem.strip)
    sound = Sound(stems=(other,), tempo=session.sound.tempo)
    return Session(last_id=session.last_id, sound=sound, desk=Desk())


def only(session: Session, number: int) -> Session:
    """A session that is nothing but one of its strips, by its id; detectors hear their own legs. Raises LookupError."""
    sound = session.sound
    one = tree.holder(sound, number)
    source = one.source if isinstance(one, Stem) else sound.stems[0].source
    stem = Stem(id=sound.stems[0].id, name=name_of(one), source=source, strip=tree.without_keys(one.strip))
    return Session(last_id=session.last_id, sound=Sound(stems=(stem,), tempo=sound.tempo), desk=session.desk)


def strip_of(path: Path, name: str = "") -> Session:
    """The session in a file, with the strip of that name where there are several, or one that is nothing but the strip of
    a preset. Raises SessionError, AudioError."""
    if path.suffix.lower() != presets.SUFFIX:
        session = load(path)
        called = {name_of(one): tree.number_of(one) for _, one in tree.holders(session.sound)}
        if name in called:
            return only(session, called[name])
        if name or not is_one(session.sound):
            raise AudioError(
                said("“{path}” has several strips: say which one. They are called {names}.").format(
                    path=path.name, names=", ".join(called)
                )
            )
        return session
    try:
        preset = presets.load(path)
    except presets.PresetError as error:
        raise AudioError(str(error)) from None
    if preset.strip is None:
        raise AudioError(said("“{name}” is the preset of a stage, not of a strip.").format(name=path.name))
    nothing = Source(path="", rate=48_000, frames=1)
    strip = presets.on_strip(preset, Strip(), 2)
    return tree.counted(
        Session(sound=Sound(stems=(Stem(id=1, name=path.stem, source=nothing, strip=strip),)))
    )


def learn_of(text: str | None) -> Learn | None:
    """What was typed: nothing, quietest, or two times in seconds. Raises ValueError with a sentence."""
    if text is None or text == "quietest":
        return None if text is None else Learn()
    span = parsed_range(text)
    if span is None:
        raise ValueError(said("Type quietest, or two times, such as 0:10 – 0:30."))
    return Learn(*span)


def targets_of(session: Session, chosen: ExportSet, item: Item, out: Path, name: str) -> dict:
    """The files that a set makes of a recording, without looking at it. Raises SetError."""
    stem = session.sound.stems[0]
    source = msgspec.structs.replace(stem.source, path=str(item.path), generator=None)
    other = msgspec.structs.replace(stem, source=source)
    here = msgspec.structs.replace(session, sound=Sound(stems=(other,)))
    return {point: out / item.below / file for point, file in names(chosen, here, name).items()}


def quietest(path: Path) -> tuple[float, float]:
    """The quietest stretch of a recording in seconds, of those that are not silent altogether."""
    with Reader(path) as reader:
        rate = reader.facts.rate
        step = max(1, int(_STEP_S * rate))
        powers = [float(np.mean(block**2)) for block in reader.blocks(step)]
    span = max(1, round(_LEARNED_S / _STEP_S))
    if len(powers) <= span:
        return 0.0, len(powers) * _STEP_S
    sums = np.convolve(powers, np.ones(span), "valid")
    heard = np.where(np.lib.stride_tricks.sliding_window_view(powers, span).min(axis=1) > 1e-14, sums, np.inf)
    best = int(np.argmin(heard)) if np.isfinite(heard).any() else 0
    return best * _STEP_S, (best + span) * _STEP_S


def learned(session: Session, learn: Learn) -> Generator[float, None, Session]:
    """A session whose stages have learned anew what they had learned; yields progress. Raises AudioError, ValueError."""
    numbers = [
        stage.id
        for _, stage in tree.walk(session.sound.stems[0].strip)
        if kind_of(stage).offers.learning is not None and stage.shared.learned is not None  # type: ignore[attr-defined]
    ]
    if not numbers:
        return session
    source = session.sound.stems[0].source
    start_s, end_s = learn.start_s, learn.end_s
    if start_s is None or end_s is None:
        start_s, end_s = quietest(Path(source.path))
    start, frames = int(start_s * source.rate), int((end_s - start_s) * source.rate)
    if start >= source.frames:
        raise ValueError(said("It ends before the range that is to be learned from."))
    for number in numbers:
        stem = session.sound.stems[0]
        legs, _, before = yield from heard_in_steps(stem, number, start, frames)
        path, stage = tree.find(stem.strip, number)
        learning = kind_of(stage).offers.learning
        assert learning is not None
        context = Context(source.rate, stem.strip.split.encoding)
        found = learning.from_sound(legs[:, before:], context, start_s)
        full = ("sound", "stems", 0, "strip", *path)
        session = edits.put(session, full, learning.taken(stage, found))
    return session


def _levels_kept(session: Session) -> Generator[float, None, Session]:
    """A session whose stages keep their level on its recording."""
    stem = session.sound.stems[0]
    if not any(stage.level_kept and stage.inserted for _, stage in tree.walk(stem.strip)):
        return session
    changes, done = StageChanges(stem.strip, stem.source.rate), 0
    with open_source(stem.source) as reader:
        for _, processed in rendered(reader, stem.strip, probe=changes):
            done += processed.shape[1]
            yield min(1.0, done / stem.source.frames)
    return edits.put(session, ("sound", "stems", 0, "strip"), with_levels(stem.strip, changes.loudness()))


def one(
    session: Session,
    item: Item,
    chosen: ExportSet,
    out: Path,
    name: str,
    learn: Learn | None = None,
    *,
    force: bool = False,
) -> Iterator[float | Row]:
    """Make of a recording what a set says; yields progress 0 to 1 and at last its row, which says what went wrong."""
    try:
        if item.path.exists() and not item.path.is_file() and not item.path.is_dir():
            raise AudioError(said("“{name}” is not a file.").format(name=item.path.name))
        here = session_for(session, item.path)
        if learn is not None:
            here = yield from _scaled(learned(here, learn), 0.0, 0.1)
        here = yield from _scaled(_levels_kept(here), 0.1, 0.3)
        targets = targets_of(here, chosen, item, out, name)
        (out / item.below).mkdir(parents=True, exist_ok=True)
        with closing(written(here, targets, chosen, force=force, threads=1)) as steps:  # type: ignore[type-var]
            for step in steps:
                if isinstance(step, Exported):
                    done = step
                else:
                    yield 0.3 + 0.6 * step
        source = here.sound.stems[0].source
        with Reader(item.path, source.channels) as reader:
            before = levels_of(reader.blocks(), source.rate)
        after = done.levels.get(RESULT)
        if after is None and RESULT in targets:
            with Reader(targets[RESULT]) as reader:
                after = levels_of(reader.blocks(), reader.facts.rate)
        yield Row(
            path=str(item.path),
            written=[str(path) for path in done.paths],
            before=before,
            after=after,
            seconds=source.frames / source.rate,
            sentences=told(done),
        )
    except (AudioError, SetError, ValueError) as error:
        yield Row(path=str(item.path), fault=str(error))
    except OSError as error:
        yield Row(path=str(item.path), fault=f"{error.strerror or str(error)}.")


Found = TypeVar("Found")


def _scaled(steps: Generator[float, None, Found], start: float, end: float) -> Generator[float, None, Found]:
    while True:
        try:
            yield start + (end - start) * next(steps)
        except StopIteration as stop:
            return stop.value


def identity(session: Session, chosen: ExportSet, learn: Learn | None) -> str:
    """Equal for batches that make the same of a recording."""
    stem = session.sound.stems[0]
    content = msgspec.msgpack.encode((stem.strip, session.sound.tempo, chosen, learn))
    return hashlib.blake2b(content, digest_size=16).hexdigest()
