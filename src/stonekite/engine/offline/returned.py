"""Component files that come back from elsewhere, held against the recording that they were made from."""

import math
from collections.abc import Generator, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np

from stonekite.files.audio import AudioError, Blocks, Reader, facts, shown_name
from stonekite.files.components import Note, noted
from stonekite.files.resampled import at_rate
from stonekite.measure import returning
from stonekite.measure.returning import MARGIN, PIECE
from stonekite.session.types import Source
from stonekite.signal.decibels import db_of
from stonekite.signal.matrix import MATRICES, OVER_HALF_SUM, Matrix
from stonekite.words import Component, said

COLUMNS = 240
PIECES = 48
"""So many pieces of a part are looked at."""
_NEAR_S, _FAR_S = 3.0, 30.0
"""Delays that are looked for at first, and if nothing was found there."""
_WINDOW_S = 8.0
_ANCHORS = 24
_SHORT_S, _SHORT, _NEAR_ENOUGH_S = 1.5, 8, 1e-3
"""Windows that have to agree in a delay, how many of them, and how well: filters delay, too."""
_LEAST_SAMPLES, _LEAST_DB = 0.003, 0.004
"""Less than this is no delay, and no level."""
_SOFT_DB = 1.0
"""A trim of so many dB makes a matrix less likely by a factor of e."""
_ROUND_DB, _ROUND_BONUS = 4e-4, 4.0
"""A trim that is a tenth of a dB to so much is likelier to be one."""
SURE = 0.9
"""A matrix is told if it is so likely."""


class Part(msgspec.Struct, frozen=True, kw_only=True):
    """One component that came back: which it is (None: of another recording), and what happened to it.

    It is late by `samples` of the recording's, and `change_db` louder than it went; `inverted` tells the rest.
    `throughout`: it was worked on from beginning to end, so that nothing can be said of its level. `picture` has least
    and greatest samples of stretches.
    """

    path: str
    channel: int
    channels: int
    component: Component | None
    rate: int
    frames: int
    wanted_frames: int
    samples: float = 0.0
    gain_db: float = 0.0
    change_db: float = 0.0
    inverted: bool = False
    throughout: bool = False
    silent: bool = False
    share: float = 0.0
    picture: tuple[list[float], list[float]] = ([], [])


class Returned(msgspec.Struct, frozen=True, kw_only=True):
    """Two parts, the one of the upper leg first, and how they were made: with which matrix, how sure that is (0 to 1;
    1 if a note in the files says so), and the trims in dB that the note speaks of. `others` are matrices that fit, too.

    `fault` is why they cannot be joined, as a sentence; empty if they can. Left and right have no matrix.
    """

    parts: tuple[Part, Part]
    matrix: Matrix | None = None
    sure: float = 0.0
    noted: bool = False
    trims_db: tuple[float, float] = (0.0, 0.0)
    others: tuple[Matrix, ...] = ()
    fault: str = ""

    @property
    def sides(self) -> bool:
        """Whether these are left and right."""
        return self.parts[0].component == "left"


def slice_of(reader: Blocks, start: int, count: int) -> np.ndarray:
    """Frames (2, count) from anywhere on: silence where there is nothing."""
    out = np.zeros((2, count))
    first, last = max(0, start), min(start + count, reader.facts.frames)
    if last > first:
        read = reader.read(first, last - first)
        out[:, first - start : first - start + read.shape[1]] = read
    return out


def _anchors(part: Blocks, row: int, window: int) -> list[int]:
    """Beginnings of windows in which a part is loudest, the loudest first."""
    rate, frames = part.facts.rate, part.facts.frames
    starts = np.unique(np.linspace(0, max(0, frames - window), _ANCHORS).astype(int))
    look = min(window, rate // 4)
    powers = []
    for start in starts:
        looks = [slice_of(part, int(start) + k * (window - look) // 2, look)[row] for k in range(3)]
        powers.append(sum(float(np.dot(one, one)) for one in looks))
    best = [int(starts[k]) for k in np.argsort(powers)[::-1] if powers[k] > 0.0]
    return best[:4]


def _delay(source: Blocks, part: Blocks, row: int) -> tuple[int, Component] | None:
    """By how many samples a part is late, and which component it is most like, from windows of both; None if nothing
    fits."""
    rate = source.facts.rate
    for reach_s in (_NEAR_S, _FAR_S):
        window, reach = int(_WINDOW_S * rate), int(reach_s * rate)
        found: list[tuple[int, float, Component]] = []
        for start in _anchors(part, row, window)[: 4 if reach_s == _NEAR_S else 2]:
            piece = slice_of(part, start, window)[row]
            stereo = slice_of(source, start - reach, window + 2 * reach)
            offset, sure, name = returning.coarse(stereo, piece, reach)
            if sure < 0.5:
                continue
            found.append((offset, sure, name))
            friends = [one for one in found if abs(one[0] - offset) <= 2]
            if len(friends) > 1 or sure >= 1.0:
                return offset, name
        if found:
            best = max(found, key=lambda one: one[1])
            return best[0], best[2]
    return None


def _firm(source: Blocks, part: Blocks, row: int, delay: int) -> bool:
    """Whether short windows of a part agree in a delay, each by itself: what is of another recording agrees in none."""
    rate = source.facts.rate
    window, reach, near = int(_SHORT_S * rate), int(_SHORT_S * rate / 3), int(_NEAR_ENOUGH_S * rate)
    agree = heard = 0
    for start in np.linspace(0, max(0, part.facts.frames - window), _SHORT).astype(int):
        piece = slice_of(part, int(start), window)[row]
        stereo = slice_of(source, int(start) - delay - reach, window + 2 * reach)
        if piece.any() and stereo.any():
            heard += 1
            agree += abs(returning.coarse(stereo, piece, reach)[0]) <= near
    return agree >= max(2, 0.6 * heard)


def _pieces(source: Blocks, part: Blocks, row: int, delay: int, share: float) -> list[returning.Piece | None]:
    """Pieces of a part, spread over it, against the recording."""
    count = min(part.facts.frames, source.facts.frames + delay)
    first = max(0, delay)
    starts = np.unique(np.linspace(first, max(first, count - PIECE), PIECES).astype(int))
    # What is learned from some is a good guess for the others.
    order = [*starts[:: max(1, len(starts) // 5)]]
    order += [start for start in starts if start not in order]
    found: list[returning.Piece | None] = []
    guess = 0.0
    for k, start in enumerate(order):
        piece = slice_of(part, int(start) - MARGIN, PIECE + 2 * MARGIN)[row]
        stereo = slice_of(source, int(start) - MARGIN - delay, PIECE + 2 * MARGIN)
        look = returning.looked_at(stereo, piece, guess, share)
        found.append(None if look is None else look._replace(samples=look.samples + delay))
        if k == 5:
            told = [(one.left, one.samples - delay) for one in found if one is not None]
            guess = min(told, key=lambda one: min(one[0]), default=((), 0.0))[1]
    return found


def _picture(part: Blocks, row: int) -> tuple[list[float], list[float]]:
    """Least and greatest samples of COLUMNS stretches of a part."""
    count = min(COLUMNS, part.facts.frames)
    edges = np.linspace(0, part.facts.frames, count + 1).astype(np.int64)
    low, high = np.zeros(count), np.zeros(count)
    done = 0
    for block in part.blocks():
        one = block[row]
        first = int(np.searchsorted(edges, done, side="right")) - 1
        while first < count and edges[first] < done + len(one):
            stretch = one[max(0, int(edges[first]) - done) : int(edges[first + 1]) - done]
            if len(stretch):
                low[first] = min(low[first], float(stretch.min()))
                high[first] = max(high[first], float(stretch.max()))
            first += 1
        done += len(one)
    return low.tolist(), high.tolist()


def _opened(paths: Sequence[Path], files: ExitStack) -> list[tuple[Reader, int]]:
    """Readers of both parts, and the row of each: two files, or the two channels of one. Raises AudioError."""
    if len(paths) == 1:
        found = facts(paths[0])
        if found.channels != 2:
            raise AudioError(
                said("“{name}” is one component: the other one is needed, too.").format(
                    name=shown_name(paths[0])
                )
            )
        reader = files.enter_context(Reader(paths[0]))
        return [(reader, 0), (files.enter_context(Reader(paths[0])), 1)]
    if len(paths) != 2:
        raise AudioError(said("Two component files are needed, or one that holds both."))
    readers = []
    for path in paths:
        found = facts(path)
        if found.channels > 2:
            raise AudioError(
                said("“{name}” has {count} channels: it is no component.").format(
                    name=shown_name(path), count=found.channels
                )
            )
        readers.append((files.enter_context(Reader(path)), 0))
    return readers


def taken_back(
    source: Source, paths: Sequence[Path], went: Note | None = None
) -> Generator[float, None, Returned]:
    """Hold component files against the recording; yields progress 0 to 1. `went` is how they were written, if that is
    known and the files do not say it themselves. Raises AudioError.
    """
    with ExitStack() as files:
        whole = files.enter_context(Reader(Path(source.path), source.channels))
        readers = _opened(paths, files)
        note = noted(readers[0][0].facts)
        if note is not None and len(paths) == 2 and noted(readers[1][0].facts) != note:
            note = None
        parts = []
        for k, (reader, row) in enumerate(readers):
            parts.append((yield from _one(whole, reader, row, k, len(paths))))
        return _judged(parts, note or went, whole.facts.rate)


def _one(whole: Blocks, reader: Reader, row: int, place: int, count: int) -> Generator[float, None, Part]:
    own, rate = reader.facts, whole.facts.rate
    wanted = max(1, round(whole.facts.frames * own.rate / rate))
    bare = Part(
        path=str(own.path),
        channel=row if count == 1 else 0,
        channels=own.channels,
        component=None,
        rate=own.rate,
        frames=own.frames,
        wanted_frames=wanted,
    )
    low, high = _picture(reader, row)
    bare = msgspec.structs.replace(bare, picture=(low, high))
    if not any(low) and not any(high):
        return msgspec.structs.replace(bare, silent=True)
    yield 0.5 * (place + 0.1)
    part = at_rate(reader, rate)
    share = 1.0 if own.rate == rate else 0.9 * min(1.0, own.rate / rate)
    near = _delay(whole, part, row)
    yield 0.5 * (place + 0.4)
    if near is None:
        return bare
    delay, like = near
    name = ("mid", "side")[place]
    lowered = own.path.name.lower()
    for hint in ("mid", "side", "left", "right"):
        if f".{hint}." in lowered or f"only-{hint}" in lowered:
            name = hint
    fit = returning.agreed(_pieces(whole, part, row, delay, share), (name,))  # type: ignore[arg-type]
    yield 0.5 * (place + 1.0)
    if fit is None and not _firm(whole, part, row, delay):
        return bare
    if fit is None:  # it comes from there, but nothing of it is as it was
        return msgspec.structs.replace(bare, component=like, samples=float(delay), throughout=True)
    samples = fit.samples
    if abs(samples - round(samples)) < _LEAST_SAMPLES:
        samples = float(round(samples))
    return msgspec.structs.replace(
        bare,
        component=fit.component,
        samples=samples,
        gain_db=db_of(abs(fit.gain)),
        inverted=fit.gain < 0,
        throughout=fit.throughout,
        share=fit.share,
    )


_PAIRS: dict[str, Literal["side", "mid", "left", "right"]] = {
    "mid": "side",
    "side": "mid",
    "left": "right",
    "right": "left",
}


def _judged(parts: list[Part], note: Note | None, rate: int) -> Returned:
    """Both parts in their order, with the matrix that they were made with."""
    # A silent part is the one that the other is not.
    for k, part in enumerate(parts):
        other = parts[1 - k]
        if part.silent:
            partner = _PAIRS[other.component] if other.component else ("mid", "side")[k]
            parts[k] = msgspec.structs.replace(part, component=partner)
        elif part.throughout and other.component and not other.throughout:
            parts[k] = msgspec.structs.replace(part, component=_PAIRS[other.component])
    pair = {part.component for part in parts}
    if pair not in ({"mid", "side"}, {"left", "right"}):
        return Returned(parts=(parts[0], parts[1]), fault=_why_not(parts))
    parts.sort(key=lambda part: part.component in ("side", "right"))
    first, second = parts
    if pair == {"left", "right"}:
        changed = [_changed(part, 0.0) for part in parts]
        return Returned(parts=(changed[0], changed[1]))
    trims = (0.0, 0.0)
    others: tuple[Matrix, ...] = ()
    if note is not None:
        matrix, sure, trims = note.matrix, 1.0, note.trims_db
    else:
        matrix, sure, others = _matrix_of(first, second)
    expected = [db_of(gain) + trim for gain, trim in zip(OVER_HALF_SUM[matrix], trims, strict=True)]
    changed = [_changed(part, gain) for part, gain in zip(parts, expected, strict=True)]
    return Returned(
        parts=(changed[0], changed[1]),
        matrix=matrix,
        sure=sure,
        noted=note is not None,
        trims_db=trims,
        others=others,
    )


def _changed(part: Part, expected_db: float) -> Part:
    change = 0.0 if part.silent else part.gain_db - expected_db
    if abs(change) < _LEAST_DB:
        change = 0.0
    return msgspec.structs.replace(part, change_db=change)


def _matrix_of(mid: Part, side: Part) -> tuple[Matrix, float, tuple[Matrix, ...]]:
    """The matrix that asks for the least trims, how sure that is, and those that are nearly as likely."""
    scores = {}
    for matrix in MATRICES:
        score = 0.0
        for part, gain in zip((mid, side), OVER_HALF_SUM[matrix], strict=True):
            if part.silent or part.throughout:
                continue
            trim = part.gain_db - db_of(gain)
            score -= abs(trim) / _SOFT_DB
            if abs(trim - round(trim, 1)) < _ROUND_DB:
                score += _ROUND_BONUS
        scores[matrix] = score
    top = max(scores.values())
    shares = {matrix: math.exp(score - top) for matrix, score in scores.items()}
    total = sum(shares.values())
    ranked = sorted(MATRICES, key=lambda matrix: -shares[matrix])
    others = tuple(matrix for matrix in ranked[1:] if shares[matrix] / total > 1 - SURE)
    return ranked[0], shares[ranked[0]] / total, others


def _why_not(parts: list[Part]) -> str:
    names = [f"“{shown_name(Path(part.path))}”" for part in parts]
    strange = [name for name, part in zip(names, parts, strict=True) if part.component is None]
    if strange:
        return said("{names}: not made from this recording, as far as can be told.").format(
            names=said(" and ").join(strange)
        )
    words = {
        "left": said("Left"),
        "right": said("Right"),
        "mid": said("Mid"),
        "side": said("Side"),
    }
    return said("These two are {first} and {second}: there is no way to join them.").format(
        first=words[parts[0].component or "mid"], second=words[parts[1].component or "mid"]
    )
