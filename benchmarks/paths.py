"""What paths beside the legs cost more than their stages, and what a change among many stages costs a block."""

import tempfile
import time
from pathlib import Path

import msgspec
import numpy as np
import soundfile
from PySide6.QtCore import QCoreApplication

from benchmarks.kernels import BLOCK, FULL, RATE, SCIPY_LESS, best, eight_bands, stage_seconds
from stonekite.desktop.links.transport import Transport
from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.line import Line
from stonekite.engine.mix.strip import StripPlayer
from stonekite.session import storage, tree
from stonekite.session.spur import END, SPLIT, Spur
from stonekite.session.types import Session, Sound, Source, Split, Stem, Strip
from stonekite.stages.bands import BandsStage
from stonekite.stages.base import Context, Stage
from stonekite.stages.branch import Branch
from stonekite.stages.eq import Eq
from stonekite.stages.suboctave import Suboctave

PLAYED = 512
"""Frames in a block of the player."""


def _three(first: int, both: bool = True) -> tuple[Stage, ...]:
    kinds = FULL["filter"], FULL["eq"], SCIPY_LESS["compressor"]
    sides = {} if both else {"lower": None}
    return tuple(msgspec.structs.replace(stage, id=first + k, **sides) for k, stage in enumerate(kinds))


def _chain_seconds(strip: Strip, sound: np.ndarray, block: int) -> float:
    chain = Chain(strip, RATE)

    def act() -> None:
        for start in range(0, sound.shape[1], block):
            chain.process(sound[:, start : start + block], start)

    act()
    return best(act, 9)


def _singles_seconds(stages: tuple[Stage, ...], sound: np.ndarray, block: int) -> float:
    """Of stages each in a line of its own."""
    lines = [Line((stage,), Context(RATE)) for stage in stages]

    def act() -> None:
        for start in range(0, sound.shape[1], block):
            for line in lines:
                line.process(sound[:, start : start + block].copy(), start)

    act()
    return best(act, 9)


def spur_rows() -> list[tuple[str, str]]:
    """Four spurs of three stages, of one component or of both legs, beside the sum of the same twelve each alone, and
    beside the twelve in a row."""
    rows = []
    sound = 0.1 * np.random.default_rng(0).standard_normal((2, RATE * 4))
    split = Split(mode="left-right")
    for sources, after in ((("left", "right", "mid", "side"), END), (("both",) * 4, SPLIT)):
        paths = [_three(10 * k + 1, "both" in sources) for k in range(4)]
        in_a_row = tuple(stage for path in paths for stage in path)
        spurs = tuple(
            Spur(branch=Branch(id=100 + k, stages=paths[k]), source=source, after=after)
            for k, source in enumerate(sources)
        )
        figures = []
        for block in (PLAYED, BLOCK):
            # In turns, so that all meet the same moods of the machine.
            turns = [
                (
                    _chain_seconds(Strip(split=split, spurs=spurs), sound, block),
                    _singles_seconds(in_a_row, sound, block),
                    _chain_seconds(Strip(split=split, stages=in_a_row), sound, block),
                )
                for _ in range(3)
            ]
            beside, alone, row = (min(column) for column in zip(*turns, strict=True))
            figures.append(f"{beside / alone:.2f} (in a row {beside / row:.2f}) in blocks of {block}")
        rows.append(
            (
                f"4 spurs of 3 stages, {', '.join(dict.fromkeys(sources))}",
                f"{', '.join(figures)} of the sum of the stages (goal 1.10)",
            )
        )
    return rows


def _many(count: int = 64) -> Strip:
    stages = tuple(s for k in range((count + 2) // 3) for s in _three(3 * k + 1))[:count]
    return Strip(split=Split(mode="left-right"), stages=stages)


def many_rows() -> list[tuple[str, str]]:
    """64 stages: opened, and changed while they play."""
    strip = _many()
    source = Source(path="none.wav", rate=RATE, frames=RATE)
    text = storage.encode(
        Session(sound=Sound(stems=(Stem(id=1000, name="many", source=source, strip=strip),)))
    )

    def opened() -> None:
        Chain(storage.decode(text).sound.stems[0].strip, RATE)

    opened()
    player = StripPlayer(strip, RATE)
    block = 0.1 * np.random.default_rng(0).standard_normal((2, PLAYED))
    clock, took, still = 0, [], []
    for k in range(240):
        if k % 6 == 0:
            side = msgspec.structs.replace(eight_bands(), bands=eight_bands().bands[: 1 + k // 6 % 8])
            stages = tuple(Eq(id=s.id, upper=side, lower=s.lower) if s.id == 2 else s for s in strip.stages)
            if k % 12 == 0:
                stages = (*stages[:30], *stages[31:])
            prepared = player.prepare(msgspec.structs.replace(strip, stages=stages))
            if prepared.wanted:
                prepared.hear(player.heard(prepared.wanted), clock)
            begin = time.perf_counter()
            player.take(prepared, clock)
            took.append(time.perf_counter() - begin)
        begin = time.perf_counter()
        player.process(block, clock)
        still.append(time.perf_counter() - begin)
        clock += PLAYED
    return [
        ("64 stages opened", f"{1000 * best(opened, 5):.0f} ms decoded and built (goal 300)"),
        (
            "64 stages, a change taken over",
            f"{1000 * np.median(took):.2f} ms in the middle, {1000 * max(took):.2f} at the most (goal 2); a block of "
            f"{PLAYED} takes {1000 * np.median(still):.2f} of its {1000 * PLAYED / RATE:.1f} ms",
        ),
    ]


def many_in_the_player_rows(folder: Path) -> list[tuple[str, str]]:
    """64 stages in the player's process: bands moved, stages put in and out, versions switched, eight times a second."""
    application = QCoreApplication.instance() or QCoreApplication([])
    strip, path = _many(), folder / "many.wav"
    soundfile.write(
        path, 0.1 * np.random.default_rng(0).standard_normal((RATE * 30, 2)), RATE, subtype="PCM_24"
    )
    other = msgspec.structs.replace(strip, stages=strip.stages[20:50])
    transport = Transport()

    def wait(seconds: float) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            application.processEvents()
            time.sleep(0.002)

    transport.start()
    source = Source(path=str(path), rate=RATE, frames=RATE * 30)
    sound = Sound(stems=(Stem(id=9999, name="bench", source=source, strip=strip),))
    transport.load(sound, 9999, 9999)
    while not transport.playing:
        transport.play()
        wait(0.5)
    wait(1.0)
    began = int(transport.status["updates"])
    for k in range(160):
        side = msgspec.structs.replace(eight_bands(), bands=eight_bands().bands[: 1 + k % 8])
        stages = tuple(Eq(id=s.id, upper=side, lower=s.lower) if s.id == 2 else s for s in strip.stages)
        if k % 4 == 1:
            stages = (*stages[:30], *stages[31:])
        heard = other if k % 8 == 7 else msgspec.structs.replace(strip, stages=stages)
        transport.update(tree.put_strip(sound, 9999, heard), 9999, 9999)
        wait(0.12)
    status = transport.status
    figures = (
        f"a block is held back {1000 * float(status['held_s']):.2f} ms at the most (goal 2) in "
        f"{int(status['updates']) - began} changes, {int(status['underruns'])} underruns"
    )
    transport.close()
    return [("64 stages changed in the player", figures)]


def kind_rows() -> list[tuple[str, str]]:
    sound = 0.1 * np.random.default_rng(0).standard_normal((2, RATE * 4))
    bands = Chain(Strip(split=Split(mode="left-right"), stages=(BandsStage(id=1),)), RATE)

    def act() -> None:
        for start in range(0, sound.shape[1], BLOCK):
            bands.process(sound[:, start : start + BLOCK], start)

    act()
    return [
        ("Bands, nothing inside", f"{4 / best(act, 5):6.0f} x real time"),
        ("Sub-octave, both legs", f"{4 / stage_seconds(Suboctave(id=1), sound):6.0f} x real time"),
    ]


def rows() -> list[tuple[str, str]]:
    with tempfile.TemporaryDirectory() as folder:
        return [*spur_rows(), *many_rows(), *many_in_the_player_rows(Path(folder)), *kind_rows()]
