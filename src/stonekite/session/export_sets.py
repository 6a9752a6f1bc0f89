"""Export sets: what of a session is written, how, and under which names; kept as files of a user's own."""

import datetime
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Literal, NamedTuple

import msgspec
import platformdirs

from stonekite.files.atomic import replacing
from stonekite.files.audio import LEAST_RATE, MOST_RATE, Bits
from stonekite.session import tree
from stonekite.session.mix import places, wires
from stonekite.session.types import LEGS, Section, Session, Sound
from stonekite.stages.settings import Settings
from stonekite.words import NAMES, said

SUFFIX = ".kiteset"
MAX_BYTES = 65_536
What = Literal["result", "unprocessed", "difference", "before", "after", "spurs", "strips"]
WHATS: dict[What, str] = {
    "result": said("Result"),
    "unprocessed": said("Unprocessed"),
    "difference": said("Difference"),
    "before": said("Components before"),
    "after": said("Components after"),
    "spurs": said("Spurs"),
    "strips": said("Stems and buses"),
}
Format = Literal["wav", "flac", "aiff", "ogg"]
LONGEST_FADE_S = 30.0


class SetError(Exception):
    """An export set cannot be read, written or used. The text is one sentence for the user."""


class Point(NamedTuple):
    """A listening point of what a session comes to: its result or what it was made from, the difference, a component of
    one of these, a spur (its id) as it sounds alone; a stem or a bus (its id) as it goes on, at its level and place."""

    what: Literal["result", "unprocessed", "difference", "before", "after", "spur", "strip"]
    component: str = ""
    spur: int = 0


RESULT = Point("result")


class How(Settings, frozen=True, kw_only=True):
    """How files are written. Levels in dB; without a loudness, a ceiling or a fade the samples are as they come.

    The result is brought to `loudness_lufs`; everything else is turned by as much, so that components and spurs still add
    up to it, but for the unprocessed, which gets as loud as the result where it is `matched`, and so does what is taken
    away in the difference. Nothing is over the ceiling: where both contradict, everything stays softer.
    """

    bits: Bits = "24"
    dither: bool = True
    rate: Annotated[int, msgspec.Meta(ge=LEAST_RATE, le=MOST_RATE)] | None = None
    tail_s: Annotated[float, msgspec.Meta(ge=0, le=60)] | None = None
    fade_in_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_FADE_S)] = 0.0
    fade_out_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_FADE_S)] = 0.0
    loudness_lufs: Annotated[float, msgspec.Meta(ge=-60, le=0)] | None = None
    ceiling_dbtp: Annotated[float, msgspec.Meta(ge=-40, le=0)] | None = None
    matched: bool = False

    @property
    def levelled(self) -> bool:
        """Whether something has to be measured before anything can be written."""
        return self.loudness_lufs is not None or self.ceiling_dbtp is not None or self.matched


class ExportSet(How, frozen=True, kw_only=True):
    """What is written, in which format, under names made by a pattern; under a name of its own."""

    version: Literal[1] = 1
    name: Annotated[str, msgspec.Meta(min_length=1, max_length=60)] = "Result"
    what: Annotated[tuple[What, ...], msgspec.Meta(min_length=1, max_length=len(WHATS))] = ("result",)
    format: Format = "wav"
    pattern: Annotated[str, msgspec.Meta(min_length=1, max_length=200)] = "{recording} {what}"
    sections: bool = False
    """Whether each section is written by itself."""

    @property
    def suffix(self) -> str:
        return f".{self.format}"


SHIPPED: tuple[ExportSet, ...] = (
    ExportSet(name=said("Result, 24 bit")),
    ExportSet(
        name=said("Before and after, equally loud"),
        what=("result", "unprocessed", "difference"),
        matched=True,
        ceiling_dbtp=-1.0,
    ),
    ExportSet(
        name=said("Everything, to go on with elsewhere"),
        what=("result", "unprocessed", "before", "after", "spurs"),
        bits="32f",
    ),
    ExportSet(
        name=said("Stems and buses, from one start"),
        what=("result", "strips"),
        bits="32f",
        pattern="{number} {what}",
    ),
    ExportSet(name=said("To be sent, −16 LUFS"), format="flac", loudness_lufs=-16.0, ceiling_dbtp=-1.0),
)
"""Sets that are there from the start."""


def points_of(sound: Sound, what: Sequence[What]) -> list[Point]:
    """The listening points of a sound that these words name, in the order of WHATS."""
    strip = places.result(sound).strip
    components = [strip.split.component(leg) for leg in LEGS]
    found: list[Point] = []
    for word in WHATS:
        if word not in what:
            continue
        if word in ("before", "after"):
            found += [Point(word, component) for component in components]  # type: ignore[arg-type]
        elif word == "spurs":
            found += [Point("spur", spur=spur.id) for spur in strip.spurs]
        elif word == "strips":
            found += [Point("strip", spur=one.id) for one in wires.going_on(sound)]
        else:
            found.append(Point(word))  # type: ignore[arg-type]
    return found


def called(point: Point, sound: Sound) -> str:
    """The name of a listening point, as a file is called by it."""
    if point.what == "strip":
        return places.name_of(tree.holder(sound, point.spur))
    strip = places.result(sound).strip
    if point.what == "spur":
        return said("spur {name}").format(name=strip.spur(point.spur).name)
    if point.component:
        return {"before": said("{name} before"), "after": said("{name} after")}[point.what].format(
            name=NAMES[point.component].lower()
        )
    return {
        "result": said("result"),
        "unprocessed": said("unprocessed"),
        "difference": said("difference"),
    }[point.what]


FIELDS: dict[str, str] = {
    "recording": said("name of the recording"),
    "session": said("name of the session"),
    "what": said("what it is: result, mid before…"),
    "section": said("name of the section"),
    "date": said("today"),
    "rate": said("sample rate in kHz"),
    "bits": said("sample type"),
    "loudness": said("the loudness aimed at"),
    "number": said("1, 2, 3…"),
    "set": said("name of the set"),
}
"""What a pattern of names can have in braces."""
_FIELD = re.compile(r"\{([^{}]*)\}")
_UNFIT = re.compile(r"[\x00-\x1f/\\]")


def names(
    chosen: ExportSet,
    session: Session,
    session_name: str = "",
    today: datetime.date | None = None,
    section: Section | None = None,
) -> dict[Point, str]:
    """The file names that a set gives, with their suffix, of every point of the open strip, or of a section of it. Raises
    SetError with a sentence where the pattern cannot be used."""
    stem = places.result(session.sound)
    points = points_of(session.sound, chosen.what)
    if not points:
        raise SetError(said("There is nothing to write: this strip has no spurs."))
    rate = chosen.rate or stem.source.rate
    is_file = stem.source.generator is None and stem.source.made is None
    loudness = "" if chosen.loudness_lufs is None else f"{chosen.loudness_lufs:g} LUFS"
    shared = {
        "recording": Path(stem.source.path).stem if is_file else stem.name,
        "session": session_name or stem.name,
        "date": (today or datetime.date.today()).isoformat(),
        "rate": f"{rate / 1000:g} kHz",
        "bits": {"16": "16 bit", "24": "24 bit", "32f": "32 float", "64f": "64 float"}[chosen.bits],
        "loudness": loudness,
        "set": chosen.name,
        "section": "" if section is None else section.name,
    }
    found: dict[Point, str] = {}
    for number, point in enumerate(points, start=1):
        given = {**shared, "what": called(point, session.sound), "number": str(number)}
        found[point] = _filled(chosen.pattern, given) + chosen.suffix
    if len({name.casefold() for name in found.values()}) < len(found):
        raise SetError(
            said("Several files would have the same name: put {what} or {number} into the pattern.")
        )
    return found


def parts_of(
    chosen: ExportSet, session: Session, session_name: str = ""
) -> list[tuple[Section | None, dict[Point, str]]]:
    """What a set writes: all of the recording, or each section, with the names of its files. Raises SetError with a
    sentence, also where two files would have one name."""
    if not chosen.sections:
        return [(None, names(chosen, session, session_name))]
    if not session.desk.sections:
        raise SetError(said("There are no sections to write: name a range of the timeline first."))
    made: list[tuple[Section | None, dict[Point, str]]] = [
        (section, names(chosen, session, session_name, section=section)) for section in session.desk.sections
    ]
    every = [name.casefold() for _, files in made for name in files.values()]
    if len(set(every)) < len(every):
        raise SetError(said("Several sections would have the same name: put {section} into the pattern."))
    return made


def _filled(pattern: str, given: Mapping[str, str]) -> str:
    for field in _FIELD.findall(pattern):
        if field not in given:
            raise SetError(
                said("A name cannot have {{{field}}}; there are: {known}.").format(
                    field=field[:40], known=", ".join(f"{{{name}}}" for name in given)
                )
            )
    name = _FIELD.sub(lambda match: given[match[1]], pattern)
    name = " ".join(_UNFIT.sub("-", name).split()).strip(". ")
    if not name:
        raise SetError(said("The pattern gives no name."))
    while len(name.encode(errors="surrogateescape")) > 200:
        name = name[:-1]
    return name


def user_folder() -> Path:
    """Where a user's own sets are."""
    return Path(platformdirs.user_data_dir("stonekite")) / "export sets"


def decode(text: bytes, name: str) -> ExportSet:
    """A set from JSON. Raises SetError naming the place of what is wrong."""
    try:
        return msgspec.json.decode(text, type=ExportSet)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        reason = str(error)
        raise SetError(
            said("“{name}” is not an export set: {reason}.").format(
                name=name, reason=reason[:1].lower() + reason[1:]
            )
        ) from None


def load(path: Path) -> ExportSet:
    """Read a set. Raises SetError."""
    try:
        if not path.is_file():
            raise SetError(said("“{name}” is not a file.").format(name=path.name))
        if path.stat().st_size > MAX_BYTES:
            raise SetError(said("“{name}” is larger than any export set.").format(name=path.name))
        return decode(path.read_bytes(), path.name)
    except OSError as error:
        raise SetError(
            said("“{name}” cannot be read: {reason}.").format(
                name=path.name, reason=(error.strerror or str(error)).lower()
            )
        ) from None


def path_for(name: str, folder: Path) -> Path:
    """The file in a folder that a set of this name is kept in."""
    plain = re.sub(r"[^\w-]+", "-", name.strip().lower()).strip("-") or "set"
    return folder / f"{plain}{SUFFIX}"


def save(chosen: ExportSet, folder: Path) -> Path:
    """Keep a set in a folder under its name. Raises SetError."""
    path = path_for(chosen.name, folder)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with replacing(path) as temporary:
            temporary.write_bytes(msgspec.json.format(msgspec.json.encode(chosen), indent=2) + b"\n")
    except OSError as error:
        raise SetError(
            said("“{name}” was not kept: {reason}.").format(
                name=chosen.name, reason=(error.strerror or str(error)).lower()
            )
        ) from None
    return path


def own(folder: Path) -> tuple[list[ExportSet], list[str]]:
    """The sets of a folder by name, and a sentence about each file that is none."""
    found, faults = [], []
    for path in sorted(folder.glob(f"*{SUFFIX}")):
        try:
            found.append(load(path))
        except SetError as error:
            faults.append(str(error))
    return found, faults


def find(wanted: str | None, folder: Path | None = None) -> ExportSet:
    """The set in a file, or the one of that name among a user's own and those that ship; without a name the first of
    these. Raises SetError.
    """
    if wanted is None:
        return SHIPPED[0]
    if wanted.endswith(SUFFIX) or Path(wanted).is_file():
        return load(Path(wanted))
    kept, _ = own(folder or user_folder())
    for one in (*kept, *SHIPPED):
        if one.name.casefold() == wanted.casefold():
            return one
    raise SetError(
        said("There is no export set “{name}”; there are: {known}.").format(
            name=wanted[:80], known=", ".join(f"“{one.name}”" for one in (*kept, *SHIPPED))
        )
    )
