"""Multiplying and adding in one step, in kernels.

Whether a compiler may join a product and a sum depends on the processor that it compiles for, and with it the last bit
of the result. Here it is said: everywhere the product is added unrounded (the fused multiply-add of IEEE 754-2008), on
a processor that has no instruction for it by a slower way. So the same session gives the same bits on all of them.
"""

from numba import types

from stonekite.signal.kernel import intrinsic


@intrinsic
def fused(typing, a, b, c):
    """a * b + c of doubles, rounded once."""

    def generate(context, builder, signature, args):
        return builder.fma(*args)

    return types.float64(types.float64, types.float64, types.float64), generate
