"""A SIMD vector of 16 doubles for Numba kernels.

Numba vectorises loops over samples, but a recursive filter cannot be vectorised along time. With a vector
type, the sections of a cascade can lie side by side instead. The functions here are Numba intrinsics: they
work inside njit kernels only. LLVM splits the vector to whatever the processor has.
"""

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic, models, register_model

LANES = 16

_VECTOR = ir.VectorType(ir.DoubleType(), LANES)
_INT = ir.IntType(32)


class Lanes(types.Type):
    """Numba's type of the vector."""

    def __init__(self) -> None:
        super().__init__(name=f"lanes{LANES}")


lanes = Lanes()


@register_model(Lanes)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, manager, frontend):
        super().__init__(manager, frontend, _VECTOR)


def _pointer(context, builder, signature, args):
    array = context.make_array(signature.args[0])(context, builder, args[0])
    return builder.bitcast(builder.gep(array.data, [args[1]]), _VECTOR.as_pointer())


@intrinsic
def load(typing, array, offset):
    """Sixteen doubles of a contiguous array, from a flat offset."""

    def generate(context, builder, signature, args):
        value = builder.load(_pointer(context, builder, signature, args))
        value.align = 8
        return value

    return lanes(array, offset), generate


@intrinsic
def store(typing, array, offset, value):
    """Write sixteen doubles into a contiguous array, at a flat offset."""

    def generate(context, builder, signature, args):
        builder.store(args[2], _pointer(context, builder, signature, args)).align = 8
        return context.get_dummy_value()

    return types.void(array, offset, value), generate


@intrinsic
def fma(typing, a, b, c):
    """a * b + c, rounded once: the same on every path, so that no block size changes a bit."""

    def generate(context, builder, signature, args):
        kind = ir.FunctionType(_VECTOR, [_VECTOR] * 3)
        return builder.call(
            cgutils.get_or_insert_function(builder.module, kind, f"llvm.fma.v{LANES}f64"), args
        )

    return lanes(a, b, c), generate


@intrinsic
def scalar_fma(typing, a, b, c):
    """a * b + c of three doubles, rounded once, as `fma`."""

    def generate(context, builder, signature, args):
        kind = ir.FunctionType(ir.DoubleType(), [ir.DoubleType()] * 3)
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, "llvm.fma.f64"), args)

    return types.float64(types.float64, types.float64, types.float64), generate


@intrinsic
def mul(typing, a, b):
    """a * b."""

    def generate(context, builder, signature, args):
        return builder.fmul(*args)

    return lanes(a, b), generate


@intrinsic
def splat(typing, value):
    """The same double in every lane."""

    def generate(context, builder, signature, args):
        one = builder.insert_element(ir.Constant(_VECTOR, ir.Undefined), args[0], ir.Constant(_INT, 0))
        order = ir.Constant(ir.VectorType(_INT, LANES), [0] * LANES)
        return builder.shuffle_vector(one, ir.Constant(_VECTOR, ir.Undefined), order)

    return lanes(types.float64), generate


@intrinsic
def zero(typing):
    """Zero in every lane."""

    def generate(context, builder, signature, args):
        return ir.Constant(_VECTOR, [0.0] * LANES)

    return lanes(), generate


@intrinsic
def choose(typing, mask, a, b):
    """Lane by lane: a where mask > 0, otherwise b."""

    def generate(context, builder, signature, args):
        chosen = builder.fcmp_ordered(">", args[0], ir.Constant(_VECTOR, [0.0] * LANES))
        return builder.select(chosen, args[1], args[2])

    return lanes(mask, a, b), generate


@intrinsic
def flush(typing, a, least):
    """Lane by lane: a where its magnitude is above `least` (a double), otherwise zero."""

    def generate(context, builder, signature, args):
        zero = ir.Constant(_VECTOR, [0.0] * LANES)
        bound = ir.Constant(_VECTOR, ir.Undefined)
        for k in range(LANES):
            bound = builder.insert_element(bound, args[1], ir.Constant(_INT, k))
        above = builder.fcmp_ordered(">", args[0], bound)
        below = builder.fcmp_ordered("<", args[0], builder.fneg(bound))
        return builder.select(builder.or_(above, below), args[0], zero)

    return lanes(a, least), generate


@intrinsic
def push_pair(typing, value, first, second):
    """Shift every lane up by two and put a pair of doubles into lanes 0 and 1."""

    def generate(context, builder, signature, args):
        pair = ir.Constant(_VECTOR, ir.Undefined)
        pair = builder.insert_element(pair, args[1], ir.Constant(_INT, 0))
        pair = builder.insert_element(pair, args[2], ir.Constant(_INT, 1))
        order = [LANES, LANES + 1, *range(LANES - 2)]
        return builder.shuffle_vector(args[0], pair, ir.Constant(ir.VectorType(_INT, LANES), order))

    return lanes(value, first, second), generate


@intrinsic
def total(typing, value):
    """The sum of all lanes, always in the same order."""

    def generate(context, builder, signature, args):
        value, half = args[0], LANES
        undefined = ir.Constant(_VECTOR, ir.Undefined)
        for _ in range(2):
            half //= 2
            order = [*range(half, 2 * half), *([LANES] * (LANES - half))]
            upper = builder.shuffle_vector(value, undefined, ir.Constant(ir.VectorType(_INT, LANES), order))
            value = builder.fadd(value, upper)
        lanes_left = [builder.extract_element(value, ir.Constant(_INT, k)) for k in range(half)]
        while len(lanes_left) > 1:
            lanes_left = [builder.fadd(a, b) for a, b in zip(lanes_left[::2], lanes_left[1::2], strict=True)]
        return lanes_left[0]

    return types.float64(value), generate


def _top(index: int):
    def typed(typing, value):
        def generate(context, builder, signature, args):
            return builder.extract_element(args[0], ir.Constant(_INT, index))

        return types.float64(value), generate

    return typed


top_upper = intrinsic(_top(LANES - 2))
top_lower = intrinsic(_top(LANES - 1))
