"""Rounding to integers."""

import numpy as np

DITHER_SEED = 1770


def to_integers(
    block: np.ndarray, bits: int, dither: np.random.Generator | None = None
) -> tuple[np.ndarray, int]:
    """Round full-scale-1 samples to signed integers of `bits` bits; returns them (int32) and the overs.

    With a generator, triangular (TPDF) dither of two steps peak to peak is added first: the sum of two
    independent uniform values (Lipshitz, Wannamaker and Vanderkooy, "Quantization and Dither", J. Audio
    Eng. Soc. 40, 1992). What does not fit is held at full scale and counted.
    """
    scaled = block * float(2 ** (bits - 1))
    if dither is not None:
        scaled += dither.random(block.shape)
        scaled -= dither.random(block.shape)
    np.rint(scaled, out=scaled)
    low, high = -(2.0 ** (bits - 1)), 2.0 ** (bits - 1) - 1
    overs = 0
    if scaled.size and (scaled.max() > high or scaled.min() < low):
        overs = int(np.count_nonzero((scaled > high) | (scaled < low)))
        np.clip(scaled, low, high, out=scaled)
    return scaled.astype(np.int32), overs
