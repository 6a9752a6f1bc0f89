"""Some kernels beside the same work in C, one thread, both legs: benchmarks/in_c.c, compiled for this processor."""

import ctypes
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from benchmarks.kernels import BLOCK, RATE, best, eight_bands
from stonekite.engine.graph.chain import Chain
from stonekite.session.types import Leg, Strip
from stonekite.signal import shaping
from stonekite.signal.filters import biquads, fir, oversampling
from stonekite.signal.levels import dynamics
from stonekite.stages.base import At, Context
from stonekite.stages.drive import Drive, DriveShared, DriveSide
from stonekite.stages.eq import side_sections
from stonekite.stages.machinery.rows import standing
from stonekite.stages.planning import still_rows
from stonekite.stages.registry import kind_of

GOAL = 0.6


def _pointer(array: np.ndarray) -> ctypes.c_void_p:
    return ctypes.c_void_p(array.ctypes.data)


def _library(folder: Path) -> ctypes.CDLL | None:
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None:
        return None
    made = folder / "in_c.so"
    source = Path(__file__).with_name("in_c.c")
    flags = ["-O3", "-march=native", "-ffp-contract=fast", "-shared", "-fPIC"]
    subprocess.run([compiler, *flags, str(source), "-o", str(made), "-lm"], check=True)
    return ctypes.CDLL(str(made))


def _row(words: str, ours: Callable[[], object], theirs: Callable[[], object]) -> tuple[str, str]:
    """By turns, so that what the machine does meanwhile meets both."""
    mine = other = 1e9
    for _ in range(5):
        mine, other = min(mine, best(ours, 5)), min(other, best(theirs, 5))
    real = BLOCK / RATE
    return (
        words,
        f"{real / mine:6.0f} x real time; C {real / other:.0f} x: {other / mine:.2f} of it (goal {GOAL})",
    )


def rows() -> Iterator[tuple[str, str]]:
    with tempfile.TemporaryDirectory() as name:
        library = _library(Path(name))
        if library is None:
            yield "Beside C", "no compiler here"
            return
        yield from _rows(library)


def _rows(c: ctypes.CDLL) -> Iterator[tuple[str, str]]:
    rng = np.random.default_rng(0)
    sound = 0.1 * rng.standard_normal((2, BLOCK))
    long = ctypes.c_long(BLOCK)

    sections = side_sections(eight_bands(), RATE)
    assert len(sections) <= 10
    padded = np.zeros((10, 5))
    padded[:, 0] = 1.0
    padded[: len(sections)] = sections
    packed = biquads.pack(sections, sections)
    state, block = biquads.rest(packed), sound.copy()
    pairs = np.ascontiguousarray(np.repeat(padded[:, :, None], 2, axis=2))
    memory, theirs = np.zeros((20, 2)), sound.copy()

    def our_eq() -> None:
        block[:] = sound
        biquads.cascade(block, 0, packed, state)

    rows_of = [_pointer(row) for row in theirs]
    eq_given = (*rows_of, long, _pointer(pairs), _pointer(memory))

    def their_eq() -> None:
        theirs[:] = sound
        c.eq(*eq_given)

    our_eq()
    their_eq()
    assert np.abs(block - theirs).max() < 1e-9  # it is the same work
    yield _row("EQ, eight bells (ten sections)", our_eq, their_eq)

    rooms = [np.empty(BLOCK) for _ in range(4)]

    matrix_given = (*(_pointer(row) for row in (*sound, *rooms)), long)

    def their_matrix() -> None:
        c.there_and_back(*matrix_given)

    chain = Chain(Strip(upper=Leg(level_db=-6.0)), RATE)
    yield _row("Mid/side there and back, as two calls", lambda: chain.join(chain.split(sound)), their_matrix)
    yield _row("  the same as a strip with one level set", lambda: chain.process(sound, 0), their_matrix)

    powers = rng.uniform(1e-4, 0.5, (2, BLOCK))
    numbers = np.zeros(dynamics.NUMBERS)
    attack, release = dynamics.smoothing(0.01, RATE), dynamics.smoothing(0.15, RATE)
    for row, value in (
        (dynamics.THRESHOLD, -30.0), (dynamics.SLOPE, 0.75), (dynamics.KNEE, 6.0), (dynamics.RANGE, 60.0),
        (dynamics.ATTACK, attack), (dynamics.RELEASE, release), (dynamics.GAIN, 3.0),
    ):  # fmt: skip
        numbers[2 * row : 2 * row + 2] = value
    rows = standing(numbers).cells
    smoothers, room = np.zeros((dynamics.MEMORIES, 2)), dynamics.Room()
    wanted, fast = np.empty(BLOCK), np.zeros(2)

    def our_compressor() -> None:
        block[:] = sound
        dynamics.apply(
            block, dynamics.reduce(powers, BLOCK, rows, smoothers, room), False, (rows, rows), room
        )

    figures = [ctypes.c_double(v) for v in (-30.0, 0.75, 6.0, 60.0, attack, release, 3.0)]
    compressor_given = [
        (rows_of[leg], _pointer(powers[leg]), _pointer(wanted), long, *figures, _pointer(fast[leg:]))
        for leg in range(2)
    ]

    def their_compressor() -> None:
        theirs[:] = sound
        for given in compressor_given:
            c.compress(*given)

    our_compressor()
    their_compressor()
    assert np.abs(block - theirs).max() < 1e-6
    yield _row("Compressor behind its detector, soft knee", our_compressor, their_compressor)

    weights, joined = rng.standard_normal(104), rng.standard_normal(BLOCK + 103 + 64)
    out, other = np.empty(BLOCK), np.empty(BLOCK)

    def our_filter() -> None:
        for _ in range(2):
            fir.convolve(joined, weights, out)

    filter_given = (_pointer(joined), _pointer(weights), ctypes.c_long(104), _pointer(other), long)

    def their_filter() -> None:
        for _ in range(2):
            c.fir(*filter_given)

    our_filter()
    their_filter()
    assert np.abs(out - other).max() < 1e-9
    yield _row("Filter of 104 taps, as in the oversampling", our_filter, their_filter)

    for words, quality, curve in (
        ("Drive, soft, standard", "standard", "soft"),
        ("Drive, soft, high", "high", "soft"),
        ("Drive, hard, standard", "standard", "hard"),
        ("Drive, hard, high", "high", "hard"),
    ):
        side = DriveSide(drive_db=12.0, curve=curve, asymmetry=10.0)
        stage = Drive(id=2, upper=side, lower=side, shared=DriveShared(quality=quality))
        yield _row(f"{words}, both legs", *_drives(c, stage, sound))


def _drives(
    c: ctypes.CDLL, stage: Drive, sound: np.ndarray
) -> tuple[Callable[[], object], Callable[[], object]]:
    """Our stage, with all that is around its curve, and the oversampled curve alone in C."""
    kind = kind_of(stage)
    coefficients = kind.coefficients(stage, Context(RATE))
    state, block, at = kind.start(coefficients), sound.copy(), At(0, **still_rows(stage, Context(RATE)))
    theirs, legs = sound.copy(), []
    for row, leg in enumerate(coefficients.legs):
        shaper = shaping.Shaper(leg.factor, leg.shape)
        assert leg.shape in (shaping.SOFT, shaping.HARD)
        _, past, halves, rows, taps, up = shaper._up.parts
        bent, back, down_taps, down = shaper._down.parts
        longs = [halves.shape[1], back.shape[1], len(taps), oversampling.LEAD, up.shape[2], BLOCK]
        legs.append(
            (
                (_pointer(theirs[row]), ctypes.c_long(BLOCK), ctypes.c_long(leg.factor)),
                (
                    ctypes.c_long(leg.shape == shaping.HARD),
                    ctypes.c_double(leg.gain),
                    ctypes.c_double(leg.bias),
                ),
                [
                    _pointer(a)
                    for a in (shaping._ERF, past, halves, rows, taps, up, bent, back, down_taps, down)
                ],
                [ctypes.c_long(n) for n in longs],
                shaper,
            )
        )

    def ours() -> None:
        block[:] = sound
        kind.process(state, coefficients, block, at)

    def other() -> None:
        theirs[:] = sound
        for first, second, arrays, longs, _ in legs:
            c.drive(*first, *second, *arrays, *longs)

    same = [shaping.Shaper(leg.factor, leg.shape) for leg in coefficients.legs]
    mine = np.empty_like(sound)
    for _ in range(2):
        other()
        for row, leg in enumerate(coefficients.legs):
            mine[row] = sound[row]
            same[row].process(mine[row], leg.shape, leg.gain, leg.bias)
    assert np.abs(mine - theirs).max() < 1e-9
    return ours, other
