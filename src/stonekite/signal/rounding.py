"""What stands between rows of numbers that bend: on parabolas through three of them."""

import numpy as np

from stonekite.signal.kernel import kernel


@kernel
def _between(rows, many, out):
    """Into out (n many + 1, numbers) what is at and between the rows (n + 3, numbers), the first and last standing by."""
    count = rows.shape[0] - 3
    share = 1.0 / many
    for j in range(count):
        before, here, there, after = rows[j], rows[j + 1], rows[j + 2], rows[j + 3]
        for k in range(many):
            t = k * share
            bow = 0.5 * t * (t - 1.0)
            made = out[j * many + k]
            for n in range(rows.shape[1]):
                a, b = here[n], there[n]
                left, right = before[n] - 2.0 * a + b, a - 2.0 * b + after[n]
                bend = left if abs(left) < abs(right) else right
                if left * right > 0.0 and abs(left) < 2.0 * abs(right) and abs(right) < 2.0 * abs(left):
                    bend = 0.5 * (left + right)
                made[n] = a + t * (b - a) + bow * bend
    for n in range(rows.shape[1]):
        out[count * many, n] = rows[count + 1, n]


def between(rows: np.ndarray, many: int) -> np.ndarray:
    """Rows (n many + 1, numbers) so many times as close, of rows (n + 3, numbers) of which the first and the last but one
    stand outside. From one to the next they go on a parabola through a third one, on that side where the numbers bend
    less; on the mean of both where these are alike. So a corner stays a corner (A. Harten et al., "Uniformly High Order
    Accurate Essentially Non-oscillatory Schemes", J. Comput. Phys. 71, 1987)."""
    out = np.empty(((len(rows) - 3) * many + 1, rows.shape[1]))
    _between(np.ascontiguousarray(rows), many, out)
    return out
