"""How fast sound is computed, as multiples of real time and against scipy in the same run."""

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
from scipy import signal

from stonekite.engine.mix.strip import StripPlayer
from stonekite.engine.offline.export import export
from stonekite.session.types import Session, Sound, Source, Stem, Strip
from stonekite.signal.filters import biquads, convolution
from stonekite.stages.base import At, Context
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.drive import Drive, DriveShared
from stonekite.stages.dynamic_eq import Band as DynamicBand
from stonekite.stages.dynamic_eq import DynamicEq, DynamicEqSide
from stonekite.stages.eq import Band, Eq, EqShared, EqSide, side_sections
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.filter import side_sections as filter_side_sections
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.gate import Gate
from stonekite.stages.limiter import Limiter, LimiterSide
from stonekite.stages.planning import still_rows
from stonekite.stages.registry import KINDS
from stonekite.stages.width import Width, WidthShared, crossover

RATE = 48_000
BLOCK = 1024


def best(act: Callable[[], object], runs: int = 7) -> float:
    """Least seconds of several runs."""
    least = 1e9
    for _ in range(runs):
        start = time.perf_counter()
        act()
        least = min(least, time.perf_counter() - start)
    return least


def eight_bands(high: bool = False) -> EqSide:
    """Eight bells from 60 Hz up; `high` moves them to where each needs two sections."""
    start, ratio = (6000.0, 1.12) if high else (60.0, 2.0)
    return EqSide(bands=tuple(Band(frequency_hz=start * ratio**k, gain_db=4.0, q=0.8) for k in range(8)))


def strip(high: bool = False) -> Strip:
    return Strip(stages=(Eq(id=2, upper=eight_bands(high), lower=eight_bands(high)),))


def kernel_rows() -> list[tuple[str, str]]:
    """The EQ kernel, sosfilt and the price of silence."""
    rows = []
    sound = 0.1 * np.random.default_rng(0).standard_normal((2, RATE * 4))
    for count in (8, 16):
        sections = np.concatenate([side_sections(eight_bands(), RATE)] * 4)[:count]
        packed = biquads.pack(sections, sections)
        state = biquads.rest(packed)

        def ours(packed=packed, state=state, sound=sound) -> None:
            for start in range(0, sound.shape[1], BLOCK):
                biquads.cascade(sound[:, start : start + BLOCK].copy(), start, packed, state)

        full = np.insert(sections, 3, 1.0, axis=1)
        zi = np.zeros((count, 2, 2))

        def scipys(full=full, zi=zi) -> None:
            for start in range(0, sound.shape[1], BLOCK):
                signal.sosfilt(full, sound[:, start : start + BLOCK], zi=zi)

        ours()
        mine, theirs = best(ours), best(scipys)
        rows.append(
            (
                f"EQ kernel, {count} sections a leg, both legs",
                f"{4 / mine:6.0f} x real time; sosfilt {4 / theirs:.0f} x; ratio {theirs / mine:.1f} (goal 2)",
            )
        )
        if count == 8:
            silence = np.zeros_like(sound)
            for _ in range(30):  # two minutes of silence after signal
                ours(sound=silence)
            quiet = best(lambda: ours(sound=silence))  # noqa: B023
            rows.append(("  silence after signal costs", f"{quiet / mine:.2f} of signal (goal at most 1)"))
    return rows


FULL = {
    "eq": Eq(id=2, upper=eight_bands(), lower=eight_bands()),
    "filter": Filter(
        id=3,
        upper=FilterSide(high_pass=True, high_pass_slope=24, low_pass=True, low_pass_slope=24),
        lower=FilterSide(high_pass=True, high_pass_slope=24, low_pass=True, low_pass_slope=24),
    ),
    "gain": Gain(id=4, upper=GainSide(gain_db=-3), lower=GainSide(gain_db=2)),
    "width": Width(id=5, shared=WidthShared(width=130, mono_below=True)),
}
_DYNAMIC = DynamicEqSide(
    bands=tuple(DynamicBand(frequency_hz=60.0 * 2**k, threshold_db=-40) for k in range(8))
)
SCIPY_LESS = {
    "compressor": Compressor(id=6, upper=CompressorSide(knee_db=6), lower=CompressorSide(knee_db=6)),
    "gate": Gate(id=7),
    "limiter": Limiter(id=8, upper=LimiterSide(drive_db=12), lower=LimiterSide(drive_db=12)),
    "drive": Drive(id=9),
    "dynamic-eq": DynamicEq(id=10, upper=_DYNAMIC, lower=_DYNAMIC),
}
HALF_OF_C = {"compressor": (700, 0.5 * 1400), "drive": (90, 0.5 * 180)}
"""The issue's or our own goal in times real time, and half of what C does (for the drive at 4 times the rate)."""
CHAIN = Strip(
    stages=(FULL["filter"], FULL["eq"], *(SCIPY_LESS[k] for k in ("compressor", "drive", "limiter")))
)
ALL = Strip(
    stages=(
        *(FULL[k] for k in ("filter", "eq", "gain")),
        *(SCIPY_LESS[k] for k in ("gate", "compressor", "dynamic-eq", "drive")),
        FULL["width"],
        SCIPY_LESS["limiter"],
    )
)
"""One stage of each of nine kinds."""
LONG_EQ = Eq(id=2, upper=eight_bands(), lower=eight_bands(), shared=EqShared(phase="linear"))


def _by_sosfilt(sound: np.ndarray, sections: list[np.ndarray]) -> float:
    """Seconds that sosfilt needs for sections on each leg, block by block."""
    full = [np.insert(rows, 3, 1.0, axis=1) for rows in sections]
    states = [np.zeros((len(rows), 2)) for rows in full]

    def act() -> None:
        for start in range(0, sound.shape[1], BLOCK):
            for leg, rows in enumerate(full):
                signal.sosfilt(rows, sound[leg, start : start + BLOCK], zi=states[leg])

    return best(act, 3)


def kind_rows() -> list[tuple[str, str]]:
    """Each kind alone, in the engine's own calls, beside scipy on the same work."""
    sound = 0.1 * np.random.default_rng(0).standard_normal((2, RATE * 4))
    high, both = crossover(120.0, 24, RATE)
    one = np.array([[0.7, 0.0, 0.0, 0.0, 0.0]])
    filter_sections = filter_side_sections(FULL["filter"].upper, RATE)
    references = {
        "eq": _by_sosfilt(sound, [side_sections(eight_bands(), RATE)] * 2),
        "filter": _by_sosfilt(sound, [filter_sections] * 2),
        "gain": _by_sosfilt(sound, [one] * 2),
        "width": _by_sosfilt(sound, [both, high]),
    }
    half_of_c = {
        "eq": 1000,
        "filter": 1000,
        "width": 1000,
    }  # biquads: half of the same in C at -O3, measured once
    rows = []
    for kind, stage in FULL.items():
        seconds = stage_seconds(stage, sound)
        goal = f", goal {half_of_c[kind]} x" if kind in half_of_c else ""
        rows.append(
            (
                f"{KINDS[kind].label} alone, both legs",
                f"{4 / seconds:6.0f} x real time{goal}; sosfilt {4 / references[kind]:.0f} x; "
                f"ratio {references[kind] / seconds:.1f} (goal 2)",
            )
        )
    # scipy has nothing of these kinds: beside them stands what its eight biquads do, 370 times real time where the others were measured.
    scale = 4 / references["eq"] / 370
    more = {**SCIPY_LESS, "drive, high quality": Drive(id=9, shared=DriveShared(quality="high"))}
    for kind, stage in more.items():
        seconds = stage_seconds(stage, sound)
        goal = ""
        if kind in HALF_OF_C:
            wanted, half = HALF_OF_C[kind]
            goal = f" (goal {wanted}; half of C on this machine {half * scale:.0f})"
        label = KINDS[stage.__struct_config__.tag].label + ("" if kind in KINDS else ", high quality")
        rows.append(
            (
                f"{label} alone, both legs",
                f"{4 / seconds:6.0f} x real time{goal}; {references['eq'] / seconds:.1f} x as fast as sosfilt's "
                "eight biquads",
            )
        )
    taps = np.random.default_rng(1).standard_normal((2, 9600)) / 100
    theirs = best(lambda: [signal.oaconvolve(sound[k], taps[k]) for k in range(2)], 3)
    seconds = _convolve_seconds(sound, taps)
    rows.append(
        (
            "Convolution, 200 ms, both legs",
            f"{4 / seconds:6.0f} x real time (goal 320); oaconvolve of all at once {4 / theirs:.0f} x; "
            f"ratio {theirs / seconds:.1f} (goal 2)",
        )
    )
    seconds = stage_seconds(LONG_EQ, sound)
    late = KINDS["eq"].plan(LONG_EQ, Context(RATE)).latency[0]
    rows.append(("EQ, linear phase", f"{4 / seconds:6.0f} x real time, {1000 * late / RATE:.0f} ms late"))
    return rows


def stage_seconds(stage, sound: np.ndarray, rate: float = RATE) -> float:
    kind = KINDS[stage.__struct_config__.tag]
    coefficients = kind.coefficients(stage, Context(rate, "half-sum"))
    rows = still_rows(stage, Context(rate, "half-sum"))
    state = kind.start(coefficients)

    def act() -> None:
        for start in range(0, sound.shape[1], BLOCK):
            kind.process(state, coefficients, sound[:, start : start + BLOCK].copy(), At(start, **rows))

    act()
    return best(act)


def _convolve_seconds(sound: np.ndarray, taps: np.ndarray) -> float:
    spectra = convolution.spectra_of(taps)
    convolver = convolution.Convolver(spectra)

    def act() -> None:
        for start in range(0, sound.shape[1], BLOCK):
            convolver.process(sound[:, start : start + BLOCK].copy(), start, spectra)

    act()
    return best(act)


def render_rows(folder: Path, seconds: int = 240) -> list[tuple[str, str]]:
    """Whole files through mid/side and eight bands a leg, reading and writing included."""
    rows = []
    sound = 0.1 * np.random.default_rng(0).standard_normal((seconds * RATE, 2))
    path = folder / "long.wav"
    soundfile.write(path, sound, RATE, subtype="PCM_24")
    source = Source(path=str(path), rate=RATE, frames=seconds * RATE)
    for words, goal, used in (
        ("eight bands a leg", 200, strip()),
        ("eight high bands a leg (two sections each)", 200, strip(high=True)),
        ("filter + EQ (eight bands) + width", 150, Strip(stages=(FULL["filter"], FULL["eq"], FULL["width"]))),
    ):
        session = Session(sound=Sound(stems=(Stem(id=1, name="long", source=source, strip=used),)))
        # Every run is shown at its own time: reading and writing make single runs noisy.
        times = []
        for _ in range(3):
            start = time.process_time()
            list(export(session, folder / "out.wav", bits="24", dither=False, force=True))
            times.append(time.process_time() - start)
        rows.append(
            (
                f"Whole file, mid/side + {words}",
                f"{seconds / min(times):6.0f} x real time of one core (goal {goal}), slowest {seconds / max(times):.0f} x",
            )
        )
    session = Session(sound=Sound(stems=(Stem(id=1, name="long", source=source, strip=CHAIN),)))
    times = []
    for _ in range(4):
        start = time.perf_counter()
        list(export(session, folder / "out.wav", bits="24", force=True))
        times.append(time.perf_counter() - start)
    rows.append(
        (
            "Whole file, filter + EQ + compressor + drive + limiter",
            f"{seconds / min(times):6.0f} x real time on two cores (goal 80), slowest {seconds / max(times):.0f} x",
        )
    )
    return rows


def live_rows() -> list[tuple[str, str]]:
    """What a moved control costs while playing."""
    block = 0.1 * np.random.default_rng(0).standard_normal((2, BLOCK))
    player = StripPlayer(strip(), RATE)
    still = best(lambda: [player.process(block, k * BLOCK) for k in range(50)]) / 50

    bands = iter(range(10**9))

    def move() -> None:
        for k in range(50):
            side = EqSide(
                bands=(Band(frequency_hz=100 + 0.37 * next(bands), gain_db=5.0), *eight_bands().bands[1:])
            )
            player.update(Strip(stages=(Eq(id=2, upper=side, lower=eight_bands()),)), k * BLOCK)
            player.process(block, k * BLOCK)

    moving = best(move) / 50
    real = BLOCK / RATE
    return [
        (
            "Playing, share of one core",
            f"{still / real * 100:6.2f} %; with a band moved in every block {moving / real * 100:.1f} %",
        )
    ]
