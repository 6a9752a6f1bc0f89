"""What a stage hears of a recording, wherever it stands in its strip."""

from collections.abc import Generator

import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import Tap
from stonekite.engine.offline.render import open_source
from stonekite.files.audio import BLOCK
from stonekite.session.types import Stem

WARMEST_S = 10.0
"""So much before a range is heard at the most, for what stands in front of the stage."""


Heard = tuple[np.ndarray, Chain, int]


def before_stage(stem: Stem, number: int, start: int, frames: int, warm: int = 0) -> Heard:
    """The legs (2, n) that a stage hears in a range of frames, with up to `warm` frames before it; the chain that it
    stands in; and how many of the frames come before the range.
    """
    steps = heard_in_steps(stem, number, start, frames, warm)
    while True:
        try:
            next(steps)
        except StopIteration as end:
            heard: Heard = end.value
            return heard


def heard_in_steps(
    stem: Stem, number: int, start: int, frames: int, warm: int = 0
) -> Generator[float, None, Heard]:
    """As `before_stage`, block by block: gives how far it is, from 0 to 1."""
    chain = Chain(stem.strip, stem.source.rate)
    tap = Tap(number)
    heard: list[np.ndarray] = []
    with open_source(stem.source) as reader:
        begin = max(0, start - min(chain.memory + warm, int(WARMEST_S * stem.source.rate)))
        whole = start - begin + frames + chain.latency
        for done in range(0, whole, BLOCK):
            count = min(BLOCK, whole - done)
            block = reader.read(begin + done, count)
            chain.process(np.pad(block, ((0, 0), (0, count - block.shape[1]))), begin + done, tap)
            heard.append(tap.take()[0])
            yield (done + count) / whole
    late = chain.latency if tap.node is None else tap.node.late
    legs = np.concatenate(heard, axis=1) if heard else np.zeros((2, 0))
    return legs[:, late : late + start - begin + frames], chain, start - begin
