"""Cascades of second-order sections on two legs at once.

Eight sections of both legs lie in one vector of 16 lanes. Sample by sample each section takes what the
section before it made one step earlier, so all sections work at the same time (a wavefront); the first and
last seven steps of a block are masked, so that a block ends with every section at the same sample and the
result does not depend on the block size. Transposed direct form II.
"""

import numpy as np

from stonekite.signal.kernel import inner, kernel, lesser
from stonekite.signal.vectors.lanes import (
    LANES,
    choose,
    flush,
    fma,
    load,
    mul,
    push_pair,
    scalar_fma,
    store,
    top_lower,
    top_upper,
)

SECTIONS = LANES // 2
GRID = 256
"""Tiny states are flushed where the absolute sample position is a multiple of this."""
TINY = 1e-30

_LAG = SECTIONS - 1
MASKS = np.zeros((_LAG, LANES))
for _step in range(_LAG):
    MASKS[_step, : 2 * (_step + 1)] = 1.0


@inner
def _run(block, start, stop, coefficients, state, masks):
    """Filter block[:, start:stop] (C-contiguous) in place through eight sections; stop - start > 7."""
    b0 = load(coefficients, 0)
    b1 = load(coefficients, LANES)
    b2 = load(coefficients, 2 * LANES)
    a1 = load(coefficients, 3 * LANES)
    a2 = load(coefficients, 4 * LANES)
    s1 = load(state, 0)
    s2 = load(state, LANES)
    y = mul(s1, s2)
    for i in range(_LAG):
        x = push_pair(y, block[0, start + i], block[1, start + i])
        y = fma(b0, x, s1)
        active = load(masks, i * LANES)
        s1 = choose(active, fma(a1, y, fma(b1, x, s2)), s1)
        s2 = choose(active, fma(a2, y, mul(b2, x)), s2)
    for i in range(start + _LAG, stop):
        x = push_pair(y, block[0, i], block[1, i])
        y = fma(b0, x, s1)
        s1 = fma(a1, y, fma(b1, x, s2))
        s2 = fma(a2, y, mul(b2, x))
        block[0, i - _LAG] = top_upper(y)
        block[1, i - _LAG] = top_lower(y)
    for i in range(_LAG):
        x = push_pair(y, 0.0, 0.0)
        y = fma(b0, x, s1)
        done = load(masks, i * LANES)
        s1 = choose(done, s1, fma(a1, y, fma(b1, x, s2)))
        s2 = choose(done, s2, fma(a2, y, mul(b2, x)))
        block[0, stop - _LAG + i] = top_upper(y)
        block[1, stop - _LAG + i] = top_lower(y)
    store(state, 0, s1)
    store(state, LANES, s2)


@inner
def _run_few(block, start, stop, coefficients, state):
    """As `_run`, section by section: for the few samples that a wavefront would not fill."""
    for lane in range(LANES):
        leg = lane % 2
        s1 = state[lane]
        s2 = state[LANES + lane]
        b0 = coefficients[lane]
        b1 = coefficients[LANES + lane]
        b2 = coefficients[2 * LANES + lane]
        a1 = coefficients[3 * LANES + lane]
        a2 = coefficients[4 * LANES + lane]
        for i in range(start, stop):
            x = block[leg, i]
            y = scalar_fma(b0, x, s1)
            s1 = scalar_fma(a1, y, scalar_fma(b1, x, s2))
            s2 = scalar_fma(a2, y, b2 * x)
            block[leg, i] = y
        state[lane] = s1
        state[LANES + lane] = s2


@inner
def _flush(state):
    store(state, 0, flush(load(state, 0), TINY))
    store(state, LANES, flush(load(state, LANES), TINY))


@inner
def cascade_part(block, first, last, position, coefficients, state, masks):
    """Filter block[:, first:last] in place; `position` is that of its first frame."""
    for group in range(coefficients.shape[0]):
        start = first
        while start < last:
            offset = (position + start - first) % GRID
            if offset == 0:
                _flush(state[group])
            stop = lesser(last, start + GRID - offset)
            if stop - start > _LAG:
                _run(block, start, stop, coefficients[group], state[group], masks)
            else:
                _run_few(block, start, stop, coefficients[group], state[group])
            start = stop


@kernel
def _cascade(block, position, coefficients, state, masks):
    cascade_part(block, 0, block.shape[1], position, coefficients, state, masks)


def pack(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """Coefficients (groups, 80) for `cascade` from the sections (n, 5) of each leg.

    The shorter list is filled with sections that do nothing, bit for bit. No sections, no groups.
    """
    groups = -(-max(len(upper), len(lower)) // SECTIONS)
    table = np.zeros((groups * SECTIONS, 2, 5))
    table[:, :, 0] = 1.0
    table[: len(upper), 0] = upper
    table[: len(lower), 1] = lower
    table[:, :, 3:] *= -1.0
    by_lane = table.reshape(groups, SECTIONS * 2, 5).transpose(0, 2, 1)
    return np.ascontiguousarray(by_lane).reshape(groups, 5 * LANES)


def rest(coefficients: np.ndarray) -> np.ndarray:
    """The state (groups, 32) of a cascade that has heard nothing."""
    return np.zeros((len(coefficients), 2 * LANES))


def copy_section(source: np.ndarray, there: int, target: np.ndarray, here: int, leg: int) -> None:
    """Copy what section `there` of a leg remembers in one state to section `here` of the same leg in another."""
    for half in (0, LANES):
        lane_from, lane_to = half + 2 * (there % SECTIONS) + leg, half + 2 * (here % SECTIONS) + leg
        target[here // SECTIONS, lane_to] = source[there // SECTIONS, lane_from]


def cascade(block: np.ndarray, position: int, coefficients: np.ndarray, state: np.ndarray) -> None:
    """Filter block (2, frames), C-contiguous float64, in place.

    `position` is the absolute sample position of the block's first frame (it fixes the flushing grid);
    `coefficients` come from `pack`, `state` from `rest`, and is left ready for the next block.
    """
    _cascade(block, position, coefficients, state, MASKS)
