"""How far a sound is from what it should be."""

import numpy as np


def si_sdr(wanted: np.ndarray, found: np.ndarray) -> float:
    """Scale-invariant signal-to-distortion ratio in dB of sounds (n,) (J. Le Roux et al., "SDR - half-baked or well
    done?", ICASSP 2019)."""
    part = np.dot(wanted, found) / np.dot(wanted, wanted) * wanted
    return float(10 * np.log10(np.sum(part**2) / np.sum((found - part) ** 2)))
