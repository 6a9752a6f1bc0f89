"""What moving costs beside standing still, in turns; and what a row of a filter costs."""

import time

import msgspec
import numpy as np

from stonekite.engine.graph.line import Line
from stonekite.signal.filters import design
from stonekite.stages import planning
from stonekite.stages.base import Context, Stage
from stonekite.stages.compressor import Compressor
from stonekite.stages.drive import Drive
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.riding import Point, Ride

RATE, BLOCK, SECONDS, TURNS = 48_000, 512, 3, 5


def _ridden(stage: Stage, only: str = "") -> Stage:
    """A stage of which all numbers that can move do, linked: those of both legs alike."""
    rides = []
    for path, setting in planning.ridable(stage).items():
        if only in path and not setting.is_switch:
            rng = np.random.default_rng(list(path.split(".", 1)[1].encode()))
            points = tuple(
                Point(at_s=float(k), value=setting.from_travel(float(rng.uniform(0.3, 0.7))))
                for k in range(8)
            )
            rides.append(Ride(path=path, points=points))
    return msgspec.structs.replace(stage, rides=tuple(rides))


def _cost(stages: tuple[Stage, ...], sound: np.ndarray) -> float:
    line = Line(stages, Context(RATE))
    begun = time.process_time()
    for start in range(0, sound.shape[1], BLOCK):
        line.process(sound[:, start : start + BLOCK].copy(), start)
    return (time.process_time() - begun) / SECONDS


def _both(still: tuple[Stage, ...], moving: tuple[Stage, ...]) -> tuple[float, float]:
    sound = 0.1 * np.random.default_rng(1).standard_normal((2, SECONDS * RATE))
    turns = [(_cost(still, sound), _cost(moving, sound)) for _ in range(TURNS)]
    return min(a for a, _ in turns), min(b for _, b in turns)


def rows() -> list[tuple[str, str]]:
    """Rows of the bench, each a name and a figure."""
    bands = tuple(Band(frequency_hz=60.0 * 2**k, gain_db=4.0, q=0.8) for k in range(8))
    eq, compressor, drive = (
        Eq(id=1, upper=EqSide(bands=bands), lower=EqSide(bands=bands)),
        Compressor(id=2),
        Drive(id=3),
    )
    side = GainSide(gain_db=-1.0)
    gain = Gain(id=4, upper=side, lower=side)
    cases = (
        ("A level that rides, + EQ, compressor, drive", (gain, eq, compressor, drive), (_ridden(gain, "gain_db"), eq, compressor, drive), 1.1),
        ("EQ of 24 numbers that ride, + compressor, drive", (eq, compressor, drive), (_ridden(eq, "bands"), compressor, drive), 1.5),
        (
            "All that can ride in EQ, compressor, drive",
            (eq, compressor, drive),
            (_ridden(eq), _ridden(compressor), _ridden(drive)),
            1.5,
        ),
    )  # fmt: skip
    found = []
    for name, still, moving, goal in cases:
        stands, moves = _both(still, moving)
        figure = f"{moves / stands:.2f} times the same still (goal {goal}), {100 * moves:.1f} % of a core"
        found.append((name, figure))
    hz, gain_db, q = np.geomspace(20, 20_000, 4096), np.linspace(-24, 24, 4096), np.geomspace(0.2, 12, 4096)
    took = []
    for _ in range(TURNS):
        begun = time.process_time()
        design.moving("bell", hz, gain_db, q, RATE)
        took.append(time.process_time() - begun)
    found.append(("A row of a bell", f"{min(took) / len(hz) * 1e6:.2f} us (goal 20)"))
    return found
