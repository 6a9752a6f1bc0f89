"""Bands whose gain follows what is in them: up to eight on each of two legs.

A band is a state variable filter of the second order (Zavalishin, "The Art of VA Filter Design", 2012, chapter 4;
prewarped at its frequency, so that it is the analogue prototype on a bent axis). What the filter lets through is both
what the detector hears and what is turned: with s normalised to the band's frequency, c = 1/Q and the gain G,

    bell        (s^2 + G c s + 1)       / (s^2 + c s + 1)
    low shelf   (s^2 + sqrt(G) c s + G) / (s^2 + c s + 1)
    high shelf  (G s^2 + sqrt(G) c s + 1) / (s^2 + c s + 1)

The poles stay where they are however the gain moves: the gain only weighs what the filter lets through, so nothing
rings or clicks, and a band whose gain is 1 gives back its input bit for bit.

Detectors of all bands stand side by side in one vector: lanes 0 to 7 are the upper leg's, 8 to 15 the lower leg's.
They hear what comes into the stage, each for itself. The bands then work one after the other, as a wavefront like the
sections in signal/filters/biquads.py: there the lanes are in pairs, both legs of the first band, of the second, and so
on.
"""

import copy
from collections.abc import Sequence
from typing import Any

import numpy as np

from stonekite.signal.kernel import any_of, greater, inlined, inner, kernel, lesser
from stonekite.signal.levels.dynamics import DB_PER_LOG2_POWER
from stonekite.signal.levels.envelope import Envelope
from stonekite.signal.vectors.fused import fused
from stonekite.signal.vectors.lanes import (
    LANES,
    choose,
    flush,
    fma,
    load,
    mul,
    push_pair,
    splat,
    store,
    top_lower,
    top_upper,
    zero,
)
from stonekite.signal.vectors.quick import exp2_into, log2_into

BANDS = LANES // 2
CHUNK = 256
"""Frames that are worked on at once, from one absolute sample position that is a multiple of it to the next: there tiny
states are flushed. Their gains stay in the processor's cache."""
_LAG = BANDS - 1
_TINY = 1e-30
_FLOOR = 1e-30
_NOTHING_DB = 1e-9
_HALF_GAIN = 0.5 * 0.16609640474436813
"""log2 of the square root of a gain of 1 dB."""

(
    FEED,
    DAMPING,
    HEARS_BAND,
    HEARS_LOW,
    HEARS_HIGH,
    THRESHOLD,
    SLOPE,
    KNEE,
    RANGE,
    SIGN,
    ATTACK,
    RELEASE,
    SHELF,
    ON,
) = range(14)
"""Rows of the parameters (ROWS, LANES): tan(pi f / rate); 1/Q; how much the detector hears of the filter's three
outputs; threshold in dB; dB of gain for each dB beyond it; knee and range in dB; 1 to lift, -1 to cut; smoothing
factors of attack and release; 1 for a shelf; 1 where there is a band."""
ROWS = 14
TURNS = (ROWS + 6) * LANES
"""Of a row of numbers: where those of the wavefront begin."""
COUPLING = TURNS + 8 * LANES
NUMBERS = COUPLING + 1
UPPER = np.concatenate([np.ones(BANDS), np.zeros(BANDS)])
"""Lanes of the upper leg."""


@inlined
def _at(p, q, row, k, moves):
    """Parameters of a row of `p`; k times those of `q` on where they move."""
    return fma(load(q, row * LANES), k, load(p, row * LANES)) if moves else load(p, row * LANES)


@inlined
def _listen(block, start, stop, p, q, offset, memory, heard, moves):
    """What each detector hears (frames, LANES) of block[:, start:stop]."""
    upper, lower = load(p, ROWS * LANES), load(p, (ROWS + 1) * LANES)
    a1, a2, a3 = (
        load(p, (ROWS + 2) * LANES),
        load(p, (ROWS + 3) * LANES),
        load(p, (ROWS + 4) * LANES),
    )
    damping = load(p, DAMPING * LANES)
    hears_band, hears_low, hears_high = (
        load(p, HEARS_BAND * LANES),
        load(p, HEARS_LOW * LANES),
        load(p, HEARS_HIGH * LANES),
    )
    first, second = load(memory, 0), load(memory, LANES)
    minus, one, two = splat(-1.0), splat(1.0), splat(2.0)
    k = splat(offset)
    for i in range(start, stop):
        if moves:
            a1, a2, a3 = (
                _at(p, q, ROWS + 2, k, True),
                _at(p, q, ROWS + 3, k, True),
                _at(p, q, ROWS + 4, k, True),
            )
            damping = _at(p, q, DAMPING, k, True)
            hears_band = _at(p, q, HEARS_BAND, k, True)
            k = fma(one, k, one)
        x = fma(splat(block[0, i]), upper, mul(splat(block[1, i]), lower))
        v3 = fma(minus, second, x)
        v1 = fma(a1, first, mul(a2, v3))
        v2 = fma(a2, first, fma(a3, v3, second))
        first = fma(two, v1, mul(minus, first))
        second = fma(two, v2, mul(minus, second))
        high = fma(minus, fma(damping, v1, v2), x)
        made = fma(hears_high, high, fma(hears_low, v2, mul(hears_band, v1)))
        store(heard, (i - start) * LANES, made)
    store(memory, 0, first)
    store(memory, LANES, second)


@inlined
def _ask(levels, frames, p, q, offset, memory, amounts, moves):
    """Smoothed amounts in dB (frames, LANES) from log2 of the powers."""
    minus, zero = splat(-1.0), splat(0.0)
    below = mul(minus, load(p, THRESHOLD * LANES))
    slope, half = load(p, SLOPE * LANES), mul(splat(0.5), load(p, KNEE * LANES))
    bend = load(p, (ROWS + 5) * LANES)
    most = load(p, RANGE * LANES)
    attack, release = load(p, ATTACK * LANES), load(p, RELEASE * LANES)
    per_level = splat(DB_PER_LOG2_POWER)
    amount = load(memory, 2 * LANES)
    one, k = splat(1.0), splat(offset)
    for i in range(frames):
        if moves:
            below = mul(minus, _at(p, q, THRESHOLD, k, True))
            slope, bend = _at(p, q, SLOPE, k, True), _at(p, q, ROWS + 5, k, True)
            most = _at(p, q, RANGE, k, True)
            attack, release = _at(p, q, ATTACK, k, True), _at(p, q, RELEASE, k, True)
            k = fma(one, k, one)
        over = fma(per_level, load(levels, i * LANES), below)
        inside = fma(over, splat(1.0), half)
        soft = choose(inside, mul(bend, mul(inside, inside)), zero)
        value = choose(fma(minus, half, over), mul(slope, over), soft)
        value = choose(fma(minus, most, value), most, value)
        rising = fma(minus, amount, value)
        factor = choose(rising, attack, release)
        amount = flush(fma(factor, mul(minus, rising), value), _NOTHING_DB)
        store(amounts, i * LANES, amount)
    store(memory, 2 * LANES, amount)


@inner
def _couple(amounts, frames, p, q, offset, used, most, roots):
    """log2 of the square roots of the gains into `roots`, as the wavefront wants them: those of band b in its pair of
    lanes, b steps later; where no band is they stay 0. The greatest amounts go into `most` (LANES,).
    """
    for i in range(frames):
        k = offset + float(i)
        coupling = fused(q[COUPLING], k, p[COUPLING])
        for b in range(used):
            at = i * LANES + b
            mine, other = amounts[at], amounts[at + BANDS]
            if coupling > 0.0 and p[ON * LANES + b] * p[ON * LANES + b + BANDS] > 0.0:
                larger = greater(mine, other)
                range_a = fused(q[RANGE * LANES + b], k, p[RANGE * LANES + b])
                range_b = fused(q[RANGE * LANES + b + BANDS], k, p[RANGE * LANES + b + BANDS])
                mine = lesser(fused(1.0 - coupling, mine, coupling * larger), range_a)
                other = lesser(fused(1.0 - coupling, other, coupling * larger), range_b)
            pair = (i + b) * LANES + 2 * b
            sign_a = fused(q[SIGN * LANES + b], k, p[SIGN * LANES + b])
            sign_b = fused(q[SIGN * LANES + b + BANDS], k, p[SIGN * LANES + b + BANDS])
            roots[pair] = _HALF_GAIN * sign_a * mine
            roots[pair + 1] = _HALF_GAIN * sign_b * other
            most[b] = greater(most[b], mine)
            most[b + BANDS] = greater(most[b + BANDS], other)


@inlined
def _turn(block, start, count, turns, growing, offset, roots, memory, masks, lags, moves):
    """All bands over block[:, start : start + count] in place; `roots` are the square roots of their gains."""
    a1, a2, a3 = load(turns, 0), load(turns, LANES), load(turns, 2 * LANES)
    damping = load(turns, 3 * LANES)
    bell, shelf = load(turns, 4 * LANES), load(turns, 5 * LANES)
    low, high = load(turns, 6 * LANES), load(turns, 7 * LANES)
    first, second = load(memory, 3 * LANES), load(memory, 4 * LANES)
    one, two, minus = splat(1.0), splat(2.0), splat(-1.0)
    y = zero()
    k = fma(minus, load(lags, 0), splat(offset))
    for step in range(count + _LAG):
        if moves:
            a1, a2, a3 = (
                _at(turns, growing, 0, k, True),
                _at(turns, growing, 1, k, True),
                _at(turns, growing, 2, k, True),
            )
            damping = _at(turns, growing, 3, k, True)
            k = fma(one, k, one)
        heard = step < count
        x = push_pair(y, block[0, start + step] if heard else 0.0, block[1, start + step] if heard else 0.0)
        root = load(roots, step * LANES)
        whole = fma(root, root, minus)
        v3 = fma(minus, second, x)
        v1 = fma(a1, first, mul(a2, v3))
        v2 = fma(a2, first, fma(a3, v3, second))
        band = mul(damping, v1)
        above = fma(minus, v2, fma(minus, band, x))
        outer = fma(high, above, mul(low, v2))
        inner = fma(bell, whole, mul(shelf, fma(root, one, minus)))
        y = fma(inner, band, fma(whole, outer, x))
        new_first, new_second = fma(two, v1, mul(minus, first)), fma(two, v2, mul(minus, second))
        if step < _LAG:
            active = load(masks, step * LANES)
            new_first, new_second = choose(active, new_first, first), choose(active, new_second, second)
        if step >= count:
            ended = load(masks, (step - count) * LANES)
            new_first, new_second = choose(ended, first, new_first), choose(ended, second, new_second)
        first, second = new_first, new_second
        if step >= _LAG:
            block[0, start + step - _LAG] = top_upper(y)
            block[1, start + step - _LAG] = top_lower(y)
    store(memory, 3 * LANES, first)
    store(memory, 4 * LANES, second)


@inlined
def _cell_end(starts, cell, frames):
    return starts[cell + 1] if cell + 1 < starts.shape[0] else frames


@kernel
def _hear(heard, position, starts, offsets, table, steps, memory, out):
    """What all detectors hear of heard (2, frames), frame by frame into `out` (frames * LANES,)."""
    frames = heard.shape[1]
    start = cell = 0
    while start < frames:
        if start == _cell_end(starts, cell, frames):
            cell += 1
        offset = (position + start) % CHUNK
        if offset == 0:
            for row in (0, 1):
                store(memory, row * LANES, flush(load(memory, row * LANES), _TINY))
        count = lesser(lesser(frames, _cell_end(starts, cell, frames)) - start, CHUNK - offset)
        p, q, into = table[cell], steps[cell], float(offsets[cell] + start - starts[cell])
        if any_of(q):
            _listen(heard, start, start + count, p, q, into, memory, out[start * LANES :], True)
        else:
            _listen(heard, start, start + count, p, q, into, memory, out[start * LANES :], False)
        start += count


@kernel
def _work(
    block, powers, position, starts, offsets, table, steps, bands, memory, levels, amounts, roots, loudest, most, masks,
    lags,
):  # fmt: skip
    frames = block.shape[1]
    start = cell = 0
    while start < frames:
        if start == _cell_end(starts, cell, frames):
            cell += 1
        offset = (position + start) % CHUNK
        if offset == 0:
            for row in (3, 4):
                store(memory, row * LANES, flush(load(memory, row * LANES), _TINY))
        count = lesser(lesser(frames, _cell_end(starts, cell, frames)) - start, CHUNK - offset)
        p, q, into = table[cell], steps[cell], float(offsets[cell] + start - starts[cell])
        moves = any_of(q)
        floor, one, top = splat(_FLOOR), splat(1.0), load(loudest, 0)
        for i in range(count):
            power = fma(load(powers, (start + i) * LANES), one, floor)
            store(levels, i * LANES, power)
            top = choose(fma(splat(-1.0), top, power), power, top)
        store(loudest, 0, top)
        log2_into(levels[: count * LANES], amounts)
        if moves:
            _ask(amounts, count, p, q, into, memory, levels, True)
        else:
            _ask(amounts, count, p, q, into, memory, levels, False)
        _couple(levels, count, p, q, into, bands, most, roots)
        used = (count + _LAG) * LANES
        exp2_into(roots[:used], amounts)
        turns, growing = p[TURNS:COUPLING], q[TURNS:COUPLING]
        if moves:
            _turn(block, start, count, turns, growing, into, amounts, memory, masks, lags, True)
        else:
            _turn(block, start, count, turns, growing, into, amounts, memory, masks, lags, False)
        start += count


_MASKS = np.zeros((_LAG, LANES))
for _step in range(_LAG):
    _MASKS[_step, : 2 * (_step + 1)] = 1.0


_LAGS = np.repeat(np.arange(float(BANDS)), 2)
"""By how many frames each lane of the wavefront is behind the first."""
_PAIRS = np.arange(LANES).reshape(2, BANDS).T.ravel()
"""Lanes in the order of the wavefront: both legs of the first band, of the second, and so on."""


def packed(columns: list[list[Any] | None], coupling: float | np.ndarray) -> np.ndarray:
    """Rows (n, NUMBERS) for `Bank`, from the parameters of each lane (ROWS,), floats or arrays (n,), None where there is
    no band: for the detectors, for the wavefront, and the coupling.
    """
    flat = [coupling, *(number for column in columns if column is not None for number in column)]
    count = max(np.size(number) for number in flat)
    p = np.zeros((ROWS + 6, LANES, count))
    p[FEED] = p[DAMPING] = 1.0
    for lane, column in enumerate(columns):
        if column is not None:
            for row, number in enumerate(column):
                p[row, lane] = number
    p[ROWS], p[ROWS + 1] = UPPER[:, None], 1.0 - UPPER[:, None]
    p[ROWS + 2] = 1.0 / (1.0 + p[FEED] * (p[FEED] + p[DAMPING]))
    p[ROWS + 3] = p[FEED] * p[ROWS + 2]
    p[ROWS + 4] = p[FEED] * p[ROWS + 3]
    p[ROWS + 5] = np.where(p[KNEE] > 0, p[SLOPE] / (2.0 * np.maximum(p[KNEE], 1e-9)), 0.0)
    bell, shelf = p[ON] * (1.0 - p[SHELF]), p[ON] * p[SHELF]
    turns = np.array([*p[ROWS + 2 : ROWS + 5], p[DAMPING], bell, shelf, p[HEARS_LOW], p[HEARS_HIGH]])
    parts = p.reshape(-1, count), turns[:, _PAIRS].reshape(-1, count), np.broadcast_to(coupling, (1, count))
    return np.ascontiguousarray(np.concatenate(parts).T)


def _in_use(p: np.ndarray) -> int:
    """How many bands there are on a leg, up to the last one that is in use."""
    on = p[ON * LANES : (ON + 1) * LANES].reshape(2, BANDS).any(axis=0)
    return int(np.flatnonzero(on)[-1]) + 1 if on.any() else 0


class Bank:
    """The state of the bands of both legs, whose detectors hear peaks or the mean (signal/levels/envelope.py)."""

    def __init__(self, envelope: Envelope) -> None:
        self._envelope = envelope
        self._memory = np.zeros((5, LANES))
        self._levels, self._amounts, self._roots = np.zeros((3, (CHUNK + _LAG) * LANES))
        self._heard = np.zeros((1, 0))
        self._others_memory: list[np.ndarray] = []
        """Of those detectors that hear something else than the rest, one for each of what they hear."""
        self._others_heard = np.zeros(0)
        self.loudest, self.most = np.zeros(LANES), np.zeros(LANES)

    def go_on(self, other: "Bank", lanes: list[bool]) -> None:
        """Take over what another bank remembers of the bands that are in use here."""
        used = np.array(lanes)
        self._memory[:3] = np.where(used, other._memory[:3], 0.0)
        self._memory[3:] = np.where(used[_PAIRS], other._memory[3:], 0.0)
        self._others_memory = [np.where(used, memory, 0.0) for memory in other._others_memory]
        self._envelope = copy.deepcopy(other._envelope)

    def process(
        self,
        heard: np.ndarray,
        block: np.ndarray,
        position: int,
        cells: tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray],
        others: Sequence[tuple[np.ndarray, np.ndarray]] = (),
    ) -> None:
        """Turn block (2, frames) in place by what the detectors hear in `heard` (2, frames), which may be the block.
        `others` are pairs of what is heard (2, frames) in its place by those of some lanes (LANES,), bool.

        Afterwards `loudest` (LANES,) is the greatest power that each detector heard, `most` the greatest amount in dB.
        """
        self.loudest[:] = 0.0
        self.most[:] = 0.0
        size = block.shape[1] * LANES
        if self._heard.shape[1] < size:
            self._heard = np.zeros((1, size))
        _hear(heard, position, *cells, self._memory, self._heard[0])
        for k, (other, lanes) in enumerate(others):
            if len(self._others_memory) <= k:
                self._others_memory.append(np.zeros((5, LANES)))
            if lanes.any():
                if self._others_heard.shape[0] < size:
                    self._others_heard = np.zeros(size)
                _hear(other, position, *cells, self._others_memory[k], self._others_heard)
                whole, there = self._heard[0, :size].reshape(-1, LANES), self._others_heard[:size]
                whole[:, lanes] = there.reshape(-1, LANES)[:, lanes]
        powers = self._envelope.powers(self._heard[:, :size], position)
        _work(
            block,
            powers[0],
            position,
            *cells,
            _in_use(cells[2][0]),
            self._memory,
            self._levels,
            self._amounts,
            self._roots,
            self.loudest,
            self.most,
            _MASKS,
            _LAGS,
        )
