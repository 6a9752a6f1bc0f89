"""Random sounds of several strips: stems, buses and sends, drawn with a seed."""

from pathlib import Path

import msgspec
import numpy as np
from conftest import RATE, write_wav
from trees import drawn, drawn_stage, drawn_strip

from stonekite.session import edits, tree
from stonekite.session.mix.fader import Fader, Send
from stonekite.session.mix.wires import can_go, going_on
from stonekite.session.types import MIX, Bus, Mix, Sound, Source, Stem, Strip
from stonekite.stages.base import HEARD, LEGS, Key
from stonekite.stages.registry import KINDS


def recording(path: Path, stereo: np.ndarray, rate: int = RATE) -> Source:
    """A recording of its own, as doubles."""
    write_wav(path, stereo, rate, "DOUBLE")
    return Source(path=str(path), rate=rate, frames=stereo.shape[1])


def drawn_fader(rng: np.random.Generator) -> Fader:
    fader = drawn(Fader, rng)
    return msgspec.structs.replace(
        fader, level_db=max(-30.0, fader.level_db), muted=rng.random() < 0.1, alone=rng.random() < 0.1
    )


def drawn_sound(seed: int, sources: list[Source], buses: int = 3, strips: bool = True) -> Sound:
    """Stems of these sources and buses joined at random, without circles, each strip with a stage or two."""
    rng = np.random.default_rng(seed)
    count = len(sources) + buses

    def strip(k: int) -> Strip:
        return drawn_strip(100 * seed + k, spurs=int(rng.integers(2)), stages=1) if strips else Strip()

    stems = tuple(
        Stem(id=k + 1, name=f"stem {k}", source=source, strip=strip(k), start_s=float(rng.choice([0.0, rng.uniform(0, 0.5)])))
        for k, source in enumerate(sources)
    )  # fmt: skip
    made = tuple(
        Bus(id=len(sources) + k + 1, name=f"bus {k}", strip=strip(50 + k), fader=drawn_fader(rng))
        for k in range(buses)
    )
    sound = Sound(
        stems=tuple(msgspec.structs.replace(stem, fader=drawn_fader(rng)) for stem in stems),
        buses=made,
        mix=Mix(strip=strip(99)),
    )
    for number in range(1, count + 1):
        targets = [bus.id for bus in sound.buses if can_go(sound, number, bus.id)]
        name, k = ("stems", number - 1) if number <= len(sources) else ("buses", number - 1 - len(sources))
        row = list(getattr(sound, name))
        into = int(rng.choice([MIX, *targets]))
        row[k] = msgspec.structs.replace(row[k], into=into)
        joined = msgspec.structs.replace(sound, **{name: tuple(row)})
        sends = []
        for to in targets:
            if rng.random() < 0.4 and can_go(joined, number, to):
                sends.append(Send(to=to, level_db=float(rng.uniform(-20, 6)), before=bool(rng.integers(2))))
                row[k] = msgspec.structs.replace(row[k], sends=tuple(sends))
                joined = msgspec.structs.replace(joined, **{name: tuple(row)})
        sound = joined
    return keyed(sound, rng) if strips else sound


def keyed(sound: Sound, rng: np.random.Generator) -> Sound:
    """A sound in which some strips have a detector more that hears another strip, wherever there is no circle."""
    for path, one in list(tree.holders(sound)):
        number = tree.number_of(one)
        others = [other.id for other in going_on(sound) if can_go(sound, other.id, number)]
        if not others or rng.random() < 0.5:
            continue
        heard = [str(rng.choice(list(HEARD))) for _ in LEGS]
        key = Key(strip=int(rng.choice(others)), upper=heard[0], lower=heard[1])
        kind = KINDS[str(rng.choice([tag for tag, kind in KINDS.items() if kind.hears_key]))]
        stage = msgspec.structs.replace(
            drawn_stage(kind.stage.__struct_config__.tag, rng, 70_000 + number), key=key
        )
        stages = (*one.strip.stages, stage) if rng.random() < 0.5 else (stage, *one.strip.stages)
        strip = msgspec.structs.replace(one.strip, stages=stages)
        sound = edits.put(sound, (*path, "strip"), strip)
    return sound
