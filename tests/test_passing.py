"""What goes through a stage over a range, by frequency and time, against what is known of tones."""

import msgspec
import numpy as np
import pytest
from conftest import write_wav

from stonekite.engine.offline.passing import COLUMNS, passing
from stonekite.measure.spectrum import BANDS, band_at
from stonekite.session.types import Source, Split, Stem, Strip
from stonekite.stages.eq import Band, Eq, EqShared, EqSide, response
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.limiter import Limiter


def seen(stem: Stem, number: int, start: int, frames: int) -> np.ndarray:
    steps = passing(stem, number, start, frames)
    while True:
        try:
            next(steps)
        except StopIteration as end:
            return end.value


def steps_of_tones(rate: int, seconds: float, hz: list[float]) -> np.ndarray:
    """Tones of -20 dBFS one after the other, on the left."""
    t = np.arange(int(seconds * rate)) / rate
    which = np.minimum((t / seconds * len(hz)).astype(int), len(hz) - 1)
    wave = 0.1 * np.sin(2 * np.pi * np.array(hz)[which] * t)
    return np.stack([wave, np.zeros_like(wave)])


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_tones_stand_where_and_when_they_sound(tmp_path, rate, phase):
    """Before and after a stage that is late, behind another one that is late, from the middle of the recording."""
    tones = [300.0, 1000.0, 5000.0, 12_000.0]
    path = write_wav(tmp_path / "tones.wav", steps_of_tones(rate, 8.0, tones), rate)
    bell = EqSide(bands=(Band(frequency_hz=5000.0, gain_db=-12.0, q=1.0),))
    stage = Eq(id=3, upper=bell, lower=bell, shared=EqShared(phase=phase))
    strip = Strip(split=Split(mode="left-right"), stages=(Limiter(id=2), stage))
    source = Source(path=str(path), frames=8 * rate, rate=rate)
    for start, frames in ((0, 8 * rate), (2 * rate, 4 * rate)):
        levels = seen(Stem(id=1, name="tones", source=source, strip=strip), 3, start, frames)
        columns = levels.shape[2]
        assert levels.shape == (4, BANDS, columns) and columns == min(COLUMNS, 60 * frames // rate)
        assert levels[1].max() < -140.0 and levels[3].max() < -140.0
        for k, hz in enumerate(tones):
            first, last = (columns * (2 * (k + n) * rate - start) / frames for n in (0, 1))
            if last <= 0 or first >= columns:
                continue
            part = slice(int(max(0, first)) + 6, int(min(columns, last)) - 6)
            band = band_at(hz)
            assert np.abs(levels[0][band, part] + 20.0).max() < 0.6, hz
            gone = levels[0][band, part] - levels[2][band, part]
            turned_down = -20 * np.log10(np.abs(response(stage, "upper", np.array([hz]), rate)))
            assert np.abs(gone - turned_down).max() < 0.2, hz
            quiet = [band_at(other) for other in tones if other != hz]
            assert levels[0][quiet, part].max() < -60.0, hz


def test_a_long_recording_has_as_many_columns_and_a_short_one_at_least_one(tmp_path):
    rate = 8_000
    sound = 0.1 * np.random.default_rng(2).standard_normal((2, 600 * rate))
    side = FilterSide(high_pass=True, high_pass_hz=1000.0)
    strip = Strip(stages=(Filter(id=2, upper=side, lower=side),))
    path = write_wav(tmp_path / "long.wav", sound, rate)
    stem = Stem(
        id=1, name="long", source=Source(path=str(path), frames=sound.shape[1], rate=rate), strip=strip
    )
    levels = seen(stem, 2, 0, sound.shape[1])
    assert levels.shape == (4, BANDS, COLUMNS)
    low, high = band_at(100.0), band_at(2500.0)
    for leg in range(2):
        assert np.abs(levels[leg] - levels[leg].mean(axis=1, keepdims=True))[high].max() < 6.0
        assert (levels[leg] - levels[2 + leg])[low].min() > 20.0
        assert np.abs(levels[leg] - levels[2 + leg])[high].max() < 1.0
    assert seen(stem, 2, 100, 1).shape == (4, BANDS, 1)
    assert seen(stem, 2, sound.shape[1] - 1, 9_999).shape == (4, BANDS, 1)
    gone = msgspec.structs.replace(
        stem, strip=Strip(stages=(msgspec.structs.replace(strip.stages[0], inserted=False),))
    )
    there = seen(gone, 2, 0, 5 * rate)
    assert np.array_equal(there[:2], there[2:]) and there.max() > -60.0
