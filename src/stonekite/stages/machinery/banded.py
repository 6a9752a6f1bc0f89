"""What a kind says of itself whose sides are lists of bands."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any

from stonekite.stages.settings import Settings, number

Frequency = Annotated[
    float,
    number("Frequency", "Hz", 20.0, 20000.0, taper="log", step=1 / 12, help="Centre or corner of the band"),
]
Narrowness = Annotated[
    float,
    number("Q", "", 0.2, 12.0, taper="log", step=1 / 12, help="Narrowness of a bell, edge of a corner"),
]


@dataclass(frozen=True)
class Bands:
    """The struct of a band, how many there may be on a leg, the words for its shapes, and the setting in dB that the
    height of its handle stands for. Bands of the shapes in `flat` have no height, those in `sloped` have a slope.
    """

    band: type[Settings]
    most: int
    shapes: Mapping[Any, str]
    height: str
    flat: tuple[str, ...] = ()
    sloped: tuple[str, ...] = ()
