"""Levels, correlation, noise floor and alignment against closed forms."""

import math

import numpy as np
import pytest
from conftest import noise, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from stonekite.measure.summary import Figures, Summary, plain
from stonekite.signal.alignment import Alignment, Offset


def figures(sound: np.ndarray, rate: int = 48_000) -> Figures:
    summary = Summary(rate)
    for start in range(0, sound.shape[1], 5000):
        summary.add(sound[:, start : start + 5000])
    return summary.figures()


def test_sine_in_mid_and_cosine_in_side():
    t = np.arange(48_000) / 48_000
    mid, side = 0.5 * np.sin(2 * np.pi * 1000 * t), 0.25 * np.cos(2 * np.pi * 1000 * t)
    found = figures(np.stack([mid + side, mid - side]))
    assert found.components["mid"].rms_dbfs == pytest.approx(20 * math.log10(0.5 / math.sqrt(2)), abs=1e-6)
    assert found.components["side"].peak_dbfs == pytest.approx(20 * math.log10(0.25), abs=1e-6)
    assert found.components["mid"].crest_db == pytest.approx(3.0103, abs=1e-3)
    assert found.side_to_mid_db == pytest.approx(-6.0206, abs=1e-4)
    assert found.correlation == pytest.approx((0.25 - 0.0625) / (0.25 + 0.0625), abs=1e-6)
    assert found.mono_loss_db == pytest.approx(10 * math.log10(1.25), abs=1e-4)


@pytest.mark.parametrize("wanted", [-1.0, -0.4, 0.0, 0.7, 1.0])
def test_correlation_of_made_noise(wanted):
    rng = np.random.default_rng(5)
    a, b = rng.standard_normal((2, 400_000))
    sound = 0.1 * np.stack([a, wanted * a + math.sqrt(1 - wanted**2) * b])
    assert figures(sound).correlation == pytest.approx(wanted, abs=0.01)


def test_noise_floor_is_that_of_the_quiet_frames():
    rng = np.random.default_rng(2)
    sound = 0.001 * rng.standard_normal((2, 48_000 * 4))
    sound[:, 48_000 : 48_000 * 3] += sine(440, 2, -10)
    floor = figures(sound).components["left"].noise_floor_dbfs
    assert floor == pytest.approx(-60, abs=1.0)


def test_silence_and_one_side():
    silent = plain(figures(np.zeros((2, 48_000))))
    assert silent["correlation"] is None and silent["integrated_lufs"] is None
    assert silent["components"]["mid"]["rms_dbfs"] is None
    one = plain(figures(sine(440, 1, -12) * np.array([[1.0], [0.0]])))
    assert one["correlation"] is None and one["side_to_mid_db"] == pytest.approx(0.0)
    assert one["components"]["right"]["peak_dbfs"] is None


def test_one_sample():
    assert figures(np.full((2, 1), 0.5)).sample_peak_dbfs == pytest.approx(-6.02, abs=0.01)


def offset(sound: np.ndarray, rate: int = 48_000) -> Offset:
    meter = Alignment(rate)
    for start in range(0, sound.shape[1], 7000):
        meter.add(sound[:, start : start + 7000])
    return meter.offset()


@given(st.floats(-2000, 2000), st.sampled_from([1, -1]), st.integers(0, 5))
@settings(max_examples=12, deadline=None)
def test_offset_and_polarity_of_broadband_sound_at_20_db_snr(samples, polarity, seed):
    rng = np.random.default_rng(seed)
    frames = 1 << 18
    base = rng.standard_normal(frames)
    spectrum = np.fft.rfft(base) * np.exp(-2j * np.pi * np.fft.rfftfreq(frames) * samples)
    late = polarity * np.fft.irfft(spectrum, frames)
    sound = np.stack([base, late]) + 0.1 * rng.standard_normal((2, frames))
    found = offset(0.1 * sound)
    assert found.polarity == polarity
    assert found.samples == pytest.approx(samples, abs=0.05)
    assert found.confidence > 0.5


def test_no_confidence_in_unrelated_or_silent_sides():
    rng = np.random.default_rng(9)
    assert offset(0.1 * rng.standard_normal((2, 200_000))).confidence < 0.2
    assert offset(np.zeros((2, 100_000))).confidence == 0.0
    assert offset(np.zeros((2, 1))).confidence == 0.0


def test_coloured_sound_is_aligned_too():
    base = signal.lfilter([1], [1, -0.95], np.random.default_rng(1).standard_normal(200_000))
    found = offset(0.05 * np.stack([base[50:], base[:-50]]))
    assert found.samples == pytest.approx(50, abs=0.05) and found.polarity == 1


def test_ordinary_stereo_is_in_time():
    found = offset(noise(3.0))
    assert abs(found.samples) < 0.1 and found.polarity == 1
