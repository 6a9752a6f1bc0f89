"""How the strips of a sound are joined: what goes into which bus, in which order, and what is heard of it."""

from collections.abc import Iterator
from typing import NamedTuple

from stonekite.remembered import Remembered
from stonekite.session import tree
from stonekite.session.mix.fader import Fader, Send
from stonekite.session.types import MIX, Bus, Sound, Stem, Strip
from stonekite.stages.base import keys_in
from stonekite.words import said


class Wire(NamedTuple):
    """From a stem or a bus to a bus or the mix, by their ids; behind its fader unless `send` says otherwise."""

    source: int
    to: int
    fader: Fader
    send: Send | None = None


def going_on(sound: Sound) -> tuple[Stem | Bus, ...]:
    """All strips that go on into another one: stems and buses."""
    return (*sound.stems, *sound.buses)


def names(sound: Sound) -> dict[int, str]:
    """What stems and buses are called, by their ids."""
    return {one.id: one.name for one in going_on(sound)}


def wires(sound: Sound) -> Iterator[Wire]:
    """All wires, stem by stem and bus by bus: the one that each goes on by before those that it is sent by."""
    for one in going_on(sound):
        yield Wire(one.id, one.into, one.fader)
        for send in one.sends:
            yield Wire(one.id, send.to, one.fader, send)


_KEYS = Remembered()


def keys_of(strip: Strip) -> tuple[int, ...]:
    """The ids of the strips that detectors of a strip hear, each once."""
    return _KEYS.of(strip, None, lambda: _keys_of(strip))


def _keys_of(strip: Strip) -> tuple[int, ...]:
    return tuple(dict.fromkeys(key.strip for _, stage in tree.walk(strip) for key in keys_in(stage)))


def keys(sound: Sound) -> dict[int, tuple[int, ...]]:
    """Of each strip that hears others of the sound with detectors the ids of those."""
    return _KEYS.of(sound, None, lambda: _keys(sound))


def _keys(sound: Sound) -> dict[int, tuple[int, ...]]:
    there = {one.id for one in going_on(sound)}
    found = {
        tree.number_of(one): tuple(number for number in keys_of(one.strip) if number in there)
        for _, one in tree.holders(sound)
    }
    return {number: heard for number, heard in found.items() if heard}


_ORDERS, _BEYOND = Remembered(), Remembered()


def order(sound: Sound) -> tuple[int, ...]:
    """The ids of all strips, each behind all that goes into it; the mix is last. Raises ValueError with a sentence where
    wires go round in a circle or lead nowhere."""
    return _ORDERS.of(sound, None, lambda: _ordered(sound))


def _ordered(sound: Sound) -> tuple[int, ...]:
    names = {one.id: one.name for one in going_on(sound)}
    buses = {bus.id for bus in sound.buses}
    into: dict[int, set[int]] = {number: set() for number in (*names, MIX)}
    for wire in wires(sound):
        if wire.to != MIX and wire.to not in buses:
            raise ValueError(
                said("“{name}” goes to a bus that is not there.").format(name=names[wire.source])
            )
        into[wire.to].add(wire.source)
    for number, heard in keys(sound).items():
        into[number].update(heard)
    found: list[int] = []
    left = [*names, MIX]
    while left:
        free = [number for number in left if into[number] <= set(found)]
        if not free:
            round_about = ", ".join(names[number] for number in _circle(into, left))
            keyed = any(number in keys(sound) for number in _circle(into, left))
            words = said("Strips would hear each other in a circle: {names}.")
            if not keyed:
                words = said("Buses would go round in a circle: {names}.")
            raise ValueError(words.format(names=round_about))
        found += [number for number in free if number != MIX]
        left = [number for number in left if number not in free]
    return (*found, MIX)


def _circle(into: dict[int, set[int]], left: list[int]) -> list[int]:
    """Those of some strips that hear themselves, at once or through others."""
    stuck = set(left)
    while gone := {n for n in stuck if not any(n in into[other] for other in stuck)}:
        stuck -= gone
    return [number for number in left if number in stuck]


def flaw(sound: Sound) -> str:
    """Why the strips of a sound cannot be joined as they are, in a sentence; empty if they can."""
    for one in going_on(sound):
        if len({send.to for send in one.sends}) < len(one.sends):
            return said("“{name}” is sent to a bus twice.").format(name=one.name)
        if any(send.to == MIX for send in one.sends):
            return said("“{name}” is sent to the mix: it can only go into it.").format(name=one.name)
    try:
        order(sound)
    except ValueError as error:
        return str(error)
    return ""


def can_go(sound: Sound, source: int, to: int) -> bool:
    """Whether a stem or a bus could go into a bus or the mix, be sent there, or be heard by detectors there: not where it
    hears itself."""
    return source != MIX and (to == MIX or (source != to and source not in _before(sound)[to]))


def _before(sound: Sound) -> dict[int, set[int]]:
    """Of each strip all that it goes into or is a key of, at once or through others; of the mix nothing."""
    return _BEYOND.of(sound, None, lambda: _beyond(sound, keys(sound)))


def _into(sound: Sound) -> dict[int, set[int]]:
    """Of each strip all that it goes into, at once or through others, without keys."""
    return _BEYOND.of(sound, "into", lambda: _beyond(sound, {}))


def _beyond(sound: Sound, heard_by: dict[int, tuple[int, ...]]) -> dict[int, set[int]]:
    to: dict[int, set[int]] = {number: set() for number in order(sound)}
    for wire in wires(sound):
        to[wire.source].add(wire.to)
    for number, heard in heard_by.items():
        for source in heard:
            to[source].add(number)
    beyond: dict[int, set[int]] = {MIX: set()}
    for number in reversed(order(sound)[:-1]):
        beyond[number] = to[number].union(*(beyond[one] for one in to[number]))
    return beyond


def upstream(sound: Sound, of: int) -> set[int]:
    """The ids of all strips that go into one or are keys of it, at once or through others."""
    return {number for number, beyond in _before(sound).items() if of in beyond}


def open_wires(sound: Sound) -> list[Wire]:
    """The wires that anything goes through. Where something is alone, these are the ways through it: from all that it is
    made of to the mix."""
    found = [wire for wire in wires(sound) if not wire.fader.muted]
    alone = {one.id for one in going_on(sound) if one.fader.alone}
    if not alone:
        return found
    beyond = _into(sound)

    def through(wire: Wire) -> bool:
        makes = alone & {wire.to, *beyond[wire.to]}
        made_of = wire.source in alone or any(wire.source in beyond[one] for one in alone)
        return bool(makes) or made_of

    return [wire for wire in found if through(wire)]
