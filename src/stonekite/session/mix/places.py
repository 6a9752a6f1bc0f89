"""What of a session can be open: a stem, a bus or the mix, each looked at as a recording with a strip on one timeline."""

import math

import msgspec

from stonekite.remembered import Remembered
from stonekite.session import tree
from stonekite.session.mix import wires
from stonekite.session.mix.fader import Fader
from stonekite.session.types import MIX, Bus, Made, Mix, Sound, Source, Stem, Strip
from stonekite.words import said


def timeline(sound: Sound) -> tuple[int, int]:
    """The rate of a sound in Hz, that of its first stem, and the frames until the last of its stems ends."""
    rate = sound.stems[0].source.rate
    return rate, max(1, *(sum(part_of(stem, rate)[::2]) for stem in sound.stems))


def part_of(stem: Stem, rate: float) -> tuple[int, int, int]:
    """What of a recording is on a timeline of a rate in Hz: the frame there at which it begins, the frame of the
    recording at that rate with which it does, and for how many it goes on."""
    begins = round(stem.from_s * rate)
    left = max(0, math.ceil(stem.source.frames * rate / stem.source.rate) - begins)
    wanted = left if stem.length_s is None else min(left, round(stem.length_s * rate))
    return round(stem.start_s * rate), begins, wanted


def length_s(stem: Stem) -> float:
    """For how long a stem is heard, in seconds."""
    return part_of(stem, stem.source.rate)[2] / stem.source.rate


def name_of(one: Stem | Bus | Mix) -> str:
    """What a strip is called."""
    return said("Mix") if isinstance(one, Mix) else one.name


def is_there(sound: Sound, number: int) -> bool:
    """Whether a sound has a stem or a bus of that id, or that is the mix."""
    return any(tree.number_of(one) == number for _, one in tree.holders(sound))


def is_stem(sound: Sound, number: int) -> bool:
    """Whether a sound has a stem of that id."""
    return any(stem.id == number for stem in sound.stems)


def is_one(sound: Sound) -> bool:
    """Whether a sound is one recording from its beginning on: then its timeline is the recording itself."""
    stem = sound.stems[0]
    whole = stem.start_s == 0.0 and stem.from_s == 0.0 and stem.length_s is None
    return len(sound.stems) == 1 and not sound.buses and whole


def part_key(stem: Stem) -> tuple[object, ...]:
    """Equal for what goes into a stem at the same time."""
    return stem.source, stem.start_s, stem.from_s, stem.length_s


def feeding(sound: Sound) -> tuple[object, ...]:
    """Equal for sounds whose recordings are the same at the same times."""
    return tuple((stem.id, *part_key(stem)) for stem in sound.stems)


_SEEN = Remembered()


def as_stem(sound: Sound, number: int) -> Stem:
    """What is open, as a stem: its source is what goes into its strip, on the timeline. Raises LookupError."""
    return _SEEN.of(sound, number, lambda: _as_stem(sound, number))


def result(sound: Sound) -> Stem:
    """What a sound comes to, as a stem: the mix, or the one recording that goes through it as it is."""
    stem = sound.stems[0]
    level = stem.fader == Fader(alone=stem.fader.alone)
    return stem if is_one(sound) and level and sound.mix == Mix() else as_stem(sound, MIX)


def _as_stem(sound: Sound, number: int) -> Stem:
    one = tree.holder(sound, number)
    if isinstance(one, Stem) and is_one(sound):
        return one
    like = one.source if isinstance(one, Stem) else sound.stems[0].source
    rate, frames = timeline(sound)
    source = Source(
        path=like.path,
        channels=like.channels if isinstance(one, Stem) else (0, 1),
        channel_count=like.channel_count if isinstance(one, Stem) else 2,
        rate=rate,
        frames=frames,
        made=made_of(sound, number),
    )
    return Stem(id=number, name=name_of(one), source=source, strip=one.strip)


def made_of(sound: Sound, of: int) -> Made:
    """What goes into a strip of a sound: of the sound no more than that needs. What changes nothing of it gives an equal
    value."""
    keys = wires.keys(sound).get(of, ())
    needed = {of} if is_stem(sound, of) and not keys else {of} | wires.upstream(sound, of)

    def kept(one: Stem | Bus) -> Stem | Bus:
        if one.id == of:
            return msgspec.structs.replace(one, strip=Strip(), fader=Fader(), into=MIX, sends=(), hue=None)
        sends = tuple(send for send in one.sends if send.to in needed)
        into = one.into if one.into in needed else MIX
        return msgspec.structs.replace(one, into=into, sends=sends, hue=None)

    stems = tuple(kept(stem) for stem in sound.stems if stem.id in needed) or (kept(sound.stems[0]),)
    buses = tuple(kept(bus) for bus in sound.buses if bus.id in needed)
    return Made(sound=msgspec.structs.replace(sound, stems=stems, buses=buses, mix=Mix()), of=of, keys=keys)
