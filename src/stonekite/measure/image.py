"""What two legs that turn their phases apart do to the joined image."""

import numpy as np


def phase_apart_deg(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """Angle in degrees, -180 to 180, by which the lower leg is ahead of the upper one.

    `upper` and `lower` are the complex responses of the legs, of the same shape. 0 where a leg is silent.
    """
    product = lower * np.conj(upper)
    return np.where(np.abs(product) > 1e-12, np.degrees(np.angle(product)), 0.0)


def hard_left_db(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """Level in dB of left over right of a source that was hard left, for legs that carry mid and side.

    Mid and side are then equal: left is proportional to upper + lower, right to upper - lower. At most 60.
    """
    left, right = np.abs(upper + lower), np.abs(upper - lower)
    return np.clip(20 * np.log10(np.maximum(left, 1e-9) / np.maximum(right, 1e-9)), -60.0, 60.0)


def centre_db(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
    """Level in dB of left over right of a source that was in the centre, for legs that carry left and right."""
    return np.clip(
        20 * np.log10(np.maximum(np.abs(upper), 1e-9) / np.maximum(np.abs(lower), 1e-9)), -60.0, 60.0
    )
