"""A limiter that holds true peaks under a ceiling, looking ahead.

The true peak at and between samples is looked for as ITU-R BS.1770 does, but at eight times the rate and with longer
filters (signal/oversampling.py): a peak that stands between four looks a sample could be 0.6 dB higher than all of
them. The gain that it asks for is held at its least over the look-ahead, let go of exponentially, and smoothed by a
moving average of the same length: so it is down in time for every peak, without a corner (Hamalainen, "Smoothing of
the control signal without clipped output in digital peak limiters", DAFx 2002).

What lies between 20 kHz and half the rate is looked at through the slope of those filters: white noise up to there comes
out with true peaks up to 0.8 dB over the ceiling, programme without it with at most 0.1 dB.
"""

import numpy as np
from numba import njit

from stonekite.signal.oversampling import CHUNK, LEAD, UP_LATENCY, Up, rise

FACTOR = 8
MARGIN_DB = 0.04
"""So far the gains stay under the ceiling, for what lies above 20 kHz and for the gain's own movement."""
_NOTHING = 1e-9
"""A lack that falls by less than this for each sample has ended."""


@njit(cache=True, nogil=True, error_model="numpy")
def _ask(rows, ceiling, lacks):
    """What the gain has to lack of 1 for the points at each sample and after it; `rows` are (FACTOR, frames)."""
    lacks[:] = ceiling
    for q in range(rows.shape[0]):
        row = rows[q]
        for i in range(lacks.shape[0]):
            lacks[i] = max(lacks[i], abs(row[i]))
    for i in range(lacks.shape[0]):
        lacks[i] = 1.0 - ceiling / lacks[i]


@njit(cache=True, nogil=True, error_model="numpy")
def _hold(joined, size, earlier):
    """In place: the largest of each value and those before it, `size` in all; the first size - 1 lose their meaning.

    By doubling: the largest of 2, 4, 8... values is that of two of half as many. `earlier` is working space.
    """
    reach = 1
    while reach < size:
        step = min(reach, size - reach)
        count = joined.shape[0] - step
        before, later = earlier[:count], joined[step:]
        before[:] = joined[:count]
        for i in range(count):
            later[i] = max(later[i], before[i])
        reach += step


@njit(cache=True, nogil=True, error_model="numpy")
def _let_go(lacks, release, lack):
    """In place: up at once, back down exponentially and then to nothing; `lack` is the one before, and is given back."""
    for i in range(lacks.shape[0]):
        lack = max(lacks[i], release * lack - _NOTHING)
        lacks[i] = lack
    return lack


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
def _work(rows, ceiling, release, window, asked, kept, earlier, ends, out):
    """Gains into `out`. `asked` and `kept` (window + CHUNK,) begin with the last `window` lacks asked for and kept;
    `ends` (3,) are the lack that is being let go of, and sum and count of the average.
    """
    stop = window + out.shape[0]
    _ask(rows, ceiling, asked[window:stop])
    kept[window:stop] = asked[window:stop]
    held = kept[:stop]
    past = kept[:window].copy()
    held[:window] = asked[:window]
    _hold(held, window + 1, earlier)
    ends[0] = _let_go(held[window:], release, ends[0])
    held[:window] = past
    ends[1], ends[2] = _average(held, window, ends[1], ends[2], out)
    last = stop - window
    past[:] = asked[last:stop]
    asked[:window] = past
    past[:] = kept[last:stop]
    kept[:window] = past


@njit(cache=True, nogil=True, error_model="numpy")
def _all(signal, up, ceiling, release, window, asked, kept, earlier, ends, out):
    """Gains for all of a signal, in pieces that stay in the processor's cache."""
    for start in range(0, signal.shape[0], CHUNK):
        piece = signal[start : start + CHUNK]
        rise(piece, up)
        rows = up[3][:, LEAD : LEAD + piece.shape[0]]
        _work(rows, ceiling, release, window, asked, kept, earlier, ends, out[start : start + CHUNK])


class Limiter:
    """Gains of one leg; `window` is the look-ahead in samples."""

    def __init__(self, window: int) -> None:
        self.window = max(1, window)
        self._up = Up(FACTOR)
        self._asked, self._kept, self._earlier = np.zeros((3, self.window + CHUNK))
        self._ends = np.zeros(3)

    def gains(self, signal: np.ndarray, ceiling: float, release: float) -> np.ndarray:
        """Gains (frames,) for the signal (frames,) as it was `latency` samples ago. Ceiling is an amplitude."""
        out = np.empty(len(signal))
        bound = ceiling * 10 ** (-MARGIN_DB / 20)
        parts = self._up.parts
        _all(
            signal,
            parts,
            bound,
            release,
            self.window,
            self._asked,
            self._kept,
            self._earlier,
            self._ends,
            out,
        )
        return out


def latency(window: int) -> int:
    """Samples by which the sound has to be held back for the gains of a look-ahead."""
    return UP_LATENCY + max(1, window) - 1
