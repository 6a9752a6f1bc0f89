"""A spur: a path beside the legs, with stages, a level and a place of its own."""

from typing import Annotated, Literal

import msgspec

from stonekite.session.ends import ALONE_STANDS, DelayWay
from stonekite.stages.base import Identity
from stonekite.stages.branch import Branch
from stonekite.stages.riding import Rides
from stonekite.stages.settings import Settings, choice, flag, number
from stonekite.words import said

SPURS = 8
"""Of one strip."""
LONGEST_MS = 20.0

Tap = Literal["split", "end"]
SPLIT: Tap = "split"
END: Tap = "end"
"""Behind the last stage of the legs, in front of their levels."""

SpurSource = Literal["left", "right", "mid", "side", "both"]


class Spur(Settings, frozen=True, kw_only=True):
    """Leaves the legs at the split, after a stage (its id) or at their end, and comes back at the join.

    Of one component, its stages have an upper side only; of both legs, both. The id of its branch is its own.
    """

    name: Annotated[str, msgspec.Meta(min_length=1, max_length=60)] = "Spur"
    branch: Branch = Branch()
    source: Annotated[
        SpurSource,
        choice(
            "From",
            {"left": "Left", "right": "Right", "mid": "Mid", "side": "Side", "both": "Both legs"},
            help="What goes into the spur",
        ),
    ] = "both"
    after: Identity | Tap = END
    level_db: Annotated[
        float,
        number("Level", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level at which it comes back"),
    ] = 0.0
    inverted: Annotated[bool, flag("Polarity", help="Turn the spur upside down")] = False
    delay_ms: Annotated[
        float,
        number(
            "Delay",
            "ms",
            -LONGEST_MS,
            LONGEST_MS,
            step=0.01,
            help="Time by which the spur is later than the legs; below nothing, the legs wait for it",
        ),
    ] = 0.0
    delay_way: DelayWay = "over"
    placed: Annotated[
        bool,
        flag(
            "Placed",
            help="Stand from left to right at the join, in place of going back where it came from",
            still="It decides where the spur goes: let its place ride.",
        ),
    ] = False
    position: Annotated[
        float,
        number(
            "Place", "%", -100.0, 100.0, step=1.0, help="Where the spur is heard: −100 is left, 100 is right"
        ),
    ] = 0.0
    closed: Annotated[
        bool,
        flag(
            "Closed", help="Let nothing more into the spur; what is in it rings on, as an echo after a word"
        ),
    ] = False
    muted: Annotated[bool, flag("Mute", help="Take the spur out of the result")] = False
    alone: Annotated[
        bool, flag("Alone", help="Take all that is not alone out of the result", still=ALONE_STANDS)
    ] = False
    rides: Rides = ()

    def still(self, path: str) -> str:
        """Why a setting cannot move now, in a sentence; empty if it can."""
        if path == "position" and (self.of_both or not self.placed):
            return said("The spur goes back where it came from: it has no place.")
        return ""

    @property
    def id(self) -> int:
        return self.branch.id

    @property
    def of_both(self) -> bool:
        """Whether it carries both legs, or one component."""
        return self.source == "both"
