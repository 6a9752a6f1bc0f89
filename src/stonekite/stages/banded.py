"""What a kind says of itself whose sides are lists of bands."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from stonekite.stages.settings import Settings


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
