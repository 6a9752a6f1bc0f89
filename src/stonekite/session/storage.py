"""Saving and loading sessions: JSON with a format number, checked completely before anything is used."""

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from stonekite.files.atomic import replacing
from stonekite.files.audio import shown_name
from stonekite.session import foreign, limits, tree
from stonekite.session.formats import OLDER
from stonekite.session.keeping.finding import Finder
from stonekite.session.mix import wires
from stonekite.session.spur import END, SPLIT
from stonekite.session.timing import retimed
from stonekite.session.types import FORMAT, LONGEST_SIGNAL_S, Desk, Session, Sound, Source, Strip
from stonekite.stages.branch import DEEPEST
from stonekite.words import said

SUFFIX = ".kite"
MAX_BYTES = limits.MAX_BYTES


class SessionError(Exception):
    """A session file cannot be read or written. The text is one sentence for the user."""


class _Head(msgspec.Struct):
    format: msgspec.Raw = msgspec.Raw(b"")


def schema() -> dict[str, Any]:
    """The JSON Schema of a session file."""
    return msgspec.json.schema(Session)


def encode(session: Session) -> bytes:
    """The session as JSON text: readable as long as it is not too long for that."""
    text = foreign.written(msgspec.json.encode(session))
    readable = msgspec.json.format(text, indent=2) + b"\n" if len(text) < MAX_BYTES // 8 else text
    return readable if len(readable) <= MAX_BYTES else text


def decode(text: bytes, name: str = said("The session")) -> Session:
    """A session from JSON text. Raises SessionError naming the place of what is wrong."""
    try:
        head = msgspec.json.decode(text, type=_Head)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        raise SessionError(
            said("{name} is not a session file: {reason}.").format(name=name, reason=_lowered(str(error)))
        ) from None
    try:  # only a short one can be a number: what else may be there is not even looked at
        told = bytes(head.format)
        number = int(told) if len(told) <= 20 else None
    except ValueError:
        number = None
    if number is not None and number > FORMAT:
        raise SessionError(
            said(
                "{name} has format {number}, from a newer Stone Kite; this one reads up to {format}."
            ).format(name=name, number=number, format=FORMAT)
        )
    if number != FORMAT and number not in OLDER:
        raise SessionError(said("{name} has no known format number (at $.format).").format(name=name))
    try:
        try:
            session = _typed(text, number)
        except msgspec.ValidationError:
            if (lenient := foreign.kept(text)) is None:
                raise
            session = _typed(lenient, number)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        raise SessionError(
            said("{name} cannot be used: {reason}.").format(name=name, reason=_lowered(str(error)))
        ) from None
    try:
        session = retimed(session)
        _check(session, name)
    except ValueError as error:  # what types let through, and nothing can be made of
        raise SessionError(
            said("{name} cannot be used: {reason}.").format(
                name=name, reason=_lowered(str(error)).rstrip(".")
            )
        ) from None
    return session


def _typed(text: bytes, number: int | None) -> Session:
    """A session from JSON of a format that is known."""
    if number == FORMAT:
        return msgspec.json.decode(text, type=Session)
    return msgspec.json.decode(text, type=OLDER[number]).upgraded()  # type: ignore[arg-type, index]


_LONGEST = 300
"""Longer words of a decoder, which quotes what it found, are cut."""


def _lowered(sentence: str) -> str:
    short = sentence if len(sentence) <= _LONGEST else f"{sentence[:200]} … {sentence[-80:]}"
    return short[:1].lower() + short[1:]


def _check(session: Session, name: str) -> None:
    """What types cannot say."""
    _check_sound(session.sound, "$.sound", name)
    numbers = [version.number for version in session.versions]
    for k, version in enumerate(session.versions):
        if numbers.count(version.number) > 1:
            raise SessionError(
                said("{name} uses the number {number} twice (at $.versions[{k}].number).").format(
                    name=name, number=version.number, k=k
                )
            )
        _check_sound(version.sound, f"$.versions[{k}].sound", name)
    _check_desk(session.desk, name)


def _check_sound(sound: Sound, place: str, name: str) -> None:
    seen: set[int] = set()
    for path, number in tree.numbers(sound):
        if number in seen:
            raise SessionError(
                said("{name} uses the number {number} twice (at {place}{path}).").format(
                    name=name, number=number, place=place, path=tree.written(path)
                )
            )
        seen.add(number)
    for s, stem in enumerate(sound.stems):
        _check_source(stem.source, f"{place}.stems[{s}].source", name)
    rate = sound.stems[0].source.rate
    for path, one in tree.holders(sound):
        where = f"{place}{tree.written((*path, 'strip'))}"
        _check_strip(one.strip, where, name)
        if sentence := tree.refusal(one.strip, rate):
            raise SessionError(
                said("{name} cannot be used: {value} (at {where}).").format(
                    name=name, value=_lowered(sentence)[:-1], where=where
                )
            )
    if sentence := wires.flaw(sound):
        raise SessionError(
            said("{name} cannot be used: {value} (at {where}).").format(
                name=name, value=_lowered(sentence)[:-1], where=f"{place}.buses"
            )
        )


def _check_strip(strip: Strip, place: str, name: str) -> None:
    count = 0
    for branch in tree.branches(strip):
        where = f"{place}{tree.written(branch.path)}"
        if branch.depth > DEEPEST:
            raise SessionError(
                said("{name} has branches that stand in one another too deep (at {where}).").format(
                    name=name, where=where
                )
            )
        if branch.depth and branch.branch == tree.LEGS_BRANCH:
            raise SessionError(
                said("{name} has a branch without a number (at {where}).").format(name=name, where=where)
            )
        count += len(branch.stages)
        if count > limits.MOST_IN_ALL:
            raise SessionError(
                said("{name} has more than {most_in_all} stages in one strip (at {where}).").format(
                    name=name, most_in_all=limits.MOST_IN_ALL, where=where
                )
            )
    if sentence := limits.excess_of(strip):
        raise SessionError(
            said("{name} cannot be used: {value} (at {where}).").format(
                name=name, value=_lowered(sentence)[:-1], where=place
            )
        )
    ids = [stage.id for stage in strip.stages]
    for k, spur in enumerate(strip.spurs):
        if spur.after not in (*ids, SPLIT, END):
            raise SessionError(
                said("{name} has a spur that leaves after no stage (at {place}.spurs[{k}].after).").format(
                    name=name, place=place, k=k
                )
            )


def _check_source(source: Source, place: str, name: str) -> None:
    if source.generator is not None and source.frames > LONGEST_SIGNAL_S * source.rate:
        raise SessionError(
            said("{name} has a test generator longer than a day (at {place}.frames).").format(
                name=name, place=place
            )
        )
    if source.made is not None:
        raise SessionError(
            said("{name} has strips in place of a recording (at {place}.made).").format(
                name=name, place=place
            )
        )
    if max(source.channels) >= source.channel_count:
        raise SessionError(
            said("{name} asks for a channel that is not there (at {place}.channels).").format(
                name=name, place=place
            )
        )


def _check_desk(desk: Desk, name: str) -> None:
    loops = [("$.desk.loop", desk.loop)]
    for k, reference in enumerate(desk.references):
        loops.append((f"$.desk.references[{k}].loop", reference.loop))
        _check_source(reference.source, f"$.desk.references[{k}].source", name)
    for place, loop in loops:
        if loop is not None and not loop.start_s < loop.end_s:
            raise SessionError(
                said("{name} has a loop that ends before it starts (at {place}).").format(
                    name=name, place=place
                )
            )
    for k, section in enumerate(desk.sections):
        if not section.start_s < section.end_s:
            raise SessionError(
                said("{name} has a section that ends before it starts (at $.desk.sections[{k}]).").format(
                    name=name, k=k
                )
            )
    for k, test in enumerate(desk.blind_tests):
        if len(test.order) != len(test.answers):
            raise SessionError(
                said("{name} has a blind test without an answer (at $.desk.blind_tests[{k}]).").format(
                    name=name, k=k
                )
            )


def load(path: Path) -> Session:
    """Read a session; audio paths become absolute, and moved files are found again where possible.

    A recording that is nowhere to be found stays in the tree with its old path. Raises SessionError.
    """
    name = f"“{shown_name(path)}”"
    try:
        if path.exists() and not path.is_file():  # a device or a pipe has no end
            raise SessionError(said("{name} is not a file.").format(name=name))
        with path.open("rb") as file:
            text = file.read(MAX_BYTES + 1)
        if len(text) > MAX_BYTES:
            raise SessionError(said("{name} is larger than any session file.").format(name=name))
    except OSError as error:
        raise SessionError(
            said("{name} cannot be read: {reason}.").format(
                name=name, reason=_lowered(error.strerror or str(error))
            )
        ) from None
    session = decode(text, name)
    finder = Finder(path.absolute().parent)
    # What is at its place tells where others may have been moved to.
    for source in sources_of(session):
        finder.find(source, search=False)
    return with_sources(session, finder.find)


def sources_of(session: Session) -> list[Source]:
    """All recordings that a session names, each once."""
    sounds = [session.sound, *(version.sound for version in session.versions)]
    found = [stem.source for sound in sounds for stem in sound.stems]
    found += [reference.source for reference in session.desk.references]
    return list(dict.fromkeys(source for source in found if source.generator is None))


def with_sources(session: Session, change: Callable[[Source], Source]) -> Session:
    """A session whose recordings are changed ones."""
    changed: dict[Source, Source] = {}  # the versions have the same ones: they are looked for once

    def of(source: Source) -> Source:
        if source not in changed:
            changed[source] = change(source)
        return changed[source]

    def of_sound(sound: Sound) -> Sound:
        stems = tuple(msgspec.structs.replace(stem, source=of(stem.source)) for stem in sound.stems)
        return msgspec.structs.replace(sound, stems=stems)

    versions = tuple(msgspec.structs.replace(v, sound=of_sound(v.sound)) for v in session.versions)
    references = tuple(msgspec.structs.replace(r, source=of(r.source)) for r in session.desk.references)
    desk = msgspec.structs.replace(session.desk, references=references)
    return msgspec.structs.replace(session, sound=of_sound(session.sound), versions=versions, desk=desk)


def save(session: Session, path: Path) -> None:
    """Write a session, completely or not at all; audio paths become relative. Raises SessionError."""
    folder = path.absolute().parent

    def relative(source: Source) -> Source:
        if source.generator is not None:
            return source
        return msgspec.structs.replace(source, path=Path(os.path.relpath(source.path, folder)).as_posix())

    try:
        text = encode(with_sources(session, relative))
    except UnicodeEncodeError:
        raise SessionError(
            said(
                "“{path}” was not saved: the name of a recording is not UTF-8, which a session cannot hold. "
                "Rename the recording and open it again."
            ).format(path=shown_name(path))
        ) from None
    try:
        with replacing(path) as temporary:
            temporary.write_bytes(text)
    except OSError as error:
        raise SessionError(
            said("“{path}” was not saved: {reason}. The old file is untouched.").format(
                path=shown_name(path), reason=_lowered(error.strerror or str(error))
            )
        ) from None
