"""Grips: labelled controls that each move any number of settings, every one over a range of its own.

A grip is moved by moving what it holds: the settings themselves change, and what rides has its line moved by as much. So
nothing else of the program has to know of grips.
"""

from typing import Annotated, Any, Literal

import msgspec

from stonekite.stages.base import HIGHEST_ID
from stonekite.stages.settings import Settings, number

PartName = Literal["stage", "spur", "leg", "intake", "output"]
RiddenName = PartName | Literal["grip"]
"""What an address can lead to. A grip has no line of its own: it is that of what it holds."""
GRIPS, TARGETS = 8, 32
"""Of a strip, and of a grip, at the most."""


class Target(Settings, frozen=True, kw_only=True):
    """What a grip moves: a setting of a stage or a spur of that number, of a leg (0 the upper, 1 the lower), or of the
    intake or the output (0), from one place in its range, 0 to 1, to another one. A switch is on from the middle of the
    way. One that is bent goes little at first and then more (to 1), or the other way round (to -1).
    """

    of: PartName
    number: Annotated[int, msgspec.Meta(ge=0, le=HIGHEST_ID)]
    path: Annotated[str, msgspec.Meta(max_length=120, pattern=r"^[a-z0-9_]+(\.[a-z0-9_]+)*$")]
    start: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.0
    end: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 1.0
    bend: Annotated[float, msgspec.Meta(ge=-1.0, le=1.0)] = 0.0

    def position_of(self, travel: float) -> float:
        """The position at which the setting is somewhere in its range, as far as the grip gets there."""
        share = min(1.0, max(0.0, (travel - self.start) / (self.end - self.start)))
        power = 4.0 ** -abs(self.bend)
        return share**power if self.bend >= 0.0 else 1.0 - (1.0 - share) ** power

    def at(self, position: float) -> float:
        """Where in the range of the setting it is, 0 to 1, at a position of the grip."""
        power = 4.0 ** abs(self.bend)
        share = position**power if self.bend >= 0.0 else 1.0 - (1.0 - position) ** power
        return self.start + (self.end - self.start) * share


class Grip(Settings, frozen=True, kw_only=True):
    """One labelled control, and where it is, 0 to 1."""

    name: Annotated[str, msgspec.Meta(min_length=1, max_length=40)]
    position: Annotated[
        float, number("Position", "", 0.0, 1.0, step=0.01, decimals=2, help="Where it is, from 0 to 1")
    ] = 0.5
    targets: Annotated[tuple[Target, ...], msgspec.Meta(max_length=TARGETS)] = ()


Grips = Annotated[tuple[Grip, ...], msgspec.Meta(max_length=GRIPS)]


def renumbered(grips: tuple[Grip, ...], numbers: dict[int, int]) -> tuple[Grip, ...]:
    """Grips whose stages and spurs have other numbers; what has none is gone."""

    def of(target: Target) -> Any:
        if target.of not in ("stage", "spur"):
            return target
        number = numbers.get(target.number)
        return None if number is None else msgspec.structs.replace(target, number=number)

    return tuple(
        msgspec.structs.replace(
            grip, targets=tuple(new for old in grip.targets if (new := of(old)) is not None)
        )
        for grip in grips
    )
