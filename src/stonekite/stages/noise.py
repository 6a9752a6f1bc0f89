"""Noise reduction: each leg by itself, both by one gain, or both together. How: signal/noise/suppression.py."""

import math
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.lazy import lazy
from stonekite.signal import matrix
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
)
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.settings import Settings, choice, number
from stonekite.words import said

suppressor = lazy("stonekite.signal.noise.suppressor")

MOST_BINS = 8193
SHORTEST_S = 0.1
"""Noise is learned from at least so much."""
WEIGHT_HZ = (100.0, 400.0, 1500.0, 5000.0, 12_000.0)
BENT_HZ = (150.0, 900.0, 6000.0)
"""Where the curve of the noise can be bent."""
_HIGHEST_DB = 40.0
LEARNED_S, FOLLOWED_S = 8.0, 30.0
"""How far back it remembers: where noise is what was learned, and where it is followed."""


def _weight(words: str) -> Any:
    meta = number(
        words,
        "dB",
        -40.0,
        20.0,
        step=0.5,
        seldom=True,
        help="How much more, or less, noise is reduced there than the amount says",
    )
    return Annotated[float, meta]


def _bent(words: str) -> Any:
    meta = number(
        words,
        "dB",
        -24.0,
        24.0,
        step=0.5,
        seldom=True,
        help="How much louder the noise is taken for there than it was learned or followed",
    )
    return Annotated[float, meta]


class NoiseSide(Side, frozen=True, kw_only=True):
    amount_db: Annotated[
        float,
        number(
            "Amount",
            "dB",
            0.0,
            _HIGHEST_DB,
            step=0.5,
            help="How far noise is reduced at the most; together, what only one leg has goes down further",
        ),
    ] = 12.0
    at_100_db: _weight("At 100 Hz") = 0.0  # type: ignore[valid-type]
    at_400_db: _weight("At 400 Hz") = 0.0  # type: ignore[valid-type]
    at_1500_db: _weight("At 1.5 kHz") = 0.0  # type: ignore[valid-type]
    at_5000_db: _weight("At 5 kHz") = 0.0  # type: ignore[valid-type]
    at_12000_db: _weight("At 12 kHz") = 0.0  # type: ignore[valid-type]
    noise_150_db: _bent("Noise at 150 Hz") = 0.0  # type: ignore[valid-type]
    noise_900_db: _bent("Noise at 900 Hz") = 0.0  # type: ignore[valid-type]
    noise_6000_db: _bent("Noise at 6 kHz") = 0.0  # type: ignore[valid-type]


Levels = Annotated[
    tuple[Annotated[float, msgspec.Meta(ge=-250.0, le=60.0)], ...],
    msgspec.Meta(min_length=2, max_length=MOST_BINS),
]
Shares = Annotated[
    tuple[Annotated[float, msgspec.Meta(ge=-1.0, le=1.0)], ...],
    msgspec.Meta(min_length=2, max_length=MOST_BINS),
]


class Learned(LearnedRange, frozen=True, kw_only=True):
    """Noise of a range of the recording, from 0 Hz to half the rate in even steps: density of both legs in dB of full
    scale per Hz, and what they have in common, as a complex coherence.
    """

    rate: Annotated[float, msgspec.Meta(ge=1000.0, le=1e6)]
    upper_db: Levels
    lower_db: Levels
    common_re: Shares
    common_im: Shares
    legs: Literal["left-right", "half-sum", "equal-power", "raised-side"] | None = None
    """Whose noise it is: of left and right, or of mid and side by that matrix. None, in what was learned before this was
    kept: of the legs of the strip, whatever they are."""


class NoiseShared(Settings, frozen=True, kw_only=True):
    analysis: Annotated[
        Literal["one", "own", "together"],
        choice(
            "Analysis",
            {"one": "One for both", "own": "Each its own", "together": "Together"},
            help="One gain for both legs; gains of their own; or what both have in common told from what differs",
        ),
    ] = "together"
    coupling: Annotated[
        float,
        number(
            "Coupling",
            "%",
            0.0,
            100.0,
            step=5.0,
            both=True,
            help="Of each its own: how far towards one for both",
        ),
    ] = 0.0
    follows: Annotated[
        Literal["not", "music", "speech"],
        choice(
            "Follow",
            {"not": "Not", "music": "Within 6 dB", "speech": "Freely"},
            help="How far the noise may go from what was learned: freely takes what is held for noise, too",
        ),
    ] = "music"
    sensitivity_db: Annotated[
        float,
        number(
            "Sensitivity",
            "dB",
            -6.0,
            6.0,
            step=0.5,
            seldom=True,
            help="As how much louder the noise is taken than it is",
        ),
    ] = 0.0
    smoothing: Annotated[
        float,
        number("Smoothing", "%", 0.0, 100.0, step=5.0, help="Against tones that come and go in what is left"),
    ] = 50.0
    hold: Annotated[
        float,
        number(
            "Hold hits",
            "%",
            0.0,
            100.0,
            step=5.0,
            help="How much of what is struck is let through at once, where it is struck",
        ),
    ] = 30.0
    image: Annotated[
        float,
        number(
            "Noise stays wide",
            "%",
            0.0,
            100.0,
            step=5.0,
            seldom=True,
            help="How much of what is left keeps its own image",
        ),
    ] = 0.0
    learned: Learned | None = None


class Noise(Stage, frozen=True, kw_only=True, tag="noise"):
    upper: NoiseSide | None = NoiseSide()
    lower: NoiseSide | None = NoiseSide()
    shared: NoiseShared = NoiseShared()


def amounts_db(side: NoiseSide | None, hz: np.ndarray) -> np.ndarray:
    """How far a side reduces at the most at frequencies in Hz, in dB."""
    if side is None:
        return np.zeros(np.shape(hz))
    weights = [side.at_100_db, side.at_400_db, side.at_1500_db, side.at_5000_db, side.at_12000_db]
    bent = np.interp(np.log(np.maximum(hz, 1.0)), np.log(WEIGHT_HZ), weights)
    # Of nothing nothing is more or less.
    return np.clip(side.amount_db + bent * (side.amount_db > 0.0), 0.0, _HIGHEST_DB)


def _louder_db(stage: Noise, hz: np.ndarray) -> np.ndarray:
    """How much louder (2, n) the noise of both legs is taken for than it is, at frequencies in Hz, in dB."""
    rows = []
    for side in (stage.upper, stage.lower):
        bends = (0.0,) if side is None else (side.noise_150_db, side.noise_900_db, side.noise_6000_db)
        places = np.log(BENT_HZ[: len(bends)])
        rows.append(np.interp(np.log(np.maximum(hz, 1.0)), places, bends))
    return np.stack(rows) + stage.shared.sensitivity_db


def response(stage: Noise, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """What is done to noise alone at frequencies (Hz)."""
    return 10.0 ** (-amounts_db(getattr(stage, leg), np.asarray(frequencies)) / 20.0) + 0j


def greatest(stage: Noise, hz: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n): of one leg by itself 1; together a leg can get what was in the other one."""
    together = stage.shared.analysis == "together" and stage.upper is not None and stage.lower is not None
    return np.repeat((np.ones((2, 2)) if together else np.eye(2))[:, :, None], len(hz), axis=2)


def neutral(stage: Noise) -> bool:
    return all(side is None or side.amount_db == 0.0 for side in (stage.upper, stage.lower))


def plan(stage: Noise, context: Context) -> Plan:
    late = suppressor.size(context.rate)
    fixed = stage.shared.learned is not None and stage.shared.follows == "not"
    seconds = LEARNED_S if fixed else FOLLOWED_S
    return Plan(
        latency=(0 if stage.upper is None else late, 0 if stage.lower is None else late),
        memory=int(seconds * context.rate) + 2 * late,
        tail=late,
    )


def learns(sound: np.ndarray, context: Context, start_s: float) -> Learned:
    """What a range of sound (2, frames), that begins at a time, tells of its noise.

    Raises ValueError with a sentence if it is too short or silent.
    """
    rate = context.rate
    if sound.shape[1] < max(suppressor.size(rate) + suppressor.hop(rate), SHORTEST_S * rate):
        raise ValueError(
            said("Noise is learned from {shortest_s:g} s at least: loop a longer pause.").format(
                shortest_s=SHORTEST_S
            )
        )
    noise, common = suppressor.learned(sound, rate)
    if float(noise.max()) <= 2e-18:
        raise ValueError(said("This range is silent: there is no noise to learn."))
    levels = np.maximum(10.0 * np.log10(2.0 * noise / rate), -250.0)
    shares = np.clip(common, -1.0, 1.0)
    return Learned(
        rate=rate,
        start_s=round(start_s, 4),
        end_s=round(start_s + sound.shape[1] / rate, 4),
        upper_db=tuple(np.round(levels[0], 3).tolist()),
        lower_db=tuple(np.round(levels[1], 3).tolist()),
        common_re=tuple(np.round(shares[0], 5).tolist()),
        common_im=tuple(np.round(shares[1], 5).tolist()),
        legs=context.matrix or "left-right",
    )


def _at(learned: Learned, context: Context) -> tuple[np.ndarray, np.ndarray]:
    """What was learned, as power (2, bins) and what is in common (2, bins), at a rate and of the legs of a split."""
    rate = context.rate
    bins = suppressor.size(rate) // 2 + 1
    wanted = np.linspace(0.0, 0.5 * rate, bins)

    def taken(values: tuple[float, ...]) -> np.ndarray:
        return np.interp(wanted, np.linspace(0.0, 0.5 * learned.rate, len(values)), values)

    levels = np.stack([taken(learned.upper_db), taken(learned.lower_db)])
    common = np.stack([taken(learned.common_re), taken(learned.common_im)])
    common /= np.maximum(1.0, np.hypot(*common))
    power = 0.5 * rate * 10.0 ** (levels / 10.0)
    legs = context.matrix or "left-right"
    if learned.legs in (None, legs):
        return power, common
    turn = np.eye(2)
    if learned.legs != "left-right":
        turn = matrix.decode(turn, learned.legs)
    if context.matrix is not None:
        turn = matrix.encode(turn, context.matrix)
    return suppressor.turned(turn, power, common)


def coefficients(stage: Noise, context: Context) -> Any:
    rate, shared = context.rate, stage.shared
    hz = np.linspace(0.0, 0.5 * rate, suppressor.size(rate) // 2 + 1)
    sides = [getattr(stage, leg) for leg in LEGS]
    floors = np.stack([10.0 ** (-amounts_db(side, hz) / 20.0) for side in sides])
    louder = _louder_db(stage, hz)
    noise, common = (None, None) if shared.learned is None else _at(shared.learned, context)
    # A leg that is not worked on, or is to be left as it is, is only late.
    works = tuple(side is not None and side.amount_db > 0.0 for side in sides)
    return suppressor.Settings(
        rate,
        shared.analysis,
        shared.coupling / 100.0,
        floors,
        noise,
        common,
        follows=shared.follows,
        louder=10.0 ** (louder / 10.0) if louder.any() else None,
        smoothing=shared.smoothing / 100.0,
        hold=shared.hold / 100.0,
        image=shared.image / 100.0,
        works=works,
        late=tuple(side is not None for side in sides),
        side_over_mid=None if context.matrix is None else matrix.side_over_mid(context.matrix),
    )


def start(coefficients: Any) -> Any:
    return coefficients.begun()


def carry(old: Any, state: Any, new: Any) -> Any:
    """The noise that is known goes on; what was learned anew is taken at once."""
    if old.late != new.late:
        return None
    kept = new.taken_over(old, state)
    if (old.noise is None) != (new.noise is None) or (
        new.noise is not None and not np.array_equal(old.noise, new.noise)
    ):
        return new.begun()._replace(sound=kept.sound)
    return kept


def process(state: Any, coefficients: Any, block: np.ndarray, at: At) -> None:
    suppressor.process(state, coefficients, block, at.clock)


def learned_words(stage: Noise) -> str:
    """What is known of the noise, in words."""
    learned = stage.shared.learned
    if learned is None:
        return said("Nothing learned: the noise is followed from the beginning on")
    levels = [10.0 * math.log10(sum(10.0 ** (v / 10.0) for v in row) * 0.5 * learned.rate / (len(row) - 1) + 1e-25)
              for row in (learned.upper_db, learned.lower_db)]  # fmt: skip
    shared = math.sqrt(float(np.mean(np.square(learned.common_re) + np.square(learned.common_im))))
    legs = {
        None: said("{upper:.1f} and {lower:.1f} dBFS"),
        "left-right": said("left {upper:.1f}, right {lower:.1f} dBFS"),
    }.get(learned.legs, said("mid {upper:.1f}, side {lower:.1f} dBFS"))
    sentence = said("Learned from {start:.2f} to {end:.2f} s: {legs}, {share:.0f} % in common")
    heard = legs.format(upper=levels[0], lower=levels[1])
    words = sentence.format(start=learned.start_s, end=learned.end_s, legs=heard, share=100 * shared)
    return words.replace("-", "−")


def noise_known(stage: Noise, context: Context) -> np.ndarray | None:
    """Power (2, bins) of what was learned, as it is taken, by frequency from 0 Hz to half the rate; a full-scale sine has
    1.
    """
    if stage.shared.learned is None:
        return None
    noise, _ = _at(stage.shared.learned, context)
    louder = _louder_db(stage, np.linspace(0.0, 0.5 * context.rate, noise.shape[1]))
    return _sine_power(noise * 10.0 ** (louder / 10.0), context.rate)


def noise_now(coefficients: Any, state: Any, rate: float) -> np.ndarray:
    """Power (3, 2, bins) of the noise that is known now, of what lately came in, and of what came out of it."""
    rows = np.stack([coefficients.louder * state.noise, state.came, state.went])
    return _sine_power(rows[:, :, : coefficients.bins], rate)


def _sine_power(power: np.ndarray, rate: float) -> np.ndarray:
    """Of frames under a window of norm 1, so that the bins of a sine of amplitude 1 sum to 1."""
    return power * (4.0 / suppressor.size(rate))


_HANDLES = tuple(
    Handle(
        label,
        y=f"at_{hz}_db",
        at_hz=float(hz),
        reach=-1.0,
        beside="amount_db",
        shown=lambda side: side.amount_db > 0.0,
    )
    for label, hz in (("100", 100), ("400", 400), ("1.5k", 1500), ("5k", 5000), ("12k", 12_000))
) + tuple(
    Handle(
        "~",
        y=f"noise_{hz:.0f}_db",
        at_hz=hz,
        on_noise=True,
        shown=lambda side: side.amount_db > 0.0,
    )
    for hz in BENT_HZ
)

KIND = Kind(
    stage=Noise,
    side=NoiseSide,
    label="Noise",
    help="Reduces noise of each leg, of both alike, or of both together, so that what they share moves less.",
    group="Tone",
    rank=60,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    process=process,
    still="Noise reduction is set once: only its mix moves.",
    offers=Offers(
        handles=_HANDLES,
        noise=noise_known,
        noise_now=noise_now,
        greatest=greatest,
        learning=Learning(
            Learned,
            learns,
            learned_words,
            what="noise",
            hint="Take what is heard in the loop for noise alone: drag over a pause on the timeline first",
            forget="Follow the noise from the beginning on, without having learned it",
            loop="Loop a pause first, where there is nothing but noise: drag over it on the timeline.",
        ),
    ),
)
