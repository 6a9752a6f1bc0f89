"""Fold: left and right become one, in time with each other, each frequency from the side that is worth more there."""

from typing import Annotated, Any, NamedTuple

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal import matrix
from stonekite.signal.alignment import Alignment
from stonekite.signal.filters.partitions import part_size
from stonekite.signal.matrix import Matrix
from stonekite.stages.base import (
    LEGS,
    At,
    Context,
    Kind,
    LearnedRange,
    Learning,
    LegName,
    Offers,
    Plan,
    Side,
    Stage,
    never,
)
from stonekite.stages.settings import Settings, flag, number
from stonekite.words import said

convolution = lazy("stonekite.signal.filters.convolution")
folding = lazy("stonekite.signal.folding")
suppressor = lazy("stonekite.signal.noise.suppressor")

LATEST_MS = 20.0
LEAST_S = 1.0
"""What each side is worth is learned from so much at least."""
Gain = Annotated[float, msgspec.Meta(ge=-60.0, le=12.0)]
Gains = Annotated[tuple[Gain, ...], msgspec.Meta(min_length=28, max_length=28)]


class FoldSide(Side, frozen=True, kw_only=True):
    """One leg that gets the fold: nothing but how much of it."""


class Learned(LearnedRange, frozen=True, kw_only=True):
    """Gains of left and right in dB, a third of an octave apart from 40 Hz to 20 kHz; how late right was, in ms, and
    whether it was upside down."""

    left_db: Gains
    right_db: Gains
    late_ms: Annotated[float, msgspec.Meta(ge=-LATEST_MS, le=LATEST_MS)]
    inverted: bool


class FoldShared(Settings, frozen=True, kw_only=True):
    worth: Annotated[
        float,
        number(
            "By worth",
            "%",
            0.0,
            100.0,
            step=5.0,
            help="How far each frequency is taken from the side that is worth more there; 0 takes half of each",
        ),
    ] = 100.0
    late_ms: Annotated[
        float,
        number(
            "Right is late by",
            "ms",
            -LATEST_MS,
            LATEST_MS,
            step=0.01,
            help="By so much left waits for right; below nothing, right waits for left",
        ),
    ] = 0.0
    inverted: Annotated[bool, flag("Turn right over", help="Fold right in upside down")] = False
    learned: Learned | None = None


class Fold(Stage, frozen=True, kw_only=True, tag="fold"):
    upper: FoldSide | None = FoldSide()
    lower: FoldSide | None = FoldSide()
    shared: FoldShared = FoldShared()


def _gains_db(shared: FoldShared) -> np.ndarray:
    """Gains (2, bands) of left and right in dB."""
    halves = np.full((2, len(folding.CENTRES_HZ)), 20 * np.log10(0.5))
    if shared.learned is None:
        return halves
    known = np.array([shared.learned.left_db, shared.learned.right_db])
    return halves + shared.worth / 100.0 * (known - halves)


def response(stage: Fold, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response at frequencies (Hz) with which left (upper) and right (lower) go into the fold."""
    if getattr(stage, leg) is None:
        return np.ones(np.shape(frequencies), dtype=complex)
    shared = stage.shared
    made = folding.gains_at(_gains_db(shared), frequencies)
    turned = folding.turned(shared.late_ms / 1000.0, shared.inverted, frequencies)
    found: np.ndarray = (made * turned)[LEGS.index(leg)]
    return found


def greatest(stage: Fold, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz), whether the legs are left and right or middle and side."""
    most = folding.gains_at(_gains_db(stage.shared), hz).sum(axis=0)
    found = np.array([[most, most], [most, most]])
    for row, leg in enumerate(LEGS):
        if getattr(stage, leg) is None:
            found[row] = np.eye(2)[row][:, None]
    return found


def neutral(stage: Fold) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Fold, context: Context) -> Plan:
    late = folding.latency(context.rate)
    half = folding.half(context.rate)
    return Plan(
        latency=(0 if stage.upper is None else late, 0 if stage.lower is None else late),
        memory=2 * half + 2 * part_size(2 * half),
        tail=late + half,
    )


class Coefficients(NamedTuple):
    spectra: np.ndarray
    matrix: Matrix | None
    working: tuple[bool, bool]


def coefficients(stage: Fold, context: Context) -> Coefficients:
    shared = stage.shared
    taps = folding.taps(_gains_db(shared), shared.late_ms / 1000.0, shared.inverted, context.rate)
    working = (stage.upper is not None, stage.lower is not None)
    return Coefficients(convolution.spectra_of(taps), context.matrix, working)


def start(coefficients: Coefficients) -> Any:
    return convolution.Convolver(coefficients.spectra)


def process(state: Any, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    encoding = coefficients.matrix
    sides = block.copy() if encoding is None else matrix.decode(block, encoding)
    state.process(sides, at.clock, coefficients.spectra)
    folded = sides[0] + sides[1]
    both = np.stack([folded, folded])
    made = both if encoding is None else matrix.encode(both, encoding)
    for row, works in enumerate(coefficients.working):
        if works:
            block[row] = made[row]


def learns(sound: np.ndarray, context: Context, start_s: float) -> Learned:
    """What left and right are worth, from sound (2, frames) that begins at a time. Raises ValueError with a sentence."""
    rate = context.rate
    sides = sound if context.matrix is None else matrix.decode(sound, context.matrix)
    if sides.shape[1] < LEAST_S * rate:
        raise ValueError(
            said(
                "What each side is worth is learned from {least_s:g} s at least: loop more, or nothing."
            ).format(least_s=LEAST_S)
        )
    if np.abs(sides).max(axis=1).min() <= 1e-8:
        raise ValueError(said("One side is silent here: there is nothing to fold."))
    alignment = Alignment(rate)
    alignment.add(sides)
    offset = alignment.offset()
    late = (
        offset.samples
        if offset.confidence >= 0.1 and abs(offset.samples) <= 0.001 * LATEST_MS * rate
        else 0.0
    )
    inverted = offset.confidence >= 0.1 and offset.polarity < 0
    # Whole samples are enough to see what is common: what is late by less turns nothing below 10 kHz.
    shift = round(late)
    early, other = max(shift, 0), max(-shift, 0)
    count = sides.shape[1] - abs(shift)
    together = np.stack(
        [sides[0, other : other + count], sides[1, early : early + count] * (-1 if inverted else 1)]
    )
    found = folding.worth(suppressor.spectra(together, rate), rate)
    if np.max(found.gains_db, axis=1).min() <= folding.LEAST_DB:  # one side alone waits for nobody
        late, inverted = 0.0, False
    if not found.sure:
        raise ValueError(said("Left and right have nothing in common here that could be folded."))
    return Learned(
        start_s=round(start_s, 4),
        end_s=round(start_s + sound.shape[1] / rate, 4),
        left_db=tuple(np.round(found.gains_db[0], 2).tolist()),
        right_db=tuple(np.round(found.gains_db[1], 2).tolist()),
        late_ms=round(1000.0 * late / rate, 4),
        inverted=inverted,
    )


def taken(stage: Any, learned: Learned | None) -> Any:
    """The stage with what it has learned; forgotten, it folds half of each as it comes."""
    late, inverted = (0.0, False) if learned is None else (learned.late_ms, learned.inverted)
    shared = msgspec.structs.replace(stage.shared, learned=learned, late_ms=late, inverted=inverted)
    return msgspec.structs.replace(stage, shared=shared)


def learned_words(stage: Fold) -> str:
    """What is known of both sides, in words."""
    learned = stage.shared.learned
    if learned is None:
        return said("Half of each side, as it comes")
    late = learned.late_ms
    behind = said("right is late by {late:.2f} ms") if late > 0 else said("left is late by {late:.2f} ms")
    words = said("in time") if abs(late) < 0.005 else behind.format(late=abs(late))
    words += said(", right upside down") if learned.inverted else ""
    apart = np.array(learned.left_db) - np.array(learned.right_db)
    sentence = (
        said("Learned from {start:.2f} to {end:.2f} s: {words}; on the whole left counts {more:.1f} dB more")
        if apart.mean() > 0
        else said(
            "Learned from {start:.2f} to {end:.2f} s: {words}; on the whole right counts {more:.1f} dB more"
        )
    )
    return sentence.format(start=learned.start_s, end=learned.end_s, words=words, more=abs(apart.mean()))


KIND = Kind(
    stage=Fold,
    side=FoldSide,
    label="Fold",
    help="Left and right become one, in time, each frequency from the side that is worth more there.",
    group="Image",
    rank=20,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=never,
    process=process,
    still="How much late sound counts is a matter of the whole: only the mix moves.",
    offers=Offers(
        greatest=greatest,
        of_sides=True,
        learning=Learning(
            Learned,
            learns,
            learned_words,
            what="worth",
            hint="Bring both sides into time, and hear what each is worth: in the loop, or in the first minute",
            forget="Fold half of each side, as it comes",
            taken=taken,
        ),
    ),
)
