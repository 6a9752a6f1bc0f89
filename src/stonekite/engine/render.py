"""Whole files through a strip."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from stonekite.engine.chain import Chain
from stonekite.engine.generator import GeneratorReader
from stonekite.engine.line import Probe
from stonekite.files.audio import BLOCK, Blocks, Reader
from stonekite.session.types import Source, Strip

BEFORE_S = 300.0
"""So much before a span is heard at the most, so that its start does not differ from the whole."""


def open_source(source: Source, ahead: int = 0) -> Blocks:
    """What a source sounds like: the two channels it uses, or its test signal. Raises AudioError."""
    if source.generator is not None:
        return GeneratorReader(source.generator, source.rate, source.frames)
    return Reader(Path(source.path), source.channels, ahead=ahead)


def rendered(
    reader: Blocks,
    strip: Strip,
    block: int = BLOCK,
    probe: Probe | None = None,
    span: tuple[int, int] | None = None,
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pairs (unprocessed, processed) of blocks (2, frames), aligned to the sample, over a whole file or a span of
    frames.

    The result has the length of the source: latency is taken out, and what rings on after the end is cut. In a span the
    strip has heard what comes before it, as far back as it remembers. `probe` looks at stages.
    """
    chain = Chain(strip, reader.facts.rate)
    lead = np.empty((2, 0))
    start, stop = span or (0, reader.facts.frames)
    position = max(0, start - min(chain.memory, int(BEFORE_S * reader.facts.rate)))
    skip = chain.latency
    unheard = start - position
    for source in _with_silence(reader, block, chain.latency, position, stop):
        processed = chain.process(source, position, probe)
        position += source.shape[1]
        if skip:
            dropped = min(skip, processed.shape[1])
            processed = processed[:, dropped:]
            skip -= dropped
        lead = np.concatenate([lead, source], axis=1) if chain.latency else source
        count = processed.shape[1]
        early = min(unheard, count)
        unheard -= early
        if count > early:
            yield lead[:, early:count], processed[:, early:]
        lead = lead[:, count:]


def _with_silence(reader: Blocks, block: int, late: int, start: int, stop: int) -> Iterator[np.ndarray]:
    """From a frame on until all that comes before another one has come out; silence after the end of the file."""
    given = start
    for source in reader.blocks(block, start, stop + late):
        given += source.shape[1]
        yield source
    missing = min(late, stop + late - given)
    if missing > 0:
        yield np.zeros((2, missing))
