"""Points of a stage's picture that can be dragged, declared by its kind."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from stonekite.words import said


@dataclass(frozen=True)
class Handle:
    """One point on the curve of a side: `x` names the setting in Hz that it moves.

    `on` names the switch that shows it, where there is one, `wheel` the choice that turning the wheel over it
    goes through. Where a kind has two handles, dragging what lies between them moves both. On a transfer curve
    (a kind's CURVE_HANDLE) `x` is in dB, and the wheel steps a number.

    A handle without `x` stands at a frequency `at_hz` and moves up and down: it changes the setting `y` in dB, and
    stands at the share `reach` of it; of it and the setting `beside`, where that is named. `shown` tells of a side
    whether the handle is there; without it, always.
    """

    label: str
    x: str = ""
    on: str | None = None
    wheel: str | None = None
    y: str = ""
    at_hz: float = 0.0
    reach: float = 1.0
    beside: str = ""
    on_noise: bool = False
    """It stands on the curve of the noise that is known, and is there only with it."""
    shown: Callable[[Any], bool] | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "label", said(self.label))
