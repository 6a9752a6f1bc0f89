"""Two rows through matrices of gains, many of them in one pass."""

from stonekite.signal.kernel import filled, kernel, lesser
from stonekite.signal.sanity import ABSURD


@kernel
def mix_each(gains, which, rows, outs):
    """Put rows (2, frames) through gains (n, 2, 2) into outs (n, 2, frames), for each of `which` of the n."""
    for k in which:
        a, b, c, d = gains[k, 0, 0], gains[k, 0, 1], gains[k, 1, 0], gains[k, 1, 1]
        out = outs[k]
        for i in range(rows.shape[1]):
            upper, lower = rows[0, i], rows[1, i]
            out[0, i] = a * upper + b * lower
            out[1, i] = c * upper + d * lower


@kernel
def cross(rows, first, second, upper, lower, out):
    """Into out (2, frames) sum and difference of rows (2, frames), as signal/matrix.py has them: with gains before and
    after.
    """
    for i in range(rows.shape[1]):
        one, two = first * rows[0, i], second * rows[1, i]
        out[0, i] = upper * (one + two)
        out[1, i] = lower * (one - two)


@kernel
def cross_twice(rows, there, back, out):
    """Into out (2, frames) rows (2, frames) through `cross` twice, with gains `there` and then `back`, four each; whether
    all of rows was sound.
    """
    bad = 0
    for i in range(rows.shape[1]):
        left, right = rows[0, i], rows[1, i]
        bad |= not (abs(left) < ABSURD and abs(right) < ABSURD)
        one, two = there[0] * left, there[1] * right
        upper, lower = back[0] * (there[2] * (one + two)), back[1] * (there[3] * (one - two))
        out[0, i] = back[2] * (upper + lower)
        out[1, i] = back[3] * (upper - lower)
    return bad == 0


@kernel
def add_by(gains, rows, out):
    """Add rows (2, frames), each by its gain of gains (2,), to out (2, frames)."""
    for row in range(2):
        gain = gains[row]
        if gain != 0.0:
            for i in range(rows.shape[1]):
                out[row, i] += gain * rows[row, i]


@kernel
def add_through(gains, rows, out):
    """Add rows (2, frames), through a matrix of gains (2, 2), to out (2, frames)."""
    for row in range(2):
        a, b = gains[row, 0], gains[row, 1]
        for i in range(rows.shape[1]):
            out[row, i] += a * rows[0, i] + b * rows[1, i]


TILE = 128


@kernel
def add_each(gains, which, each, rows, spare):
    """Add each (n, 2, frames) of `which` of the n through gains (n, 2, 2) to rows (2, frames): first their sum is made,
    one after the other, and then added. `spare` (2, TILE) is working space.
    """
    upper, lower = spare[0], spare[1]
    for start in range(0, rows.shape[1], TILE):
        count = lesser(TILE, rows.shape[1] - start)
        filled(0.0, upper)
        filled(0.0, lower)
        for k in which:
            a, b, c, d = gains[k, 0, 0], gains[k, 0, 1], gains[k, 1, 0], gains[k, 1, 1]
            one, two = each[k, 0, start : start + count], each[k, 1, start : start + count]
            for i in range(count):
                upper[i] += a * one[i] + b * two[i]
                lower[i] += c * one[i] + d * two[i]
        for i in range(count):
            rows[0, start + i] += upper[i]
            rows[1, start + i] += lower[i]


@kernel
def times_moving(signal, starts, offsets, table, steps, number):
    """Multiply a signal (frames,) by one of the numbers of rows (stages/machinery/rows.py), in place."""
    frames, cells = signal.shape[0], starts.shape[0]
    for cell in range(cells):
        first = starts[cell]
        last = starts[cell + 1] if cell + 1 < cells else frames
        value, step, into = table[cell, number], steps[cell, number], offsets[cell] - first
        for i in range(first, last):
            signal[i] *= value + float(into + i) * step


@kernel
def blend_moving(rows, dry, starts, offsets, table, steps, number):
    """Of two rows (2, frames) what the numbers from `number` on say, and dry (2, frames) for the rest, in place."""
    frames, cells = rows.shape[1], starts.shape[0]
    for row in range(2):
        one, other = rows[row, :frames], dry[row, :frames]
        for cell in range(cells):
            first = starts[cell]
            last = starts[cell + 1] if cell + 1 < cells else frames
            value, step, into = table[cell, number + row], steps[cell, number + row], offsets[cell] - first
            for i in range(first, last):
                one[i] = (one[i] - other[i]) * (value + float(into + i) * step) + other[i]
