"""What several strips cost beside the sum of them, how fast a mix is rendered, and what an edit in one of many takes."""

import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from stonekite.desktop.model.demo_reel import reel_session
from stonekite.desktop.model.document import Document
from stonekite.engine.graph.chain import Chain
from stonekite.engine.mix.kept import playing, with_kept
from stonekite.engine.mix.layout import Layout, laid_out
from stonekite.engine.mix.mixer import Mixer
from stonekite.engine.offline.export import export
from stonekite.engine.offline.keeping import keep
from stonekite.engine.offline.made import feeds
from stonekite.engine.offline.render import open_source
from stonekite.engine.offline.slowing import slowed
from stonekite.engine.play.playback import Playback
from stonekite.files.kept import Result
from stonekite.session import tree
from stonekite.session.mix import mix_edits, places
from stonekite.session.types import MIX, Bus, Mix, Session, Sound, Source, Stem, Strip
from stonekite.stages.compressor import Compressor
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.gate import Gate
from stonekite.stages.registry import KINDS

RATE, BLOCK, SECONDS, TURNS, STEMS = 48_000, 1024, 2, 4, 24


def _strip(first: int) -> Strip:
    """Filter, EQ of eight bands, compressor and gate."""
    bands = EqSide(bands=tuple(Band(frequency_hz=60.0 * 2**k, gain_db=3.0) for k in range(8)))
    side = FilterSide(high_pass=True)
    return Strip(
        stages=(
            Filter(id=first, upper=side, lower=side),
            Eq(id=first + 1, upper=bands, lower=bands),
            Compressor(id=first + 2),
            Gate(id=first + 3),
        )
    )


def _sound(stems: int) -> Sound:
    """So many stems into three buses and the mix."""
    source = Source(path="none", rate=RATE, frames=10 * RATE)
    return Sound(
        stems=tuple(
            Stem(id=10_000 + k, name=str(k), source=source, strip=_strip(10 * k + 1), into=20_000 + k % 3)
            for k in range(stems)
        ),
        buses=tuple(Bus(id=20_000 + k, name=f"bus {k}", strip=_strip(5000 + 10 * k)) for k in range(3)),
        mix=Mix(strip=_strip(9000)),
    )


def _mixed(layout: Layout, sound: np.ndarray) -> float:
    mixer = Mixer(layout, RATE)
    begun = time.process_time()
    for start in range(0, sound.shape[1] - BLOCK, BLOCK):
        mixer.process(sound[:, start : start + BLOCK], start)
    return (time.process_time() - begun) / SECONDS


def _summed(layout: Layout, sound: np.ndarray) -> float:
    chains = [Chain(strip, RATE) for strip in layout.strips.values()]
    begun = time.process_time()
    for start in range(0, sound.shape[1] - BLOCK, BLOCK):
        for k, chain in enumerate(chains):
            row = 2 * (k % STEMS)
            chain.process(sound[row : row + 2, start : start + BLOCK], start)
    return (time.process_time() - begun) / SECONDS


def _edit_s(stems: int) -> float:
    """What the document takes for a level in the mix, in seconds."""
    document = Document()
    document.open(tree.counted(Session(sound=_sound(stems))))
    took = []
    for k in range(60):
        session = mix_edits.put_fader(document.session, 10_000, "level_db", -0.1 * k)
        begun = time.perf_counter()
        document.edit(session, "level", "drag")
        took.append(time.perf_counter() - begun)
    return float(np.median(took))


def _kept_row() -> tuple[str, str]:
    """What heavy stems cost to play, computed and once they are kept."""
    count, seconds = 4, 6
    heavy = [KINDS[name].stage for name in ("noise", "amp", "cabinet")]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "noise.wav"
        soundfile.write(path, 0.03 * np.random.default_rng(1).standard_normal((seconds * RATE, 2)), RATE)
        source = Source(path=str(path), rate=RATE, frames=seconds * RATE)
        stems = tuple(
            Stem(
                id=100 * k,
                name=str(k),
                source=source,
                strip=Strip(stages=tuple(kind(id=100 * k + n) for n, kind in enumerate(heavy, 1))),
            )
            for k in range(1, count + 1)
        )
        sound = Sound(stems=stems)
        results = {}
        for stem in stems:
            keeping = keep(places.as_stem(sound, stem.id), Path(folder), (), least=0.0)
            try:
                while True:
                    next(keeping)
            except StopIteration as end:
                results[stem.id] = playing(Result(end.value))
        took = []
        for there in ({}, results):
            playback = Playback(feeds(sound, open_source), laid_out(sound))
            playback.update(*with_kept(laid_out(sound), {}, there))
            playback.hear(MIX)
            playback.play()
            playback.read(RATE)
            begun = time.process_time()
            for _ in range((seconds - 2) * RATE // BLOCK):
                playback.read(BLOCK)
            took.append((time.process_time() - begun) / (seconds - 2) / count)
    return (
        "A stem of noise reduction, amp and cabinet, played",
        f"{100 * took[0]:.1f} % of a core computed, {100 * took[1]:.2f} % once it is kept",
    )


def rows() -> list[tuple[str, str]]:
    """Rows of the bench, each a name and a figure."""
    layout = laid_out(_sound(STEMS))
    noise = 0.1 * np.random.default_rng(1).standard_normal((2 * STEMS, SECONDS * RATE))
    turns = [(_mixed(layout, noise), _summed(layout, noise)) for _ in range(TURNS)]
    mixed, summed = min(a for a, _ in turns), min(b for _, b in turns)
    found = [
        (
            f"{STEMS} stems, 3 buses, the mix: filter, EQ, compressor, gate in each",
            f"{100 * mixed:.0f} % of a core (goal 25), {mixed / summed:.2f} times the sum of them (goal 1.05)",
        )
    ]
    session = reel_session()
    with tempfile.TemporaryDirectory() as folder:
        rate, frames = places.timeline(session.sound)
        took = []
        for _ in range(TURNS):
            begun = time.perf_counter()
            list(export(session, Path(folder) / "mix.wav", force=True))
            took.append(time.perf_counter() - begun)
    found.append(("The reel rendered", f"{frames / rate / min(took):.0f} times real time (goal of a mix 15)"))
    found.append(_kept_row())
    one, many = _edit_s(1), _edit_s(64)
    found.append(("An edit among 64 stems", f"{many * 1e6:.0f} us, {many / one:.2f} times one (goal 1.2)"))
    range_s = 10.0
    begun = time.perf_counter()
    slowed(noise[:2, : int(range_s * RATE)], RATE, 0.5)
    took_s = time.perf_counter() - begun
    found.append(("A range slowed to half", f"{noise.shape[1] / RATE / took_s:.0f} times real time"))
    return found
