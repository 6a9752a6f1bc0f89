"""Amp: an amplifier for each leg: gain stages, a tone network, a power stage. The voices: stages/amp/voices.py.

A gain stage's curve is steep in its middle and has its knee at 1; what plays at 0 dBFS at the input meets the first one
with its gain. What happens inside: signal/amplifying.py.
"""

import copy
import math
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal.decibels import gain_of
from stonekite.signal.filters import tone_network
from stonekite.signal.vectors.pairs import on_both
from stonekite.stages import riding
from stonekite.stages.amp.learning import NOMINAL_DB, Learned, learned_words, learns, taken
from stonekite.stages.amp.voices import VOICES, Voice, VoiceName, between, linear
from stonekite.stages.base import (
    LEGS,
    SETTLED,
    WORKED,
    At,
    Context,
    Kind,
    Learning,
    LegName,
    LevelKept,
    Offers,
    Plan,
    Side,
    Stage,
)
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import stacked, times, times_leg
from stonekite.stages.settings import Settings, choice, number
from stonekite.words import said

amplifying = lazy("stonekite.signal.amplifying")

MOST_SAG = 0.35
MOST_PRESENCE_DB = 10.0
LOWEST_HZ = 10.0
"""No filter inside settles more slowly than one of so many Hz."""
BEND_HANDLE = Handle("A", x="gain", wheel="master")


CONTROLS_STAND = said("The controls of an amplifier stand still: ride its input or its level.")


def _percent(label: str, help: str) -> Any:
    return Annotated[float, number(label, "%", 0.0, 100.0, step=2.0, help=help, still=CONTROLS_STAND)]


class AmpSide(Side, frozen=True, kw_only=True):
    voice: Annotated[
        VoiceName,
        choice(
            "Voice",
            {name: voice.label for name, voice in VOICES.items()},
            help="; ".join(f"{voice.label}: {voice.about}" for voice in VOICES.values()),
        ),
    ] = "flint"
    input_db: Annotated[
        float,
        number(
            "Input",
            "dB",
            -36.0,
            24.0,
            step=0.5,
            help="Gain in front of everything; Learn brings what plays to where the amplifier wants it",
        ),
    ] = 0.0
    gain: _percent("Gain", "How hard the stages behind the first one are driven") = 50.0  # type: ignore[valid-type]
    bass: _percent("Bass", "Of the tone network; it changes what the others do") = 50.0  # type: ignore[valid-type]
    middle: _percent("Middle", "Of the tone network; at 0 its dip is deepest") = 50.0  # type: ignore[valid-type]
    treble: _percent("Treble", "Of the tone network; it changes what the others do") = 50.0  # type: ignore[valid-type]
    presence: _percent("Presence", "Highs of the power stage") = 30.0  # type: ignore[valid-type]
    master: _percent("Master", "How hard the power stage is driven") = 50.0  # type: ignore[valid-type]
    sag: Annotated[
        float,
        number(
            "Sag",
            "%",
            0.0,
            100.0,
            step=5.0,
            seldom=True,
            help="How far the supply gives way to what is loud",
            still=CONTROLS_STAND,
        ),
    ] = 30.0
    shift: Annotated[
        float,
        number(
            "Bias shift",
            "%",
            0.0,
            200.0,
            step=10.0,
            seldom=True,
            help="How far the bias of the stages moves with what is loud, of what the voice has",
            still=CONTROLS_STAND,
        ),
    ] = 100.0
    level_db: Annotated[
        float, number("Level", "dB", -36.0, 12.0, step=0.5, help="Level of what was amplified")
    ] = -12.0


class AmpShared(Settings, frozen=True, kw_only=True):
    quality: Annotated[
        Literal["standard", "high"],
        choice(
            "Oversampling",
            {"standard": "Standard", "high": "High"},
            help="How far under all that comes out what folds back is: 75 dB, or 90 dB for half the speed",
        ),
    ] = "standard"
    learned: Learned | None = None


class Amp(Stage, frozen=True, kw_only=True, tag="amp"):
    level_kept: LevelKept = True
    upper: AmpSide | None = AmpSide()
    lower: AmpSide | None = AmpSide()
    shared: AmpShared = AmpShared()


def _positions(side: AmpSide) -> tuple[float, float, float]:
    """Of bass (which turns by the square, as such controls do), middle and treble."""
    return (side.bass / 100.0) ** 2, side.middle / 100.0, side.treble / 100.0


def _gains_db(side: AmpSide, voice: Voice) -> list[float]:
    """What stands in front of each gain stage besides its own gain."""
    control = between(voice.gain_db, side.gain)
    return [side.input_db, control] + [0.0] * (len(voice.stages) - 2)


def network(side: AmpSide, hz: np.ndarray) -> np.ndarray:
    """Complex response of the tone network at frequencies in Hz, with its makeup."""
    voice = VOICES[side.voice]
    return gain_of(voice.makeup_db) * tone_network.response(voice.network, *_positions(side), hz)


def response(stage: Amp, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of a leg at frequencies (Hz) for what is so quiet that nothing bends it."""
    side = getattr(stage, leg)
    hz = np.asarray(frequencies, dtype=float)
    if side is None:
        return np.ones(np.shape(hz), dtype=complex)
    voice = VOICES[side.voice]
    s = 1j * hz

    def high(f: float) -> np.ndarray:
        return s / (s + f)

    def low(f: float) -> np.ndarray:
        return f / (s + f)

    made = network(side, hz).astype(complex)
    for one, more in zip(voice.stages, _gains_db(side, voice), strict=True):
        slope = (1.0 + one.bias**2) ** -1.5  # of the curve where it rests
        made = made * high(one.high_hz) * low(one.low_hz) * gain_of(one.gain_db + more + one.level_db) * slope
    made = made * (1.0 + _presence(side) * high(voice.presence_hz)) * low(voice.power_hz)
    made = made * gain_of(between(voice.master_db, side.master)) * high(voice.transformer_hz) ** 2
    return made * gain_of(voice.level_db + side.level_db)


def _presence(side: AmpSide) -> float:
    return gain_of(MOST_PRESENCE_DB * side.presence / 100.0) - 1.0


def _curve(x: np.ndarray) -> np.ndarray:
    return x / np.sqrt(1.0 + x * x)


def bend(side: AmpSide, values: np.ndarray) -> np.ndarray:
    """Steady values that come out for values that go in, in the middle of the band, before anything shifts or sags."""
    voice = VOICES[side.voice]
    x = np.asarray(values, dtype=float)
    passed = float(np.abs(network(side, np.array([700.0])))[0])
    for k, (one, more) in enumerate(zip(voice.stages, _gains_db(side, voice), strict=True)):
        x = x * (passed if k == voice.network_at else 1.0) * gain_of(one.gain_db + more)
        x = gain_of(one.level_db) * (_curve(x + one.bias) - _curve(np.array(one.bias)))
    x = x * (passed if voice.network_at == len(voice.stages) else 1.0)
    out: np.ndarray = _curve(x * gain_of(between(voice.master_db, side.master)))
    return gain_of(voice.level_db + side.level_db) * out


def greatest(stage: Amp, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) at frequencies (Hz): nothing is steeper than the middle of the curves."""
    found = np.zeros((2, 2, len(hz)))
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        found[row, row] = 1.0
        if side is not None:
            voice = VOICES[side.voice]
            steeper = math.prod((1.0 + one.bias**2) ** 1.5 for one in voice.stages)
            found[row, row] = steeper * np.abs(response(stage, leg, hz, rate))
    return found


def drawn(stage: Amp, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """The tone network with its makeup, and the presence: what the tone controls do."""
    side = getattr(stage, leg)
    if side is None:
        return np.ones(np.shape(frequencies), dtype=complex)
    hz = np.asarray(frequencies, dtype=float)
    bright = 1.0 + _presence(side) * 1j * hz / (1j * hz + VOICES[side.voice].presence_hz)
    return network(side, hz) * bright


def parts_worked(stage: Amp, leg: LegName) -> tuple[str, ...]:
    side = getattr(stage, leg)
    if side is None:
        return ()
    return (*(str(k + 1) for k in range(len(VOICES[side.voice].stages))), said("power"))


def worked_db(state: Any) -> np.ndarray:
    """How far gain stages and power stage were driven lately, in dB over the knee."""
    found = np.full((2, WORKED), -150.0)
    for row, leg in enumerate(state):
        if leg is not None:
            used = leg.used
            found[row, : len(used)] = 20 * np.log10(np.maximum(used, 1e-7))
    return found


def neutral(stage: Amp) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Amp, context: Context) -> Plan:
    late = [0 if side is None else amplifying.LATE for side in (stage.upper, stage.lower)]
    slowest = SETTLED / (2 * math.pi * LOWEST_HZ)
    for side in (stage.upper, stage.lower):
        if side is not None:
            voice = VOICES[side.voice]
            slowest = max(slowest, SETTLED * max(*voice.shift_s, *voice.sag_s))
    return Plan(
        latency=(late[0], late[1]),
        memory=math.ceil(1.5 * slowest * context.rate) + 2 * amplifying.LATE,
        tail=math.ceil(1.5 * slowest * context.rate) + amplifying.LATE,
    )


def _design(side: AmpSide, fast: float) -> Any:
    voice = VOICES[side.voice]
    rows = [linear(one, more) for one, more in zip(voice.stages, _gains_db(side, voice), strict=True)]
    stages = np.array(rows)
    stages[:, 4] *= side.shift / 100.0
    return amplifying.Design(
        stages=stages,
        shift_s=voice.shift_s,
        network=np.array(tone_network.digital(voice.network, *_positions(side), fast)),
        network_at=voice.network_at,
        makeup=gain_of(voice.makeup_db),
        presence=_presence(side),
        presence_hz=voice.presence_hz,
        power_gain=gain_of(between(voice.master_db, side.master)),
        power_hz=voice.power_hz,
        transformer_hz=voice.transformer_hz,
        sag=MOST_SAG * side.sag / 100.0,
        sag_s=voice.sag_s,
        level=gain_of(voice.level_db + side.level_db),
    )


def _factor(input_db: float, high: bool) -> int:
    """How many times the rate a leg is followed at: the more, the harder what is at full scale hits the first stage."""
    if high:
        return 16 if input_db <= 6.0 else 32
    return 8 if input_db <= 0.0 else (16 if input_db <= 18.0 else 32)


def _fixed(side: AmpSide | None) -> AmpSide | None:
    """A side without the levels that move, which are put in before and behind it."""
    if side is None:
        return None
    moving = {name: 0.0 for name in ("input_db", "level_db") if isinstance(getattr(side, name), np.ndarray)}
    return msgspec.structs.replace(side, **moving)


INPUT, LEVEL = 0, 2
"""Of the numbers of a row: of the upper and the lower leg each."""


def rows(stage: Amp, context: Context) -> np.ndarray:
    """Rows (n, 4): gains before and behind the amplifiers, where these move."""
    sides = [getattr(stage, leg) for leg in LEGS]

    def moved(side: AmpSide | None, name: str) -> Any:
        value = getattr(side, name, 0.0)
        return gain_of(value) if isinstance(value, np.ndarray) else 1.0

    return stacked(*(moved(side, name) for name in ("input_db", "level_db") for side in sides))


class Coefficients:
    """What amplifies each leg (None for one that passes), and which legs at once."""

    def __init__(self, stage: Amp, context: Context) -> None:
        sides = [getattr(stage, leg) for leg in LEGS]
        hardest = [
            0.0 if side is None else riding.highest(stage, f"{leg}.input_db", side.input_db)
            for leg, side in zip(LEGS, sides, strict=True)
        ]
        factors = [_factor(db, stage.shared.quality == "high") for db in hardest]
        sides = [_fixed(side) for side in sides]
        self.voices = [None if s is None else (s.voice, f) for s, f in zip(sides, factors, strict=True)]
        self.legs = [
            None if s is None else amplifying.Settings(_design(s, context.rate * f), context.rate, f)
            for s, f in zip(sides, factors, strict=True)
        ]
        upper, lower = self.legs
        self.together: Any = None
        self.alone: list[Any] = [None, None]
        if upper is not None and lower is not None and upper.shape == lower.shape:
            self.together = amplifying.Pair(upper, lower)
        else:
            self.alone = [None if leg is None else amplifying.Pair(leg, leg) for leg in self.legs]


def coefficients(stage: Amp, context: Context) -> Coefficients:
    return Coefficients(stage, context)


def start(coefficients: Coefficients) -> Any:
    return [None if leg is None else amplifying.Amplifier(leg) for leg in coefficients.legs]


def carry(old: Coefficients, state: Any, new: Coefficients) -> Any:
    """Another voice is another amplifier, which hears what was before."""
    return copy.deepcopy(state) if old.voices == new.voices else None


def process(state: Any, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    times(block, at.rows, INPUT)
    _amplified(state, coefficients, block, at)
    for row in range(2):
        times_leg(block[row], at.out[row], LEVEL + row)


def _amplified(state: Any, coefficients: Coefficients, block: np.ndarray, at: At) -> None:
    if coefficients.together is not None:
        amplifying.amplify((state[0], state[1]), (block[0], block[1]), at.clock, coefficients.together)
        return

    def work(row: int) -> None:
        pair = coefficients.alone[row]
        if pair is not None:
            amplifying.amplify((state[row], state[row]), (block[row], block[row]), at.clock, pair)

    on_both(work, block.shape[1])


__all__ = ["KIND", "NOMINAL_DB", "Amp", "AmpShared", "AmpSide", "Learned", "taken"]

KIND = Kind(
    stage=Amp,
    side=AmpSide,
    label="Amp",
    help="An amplifier for each leg: gain stages, tone controls that share one network, a power stage that sags.",
    group="Colour",
    rank=30,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    rows=rows,
    process=process,
    offers=Offers(
        bend=bend,
        bend_handle=BEND_HANDLE,
        greatest=greatest,
        drawn=drawn,
        parts_worked=parts_worked,
        worked_db=worked_db,
        learning=Learning(
            Learned,
            learns,
            learned_words,
            what="level",
            hint="Measure how loud the legs are, in the loop or in the first minute, and set the inputs to it",
            forget="Leave the inputs as they are",
            taken=taken,
            at_once=True,
        ),
    ),
)
