"""Cascades of second-order sections on two legs at once.

Eight sections of both legs lie in one vector of 16 lanes. Sample by sample each section takes what the
section before it made one step earlier, so all sections work at the same time (a wavefront); the first and
last seven steps of a block are masked, so that a block ends with every section at the same sample and the
result does not depend on the block size. Transposed direct form II.
"""

import numpy as np

from stonekite.signal.kernel import any_of, inner, kernel, lesser
from stonekite.signal.vectors.lanes import (
    LANES,
    choose,
    flush,
    fma,
    load,
    mul,
    push_pair,
    scalar_fma,
    splat,
    store,
    top_lower,
    top_upper,
)

SECTIONS = LANES // 2
NUMBERS = 5 * LANES
"""Of a group of so many sections of both legs."""
GRID = 256
"""Tiny states are flushed where the absolute sample position is a multiple of this."""
TINY = 1e-30

_LAG = SECTIONS - 1
MASKS = np.zeros((_LAG, LANES))
for _step in range(_LAG):
    MASKS[_step, : 2 * (_step + 1)] = 1.0
LAGS = np.repeat(np.arange(float(SECTIONS)), 2)
"""By how many frames each lane is behind the first."""
_NOWHERE = np.zeros(1, dtype=np.int64)

Cells = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]
"""Where cells begin in a block, how far into each it comes in, both (cells,); the numbers there and what they grow by for
each frame, both (cells, numbers)."""


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
def _run_moving(block, start, stop, table, steps, offset, state, masks, lags):
    """As `_run`, with coefficients that go straight: `table` + k `steps`, both (5 LANES,), for the frame k; the one at
    `start` is `offset`. Each section is a frame behind the one before it."""
    one = splat(1.0)
    k = fma(splat(-1.0), load(lags, 0), splat(offset))
    s1 = load(state, 0)
    s2 = load(state, LANES)
    y = mul(s1, s2)
    for i in range(start, stop + _LAG):
        inside = i < stop
        x = push_pair(y, block[0, i] if inside else 0.0, block[1, i] if inside else 0.0)
        y = fma(fma(load(steps, 0), k, load(table, 0)), x, s1)
        b1 = fma(load(steps, LANES), k, load(table, LANES))
        b2 = fma(load(steps, 2 * LANES), k, load(table, 2 * LANES))
        a1 = fma(load(steps, 3 * LANES), k, load(table, 3 * LANES))
        a2 = fma(load(steps, 4 * LANES), k, load(table, 4 * LANES))
        new1 = fma(a1, y, fma(b1, x, s2))
        new2 = fma(a2, y, mul(b2, x))
        if i < start + _LAG:
            active = load(masks, (i - start) * LANES)
            s1, s2 = choose(active, new1, s1), choose(active, new2, s2)
        elif inside:
            s1, s2 = new1, new2
        else:
            done = load(masks, (i - stop) * LANES)
            s1, s2 = choose(done, s1, new1), choose(done, s2, new2)
        if i >= start + _LAG:
            block[0, i - _LAG] = top_upper(y)
            block[1, i - _LAG] = top_lower(y)
        k = fma(one, k, one)
    store(state, 0, s1)
    store(state, LANES, s2)


@inner
def _run_few_moving(block, start, stop, table, steps, offset, state):
    """As `_run_few`, with coefficients as in `_run_moving`."""
    for lane in range(LANES):
        leg = lane % 2
        s1 = state[lane]
        s2 = state[LANES + lane]
        for i in range(start, stop):
            k = offset + float(i - start)
            x = block[leg, i]
            y = scalar_fma(scalar_fma(steps[lane], k, table[lane]), x, s1)
            b1 = scalar_fma(steps[LANES + lane], k, table[LANES + lane])
            b2 = scalar_fma(steps[2 * LANES + lane], k, table[2 * LANES + lane])
            a1 = scalar_fma(steps[3 * LANES + lane], k, table[3 * LANES + lane])
            a2 = scalar_fma(steps[4 * LANES + lane], k, table[4 * LANES + lane])
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


@inner
def _moving_part(block, first, last, position, table, steps, offset, state, masks, lags):
    """As `cascade_part`, of one cell: `table` and `steps` (groups, 5 LANES), `offset` of the frame at `first`."""
    for group in range(table.shape[0]):
        start = first
        while start < last:
            grid = (position + start - first) % GRID
            if grid == 0:
                _flush(state[group])
            stop = lesser(last, start + GRID - grid)
            at = float(offset + start - first)
            if stop - start > _LAG:
                _run_moving(block, start, stop, table[group], steps[group], at, state[group], masks, lags)
            else:
                _run_few_moving(block, start, stop, table[group], steps[group], at, state[group])
            start = stop


@inner
def cascade_cell(block, first, last, position, now, step, offset, state, masks, lags):
    """One cell, by the numbers (groups * NUMBERS,) `now` and what they grow by; `offset` is that of the first."""
    groups = state.shape[0]
    table = now.reshape(groups, NUMBERS)
    if any_of(step):
        steps = step.reshape(groups, NUMBERS)
        _moving_part(block, first, last, position, table, steps, offset, state, masks, lags)
    else:
        cascade_part(block, first, last, position, table, state, masks)


@kernel
def _cascade(block, position, starts, offsets, table, steps, state, masks, lags):
    cells = len(starts)
    for cell in range(cells):
        first = starts[cell]
        last = starts[cell + 1] if cell + 1 < cells else block.shape[1]
        now, step, offset = table[cell], steps[cell], offsets[cell]
        cascade_cell(block, first, last, position + first, now, step, offset, state, masks, lags)


def pack(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """Coefficients (groups, 80) for `cascade` from the sections (n, 5) of each leg.

    The shorter list is filled with sections that do nothing, bit for bit. No sections, no groups.
    """
    return pack_many(upper, lower)[0]


def pack_many(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """As `pack`, (k, groups, 80) of sections (n, 5) or (k, n, 5)."""
    count = max([1, *(len(part) for part in (upper, lower) if part.ndim == 3)])
    needed = groups(upper, lower)
    table = np.zeros((count, needed * SECTIONS, 2, 5))
    table[..., 0] = 1.0
    table[:, : upper.shape[-2], 0] = upper
    table[:, : lower.shape[-2], 1] = lower
    table[..., 3:] *= -1.0
    by_lane = table.reshape(count, needed, SECTIONS * 2, 5).transpose(0, 1, 3, 2)
    return np.ascontiguousarray(by_lane).reshape(count, needed, NUMBERS)


def groups(upper: np.ndarray, lower: np.ndarray) -> int:
    """So many groups of sections are needed for those (..., n, 5) of both legs."""
    return -(-max(upper.shape[-2], lower.shape[-2]) // SECTIONS)


def rest(count: int) -> np.ndarray:
    """The state (groups, 32) of a cascade of so many groups that has heard nothing."""
    return np.zeros((count, 2 * LANES))


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
    table = coefficients.reshape(1, -1)
    _cascade(block, position, _NOWHERE, _NOWHERE, table, np.zeros_like(table), state, MASKS, LAGS)


def cascade_along(block: np.ndarray, position: int, cells: Cells, state: np.ndarray) -> None:
    """As `cascade`, with coefficients that may move: cells whose numbers are those of `pack_many`, in a row."""
    _cascade(block, position, *cells, state, MASKS, LAGS)
