"""Hum: a row of notches at a frequency and its harmonics, on each leg by itself, that is found and followed."""

import copy
import math
from typing import Annotated, Any, NamedTuple

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.signal.vectors.pairs import on_both
from stonekite.stages.base import (
    LEGS,
    RINGS,
    SETTLED,
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
)
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import Rows, stacked
from stonekite.stages.settings import Settings, flag, number
from stonekite.words import said

humming = lazy("stonekite.signal.humming")

LOWEST_HZ, HIGHEST_HZ = 15.0, 500.0
LEAST_S = 2.0
"""Hum is found in at least so much."""


class HumSide(Side, frozen=True, kw_only=True):
    base_hz: Annotated[
        float,
        number(
            "Frequency",
            "Hz",
            LOWEST_HZ,
            HIGHEST_HZ,
            taper="log",
            step=1 / 120,
            decimals=2,
            help="Of the lowest notch: mains 50 or 60, an engine as fast as it turns; Learn finds it",
            still="The notches follow the hum by themselves: they are told where to look for it once.",
        ),
    ] = 50.0
    harmonics: Annotated[
        float,
        number(
            "Harmonics",
            "",
            1.0,
            32.0,
            step=1.0,
            help="How many notches there are, at its multiples",
            still="A notch is there or not: none can come halfway.",
        ),
    ] = 16.0
    depth_db: Annotated[
        float,
        number("Depth", "dB", 0.0, 60.0, step=1.0, help="How far each notch goes down"),
    ] = 40.0
    width_hz: Annotated[
        float,
        number(
            "Width",
            "Hz",
            0.5,
            20.0,
            taper="log",
            step=1 / 6,
            decimals=1,
            help="Of each notch, where it is 3 dB down: wider where the hum wanders fast",
        ),
    ] = 2.0


class Learned(LearnedRange, frozen=True, kw_only=True):
    """Hum of both legs in Hz, 0 for none, and how many harmonics stood out."""

    hz: tuple[
        Annotated[float, msgspec.Meta(ge=0.0, le=HIGHEST_HZ)],
        Annotated[float, msgspec.Meta(ge=0.0, le=HIGHEST_HZ)],
    ]
    harmonics: tuple[Annotated[int, msgspec.Meta(ge=0, le=64)], Annotated[int, msgspec.Meta(ge=0, le=64)]]


class HumShared(Settings, frozen=True, kw_only=True):
    follow: Annotated[
        bool,
        flag("Follow", help="Follow each leg's hum as it wanders, up to 2.5 % from its frequency"),
    ] = True
    learned: Learned | None = None


class Hum(Stage, frozen=True, kw_only=True, tag="hum"):
    upper: HumSide | None = HumSide()
    lower: HumSide | None = HumSide()
    shared: HumShared = HumShared()


def _depth(side: HumSide) -> Any:
    return 1.0 - gain_of(-side.depth_db)


def response(stage: Hum, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of a leg at frequencies in Hz, while the hum is where it was found."""
    side = getattr(stage, leg)
    if side is None:
        return np.ones(np.shape(frequencies), dtype=complex)
    made: np.ndarray = humming.response(
        frequencies, side.base_hz, side.width_hz, _depth(side), round(side.harmonics), rate
    )
    return made


def greatest(stage: Hum, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): a notch may have gone elsewhere with the hum."""
    return np.repeat(np.eye(2)[:, :, None], len(hz), axis=2)


def sharp(stage: Hum, leg: LegName, rate: float) -> np.ndarray:
    """Frequencies (n,) in Hz where the response has a point."""
    side = getattr(stage, leg)
    if side is None:
        return np.empty(0)
    centres = side.base_hz * np.arange(1, round(side.harmonics) + 1)
    centres = centres[centres < 0.45 * rate]
    spread = side.width_hz * np.array([-1.5, -0.5, -0.2, 0.0, 0.2, 0.5, 1.5])
    return (centres[:, None] + spread).ravel()


def neutral(stage: Hum) -> bool:
    return all(side is None or side.depth_db == 0.0 for side in (stage.upper, stage.lower))


def plan(stage: Hum, context: Context) -> Plan:
    widths = [side.width_hz for side in (stage.upper, stage.lower) if side is not None]
    settles = SETTLED / (math.pi * min(widths)) if widths else 0.0
    follows = 0.5 + SETTLED * humming.LONG_S if stage.shared.follow else 0.0
    return Plan(
        memory=math.ceil((1.3 * settles + follows) * context.rate) + 1,
        tail=math.ceil(RINGS * settles * context.rate),
    )


class Leg(NamedTuple):
    """Where one leg's notches are."""

    base: float
    notches: int


class Coefficients(NamedTuple):
    legs: tuple[Leg | None, Leg | None]
    rate: float
    follow: bool


def coefficients(stage: Hum, context: Context) -> Coefficients:
    legs = [
        None
        if side is None or (not isinstance(side.depth_db, np.ndarray) and side.depth_db == 0.0)
        else Leg(side.base_hz, round(side.harmonics))
        for side in (stage.upper, stage.lower)
    ]
    return Coefficients((legs[0], legs[1]), context.rate, stage.shared.follow)


DEPTH, WIDTH = 0, 2
"""Of the numbers of a row: of the upper and the lower leg each."""


def rows(stage: Hum, context: Context) -> np.ndarray:
    """Rows (n, 4): the share that the notches take away, and how wide they are in Hz."""
    sides = [getattr(stage, leg) or HumSide() for leg in LEGS]
    return stacked(*map(_depth, sides), *(side.width_hz for side in sides))


class State:
    """The notches of both legs, and where each hum is: on the way from one frequency to the next."""

    def __init__(self, c: Coefficients) -> None:
        self.notches = np.zeros((2, humming.MOST, 2))
        self.come = [0.0 if leg is None else leg.base for leg in c.legs]
        self.going = list(self.come)
        self.followers = [humming.Follower(c.rate) for _ in c.legs] if c.follow else []


def start(c: Coefficients) -> State:
    return State(c)


def carry(old: Coefficients, state: State, new: Coefficients) -> State:
    """Notches ring on where they are; hum that is looked for elsewhere, or no longer followed, starts there."""
    kept = copy.deepcopy(state)
    if old.follow != new.follow:
        kept.followers = State(new).followers
    for row, (was, leg) in enumerate(zip(old.legs, new.legs, strict=True)):
        if leg is not None and (was is None or was.base != leg.base or not new.follow):
            kept.come[row] = kept.going[row] = leg.base
            kept.notches[row] = 0.0 if was is None else kept.notches[row]
        if leg is not None:
            kept.notches[row, leg.notches :] = 0.0
    return kept


def process(state: State, c: Coefficients, block: np.ndarray, at: At) -> None:
    n, done, hop = block.shape[1], 0, humming.hop(c.rate)
    while done < n:
        place = (at.clock + done) % hop
        count = min(n - done, hop - place)
        part = block[:, done : done + count]
        for row, follower in enumerate(state.followers):
            if c.legs[row] is not None:
                # A frame that ends at the end of this hop is filled from its place on.
                start = follower.size - hop + place
                follower.heard[start : start + count] = part[row]

        rows = at.rows.within(done, done + count)

        def work(row: int, part: np.ndarray = part, place: int = place, rows: Rows = rows) -> None:
            leg = c.legs[row]
            if leg is not None:
                step = (state.going[row] - state.come[row]) / hop
                for first, last, numbers, growing, into in rows.pieces(part.shape[1]):
                    humming.notch(
                        part[row, first:last],
                        place + first,
                        state.come[row],
                        step,
                        c.rate,
                        float(numbers[WIDTH + row]),
                        float(numbers[DEPTH + row]),
                        float(growing[DEPTH + row]),
                        into,
                        leg.notches,
                        state.notches[row],
                    )

        on_both(work, count)
        done += count
        if place + count == hop:
            _look(state, c, hop)


def _look(state: State, c: Coefficients, hop: int) -> None:
    for row, leg in enumerate(c.legs):
        if leg is not None:
            state.come[row] = state.going[row]
            if state.followers:
                follower = state.followers[row]
                state.going[row] = follower.look(leg.base)
                follower.heard[:-hop] = follower.heard[hop:]


def learns(sound: np.ndarray, context: Context, start_s: float) -> Learned:
    """The hum in sound (2, frames), that begins at a time. Raises ValueError with a sentence."""
    rate = context.rate
    if sound.shape[1] < LEAST_S * rate:
        raise ValueError(
            said("Hum is found in {least_s:g} s at least: loop more, or nothing.").format(least_s=LEAST_S)
        )
    (upper, many), (lower, more) = (humming.found(leg, rate) for leg in sound)
    if not upper and not lower:
        raise ValueError(said("No hum was found here: no row of harmonics stands out on either leg."))
    return Learned(
        start_s=round(start_s, 4),
        end_s=round(start_s + sound.shape[1] / rate, 4),
        hz=(round(upper, 3), round(lower, 3)),
        harmonics=(many, more),
    )


def taken(stage: Any, learned: Learned | None) -> Any:
    """The stage with its notches where hum was found."""
    sides = {}
    if learned is not None:
        for leg, hz in zip(LEGS, learned.hz, strict=True):
            side = getattr(stage, leg)
            if side is not None and hz:
                sides[leg] = msgspec.structs.replace(side, base_hz=min(max(hz, LOWEST_HZ), HIGHEST_HZ))
    shared = msgspec.structs.replace(stage.shared, learned=learned)
    return msgspec.structs.replace(stage, shared=shared, **sides)


def learned_words(stage: Hum) -> str:
    """What hum was found, in words."""
    learned = stage.shared.learned
    if learned is None:
        return said("Not looked for yet: the frequencies are as typed")
    told = [
        said("{hz:.2f} Hz with {many} harmonics").format(hz=hz, many=many) if hz else said("none")
        for hz, many in zip(learned.hz, learned.harmonics, strict=True)
    ]
    return said("Found from {start_s:.2f} to {end_s:.2f} s: {upper}, and {lower} on the other leg").format(
        start_s=learned.start_s, end_s=learned.end_s, upper=told[0], lower=told[1]
    )


def follows(state: State) -> np.ndarray:
    return np.array(state.going)


KIND = Kind(
    stage=Hum,
    side=HumSide,
    label="Hum",
    help="A row of notches at the hum of each leg and its harmonics, found and followed.",
    group="Tone",
    rank=61,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    process=process,
    offers=Offers(
        handles=(Handle("H", x="base_hz"),),
        sharp=sharp,
        greatest=greatest,
        follows=follows,
        learning=Learning(
            Learned,
            learns,
            learned_words,
            what="hum",
            hint="Find the hum of each leg in the loop, or in the first minute where nothing is looped",
            forget="Take the frequencies as they are typed",
            taken=taken,
        ),
    ),
)
