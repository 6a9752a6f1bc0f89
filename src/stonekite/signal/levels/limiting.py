"""A limiter that holds true peaks under a ceiling, looking ahead.

The true peak at and between samples is looked for as ITU-R BS.1770 does, but closer: halfway between samples by a long
filter, and at the tops of what then stands twice as dense by
the tone through three neighbours (signal/heights.py). What no filter sees is next to half the rate: a
high-pass bounds it, and the bound is added. The gain that the peak asks for is held at its least over the
look-ahead, let go of exponentially, and smoothed by a moving average of the same length: so it is down in time for every
peak, without a corner (Hamalainen, "Smoothing of the control signal without clipped output in digital peak limiters",
DAFx 2002).

A gain that moves makes peaks of its own between samples. So there are two such limiters in a row, the second one with a
short look-ahead of its own: it looks at what the first one gives, closer still, with a filter that sees all but the last
half per cent of the spectrum, and four times as dense.
"""

from functools import cache

import numpy as np

from stonekite.signal.filters import fir
from stonekite.signal.filters.interpolation import between
from stonekite.signal.heights import height_squared
from stonekite.signal.kernel import copied, greater, inner, kernel, lesser

LOOK, LOOK_BETA = 256, 4.0
"""Taps and window of the filter that looks between samples."""
SHORT, SHORT_BETA = 24, 7.0
"""Of the filter that looks between those."""
_KEPT = SHORT + 2
FIRST_LOOK, FIRST_BETA = 64, 7.0
"""Of the first limiter: it may miss a little."""
TOP, TOP_BETA = 128, 5.0
"""Taps and window of the high-pass that bounds what it does not see."""
TOP_WIDTH = 0.008
"""Of the rate: so close to half of it the bound counts in full."""
TOP_HOLD = 256.0
"""Samples in which the bound falls to a third."""
CHUNK = 1024
"""The longest signal that is taken at once, so that all stays in the processor's cache."""


def margin_db(rate: float) -> float:
    """So far the gains stay under the ceiling, for peaks of noise that are found to be a little less than they are: more
    at rates at which there is more above hearing."""
    return 0.05 if rate <= 50_000.0 else 0.15


SECOND_S = 0.003
"""Look-ahead of the second limiter."""
_NOTHING = 1e-9
"""A lack that falls by less than this for each sample has ended."""


@cache
def _top_taps() -> np.ndarray:
    """A low-pass of TOP_WIDTH, moved to half the rate."""
    t = np.arange(TOP) - (TOP - 1) / 2
    window = np.kaiser(TOP, TOP_BETA)
    taps = np.sinc(2 * TOP_WIDTH * t) * window
    return taps / taps.sum() * np.cos(np.pi * np.arange(TOP))


@inner
def _see(signal, past, taps, tops, short, halves, dense, high, ends, lacks, ceiling, rise, offset):
    """What the gain has to lack of 1 around each sample, as many samples late as `_seeing_late` says. The
    ceiling goes up by `rise` for each sample of the cell, of which the first one is `offset`.

    `past` (taps - 1 + CHUNK,) begins with what was last, `halves` (1 + CHUNK,) with the last point between samples, and
    `dense` (_KEPT + 2 CHUNK,) with the last of both. With `tops` and `short` it looks closer; `ends[3]` is then the bound
    of what is not seen.
    """
    frames, look = signal.shape[0], taps.shape[0]
    copied(signal, past[look - 1 : look - 1 + frames])
    fir.convolve(past, taps, halves[1 : 1 + frames])
    now, after = past[look // 2 - 1 : look // 2 - 1 + frames], past[look // 2 : look // 2 + frames]
    left, right = halves[:frames], halves[1 : 1 + frames]
    if short.shape[0]:
        for i in range(frames):
            dense[_KEPT + 2 * i], dense[_KEPT + 2 * i + 1] = now[i], right[i]
        fir.convolve(dense, short, high[: 2 * frames + _KEPT - SHORT + 1])
        for i in range(frames):
            most = 0.0
            for k in range(2):
                p = _KEPT - SHORT // 2 + 2 * i + k
                before, after_it = high[p - SHORT // 2], high[p - SHORT // 2 + 1]
                on = height_squared(before, dense[p], after_it)
                off = height_squared(dense[p], after_it, dense[p + 1])
                most = greater(most, greater(on, off))
            lacks[i] = most
        for k in range(_KEPT):
            dense[k] = dense[2 * frames + k]
    else:
        for i in range(frames):
            on, off = height_squared(left[i], now[i], right[i]), height_squared(now[i], right[i], after[i])
            lacks[i] = on if on > off else off
    for i in range(frames):
        lacks[i] = np.sqrt(lacks[i])
    if tops.shape[0]:
        fir.convolve(past[look - tops.shape[0] :], tops, high[:frames])
        bound, fall = ends[3], 1.0 - 1.0 / TOP_HOLD
        for i in range(frames):
            size = abs(high[i])
            bound = bound * fall
            bound = size if size > bound else bound
            lacks[i] += bound
        ends[3] = bound if bound > _NOTHING else 0.0
    if rise == 0.0:
        for i in range(frames):
            peak = lacks[i] if lacks[i] > ceiling else ceiling
            lacks[i] = 1.0 - ceiling / peak
    else:
        for i in range(frames):
            bound = ceiling + rise * float(offset + i)
            peak = lacks[i] if lacks[i] > bound else bound
            lacks[i] = 1.0 - bound / peak
    halves[0] = halves[frames]
    for k in range(look - 1):
        past[k] = past[frames + k]


@inner
def _hold(joined, size, earlier):
    """In place: the largest of each value and those before it, `size` in all; the first size - 1 lose their meaning.

    By doubling: the largest of 2, 4, 8... values is that of two of half as many. `earlier` is working space.
    """
    reach = 1
    while reach < size:
        step = lesser(reach, size - reach)
        count = joined.shape[0] - step
        before, later = earlier[:count], joined[step:]
        copied(joined[:count], before)
        for i in range(count):
            later[i] = greater(later[i], before[i])
        reach += step


@inner
def _let_go(lacks, release, lack):
    """In place: up at once, back down exponentially and then to nothing; `lack` is the one before, and is given back."""
    for i in range(lacks.shape[0]):
        lack = greater(lacks[i], release * lack - _NOTHING)
        lacks[i] = lack
    return lack


@inner
def _average(joined, window, total, busy, out):
    """Gains from the mean of each lack and the window - 1 before it; `joined` are the last `window` and then the new.

    `total` is the sum of the last `window`, `busy` how many of them are not 0: both are given back. With none it
    starts from nothing again, so that no rounding is left.
    """
    share = 1.0 / window
    for i in range(out.shape[0]):
        new, old = joined[i + window], joined[i]
        busy += (1.0 if new > 0.0 else 0.0) - (1.0 if old > 0.0 else 0.0)
        total = total + (new - old) if busy > 0.0 else 0.0
        out[i] = 1.0 - total * share
    return total, busy


@inner
def _work(release, window, asked, kept, earlier, past, ends, out):
    """Gains into `out`. `asked` (window + CHUNK,) are the last `window` lacks asked for and then those of now, `kept`
    begins with the last ones kept, `past` (window,) is working space; `ends` (4,) are the lack that is being let go of,
    sum and count of the average, and what `_see` needs.
    """
    stop = window + out.shape[0]
    copied(asked[window:stop], kept[window:stop])
    held = kept[:stop]
    copied(kept[:window], past)
    copied(asked[:window], held[:window])
    _hold(held, window + 1, earlier)
    ends[0] = _let_go(held[window:], release, ends[0])
    copied(past, held[:window])
    ends[1], ends[2] = _average(held, window, ends[1], ends[2], out)
    last = stop - window
    copied(asked[last:stop], past)
    copied(past, asked[:window])
    copied(kept[last:stop], past)
    copied(past, kept[:window])


@kernel
def _all(
    signal, eye, starts, offsets, ceilings, rises, releases, window, asked, kept, earlier, before, ends, out
):
    """Gains for all of a signal, in pieces that stay in the processor's cache, each of one cell."""
    past, taps, tops, short, halves, dense, high = eye
    cells = starts.shape[0]
    for cell in range(cells):
        stop = starts[cell + 1] if cell + 1 < cells else signal.shape[0]
        for start in range(starts[cell], stop, CHUNK):
            end = lesser(stop, start + CHUNK)
            lacks = asked[window : window + end - start]
            into = offsets[cell] + start - starts[cell]
            now, rise = ceilings[cell], rises[cell]
            _see(
                signal[start:end], past, taps, tops, short, halves, dense, high, ends, lacks, now, rise, into
            )
            _work(releases[cell], window, asked, kept, earlier, before, ends, out[start:end])


@kernel
def through(block, gains, works, starts, offsets, couplings, rises, upper, lower, places, least):
    """Turn block (2, frames) by gains (2, frames), coupled, where a leg `works`, as late as its line is long. Lines go
    round, from `places` (2,) on; `least` (2,) becomes so many times the smallest gain.
    """
    frames, cells = block.shape[1], starts.shape[0]
    for cell in range(cells):
        coupling, rise = couplings[cell], rises[cell]
        if coupling > 0.0 or rise != 0.0:
            for i in range(starts[cell], starts[cell + 1] if cell + 1 < cells else frames):
                share = coupling + rise * float(offsets[cell] + i - starts[cell])
                both = lesser(gains[0, i], gains[1, i])
                for row in range(2):
                    gains[row, i] = (1.0 - share) * gains[row, i] + share * both
    for row in range(2):
        if not works[row]:
            continue
        line, place, low = upper if row == 0 else lower, places[row], 1.0
        for i in range(frames):
            was = line[place]
            line[place] = block[row, i]
            place += 1
            if place == line.shape[0]:
                place = 0
            low = lesser(low, gains[row, i])
            block[row, i] = was * gains[row, i]
        places[row] = place
        least[row] *= low


Cells = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]


class Limiter:
    """Gains of one leg; `window` is the look-ahead in samples, `last` whether it is the second of the two."""

    def __init__(self, window: int, last: bool) -> None:
        self.window = max(1, window)
        look, beta = (LOOK, LOOK_BETA) if last else (FIRST_LOOK, FIRST_BETA)
        taps = between(2, look, beta)[0].copy()
        tops, short = np.empty(0), np.empty(0)
        if last:
            tops, short = _top_taps(), between(2, SHORT, SHORT_BETA)[0].copy()
        past, halves = np.zeros(look - 1 + CHUNK), np.zeros(1 + CHUNK)
        dense, high = np.zeros((2, _KEPT + 2 * CHUNK))
        self._eye = past, taps, tops, short, halves, dense, high
        self._asked, self._kept, self._earlier = np.zeros((3, self.window + CHUNK))
        self._before = np.zeros(self.window)
        self._ends = np.zeros(4)

    def gains(self, signal: np.ndarray, cells: Cells, out: np.ndarray) -> None:
        """Gains (frames,) into `out`, for the signal (frames,) as it was `latency` samples ago. `cells` are where they
        begin, how far into each it comes in, the ceilings less the margin as amplitudes, what these grow by for each
        sample, and the releases, each (cells,)."""
        lines = self._asked, self._kept, self._earlier, self._before, self._ends
        _all(signal, self._eye, *cells, self.window, *lines, out)


def _seeing_late(last: bool) -> int:
    return LOOK // 2 + SHORT // 4 if last else FIRST_LOOK // 2


def latency(window: int, last: bool) -> int:
    """Samples by which the sound has to be held back for the gains of a look-ahead."""
    return _seeing_late(last) + max(1, window) - 1
