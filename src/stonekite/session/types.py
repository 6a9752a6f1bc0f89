"""A session: one immutable tree of typed values."""

from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec

from stonekite.signal.matrix import Matrix
from stonekite.stages.registry import AnyStage as _AnyStage
from stonekite.stages.settings import Settings, choice, flag, number

FORMAT: Literal[1] = 1

if TYPE_CHECKING:
    AnyStage = Any
else:
    AnyStage = _AnyStage

LegName = Literal["upper", "lower"]
LEGS: tuple[LegName, LegName] = ("upper", "lower")


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

    def component(self, leg: LegName) -> str:
        """The component that a leg carries: left, right, mid or side."""
        names = ("left", "right") if self.mode == "left-right" else ("mid", "side")
        return names[LEGS.index(leg)]


class Leg(Settings, frozen=True, kw_only=True):
    """What happens to one leg after its stages."""

    level_db: Annotated[
        float,
        number("Level", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level of the leg at the join"),
    ] = 0.0
    inverted: Annotated[bool, flag("Polarity", help="Turn the leg upside down")] = False
    muted: Annotated[bool, flag("Mute", help="Take the leg out of the result")] = False
    alone: Annotated[bool, flag("Alone", help="Take the other leg out of the result")] = False


class Strip(Settings, frozen=True, kw_only=True):
    """Split, stages, legs and join of one stem."""

    split: Split = Split()
    stages: Annotated[tuple[AnyStage, ...], msgspec.Meta(max_length=64)] = ()
    upper: Leg = Leg()
    lower: Leg = Leg()

    def leg(self, name: LegName) -> Leg:
        return self.upper if name == "upper" else self.lower


class Source(Settings, frozen=True, kw_only=True):
    """A recording: where it is and what was found there.

    `channels` are the two channels used (counted from 0; twice the same for mono), `fingerprint` tells the
    file again when it was moved.
    """

    path: str
    channels: tuple[Annotated[int, msgspec.Meta(ge=0)], Annotated[int, msgspec.Meta(ge=0)]] = (0, 1)
    channel_count: Annotated[int, msgspec.Meta(ge=1, le=1024)] = 2
    rate: Annotated[int, msgspec.Meta(ge=1000, le=1_000_000)]
    frames: Annotated[int, msgspec.Meta(ge=1)]
    fingerprint: str = ""


class Stem(Settings, frozen=True, kw_only=True):
    """One recording in the session, with its strip."""

    id: int
    name: str
    source: Source
    strip: Strip = Strip()


class Loop(Settings, frozen=True, kw_only=True):
    """A range of the timeline that playing repeats, in seconds."""

    start_s: Annotated[float, msgspec.Meta(ge=0)]
    end_s: Annotated[float, msgspec.Meta(ge=0)]


class Session(Settings, frozen=True, kw_only=True):
    """All that a user saves."""

    format: Literal[1] = FORMAT
    stems: Annotated[tuple[Stem, ...], msgspec.Meta(min_length=1, max_length=64)]
    loop: Loop | None = None
