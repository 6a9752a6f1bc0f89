"""Times that are given as notes: what they are at the tempo of the session."""

from functools import cache, partial
from typing import Any, get_type_hints

import msgspec

from stonekite import notes
from stonekite.remembered import Remembered
from stonekite.session import tree
from stonekite.session.types import LEGS, Session, Sound, Strip, Tempo
from stonekite.stages.base import Stage
from stonekite.stages.describe import structs_in
from stonekite.stages.registry import kind_called
from stonekite.stages.riding import Point, Ride
from stonekite.stages.settings import settings_of


def retimed(session: Session) -> Session:
    """A session in which all that is given by a note is what that note is, each version at its own tempo.

    What is right already is the same object.
    """
    sound = _of_sound(session.sound)
    versions = tuple(
        version if (kept := _of_sound(version.sound)) is version.sound
        else msgspec.structs.replace(version, sound=kept)
        for version in session.versions
    )  # fmt: skip
    if sound is session.sound and all(a is b for a, b in zip(versions, session.versions, strict=True)):
        return session
    return msgspec.structs.replace(session, sound=sound, versions=versions)


_TIMED = Remembered()


def _of_sound(sound: Sound) -> Sound:
    """A sound at its tempo. One that was right is not looked at again."""
    return _TIMED.turned(sound, None, lambda: _retimed_sound(sound))


def _retimed_sound(sound: Sound) -> Sound:
    return tree.with_strips(sound, lambda strip: at_tempo(strip, sound.tempo))


def at_tempo(strip: Strip, tempo: Tempo) -> Strip:
    """A strip in which all that is given by a note or stays at a beat is what it is at a tempo. What was right is not
    looked at again."""
    return _TIMED.turned(strip, (tempo.bpm, tempo.first_beat_s), lambda: _at_tempo(strip, tempo))


def _at_beats(rides: tuple[Ride, ...], tempo: Tempo) -> tuple[Ride, ...]:
    """Rides whose points are at their beats, in the order of time. What was right is the same object."""
    made = tuple(
        _TIMED.turned(ride, (tempo.bpm, tempo.first_beat_s), partial(_ride_at_beats, ride, tempo))
        for ride in rides
    )
    return rides if all(a is b for a, b in zip(made, rides, strict=True)) else made


def _ride_at_beats(ride: Ride, tempo: Tempo) -> Ride:
    def placed(point: Point) -> Point:
        if point.beat is None:
            return point
        at_s = max(0.0, time_of(tempo, point.beat))
        return point if abs(at_s - point.at_s) < 1e-9 else msgspec.structs.replace(point, at_s=at_s)

    points = tuple(placed(point) for point in ride.points)
    if all(a is b for a, b in zip(points, ride.points, strict=True)):
        return ride
    return msgspec.structs.replace(ride, points=tuple(sorted(points, key=lambda point: point.at_s)))


def _at_tempo(strip: Strip, tempo: Tempo) -> Strip:
    stages = _in_row(strip.stages, tempo.bpm)
    spurs = tuple(
        spur if (inner := _in_row(spur.branch.stages, tempo.bpm)) is spur.branch.stages
        else msgspec.structs.replace(spur, branch=msgspec.structs.replace(spur.branch, stages=inner))
        for spur in strip.spurs
    )  # fmt: skip
    if stages is not strip.stages or any(a is not b for a, b in zip(spurs, strip.spurs, strict=True)):
        strip = msgspec.structs.replace(strip, stages=stages, spurs=spurs)
    legs = {
        name: made for name in LEGS if (made := _of_struct(strip.leg(name), tempo.bpm)) is not strip.leg(name)
    }
    if legs:
        strip = msgspec.structs.replace(strip, **legs)
    if any(point.beat is not None for ride in tree.rides_of(strip) for point in ride.points):
        return tree.with_rides(strip, lambda rides: _at_beats(rides, tempo))
    return strip


def _in_row(stages: tuple[Stage, ...], bpm: float) -> tuple[Stage, ...]:
    made = tuple(of_stage(stage, bpm) for stage in stages)
    return stages if all(a is b for a, b in zip(made, stages, strict=True)) else made


def of_stage(stage: Any, bpm: float) -> Any:
    """A stage in which all that is given by a note, and in its branches, is what it is at so many beats a minute."""
    changed: dict[str, Any] = {}
    if _has_notes(str(stage.__struct_config__.tag)):
        for name in ("upper", "lower", "shared"):
            now = getattr(stage, name, None)
            if now is not None and (made := _of_struct(now, bpm)) is not now:
                changed[name] = made
    branches = getattr(stage, "branches", ())
    inner = tuple(
        branch if (row := _in_row(branch.stages, bpm)) is branch.stages
        else msgspec.structs.replace(branch, stages=row)
        for branch in branches
    )  # fmt: skip
    if any(a is not b for a, b in zip(inner, branches, strict=True)):
        changed["branches"] = inner
    return msgspec.structs.replace(stage, **changed) if changed else stage


def _of_struct(values: Any, bpm: float) -> Any:
    changed: dict[str, Any] = {}
    for name, setting in settings_of(type(values)).items():
        if setting.note and (note := getattr(values, setting.note)):
            wanted = setting.of_note(note, bpm)
            if wanted != getattr(values, name):
                changed[name] = wanted
    for name in type(values).__struct_fields__:
        rows = getattr(values, name)
        if (
            name != "rides"
            and isinstance(rows, tuple)
            and any(isinstance(row, msgspec.Struct) for row in rows)
        ):
            made = tuple(_of_struct(row, bpm) if isinstance(row, msgspec.Struct) else row for row in rows)
            if any(a is not b for a, b in zip(made, rows, strict=True)):
                changed[name] = made
    return msgspec.structs.replace(values, **changed) if changed else values


@cache
def _has_notes(tag: str) -> bool:
    """Whether stages of the kind with a tag have settings that can be given by a note."""
    kind = kind_called(tag)
    found: list[type[msgspec.Struct]] = [kind.side]
    shared = get_type_hints(kind.stage).get("shared")
    if shared is not None:
        found.append(shared)
        found += [row for hint in get_type_hints(shared).values() for row in structs_in(hint)]
    return any(setting.note for struct in found for setting in settings_of(struct).values())


def moved_note(note: str, old: str, new: str) -> str:
    """Where a note goes when a linked partner goes from one note to another: they keep their ratio."""
    if not note or not old:
        return new
    return notes.named(max(0.01, notes.beats(note) * notes.beats(new) / notes.beats(old)))


def beat_at(tempo: Tempo, seconds: float) -> float:
    """Which beat, counted from the first one as 0, a time is at."""
    return (seconds - tempo.first_beat_s) * tempo.bpm / 60.0


def time_of(tempo: Tempo, beat: float) -> float:
    """When a beat is, counted from the first one as 0."""
    return tempo.first_beat_s + beat * 60.0 / tempo.bpm


def beat_exactly_at(tempo: Tempo, seconds: float) -> float | None:
    """The beat that stands at a time, to a tenth of a millisecond; None if there is none, or no tempo is known."""
    beat = round(beat_at(tempo, seconds))
    return float(beat) if tempo != Tempo() and abs(time_of(tempo, beat) - seconds) < 1e-4 else None


def nearest_beat(tempo: Tempo, seconds: float) -> float:
    """The time of the beat that is nearest to a time, not before 0."""
    length = 60.0 / tempo.bpm
    found = tempo.first_beat_s + round(beat_at(tempo, seconds)) * length
    return found if found >= 0.0 else found + length


def by_notes(stage: Any) -> Any:
    """A new stage whose times in ms are given by the notes that they are at the usual tempo, to follow another one."""
    for leg in LEGS:
        side = getattr(stage, leg)
        for name, setting in {} if side is None else settings_of(type(side)).items():
            if setting.note and setting.unit == "ms" and not getattr(side, setting.note):
                length = notes.named(getattr(side, name) / 1000.0 * Tempo().bpm / 60.0)
                if length in notes.names():
                    side = msgspec.structs.replace(side, **{setting.note: length})
        stage = msgspec.structs.replace(stage, **{leg: side})
    return stage
