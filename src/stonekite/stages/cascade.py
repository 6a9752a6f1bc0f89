"""What kinds have in common that are second-order sections on each leg."""

from typing import Any

import numpy as np

from stonekite.lazy import lazy

biquads = lazy("stonekite.signal.biquads")


def latency(stage: Any, rate: float) -> tuple[int, int]:
    """None: sections look at no later sample."""
    return 0, 0


def pack(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """Coefficients for `process` from the sections (n, 5) of each leg."""
    return biquads.pack(upper, lower)


def start(coefficients: np.ndarray) -> np.ndarray:
    """The state of sections that have heard nothing."""
    return biquads.rest(coefficients)


def layout(coefficients: np.ndarray) -> tuple[int, ...]:
    """The number of sections decides about the state."""
    return np.shape(coefficients)


def process(state: np.ndarray, coefficients: np.ndarray, block: np.ndarray, position: int) -> None:
    """Filter block (2, frames) in place."""
    biquads.cascade(block, position, coefficients, state)
