"""Two recordings compared: measures of each, what turns one into the other, and what is left beyond that."""

from collections.abc import Generator
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

from stonekite.engine.ahead import ahead
from stonekite.engine.subjects import Subject, measured
from stonekite.files.audio import BLOCK, Reader, facts, pick_channels
from stonekite.files.resampled import at_rate
from stonekite.measure.matching import REACH_S, Match, Residual, match
from stonekite.measure.measures import Measures
from stonekite.session.types import Source

_MEASURING = 0.4
"""Share of the work that each of the measurements is."""


class Comparison(NamedTuple):
    """`level_match_db` is what the second one has to be turned up by; `residual_db` has "all" and the components."""

    a: Measures
    b: Measures
    level_match_db: float | None
    match: Match
    residual_db: dict[str, float]


def source_of(path: Path, channels: tuple[int, int] | None = None) -> Source:
    """A recording as a source. Raises AudioError."""
    found = facts(path)
    used = pick_channels(found, channels)
    return Source(
        path=str(path), channels=used, channel_count=found.channels, rate=found.rate, frames=found.frames
    )


def _loudest_s(found: Measures) -> float:
    """A time at which it is loud."""
    curve = [-999.0 if value is None else value for value in found.curves.short_term_lufs]
    best = max(range(len(curve)), key=curve.__getitem__, default=0)
    return found.curves.start_s + found.curves.step_s * best if curve else 0.0


def compare(a: Path, b: Path) -> Generator[float, None, Comparison]:
    """Compare two files; yields progress 0 to 1. The second one is heard at the rate of the first. Raises AudioError."""
    first, second = source_of(a), source_of(b)
    done = []
    for k, subject in enumerate((Subject(first), Subject(second, rate=first.rate))):
        steps = measured(subject)
        while True:
            try:
                yield _MEASURING * (k + next(steps))
            except StopIteration as end:
                done.append(end.value)
                break
    one, two = done
    level = None
    if one.integrated_lufs is not None and two.integrated_lufs is not None:
        level = one.integrated_lufs - two.integrated_lufs
    with Reader(a, first.channels) as left, at_rate(Reader(b, second.channels), first.rate) as right:
        start = max(0, int((_loudest_s(one) - REACH_S) * first.rate))
        count = int(2 * REACH_S * first.rate)
        found = match(left.read(start, count), right.read(start, count))
        residual = Residual(found)
        frames, heard = min(left.facts.frames, right.facts.frames), 0
        both = zip(left.blocks(BLOCK, 0, frames), right.blocks(BLOCK, 0, frames), strict=False)
        with closing(ahead(iter(both))) as blocks:
            for mine, theirs in blocks:
                length = min(mine.shape[1], theirs.shape[1])
                residual.add(mine[:, :length], theirs[:, :length])
                heard += length
                yield 2 * _MEASURING + (1 - 2 * _MEASURING) * heard / frames
    return Comparison(one, two, level, found, residual.levels_db())
