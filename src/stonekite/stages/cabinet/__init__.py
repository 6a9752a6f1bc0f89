"""Cabinet: a loudspeaker for each leg with one or two microphones and a room pair, or a response of one's own.

The built-in ones are computed: signal/cabinets.py. What comes out is convolved with them.
"""

import copy
import math
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
import soxr

from stonekite.lazy import lazy
from stonekite.signal import cabinets
from stonekite.signal.cabinets import CAPSULES, Placed
from stonekite.signal.decibels import SILENCE_DB, gain_of
from stonekite.signal.filters.partitions import part_size
from stonekite.signal.reading import response_at
from stonekite.signal.vectors.pairs import on_both
from stonekite.stages.base import LEGS, At, Context, Kind, LegName, Offers, Placing, Plan
from stonekite.stages.cabinet.kinds import BOXES
from stonekite.stages.cabinet.settings import (
    NO_HIGH_HZ,
    NO_LOW_HZ,
    CabinetSide,
    CabinetStage,
    OwnResponse,
)
from stonekite.words import said

convolution = lazy("stonekite.signal.filters.convolution")

LEAD = 32
"""Samples before which nothing arrives: what a response of finite band swings in front of its beginning."""
ROOM_S = 0.25
"""How long it rings in the room."""
LONGEST_S = 2.0
DECAY_S = 0.35


def placed(side: CabinetSide, which: int) -> Placed:
    """Where microphone 1 or 2 stands, in m and radians."""
    across, away, angle = (
        getattr(side, f"mic_{which}_{what}") for what in ("across_cm", "away_cm", "angle_deg")
    )
    return Placed(across / 100.0, away / 100.0, math.radians(angle))


def late_s(side: CabinetSide) -> float:
    """By how much the second microphone is later than the first, in s, as aligning takes it."""
    if side.cabinet == "own":
        return 0.0
    capsules = CAPSULES[side.mic_1], CAPSULES[side.mic_2]
    return cabinets.alignment_s(BOXES[side.cabinet].cabinet, capsules, (placed(side, 1), placed(side, 2)))


def _on(db: float) -> float:
    return 0.0 if db <= SILENCE_DB else gain_of(db)


def _cuts(side: CabinetSide, hz: np.ndarray) -> np.ndarray:
    """Low and high cut, Butterworth of second order."""
    s = 1j * np.asarray(hz, dtype=float)
    made = np.ones(len(s), dtype=complex)
    if side.low_cut_hz > NO_LOW_HZ:
        low = s / side.low_cut_hz
        made = made * low * low / (low * low + math.sqrt(2.0) * low + 1.0)
    if side.high_cut_hz < NO_HIGH_HZ:
        high = s / side.high_cut_hz
        made = made / (high * high + math.sqrt(2.0) * high + 1.0)
    return made


def microphone(side: CabinetSide, which: int, hz: np.ndarray) -> np.ndarray:
    """Complex response of one microphone by itself with its level, at frequencies in Hz."""
    level = _on(getattr(side, f"mic_{which}_db")) * (-1.0 if getattr(side, f"mic_{which}_inverted") else 1.0)
    if not level:
        return np.zeros(len(hz), dtype=complex)
    heard = cabinets.direct(
        BOXES[side.cabinet].cabinet, CAPSULES[getattr(side, f"mic_{which}")], placed(side, which), hz
    )
    if which == 2 and side.aligned:
        heard = heard * np.exp(2j * np.pi * np.asarray(hz) * late_s(side))
    return level * heard


MOST_GAIN_DB = 40.0
"""A user's response makes nothing louder than by so much."""


def _seconds(side: CabinetSide) -> float:
    if side.cabinet == "own":
        return min(LONGEST_S, len(side.own.samples) / 4 / side.own.rows / side.own.rate) if side.own else 0.0
    return ROOM_S if _on(side.room_db) else cabinets.NEAR_S


def _count(side: CabinetSide, rate: float) -> int:
    """Taps of a side's response: whole parts of the convolution."""
    wanted = LEAD + math.ceil(_seconds(side) * rate) + 1
    return part_size(wanted) * -(-wanted // part_size(wanted))


MOST_GAIN = 10.0 ** (MOST_GAIN_DB / 20.0)


def own_rows(own: OwnResponse, rate: float) -> np.ndarray:
    """A user's response (rows, n) at a rate in Hz."""
    whole = len(own.samples) // (4 * own.rows)
    with np.errstate(invalid="ignore"):  # what is no number may be no proper one of those either
        rows = np.frombuffer(own.samples[: 4 * whole * own.rows], dtype="<f4").astype(float)
    rows = np.nan_to_num(rows.reshape(own.rows, -1), posinf=0.0, neginf=0.0)
    if not whole:
        return np.zeros((own.rows, 1))
    # Whatever stands there: no response makes anything louder than that.
    rows = np.clip(rows, -MOST_GAIN, MOST_GAIN)
    loudest = float(np.abs(np.fft.rfft(rows, axis=1)).max(initial=0.0))
    if loudest > MOST_GAIN:
        rows *= MOST_GAIN / loudest
    if own.rate != rate and rows.shape[1] > 1:
        # The same at every rate: what is summed becomes more, or less, samples.
        rows = soxr.resample(rows.T, own.rate, rate, quality="VHQ").reshape(-1, own.rows).T * (
            own.rate / rate
        )
    return np.asarray(rows)


@lru_cache(maxsize=24)
def _taps(side: CabinetSide, rate: float, count: int) -> np.ndarray:
    """Responses (2, count) of a side: of all that goes to its own leg but the room pair, and of the pair's first;
    (3, count) with the pair's second."""
    hz = np.fft.rfftfreq(2 * count, 1.0 / rate)
    lead = np.exp(-2j * np.pi * hz * LEAD / rate)
    level = gain_of(side.level_db)
    made = np.zeros((3, count))
    if side.cabinet == "own":
        if side.own is not None:
            rows = own_rows(side.own, rate)
            spectrum = (
                np.fft.rfft(rows[:, : count - LEAD], 2 * count, axis=1) * lead * _cuts(side, hz) * level
            )
            found = np.fft.irfft(spectrum, axis=1)[:, :count]
            made[0] = found[0] if len(found) == 1 else 0.5 * found.sum(axis=0)
        else:
            made[0, LEAD] = level
        return made
    short = cabinets.near_count(rate)
    coarse = np.fft.rfftfreq(short, 1.0 / rate)
    low = coarse[: cabinets.up_to_hearing(coarse)]
    heard = np.zeros(len(coarse), dtype=complex)
    heard[: len(low)] = (microphone(side, 1, low) + microphone(side, 2, low)) * _cuts(side, low) * level
    heard *= np.exp(-2j * np.pi * coarse * LEAD / rate)
    heard[-1] = 0.0
    near = np.fft.irfft(heard)
    edge = short // 8
    near[-edge:] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(edge) / edge)
    made[0, :short] = near[:count]
    if (gain := _on(side.room_db)) > 0.0:
        box = BOXES[side.cabinet].cabinet
        lasts_s = _count(side, cabinets.BASE_RATE) / cabinets.BASE_RATE
        pair = cabinets.room(box, side.room_m, side.room_wide_m, DECAY_S, lasts_s, rate, count)
        spectrum = np.fft.rfft(pair, 2 * count, axis=1) * _cuts(side, hz) * level * gain * lead
        made[1:] = np.fft.irfft(spectrum, axis=1)[:, :count]
    return made


def _whole(side: CabinetSide, rate: float) -> np.ndarray:
    """The response (count,) of a side to its own leg, with its room pair."""
    near, first, second = _taps(side, rate, _count(side, rate))
    return near + math.sqrt(0.5) * (first + second)


def response(stage: CabinetStage, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of a leg at frequencies in Hz, with its room pair, from where sound leaves the cone."""
    side = getattr(stage, leg)
    hz = np.asarray(frequencies, dtype=float)
    if side is None:
        return np.ones(len(hz), dtype=complex)
    across = stage.shared.room == "across" and stage.upper is not None and stage.lower is not None
    taps = _taps(side, rate, _count(side, rate))
    whole = taps[0] + taps[1 + LEGS.index(leg)] if across else _whole(side, rate)
    return response_at(whole, rate, hz, LEAD)


def parts(stage: CabinetStage, leg: LegName, frequencies: np.ndarray, rate: float) -> list[np.ndarray]:
    """The responses of the microphones by themselves."""
    side = getattr(stage, leg)
    if side is None or side.cabinet == "own":
        return []
    hz = np.asarray(frequencies, dtype=float)
    cuts = _cuts(side, hz) * gain_of(side.level_db)
    return [microphone(side, k, hz) * cuts for k in (1, 2) if _on(getattr(side, f"mic_{k}_db"))]


def greatest(stage: CabinetStage, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies in Hz: also from one leg to the other, by the room pair."""
    found = np.zeros((2, 2, len(hz)))
    routes = _routes(stage, rate)
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        if side is None:
            found[row, row] = 1.0
            continue
        for source, taps in routes[row]:
            found[row, source] += np.abs(response_at(taps, rate, hz, LEAD))
    return found


def neutral(stage: CabinetStage) -> bool:
    return stage.upper is None and stage.lower is None


def _routes(stage: CabinetStage, rate: float) -> list[list[tuple[int, np.ndarray]]]:
    """For each leg what goes into it: pairs of a leg and its response."""
    sides = [getattr(stage, leg) for leg in LEGS]
    across = stage.shared.room == "across" and None not in sides
    count = max((_count(side, rate) for side in sides if side is not None), default=0)
    found: list[list[tuple[int, np.ndarray]]] = [[], []]
    for row, side in enumerate(sides):
        if side is None:
            continue
        near, *pair = _taps(side, rate, count)
        if not across:
            found[row].append((row, near + math.sqrt(0.5) * (pair[0] + pair[1])))
        elif not (pair[0].any() or pair[1].any()):
            found[row].append((row, near))
        else:
            found[row].append((row, near + pair[row]))
            found[1 - row].append((row, pair[1 - row]))
    return found


def plan(stage: CabinetStage, context: Context) -> Plan:
    sides = [side for side in (stage.upper, stage.lower) if side is not None]
    count = max((_count(side, context.rate) for side in sides), default=0)
    late = LEAD + part_size(count) if sides else 0
    return Plan(
        latency=(0 if stage.upper is None else late, 0 if stage.lower is None else late),
        memory=count + 2 * part_size(count) if sides else 0,
        tail=count + part_size(count) if sides else 0,
    )


class Coefficients(NamedTuple):
    """For each leg which legs go into it, and the spectra of their responses; nothing for one that passes."""

    sources: tuple[tuple[int, ...], tuple[int, ...]]
    spectra: tuple[np.ndarray | None, np.ndarray | None]


def coefficients(stage: CabinetStage, context: Context) -> Coefficients:
    routes = _routes(stage, context.rate)
    sources = tuple(tuple(source for source, _ in row) for row in routes)
    spectra = tuple(
        convolution.spectra_of(np.stack([taps for _, taps in row])) if row else None for row in routes
    )
    return Coefficients((sources[0], sources[1]), (spectra[0], spectra[1]))


def start(coefficients: Coefficients) -> Any:
    return [None if spectra is None else convolution.Convolver(spectra) for spectra in coefficients.spectra]


def carry(old: Coefficients, state: Any, new: Coefficients) -> Any:
    """What was heard goes on under other responses of the same length."""
    shapes = [[None if s is None else s.shape for s in one.spectra] for one in (old, new)]
    return copy.deepcopy(state) if old.sources == new.sources and shapes[0] == shapes[1] else None


def process(state: Any, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    heard = [block[list(sources)] for sources in coefficients.sources]

    def work(row: int) -> None:
        if state[row] is not None:
            state[row].process(heard[row], at.clock, coefficients.spectra[row])
            np.sum(heard[row], axis=0, out=block[row])

    on_both(work, block.shape[1])


def words(side: CabinetSide) -> str:
    """What is to be told of a side: its own response, or what its microphones do to each other."""
    if side.cabinet == "own":
        if side.own is None:
            return said("No response chosen yet: what comes in goes out")
        return f"“{side.own.name}”, {1000 * _seconds(side):.0f} ms"
    if not _on(side.mic_2_db) or not _on(side.mic_1_db):
        return said("Sound takes {flight:.2f} ms to the first microphone").format(
            flight=1000 * cabinets.flight_s(placed(side, 1))
        )
    late = 1000 * late_s(side)
    how = said("aligned") if side.aligned else said("not aligned: they comb")
    if side.aligned and len(BOXES[side.cabinet].cabinet.places) > 1:
        how = said("aligned for the speaker in front of them; the others still comb, by a few dB up to 17")
    words = (
        said("The second microphone is {late:.2f} ms late: {how}")
        if late >= 0
        else said("The first microphone is {late:.2f} ms late: {how}")
    )
    return words.format(late=abs(late), how=how)


KIND = Kind(
    stage=CabinetStage,
    side=CabinetSide,
    label="Cabinet",
    help="A loudspeaker cabinet for each leg, with microphones in front of it, or a response of one's own.",
    group="Colour",
    rank=31,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    process=process,
    still="A cabinet's response takes longer to make than to play: only its mix moves.",
    offers=Offers(
        greatest=greatest,
        parts=parts,
        placing=Placing(
            ("mic_1", "mic_2"),
            "room",
            radius_cm=lambda side: (
                0.0 if side.cabinet == "own" else 100.0 * BOXES[side.cabinet].cabinet.radius
            ),
            open_back=lambda side: side.cabinet != "own" and BOXES[side.cabinet].cabinet.open_back,
            words=words,
        ),
    ),
)
