"""The session of the demo *reel*: five stems, a bus for the tune, and one with two compressors beside the mix."""

import msgspec

from stonekite.demos.demo import demo_path
from stonekite.demos.reel import BPM, FIRST_BEAT_S, NAMES, VOICES_FROM_BAR
from stonekite.desktop.model.document import session_of
from stonekite.session import tree
from stonekite.session.mix import mix_edits
from stonekite.session.mix.fader import Fader
from stonekite.session.types import (
    Desk,
    Leg,
    Section,
    Session,
    Sound,
    Split,
    Stem,
    Strip,
    Tempo,
)
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.riding import Point, Ride
from stonekite.words import said

_BEAT = 60.0 / BPM
_PART = VOICES_FROM_BAR * 4 * _BEAT


def _strips() -> dict[str, Strip]:
    """What is done to each stem."""
    clear = EqSide(
        bands=(
            Band(shape="high-pass", frequency_hz=130.0),
            Band(frequency_hz=2400.0, gain_db=2.5, q=0.8),
        )
    )
    held = CompressorSide(threshold_db=-28.0, ratio=2.5, attack_ms=12.0, release_ms=160.0)
    thin = EqSide(bands=(Band(frequency_hz=320.0, gain_db=-3.0, q=0.9),))
    air = EqSide(bands=(Band(shape="high-shelf", frequency_hz=5000.0, gain_db=3.0),))
    low = EqSide(bands=(Band(shape="high-pass", frequency_hz=90.0),))
    # In the second part the accordion makes room for the voices.
    points = (Point(at_s=_PART - 1.0, value=0.0), Point(at_s=_PART + 0.5, value=-3.5))
    room = Leg(rides=(Ride(path="level_db", points=points),))
    return {
        "voices": Strip(
            stages=(Eq(id=101, upper=clear, lower=air), Compressor(id=102, upper=held, lower=held))
        ),
        "accordion": Strip(
            split=Split(mode="left-right"),
            stages=(Eq(id=111, upper=thin, lower=thin),),
            upper=room,
            lower=room,
        ),
        "dulcimer": Strip(stages=(Eq(id=121, upper=low, lower=air),)),
        "tuba": Strip(),
        "frame drums": Strip(split=Split(mode="left-right")),
    }


def reel_session() -> Session:
    """Voices, accordion, dulcimer, tuba and frame drums; all but the last two also feed two compressors."""
    levels = {"voices": -1.0, "accordion": -5.0, "dulcimer": -4.0, "tuba": -3.0, "frame drums": -4.5}
    places = {"accordion": -20.0, "dulcimer": 15.0}
    strips = _strips()
    stems = []
    for k, name in enumerate(NAMES):
        source = session_of(demo_path(name))[0].sound.stems[0].source
        short = name.removeprefix("reel ")
        stems.append(
            Stem(
                id=k + 1,
                name=short.capitalize(),
                source=source,
                strip=strips[short],
                start_s=_PART if short == "voices" else 0.0,
                fader=Fader(level_db=levels[short], place=places.get(short, 0.0)),
                hue=2 * k,
            )
        )
    tempo = Tempo(bpm=BPM, first_beat_s=FIRST_BEAT_S)
    session = tree.counted(Session(sound=Sound(stems=tuple(stems), tempo=tempo)))
    session, tune = mix_edits.add_bus(session, said("Tune"))
    for number in (2, 3):
        session = mix_edits.put_into(session, number, tune)
    session, press = mix_edits.parallel_bus(session, (1, 2, 3), "two compressors")
    session = mix_edits.put_fader(session, press, "level_db", -14.0)
    sections = (
        Section(name=said("Tune"), start_s=0.0, end_s=round(_PART, 2)),
        Section(name=said("Song"), start_s=round(_PART, 2), end_s=round(2 * _PART, 2)),
    )
    return msgspec.structs.replace(session, desk=Desk(sections=sections))
