"""Two recordings compared: measures of each, what turns one into the other, and what is left beyond that."""

import math
from collections.abc import Generator
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

import numpy as np

from stonekite.engine.offline.ahead import ahead
from stonekite.engine.offline.subjects import Subject, measured
from stonekite.files.audio import BLOCK, Reader, facts, pick_channels
from stonekite.files.resampled import at_rate
from stonekite.measure.matching import EXCERPT_S, REACH_S, Match, Residual, match
from stonekite.measure.measures import Measures
from stonekite.session.types import Source

CONVERTED = 0.925
"""Of what can be compared at a rate, so much is left of what was brought to it from another one: 19.7 kHz of 44.1 kHz."""
_MEASURING = 0.4
"""Share of the work that each of the measurements is."""


class Comparison(NamedTuple):
    """`level_match_db` is what the second one has to be turned up by; `residual_db` has "all" and the components:
    not-a-number where they do not fit, and there is nothing to take away."""

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
        excerpt, reach = int(EXCERPT_S * first.rate), int(REACH_S * first.rate)
        # From the same place on in both: what is before the excerpt of the first one is silence to it.
        start = max(0, int(_loudest_s(one) * first.rate) - excerpt // 2)
        before = min(start, reach)
        mine = left.read(start, excerpt)
        theirs = right.read(start - before, before + excerpt + reach)
        found = match(np.pad(mine, ((0, 0), (before, 0))), theirs)
        whole = math.floor(found.samples) if found.found else 0
        share = 1.0
        if second.rate != first.rate:  # a converter lets through a little less than half of the lower rate
            share = CONVERTED * min(1.0, second.rate / first.rate)
        residual = Residual(found._replace(samples=found.samples - whole), share)
        mine_from, theirs_from = max(0, -whole), max(0, whole)
        frames, heard = min(left.facts.frames - mine_from, right.facts.frames - theirs_from), 0
        if not found.found:
            frames = 0  # there is nothing that one could take away from the other
        both = zip(
            left.blocks(BLOCK, mine_from, mine_from + frames),
            right.blocks(BLOCK, theirs_from, theirs_from + frames),
            strict=False,
        )
        with closing(ahead(iter(both))) as blocks:
            for mine, theirs in blocks:
                length = min(mine.shape[1], theirs.shape[1])
                residual.add(mine[:, :length], theirs[:, :length])
                heard += length
                yield 2 * _MEASURING + (1 - 2 * _MEASURING) * heard / frames
    return Comparison(one, two, level, found, residual.levels_db())
