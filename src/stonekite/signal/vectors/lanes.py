"""SIMD vectors of doubles for Numba kernels: of 16, for filters, of 8 and 4, for spectra, and of 2, for two legs.

Numba vectorises loops over samples, but a recursive filter cannot be vectorised along time. With a vector
type, the sections of a cascade can lie side by side instead. And where a loop goes over many arrays, LLVM
asks for each pair of them whether they overlap; with vectors it is not asked. The functions here are Numba
intrinsics: they work inside njit kernels only. LLVM splits the vector to whatever the processor has.
"""

import operator

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import models, overload, register_model

from stonekite.signal.kernel import intrinsic

LANES = 16
EIGHT = 8
FOUR = 4
TWO = 2

_VECTOR = ir.VectorType(ir.DoubleType(), LANES)
_INT = ir.IntType(32)


class Lanes(types.Type):
    """Numba's type of a vector of so many doubles."""

    def __init__(self, count: int) -> None:
        super().__init__(name=f"lanes{count}")
        self.vector = ir.VectorType(ir.DoubleType(), count)


lanes = Lanes(LANES)
eight = Lanes(EIGHT)
four = Lanes(FOUR)
two = Lanes(TWO)


@register_model(Lanes)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, manager, frontend):
        super().__init__(manager, frontend, frontend.vector)


def _pointer(context, builder, signature, args, of):
    array = context.make_array(signature.args[0])(context, builder, args[0])
    return builder.bitcast(builder.gep(array.data, [args[1]]), of.vector.as_pointer())


def _loads(of, backwards=False):
    def typed(typing, array, offset):
        def generate(context, builder, signature, args):
            value = builder.load(_pointer(context, builder, signature, args, of))
            value.align = 8
            if not backwards:
                return value
            order = list(reversed(range(of.vector.count)))
            undefined = ir.Constant(of.vector, ir.Undefined)
            return builder.shuffle_vector(
                value, undefined, ir.Constant(ir.VectorType(_INT, len(order)), order)
            )

        return of(array, offset), generate

    return intrinsic(typed)


load = _loads(lanes)
"""Sixteen doubles of a contiguous array, from a flat offset."""
load_eight = _loads(eight)
"""Eight of them."""
load_four = _loads(four)
"""Four of them."""
load_two = _loads(two)
"""Two of them."""
load_back = _loads(four, backwards=True)
"""Four of them, the last one first."""


@intrinsic
def load_as(typing, vector, array, offset):
    """As many doubles of a contiguous array as another vector has, from a flat offset."""

    def generate(context, builder, signature, args):
        array_and_offset = signature.return_type(*signature.args[1:])
        value = builder.load(_pointer(context, builder, array_and_offset, args[1:], vector))
        value.align = 8
        return value

    return vector(vector, array, offset), generate


@intrinsic
def width(typing, vector):
    """How many lanes a vector has."""

    def generate(context, builder, signature, args):
        return ir.Constant(ir.IntType(64), vector.vector.count)

    return types.int64(vector), generate


@intrinsic
def picked(typing, array, places, offset):
    """Doubles of a contiguous array, from places that are whole numbers in a vector of doubles, each so much further."""

    def generate(context, builder, signature, args):
        table = context.make_array(signature.args[0])(context, builder, args[0])
        count = places.vector.count
        whole = builder.fptosi(args[1], ir.VectorType(_INT, count))
        found = ir.Constant(places.vector, ir.Undefined)
        for k in range(count):
            lane = ir.Constant(_INT, k)
            place = builder.sext(builder.extract_element(whole, lane), args[2].type)
            value = builder.load(builder.gep(table.data, [builder.add(place, args[2])]))
            found = builder.insert_element(found, value, lane)
        return found

    return places(array, places, types.int64), generate


@intrinsic
def store(typing, array, offset, value):
    """Write a vector into a contiguous array, at a flat offset."""

    def generate(context, builder, signature, args):
        builder.store(args[2], _pointer(context, builder, signature, args, value)).align = 8
        return context.get_dummy_value()

    return types.void(array, offset, value), generate


@intrinsic
def store_back(typing, array, offset, value):
    """Write a vector, its last lane first."""

    def generate(context, builder, signature, args):
        count = value.vector.count
        order = ir.Constant(ir.VectorType(_INT, count), list(reversed(range(count))))
        turned = builder.shuffle_vector(args[2], ir.Constant(value.vector, ir.Undefined), order)
        builder.store(turned, _pointer(context, builder, signature, args, value)).align = 8
        return context.get_dummy_value()

    return types.void(array, offset, value), generate


@intrinsic
def fma(typing, a, b, c):
    """a * b + c, rounded once: the same on every path, so that no block size changes a bit."""

    def generate(context, builder, signature, args):
        kind = ir.FunctionType(a.vector, [a.vector] * 3)
        return builder.call(
            cgutils.get_or_insert_function(builder.module, kind, f"llvm.fma.v{a.vector.count}f64"), args
        )

    return a(a, b, c), generate


def _operation(name):
    @intrinsic
    def done(typing, a, b):
        def generate(context, builder, signature, args):
            return getattr(builder, name)(*args)

        return a(a, b), generate

    return done


mul = _operation("fmul")
_add, _sub, _div = _operation("fadd"), _operation("fsub"), _operation("fdiv")


def _picked(sign):
    @intrinsic
    def done(typing, a, b):
        def generate(context, builder, signature, args):
            return builder.select(builder.fcmp_ordered(sign, *args), *args)

        return a(a, b), generate

    return done


larger, smaller = _picked(">"), _picked("<")
"""Lane by lane: the larger, or the smaller, of two; the second one where there is a NaN."""


@intrinsic
def root(typing, a):
    """The square root of every lane."""

    def generate(context, builder, signature, args):
        kind = ir.FunctionType(a.vector, [a.vector])
        name = f"llvm.sqrt.v{a.vector.count}f64"
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, name), args)

    return a(a), generate


def _means(sign, operation):
    @overload(sign)
    def typed(a, b):
        return (lambda a, b: operation(a, b)) if isinstance(a, Lanes) and a == b else None


_means(operator.add, _add)
_means(operator.sub, _sub)
_means(operator.mul, mul)
_means(operator.truediv, _div)


@intrinsic
def scalar_fma(typing, a, b, c):
    """a * b + c of three doubles, rounded once, as `fma`."""

    def generate(context, builder, signature, args):
        kind = ir.FunctionType(ir.DoubleType(), [ir.DoubleType()] * 3)
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, "llvm.fma.f64"), args)

    return types.float64(types.float64, types.float64, types.float64), generate


def _splats(of):
    def typed(typing, value):
        def generate(context, builder, signature, args):
            undefined = ir.Constant(of.vector, ir.Undefined)
            one = builder.insert_element(undefined, args[0], ir.Constant(_INT, 0))
            order = ir.Constant(ir.VectorType(_INT, of.vector.count), [0] * of.vector.count)
            return builder.shuffle_vector(one, undefined, order)

        return of(types.float64), generate

    return intrinsic(typed)


splat = _splats(lanes)
"""The same double in every of sixteen lanes."""
splat_eight = _splats(eight)
"""In every of eight."""
splat_four = _splats(four)
"""In every of four."""
splat_two = _splats(two)
"""In both of two."""


@intrinsic
def like(typing, vector, value):
    """The same double in every lane of as many as another vector has."""
    _, generate = _splats(vector)._defn(typing, value)

    def of_value(context, builder, signature, args):
        return generate(context, builder, signature, args[1:])

    return vector(vector, types.float64), of_value


@intrinsic
def both(typing, first, second):
    """A vector of two doubles."""

    def generate(context, builder, signature, args):
        made = ir.Constant(two.vector, ir.Undefined)
        for k in range(TWO):
            made = builder.insert_element(made, args[k], ir.Constant(_INT, k))
        return made

    return two(types.float64, types.float64), generate


@intrinsic
def twice(typing, value):
    """Both of two lanes, and again."""

    def generate(context, builder, signature, args):
        order = ir.Constant(ir.VectorType(_INT, FOUR), [0, 1, 0, 1])
        return builder.shuffle_vector(args[0], ir.Constant(two.vector, ir.Undefined), order)

    return four(value), generate


@intrinsic
def where_larger(typing, a, b, x, y):
    """Lane by lane: x where a > b, otherwise y."""

    def generate(context, builder, signature, args):
        return builder.select(builder.fcmp_ordered(">", args[0], args[1]), args[2], args[3])

    return a(a, b, x, y), generate


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


def _woven(order: list[int]):
    """A vector of lanes of two vectors of four, those of the second one counted from 4."""

    def typed(typing, a, b):
        def generate(context, builder, signature, args):
            return builder.shuffle_vector(*args, ir.Constant(ir.VectorType(_INT, FOUR), order))

        return a(a, b), generate

    return intrinsic(typed)


evens, odds = _woven([0, 2, 4, 6]), _woven([1, 3, 5, 7])
"""Every other lane of two vectors of four."""
first_mixed, last_mixed = _woven([0, 4, 1, 5]), _woven([2, 6, 3, 7])
"""The first, and the last, two lanes of two vectors of four, in turn: what undoes `evens` and `odds`."""
pairs_even, pairs_odd = _woven([0, 4, 2, 6]), _woven([1, 5, 3, 7])
halves_first, halves_last = _woven([0, 1, 4, 5]), _woven([2, 3, 6, 7])
"""Of four rows of four: pairs of rows, then halves of pairs, are the columns."""


@intrinsic
def total(typing, value):
    """The sum of all lanes, always in the same order."""

    def generate(context, builder, signature, args):
        vector, count = args[0], value.vector.count
        half, undefined = count, ir.Constant(value.vector, ir.Undefined)
        while half > 4:
            half //= 2
            order = [*range(half, 2 * half), *([count] * (count - half))]
            upper = builder.shuffle_vector(vector, undefined, ir.Constant(ir.VectorType(_INT, count), order))
            vector = builder.fadd(vector, upper)
        lanes_left = [builder.extract_element(vector, ir.Constant(_INT, k)) for k in range(half)]
        while len(lanes_left) > 1:
            lanes_left = [builder.fadd(a, b) for a, b in zip(lanes_left[::2], lanes_left[1::2], strict=True)]
        return lanes_left[0]

    return types.float64(value), generate


@intrinsic
def largest_of(typing, value):
    """The largest of all lanes."""

    def generate(context, builder, signature, args):
        found = builder.extract_element(args[0], ir.Constant(_INT, 0))
        for k in range(1, value.vector.count):
            other = builder.extract_element(args[0], ir.Constant(_INT, k))
            found = builder.select(builder.fcmp_ordered(">", other, found), other, found)
        return found

    return types.float64(value), generate


@intrinsic
def running(typing, value):
    """The sums of the first one, two, three and four of four lanes."""

    def generate(context, builder, signature, args):
        sums, none = args[0], ir.Constant(four.vector, [0.0] * FOUR)
        for by in (1, 2):
            order = ir.Constant(
                ir.VectorType(_INT, FOUR), [FOUR + k - by if k >= by else k for k in range(FOUR)]
            )
            sums = builder.fadd(sums, builder.shuffle_vector(none, sums, order))
        return sums

    return four(value), generate


@intrinsic
def last_of(typing, value):
    """The last of four lanes in all of them."""

    def generate(context, builder, signature, args):
        order = ir.Constant(ir.VectorType(_INT, FOUR), [FOUR - 1] * FOUR)
        return builder.shuffle_vector(args[0], args[0], order)

    return four(value), generate


def _top(index: int):
    def typed(typing, value):
        def generate(context, builder, signature, args):
            return builder.extract_element(args[0], ir.Constant(_INT, index))

        return types.float64(value), generate

    return typed


top_upper = intrinsic(_top(LANES - 2))
top_lower = intrinsic(_top(LANES - 1))
