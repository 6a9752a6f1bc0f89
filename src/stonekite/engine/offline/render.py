"""Whole files through a strip."""

from collections.abc import Generator, Iterator
from contextlib import closing
from pathlib import Path

import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import Probe
from stonekite.engine.graph.tails import Tail, frames_of, until_quiet
from stonekite.engine.offline.generator import GeneratorReader
from stonekite.engine.offline.made import MadeReader
from stonekite.engine.offline.relay import relayed
from stonekite.files.audio import BLOCK, Blocks, Reader
from stonekite.session.types import Source, Strip

BEFORE_S = 300.0
"""So much before a span is heard at the most, so that its start does not differ from the whole."""


def open_source(source: Source, ahead: int = 0) -> Blocks:
    """What a source sounds like: the two channels it uses, its test signal, or what other strips make. Raises
    AudioError."""
    if source.made is not None:
        return MadeReader(source.made, source, open_source, ahead)
    if source.generator is not None:
        return GeneratorReader(source.generator, source.rate, source.frames)
    return Reader(Path(source.path), source.channels, ahead=ahead)


def rendered(
    reader: Blocks,
    strip: Strip,
    block: int = BLOCK,
    probe: Probe | None = None,
    span: tuple[int, int] | None = None,
    tail: Tail = 0.0,
    chain: Chain | None = None,
    threads: int | None = 1,
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pairs (unprocessed, processed) of blocks (2, frames), aligned to the sample, over a whole file or a span of
    frames; latency is taken out.

    A whole file is followed by its tail, beside which the unprocessed signal is silent. In a span the strip has heard
    what comes before it, as far back as it remembers. `probe` looks at stages. Who wants to ask the chain afterwards
    makes it, for the strip and the rate. With several `threads`, or None for as many as there are cores, its stages work
    on several blocks at once, where no probe looks at them.
    """
    chain = chain or Chain(strip, reader.facts.rate)
    chain.keys.rows.update({number: 2 * k for k, number in enumerate(reader.keys)})
    start, stop = span or (0, reader.facts.frames)
    begin = max(0, start - min(chain.memory, int(BEFORE_S * reader.facts.rate)))
    more = 0 if span is not None else frames_of(tail, reader.tail + chain.tail, reader.facts.rate)
    pairs = _through(
        chain, _with_silence(reader, block, chain.latency + more, begin, stop), begin, probe, threads
    )
    skip = start - begin
    left = stop - start
    for unprocessed, processed in pairs:
        early = min(skip, processed.shape[1])
        skip -= early
        now = min(left, processed.shape[1] - early)
        left -= now
        if now > 0:
            yield unprocessed[:2, early : early + now], processed[:, early : early + now]
        if not left and early + now < processed.shape[1]:
            rest = processed[:, early + now :]
            break
    else:
        return
    ringing = _processed(rest, pairs)
    for piece in until_quiet(ringing, reader.facts.rate) if tail is None else ringing:
        yield np.zeros_like(piece), piece


def _processed(first: np.ndarray, pairs: Iterator[tuple[np.ndarray, np.ndarray]]) -> Iterator[np.ndarray]:
    """What is processed: a first block, and then what follows."""
    yield first
    for _, processed in pairs:
        yield processed


def _through(
    chain: Chain, sources: Iterator[np.ndarray], clock: int, probe: Probe | None, threads: int | None
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Blocks of a source and what a chain makes of them, its latency taken out."""
    lead: np.ndarray | None = None
    skip = chain.latency
    if threads == 1 or probe is not None:
        results = _one_by_one(chain, sources, clock, probe)
    else:
        results = relayed(chain.steps(), sources, clock, threads)
    with closing(results):
        for source, processed in results:
            dropped = min(skip, processed.shape[1])
            processed = processed[:, dropped:]
            skip -= dropped
            lead = source if lead is None or not chain.latency else np.concatenate([lead, source], axis=1)
            count = processed.shape[1]
            if count:
                yield lead[:, :count], processed
            lead = lead[:, count:]


def _one_by_one(
    chain: Chain, sources: Iterator[np.ndarray], clock: int, probe: Probe | None
) -> Generator[tuple[np.ndarray, np.ndarray], None, None]:
    for source in sources:
        yield source, chain.process(source, clock, probe)
        clock += source.shape[1]


def _with_silence(reader: Blocks, block: int, late: int, start: int, stop: int) -> Iterator[np.ndarray]:
    """From a frame on until all that comes before another one has come out; silence after the end of the file."""
    given = start
    for source in reader.blocks(block, start, stop + late, beyond=True):
        given += source.shape[1]
        yield np.concatenate([source, reader.beside]) if reader.keys else source
    missing = min(late, stop + late - given)
    while missing > 0:
        count = min(missing, block)
        yield np.zeros((2 + 2 * len(reader.keys), count))
        missing -= count
