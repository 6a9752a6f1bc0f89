"""What a stage hears of a recording, wherever it stands in its strip."""

import numpy as np

from stonekite.engine.graph.chain import Chain, Tap
from stonekite.engine.offline.render import open_source
from stonekite.session.types import Stem

WARMEST_S = 10.0
"""So much before a range is heard at the most, for what stands in front of the stage."""


def before_stage(
    stem: Stem, number: int, start: int, frames: int, warm: int = 0
) -> tuple[np.ndarray, Chain, int]:
    """The legs (2, n) that a stage hears in a range of frames, with up to `warm` frames before it; the chain that it
    stands in; and how many of the frames come before the range.
    """
    chain = Chain(stem.strip, stem.source.rate)
    with open_source(stem.source) as reader:
        begin = max(0, start - min(chain.memory + warm, int(WARMEST_S * stem.source.rate)))
        raw = reader.read(begin, start - begin + frames + chain.latency)
    missing = start - begin + frames + chain.latency - raw.shape[1]
    raw = np.pad(raw, ((0, 0), (0, max(0, missing))))
    tap = Tap(number)
    chain.process(raw, begin, tap)
    late = chain.latency if tap.node is None else tap.node.late
    legs, _ = tap.take()
    return legs[:, late : late + start - begin + frames], chain, start - begin
