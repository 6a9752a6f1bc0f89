"""Encoding stereo into two components and decoding it back.

Arrays have shape (2, frames): row 0 is Left or Mid, row 1 is Right or Side.
"""

from typing import Literal

import numpy as np

Matrix = Literal["half-sum", "equal-power", "raised-side"]
COMPONENTS = ("left", "right", "mid", "side")
MATRICES: tuple[Matrix, ...] = ("half-sum", "equal-power", "raised-side")

_ENCODE: dict[Matrix, tuple[float, float]] = {  # (gain of L+R in Mid, gain of L-R in Side)
    "half-sum": (0.5, 0.5),
    "equal-power": (np.sqrt(0.5), np.sqrt(0.5)),
    "raised-side": (0.5, 1.0),
}
_DECODE = {  # (gain of Mid, gain of Side) in L = M + S, R = M - S
    "half-sum": (1.0, 1.0),
    "equal-power": (np.sqrt(0.5), np.sqrt(0.5)),
    "raised-side": (1.0, 0.5),
}


OVER_HALF_SUM: dict[Matrix, tuple[float, float]] = {
    matrix: (float(2 * mid), float(2 * side)) for matrix, (mid, side) in _ENCODE.items()
}
"""Gains of Mid and Side over those of the half-sum."""


def encoding(matrix: Matrix) -> tuple[float, float, float, float]:
    """Gains of both rows before their sum and difference are taken, and of sum and difference."""
    return (1.0, 1.0, *_ENCODE[matrix])


def decoding(matrix: Matrix) -> tuple[float, float, float, float]:
    """The same of the way back."""
    mid, side = _DECODE[matrix]
    return (1.0, 1.0, mid, side) if mid == side else (mid, side, 1.0, 1.0)


def side_over_mid(matrix: Matrix) -> float:
    """The gain of Side in Left over that of Mid."""
    mid, side = _DECODE[matrix]
    return float(side / mid)


def _butterfly(block: np.ndarray, gains: tuple[float, float, float, float]) -> np.ndarray:
    first, second, upper, lower = gains
    if first != 1.0 or second != 1.0:
        block = block * np.array([[first], [second]])
    out = np.empty_like(block)
    np.add(block[0], block[1], out=out[0])
    np.subtract(block[0], block[1], out=out[1])
    if upper != 1.0:
        out[0] *= upper
    if lower != 1.0:
        out[1] *= lower
    return out


def encode(stereo: np.ndarray, matrix: Matrix = "half-sum") -> np.ndarray:
    """Left/right (2, frames) to mid/side (2, frames).

    half-sum M=(L+R)/2, S=(L-R)/2; equal-power both by 1/sqrt(2); raised-side M=(L+R)/2, S=L-R.
    Exact for integers of up to 52 bits with half-sum and raised-side, since sums and halves of such
    numbers are doubles; equal-power rounds and is exact again after rounding to the integer grid.
    """
    return _butterfly(stereo, encoding(matrix))


def decode(components: np.ndarray, matrix: Matrix = "half-sum") -> np.ndarray:
    """Mid/side (2, frames) back to left/right (2, frames); the inverse of `encode`."""
    return _butterfly(components, decoding(matrix))


def component(stereo: np.ndarray, name: str) -> np.ndarray:
    """One component (frames,) of stereo (2, frames) by name: left, right, mid or side (half-sum)."""
    if name == "left":
        return stereo[0]
    if name == "right":
        return stereo[1]
    if name == "mid":
        return 0.5 * (stereo[0] + stereo[1])
    if name == "side":
        return 0.5 * (stereo[0] - stereo[1])
    raise ValueError(f"no component is called {name!r}")
