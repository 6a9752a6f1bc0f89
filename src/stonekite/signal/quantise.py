"""Rounding to integers."""

import numpy as np

from stonekite.signal.kernel import kernel

DITHER_SEED = 1770


@kernel
def _round(block, noise, bits, out):
    """Round block (channels, frames) into out (frames, channels), in the upper bits; returns the overs."""
    scale = 2.0 ** (bits - 1)
    low, high = -scale, scale - 1.0
    up = 32 - bits
    overs = 0
    dithered = noise.shape[1] > 0
    for channel in range(block.shape[0]):
        for frame in range(block.shape[1]):
            value = block[channel, frame] * scale
            if dithered:
                value += noise[channel, frame]
            value = np.rint(value)
            if value > high:
                value = high
                overs += 1
            elif value < low:
                value = low
                overs += 1
            out[frame, channel] = np.int32(np.int64(value) << up)
    return overs


def to_integers(
    block: np.ndarray, bits: int, dither: np.random.Generator | None = None
) -> tuple[np.ndarray, int]:
    """Round samples (channels, frames) with full scale 1 to signed integers of `bits` bits (at most 32).

    Returns them interleaved, as files want them, (frames, channels) int32 in the upper bits, and how many
    did not fit: those are held at full scale. With a generator, triangular (TPDF) dither of two steps peak
    to peak is added first: the difference of two independent uniform values (Lipshitz, Wannamaker and
    Vanderkooy, "Quantization and Dither", J. Audio Eng. Soc. 40, 1992).
    """
    noise = np.zeros((1, 0))
    if dither is not None:
        noise = dither.random(block.shape) - dither.random(block.shape)
    out = np.empty(block.shape[::-1], dtype=np.int32)
    overs = _round(np.ascontiguousarray(block), noise, bits, out)
    return out, int(overs)
