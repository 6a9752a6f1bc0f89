"""What stands behind a strip on its way into a bus or the mix, and what is sent elsewhere besides."""

from typing import Annotated

from stonekite.stages.base import Identity
from stonekite.stages.settings import Settings, flag, number


class Fader(Settings, frozen=True, kw_only=True):
    """Level, place, mute and alone of a stem or a bus."""

    level_db: Annotated[
        float,
        number("Level", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level on the way into the mix"),
    ] = 0.0
    place: Annotated[
        float,
        number(
            "Place",
            "%",
            -100.0,
            100.0,
            step=1.0,
            help="Where it stands in the mix: −100 is left, 100 is right. What is in the centre keeps its power",
        ),
    ] = 0.0
    muted: Annotated[bool, flag("Mute", help="Take it out of the mix, and out of all that it is sent to")] = (
        False
    )
    alone: Annotated[bool, flag("Alone", help="Take all out of the mix that does not go through this")] = (
        False
    )


class Send(Settings, frozen=True, kw_only=True):
    """What goes to another bus besides; `before` the level and the place, or behind them."""

    to: Identity
    level_db: Annotated[
        float,
        number("Send", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level of what is sent there"),
    ] = 0.0
    before: Annotated[
        bool, flag("Before the level", help="Send it as it comes out of the strip, wherever its level stands")
    ] = False
