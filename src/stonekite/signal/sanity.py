"""What is no sound: not a number, infinite, or absurdly large."""

import numpy as np

ABSURD = 1e6
"""A sample beyond this (+120 dBFS) is damage, not sound, and is read as silence."""


def damaged(block: np.ndarray) -> np.ndarray | None:
    """Where samples of a block are damaged, as an array of truth values; None where none is."""
    # Two passes tell: a NaN or infinity makes the extremes say so.
    if not block.size or (block.max() < ABSURD and block.min() > -ABSURD):
        return None
    return ~(np.abs(block) < ABSURD)


def clean(block: np.ndarray) -> np.ndarray:
    """A block with silence where it was damaged: the block itself if it was nowhere."""
    bad = damaged(block)
    return block if bad is None else np.where(bad, 0.0, block)
