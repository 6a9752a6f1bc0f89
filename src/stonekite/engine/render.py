"""Whole files through a strip."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from stonekite.engine.chain import Chain, Observer
from stonekite.engine.generator import GeneratorReader
from stonekite.files.audio import BLOCK, Blocks, Reader
from stonekite.session.types import Source, Strip


def open_source(source: Source, ahead: int = 0) -> Blocks:
    """What a source sounds like: the two channels it uses, or its test signal. Raises AudioError."""
    if source.generator is not None:
        return GeneratorReader(source.generator, source.rate, source.frames)
    return Reader(Path(source.path), source.channels, ahead=ahead)


def rendered(
    reader: Blocks, strip: Strip, block: int = BLOCK, observer: Observer | None = None
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pairs (unprocessed, processed) of blocks (2, frames), aligned to the sample, over a whole file.

    The result has the length of the source: latency is taken out, and what rings on after the end is cut.
    `observer` is told what goes into and comes out of each stage.
    """
    chain = Chain(strip, reader.facts.rate)
    chain.observer = observer
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


def _with_silence(reader: Blocks, block: int, frames: int) -> Iterator[np.ndarray]:
    yield from reader.blocks(block)
    if frames:
        yield np.zeros((2, frames))
