"""Delay, gain and polarity between two recordings: found, undone, and what is left."""

import numpy as np
import pytest
from conftest import RATE, noise
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from stonekite.measure.matching import Match, Residual, match

SOUND = signal.sosfilt(signal.butter(8, 17_000, fs=RATE, output="sos"), noise(3.0, seed=5), axis=1)
SOUND = SOUND * signal.windows.tukey(SOUND.shape[1], 0.1)  # a hard end would reach up to half the rate


def moved(sound: np.ndarray, samples: float) -> np.ndarray:
    """Delayed by an exact, circular, delay of the whole spectrum, with silence around so that nothing goes round."""
    padded = np.pad(sound, ((0, 0), (4000, 4000)))
    turns = np.exp(-2j * np.pi * np.fft.rfftfreq(padded.shape[1]) * samples)
    return np.fft.irfft(np.fft.rfft(padded, axis=1) * turns, padded.shape[1], axis=1)


def left_over(a: np.ndarray, b: np.ndarray, found: Match, block: int = 4096) -> dict[str, float]:
    residual = Residual(found)
    for start in range(0, a.shape[1], block):
        residual.add(a[:, start : start + block], b[:, start : start + block])
    return residual.levels_db()


@given(
    st.floats(-3000, 3000),
    st.floats(-30, 20),
    st.sampled_from([1, -1]),
)
@settings(max_examples=20, deadline=None)
def test_a_delay_a_gain_and_a_polarity_are_found_and_undone(samples, gain_db, polarity):
    a, b = moved(SOUND, 0.0), polarity * 10 ** (gain_db / 20) * moved(SOUND, samples)
    found = match(a, b)
    assert found.found and found.polarity == polarity
    assert found.samples == pytest.approx(samples, abs=2e-5)
    assert 20 * np.log10(found.gain) == pytest.approx(gain_db, abs=1e-3)
    for name, level in left_over(a, b, found).items():
        assert level <= -90, name


@pytest.mark.parametrize("samples", [0, 17, -17, 2000])
def test_whole_samples_leave_exactly_nothing(samples):
    a, b = moved(SOUND, 0.0), np.roll(moved(SOUND, 0.0), samples, axis=1) * -0.5
    found = match(a, b)
    assert found.samples == samples
    assert left_over(a, b, found)["all"] < -250


def test_what_was_done_to_the_side_only_is_left_there():
    side = 0.5 * (SOUND[0] - SOUND[1])
    changed = SOUND + 0.2 * np.stack([side, -side])
    left = left_over(SOUND, changed, match(SOUND, changed))
    assert -20 < left["side"] < -10 and left["mid"] < left["side"] - 15
    by_hand = changed - match(SOUND, changed).gain * SOUND
    power = [np.sum((part[0] - part[1]) ** 2) for part in (by_hand, match(SOUND, changed).gain * SOUND)]
    assert left["side"] == pytest.approx(10 * np.log10(power[0] / power[1]), abs=0.05)


def test_silence_and_short_sounds():
    assert not match(SOUND, np.zeros_like(SOUND)).found
    assert match(SOUND[:, :50], 2 * SOUND[:, :50]).gain == pytest.approx(2)
    assert np.isnan(left_over(np.zeros((2, 9999)), np.zeros((2, 9999)), Match(0.0, 1, 1.0, False))["all"])
