"""What rings on after the end of a recording: how much of it belongs to the result."""

from collections.abc import Iterator

import numpy as np

from stonekite.signal.decibels import gain_of
from stonekite.words import said

QUIET_DB = -90.0
"""What rings on is part of the result until it is never louder than this again, in dBFS."""
REST_S = 0.05
"""So much more of it follows, so that a result ends below QUIET_DB and not on its last sample above."""
LONGEST_S = 60.0
"""So long at the most: what does not fade would never end."""

Tail = float | None
"""Seconds that a result goes on after the recording; None for as long as there is something to be heard."""


def frames_of(tail: Tail, rings: int, rate: float) -> int:
    """How many frames after the end have to be computed, of a strip that rings for so many."""
    return round(tail * rate) if tail is not None else min(rings, int(LONGEST_S * rate))


def until_quiet(blocks: Iterator[np.ndarray], rate: float) -> Iterator[np.ndarray]:
    """Blocks (2, frames) up to the last sample that is louder than QUIET_DB, and REST_S more as far as there is more."""
    limit = gain_of(QUIET_DB)
    rest = round(REST_S * rate)
    left = 0  # of the rest after what was loud last
    held: list[np.ndarray] = []
    for block in blocks:
        loud = np.flatnonzero(np.abs(block).max(axis=0) > limit)
        if len(loud):
            yield from held
            held = []
            left = int(loud[-1]) + 1 + rest
        now, left = min(left, block.shape[1]), max(0, left - block.shape[1])
        if now:
            yield block[:, :now]
        held.append(block[:, now:])


def typed(text: str) -> Tail:
    """The tail that a word or a number asks for: auto, none or seconds. Raises ValueError with a sentence."""
    if text in ("auto", "none"):
        return None if text == "auto" else 0.0
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0.0 <= seconds <= LONGEST_S:
        raise ValueError(
            said("A tail is auto, none or a number of seconds from 0 to {longest_s:g}.").format(
                longest_s=LONGEST_S
            )
        )
    return seconds
