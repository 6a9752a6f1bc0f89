"""What a strip does besides its stages: intake, split, legs and output."""

from typing import Annotated, Literal

from stonekite.signal.matrix import Matrix
from stonekite.stages.base import LEGS, LegName
from stonekite.stages.riding import Rides
from stonekite.stages.settings import NoteName, Settings, choice, flag, number
from stonekite.words import said

SideName = Literal["left", "right"]
SIDES: tuple[SideName, SideName] = ("left", "right")
ALONE_STANDS = "It is for listening: let mutes ride."


class IntakeSide(Settings, frozen=True, kw_only=True):
    """What is done to one side of a recording before it is split."""

    trim_db: Annotated[
        float, number("Trim", "dB", -24.0, 24.0, step=0.1, help="Level of the side as it comes in")
    ] = 0.0
    delay_ms: Annotated[
        float,
        number(
            "Delay",
            "ms",
            0.0,
            100.0,
            step=0.01,
            help="Time by which the side is held back. Samples can be typed, too: 82.6 samples",
            still="All that comes later is in time with it: let the delay of a leg ride in its place.",
        ),
    ] = 0.0
    inverted: Annotated[bool, flag("Invert", help="Turn the side upside down")] = False


class Intake(Settings, frozen=True, kw_only=True):
    """What is done to a recording before it is split: channel choice, then trims and polarity, delay, DC."""

    use: Annotated[
        Literal["as-is", "swapped", "left", "right", "mono"],
        choice(
            "Use",
            {
                "as-is": "As recorded",
                "swapped": "Swapped",
                "left": "Left for both",
                "right": "Right for both",
                "mono": "Folded to mono",
            },
            help="Which recorded channel goes to which side",
        ),
    ] = "as-is"
    remove_dc: Annotated[
        bool,
        flag(
            "Remove DC",
            help="Take away a constant offset, by a high-pass at 2 Hz",
            still="An offset is taken away from all of a recording.",
        ),
    ] = False
    left: IntakeSide = IntakeSide()
    right: IntakeSide = IntakeSide()
    rides: Rides = ()


class Place(Settings, frozen=True, kw_only=True):
    """Where one side of the result stands."""

    position: Annotated[
        float,
        number(
            "Place", "%", -100.0, 100.0, step=1.0, help="Where the side is heard: −100 is left, 100 is right"
        ),
    ] = 0.0


class Output(Settings, frozen=True, kw_only=True):
    """How the joined sides become the result: width, placement, balance, level and ceiling, in this order."""

    width: Annotated[
        float,
        number("Width", "%", 0.0, 200.0, step=1.0, help="Level of what differs: 0 is mono, 100 as it is"),
    ] = 100.0
    left: Place = Place(position=-100.0)
    right: Place = Place(position=100.0)
    law: Annotated[
        Literal["constant-power", "linear"],
        choice(
            "Law",
            {"constant-power": "Constant power", "linear": "Linear"},
            help="How a side that stands between left and right is shared: by sine and cosine, or by parts "
            "that add up to one",
        ),
    ] = "constant-power"
    balance: Annotated[
        float,
        number("Balance", "%", -100.0, 100.0, step=1.0, help="Turns down the side it moves away from"),
    ] = 0.0
    trim_db: Annotated[
        float, number("Level", "dB", -120.0, 24.0, taper="fader", step=0.5, help="Level of the result")
    ] = 0.0
    limited: Annotated[
        bool,
        flag(
            "Limit",
            help="Hold the true peaks of the result under the ceiling, both sides alike",
            still="The result is later with a limit than without: let the ceiling ride.",
        ),
    ] = False
    ceiling_db: Annotated[
        float,
        number("Ceiling", "dB", -24.0, 0.0, step=0.1, help="Highest true peak of the result, in dBTP"),
    ] = -1.0
    rides: Rides = ()

    def still(self, path: str) -> str:
        """Why a setting cannot move now, in a sentence; empty if it can."""
        return said("The result is not limited.") if path == "ceiling_db" and not self.limited else ""


class Split(Settings, frozen=True, kw_only=True):
    """How a stereo signal becomes two legs."""

    mode: Annotated[
        Literal["left-right", "mid-side"],
        choice(
            "Split",
            {"left-right": "Left / right", "mid-side": "Mid / side"},
            help="Which two components the legs carry",
        ),
    ] = "mid-side"
    matrix: Annotated[
        Matrix,
        choice(
            "Matrix",
            {"half-sum": "Half-sum", "equal-power": "Equal-power", "raised-side": "Raised side"},
            help="Gain convention of mid and side",
        ),
    ] = "half-sum"

    @property
    def encoding(self) -> Matrix | None:
        """The matrix of a mid/side split, None for left/right."""
        return self.matrix if self.mode == "mid-side" else None

    def component(self, leg: LegName) -> str:
        """The component that a leg carries: left, right, mid or side."""
        names = ("left", "right") if self.mode == "left-right" else ("mid", "side")
        return names[LEGS.index(leg)]


class OneComponent(Split, frozen=True, kw_only=True):
    """In the place of a split, for a path that carries one component, on the upper leg. Never saved."""

    source: str

    def component(self, leg: LegName) -> str:
        return self.source


DelayWay = Annotated[
    Literal["over", "tape"],
    choice(
        "Delay rides",
        {"over": "Going over", "tape": "As tape does"},
        help="How a delay that rides gets from one time to another: over from copy to copy, each within 20 ms, "
        "however far apart they are; or quicker and slower, so that the pitch bends",
        seldom=True,
    ),
]
"""Of a leg or a spur."""


class Leg(Settings, frozen=True, kw_only=True):
    """What happens to one leg after its stages."""

    level_db: Annotated[
        float,
        number("Level", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level of the leg at the join"),
    ] = 0.0
    delay_ms: Annotated[
        float,
        number(
            "Delay",
            "ms",
            0.0,
            1000.0,
            step=0.1,
            help="Time by which the leg is later than the other one, at the join. Samples, metres of air and notes can "
            "be typed, too: 82.6 samples, 1.2 m, 1/16",
            note="delay_note",
        ),
    ] = 0.0
    delay_note: NoteName = ""
    delay_way: DelayWay = "over"
    inverted: Annotated[bool, flag("Polarity", help="Turn the leg upside down")] = False
    muted: Annotated[bool, flag("Mute", help="Take the leg out of the result")] = False
    alone: Annotated[
        bool,
        flag("Alone", help="Take the other leg out of the result", still=ALONE_STANDS),
    ] = False
    rides: Rides = ()
