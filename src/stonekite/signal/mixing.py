"""Two rows through a matrix of gains, in one pass."""

from numba import njit


@njit(cache=True, nogil=True, error_model="numpy")
def mix(gains, rows, out):
    """Put rows (2, frames) through gains (2, 2) into out (2, frames)."""
    a, b, c, d = gains[0, 0], gains[0, 1], gains[1, 0], gains[1, 1]
    for i in range(rows.shape[1]):
        upper, lower = rows[0, i], rows[1, i]
        out[0, i] = a * upper + b * lower
        out[1, i] = c * upper + d * lower


@njit(cache=True, nogil=True, error_model="numpy")
def add_mixed(gains, rows, total):
    """Add rows (2, frames) through gains (2, 2) to a total (2, frames)."""
    a, b, c, d = gains[0, 0], gains[0, 1], gains[1, 0], gains[1, 1]
    for i in range(rows.shape[1]):
        upper, lower = rows[0, i], rows[1, i]
        total[0, i] += a * upper + b * lower
        total[1, i] += c * upper + d * lower
