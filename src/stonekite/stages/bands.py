"""Bands: cuts each leg into two to four bands, with stages of their own in each, and adds them up again.

Linkwitz-Riley crossovers (signal/filters/crossover.py). What is empty adds up flat: the leg is turned in phase, and in
nothing else.
"""

from itertools import pairwise
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.signal.filters import crossover, design
from stonekite.stages.base import (
    LEGS,
    At,
    Branching,
    Context,
    Dry,
    Kind,
    LegName,
    Offers,
    Plan,
    Side,
    Stage,
)
from stonekite.stages.branch import Branch
from stonekite.stages.machinery import cascade
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import beside, times
from stonekite.stages.settings import Settings, choice, flag, number
from stonekite.words import said

mixing = lazy("stonekite.signal.mixing")
registry = lazy("stonekite.stages.registry")

MOST = 4
"""Bands of a leg."""


def _crossing(default: float, which: str) -> Any:
    meta = number(
        f"{which} at",
        "Hz",
        20.0,
        20000.0,
        taper="log",
        step=1 / 12,
        help="Where two bands meet, each 6 dB down. Crossovers stand in the order of their frequencies",
    )
    return Annotated[float, meta]


class BandPath(Settings, frozen=True, kw_only=True):
    """How one band of a leg is added up with the others."""

    level_db: Annotated[
        float, number("Level", "dB", -120.0, 12.0, taper="fader", step=0.5, help="Level of the band")
    ] = 0.0
    muted: Annotated[bool, flag("Mute", help="Take the band out of its leg")] = False
    alone: Annotated[bool, flag("Alone", help="Take the other bands out of the leg")] = False


class BandsSide(Side, frozen=True, kw_only=True):
    count: Annotated[
        Literal[2, 3, 4], choice("Bands", {2: "2", 3: "3", 4: "4"}, help="How many bands the leg is cut into")
    ] = 2
    slope: Annotated[
        Literal[24, 48],
        choice("dB per octave", {24: "24", 48: "48"}, help="How steeply one band goes over into the next"),
    ] = 24
    first_hz: _crossing(180.0, "First") = 180.0  # type: ignore[valid-type]
    second_hz: _crossing(1600.0, "Second") = 1600.0  # type: ignore[valid-type]
    third_hz: _crossing(6400.0, "Third") = 6400.0  # type: ignore[valid-type]
    paths: Annotated[tuple[BandPath, ...], msgspec.Meta(min_length=MOST, max_length=MOST)] = (
        BandPath(),
    ) * MOST


class BandsShared(Settings, frozen=True, kw_only=True):
    matched: Annotated[
        bool,
        flag(
            "Matched legs",
            both=True,
            help="Turn each leg in phase as the other one is turned, so that both stay in step: also a leg that passes",
        ),
    ] = False


class BandsStage(Stage, frozen=True, kw_only=True, tag="bands"):
    upper: BandsSide | None = BandsSide()
    lower: BandsSide | None = BandsSide()
    shared: BandsShared = BandsShared()
    branches: Annotated[tuple[Branch, ...], msgspec.Meta(min_length=MOST, max_length=MOST)] = (
        Branch(),
    ) * MOST


HANDLES = (
    Handle("1", x="first_hz"),
    Handle("2", x="second_hz", shown=lambda side: side.count > 2),
    Handle("3", x="third_hz", shown=lambda side: side.count > 3),
)


def crossovers(side: BandsSide) -> tuple[Any, ...]:
    """The frequencies in Hz at which a side is cut, in rising order."""
    given = (side.first_hz, side.second_hz, side.third_hz)[: side.count - 1]
    if any(isinstance(hz, np.ndarray) for hz in given):
        return tuple(np.sort(np.broadcast_arrays(*given), axis=0))
    return tuple(sorted(given))


def gains(side: BandsSide) -> list[Any]:
    """Gain of each band of a side: level, mute and alone."""
    paths = side.paths[: side.count]
    alone = any(path.alone for path in paths)
    return [0.0 if path.muted or (alone and not path.alone) else gain_of(path.level_db) for path in paths]


def names(stage: Any, leg: LegName) -> tuple[str, ...]:
    """What the branches are called on a leg: by the frequencies between which they stand."""
    side = getattr(stage, leg)
    if side is None:
        return ("",) * MOST
    ends = crossovers(side)
    found = [said("below {hertz}").format(hertz=_hertz(ends[0]))]
    found += [
        said("{low} to {high}").format(low=_hertz(low), high=_hertz(high)) for low, high in pairwise(ends)
    ]
    found.append(said("above {hertz}").format(hertz=_hertz(ends[-1])))
    return tuple(found + [""] * (MOST - len(found)))


def only(stage: Any, band: int) -> Any:
    """The stage with one band of each leg alone; a leg that has no such band is silent."""
    sides = {}
    for leg in LEGS:
        side = getattr(stage, leg)
        if side is not None:
            paths = tuple(
                msgspec.structs.replace(path, alone=k == band, muted=k != band)
                for k, path in enumerate(side.paths)
            )
            sides[leg] = msgspec.structs.replace(side, paths=paths, mix=100.0)
    return msgspec.structs.replace(stage, **sides)


def _hertz(hz: float) -> str:
    return f"{hz / 1000:.3g} kHz" if hz >= 1000 else f"{hz:.3g} Hz"


def _turned(stage: BandsStage, leg: LegName, rate: float) -> list[tuple[str, np.ndarray]]:
    """The all-passes that a leg is turned by beside its own bands: those of the other leg, if they are to match."""
    other = stage.lower if leg == "upper" else stage.upper
    if not stage.shared.matched or other is None:
        return []
    return [
        (f"turned {k}", rows) for k, rows in enumerate(crossover.turned(crossovers(other), other.slope, rate))
    ]


def _whole(stage: BandsStage, leg: LegName, rate: float) -> cascade.Leg:
    """What the empty bands of a leg add up to."""
    side = getattr(stage, leg)
    own = [] if side is None else crossover.turned(crossovers(side), side.slope, rate)
    return cascade.Leg.of([*((f"own {k}", rows) for k, rows in enumerate(own)), *_turned(stage, leg, rate)])


def _band(stage: BandsStage, leg: LegName, band: int, rate: float) -> cascade.Leg:
    """The filters of one band of a leg; none where the leg has no such band."""
    side = getattr(stage, leg)
    if side is None or band >= side.count:
        return cascade.NOTHING
    parts = crossover.bands(crossovers(side), side.slope, rate)[band]
    return cascade.Leg.of([((name, side.slope, side.count), rows) for name, rows in parts])


class Coefficients:
    """The filters of the bands (none for the dry part), and what goes through beside them."""

    def __init__(self, stage: BandsStage, rate: float, dry: bool) -> None:
        sides = [getattr(stage, leg) for leg in LEGS]
        self.count = 0 if dry else max((side.count for side in sides if side is not None), default=0)
        self.bands = [
            cascade.Coefficients(_band(stage, "upper", k, rate), _band(stage, "lower", k, rate))
            for k in range(self.count)
        ]
        self.empty = [[row for row in range(2) if not band.legs[row].slots] for band in self.bands]
        """Which legs have no such band."""
        self.passes = [dry or side is None for side in sides]
        self.turned = cascade.Coefficients(*_beside(stage, rate, dry))


def _beside(stage: BandsStage, rate: float, dry: bool) -> list[cascade.Leg]:
    """What each leg goes through beside its bands."""
    return [
        _whole(stage, leg, rate)
        if dry or getattr(stage, leg) is None
        else cascade.Leg.of(_turned(stage, leg, rate))
        for leg in LEGS
    ]


def rows(stage: BandsStage, context: Context) -> np.ndarray:
    """Rows (n, numbers): the gains of each band on both legs, the sections of each band, those beside them."""
    sides = [getattr(stage, leg) for leg in LEGS]
    count = max((side.count for side in sides if side is not None), default=0)
    of_legs = [[] if side is None else gains(side) for side in sides]
    found = [leg[k] if k < len(leg) else 0.0 for k in range(count) for leg in of_legs]
    filters = [
        cascade.rows_of(_band(stage, "upper", k, context.rate), _band(stage, "lower", k, context.rate))
        for k in range(count)
    ]
    return beside(*found, *filters, dry_rows(stage, context, False))


def dry_rows(stage: BandsStage, context: Context, dry: bool = True) -> np.ndarray:
    """Of what is beside the bands."""
    return cascade.rows_of(*_beside(stage, context.rate, dry))


def stands(stage: BandsStage, path: str) -> str:
    """Why a number cannot move: what is not in use."""
    leg, _, field = path.partition(".")
    side = getattr(stage, leg)
    known = {"second_hz": 2, "third_hz": 3}.get(field, 0)
    if field.startswith("paths."):
        known = int(field.split(".")[1])
    return "" if side is None or known < side.count else said("There is no such band here.")


class State:
    """States of the bands' filters and of what all goes through."""

    def __init__(self, bands: list[Any], turned: Any) -> None:
        self.bands = bands
        self.turned = turned


def plan(stage: BandsStage, context: Context) -> Plan:
    legs = [_whole(stage, leg, context.rate) for leg in LEGS]
    # The filters of a band ring twice as long as the all-pass with their poles.
    return Plan(memory=2 * max(map(cascade.memory, legs)), tail=2 * max(map(cascade.rings, legs)))


def whole_plan(stage: BandsStage, own: Plan, inner: tuple[Plan, ...]) -> Plan:
    """With what stands in the bands, all of which are as late as the latest."""
    late = max(max(one.latency) for one in inner)
    return Plan(
        latency=(0 if stage.upper is None else late, 0 if stage.lower is None else late),
        memory=own.memory + late + max(one.memory for one in inner),
        tail=own.tail + max(one.tail for one in inner),
    )


def response(
    stage: BandsStage,
    leg: LegName,
    frequencies: np.ndarray,
    rate: float,
    inner: tuple[np.ndarray, ...] = (),
) -> np.ndarray:
    """Complex response of one leg at frequencies (Hz): of its bands with what stands in them, added up."""
    side = getattr(stage, leg)
    if side is None:
        return design.response(_whole(stage, leg, rate).sections, frequencies, rate)
    total = np.zeros(np.shape(frequencies), dtype=complex)
    for k, gain in enumerate(gains(side)):
        band = design.response(_band(stage, leg, k, rate).sections, frequencies, rate)
        total += gain * (band * inner[k] if inner else band)
    beside = cascade.Leg.of(_turned(stage, leg, rate)).sections
    return total * design.response(beside, frequencies, rate)


def parts(stage: BandsStage, leg: LegName, frequencies: np.ndarray, rate: float) -> list[np.ndarray]:
    """Complex response of each band of one leg alone, empty."""
    side = getattr(stage, leg)
    if side is None:
        return []
    return [
        gain * design.response(_band(stage, leg, k, rate).sections, frequencies, rate)
        for k, gain in enumerate(gains(side))
    ]


def greatest(stage: BandsStage, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): all that the bands can give, as if it came together."""
    total = np.zeros((2, 2, len(hz)))
    inner = [registry.greatest(branch.stages, hz, rate) for branch in stage.branches]
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        if side is None:
            total[row, row] = 1.0
            continue
        for k, gain in enumerate(gains(side)):
            band = np.abs(design.response(_band(stage, leg, k, rate).sections, hz, rate))
            total[row] += gain * inner[k][row] * band
    return total


def dry_response(stage: BandsStage, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    return design.response(_whole(stage, leg, rate).sections, frequencies, rate)


def neutral(stage: BandsStage) -> bool:
    return stage.upper is None and stage.lower is None


def coefficients(stage: BandsStage, context: Context) -> Coefficients:
    return Coefficients(stage, context.rate, dry=False)


def dry_coefficients(stage: BandsStage, context: Context) -> Coefficients:
    return Coefficients(stage, context.rate, dry=True)


def start(coefficients: Coefficients) -> State:
    return State([cascade.start(band) for band in coefficients.bands], cascade.start(coefficients.turned))


def carry(old: Coefficients, state: State, new: Coefficients) -> State | None:
    if old.count != new.count or old.passes != new.passes:
        return None
    kept = [cascade.carry(*each) for each in zip(old.bands, state.bands, new.bands, strict=True)]
    turned = cascade.carry(old.turned, state.turned, new.turned)
    if turned is None or any(band is None for band in kept):
        return None
    return State(kept, turned)


def process(state: State, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    first = 2 * coefficients.count
    if coefficients.count:
        total = np.zeros_like(block)
        for k, filters in enumerate(coefficients.bands):
            band = block.copy()
            cascade.run(state.bands[k], filters, band, at.clock, at.rows.part(first, first + filters.numbers))
            first += filters.numbers
            for row in coefficients.empty[k]:
                band[row] = 0.0
            at.lines[k](band)
            if at.rows.moves:
                times(band, at.rows, 2 * k)
                total += band
            else:
                mixing.add_by(at.rows.table[0, 2 * k : 2 * k + 2], band, total)
        for row, passes in enumerate(coefficients.passes):
            if not passes:
                block[row] = total[row]
    cascade.run(state.turned, coefficients.turned, block, at.clock, at.rows.part(first, None))


KIND = Kind(
    stage=BandsStage,
    side=BandsSide,
    label="Bands",
    help="Cuts each leg into two to four bands, with stages of their own in each.",
    group="Tone",
    rank=50,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    fine=True,
    stands=stands,
    process=process,
    dry=Dry(dry_coefficients, dry_response, dry_rows),
    offers=Offers(handles=HANDLES, parts=parts, greatest=greatest),
    branching=Branching(plan=whole_plan, response=response, only=only, names=names),
)
