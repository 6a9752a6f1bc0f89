"""How fast echoes, chorus, phaser and noise reduction are computed, whatever their settings."""

import numpy as np

from benchmarks.kernels import BLOCK, RATE, best, eight_bands, stage_seconds
from stonekite.engine.graph.chain import Chain
from stonekite.session.types import Split, Strip
from stonekite.stages.base import Context, Stage
from stonekite.stages.branch import Branch, branches_of
from stonekite.stages.chorus import Chorus, ChorusSide
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.echo.settings import Echo, EchoShared, EchoSide, Tap
from stonekite.stages.eq import Eq
from stonekite.stages.noise import Learned, Noise, NoiseShared, learns
from stonekite.stages.phaser import Phaser, PhaserSide


def _echo(ms: float, inside: tuple[Stage, ...] = ()) -> Echo:
    upper = EchoSide(time_ms=ms, high_pass_hz=200.0, low_pass_hz=5000.0, cross_db=-20.0)
    lower = EchoSide(time_ms=1.5 * ms, high_pass_hz=150.0, low_pass_hz=6000.0, cross_db=-24.0)
    return Echo(id=3, upper=upper, lower=lower, branches=(Branch(id=4, stages=inside),))


def _inside() -> tuple[Stage, ...]:
    driven = DriveSide(drive_db=8.0, level_db=-8.0)
    return Chorus(id=5), Drive(id=6, upper=driven, lower=driven, level_kept=False)


def _learned() -> Learned:
    return learns(0.01 * np.random.default_rng(1).standard_normal((2, RATE)), Context(RATE), 0.0)


STAGES: dict[str, tuple[Stage, int]] = {
    **{
        f"Echo of {ms:g} ms, both loops filtered": (_echo(ms), 400)
        for ms in (1.0, 1.37, 20.01, 500.0, 937.51)
    },
    **{f"Echo of {ms:g} ms, chorus and drive inside": (_echo(ms, _inside()), 50) for ms in (20.0, 500.0)},
    "Echo with eight taps": (
        Echo(id=3, shared=EchoShared(taps=tuple(Tap(time_ms=100.3 * (k + 1)) for k in range(8)))),
        0,
    ),
    "Chorus, two voices": (Chorus(id=3), 500),
    "Chorus, three voices fed back": (
        Chorus(id=3, upper=ChorusSide(voices=3, feedback=40), lower=ChorusSide(voices=3, feedback=40)),
        0,
    ),
    "Phaser, six all-passes": (Phaser(id=3), 500),
    **{
        f"Noise, {a}": (Noise(id=3, shared=NoiseShared(analysis=a, learned=_learned())), goal)
        for a, goal in (("own", 80), ("together", 35), ("one", 0))
    },
    "Phaser, twelve all-passes": (Phaser(id=3, upper=PhaserSide(passes=12), lower=PhaserSide(passes=12)), 0),
}


def _seconds(stage: Stage, sound: np.ndarray) -> float:
    """Of a stage by itself, or of a strip where something stands in its loop."""
    if not branches_of(stage) or not branches_of(stage)[0].stages:
        return stage_seconds(stage, sound)
    chain = Chain(Strip(split=Split(mode="left-right"), stages=(stage,)), RATE)

    def act() -> None:
        for start in range(0, sound.shape[1], BLOCK):
            chain.process(sound[:, start : start + BLOCK], start)

    act()
    return best(act, 5)


def rows() -> list[tuple[str, str]]:
    """Each in blocks of 1,024, beside an EQ of eight bands in the same run."""
    sound = 0.1 * np.random.default_rng(0).standard_normal((2, RATE * 4))
    eq = _seconds(Eq(id=2, upper=eight_bands(), lower=eight_bands()), sound)
    found = []
    for words, (stage, goal) in STAGES.items():
        seconds = _seconds(stage, sound)
        wanted = f" (goal {goal})" if goal else ""
        found.append(
            (words, f"{4 / seconds:6.0f} x real time{wanted}; an EQ of eight bands {4 / eq:.0f} x beside it")
        )
    for rate in (44_100, 96_000, 192_000):
        seconds = [
            stage_seconds(Noise(id=3, shared=NoiseShared(analysis=a, learned=_learned())), sound, rate)
            for a in ("own", "together")
        ]
        speeds = " and ".join(f"{sound.shape[1] / rate / one:.0f}" for one in seconds)
        found.append((f"Noise at {rate / 1000:g} kHz, own and together", f"{speeds} x real time"))
    return found
