"""A session: one immutable tree of typed values."""

from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec

from stonekite.files.audio import LEAST_RATE, MOST_CHANNELS, MOST_FRAMES, MOST_RATE
from stonekite.notes import FASTEST_BPM, SLOWEST_BPM
from stonekite.session.ends import (  # noqa: F401  (all that a session holds is found here)
    SIDES,
    Intake,
    IntakeSide,
    Leg,
    OneComponent,
    Output,
    Place,
    SideName,
    Split,
)
from stonekite.session.grips import Grips
from stonekite.session.mix.fader import Fader, Send
from stonekite.session.spur import SPURS, Spur
from stonekite.stages.base import HIGHEST_ID, LEGS, Identity, LegName  # noqa: F401
from stonekite.stages.branch import MOST_STAGES
from stonekite.stages.registry import AnyStage as _AnyStage
from stonekite.stages.settings import Settings, choice, number
from stonekite.words import said

FORMAT: Literal[3] = 3

if TYPE_CHECKING:
    AnyStage = Any
else:
    AnyStage = _AnyStage


class Strip(Settings, frozen=True, kw_only=True):
    """Intake, split, stages, spurs, legs, join and output of one stem."""

    intake: Intake = Intake()
    split: Split = Split()
    stages: Annotated[tuple[AnyStage, ...], msgspec.Meta(max_length=MOST_STAGES)] = ()
    spurs: Annotated[tuple[Spur, ...], msgspec.Meta(max_length=SPURS)] = ()
    upper: Leg = Leg()
    lower: Leg = Leg()
    output: Output = Output()
    grips: Grips = ()

    def leg(self, name: LegName) -> Leg:
        return self.upper if name == "upper" else self.lower

    def spur(self, number: int) -> Spur:
        """The spur of that id. Raises LookupError if there is none."""
        for spur in self.spurs:
            if spur.id == number:
                return spur
        raise LookupError(f"no spur has number {number}")


def anything_alone(strip: Strip) -> bool:
    """Whether a leg or a spur is listened to alone."""
    return strip.upper.alone or strip.lower.alone or any(spur.alone for spur in strip.spurs)


class Generator(Settings, frozen=True, kw_only=True):
    """A test signal in place of a recording."""

    signal: Annotated[
        Literal["twin-tones", "sweep", "pink-noise", "impulses"],
        choice(
            "Signal",
            {
                "twin-tones": "Twin tones",
                "sweep": "Sweep",
                "pink-noise": "Pink noise",
                "impulses": "Impulses",
            },
            help="What is generated",
        ),
    ] = "twin-tones"
    level_db: Annotated[
        float, number("Level", "dB", -80.0, 0.0, step=1.0, help="Level of the greatest sample")
    ] = -18.0
    tone_hz: Annotated[
        float,
        number("Left tone", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Frequency on the left"),
    ] = 440.0
    interval: Annotated[
        float,
        number("Right by", "st", -48.0, 48.0, step=1.0, help="Semitones from the left tone to the right one"),
    ] = 7.0
    low_hz: Annotated[
        float,
        number("From", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Where the sweep begins"),
    ] = 20.0
    high_hz: Annotated[
        float,
        number("To", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Where the sweep ends"),
    ] = 20000.0
    correlation: Annotated[
        float, number("Correlation", "", -1.0, 1.0, step=0.05, help="How much both sides have in common")
    ] = 0.5
    seconds: Annotated[
        float, number("Period", "s", 0.05, 30.0, taper="log", step=1 / 4, help="Time until it begins again")
    ] = 2.0


USED_BY_SIGNAL = {
    "twin-tones": ("level_db", "tone_hz", "interval"),
    "sweep": ("level_db", "low_hz", "high_hz", "seconds"),
    "pink-noise": ("level_db", "correlation"),
    "impulses": ("level_db", "seconds"),
}
"""The settings that each of the generator's signals has."""


class Source(Settings, frozen=True, kw_only=True):
    """A recording: where it is and what was found there; or, in its place, a test generator.

    `channels` are the two channels used (counted from 0; twice the same for mono), `fingerprint` tells the
    file again when it was moved. With a generator the path only names it, and so it does where the sound is `made` by
    other strips, which is never saved.
    """

    path: Annotated[str, msgspec.Meta(max_length=4096)]
    channels: tuple[Annotated[int, msgspec.Meta(ge=0)], Annotated[int, msgspec.Meta(ge=0)]] = (0, 1)
    channel_count: Annotated[int, msgspec.Meta(ge=1, le=MOST_CHANNELS)] = 2
    rate: Annotated[int, msgspec.Meta(ge=LEAST_RATE, le=MOST_RATE)]
    frames: Annotated[int, msgspec.Meta(ge=1, le=MOST_FRAMES)]
    fingerprint: Annotated[str, msgspec.Meta(max_length=200)] = ""
    generator: Generator | None = None
    made: "Made | None" = None


VERSIONS, REFERENCES = 9, 6
LONGEST_S = float(MOST_FRAMES // LEAST_RATE)
"""No time in a session is later."""
LONGEST_SIGNAL_S = 24 * 3600
"""A test generator plays so long at the most."""


STEMS, BUSES, SENDS = 128, 32, 33
MIX = 0
"""In the place of a bus's id: the mix."""
HUES = 12
Name = Annotated[str, msgspec.Meta(max_length=1000)]
Sends = Annotated[tuple[Send, ...], msgspec.Meta(max_length=SENDS)]
Into = Annotated[int, msgspec.Meta(ge=MIX, le=HIGHEST_ID)]
Hue = Annotated[int, msgspec.Meta(ge=0, lt=HUES)] | None


class Stem(Settings, frozen=True, kw_only=True):
    """One recording in the session, with its strip. It begins at `start_s` of the timeline, with what is at `from_s` of
    the recording, for `length_s` or to its end; it goes `into` a bus or the mix, and is sent to others besides."""

    id: Identity
    name: Name
    source: Source
    strip: Strip = Strip()
    start_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)] = 0.0
    from_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)] = 0.0
    length_s: Annotated[float, msgspec.Meta(gt=0, le=LONGEST_S)] | None = None
    fader: Fader = Fader()
    into: Into = MIX
    sends: Sends = ()
    hue: Hue = None


class Bus(Settings, frozen=True, kw_only=True):
    """A strip that works on the sum of what goes into it and of what is sent to it."""

    id: Identity
    name: Name
    strip: Strip = Strip()
    fader: Fader = Fader()
    into: Into = MIX
    sends: Sends = ()
    hue: Hue = None


class Mix(Settings, frozen=True, kw_only=True):
    """The strip at the end of all: what comes out of it is the result."""

    strip: Strip = Strip()


class Loop(Settings, frozen=True, kw_only=True):
    """A range of the timeline that playing repeats, in seconds."""

    start_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)]
    end_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)]


SECTIONS = 200


class Section(Settings, frozen=True, kw_only=True):
    """A named range of the timeline, in seconds: a verse, a chorus, a take."""

    name: Annotated[str, msgspec.Meta(min_length=1, max_length=60)]
    start_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)]
    end_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)]


class Tempo(Settings, frozen=True, kw_only=True):
    """How fast the music goes, and where its first beat is. A beat is a quarter note."""

    bpm: Annotated[
        float,
        number(
            "Tempo",
            "BPM",
            SLOWEST_BPM,
            FASTEST_BPM,
            step=1.0,
            decimals=2,
            help="Beats in a minute: times that are given as notes follow it",
        ),
    ] = 120.0
    first_beat_s: Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)] = 0.0
    beats: Annotated[int, msgspec.Meta(ge=1, le=16)] = 4
    """Of a bar."""


class Sound(Settings, frozen=True, kw_only=True):
    """All that makes the sound: what undo goes through, what versions keep and what is rendered."""

    stems: Annotated[tuple[Stem, ...], msgspec.Meta(min_length=1, max_length=STEMS)]
    buses: Annotated[tuple[Bus, ...], msgspec.Meta(max_length=BUSES)] = ()
    mix: Mix = Mix()
    tempo: Tempo = Tempo()


class Made(Settings, frozen=True, kw_only=True):
    """What goes into the strip of a bus, of the mix, or of a stem whose detectors hear other strips, the `keys`: in place
    of a recording."""

    sound: Sound
    of: Into
    keys: Annotated[tuple[Into, ...], msgspec.Meta(max_length=STEMS + BUSES)] = ()


class Version(Settings, frozen=True, kw_only=True):
    """A kept state of the sound, under the number of the key that switches to it."""

    number: Annotated[int, msgspec.Meta(ge=1, le=VERSIONS)]
    note: Annotated[str, msgspec.Meta(max_length=400)] = ""
    sound: Sound

    @property
    def name(self) -> str:
        return said("Version {number}").format(number=self.number)


class Reference(Settings, frozen=True, kw_only=True):
    """A finished recording to compare with, looping in a range of its own; without one all of it."""

    name: Annotated[str, msgspec.Meta(min_length=1, max_length=200)]
    source: Source
    loop: Loop | None = None


class BlindTest(Settings, frozen=True, kw_only=True):
    """The result of a blind test. Of ABX trials `right` were told correctly; of a preference the first was preferred
    `right` times. `order` has for each trial which one was hidden (0 or 1), `answers` which one was named.
    """

    kind: Literal["abx", "preference"]
    first: Annotated[str, msgspec.Meta(max_length=200)]
    second: Annotated[str, msgspec.Meta(max_length=200)]
    when: Annotated[str, msgspec.Meta(max_length=40)] = ""
    planned: Annotated[int, msgspec.Meta(ge=1, le=1000)]
    order: Annotated[tuple[Literal[0, 1], ...], msgspec.Meta(max_length=1000)] = ()
    answers: Annotated[tuple[Literal[0, 1], ...], msgspec.Meta(max_length=1000)] = ()
    range_s: (
        tuple[
            Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)],
            Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)],
        ]
        | None
    ) = None
    match_lu: Annotated[float, msgspec.Meta(ge=-200, le=200)] = 0.0

    @property
    def right(self) -> int:
        if self.kind == "abx":
            return sum(hidden == named for hidden, named in zip(self.order, self.answers, strict=True))
        return self.answers.count(0)

    @property
    def count(self) -> int:
        return len(self.answers)


class Desk(Settings, frozen=True, kw_only=True):
    """What lies around the sound: saved with it, never undone."""

    loop: Loop | None = None
    sections: Annotated[tuple[Section, ...], msgspec.Meta(max_length=SECTIONS)] = ()
    references: Annotated[tuple[Reference, ...], msgspec.Meta(max_length=REFERENCES)] = ()
    blind_tests: Annotated[tuple[BlindTest, ...], msgspec.Meta(max_length=1000)] = ()


class Session(Settings, frozen=True, kw_only=True):
    """All that a user saves. `last_id` is the highest number that a stem, a branch or a stage of it ever had: none that
    was removed gives its number to another one."""

    format: Literal[3] = FORMAT
    last_id: Annotated[int, msgspec.Meta(ge=0, le=HIGHEST_ID)] = 0
    sound: Sound
    versions: Annotated[tuple[Version, ...], msgspec.Meta(max_length=VERSIONS)] = ()
    desk: Desk = Desk()

    def version(self, number: int) -> Version | None:
        """The version of that number, if it is kept."""
        return next((version for version in self.versions if version.number == number), None)
