"""What noise reduction gains on voices, in one table: beside controls that cost nothing, a textbook method, and a library.

STOI and PESQ, and the library's spectral gate, are there where the packages `pystoi`, `pesq` and `noisereduce` are
installed (`pip install -e .[bench]`); otherwise their columns say so.
"""

import math
from collections.abc import Iterator

import numpy as np
from scipy import signal, special

from stonekite.demos.speech import random_text, spoken
from stonekite.demos.wheelhouse import mixed
from stonekite.engine.graph.chain import Chain
from stonekite.measure.quality import si_sdr
from stonekite.session.types import Split, Strip
from stonekite.stages import fold, noise
from stonekite.stages.base import Context, Stage

try:
    from pesq import pesq
    from pystoi import stoi
except ImportError:
    pesq = stoi = None
try:
    from noisereduce import reduce_noise
except ImportError:
    reduce_noise = None

RATE = 48_000
LEAD = int(0.6 * RATE)
PITCHES = (105.0, 130.0, 165.0, 195.0, 220.0, 118.0)


def textbook(sound: np.ndarray) -> np.ndarray:
    """Log-spectral amplitude estimation with a decision-directed prior (Y. Ephraim and D. Malah, IEEE Trans. ASSP 33,
    1985), noise learned from the lead-in; each side (2, n) by itself."""
    size, hop = 2048, 512
    out = np.zeros_like(sound)
    for row, side in enumerate(sound):
        _, _, spectra = signal.stft(side, RATE, nperseg=size, noverlap=size - hop)
        power = np.abs(spectra) ** 2
        known = power[:, 4 : LEAD // hop - 4].mean(axis=1) + 1e-20
        last = np.zeros(len(known))
        made = np.empty_like(spectra)
        for k in range(spectra.shape[1]):
            ratio = np.minimum(power[:, k] / known, 1e3)
            prior = np.maximum(0.98 * last / known + 0.02 * np.maximum(ratio - 1.0, 0.0), 10 ** (-25 / 10))
            v = np.maximum(prior / (1 + prior) * ratio, 1e-10)
            gain = np.maximum(prior / (1 + prior) * np.exp(0.5 * special.exp1(v)), 0.1)
            made[:, k] = np.minimum(gain, 1.0) * spectra[:, k]
            last = np.abs(made[:, k]) ** 2
        _, back = signal.istft(made, RATE, nperseg=size, noverlap=size - hop)
        out[row] = back[: len(side)]
    return out


def through(stage: Stage, sound: np.ndarray) -> np.ndarray:
    """Sound (2, n) through one stage, in time again."""
    chain = Chain(Strip(split=Split(mode="left-right"), stages=(stage,)), RATE)
    return chain.process(np.pad(sound, ((0, 0), (0, chain.latency))), 0)[:, chain.latency :]


def cleaned(sound: np.ndarray, analysis: str) -> np.ndarray:
    learned = noise.learns(sound[:, int(0.05 * RATE) : LEAD], Context(RATE), 0.05)
    side = noise.NoiseSide(amount_db=20.0)
    shared = noise.NoiseShared(analysis=analysis, learned=learned, hold=0.0)
    return through(noise.Noise(id=2, upper=side, lower=side, shared=shared), sound)


def folded(sound: np.ndarray) -> np.ndarray:
    stage = fold.taken(fold.Fold(id=2), fold.learns(sound, Context(RATE), 0.0))
    return through(stage, sound)[:1]


def gate(sound: np.ndarray) -> np.ndarray:
    """A library's spectral gate, with the noise of the lead-in."""
    rows = [reduce_noise(y=row, sr=RATE, y_noise=row[:LEAD], stationary=True) for row in sound]
    return np.stack(rows)


def jitter_db(clean: np.ndarray, out: np.ndarray) -> float:
    """How far the middle moves: the levels of the sides against each other in 50 ms, while the voice is loud."""
    if len(out) < 2:
        return math.nan
    hop = RATE // 20
    count = (out.shape[1] - LEAD) // hop
    parts = out[:, LEAD : LEAD + count * hop].reshape(2, count, hop)
    loud = np.mean(clean[LEAD : LEAD + count * hop].reshape(count, hop) ** 2, axis=1)
    power = np.mean(parts**2, axis=2)
    return float(np.std((10 * np.log10(power[0] / power[1]))[loud > 0.1 * loud.max()]))


def kurtosis_ratio(before: np.ndarray, after: np.ndarray) -> float:
    """How much more its spectral power is made of peaks than before (Y. Uemura et al., IWAENC 2008), of noise alone."""

    def peaked(sound: np.ndarray) -> float:
        power = np.abs(signal.stft(sound, RATE, nperseg=2048)[2]) ** 2
        mean = power.mean(axis=1, keepdims=True)
        return float(np.mean(((power / mean) ** 4).mean(axis=1) / ((power / mean) ** 2).mean(axis=1) ** 2))

    return peaked(after) / peaked(before)


def _figures(clean: np.ndarray, out: np.ndarray) -> list[float]:
    """SI-SDR, STOI and PESQ of the mean of all rows; what is not installed is nan."""
    found = []
    for row in out:
        one = [si_sdr(clean[LEAD:], row[LEAD:]), math.nan, math.nan]
        if pesq is not None:
            low, low_clean = (signal.resample_poly(x[LEAD:], 1, 3) for x in (row, clean))
            one[1] = stoi(low_clean, low, RATE // 3)
            one[2] = pesq(RATE // 3, low_clean, low, "wb")
        found.append(one)
    return np.mean(found, axis=0).tolist()


def rows(voices: int) -> Iterator[tuple[str, str]]:
    """Change against the noisy input, over so many voices."""
    for kind in ("engine, wind", "white", "the same"):
        for snr_db in (0, 5, 10):
            sums: dict[str, list[list[float]]] = {}
            for seed in range(voices):
                clean = np.concatenate([np.zeros(LEAD), spoken(random_text(seed), PITCHES[seed % 6], seed)])
                noisy = mixed(clean, kind, snr_db, seed)
                high = signal.sosfilt(signal.butter(2, 90, "highpass", fs=RATE, output="sos"), noisy)
                together, own = cleaned(noisy, "together"), cleaned(noisy, "own")
                results = {
                    "a 90 Hz high-pass": high,
                    "folded, nothing reduced": noisy.mean(axis=0, keepdims=True),
                    "textbook log-MMSE": textbook(noisy),
                    "one for both": cleaned(noisy, "one"),
                    "each its own": own,
                    "together": together,
                    "each its own, folded": folded(own),
                    "together, folded": folded(together),
                }
                if reduce_noise is not None:
                    results["a library's spectral gate"] = gate(noisy)
                was = _figures(clean, noisy)
                for name, out in results.items():
                    gained = [now - before for now, before in zip(_figures(clean, out), was, strict=True)]
                    quiet = slice(int(0.2 * RATE), int(0.5 * RATE))
                    level = 10 * np.log10(np.mean(out[:, quiet] ** 2) / np.mean(noisy[:, quiet] ** 2))
                    peaks = kurtosis_ratio(noisy[0, quiet], out[0, quiet])
                    sums.setdefault(name, []).append([*gained, jitter_db(clean, out), level, peaks])
            for name, found in sums.items():
                sdr, heard, quality, moves, pause, peaks = np.mean(found, axis=0)
                yield (
                    f"Noise {kind}, {snr_db} dB: {name}",
                    f"SI-SDR {sdr:+5.1f} dB; STOI {heard:+.3f}; PESQ {quality:+.2f}; image moves {moves:.2f} dB; "
                    f"pauses {pause:.1f} dB; kurtosis x {peaks:.2f}",
                )
