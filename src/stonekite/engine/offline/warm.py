"""Loading, or on the first start compiling, every kernel that sound may need."""

import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.session.types import Leg, Strip
from stonekite.signal import mixing
from stonekite.signal.delay import FineDelay
from stonekite.stages.base import At, Context
from stonekite.stages.branch import branches_of
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.gain import Gain
from stonekite.stages.registry import KINDS, kind_of

RATE = 48_000


def warm_kernels() -> None:
    """Send a moment of silence through a stage of every kind, so that the first sound does not wait for it."""
    bell = EqSide(bands=(Band(gain_db=1.0),))
    long = Eq(id=0, upper=bell, lower=bell, shared=EqShared(phase="linear"))
    for stage in [*(kind.stage(id=0) for kind in KINDS.values()), long]:
        kind = kind_of(stage)
        context = Context(RATE, "half-sum")
        coefficients = kind.coefficients(stage, context)
        frames = max(kind.plan(stage, context).latency) + 600
        lines = (lambda block: None,) * len(branches_of(stage))
        kind.process(kind.start(coefficients), coefficients, np.zeros((2, frames)), At(0, lines))
    all_of, rows = np.zeros(1, dtype=np.int64), np.zeros((1, 2, 600))
    mixing.mix_each(np.eye(2)[None], all_of, rows[0], rows)
    mixing.add_each(np.eye(2)[None], all_of, rows, rows[0])
    FineDelay((0.5, 0.0)).process(np.zeros((2, 600)))
    for stages in ((), (Gain(id=1),)):
        Chain(Strip(stages=stages, upper=Leg(level_db=-1.0)), RATE).process(np.zeros((2, 600)), 0)
