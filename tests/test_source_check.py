"""Every verdict on signals made for it, none of them on ordinary ones, and the repairs that they offer."""

from functools import cache

import numpy as np
import pytest
from conftest import RATE, noise, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from stonekite.demos.demo import demo_path
from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.repair import repair_words, repaired
from stonekite.files.audio import Reader
from stonekite.measure.source_check import SourceCheck
from stonekite.measure.spectrum import band_at
from stonekite.measure.verdicts import Findings, verdicts
from stonekite.session.types import Intake, Strip
from stonekite.signal.matrix import COMPONENTS


def looked_at(sound: np.ndarray, rate: int = RATE, block: int = 7000) -> Findings:
    check = SourceCheck(rate)
    for start in range(0, sound.shape[1], block):
        check.add(sound[:, start : start + block])
    return check.findings()


def said(sound: np.ndarray, rate: int = RATE) -> dict[str, str]:
    return {v.fault: v.sentence for v in verdicts(looked_at(sound, rate))}


@cache
def music(
    seed: int, seconds: float = 5.0, centre: float = 1.0, wide: float = 0.4, rate: int = RATE
) -> np.ndarray:
    """Something like a recording: notes that come and go in the middle, others spread, and a room."""
    rng = np.random.default_rng(seed)
    frames = int(seconds * rate)
    t = np.arange(frames) / rate
    pink = signal.lfilter([1, -0.5], [1, -0.97], rng.standard_normal((3, frames)), axis=1)
    swell = 0.3 + 0.7 * np.abs(np.sin(2 * np.pi * rng.uniform(0.2, 0.6) * t))
    notes = np.zeros((3, frames))
    for _ in range(24):
        start, f = int(rng.uniform(0, seconds - 1) * rate), 110 * 2 ** rng.uniform(0, 4)
        ring = t[: min(rate, frames - start)]
        partials = sum(np.sin(2 * np.pi * f * k * ring) / k**1.5 for k in range(1, 6))
        notes[rng.integers(3), start : start + len(ring)] += np.exp(-3 * ring) * partials
    sources = 0.05 * pink * swell + 0.05 * notes
    middle, left, right = sources
    return np.stack([centre * middle + wide * left, centre * middle + wide * right]) * 0.3


MADE = {
    "silent": lambda: np.zeros((2, RATE)),
    "one-side-silent": lambda: music(1) * [[0.0], [1.0]],
    "nearly-silent": lambda: music(2) * [[1.0], [0.0005]],
    "mono": lambda: np.repeat(music(3)[:1], 2, axis=0),
    "mono-off-centre": lambda: np.repeat(music(4)[:1], 2, axis=0) * [[1.0], [0.5]],
    "inverted": lambda: music(5) * [[1.0], [-1.0]],
    "louder": lambda: music(6) * [[0.6], [1.0]],
    "offset": lambda: music(7) + np.array([[0.013], [0.0]]),
    "clipped": lambda: np.clip(music(8) * 25, -1, 1),
    "unrelated": lambda: np.stack([music(9, seconds=20.0)[0], music(10, seconds=20.0)[1]]),
    "late": lambda: late(music(11), 82.6),
    "narrow-band": lambda: np.stack([music(12)[0], signal.sosfilt(LOW_PASS, music(12)[1])]),
}
LOW_PASS = signal.ellip(12, 0.1, 100, 4000, fs=RATE, output="sos")


def late(sound: np.ndarray, samples: float) -> np.ndarray:
    """The right side late by a real number of samples, by a turn of its spectrum."""
    spectrum = np.fft.rfft(sound[1]) * np.exp(-2j * np.pi * np.fft.rfftfreq(sound.shape[1]) * samples)
    return np.stack([sound[0], np.fft.irfft(spectrum, sound.shape[1])])


@pytest.mark.slow
@pytest.mark.parametrize("fault", list(MADE))
def test_every_verdict_is_said_of_a_signal_made_for_it(fault):
    assert fault in said(MADE[fault]())


@pytest.mark.slow
def test_sentences_are_plain_and_hold_the_figures():
    assert said(MADE["late"]())["late"] == "Right is late by 1.72 ms (82.6 samples)."
    assert said(late(music(11), -20.0))["late"] == "Left is late by 0.42 ms (20.0 samples)."
    assert said(MADE["mono"]())["mono"] == "Both sides are identical: this is mono."
    assert said(MADE["inverted"]())["inverted"] == "Right is inverted."
    assert (
        said(MADE["louder"]())["louder"].startswith("Right is 4.4 dB")
        or "4." in said(MADE["louder"]())["louder"]
    )
    assert "Left has an offset of +1.3 %" in said(MADE["offset"]())["offset"]
    assert said(MADE["nearly-silent"]())["nearly-silent"].startswith("Right is nearly silent (−")


ORDINARY = list(zip(range(20, 44), [0.15, 0.3, 0.5, 0.6] * 6, strict=True))


@pytest.mark.slow
def test_ordinary_recordings_are_let_through():
    sounds = [music(seed, wide=wide) for seed, wide in ORDINARY]
    blamed = {k: v for k, sound in enumerate(sounds) for v in verdicts(looked_at(sound)) if not v.usual}
    print(f"{len(MADE)} verdicts right on their signals; {len(blamed)} said of {len(ORDINARY)} ordinary ones")
    assert not blamed


def test_of_the_demo_is_said_that_its_harp_is_nearer_to_the_left_microphone():
    with Reader(demo_path()) as reader:
        words = said(reader.read(0, reader.facts.frames), reader.facts.rate)
    assert set(words) == {"late", "louder", "width"}
    assert words["late"] == "Right is late by 0.35 ms (17.0 samples)."


def test_the_usual_width_is_told():
    mid, side = noise(4.0)
    side = side - mid * np.dot(side, mid) / np.dot(mid, mid)
    side *= 10 ** (-6.7 / 20) * np.linalg.norm(mid) / np.linalg.norm(side)
    words = said(np.stack([mid + side, mid - side]))
    assert words == {"width": "Side is 6.7 dB under Mid: a usual width."}


@pytest.mark.slow
@given(st.sampled_from([-1, 1]), st.floats(-1500, 1500), st.integers(0, 20))
@settings(max_examples=8, deadline=None)
def test_polarity_and_time_are_right_at_20_db_of_noise(polarity, samples, seed):
    rng = np.random.default_rng(seed)
    base = rng.standard_normal(1 << 17)
    sound = 0.1 * late(np.stack([base, polarity * base]), samples) + 0.01 * rng.standard_normal((2, 1 << 17))
    found = looked_at(sound)
    assert found.polarity == polarity and found.offset_samples == pytest.approx(samples, abs=0.05)
    assert ("inverted" in said(sound)) == (polarity < 0)


def test_nothing_is_said_of_time_and_polarity_without_confidence():
    sound = -0.1 * np.random.default_rng(3).standard_normal((2, 5 * RATE))
    assert looked_at(sound).confidence < 0.5
    assert not {"late", "inverted"} & set(said(sound))


def test_tones_that_fit_themselves_again_give_no_confidence():
    t = np.arange(4 * RATE) / RATE
    for left, right in ((440, 440), (440, 659), (100, 8000)):
        tones = 0.3 * np.stack([np.sin(2 * np.pi * left * t), np.sin(2 * np.pi * right * (t - 0.0004))])
        assert looked_at(tones).confidence < 0.5
        assert not {"late", "inverted"} & set(said(tones))


@pytest.mark.slow
@pytest.mark.parametrize(
    "fault", ["one-side-silent", "nearly-silent", "inverted", "late", "louder", "offset", "narrow-band"]
)
def test_the_repair_takes_the_verdict_away(fault):
    sound = MADE[fault]()
    found = looked_at(sound)
    verdict = next(v for v in verdicts(found) if v.fault == fault)
    assert repair_words(verdict)
    intake = repaired(Intake(), verdict, found)
    assert intake != Intake() and repaired(intake, verdict, found) == intake
    chain = Chain(Strip(intake=intake), RATE)
    out = chain.process(np.concatenate([sound, np.zeros((2, chain.latency))], axis=1), 0)[:, RATE // 2 :]
    assert fault not in said(out)


def test_of_next_to_nothing_nothing_is_said():
    assert list(said(np.array([[0.5], [0.2]]))) == ["short"]
    assert list(said(noise(0.1))) == ["short"]


@pytest.mark.slow
def test_what_cannot_be_repaired_offers_nothing():
    for fault in ("silent", "clipped", "unrelated"):
        found = looked_at(MADE[fault]())
        verdict = next(v for v in verdicts(found) if v.fault == fault)
        assert repair_words(verdict) is None and repaired(Intake(), verdict, found) == Intake()


def test_figures_of_a_made_signal():
    sound = sine(997, 4.0, -20)
    sound[1] = 0.25 * np.random.default_rng(1).standard_normal(sound.shape[1])
    left, right = (looked_at(sound).components[name] for name in ("left", "right"))
    assert left.lufs == pytest.approx(-23.01, abs=0.05) and left.peak_dbfs == pytest.approx(-20, abs=0.01)
    assert left.bandwidth_hz == pytest.approx(997, abs=90) and right.bandwidth_hz > 23_000
    low = signal.sosfilt(signal.ellip(12, 0.1, 120, 11_000, fs=RATE, output="sos"), sound[1])
    assert looked_at(np.stack([low, low])).components["mid"].bandwidth_hz == pytest.approx(11_000, rel=0.1)


@pytest.mark.parametrize("block", [1, 3, 50, 1000])
def test_clipped_samples_are_counted_whatever_the_block_size(block):
    row = np.array([0.1, 1, 1, 1, 0.9, -1, -1, 0.95, 0.95, 0.95, 0.95, 0.2, 0.5, 0.5, 0.5, -1, -1, -1])
    found = looked_at(np.stack([row, 0.5 * row]), block=block)
    assert found.components["left"].clipped == 3 + 4 + 3 and found.components["right"].clipped == 0


@pytest.mark.slow
@pytest.mark.parametrize("bleed_db", [-31.0, -34.0, -40.0])
def test_two_tracks_that_run_into_each_other_a_little_are_still_two(bleed_db):
    for seed in (21, 31, 41):
        tracks = np.stack([music(seed, seconds=20.0)[0], music(seed + 1, seconds=20.0)[1]])
        tracks /= np.std(tracks, axis=1, keepdims=True) * 10
        assert "unrelated" in said(tracks + 10 ** (bleed_db / 20) * tracks[::-1])


@pytest.mark.slow
@pytest.mark.parametrize("hertz", [0.3, 0.7, 1.0, 2.3, 7.0])
def test_rumble_is_no_offset(hertz):
    t = np.arange(int(9.7 * RATE)) / RATE
    rumble = 0.05 * np.sin(2 * np.pi * hertz * t + 0.4)
    assert "offset" not in said(music(7, seconds=9.7) + rumble)
    assert "offset" in said(music(7, seconds=9.7) + 0.1 * rumble + 0.02)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_spectra_have_each_tone_at_its_level_in_its_component(rate):
    left, right = sine(1000.0, 4.0, -6.02, rate)[0], sine(5000.0, 4.0, -26.02, rate)[0]
    found = looked_at(np.stack([left, right]), rate)
    levels = dict(zip(COMPONENTS, np.array(found.spectra_db), strict=True))
    low, high = band_at(1000.0), band_at(5000.0)
    assert levels["left"][low] == pytest.approx(-6.02, abs=0.1)
    assert levels["right"][high] == pytest.approx(-26.02, abs=0.1)
    for name in ("mid", "side"):
        assert levels[name][low] == pytest.approx(-12.04, abs=0.1)
        assert levels[name][high] == pytest.approx(-32.04, abs=0.1)
    assert levels["left"][high] < -90 and levels["right"][low] < -90


def test_the_image_over_time_follows_what_happens():
    sound, other = 0.1 * np.random.default_rng(3).standard_normal((2, 8 * RATE))
    right = np.concatenate(
        [sound[: 2 * RATE], -0.5 * sound[2 * RATE : 4 * RATE], other[4 * RATE : 6 * RATE], np.zeros(2 * RATE)]
    )
    course = looked_at(np.stack([sound, right])).course
    at = [round(second / course.step_s) for second in (1, 3, 5, 7)]
    together, against, apart, alone = (course.correlation[k] for k in at)
    assert together == pytest.approx(1.0, abs=1e-3) and against == pytest.approx(-1.0, abs=1e-3)
    assert abs(apart) < 0.1 and alone is None
    assert course.balance_db[at[0]] == pytest.approx(0.0, abs=0.01)
    assert course.balance_db[at[1]] == pytest.approx(6.02, abs=0.01)
    assert len(course.correlation) == len(course.balance_db) <= 400
