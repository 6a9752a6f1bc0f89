"""Delay, gain and polarity between two recordings: found, undone, and what is left."""

import numpy as np
import pytest
from conftest import RATE, THOROUGH, noise
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from stonekite.measure.matching import UNKNOWN, Match, Residual, match

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


@pytest.mark.slow
@given(
    st.floats(-3000, 3000),
    st.floats(-30, 20),
    st.sampled_from([1, -1]),
)
@settings(max_examples=20 if THOROUGH else 10, deadline=None)
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
    assert np.isnan(left_over(np.zeros((2, 9999)), np.zeros((2, 9999)), UNKNOWN)["all"])


@pytest.mark.parametrize("samples", [0.3, 11.5, -700.27])
def test_content_up_to_half_the_rate_is_taken_away_up_to_20_khz(samples):
    """White noise: what no filter can delay by a part of a sample is left out on both sides."""
    rng = np.random.default_rng(3)
    sound = 0.1 * rng.standard_normal((2, 2 * RATE)) * signal.windows.tukey(2 * RATE, 0.1)
    a, b = moved(sound, 0.0), -0.7 * moved(sound, samples)
    found = match(a, b)
    assert found.samples == pytest.approx(samples, abs=1e-4) and found.polarity == -1
    for name, level in left_over(a, b, found).items():
        assert level <= -90, name


def _programme(seed: int, seconds: float) -> np.ndarray:
    """Unrelated recordings of several sorts: notes, noise with a beat, a drone, speech-like bursts."""
    rng = np.random.default_rng(seed)
    t = np.arange(int(seconds * RATE)) / RATE
    sort = seed % 4
    if sort == 0:
        sound = sum(
            np.sin(2 * np.pi * 110 * 2 ** (rng.integers(0, 36) / 12) * t)
            * ((t * rng.uniform(0.5, 3) + rng.uniform()) % 1 < 0.4)
            for _ in range(8)
        )
    elif sort == 1:
        sound = rng.standard_normal(len(t)) * np.exp(-((t * rng.uniform(1.5, 2.5)) % 1) * 9)
    elif sort == 2:
        sound = sum(np.sin(2 * np.pi * rng.uniform(50, 900) * t + rng.uniform(0, 6)) for _ in range(6))
    else:
        pole = signal.butter(
            2, [rng.uniform(150, 400), rng.uniform(1000, 4000)], "band", fs=RATE, output="sos"
        )
        sound = signal.sosfilt(pole, rng.standard_normal(len(t))) * np.maximum(
            0, np.sin(2 * np.pi * rng.uniform(1, 4) * t)
        )
    other = np.roll(sound, int(rng.integers(0, 40))) * rng.uniform(0.2, 1)
    return 0.1 * np.stack([sound, other]) / np.std(sound)


@pytest.mark.slow
def test_unrelated_recordings_do_not_fit_and_processed_ones_do():
    count = 10 if THOROUGH else 4
    programmes = [_programme(seed, 12.0 if THOROUGH else 6.0) for seed in range(count)]
    wrong = [match(programmes[i], programmes[j]).confidence for i in range(count) for j in range(i)]
    assert len(wrong) == count * (count - 1) // 2
    right = []
    for seed, sound in enumerate(programmes):
        eq = signal.butter(1, [200, 5000], "band", fs=RATE, output="sos")
        changed = np.tanh(3 * (sound + signal.sosfilt(eq, sound, axis=1)))
        found = match(sound, -np.roll(changed, 1000 + seed, axis=1))
        right.append(found.confidence)
        assert abs(found.samples - 1000 - seed) < 20 or seed % 4 == 2  # a drone fits itself again and again
    print(f"unrelated: confidence {max(wrong):.2f} at the most; processed: {min(right):.2f} at least")
    assert max(wrong) < 0.5 <= min(right)
