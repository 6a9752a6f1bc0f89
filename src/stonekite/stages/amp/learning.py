"""How loud the legs of an amplifier are, and what its inputs should be for it."""

import math
from typing import Annotated, Any

import msgspec
import numpy as np

from stonekite.stages.base import LEGS, Context, LearnedRange
from stonekite.words import said

NOMINAL_DB = -16.0
"""As loud as a signal should be at the input, in dBFS (RMS while it plays)."""
LEAST_S = 0.5


class Learned(LearnedRange, frozen=True, kw_only=True):
    """Levels of both legs while they play, in dBFS (RMS); nothing for a leg that is silent."""

    levels_db: tuple[
        Annotated[float, msgspec.Meta(ge=-150.0, le=60.0)], Annotated[float, msgspec.Meta(ge=-150.0, le=60.0)]
    ]


def learns(sound: np.ndarray, context: Context, start_s: float) -> Learned:
    """How loud both legs are while they play, from sound (2, frames). Raises ValueError with a sentence."""
    part = max(1, int(0.05 * context.rate))
    count = sound.shape[1] // part
    if sound.shape[1] < LEAST_S * context.rate:
        raise ValueError(
            said("The level is learned from {least_s:g} s at least: loop more, or nothing.").format(
                least_s=LEAST_S
            )
        )
    powers = np.mean(sound[:, : count * part].reshape(2, count, part) ** 2, axis=2)
    levels = []
    for row in powers:
        loud = row[row > 0.01 * row.max()]  # while it plays: 20 dB under its loudest at the most
        levels.append(max(-150.0, 10 * math.log10(max(float(loud.mean()) if len(loud) else 0.0, 1e-15))))
    if max(levels) <= -140.0:
        raise ValueError(said("This range is silent: there is no level to learn."))
    return Learned(
        start_s=round(start_s, 4),
        end_s=round(start_s + sound.shape[1] / context.rate, 4),
        levels_db=(round(levels[0], 2), round(levels[1], 2)),
    )


def input_for(level_db: float) -> float:
    """The input in dB that brings a level in dBFS to where an amplifier wants it."""
    return min(24.0, max(-36.0, round(NOMINAL_DB - level_db, 1)))


def taken(stage: Any, learned: Learned | None) -> Any:
    """The stage with its inputs so that what plays is where the amplifiers want it."""
    sides = {}
    if learned is not None:
        for leg, level in zip(LEGS, learned.levels_db, strict=True):
            side = getattr(stage, leg)
            if side is not None and level > -140.0:
                sides[leg] = msgspec.structs.replace(side, input_db=input_for(level))
    shared = msgspec.structs.replace(stage.shared, learned=learned)
    return msgspec.structs.replace(stage, shared=shared, **sides)


def learned_words(stage: Any) -> str:
    """How loud the legs were, in words."""
    learned = stage.shared.learned
    if learned is None:
        return said("Not measured yet: the inputs are as set")
    words = [
        f"{level:.1f} dBFS" if level > -140.0 else said("silent")
        for level, leg in zip(learned.levels_db, LEGS, strict=True)
        if getattr(stage, leg) is not None
    ]
    levels = said(" and ").join(words)
    sentence = said("While it plays {levels}; an amplifier wants {nominal:.0f}")
    return sentence.format(levels=levels, nominal=NOMINAL_DB).replace("-", "−")
