"""What every kind of stage has in common, and what the engine asks of a kind."""

from typing import Annotated, Any, Protocol

import msgspec
import numpy as np

from stonekite.stages.settings import flag


class Stage(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"):
    """One process laid across both legs.

    A kind subclasses this with a tag and two fields `upper` and `lower`, each a group of settings or None
    (then that leg passes through untouched and in time), and with shared fields where it has any.
    """

    id: int
    inserted: Annotated[bool, flag("In", help="Whether the stage is heard")] = True
    linked: Annotated[bool, flag("Linked", help="An edit of one side goes to the other")] = False


class Kind(Protocol):
    """What a module in `stonekite.stages` offers. `stage` is a value of its STAGE type."""

    STAGE: type[Stage]
    SIDE: type[msgspec.Struct]
    LABEL: str
    HELP: str

    @staticmethod
    def response(side: Any, frequencies: np.ndarray, rate: float) -> np.ndarray:
        """Complex response of one side (None: of a leg that passes) at frequencies in Hz."""

    @staticmethod
    def neutral(stage: Any) -> bool:
        """Whether the stage gives back its input bit for bit."""

    @staticmethod
    def latency(stage: Any, rate: float) -> tuple[int, int]:
        """Latency of the upper and lower leg in samples."""

    @staticmethod
    def prepare(stage: Any, rate: float) -> Any:
        """Coefficients for `process`, from settings and the rate in Hz."""

    @staticmethod
    def start(coefficients: Any) -> Any:
        """The state of a stage that has heard nothing; deep-copied by the engine when settings glide."""

    @staticmethod
    def process(state: Any, coefficients: Any, block: np.ndarray, position: int) -> None:
        """Process block (2, frames) in place; `position` is the absolute sample position of its start."""
