"""The seam of a loop: going round it does not click."""

import numpy as np

from stonekite.engine.graph.fading import ramp
from stonekite.files.audio import Blocks


def blend_loop_end(
    block: np.ndarray, position: int, loop: tuple[int, int], seam: int, reader: Blocks
) -> None:
    """Fade the end of a loop, in a block (2, frames) from a position on, into what leads up to the loop's start."""
    start, end = loop
    reach = min(seam, start, end - start)
    first = end - reach
    skip = max(0, first - position)
    count = block.shape[1] - skip
    if reach <= 0 or count <= 0:
        return
    into = position + skip - first
    rise = ramp(count, into, reach)
    lead = reader.read(start - reach + into, count)
    block[:, skip : skip + lead.shape[1]] += rise * (lead - block[:, skip : skip + lead.shape[1]])
