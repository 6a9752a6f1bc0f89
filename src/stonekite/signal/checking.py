"""Whether all samples of a block are sound, as kernels: each stage is asked about each block."""

import math

from stonekite.signal.kernel import kernel
from stonekite.signal.sanity import ABSURD


@kernel
def finite(samples):
    """Whether none of samples (n,) is infinite or not a number."""
    bad = 0
    for i in range(samples.shape[0]):
        bad |= not (abs(samples[i]) < math.inf)
    return bad == 0


@kernel
def undamaged(samples):
    """Whether all of samples (n,) are below what is absurd."""
    bad = 0
    for i in range(samples.shape[0]):
        bad |= not (abs(samples[i]) < ABSURD)
    return bad == 0
