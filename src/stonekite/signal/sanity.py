"""What is no sound: not a number, infinite, or absurdly large."""

import numpy as np

from stonekite.lazy import lazy

checking = lazy("stonekite.signal.checking")

ABSURD = 1e3
"""A sample beyond this (+60 dBFS) is damage, not sound, and is read as silence."""


def damaged(block: np.ndarray) -> np.ndarray | None:
    """Where samples of a block are damaged, as an array of truth values; None where none is."""
    # Two passes tell: a NaN or infinity makes the extremes say so.
    if not block.size or (block.max() < ABSURD and block.min() > -ABSURD):
        return None
    return ~(np.abs(block) < ABSURD)


def clean(block: np.ndarray) -> np.ndarray:
    """A block with silence where it was damaged: the block itself if it was nowhere."""
    if checking.undamaged(flat(block)):
        return block
    return np.where(np.abs(block) < ABSURD, block, 0.0)


def finite(block: np.ndarray) -> bool:
    """Whether no sample of a block is infinite or not a number."""
    return checking.finite(flat(block))


def flat(block: np.ndarray) -> np.ndarray:
    """The samples of a block as they lie in memory."""
    return block.ravel(order="K")
