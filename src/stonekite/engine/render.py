"""Whole files through a strip."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from stonekite.engine.chain import Chain
from stonekite.files.audio import BLOCK, Reader
from stonekite.session.types import Stem, Strip


def open_stem(stem: Stem) -> Reader:
    """A reader of the two channels a stem uses. Raises AudioError."""
    return Reader(Path(stem.source.path), stem.source.channels)


def rendered(reader: Reader, strip: Strip, block: int = BLOCK) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pairs (unprocessed, processed) of blocks (2, frames), aligned to the sample, over a whole file.

    The result has the length of the source: latency is taken out, and what rings on after the end is cut.
    """
    chain = Chain(strip, reader.facts.rate)
    lead = np.empty((2, 0))
    position = 0
    skip = chain.latency
    for source in _with_silence(reader, block, chain.latency):
        processed = chain.process(source, position)
        position += source.shape[1]
        if skip:
            dropped = min(skip, processed.shape[1])
            processed = processed[:, dropped:]
            skip -= dropped
        lead = np.concatenate([lead, source], axis=1) if chain.latency else source
        count = processed.shape[1]
        if count:
            yield lead[:, :count], processed
        lead = lead[:, count:]


def _with_silence(reader: Reader, block: int, frames: int) -> Iterator[np.ndarray]:
    yield from reader.blocks(block)
    if frames:
        yield np.zeros((2, frames))
