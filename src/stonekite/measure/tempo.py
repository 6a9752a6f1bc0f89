"""How fast music goes, from a recording: where sound begins, how often that comes again, and where the beats then are.

Onsets are rises of the logarithmic spectrum in bands (S. Dixon, "Onset detection revisited", DAFx 2006). The tempo is
that whose beats, and their multiples, best explain the autocorrelation of the onsets (as P. Grosche and M. Mueller,
"Extracting predominant local pulse information", IEEE Transactions on Audio, Speech and Language Processing 19, 2011, by
a comb in place of a Fourier sum), weighted towards what people tap (D. Moelants, "Preferred tempo reconsidered", 2002).
"""

from typing import NamedTuple

import numpy as np

STEPS = 200
"""Looks in a second."""
EXCERPT_S = 60.0
LOWEST, HIGHEST = 50.0, 210.0
MOST_SURE, CLEARLY = 0.3, 0.6
"""How sure a tempo is at the most, of which half or double explains more than so much as well."""
_USUAL, _SPREAD = 122.0, 1.0
_BANDS_HZ = np.geomspace(60.0, 10_000.0, 13)
_MOST = 16


class Found(NamedTuple):
    """Beats in a minute, where the first beat of the recording is in seconds, how sure that is, 0 to 1, and the tempo
    that would be meant if it is another one: half or double as fast.
    """

    bpm: float
    first_beat_s: float
    confidence: float
    other_bpm: float


def onsets(mono: np.ndarray, rate: float) -> np.ndarray:
    """How much begins in every look, below, in the middle and on top (n, 3), of a mono recording (frames,)."""
    hop = rate / STEPS
    size = 1 << int(np.round(np.log2(0.023 * rate)))
    count = max(0, int((len(mono) - size) / hop))
    starts = np.round(np.arange(count) * hop).astype(int)
    hz = np.fft.rfftfreq(size, 1 / rate)
    edges = np.searchsorted(hz, _BANDS_HZ)
    window = np.hanning(size)
    levels = np.empty((count, len(edges) - 1))
    for k in range(0, count, 512):
        frames = mono[starts[k : k + 512, None] + np.arange(size)] * window
        power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
        summed = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
        levels[k : k + 512] = summed[:, np.maximum(edges[1:], edges[:-1] + 1)] - summed[:, edges[:-1]]
    floor = 1e-5 * max(float(levels.mean()), 1e-12)
    rises = np.maximum(0.0, np.diff(np.log(levels + floor), axis=0, prepend=np.log(levels[:1] + floor)))
    third = rises.shape[1] // 3
    strength = np.stack([rises[:, k * third : (k + 1) * third].sum(axis=1) for k in range(3)], axis=1)
    # What is steadily there, as noise, begins nothing.
    width = STEPS // 2
    means = [np.convolve(row, np.ones(width) / width, mode="same") for row in strength.T]
    return np.maximum(0.0, strength - np.stack(means, axis=1))


def estimated(mono: np.ndarray, rate: float) -> Found | None:
    """The tempo of a mono recording (frames,); None where nothing comes again."""
    if len(mono) < 4 * rate:
        return None
    parts = onsets(mono, rate)
    heard = [again for part in parts.T if (again := _again(part)) is not None]
    if not heard:
        return None
    # Each part has a voice, however loud it is: what is low tells the beat more often than what is loud.
    again, strength = np.mean(heard, axis=0), parts.sum(axis=1)
    tempos = np.exp(np.linspace(np.log(LOWEST), np.log(HIGHEST), 1200))
    scores = np.array([_score(again, 60.0 * STEPS / bpm, 8) for bpm in tempos])
    weights = np.exp(-0.5 * (np.log2(tempos / _USUAL) / _SPREAD) ** 2)
    best = int(np.argmax(scores * weights))
    if scores[best] <= 0.02:
        return None
    bpm = _refined(again, tempos[best])
    near = np.abs(np.log2(tempos / bpm)) % 1.0
    apart = np.minimum(near, 1.0 - near) > 0.08
    second = float((scores * weights)[apart].max(initial=0.0))
    sure = float(np.clip(1.0 - second / (scores * weights)[best], 0.0, 1.0) * min(1.0, 4.0 * scores[best]))
    relatives = [bpm * f for f in (0.5, 2.0) if LOWEST * 0.5 <= bpm * f <= HIGHEST * 2.0]
    known = {t: _score(again, 60.0 * STEPS / t, 8) for t in relatives}
    other = max((t for t in relatives if LOWEST <= t <= HIGHEST), key=lambda t: known[t], default=bpm)
    # What comes again after a beat comes again after two: whoever counts half as often hears as much. So nobody can be
    # sure which is meant, but where the others explain much less.
    rival = max(known.values()) / max(1e-9, _score(again, 60.0 * STEPS / bpm, 8))
    sure = min(sure, MOST_SURE if rival > CLEARLY else 1.0)
    return Found(bpm, _first_beat(strength, bpm), sure, other)


def _again(strength: np.ndarray) -> np.ndarray | None:
    """How much of what begins comes again after each lag in looks (n,), 1 at lag 0; None where nothing begins."""
    smooth = np.convolve(strength, np.hanning(9) / np.hanning(9).sum(), mode="same")
    smooth = smooth - smooth.mean()
    size = 1 << int(np.ceil(np.log2(2 * len(smooth))))
    again = np.fft.irfft(np.abs(np.fft.rfft(smooth, size)) ** 2, size)[: len(smooth)]
    if again[0] <= 0.0:
        return None
    # Of fewer looks at longer lags, each counts as much.
    return again / again[0] / np.maximum(0.2, 1.0 - np.arange(len(again)) / len(again))


def _score(again: np.ndarray, lag: float, most: int) -> float:
    """How much comes again after a lag, and after its multiples."""
    places = lag * np.arange(1, most + 1)
    places = places[places < 0.8 * len(again)]
    if not len(places):
        return -1.0
    whole = places.astype(int)
    part = places - whole
    return float(np.mean((1 - part) * again[whole] + part * again[whole + 1]))


def _refined(again: np.ndarray, bpm: float) -> float:
    """A tempo made exact by ever longer stretches of beats."""
    for most, reach in ((8, 0.01), (16, 0.005), (32, 0.0025), (64, 0.00125)):
        if 60.0 * STEPS / bpm * most > 0.8 * len(again):
            break
        tries = bpm * np.exp(np.linspace(-reach, reach, 41))
        bpm = float(tries[int(np.argmax([_score(again, 60.0 * STEPS / t, most) for t in tries]))])
    return bpm


def _first_beat(strength: np.ndarray, bpm: float) -> float:
    """The earliest time of the beats at which most begins, in seconds."""
    lag = 60.0 * STEPS / bpm
    tries = np.arange(0.0, lag, 0.5)
    beats = np.arange(int(len(strength) / lag))
    sums = []
    for offset in tries:
        places = np.minimum((offset + lag * beats).astype(int), len(strength) - 2)
        sums.append(float(np.maximum(strength[places], strength[places + 1]).sum()))
    # A look is told by its beginning, while what it hears begins in its middle.
    return (float(tries[int(np.argmax(sums))]) + 0.5) / STEPS + 0.0115
