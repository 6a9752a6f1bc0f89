"""What an echo can be set to."""

from typing import Annotated, Any, Literal

import msgspec

from stonekite.stages.base import Side, Stage
from stonekite.stages.branch import Branch
from stonekite.stages.settings import NoteName, Settings, choice, flag, number

MOST_TAPS = 8
OPEN_LOW_HZ, OPEN_HIGH_HZ = 20.0, 20_000.0
"""A high-pass or low-pass that stands at the end of its range is not there."""


def _time(default: float, still: str = "") -> Any:
    meta = number(
        "Time",
        "ms",
        1.0,
        4000.0,
        taper="log",
        step=1 / 24,
        note="time_note",
        help="When it comes back. A note can be typed, too: 1/8 dotted, 1.5 beats",
        still=still,
    )
    return Annotated[float, meta]


def _level(label: str, help: str, both: bool = False, high: float = 6.0) -> Any:
    return number(label, "dB", -120.0, high, taper="fader", step=0.5, help=help, both=both)


def _corner(label: str, help: str, seldom: bool = False) -> msgspec.Meta:
    return number(label, "Hz", OPEN_LOW_HZ, OPEN_HIGH_HZ, taper="log", step=1 / 12, help=help, seldom=seldom)


_HIGH_PASS = _corner("High-pass", "Each time round takes more of the bottom; at 20 Hz it is not there")
_LOW_PASS = _corner("Low-pass", "Each time round takes more of the top; at 20 kHz it is not there")


def _bell_gain(which: str) -> Any:
    meta = number(
        f"{which} gain",
        "dB",
        -18.0,
        18.0,
        step=0.5,
        seldom=True,
        help="Of a bell in the loop: each time once more",
    )
    return Annotated[float, meta]


def _bell_hz(which: str) -> Any:
    return Annotated[float, _corner(f"{which} at", "Middle of a bell in the loop", True)]


def _bell_q(which: str) -> Any:
    return Annotated[
        float,
        number(
            f"{which} Q", "", 0.3, 8.0, taper="log", step=1 / 12, seldom=True, help="How narrow the bell is"
        ),
    ]


class EchoSide(Side, frozen=True, kw_only=True):
    time_ms: _time(500.0) = 500.0  # type: ignore[valid-type]
    level_db: Annotated[float, _level("Level", "Level of the echoes")] = -6.0
    feedback_db: Annotated[
        float, _level("Feedback", "How loud what comes back goes in again, on the same leg")
    ] = -9.0
    cross_db: Annotated[
        float, _level("Across", "How loud what comes back goes into the other leg", both=True)
    ] = -120.0
    high_pass_hz: Annotated[float, _HIGH_PASS] = OPEN_LOW_HZ
    low_pass_hz: Annotated[float, _LOW_PASS] = OPEN_HIGH_HZ
    slope: Annotated[
        Literal[6, 12],
        choice(
            "Slope",
            {6: "6", 12: "12"},
            help="Of the high-pass and the low-pass, in dB per octave",
            seldom=True,
        ),
    ] = 12
    low_gain_db: _bell_gain("Low bell") = 0.0  # type: ignore[valid-type]
    low_hz: _bell_hz("Low bell") = 250.0  # type: ignore[valid-type]
    low_q: _bell_q("Low bell") = 0.9  # type: ignore[valid-type]
    high_gain_db: _bell_gain("High bell") = 0.0  # type: ignore[valid-type]
    high_hz: _bell_hz("High bell") = 2500.0  # type: ignore[valid-type]
    high_q: _bell_q("High bell") = 0.9  # type: ignore[valid-type]
    time_note: NoteName = ""


Fed = Literal["own", "fold", "upper", "lower"]


class Tap(Settings, frozen=True, kw_only=True):
    """One echo that does not come back again."""

    time_ms: _time(250.0, "A tap's time stands still: ride its level.") = 250.0  # type: ignore[valid-type]
    level_db: Annotated[float, _level("Level", "Level of the tap")] = -6.0
    place: Annotated[
        float,
        number(
            "Place",
            "%",
            -100.0,
            100.0,
            step=5.0,
            both=True,
            help="−100 is the upper leg alone, 100 the lower one",
        ),
    ] = 0.0
    fed: Annotated[
        Fed,
        choice(
            "Of",
            {"own": "Each leg", "fold": "Both folded", "upper": "Upper leg", "lower": "Lower leg"},
            help="What the tap repeats",
        ),
    ] = "own"
    high_pass_hz: Annotated[float, _HIGH_PASS] = OPEN_LOW_HZ
    low_pass_hz: Annotated[float, _LOW_PASS] = OPEN_HIGH_HZ
    time_note: NoteName = ""


class EchoShared(Settings, frozen=True, kw_only=True):
    start: Annotated[
        Literal["both", "upper", "lower"],
        choice(
            "Starts on",
            {"both": "Each leg", "upper": "Upper", "lower": "Lower"},
            help="Where sound goes in: each leg into its own loop, or both as mono into one, to go across from there",
        ),
    ] = "both"
    dry_db: Annotated[float, _level("Dry", "Level of what passes beside the echoes", high=0.0)] = 0.0
    moves: Annotated[
        Literal["tape", "crossfade"],
        choice(
            "Time moves",
            {"tape": "As tape", "crossfade": "Crossfaded"},
            help="How another time is reached while it plays: gliding, which bends the pitch, or going over at once",
        ),
    ] = "crossfade"
    always_bound: Annotated[
        bool,
        flag(
            "Bound",
            help="Bend what is louder than −6 dBFS in the loop; what would grow is always held like that",
        ),
    ] = False
    held: Annotated[
        bool,
        flag(
            "Freeze",
            help="Hold what is in the loops while it plays: nothing goes in, nothing fades. From the start nothing is in",
        ),
    ] = False
    duck_db: Annotated[
        float,
        number(
            "Duck by",
            "dB",
            0.0,
            24.0,
            step=0.5,
            seldom=True,
            help="How far loud dry sound turns the echoes down",
        ),
    ] = 0.0
    duck_above_db: Annotated[
        float,
        number(
            "above",
            "dBFS",
            -60.0,
            0.0,
            step=1.0,
            seldom=True,
            help="From this level on; as far as it goes 12 dB above",
        ),
    ] = -30.0
    duck_back_ms: Annotated[
        float,
        number(
            "Back within",
            "ms",
            20.0,
            2000.0,
            taper="log",
            step=1 / 4,
            seldom=True,
            help="How slowly the echoes rise again",
        ),
    ] = 250.0
    darker: Annotated[
        float,
        number(
            "Darker by",
            "oct",
            0.0,
            2.0,
            step=0.05,
            seldom=True,
            help="Each later tap has a low-pass so much lower",
        ),
    ] = 0.0
    thinner: Annotated[
        float,
        number(
            "Thinner by",
            "oct",
            0.0,
            2.0,
            step=0.05,
            seldom=True,
            help="Each later tap has a high-pass so much higher",
        ),
    ] = 0.0
    taps: Annotated[tuple[Tap | None, ...], msgspec.Meta(max_length=MOST_TAPS)] = ()
    """Each in a place of its own: one that is removed leaves None, so that the others keep theirs."""

    @property
    def there(self) -> tuple[Tap, ...]:
        """The taps that there are."""
        return tuple(tap for tap in self.taps if tap is not None)


class Echo(Stage, frozen=True, kw_only=True, tag="echo"):
    upper: EchoSide | None = EchoSide()
    lower: EchoSide | None = EchoSide()
    shared: EchoShared = EchoShared()
    branches: Annotated[tuple[Branch, ...], msgspec.Meta(min_length=1, max_length=1)] = (Branch(),)
