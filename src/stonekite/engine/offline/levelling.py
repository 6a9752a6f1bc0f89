"""Files brought to a loudness and held under a ceiling: what was made is kept, measured, written, measured again."""

import contextlib
import math
from collections.abc import Callable, Generator, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import msgspec
import numpy as np

from stonekite.files.atomic import Together, scratch
from stonekite.files.audio import BLOCK, AudioError, Reader, Writer
from stonekite.lazy import lazy
from stonekite.session.export_sets import RESULT, How, Point
from stonekite.signal.decibels import db_of, gain_of
from stonekite.words import figure, said

meter = lazy("stonekite.measure.loudness")
peaks = lazy("stonekite.measure.peaks")

LOUDNESS_LU, PEAK_DB = 0.02, 0.01
"""A file that was written is as near as this, or it is written again."""
UNPROCESSED, DIFFERENCE = Point("unprocessed"), Point("difference")
_TRIES = 4
_SAFE_DB = 0.004


class Sink(Protocol):
    """Takes samples (channels, frames)."""

    def write(self, block: np.ndarray) -> None: ...


class Levels(msgspec.Struct, frozen=True):
    """Integrated loudness and true peak; None for silence."""

    lufs: float | None
    true_peak_db: float | None


@dataclass
class Levelled:
    """What was written: levels on disk, samples that did not fit, and what is to be known of it."""

    levels: dict[Point, Levels] = field(default_factory=dict)
    overs: int = 0
    sentences: list[str] = field(default_factory=list)


class Kept(contextlib.AbstractContextManager):
    """A signal kept in a folder without losing anything, until it is written. Raises AudioError on a full disk."""

    def __init__(self, folder: Path, rate: int, channels: int) -> None:
        self.rate, self.channels, self.frames = rate, channels, 0
        self._place = scratch(folder, ".raw")

    def __enter__(self) -> "Kept":
        path = self._place.__enter__()
        try:
            self._file = path.open("w+b")
        except OSError as error:
            self._place.__exit__(None, None, None)
            raise AudioError(_full(error)) from None
        return self

    def __exit__(self, *trace: object) -> None:
        with contextlib.suppress(OSError):
            self._file.close()
        self._place.__exit__(None, None, None)

    def write(self, block: np.ndarray) -> None:
        """Append samples (channels, frames)."""
        try:
            self._file.write(np.ascontiguousarray(block.T, dtype=np.float64).tobytes())
        except OSError as error:
            raise AudioError(_full(error)) from None
        self.frames += block.shape[1]

    def blocks(self) -> Iterator[np.ndarray]:
        """All of it, in blocks (channels, frames)."""
        try:
            self._file.flush()
            self._file.seek(0)
            while data := self._file.read(8 * self.channels * BLOCK):
                yield np.frombuffer(data).reshape(-1, self.channels).T
        except OSError as error:
            raise AudioError(_full(error)) from None


def _full(error: OSError) -> str:
    return said("What is to be written cannot be kept: {reason}.").format(
        reason=(error.strerror or str(error)).lower()
    )


def levels_of(blocks: Iterator[np.ndarray], rate: int) -> Levels:
    """Levels of blocks (channels, frames); one channel alone counts as one loudspeaker."""
    loud, high = meter.Loudness(rate), peaks.Peaks(rate)
    for block in blocks:
        both = np.concatenate([block, np.zeros_like(block)]) if block.shape[0] == 1 else block
        loud.add(both)
        high.add(np.ascontiguousarray(both))
    lufs, peak = loud.integrated(), db_of(float(high.true_peak().max()))
    return Levels(lufs if math.isfinite(lufs) else None, peak if math.isfinite(peak) else None)


def _of_file(path: Path, channels: int) -> Levels:
    with Reader(path) as reader:
        return levels_of((block[:channels] for block in reader.blocks()), reader.facts.rate)


def levelled(
    kept: Mapping[Point, Kept],
    points: list[Point],
    how: How,
    writer: Callable[[Point], Writer],
    together: Together,
    name: Callable[[Point], str],
) -> Generator[float | Levelled, None, None]:
    """Write points at the levels that are asked for; yields progress 0 to 1 and at last what was done. The result is
    among what was kept, whether it is written or not. Raises AudioError.
    """
    found: dict[Point, Levels] = {}
    # The difference of what is equally loud is known when both are.
    order = sorted(kept, key=lambda point: point == DIFFERENCE)
    for k, point in enumerate(order):
        found[point] = levels_of(
            _blocks(point, kept, _match_db(found) if how.matched else None), kept[point].rate
        )
        yield 0.3 * (k + 1) / len(kept)
    match_db = _match_db(found) if how.matched else None
    done = Levelled()
    own, gain_db = _gains(found, points, how, name, done.sentences)
    for attempt in range(_TRIES):
        done.levels, done.overs = {}, 0
        waiting: list[Writer] = []
        for k, point in enumerate(points):
            with writer(point) as out:
                gain = gain_of(gain_db + own[point])
                for block in _blocks(point, kept, match_db):
                    out.write(block if gain == 1.0 else block * gain)
            waiting.append(out)
            done.overs += out.overs
            done.levels[point] = _of_file(out.temporary, kept[point].channels)
            yield 0.3 + 0.7 * (k + 1) / len(points)
        better = _better(done.levels, found, how, gain_db, own)
        if better is None or attempt == _TRIES - 1:
            break
        gain_db, own = better
        for out in waiting:
            together.forget(out.temporary)
    _told(done, how, name)
    yield done


def _match_db(found: Mapping[Point, Levels]) -> float:
    """What the unprocessed is turned by to be as loud as the result, as far as both are known."""
    one, two = found.get(RESULT), found.get(UNPROCESSED)
    if one is None or two is None or one.lufs is None or two.lufs is None:
        return 0.0
    return one.lufs - two.lufs


def _blocks(point: Point, kept: Mapping[Point, Kept], match_db: float | None) -> Iterator[np.ndarray]:
    """What was kept of a point; the difference of a result and an unprocessed that are equally loud is made of both."""
    if point != DIFFERENCE or match_db is None or UNPROCESSED not in kept:
        yield from kept[point].blocks()
        return
    gain = gain_of(match_db)
    for result, dry in zip(kept[RESULT].blocks(), kept[UNPROCESSED].blocks(), strict=True):
        yield result - gain * dry


def _gains(
    found: Mapping[Point, Levels],
    points: list[Point],
    how: How,
    name: Callable[[Point], str],
    sentences: list[str],
) -> tuple[dict[Point, float], float]:
    """What each point is turned by more than all, and what all are turned by, in dB."""
    own = dict.fromkeys(points, 0.0)
    result = found[RESULT].lufs
    if how.matched and UNPROCESSED in own:
        own[UNPROCESSED] = _match_db(found)
    wanted = 0.0
    if how.loudness_lufs is not None:
        if result is None:
            sentences.append(said("The result is silent, or shorter than 0.4 s: it has no loudness."))
        else:
            wanted = how.loudness_lufs - result
    if how.ceiling_dbtp is None:
        return own, wanted
    most = wanted
    for point in points:
        peak = found[point].true_peak_db
        if peak is not None:
            most = min(most, how.ceiling_dbtp - _SAFE_DB - peak - own[point])
    return own, most


def _better(
    levels: Mapping[Point, Levels],
    found: Mapping[Point, Levels],
    how: How,
    gain_db: float,
    own: Mapping[Point, float],
) -> tuple[float, dict[Point, float]] | None:
    """Other gains, where what was written is not what it was to be; None if it is."""
    over = (
        max(
            (one.true_peak_db - how.ceiling_dbtp for one in levels.values() if one.true_peak_db is not None),
            default=-math.inf,
        )
        if how.ceiling_dbtp is not None
        else -math.inf
    )
    turned = dict(own)
    if over > 0.0:
        return gain_db - over - _SAFE_DB, turned
    again = False
    written = levels[RESULT].lufs if RESULT in levels else None
    if how.loudness_lufs is not None and written is not None:
        missing = how.loudness_lufs - written
        room = -over - _SAFE_DB if math.isfinite(over) else math.inf
        if (abs(missing) > LOUDNESS_LU and min(missing, room) > LOUDNESS_LU / 2) or missing < -LOUDNESS_LU:
            gain_db += min(missing, room)
            again = True
    for point, one in levels.items():
        if point.what == "unprocessed" and how.matched and one.lufs is not None and written is not None:
            off = written - one.lufs
            if abs(off) > LOUDNESS_LU and off < max(0.0, -over):
                turned[point] += off
                again = True
    return (gain_db, turned) if again else None


def _told(done: Levelled, how: How, name: Callable[[Point], str]) -> None:
    """Say where loudness and ceiling contradict each other, and what was kept."""
    written = done.levels.get(RESULT)
    if how.loudness_lufs is None or written is None or written.lufs is None:
        return
    if abs(written.lufs - how.loudness_lufs) <= 0.05:
        return
    highest = max(
        (point for point, one in done.levels.items() if one.true_peak_db is not None),
        key=lambda point: done.levels[point].true_peak_db or -math.inf,
    )
    done.sentences.append(
        said(
            "{wanted} would take {what} over the ceiling of {ceiling}: the ceiling was kept, and the result has {lufs}. "
            "A limit in the output makes room."
        ).format(
            wanted=figure(how.loudness_lufs, "LUFS"),
            what=name(highest),
            ceiling=figure(how.ceiling_dbtp, "dBTP"),
            lufs=figure(written.lufs, "LUFS"),
        )
    )
