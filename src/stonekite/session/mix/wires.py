"""How the strips of a sound are joined: what goes into which bus, in which order, and what is heard of it."""

from collections.abc import Iterator
from typing import NamedTuple

from stonekite.remembered import Remembered
from stonekite.session.mix.fader import Fader, Send
from stonekite.session.types import MIX, Bus, Sound, Stem
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


def wires(sound: Sound) -> Iterator[Wire]:
    """All wires, stem by stem and bus by bus: the one that each goes on by before those that it is sent by."""
    for one in going_on(sound):
        yield Wire(one.id, one.into, one.fader)
        for send in one.sends:
            yield Wire(one.id, send.to, one.fader, send)


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
    found: list[int] = []
    left = [*names, MIX]
    while left:
        free = [number for number in left if into[number] <= set(found)]
        if not free:
            round_about = [names[number] for number in left if number in buses]
            raise ValueError(
                said("Buses would go round in a circle: {names}.").format(names=", ".join(round_about))
            )
        found += [number for number in free if number != MIX]
        left = [number for number in left if number not in free]
    return (*found, MIX)


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
    """Whether a stem or a bus could go into a bus or the mix, or be sent there: not where it hears itself."""
    return to == MIX or (source != to and source not in _before(sound)[to])


def _before(sound: Sound) -> dict[int, set[int]]:
    """Of each strip all that it goes into, at once or through others; of the mix nothing."""
    return _BEYOND.of(sound, None, lambda: _beyond(sound))


def _beyond(sound: Sound) -> dict[int, set[int]]:
    to: dict[int, set[int]] = {number: set() for number in order(sound)}
    for wire in wires(sound):
        to[wire.source].add(wire.to)
    beyond: dict[int, set[int]] = {MIX: set()}
    for number in reversed(order(sound)[:-1]):
        beyond[number] = to[number].union(*(beyond[one] for one in to[number]))
    return beyond


def upstream(sound: Sound, of: int) -> set[int]:
    """The ids of all strips that go into one, at once or through others."""
    return {number for number, beyond in _before(sound).items() if of in beyond}


def open_wires(sound: Sound) -> list[Wire]:
    """The wires that anything goes through. Where something is alone, these are the ways through it: from all that it is
    made of to the mix."""
    found = [wire for wire in wires(sound) if not wire.fader.muted]
    alone = {one.id for one in going_on(sound) if one.fader.alone}
    if not alone:
        return found
    beyond = _before(sound)

    def through(wire: Wire) -> bool:
        makes = alone & {wire.to, *beyond[wire.to]}
        made_of = wire.source in alone or any(wire.source in beyond[one] for one in alone)
        return bool(makes) or made_of

    return [wire for wire in found if through(wire)]
