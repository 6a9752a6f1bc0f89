"""Logarithm and power of two of whole arrays, by polynomials that LLVM turns into vector code.

Both have a relative error under 2e-9: far below a hundredth of a bit of a 24-bit sample.
"""

from llvmlite import ir

from stonekite.signal.kernel import inlined, intrinsic
from stonekite.signal.vectors.fused import fused
from stonekite.signal.vectors.lanes import Lanes, fma, like

_LOG2_E = 1.4426950408889634
_LN_2 = 0.6931471805599453
_WHOLE = 4503599627370496.0
"""2^52: a double of this size holds a whole number in its lowest bits, so that none has to be converted: processors
convert 64-bit numbers one by one."""
_SIGNED = 1.5 * _WHOLE


def _on_bits(change):
    """An intrinsic that gives the double whose bits `change(builder, bits, of)` makes of those of a double; `of` makes
    constants. Of vectors of doubles, too."""

    def typed(typing, value):
        def generate(context, builder, signature, args):
            whole = ir.IntType(64)
            if isinstance(value, Lanes):
                count = value.vector.count
                many = ir.VectorType(whole, count)
                bits = builder.bitcast(args[0], many)
                bits = change(builder, bits, lambda n: ir.Constant(many, [n] * count))
                return builder.bitcast(bits, value.vector)
            bits = change(builder, builder.bitcast(args[0], whole), lambda n: ir.Constant(whole, n))
            return builder.bitcast(bits, ir.DoubleType())

        return value(value), generate

    return intrinsic(typed)


_LEAST = 0x3FE6A09E667F3BCE
"""The bits of the least double whose square is over 1/2: what is counted from there has its exponent in front and where
it is between that and twice as much behind, without a comparison, which would keep LLVM from vector code."""
_ONE = 0x3FF0000000000000
_exponent = _on_bits(
    lambda b, bits, of: b.or_(b.lshr(b.add(bits, of(_ONE - _LEAST)), of(52)), of(0x4330000000000000))
)  # 2^52 + the exponent with its offset
_mantissa = _on_bits(
    lambda b, bits, of: b.add(b.and_(b.add(bits, of(_ONE - _LEAST)), of(0x000FFFFFFFFFFFFF)), of(_LEAST))
)
_power = _on_bits(lambda b, bits, of: b.shl(bits, of(52)))  # 2^n of the lowest bits n, with their offset


@inlined
def log2_into(x, out):
    """out = log2(x) for positive, normal x (n,).

    The mantissa is between sqrt(1/2) and sqrt(2); log m = 2 artanh((m - 1) / (m + 1)) as a series.
    """
    for i in range(x.shape[0]):
        exponent = _exponent(x[i]) - (_WHOLE + 1023.0)
        m = _mantissa(x[i])
        t = (m - 1.0) / (m + 1.0)
        s = t * t
        series = fused(s, fused(s, fused(s, fused(s, fused(s, 1 / 11, 1 / 9), 1 / 7), 1 / 5), 1 / 3), 1.0)
        out[i] = fused(2.0 * _LOG2_E * t, series, exponent)


@inlined
def exp2_into(x, out):
    """out = 2^x for x (n,) between -1000 and 1000; exactly 1 where x is 0."""
    for i in range(x.shape[0]):
        shifted = x[i] + (_SIGNED + 1023.0)
        f = (x[i] - (shifted - (_SIGNED + 1023.0))) * _LN_2
        p = fused(f, fused(f, fused(f, fused(f, 1 / 40320, 1 / 5040), 1 / 720), 1 / 120), 1 / 24)
        p = fused(f, fused(f, fused(f, fused(f, p, 1 / 6), 1 / 2), 1.0), 1.0)
        out[i] = p * _power(shifted)


@inlined
def log2_of(x):
    """As `log2_into`, of a vector of doubles: the same bits."""
    one = like(x, 1.0)
    exponent = _exponent(x) - like(x, _WHOLE + 1023.0)
    m = _mantissa(x)
    t = (m - one) / (m + one)
    s = t * t
    series = fma(s, fma(s, like(x, 1 / 11), like(x, 1 / 9)), like(x, 1 / 7))
    series = fma(s, fma(s, fma(s, series, like(x, 1 / 5)), like(x, 1 / 3)), one)
    return fma(like(x, 2.0 * _LOG2_E) * t, series, exponent)


@inlined
def exp2_of(x):
    """As `exp2_into`, of a vector of doubles: the same bits."""
    offset = like(x, _SIGNED + 1023.0)
    shifted = x + offset
    f = (x - (shifted - offset)) * like(x, _LN_2)
    p = fma(f, fma(f, like(x, 1 / 40320), like(x, 1 / 5040)), like(x, 1 / 720))
    p = fma(f, fma(f, p, like(x, 1 / 120)), like(x, 1 / 24))
    p = fma(f, fma(f, p, like(x, 1 / 6)), like(x, 1 / 2))
    p = fma(f, fma(f, p, like(x, 1.0)), like(x, 1.0))
    return p * _power(shifted)
