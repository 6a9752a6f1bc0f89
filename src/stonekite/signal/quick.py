"""Logarithm and power of two of whole arrays, by polynomials that LLVM turns into vector code.

Both have a relative error under 2e-9: far below a hundredth of a bit of a 24-bit sample.
"""

import numpy as np
from numba import njit

_LOG2_E = 1.4426950408889634
_LN_2 = 0.6931471805599453


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def log2_into(x, out):
    """out = log2(x) for positive, normal x (n,).

    The mantissa is brought to sqrt(1/2)..sqrt(2); then log m = 2 artanh((m - 1) / (m + 1)) as a series.
    """
    bits = x.view(np.int64)
    mantissa = out.view(np.int64)
    for i in range(x.shape[0]):
        mantissa[i] = (bits[i] & 0x000FFFFFFFFFFFFF) | 0x3FF0000000000000
    for i in range(x.shape[0]):
        exponent = float((bits[i] >> 52) - 1023)
        m = out[i]
        high = 1.0 if m > 1.4142135623730951 else 0.0
        m = m * (1.0 - 0.5 * high)
        t = (m - 1.0) / (m + 1.0)
        s = t * t
        series = t * (1.0 + s * (1 / 3 + s * (1 / 5 + s * (1 / 7 + s * (1 / 9 + s * (1 / 11))))))
        out[i] = exponent + high + 2.0 * _LOG2_E * series


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def exp2_into(x, out):
    """out = 2^x for x (n,) between -1000 and 1000; exactly 1 where x is 0."""
    whole = out.view(np.int64)
    for i in range(x.shape[0]):
        n = np.floor(x[i] + 0.5)
        whole[i] = (np.int64(n) + 1023) << 52
    for i in range(x.shape[0]):
        f = (x[i] - np.floor(x[i] + 0.5)) * _LN_2
        p = 1.0 + f * (
            1.0
            + f
            * (
                1 / 2
                + f * (1 / 6 + f * (1 / 24 + f * (1 / 120 + f * (1 / 720 + f * (1 / 5040 + f / 40320)))))
            )
        )
        out[i] *= p
