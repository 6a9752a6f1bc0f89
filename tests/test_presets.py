"""Presets, edits of whole stages, the starting curve and the test generator."""

import numpy as np
import pytest
from conftest import RATE, noise, session_on, write_wav
from scipy import signal

from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.export import Exported, export
from stonekite.engine.offline.generator import generator_source
from stonekite.engine.offline.render import open_source
from stonekite.measure.spectrum import LongTermSpectrum, centres
from stonekite.session import edits, presets, storage, tree
from stonekite.session.types import Generator, Intake, Session, Sound, Split, Stem, Strip
from stonekite.stages.amp.voices import VOICES
from stonekite.stages.eq import Band, Eq, EqSide, response
from stonekite.stages.eq.match import matching_bands
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.registry import KINDS

SHIPPED, FAULTS = presets.listed([presets.SHIPPED])


MANY = {"amp": 36, "cabinet": 16}
"""Kinds that have presets for every voice or set-up; others have up to eight."""


def test_every_kind_ships_with_four_to_eight_presets():
    assert not FAULTS
    for kind in KINDS:
        names = [p.name for _, p in SHIPPED if p.kind == kind]
        assert 4 <= len(names) <= MANY.get(kind, 8) and len(set(names)) == len(names), kind
    voices = [p.stage.upper.voice for _, p in SHIPPED if p.kind == "amp"]
    assert all(voices.count(voice) >= 6 for voice in VOICES)
    assert sum(p.kind == "cabinet" for _, p in SHIPPED) >= 12
    assert 4 <= sum(p.scope == "strip" for _, p in SHIPPED) <= 8
    assert all(len(p.about) > 10 for _, p in SHIPPED)


@pytest.mark.parametrize(("path", "preset"), SHIPPED, ids=lambda x: getattr(x, "name", ""))
def test_every_shipped_preset_does_something_and_stays_finite(path, preset):
    sound = noise(0.3)
    if preset.scope == "strip":
        strip = presets.on_strip(preset, Strip(), 10)
    else:
        blank = KINDS[preset.kind].stage(id=3)
        stage = (
            presets.on_stage(preset, blank, 10)
            if preset.scope == "stage"
            else presets.on_leg(preset, blank, "lower")
        )
        strip = Strip(stages=(stage,))
    out = Chain(strip, RATE).process(sound, 0)
    assert np.isfinite(out).all() and not np.array_equal(out, sound)


def test_a_preset_comes_back_as_it_was_saved(tmp_path):
    stage = Eq(id=9, upper=EqSide(bands=(Band(gain_db=3),)), lower=None, linked=True)
    preset = presets.of_stage("Quay & side", stage, "for the quay")
    path = presets.path_for(preset, tmp_path / "new" / "folder")
    presets.save(preset, path)
    assert presets.load(path) == preset
    assert presets.on_stage(preset, Eq(id=4, inserted=False), 10) == edits.put(
        edits.put(stage, ("id",), 4), ("inserted",), False
    )
    leg = presets.of_leg("Left", stage, "upper")
    there = presets.on_leg(leg, Eq(id=4), "lower")
    assert there.lower == stage.upper and there.upper == EqSide()
    strip = Strip(intake=Intake(use="mono"), stages=(stage,), split=Split(mode="left-right"))
    kept = presets.of_strip("All", strip)
    made = presets.on_strip(kept, Strip(intake=Intake(use="left")), 20)
    assert made.intake == Intake(use="left") and made.stages[0].id == 20 and made.split.mode == "left-right"


@pytest.mark.parametrize(
    "text",
    [
        b"",
        b"{}",
        b"[]",
        b'{"name":"x","scope":"stage"}',
        b'{"name":"","scope":"strip","strip":{}}',
        b"\xff\xfe",
        b"{" * 9999,
    ],
)
def test_broken_presets_are_told_and_hide_no_others(tmp_path, text):
    (tmp_path / f"bad{presets.SUFFIX}").write_bytes(text)
    good = presets.of_stage("Good", Gain(id=1))
    presets.save(good, presets.path_for(good, tmp_path))
    found, faults = presets.listed([tmp_path, tmp_path / "not there"])
    assert [p for _, p in found] == [good] and len(faults) == 1 and "not a preset" in faults[0]


def test_a_preset_that_cannot_be_written_says_so(tmp_path):
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(presets.PresetError, match="was not written"):
        presets.save(presets.of_stage("x", Gain(id=1)), tmp_path / "file" / "x.kitepreset")


def test_links_keep_offsets_except_where_a_setting_is_unlinked():
    stage = Filter(id=1, linked=True, upper=FilterSide(high_pass_hz=100), lower=FilterSide(high_pass_hz=200))
    moved = edits.put_linked(stage, "upper", ("high_pass_hz",), 150.0)
    assert moved.lower.high_pass_hz == pytest.approx(300)
    free = edits.link_setting(stage, "high_pass_hz", False)
    assert edits.put_linked(free, "upper", ("high_pass_hz",), 150.0).lower.high_pass_hz == 200
    assert edits.put_linked(free, "upper", ("high_pass",), True).lower.high_pass
    assert edits.link_setting(free, "high_pass_hz", True) == stage


def test_copy_across_swap_and_reset():
    stage = Gain(id=5, upper=GainSide(gain_db=3), lower=GainSide(inverted=True), linked=True)
    assert edits.copied_across(stage, "upper").lower == GainSide(gain_db=3)
    assert edits.swapped(stage).upper == stage.lower and edits.swapped(edits.swapped(stage)) == stage
    assert edits.reset(stage) == Gain(id=5, linked=True)
    assert edits.reset(Gain(id=5, upper=None, lower=GainSide(gain_db=2))) == Gain(id=5, upper=None)


def test_a_pasted_stage_gets_an_id_of_its_own(recording):
    session, number = edits.add_stage(session_on(recording), tree.FIRST, "gain")
    stage = session.sound.stems[0].strip.stages[0]
    session, other = edits.insert_stage(session, tree.FIRST, stage, 0)
    assert other != number and [s.id for s in session.sound.stems[0].strip.stages] == [other, number]


def test_a_starting_curve_brings_one_spectrum_to_the_other():
    rng = np.random.default_rng(4)
    base = rng.standard_normal((2, RATE * 8)) * 0.05
    base[1] = signal.sosfilt(signal.butter(1, 700, fs=RATE, output="sos"), base[1])
    average = LongTermSpectrum(RATE)
    average.add(base)
    bright, dark = average.levels_db()
    f = centres()
    bands = matching_bands(bright, dark, f, RATE)
    assert 4 <= len(bands) <= 10
    curve = 20 * np.log10(np.abs(response(Eq(id=1, upper=EqSide(bands=bands)), "upper", f, RATE)))
    near = (f > 50) & (f < 6000)
    left = (dark - bright - curve)[near]
    print(f"starting curve: {np.std((dark - bright)[near]):.1f} dB apart before, {np.std(left):.2f} dB after")
    assert np.std(left) < 1.0
    assert matching_bands(bright, bright, f, RATE) == ()


def generated(**values) -> np.ndarray:
    with open_source(generator_source(Generator(level_db=-6.0, **values))) as reader:
        return reader.read(0, 10 * RATE)


def test_the_generator_gives_what_it_says():
    left, right = generated(signal="twin-tones", tone_hz=440, interval=12)
    size = np.abs(np.fft.rfft(left[RATE : 2 * RATE])), np.abs(np.fft.rfft(right[RATE : 2 * RATE]))
    assert [int(np.argmax(s)) for s in size] == [440, 880]
    assert np.abs(left).max() == pytest.approx(10 ** (-6 / 20), rel=1e-3)
    ticks = generated(signal="impulses", seconds=0.5)
    assert np.flatnonzero(ticks[0]).tolist() == list(range(0, 10 * RATE, RATE // 2))
    swept = generated(signal="sweep", low_hz=100, high_hz=1600, seconds=4.0)[0]
    crossings = np.flatnonzero(np.diff(np.signbit(swept[2 * RATE - 2400 : 2 * RATE + 2400])))
    assert (len(crossings) - 1) / 2 / ((crossings[-1] - crossings[0]) / RATE) == pytest.approx(400, rel=0.02)
    for wanted in (-1.0, 0.0, 0.6, 1.0):
        a, b = generated(signal="pink-noise", correlation=wanted)
        assert np.corrcoef(a, b)[0, 1] == pytest.approx(wanted, abs=0.05)
    f, power = signal.welch(a, RATE, nperseg=8192)
    steps = [10 * np.log10(power[np.argmin(np.abs(f - h))]) for h in (200, 400, 800, 1600, 3200)]
    assert np.diff(steps) == pytest.approx([-3.01] * 4, abs=1.2)


@pytest.mark.parametrize("kind", ["twin-tones", "sweep", "pink-noise", "impulses"])
def test_the_generator_is_the_same_wherever_it_is_read(kind, tmp_path):
    whole = generated(signal=kind)
    with open_source(generator_source(Generator(signal=kind, level_db=-6.0))) as reader:
        assert np.array_equal(reader.read(12_345, 777), whole[:, 12_345 : 12_345 + 777])
        assert reader.read(60 * RATE - 5, 100).shape == (2, 5)


def test_a_session_on_the_generator_saves_loads_and_renders(tmp_path):
    session = Session(sound=Sound(stems=(Stem(id=1, name="tones", source=generator_source()),)))
    path = tmp_path / "tones.kite"
    storage.save(session, path)
    assert storage.load(path) == session
    done = list(export(session, tmp_path / "tones.wav"))[-1]
    assert isinstance(done, Exported) and done.overs == 0 and write_wav
