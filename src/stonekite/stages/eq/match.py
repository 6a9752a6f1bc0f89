"""A starting curve: bands that bring one long-term spectrum to another."""

import numpy as np

from stonekite.signal.filters import design
from stonekite.stages.eq import Band

CENTRES_HZ = tuple(31.25 * 2**k for k in range(10))
Q = 1.2
MOST_DB = 12.0
LEAST_DB = 0.3
_HEARD_DB = 65.0
"""Where a spectrum is this far under its loudest band there is only noise to compare."""
_SMOOTH_OCTAVES = 0.5


def wanted_curve(is_db: np.ndarray, should_db: np.ndarray, f: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The gain in dB (bands,) from one spectrum to another, smooth and without its mean, and where it counts.

    Spectra in dB at frequencies `f`, evenly spaced in octaves. Only the shape counts, not the level.
    """
    counts = (is_db > is_db.max() - _HEARD_DB) & (should_db > should_db.max() - _HEARD_DB)
    gain = np.where(counts, should_db - is_db, 0.0)
    width = max(1, round(_SMOOTH_OCTAVES / np.log2(f[1] / f[0])))
    window = np.hanning(width + 2)[1:-1]
    weight = np.convolve(counts.astype(float), window, "same")
    smooth = np.convolve(gain, window, "same") / np.maximum(weight, 1e-9)
    return np.where(counts, smooth - smooth[counts].mean() if counts.any() else 0.0, 0.0), counts


def matching_bands(is_db: np.ndarray, should_db: np.ndarray, f: np.ndarray, rate: float) -> tuple[Band, ...]:
    """Up to ten octave bells whose curve brings the spectrum `is_db` to `should_db`, at most 12 dB each.

    The gains solve the linear least-squares problem of overlapping bells, three times anew from what is left.
    """
    wanted, counts = wanted_curve(is_db, should_db, f)
    centres = [c for c in CENTRES_HZ if c < 0.45 * rate]
    unit = np.stack([_curve_db(c, 1.0, f, rate) for c in centres], axis=1)
    gains = np.zeros(len(centres))
    ridge = 0.15 * np.eye(len(centres))
    for _ in range(3):
        made = sum(_curve_db(c, g, f, rate) for c, g in zip(centres, gains.tolist(), strict=True))
        left = np.concatenate([(wanted - made) * counts, np.zeros(len(centres))])
        step = np.linalg.lstsq(np.concatenate([unit * counts[:, None], ridge]), left, rcond=None)[0]
        gains = np.clip(gains + step, -MOST_DB, MOST_DB)
    return tuple(
        Band(frequency_hz=float(c), gain_db=round(float(g), 1), q=Q)
        for c, g in zip(centres, gains, strict=True)
        if abs(g) >= LEAST_DB
    )


def _curve_db(centre: float, gain_db: float, f: np.ndarray, rate: float) -> np.ndarray:
    rows = design.sections("bell", centre, gain_db, Q, rate)
    return 20 * np.log10(np.maximum(np.abs(design.response(rows, f, rate)), 1e-9))
