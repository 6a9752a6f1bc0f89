"""What a stage makes of two tones: of a test pair, or of the strongest tone on each side of the recording."""

from typing import NamedTuple

import msgspec
import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.hearing import before_stage
from stonekite.measure import tones
from stonekite.measure.spectrum import BandMap
from stonekite.session import tree
from stonekite.session.types import Split, Stem, Strip
from stonekite.signal.generators import twin_tones
from stonekite.stages.base import Stage

TEST_HZ = (317.0, 443.0)
"""Prime, so that no two products of low order fall together."""
TEST_DB = -12.0
_EXCERPT_S = 1.4


class Found(NamedTuple):
    """Frequencies of the two tones (0 if there are none), the levels of all their products, and of the programme the
    spectra in dB: left and right before, left and right after (4, BANDS).
    """

    first_hz: float
    second_hz: float
    lines: list[tones.Line]
    spectra: np.ndarray | None


def _through(stage: Stage, split: Split, sound: np.ndarray, rate: float, position: int) -> np.ndarray:
    """Sound (2, frames) through one stage, split and joined, its latency taken out."""
    inserted = msgspec.structs.replace(stage, inserted=True, change_only=False)
    chain = Chain(Strip(split=split, stages=(inserted,)), rate)
    ends = np.zeros((2, chain.latency))
    return chain.process(np.concatenate([sound, ends], axis=1), position)[:, chain.latency :]


def test_pair(stage: Stage, split: Split, rate: float) -> Found:
    """A tone on the left and another one on the right, each with a peak of TEST_DB."""
    second = int(rate)
    sound = 10 ** (TEST_DB / 20) * twin_tones(0, 2 * second, rate, *TEST_HZ)
    made = _through(stage, split, sound, rate, 0)
    before, after = (tones.Spectrum(part[:, -second:], rate, periodic=True) for part in (sound, made))
    return Found(*TEST_HZ, tones.lines(before, after, *TEST_HZ, min(20_000.0, rate / 2)), None)


def programme(stem: Stem, number: int, frame: int) -> Found:
    """The strongest tones on the left and the right around a frame of the recording, where the stage hears them."""
    strip = stem.strip
    rate = stem.source.rate
    _, stage = tree.find(strip, number)
    inserted = Chain(Strip(split=strip.split, stages=(stage,)), rate)
    wanted = int(_EXCERPT_S * rate)
    begin = max(0, min(frame - wanted // 2, stem.source.frames - wanted))
    legs, upstream, early = before_stage(stem, number, begin, wanted, inserted.memory)
    heard = upstream.join(legs)
    made = _through(stage, strip.split, heard, rate, begin - early)
    parts = [part[:, -wanted:] for part in (heard, made)]
    before, after = (tones.Spectrum(part, rate) for part in parts)
    bands = BandMap(rate, parts[0].shape[1], 1 / 24)
    spectra = np.concatenate([bands.levels_db(part.power) for part in (before, after)])
    first = before.strongest(0)
    second = before.strongest(1, apart_from=first) if first is not None else None
    if first is None or second is None:
        return Found(0.0, 0.0, [], spectra)
    return Found(first, second, tones.lines(before, after, first, second, min(20_000.0, rate / 2)), spectra)
