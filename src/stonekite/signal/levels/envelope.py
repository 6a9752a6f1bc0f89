"""How loud a signal is from moment to moment, as detectors hear it: its power by its peaks, or by its mean.

*Peaks*: a tone is at its height twice a period only, and between samples as often as on them. Where a sample is not
less than its neighbours, the height is that of the tone through all three (signal/heights.py). Then the largest of the
last HOLD_S is held: half a period of 50 Hz.

*Mean*: a running mean over one period of the power of a tone of 50 Hz, and another one over that, a little longer, so
that the ripple of all higher tones is small. Together they hear the last MEANS_S.

Signals of several lanes lie frame after frame: sample n of lane l at n * lanes + l. Blocks of windows lie on a grid of
the clock, so that the result does not depend on how a signal is cut.
"""

import numpy as np

from stonekite.signal.heights import height_squared
from stonekite.signal.kernel import copied, filled, greater, inlined, inner, kernel, lesser
from stonekite.signal.vectors.lanes import LANES, choose, fma, load, mul, splat, store, zero

HOLD_S = 0.0102
MEANS_S = (0.010, 0.014)
REACH = 1
"""Samples on each side that the height at a sample is found from."""
_PARTS = 16
"""The hold is as exact as one part of so many."""


@inner
def _heights(joined, lanes, out):
    """The larger of the power now and of the height one frame ago."""
    size = out.shape[0]
    first, second, third = joined[:size], joined[lanes : lanes + size], joined[2 * lanes : 2 * lanes + size]
    for j in range(size):
        before, middle, now = first[j], second[j], third[j]
        height = height_squared(before, middle, now)
        out[j] = height if height > now * now else now * now


@inlined
def _next_part(row, most, before, running, first, last):
    """A part of the hold has ended: what it held goes into the ring."""
    for lane in range(first, last):
        most[row, lane] = running[lane]
        running[lane] = 0.0
        largest = 0.0
        for k in range(most.shape[0]):
            largest = greater(largest, most[k, lane])
        before[lane] = largest


@inner
def _hold(values, frames, clock, part, most, before, running):
    """In place: the largest of each value and those of the last parts before it. `most` (parts, lanes) are the largest of
    those parts in a ring, `before` (lanes,) the largest of them all, `running` (lanes,) of the part that is going on."""
    lanes = running.shape[0]
    done = 0
    while done < frames:
        place = (clock + done) % part
        if place == 0:
            _next_part((clock + done) // part % most.shape[0], most, before, running, 0, lanes)
        stop = lesser(frames, done + part - place)
        if lanes == 1:
            largest, held = running[0], before[0]
            part_now = values[done:stop]
            for n in range(stop - done):
                value = part_now[n]
                largest = value if value > largest else largest
                part_now[n] = largest if largest > held else held
            running[0] = largest
        else:
            largest, held, minus = load(running, 0), load(before, 0), splat(-1.0)
            for n in range(done, stop):
                value = load(values, n * LANES)
                largest = choose(fma(minus, value, largest), largest, value)
                store(values, n * LANES, choose(fma(minus, held, largest), largest, held))
            store(running, 0, largest)
        done = stop


@inner
def _mean(values, frames, clock, current, ends, sums):
    """In place: the mean of each value and the window - 1 before it.

    Both parts of the sum are of positive numbers that are added up anew in each window, so that no rounding stays: `ends`
    (window + 1, lanes) are the sums of what is still in the window of the block before, `sums` (lanes,) those of the
    block that is going on, `current` (window, lanes) its values.
    """
    window, lanes = current.shape
    share = 1.0 / window
    one, part = splat(1.0), splat(share)
    flat_current, flat_ends = current.reshape(-1), ends.reshape(-1)
    done = 0
    while done < frames:
        place = (clock + done) % window
        if place == 0:
            filled(0.0, sums)
            ends[window] = 0.0
            if lanes == 1:
                left = 0.0
                for k in range(window - 1, -1, -1):
                    left += flat_current[k]
                    flat_ends[k] = left
            else:
                lefts = zero()
                for k in range(window - 1, -1, -1):
                    lefts = fma(load(flat_current, k * LANES), one, lefts)
                    store(flat_ends, k * LANES, lefts)
        count = lesser(frames - done, window - place)
        if lanes == 1:
            total = sums[0]
            piece, kept = values[done : done + count], flat_current[place : place + count]
            rest = flat_ends[place + 1 : place + 1 + count]
            copied(piece, kept)
            for k in range(count):
                total += kept[k]
                piece[k] = total
            for k in range(count):
                piece[k] = share * (piece[k] + rest[k])
            sums[0] = total
        else:
            totals = load(sums, 0)
            for k in range(count):
                value = load(values, (done + k) * LANES)
                store(flat_current, (place + k) * LANES, value)
                totals = fma(value, one, totals)
                whole = fma(totals, one, load(flat_ends, (place + k + 1) * LANES))
                store(values, (done + k) * LANES, mul(part, whole))
            store(sums, 0, totals)
        done += count


@inner
def _squares(values, out):
    for j in range(values.shape[0]):
        out[j] = values[j] * values[j]


@kernel
def _peaks(signals, clock, part, past, most, before, running, joined, out):
    lanes = running.shape[1]
    size, kept = signals.shape[1], past.shape[1]
    for row in range(signals.shape[0]):
        copied(past[row], joined[:kept])
        copied(signals[row], joined[kept : kept + size])
        copied(joined[size : size + kept], past[row])
        _heights(joined[: kept + size], lanes, out[row, :size])
        _hold(out[row], size // lanes, clock, part, most[row], before[row], running[row])


@kernel
def _means(signals, clock, first, second, out):
    lanes = first[2].shape[1]
    for row in range(signals.shape[0]):
        _squares(signals[row], out[row])
        for current, ends, sums in (first, second):
            _mean(out[row], signals.shape[1] // lanes, clock, current[row], ends[row], sums[row])


class _Room:
    """Working space for blocks of any size."""

    def __init__(self, rows: int) -> None:
        self.out = np.zeros((rows, 0))
        self.joined = np.zeros(0)

    def for_size(self, size: int, kept: int) -> None:
        if self.out.shape[1] < size or len(self.joined) < size + kept:
            self.out = np.zeros((len(self.out), size))
            self.joined = np.zeros(size + kept)


class Peaks:
    """The powers of signals by their peaks, each in one lane or in LANES."""

    def __init__(self, signals: int, lanes: int, rate: float) -> None:
        self._past = np.zeros((signals, 2 * REACH * lanes))
        self._part = max(1, int(np.ceil(HOLD_S * rate / _PARTS)))
        self._most = np.zeros((signals, _PARTS, lanes))
        self._before, self._running = np.zeros((2, signals, lanes))
        self._room = _Room(signals)

    @property
    def arrays(self) -> tuple[np.ndarray, ...]:
        """All that it remembers."""
        return self._past, self._most, self._before, self._running

    def powers(self, signals: np.ndarray, clock: int) -> np.ndarray:
        """Powers of signals (signals, frames * lanes), whose first frame is at the clock: as an array of that shape or
        longer, which the next call overwrites."""
        self._room.for_size(signals.shape[1], self._past.shape[1])
        _peaks(
            signals,
            clock,
            self._part,
            self._past,
            self._most,
            self._before,
            self._running,
            self._room.joined,
            self._room.out,
        )
        return self._room.out


class Mean:
    """The powers of signals in the mean, each in one lane or in LANES."""

    def __init__(self, signals: int, lanes: int, rate: float) -> None:
        windows = [max(1, round(seconds * rate)) for seconds in MEANS_S]
        self._first, self._second = (
            (
                np.zeros((signals, window, lanes)),
                np.zeros((signals, window + 1, lanes)),
                np.zeros((signals, lanes)),
            )
            for window in windows
        )
        self._room = _Room(signals)

    @property
    def arrays(self) -> tuple[np.ndarray, ...]:
        """All that it remembers."""
        return *self._first, *self._second

    def powers(self, signals: np.ndarray, clock: int) -> np.ndarray:
        """As `Peaks.powers`."""
        self._room.for_size(signals.shape[1], 0)
        _means(signals, clock, self._first, self._second, self._room.out)
        return self._room.out


Envelope = Peaks | Mean
