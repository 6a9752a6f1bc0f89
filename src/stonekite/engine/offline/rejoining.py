"""Components that came back, repaired and joined: what that leaves against the recording, and the stereo file."""

import math
import os
from collections.abc import Generator, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np

from stonekite.engine.offline.returned import Part, Returned, slice_of
from stonekite.files.atomic import sweep
from stonekite.files.audio import BLOCK, AudioError, Bits, Reader, Writer, shown_name
from stonekite.files.components import as_kept, bits_of
from stonekite.files.resampled import at_rate
from stonekite.lazy import lazy
from stonekite.measure.matching import TAPS, fractional_taps
from stonekite.session.types import Source
from stonekite.signal.decibels import db_of, gain_of
from stonekite.signal.matrix import decode
from stonekite.words import NAMES, figure, said

fir = lazy("stonekite.signal.filters.fir")

What = Literal["rate", "length", "level", "delay", "polarity"]
WHATS: tuple[What, ...] = ("rate", "length", "delay", "level", "polarity")


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """Something about a part that came back, as a sentence, and what repairs it: `what` of the part in that row (0 is the
    upper leg's), None if there is nothing to repair."""

    sentence: str
    row: int = 0
    what: What | None = None

    @property
    def repair(self) -> str:
        """The name of its repair; empty if there is none."""
        return f"{self.what} {self.row}" if self.what else ""


WORDS: dict[What, str] = {
    "rate": said("Convert"),
    "length": said("Fit"),
    "delay": said("Align"),
    "level": said("Level"),
    "polarity": said("Invert"),
}
"""On the buttons of repairs."""


class Leftover(msgspec.Struct, frozen=True, kw_only=True):
    """What is left when the recording is taken away from joined parts: its level in dBFS over the time in steps, its
    peak, samples that are not the recording's, and ranges in seconds that were worked on. `frames` were compared.
    `pictures` are least and greatest samples of the joined sides, for each step.
    """

    step_s: float
    levels_db: list[float]
    source_db: list[float]
    peak_db: float
    changed: int
    frames: int
    worked: list[tuple[float, float]]
    pictures: tuple[tuple[list[float], list[float]], ...] = ()

    @property
    def exact(self) -> bool:
        return self.changed == 0


def findings(back: Returned, source: Source) -> list[Finding]:
    """What happened to both parts elsewhere, the greatest first; and at last what did not."""
    if back.fault:
        return [Finding(sentence=back.fault)]
    found: list[Finding] = []
    for row, part in enumerate(back.parts):
        name = NAMES[part.component or "mid"]
        told = {"name": name}
        if part.silent:
            found.append(Finding(sentence=said("{name} is silent.").format(**told), row=row))
        if part.throughout:
            found.append(
                Finding(
                    sentence=said(
                        "{name} was worked on from beginning to end: its level cannot be compared."
                    ).format(**told),
                    row=row,
                )
            )
        if part.rate != source.rate:
            sentence = said("{name} has {rate} Hz, the recording {own} Hz.").format(
                rate=part.rate, own=source.rate, **told
            )
            found.append(Finding(sentence=sentence, row=row, what="rate"))
        off = part.frames - part.wanted_frames
        if abs(off) > (0 if part.rate == source.rate else 1):
            longer = said("longer") if off > 0 else said("shorter")
            sentence = said("{name} is {time} {longer} than it went ({count} frames).").format(
                time=figure(1000 * abs(off) / part.rate, "ms", 2), longer=longer, count=abs(off), **told
            )
            found.append(Finding(sentence=sentence, row=row, what="length"))
        if part.samples:
            late = said("late") if part.samples > 0 else said("early")
            count = f"{abs(part.samples):.2f}".rstrip("0").rstrip(".")
            sentence = said("{name} is {late} by {time} ({count} samples).").format(
                late=late, time=figure(1000 * abs(part.samples) / source.rate, "ms", 2), count=count, **told
            )
            found.append(Finding(sentence=sentence, row=row, what="delay"))
        if part.change_db and not part.throughout:
            louder = said("louder") if part.change_db > 0 else said("softer")
            sentence = said("{name} is {change} {louder} than it went.").format(
                change=figure(abs(part.change_db), "dB", 2), louder=louder, **told
            )
            found.append(Finding(sentence=sentence, row=row, what="level"))
        if part.inverted:
            found.append(
                Finding(sentence=said("{name} is inverted.").format(**told), row=row, what="polarity")
            )
        if part.channels == 2 and part.path != back.parts[1 - row].path:
            sentence = said("“{name}” is stereo: its left channel is used.").format(
                name=shown_name(Path(part.path))
            )
            found.append(Finding(sentence=sentence, row=row))
    told_of = {one.what for one in found}
    for what, sentence in (
        ("rate", said("Both have the recording's rate.")),
        ("length", said("Both are as long as they went.")),
        ("delay", said("Both are in time.")),
        ("level", said("Both are as loud as they went.")),
        ("polarity", said("Neither is inverted.")),
    ):
        unknown = what == "level" and any(part.throughout for part in back.parts)
        if what not in told_of and not unknown:
            found.append(Finding(sentence=sentence, row=-1))
    return found


def repairs(back: Returned, source: Source) -> list[str]:
    """The names of all repairs that there are."""
    return [one.repair for one in findings(back, source) if one.what is not None]


def refusal(back: Returned, source: Source, done: frozenset[str]) -> str:
    """Why the parts cannot be joined with these repairs, as a sentence; empty if they can."""
    if back.fault:
        return back.fault
    rates = [source.rate if f"rate {row}" in done else part.rate for row, part in enumerate(back.parts)]
    if rates[0] != rates[1]:
        return said("The parts have {first} Hz and {second} Hz: convert them first.").format(
            first=rates[0], second=rates[1]
        )
    if rates[0] != source.rate:
        return said("The parts have {rate} Hz, the recording {own} Hz: convert them first.").format(
            rate=rates[0], own=source.rate
        )
    lengths = [_length(part, source, f"length {row}" in done) for row, part in enumerate(back.parts)]
    if lengths[0] != lengths[1]:
        return said("The parts differ in length ({first} and {second} frames): fit them first.").format(
            first=lengths[0], second=lengths[1]
        )
    return ""


def _length(part: Part, source: Source, fitted: bool) -> int:
    if fitted or abs(part.frames - part.wanted_frames) <= (0 if part.rate == source.rate else 1):
        return source.frames
    return part.frames * source.rate // part.rate


class _Repaired:
    """One part as it is after repairs, block by block."""

    def __init__(self, part: Part, source: Source, done: frozenset[str], row: int, files: ExitStack) -> None:
        reader = files.enter_context(Reader(Path(part.path)))
        self._reader = at_rate(reader, source.rate) if f"rate {row}" in done else reader
        self._row = part.channel
        self.length = _length(part, source, f"length {row}" in done)
        moved = part.samples if f"delay {row}" in done else 0.0
        self._whole = math.floor(moved)
        fraction = moved - self._whole
        self._taps = fractional_taps(1.0 - fraction) if fraction else None
        gain = 1.0
        if f"level {row}" in done and part.change_db:
            gain = 1.0 / gain_of(part.change_db)
        if f"polarity {row}" in done and part.inverted:
            gain = -gain
        self._gain = gain

    def read(self, start: int, count: int) -> np.ndarray:
        """Frames (count,) from `start` on."""
        if self._taps is None:
            out = slice_of(self._reader, start + self._whole, count)[self._row]
        else:
            # Advanced by a sample more, and delayed by what that is too much.
            first = start + self._whole + 1 + TAPS // 2 - (TAPS - 1)
            heard = slice_of(self._reader, first, count + TAPS - 1)[self._row]
            out = np.empty(count)
            fir.filtered(np.ascontiguousarray(heard), self._taps, out)
        return out if self._gain == 1.0 else out * self._gain


def joined(back: Returned, source: Source, done: frozenset[str]) -> Iterator[tuple[np.ndarray, int]]:
    """Stereo blocks (2, frames) of the repaired parts, each with the frame it begins at. Raises AudioError, also if they
    cannot be joined like that.
    """
    if why := refusal(back, source, done):
        raise AudioError(why)
    with ExitStack() as files:
        parts = [_Repaired(part, source, done, row, files) for row, part in enumerate(back.parts)]
        own = files.enter_context(Reader(Path(source.path), source.channels))
        gains = np.array([[gain_of(trim)] for trim in back.trims_db])
        length, start = parts[0].length, 0
        while start < length:
            count = min(BLOCK, length - start)
            block = np.stack([part.read(start, count) for part in parts])
            if any(back.trims_db):
                block = block / gains
            if back.matrix is not None:
                block = decode(block, back.matrix)
            # To the nearest of its steps, what only went there and back is the recording.
            mine = slice_of(own, start, count)
            same = as_kept(block, own.facts.depth, own.facts.subtype) == mine
            yield np.where(same, mine, block), start
            start += count


STEP_S = 0.1


def leftover(back: Returned, source: Source, done: frozenset[str]) -> Generator[float, None, Leftover]:
    """What is left against the recording; yields progress 0 to 1. Raises AudioError."""
    step = max(1, int(STEP_S * source.rate))
    powers: list[float] = []
    own_powers: list[float] = []
    changed, peak, frames = 0, 0.0, 0
    held = np.empty((4, 0))
    extremes: list[np.ndarray] = []

    def take(piece: np.ndarray) -> None:
        """What is left (2) and the recording (2, frames) of one step."""
        powers.append(float(np.mean(piece[:2] ** 2)))
        own_powers.append(float(np.mean(piece[2:] ** 2)))
        both = piece[:2] + piece[2:]
        extremes.append(np.stack([both.min(axis=1), both.max(axis=1)], axis=1))

    with Reader(Path(source.path), source.channels) as reader:
        for block, start in joined(back, source, done):
            mine = slice_of(reader, start, block.shape[1])
            off = block - mine
            changed += int(np.count_nonzero(off))
            peak = max(peak, float(np.abs(off).max(initial=0.0)))
            frames += block.shape[1]
            held = np.concatenate([held, np.concatenate([off, mine])], axis=1)
            while held.shape[1] >= step:
                take(held[:, :step])
                held = held[:, step:]
            yield min(1.0, frames / source.frames)
    if held.shape[1]:
        take(held)
    levels, own = ([db_of(math.sqrt(power)) for power in row] for row in (powers, own_powers))
    return Leftover(
        step_s=step / source.rate,
        levels_db=[max(level, -200.0) for level in levels],
        source_db=[max(level, -200.0) for level in own],
        peak_db=max(db_of(peak), -400.0),
        changed=changed,
        frames=frames,
        worked=_worked(levels, own, step / source.rate),
        pictures=tuple(
            ([float(one[side, 0]) for one in extremes], [float(one[side, 1]) for one in extremes])
            for side in (0, 1)
        ),
    )


_TOUCHED_DB = -50.0
_FLOOR_DB = -84.0
"""What is left is taken for work if it is louder than both: against the recording, and against full scale."""


def _worked(levels: list[float], own: list[float], step_s: float) -> list[tuple[float, float]]:
    """Ranges in seconds in which much more is left than elsewhere."""
    known = sorted(level for level in levels if level > -190.0)
    usual = known[len(known) // 10] if known else -200.0
    ranges: list[tuple[float, float]] = []
    for k, (level, mine) in enumerate(zip(levels, own, strict=True)):
        if level < max(mine + _TOUCHED_DB, _FLOOR_DB) and not (level > usual + 20 and level > _FLOOR_DB):
            continue
        start, end = k * step_s, (k + 1) * step_s
        if ranges and start - ranges[-1][1] < 3.5 * step_s:
            ranges[-1] = (ranges[-1][0], end)
        else:
            ranges.append((start, end))
    return ranges


def write_joined(
    back: Returned,
    source: Source,
    done: frozenset[str],
    out: Path,
    *,
    bits: Bits | None = None,
    exact: bool = False,
    less: bool = False,
    force: bool = False,
) -> Generator[float, None, tuple[Path, int]]:
    """Write the repaired parts as a stereo file; yields progress 0 to 1, and gives its path and the overs.

    Without `bits` it has the recording's sample type if it is `exact`, which is known beforehand, else floats, which hold
    everything. With `less` the recording is taken away from it. Raises AudioError.
    """
    for part in (*back.parts, source):
        used = Path(part.path)
        if os.path.exists(used) and out.exists() and out.samefile(used):
            raise AudioError(
                said("“{name}” is one of the files to join: choose another name.").format(
                    name=shown_name(out)
                )
            )
    sweep(out.absolute().parent)
    with ExitStack() as files:
        own = files.enter_context(Reader(Path(source.path), source.channels))
        if bits is None:
            bits = bits_of(own.facts.depth, own.facts.subtype) if exact else "32f"
        if out.suffix.lower() == ".flac" and bits in ("32f", "64f"):
            bits = "24"
        writer = files.enter_context(
            Writer(
                out,
                source.rate,
                bits=bits,
                dither=bits == "16" and not exact,
                force=force,
                frames=source.frames,
            )
        )
        for block, start in joined(back, source, done):
            writer.write(block - slice_of(own, start, block.shape[1]) if less else block)
            yield min(1.0, (start + block.shape[1]) / source.frames)
    return writer.path, writer.overs
