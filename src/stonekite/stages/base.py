"""What every kind of stage has in common, and what the engine asks of a kind."""

from typing import Annotated, Any, Literal, Protocol

import msgspec
import numpy as np

from stonekite.signal.matrix import Matrix
from stonekite.stages.settings import Settings, flag, number

LegName = Literal["upper", "lower"]
LEGS: tuple[LegName, LegName] = ("upper", "lower")


LevelKept = Annotated[
    bool,
    flag(
        "Keep level",
        help="Give back the loudness that the stage adds or takes, so that in and out are equally loud",
    ),
]


class Side(Settings, frozen=True, kw_only=True):
    """One side of a stage: a kind adds its settings."""

    mix: Annotated[
        float,
        number(
            "Mix",
            "%",
            0.0,
            100.0,
            step=1.0,
            help="How much of the stage is in the leg; the untouched part is in time with it to the sample",
        ),
    ] = 100.0


class Stage(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"):
    """One process laid across both legs.

    A kind subclasses this with a tag and two fields `upper` and `lower`, each a Side or None (then that leg
    passes through untouched and in time), and with a field `shared` where it has settings that are not of
    one side. `unlinked` names the settings that a linked stage does not carry across. `change_only` is how
    the stage is heard while listening to what it does: wet less dry.
    """

    id: int
    inserted: Annotated[bool, flag("In", help="Whether the stage is heard")] = True
    linked: Annotated[bool, flag("Linked", help="An edit of one side goes to the other")] = False
    unlinked: tuple[str, ...] = ()
    level_kept: LevelKept = False
    kept_db: Annotated[
        float,
        number("Given back", "dB", -36.0, 36.0, step=0.1, help="Gain that keeps the level, as measured"),
    ] = 0.0
    change_only: Annotated[bool, flag("Change only", help="Hear only what the stage takes away or adds")] = (
        False
    )


class Kind(Protocol):
    """What a module in `stonekite.stages` offers. `stage` is a value of its STAGE type.

    A kind that bends its legs also offers `bend(side, values)`, steady values out of values in, and a BEND_HANDLE.
    A kind whose output level depends on its input level also offers `curve(stage, leg, level_db)`, steady levels out
    in dB, and `meter(state)`, the greatest reduction (2,) in dB of the last block. A kind with a detector that hears
    through filters says so by `detector(stage)`, the stage of another kind that sounds like what it hears; its
    `response` is then that of the detector. `HANDLES` are points of its picture to drag (stages/handles.py). A kind
    whose sides are lists of bands says so by `OF_BANDS` (stages/banded.py). If their gains follow the sound, it also
    offers `bands_now(state)`, levels that the bands hear and gains that they have now, both (2, most) in dB, and
    `response_with(stage, leg, gains_db, frequencies, rate)`, the response with such gains.

    `matrix` is that of a mid/side split, None where the legs are left and right. The mix, the kept level
    and what brings the legs back into time are the engine's, not the kind's.
    """

    STAGE: type[Stage]
    SIDE: type[Side]
    LABEL: str
    HELP: str

    @staticmethod
    def response(stage: Any, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
        """Complex response of one side at frequencies in Hz, without its latency; ones if the leg passes."""

    @staticmethod
    def neutral(stage: Any) -> bool:
        """Whether the stage gives back its input bit for bit."""

    @staticmethod
    def latency(stage: Any, rate: float) -> tuple[int, int]:
        """Latency of the upper and lower leg in samples."""

    @staticmethod
    def prepare(stage: Any, rate: float, matrix: Matrix | None) -> Any:
        """Coefficients for `process`, from settings and the rate in Hz."""

    @staticmethod
    def start(coefficients: Any) -> Any:
        """The state of a stage that has heard nothing; deep-copied by the engine when settings glide."""

    @staticmethod
    def layout(coefficients: Any) -> Any:
        """Equal for coefficients that can go on from each other's state."""

    @staticmethod
    def process(state: Any, coefficients: Any, block: np.ndarray, position: int) -> None:
        """Process block (2, frames) in place; `position` is the absolute sample position of its start."""
