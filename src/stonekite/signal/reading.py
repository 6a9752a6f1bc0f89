"""Spectra of finite responses, read at any frequency."""

import numpy as np


def response_at(taps: np.ndarray, rate: float, hz: np.ndarray, lead: int = 0) -> np.ndarray:
    """Complex response (n,) of taps (count,) at frequencies in Hz, `lead` samples earlier: by a fine transform and a
    cubic between its values."""
    size = 8 << (len(taps) - 1).bit_length()
    spectrum = np.fft.rfft(np.roll(np.pad(taps, (0, size - len(taps))), -lead))
    place = np.clip(np.asarray(hz, dtype=float) / rate * size, 0.0, size // 2)
    return spectrum_at(spectrum, place)


def spectrum_at(spectrum: np.ndarray, place: np.ndarray) -> np.ndarray:
    """Values of a spectrum between its bins: a cubic through four neighbours (Catmull and Rom, 1974)."""
    whole = np.clip(place.astype(int), 1, len(spectrum) - 3)
    t = place - whole
    a, b, c, d = (spectrum[whole + k] for k in (-1, 0, 1, 2))
    found: np.ndarray = b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)))
    return found
