"""How one sound differs from another one, in sentences: stems and buses, how they are joined, what their strips do."""

from collections.abc import Iterator
from pathlib import Path

from stonekite.session import tree
from stonekite.session.differences import differences, of_values
from stonekite.session.mix.places import is_one, name_of
from stonekite.session.mix.wires import names
from stonekite.session.types import MIX, Bus, Mix, Sound, Source, Stem
from stonekite.words import clock, said


def untouched(sound: Sound) -> Sound:
    """A sound with the recordings of another one, to which nothing has been done."""
    stems = tuple(Stem(id=stem.id, name=stem.name, source=stem.source) for stem in sound.stems)
    return Sound(stems=stems, tempo=sound.tempo)


def all_differences(old: Sound, new: Sound) -> list[str]:
    """What is different, sentence by sentence; what belongs to one strip of several begins with its name."""
    return list(_all(old, new))


def _all(old: Sound, new: Sound) -> Iterator[str]:
    before = {tree.number_of(one): one for _, one in tree.holders(old)}
    after = {tree.number_of(one): one for _, one in tree.holders(new)}
    plain = is_one(old) and is_one(new)
    for number, gone in before.items():
        if number not in after:
            yield said("“{name}” is gone.").format(name=name_of(gone))
    for number, one in after.items():
        was = before.get(number)
        head = "" if plain and not isinstance(one, Mix) else f"{name_of(one)}: "
        if was is None:
            yield said("“{name}” is new.").format(name=name_of(one))
            was = _like(one)
        changed = differences(was.strip, one.strip, {**names(old), **names(new)})
        for sentence in (*_of_joining(was, one, old, new), *(difference.sentence for difference in changed)):
            yield head + sentence


def _like(one: Stem | Bus | Mix) -> Stem | Bus | Mix:
    """One to which nothing has been done."""
    if isinstance(one, Stem):
        return Stem(id=one.id, name=one.name, source=one.source)
    return Bus(id=one.id, name=one.name) if isinstance(one, Bus) else Mix()


def _of_joining(old: Stem | Bus | Mix, new: Stem | Bus | Mix, there: Sound, here: Sound) -> Iterator[str]:
    if isinstance(old, Mix) or isinstance(new, Mix):
        return
    if old.name != new.name:
        yield said("called “{old}” before").format(old=old.name)
    if isinstance(old, Stem) and isinstance(new, Stem):
        if _recording(old.source) != _recording(new.source):
            yield said("The recording is another one.")
        if old.start_s != new.start_s:
            yield said("begins at {new}, not at {old}").format(old=clock(old.start_s), new=clock(new.start_s))
    yield from of_values(said("in the mix"), old.fader, new.fader)
    if old.into != new.into:
        yield said("goes into {new}, not into {old}").format(
            old=_bus_name(there, old.into), new=_bus_name(here, new.into)
        )
    sent = {send.to: send for send in old.sends}
    for send in new.sends:
        name = said("sent to {bus}").format(bus=_bus_name(here, send.to))
        if send.to not in sent:
            yield f"{name}: {send.level_db:.1f} dB".replace("-", "−")
        elif send != sent[send.to]:
            yield from of_values(name, sent[send.to], send)
    for to in sent.keys() - {send.to for send in new.sends}:
        yield said("not sent to {bus} any more").format(bus=_bus_name(there, to))


def _recording(source: Source) -> object:
    """What tells a recording from another one: it may be known by now how long it is, and where it went."""
    return source.generator or (source.fingerprint or Path(source.path).name, source.channels)


def _bus_name(sound: Sound, number: int) -> str:
    if number == MIX:
        return said("the mix")
    return next((bus.name for bus in sound.buses if bus.id == number), said("a bus that is gone"))
