"""What a whole recording looks like, in as few numbers as a row of the mix can show."""

from collections.abc import Generator

import numpy as np

from stonekite.engine.offline.render import open_source
from stonekite.session.types import Source

MOST_COLUMNS = 16_384
BLOCK = 1 << 16


def looked_at(source: Source) -> Generator[float, None, np.ndarray]:
    """Least and greatest samples of both sides in up to MOST_COLUMNS stretches of equal length: (2, columns), float32.
    Yields progress 0 to 1. Raises AudioError."""
    with open_source(source) as reader:
        frames = reader.facts.frames
        stretch = max(1, -(-frames // MOST_COLUMNS))
        columns = -(-frames // stretch)
        seen = np.zeros((2, columns), dtype=np.float32)
        step = max(1, BLOCK // stretch)
        for first in range(0, columns, step):
            block = reader.read(first * stretch, step * stretch)
            there = -(-block.shape[1] // stretch)
            starts = np.arange(there) * stretch
            if there:
                seen[0, first : first + there] = np.minimum.reduceat(block.min(axis=0), starts)
                seen[1, first : first + there] = np.maximum.reduceat(block.max(axis=0), starts)
            yield min(1.0, (first + step) / columns)
    return seen
