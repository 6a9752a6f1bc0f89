"""How fast amplifiers and cabinets are computed, against a whole-sound convolution, and everything at once."""

from collections.abc import Iterator

import numpy as np
from scipy import signal

from benchmarks.kernels import BLOCK, RATE, best, eight_bands, stage_seconds
from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.relay import relayed
from stonekite.files.audio import BLOCK as FILE_BLOCK
from stonekite.session.types import Split, Strip
from stonekite.stages.amp import Amp, AmpShared, AmpSide
from stonekite.stages.amp.voices import VOICES
from stonekite.stages.base import Context, Stage
from stonekite.stages.cabinet import KIND
from stonekite.stages.cabinet.settings import CabinetSide, CabinetStage
from stonekite.stages.compressor import Compressor
from stonekite.stages.drive import Drive
from stonekite.stages.echo.settings import Echo
from stonekite.stages.eq import Eq
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.hum import Hum, HumSide
from stonekite.stages.noise import Noise, NoiseShared, learns


def _offline_seconds(stages: tuple[Stage, ...], sound: np.ndarray) -> float:
    """Least seconds in which a strip with these stages does it as an export does: on all cores."""
    strip = Strip(split=Split(mode="left-right"), stages=stages)

    def act() -> None:
        blocks = (sound[:, start : start + FILE_BLOCK] for start in range(0, sound.shape[1], FILE_BLOCK))
        for _ in relayed(Chain(strip, RATE).steps(), blocks, 0):
            pass

    act()
    return best(act, 5)


def _live_seconds(stages: tuple[Stage, ...], sound: np.ndarray) -> float:
    """Least seconds in which it does it in the short blocks of playing."""
    strip = Strip(split=Split(mode="left-right"), stages=stages)

    def act() -> None:
        chain = Chain(strip, RATE)
        for start in range(0, sound.shape[1], BLOCK):
            chain.process(sound[:, start : start + BLOCK], start)

    act()
    return best(act, 3)


def rows() -> Iterator[tuple[str, str]]:
    """Figures of both legs: offline as an export does it, on all cores, and live on one."""
    sound = 0.1 * np.random.default_rng(0).standard_normal((2, RATE * 8))
    room = CabinetSide(room_db=-12.0)
    cabinet = CabinetStage(id=3, upper=room, lower=room)
    for voice in VOICES:
        for quality in ("standard", "high"):
            side = AmpSide(voice=voice)
            amp = Amp(id=2, upper=side, lower=side, level_kept=False, shared=AmpShared(quality=quality))
            alone, both = (_offline_seconds(stages, sound) for stages in ((amp,), (amp, cabinet)))
            live = _live_seconds((amp, cabinet), sound)
            goal = " (goal 40)" if quality == "standard" else ""
            yield (
                f"Amp {voice}, {quality}; with a cabinet in a room",
                f"{8 / alone:6.0f} x real time; {8 / both:.0f} x{goal}; live {100 * live / 8:.0f} % of a core (goal 30)",
            )
    taps = KIND.coefficients(cabinet, Context(RATE)).spectra[0]
    assert taps is not None
    response = np.random.default_rng(1).standard_normal(int(0.2 * RATE))
    theirs = best(lambda: [signal.oaconvolve(row, response) for row in sound], 3)
    mine = _offline_seconds((cabinet,), sound)
    yield (
        "Cabinet with a room, both legs",
        f"{8 / mine:6.0f} x real time; oaconvolve of 200 ms {8 / theirs:.0f} x; ratio {theirs / mine:.1f} (goal 4)",
    )
    hum = Hum(id=2, upper=HumSide(harmonics=32.0), lower=HumSide(harmonics=32.0))
    yield "Hum, 32 notches, followed", f"{sound.shape[1] / RATE / stage_seconds(hum, sound):6.0f} x real time"
    learned = learns(0.01 * np.random.default_rng(1).standard_normal((2, RATE)), Context(RATE), 0.0)
    for analysis, goal in (("own", 80), ("together", 35)):
        stage = Noise(id=2, shared=NoiseShared(analysis=analysis, learned=learned))
        speed = sound.shape[1] / RATE / stage_seconds(stage, sound)
        yield f"Noise, {analysis}, both legs", f"{speed:6.0f} x real time (goal {goal})"
    cut = FilterSide(high_pass=True)
    everything: tuple[Stage, ...] = (
        Filter(id=10, upper=cut, lower=cut),
        Eq(id=11, upper=eight_bands(), lower=eight_bands()),
        Compressor(id=12),
        Noise(id=13, shared=NoiseShared(learned=learned)),
        Drive(id=14, level_kept=False),
        Amp(id=15, level_kept=False),
        cabinet,
        Echo(id=16),
    )
    took = _offline_seconds(everything, sound)
    yield "Everything at once on both legs", f"{8 / took:6.0f} x real time (goal 25, wish 40)"
