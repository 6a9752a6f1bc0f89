"""The delay of each leg: exact, beside legs, spurs and the unprocessed that stay, and what is said of it."""

import msgspec
import numpy as np
import pytest
from conftest import session_on, write_wav
from test_two_files import moved, music

from stonekite.engine.offline.render import open_source, rendered
from stonekite.session import storage
from stonekite.session.leg_delay import told
from stonekite.session.spur import Spur
from stonekite.session.types import Leg, Split, Strip
from stonekite.signal.matrix import MATRICES, decode, encode
from stonekite.stages.branch import Branch
from stonekite.stages.gain import Gain


def sound_of(session, tail=0.0):
    stem = session.sound.stems[0]
    with open_source(stem.source) as reader:
        pairs = list(rendered(reader, stem.strip, tail=tail))
    return tuple(np.concatenate(part, axis=1) for part in zip(*pairs, strict=True))


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
@pytest.mark.parametrize("delay_ms", [0.01, 0.37, 5.0, 17.3141, 640.0])
def test_a_leg_is_late_by_parts_of_a_sample(tmp_path, rate, delay_ms):
    rng = np.random.default_rng(3)
    size = int(1.2 * rate)
    # Up to 18 kHz or 0.41 of the rate, where the filter that delays is exact.
    spectrum = np.fft.rfft(rng.standard_normal((2, size)))
    spectrum[:, np.fft.rfftfreq(size, 1 / rate) > min(18_000, 0.41 * rate)] = 0
    sound = np.fft.irfft(spectrum, size) * np.hanning(size)
    path = write_wav(tmp_path / "a.wav", 0.5 * sound / np.abs(sound).max(), rate, "DOUBLE")
    session = session_on(path, Strip(split=Split(mode="left-right"), lower=Leg(delay_ms=delay_ms)))
    dry, wet = sound_of(session)
    assert np.array_equal(wet[0], dry[0])  # the other leg and the unprocessed stay
    samples = delay_ms * 1e-3 * rate
    assert np.allclose(wet[1], moved(dry[1], samples)[: wet.shape[1]], atol=2e-5)
    # The delay as the slope of the phase, weighted by the power: to a thousandth of a sample.
    one, two = np.fft.rfft(dry[1], 4 * size), np.fft.rfft(wet[1], 4 * size)
    f = np.fft.rfftfreq(4 * size)
    turn = np.unwrap(np.angle(two * np.conj(one) * np.exp(2j * np.pi * f * round(samples))))
    keep = np.abs(one) > 1e-3 * np.abs(one).max()
    if samples < 0.5 * size:  # what is late is cut off with the recording
        weights = (np.abs(one) * f)[keep] ** 2
        slope = np.sum(weights * -turn[keep] / (2 * np.pi * np.maximum(f[keep], 1e-9))) / weights.sum()
        assert slope + round(samples) == pytest.approx(samples, abs=1e-3 if samples < 0.1 * size else 1.0)


@pytest.mark.parametrize("matrix", MATRICES)
def test_spurs_stay_and_the_tail_is_as_long_as_the_delay(tmp_path, matrix):
    path = write_wav(tmp_path / "a.wav", music(1.0, 2), subtype="DOUBLE")
    spur = Spur(name="dry", branch=Branch(id=3, stages=(Gain(id=4),)), source="both")
    strip = Strip(split=Split(matrix=matrix), upper=Leg(delay_ms=7.3333), spurs=(spur,))
    session = session_on(path, strip)
    dry, wet = sound_of(session, tail=None)
    alone = msgspec.structs.replace(strip, spurs=(), upper=Leg(delay_ms=7.3333))
    legs = sound_of(session_on(path, alone), tail=None)[1]
    count = min(wet.shape[1], legs.shape[1], dry.shape[1])
    assert np.allclose(wet[:, :count] - legs[:, :count], dry[:, :count], atol=1e-12)
    assert wet.shape[1] > 48_000 and np.abs(wet[:, 48_000 : 48_000 + 300]).max() > 1e-4
    parts = encode(dry, matrix)
    late = moved(parts[0], 7.3333e-3 * 48_000)[: legs.shape[1]]
    wanted = decode(np.stack([late[:count], parts[1][:count]]), matrix)
    assert np.allclose(legs[:, 200 : count - 400], wanted[:, 200 : count - 400], atol=1e-4)


def test_what_is_said_of_mono_is_so(tmp_path):
    for delay_ms, level_db in ((0.5, 0.0), (1.2, -6.0), (3.0, 0.0)):
        tones = []
        words = told(Strip(split=Split(mode="left-right"), lower=Leg(delay_ms=delay_ms, level_db=level_db)))
        assert words.nulls_hz[0] == pytest.approx(500.0 / delay_ms, rel=1e-6)
        for hertz in (words.nulls_hz[0], words.nulls_hz[1], 1000.0 / delay_ms):
            t = np.arange(24_000) / 48_000
            sound = np.repeat(0.25 * np.sin(2 * np.pi * hertz * t)[None], 2, axis=0)
            path = write_wav(tmp_path / "t.wav", sound, subtype="DOUBLE")
            strip = Strip(split=Split(mode="left-right"), lower=Leg(delay_ms=delay_ms, level_db=level_db))
            wet = sound_of(session_on(path, strip))[1]
            fold = (wet[0] + wet[1])[4_000:20_000]
            tones.append(20 * np.log10(np.abs(fold).max() / 0.5 + 1e-9))
        assert tones[0] - tones[2] <= words.depth_db + 0.2 and tones[1] - tones[2] <= words.depth_db + 0.4
        if level_db:
            assert words.depth_db == pytest.approx(tones[0] - tones[2], abs=0.2)
    side = told(Strip(lower=Leg(delay_ms=5.0)))
    assert not side.nulls_hz and "mono" in side.sentence.lower()
    assert told(Strip(lower=Leg(delay_ms=0.0))).sentence == ""
    haas = told(Strip(split=Split(mode="left-right"), upper=Leg(delay_ms=12.0)))
    assert "right" in haas.sentence


def test_a_session_keeps_it_and_the_row_takes_samples_and_metres(window, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "a.wav", music(1.0, 2)))
    row = window.leg_rows["lower"]
    for text, wanted in (("48 samples", 1.0), ("3.43 m", 10.0), ("2.5", 2.5)):
        row.delay.type_value(text)
        row.delay._edit.setText(text)
        row.delay._edit.returnPressed.emit()
        row.delay._typed()
        assert window.document.strip.lower.delay_ms == pytest.approx(wanted, abs=1e-6)
    assert row.words.text()
    storage.save(window.document.session, tmp_path / "s.kite")
    assert storage.load(tmp_path / "s.kite").sound == window.document.session.sound
