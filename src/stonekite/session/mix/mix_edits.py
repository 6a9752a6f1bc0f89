"""Edits of what stands beside one another in a session: stems, buses, and how they are joined."""

from collections.abc import Iterable
from typing import Any, Literal

import msgspec

from stonekite.session import edits, presets, tree
from stonekite.session.mix import wires
from stonekite.session.mix.fader import Fader, Send
from stonekite.session.mix.places import is_there, length_s
from stonekite.session.types import BUSES, HUES, STEMS, Bus, Session, Sound, Source, Split, Stem, Strip
from stonekite.stages.base import Key
from stonekite.stages.compressor import Compressor, CompressorShared, CompressorSide
from stonekite.stages.drive import Drive
from stonekite.stages.echo.settings import Echo
from stonekite.stages.riding import Point, Ride
from stonekite.words import said

Begins = Literal["two compressors", "drive", "echo", "empty"]
BEGINNINGS: dict[Begins, str] = {
    "two compressors": said("Two compressors"),
    "drive": said("Drive"),
    "echo": said("Echo"),
    "empty": said("Nothing"),
}
"""What a parallel bus can begin with."""


def put_in(session: Session, number: int, **changes: Any) -> Session:
    """A session in which a stem or a bus has other values. Raises LookupError."""
    name, k = tree.holder_path(session.sound, number)
    row = list(getattr(session.sound, str(name)))
    row[int(k)] = msgspec.structs.replace(row[int(k)], **changes)
    return _with(session, **{str(name): tuple(row)})


def muted(sound: Sound, number: int) -> Sound:
    """A sound in which a stem or a bus is muted; itself if it has none of that id."""
    there = is_there(sound, number)
    return put_fader(Session(sound=sound), number, "muted", True).sound if there else sound


def put_time(session: Session, number: int, before: Stem | None = None, **times: Any) -> Session:
    """A session in which a stem begins at another time, or with something else of its recording; the lines of what rides
    in its strip go with the recording. They do so from where they were in what it was `before`, so that on the way to and
    fro nothing of them is held to the beginning of the timeline. Raises LookupError."""
    stem: Any = before or tree.holder(session.sound, number)
    later = (
        times.get("start_s", stem.start_s) - stem.start_s - (times.get("from_s", stem.from_s) - stem.from_s)
    )
    strip = tree.with_rides(stem.strip, lambda rides: shifted(rides, later)) if later else stem.strip
    return put_in(session, number, strip=strip, **times)


def shifted(rides: tuple[Ride, ...], seconds: float) -> tuple[Ride, ...]:
    """Rides so much later, or earlier as far as the beginning of the timeline."""

    def moved(point: Point) -> Point:
        return msgspec.structs.replace(point, at_s=max(0.0, point.at_s + seconds), beat=None)

    return tuple(msgspec.structs.replace(ride, points=tuple(map(moved, ride.points))) for ride in rides)


def _with(session: Session, **rows: Any) -> Session:
    return msgspec.structs.replace(session, sound=msgspec.structs.replace(session.sound, **rows))


def put_fader(session: Session, number: int, name: str, value: Any) -> Session:
    """A session in which the fader of a stem or a bus has another value. Raises LookupError."""
    one: Any = tree.holder(session.sound, number)
    return put_in(session, number, fader=msgspec.structs.replace(one.fader, **{name: value}))


def add_stems(session: Session, sources: Iterable[tuple[str, Source]]) -> Session:
    """A session with more stems, by their names and recordings. Raises ValueError if there are too many."""
    stems, number = list(session.sound.stems), tree.next_id(session)
    for name, source in sources:
        stems.append(Stem(id=number, name=name, source=source, hue=(len(stems)) % HUES))
        number += 1
    if len(stems) > STEMS:
        raise ValueError(said("A session holds {most} stems at the most.").format(most=STEMS))
    return tree.counted(_with(session, stems=tuple(stems)))


def add_bus(
    session: Session, name: str, strip: Strip | None = None, fader: Fader | None = None
) -> tuple[Session, int]:
    """A session with one more bus, and its id. Raises ValueError with a sentence if there are as many as there can be."""
    if len(session.sound.buses) >= BUSES:
        raise ValueError(said("A session holds {most} buses at the most.").format(most=BUSES))
    number = tree.next_id(session)
    taken = {one.name for one in wires.going_on(session.sound)}
    called = next(n for n in (name, *(f"{name} {k}" for k in range(2, 200))) if n not in taken)
    own = presets.renumbered_strip(strip or Strip(), number + 1)
    bus = Bus(id=number, name=called, strip=own, fader=fader or Fader())
    return tree.counted(_with(session, buses=(*session.sound.buses, bus))), number


def parallel_bus(session: Session, stems: Iterable[int], begins: Begins) -> tuple[Session, int]:
    """A session with a bus that is fed by some stems and buses besides the mix, not yet to be heard; and its id.

    Its two sides are worked on by themselves, and alike. Raises ValueError with a sentence if there are too many buses.
    """
    stage: Any = None
    if begins == "two compressors":
        side = CompressorSide(threshold_db=-30.0, ratio=2.0, knee_db=6.0, attack_ms=40.0, release_ms=60.0)
        stage = Compressor(id=1, linked=True, upper=side, lower=side, shared=CompressorShared(coupling=0.0))
    elif begins == "drive":
        stage = Drive(id=1)
    elif begins == "echo":
        stage = Echo(id=1)
    stages = () if stage is None else (tree.renumbered(stage, 1)[0],)
    strip = Strip(split=Split(mode="left-right"), stages=stages)
    names = {"two compressors": said("Pair press"), "drive": said("Rough copy"), "echo": said("Long echo")}
    session, number = add_bus(session, names.get(begins, said("Parallel")), strip, Fader(level_db=-24.0))
    for stem in stems:
        session = put_send(session, stem, number, 0.0)
    return session, number


def put_send(
    session: Session, number: int, to: int, level_db: float | None, before: bool | None = None
) -> Session:
    """A session in which a stem or a bus is sent to a bus at another level, or no longer (None). Raises ValueError with a
    sentence where it would hear itself."""
    if level_db is not None and not wires.can_go(session.sound, number, to):
        raise ValueError(said("A bus cannot be sent to what goes into it."))
    one: Any = tree.holder(session.sound, number)
    old = next((send for send in one.sends if send.to == to), None)
    kept = [send for send in one.sends if send.to != to]
    if level_db is not None:
        way = (old is not None and old.before) if before is None else before
        new = Send(to=to, level_db=level_db, before=way)
        kept.insert(one.sends.index(old) if old is not None else len(kept), new)
    return put_in(session, number, sends=tuple(kept))


def put_into(session: Session, number: int, to: int) -> Session:
    """A session in which a stem or a bus goes into another bus, or the mix. Raises ValueError with a sentence where it
    would hear itself."""
    if not wires.can_go(session.sound, number, to):
        raise ValueError(said("A bus cannot go into what goes into it."))
    return put_in(session, number, into=to)


def remove(session: Session, number: int) -> Session:
    """A session without a stem or a bus; what went into a bus goes where that went. Raises ValueError with a sentence for
    the last stem."""
    sound = session.sound
    gone: Any = tree.holder(sound, number)
    if isinstance(gone, Stem):
        if len(sound.stems) == 1:
            raise ValueError(said("This is the only stem: a session has one at least."))
        return unheard(_with(session, stems=tuple(stem for stem in sound.stems if stem.id != number)), number)

    def without(one: Any) -> Any:
        sends = tuple(send for send in one.sends if send.to != number)
        into = gone.into if one.into == number else one.into
        return (
            one
            if (sends, into) == (one.sends, one.into)
            else msgspec.structs.replace(one, sends=sends, into=into)
        )

    buses = tuple(without(bus) for bus in sound.buses if bus.id != number)
    return unheard(_with(session, stems=tuple(map(without, sound.stems)), buses=buses), number)


def unheard(session: Session, number: int) -> Session:
    """A session in which no detector hears a strip of that id, which is gone."""
    sound = tree.with_strips(session.sound, lambda strip: tree.without_keys(strip, number))
    return session if sound is session.sound else msgspec.structs.replace(session, sound=sound)


def put_key(session: Session, strip: int, stage: int, key: Key | None) -> Session:
    """A session in which the detectors of a stage, in the strip of that id, hear another strip, or their own legs (None).
    Raises LookupError, and ValueError with a sentence where strips would hear each other in a circle."""
    if key is not None and not wires.can_go(session.sound, key.strip, strip):
        raise ValueError(said("A strip cannot hear what goes out of it, or itself."))
    place = (*tree.holder_path(session.sound, strip), "strip")
    path, _ = tree.find(tree.at(session.sound, place), stage)
    return edits.put(session, ("sound", *place, *path, "key"), key)


def moved(session: Session, number: int, where: int) -> Session:
    """A session in which a stem stands at another place among stems, or a bus among buses. Raises LookupError."""
    name, _ = tree.holder_path(session.sound, number)
    row = [one for one in getattr(session.sound, str(name)) if one.id != number]
    row.insert(where, tree.holder(session.sound, number))
    return _with(session, **{str(name): tuple(row)})


def fitted(session: Session, number: int, source: Source, speed: float, kept_s: float) -> Session:
    """A session in which a stem has another recording, which is the same one at so many times its speed. What was at
    `kept_s` of the recording stays where it is on the timeline, and what rides goes with what it was drawn over. Raises
    LookupError."""
    stem: Any = tree.holder(session.sound, number)
    there = stem.start_s + kept_s - stem.from_s
    begins = stem.from_s / speed
    start = there - (kept_s / speed - begins)
    length = None if stem.length_s is None else stem.length_s / speed
    if start < 0.0:
        begins, length = begins - start, None if length is None else max(0.01, length + start)
        start = 0.0

    def stretched(rides: tuple[Ride, ...]) -> tuple[Ride, ...]:
        def moved(point: Point) -> Point:
            at_s = max(0.0, there + (point.at_s - there) / speed)
            return point if point.beat is not None else msgspec.structs.replace(point, at_s=at_s)

        return tuple(
            msgspec.structs.replace(ride, points=tuple(sorted(map(moved, ride.points), key=lambda p: p.at_s)))
            for ride in rides
        )

    strip = tree.with_rides(stem.strip, stretched)
    return put_in(session, number, source=source, strip=strip, start_s=start, from_s=begins, length_s=length)


def copied(session: Session, number: int, strip: Strip | None = None, **changes: Any) -> Session:
    """A session with a copy of a stem behind it, with a strip of its own: like it, or another one. Raises ValueError with
    a sentence if there are too many."""
    stem: Any = tree.holder(session.sound, number)
    if len(session.sound.stems) >= STEMS:
        raise ValueError(said("A session holds {most} stems at the most.").format(most=STEMS))
    new = tree.next_id(session)
    strip = presets.renumbered_strip(strip or stem.strip, new + 1)
    stems = list(session.sound.stems)
    stems.insert(stems.index(stem) + 1, msgspec.structs.replace(stem, id=new, strip=strip, **changes))
    return tree.counted(_with(session, stems=tuple(stems)))


def repeated(session: Session, number: int) -> Session:
    """A session in which a stem comes once more, behind its end. Raises ValueError with a sentence."""
    stem: Any = tree.holder(session.sound, number)
    length = length_s(stem)
    strip = tree.with_rides(stem.strip, lambda rides: shifted(rides, length))
    return copied(session, number, strip, start_s=stem.start_s + length)


def split_at(session: Session, number: int, seconds: float) -> Session:
    """A session in which a stem is two from a time of the timeline on. Raises ValueError with a sentence where it is not
    heard then."""
    stem: Any = tree.holder(session.sound, number)
    into = seconds - stem.start_s
    length = length_s(stem)
    if not 0.0 < into < length:
        raise ValueError(said("“{name}” is not heard there.").format(name=stem.name))
    session = copied(session, number, start_s=seconds, from_s=stem.from_s + into, length_s=length - into)
    return put_in(session, number, length_s=into)
