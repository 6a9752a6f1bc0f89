"""Loudness and peaks against EBU Tech 3341 and 3342, BS.1770 and pyloudnorm."""

import math

import numpy as np
import pyloudnorm
import pytest
import soundfile
from conftest import noise, sine
from scipy import signal
from scipy.signal import windows

from stonekite.demos.demo import demo_path
from stonekite.measure.loudness import Loudness
from stonekite.measure.peaks import Peaks


def tones(*parts: tuple[float, float], rate: int = 48_000) -> np.ndarray:
    """1 kHz stereo tones, (level in dBFS, seconds) each, in one unbroken phase."""
    gain = np.concatenate([np.full(round(s * rate), 10 ** (db / 20)) for db, s in parts])
    t = np.arange(len(gain)) / rate
    return np.repeat((gain * np.sin(2 * np.pi * 1000 * t))[None], 2, axis=0)


def heard(sound: np.ndarray, rate: int = 48_000, block: int = 9973) -> Loudness:
    meter = Loudness(rate)
    for start in range(0, sound.shape[1], block):
        meter.add(sound[:, start : start + block])
    return meter


@pytest.mark.parametrize(
    ("case", "parts", "lufs"),
    [
        (1, [(-23, 20)], -23),
        (2, [(-33, 20)], -33),
        (3, [(-36, 10), (-23, 60), (-36, 10)], -23),
        (4, [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23),
        (5, [(-26, 20), (-20, 20.1), (-26, 20)], -23),
    ],
)
def test_tech_3341_integrated(case, parts, lufs):
    meter = heard(tones(*parts))
    assert meter.integrated() == pytest.approx(lufs, abs=0.1)
    if case < 3:
        assert meter.momentary_max() == pytest.approx(lufs, abs=0.1)
        assert meter.short_term_max() == pytest.approx(lufs, abs=0.1)


def test_tech_3341_case_9_short_term_stays():
    levels = heard(tones(*[(-20, 1.34), (-30, 1.66)] * 5)).short_term()
    assert np.abs(levels + 23).max() <= 0.1


@pytest.mark.parametrize("start_s", [k * 0.15 for k in range(0, 20, 3)])
def test_tech_3341_case_10_largest_short_term(start_s):
    sound = np.concatenate(
        [np.zeros((2, round(start_s * 48_000))), tones((-23, 3.0)), np.zeros((2, 48_000))], axis=1
    )
    assert heard(sound).short_term_max() == pytest.approx(-23, abs=0.1)


def test_tech_3341_case_12_momentary_stays():
    levels = heard(tones(*[(-20, 0.18), (-30, 0.22)] * 25)).momentary()
    assert np.abs(levels + 23).max() <= 0.1


@pytest.mark.parametrize("start_s", [k * 0.02 for k in range(20)])
def test_tech_3341_case_13_largest_momentary(start_s):
    sound = np.concatenate(
        [np.zeros((2, round(start_s * 48_000))), tones((-23, 0.4)), np.zeros((2, 48_000))], axis=1
    )
    assert heard(sound).momentary_max() == pytest.approx(-23, abs=0.1)


@pytest.mark.parametrize(
    ("parts", "lu"),
    [
        ([(-20, 20), (-30, 20)], 10),
        ([(-20, 20), (-15, 20)], 5),
        ([(-40, 20), (-20, 20)], 20),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15),
    ],
)
def test_tech_3342_range(parts, lu):
    assert heard(tones(*parts)).range() == pytest.approx(lu, abs=1)


@pytest.mark.parametrize("rate", [8000, 22_050, 44_100, 48_000, 96_000, 192_000])
def test_full_scale_997_hz_on_one_side_reads_minus_3_01(rate):
    """The reference of BS.1770: 0 dBFS, 997 Hz, one channel, -3.01 LUFS."""
    sound = sine(997, 3, 0, rate) * np.array([[1.0], [0.0]])
    assert heard(sound, rate).integrated() == pytest.approx(-3.01, abs=0.05)


def test_agrees_with_pyloudnorm_on_the_demo_and_on_noise():
    demo, rate = soundfile.read(demo_path())
    for sound, sound_rate in ((demo.T, rate), (noise(12, rate=44_100), 44_100)):
        wanted = pyloudnorm.Meter(sound_rate).integrated_loudness(sound.T)
        assert heard(sound, sound_rate).integrated() == pytest.approx(wanted, abs=0.1)


@pytest.mark.parametrize("block", [1, 480, 4096])
def test_block_size_does_not_matter(block):
    sound = noise(0.9)
    wanted, found = heard(sound), heard(sound, block=block)
    assert found.momentary() == pytest.approx(wanted.momentary(), abs=1e-9)


def test_silence_and_very_short_sound():
    assert heard(np.zeros((2, 48_000))).integrated() == -math.inf
    assert heard(np.zeros((2, 1))).momentary_max() == -math.inf
    assert heard(np.zeros((2, 48_000 * 4))).range() == 0.0


def true_peak_db(sound: np.ndarray, rate: int = 48_000, block: int = 1000) -> float:
    meter = Peaks(rate)
    for start in range(0, sound.shape[1], block):
        meter.add(sound[:, start : start + block])
    return 20 * math.log10(meter.true_peak().max())


@pytest.mark.parametrize(
    ("divisor", "degrees", "amplitude", "dbtp"),
    [(4, 0, 0.5, -6), (4, 45, 0.5, -6), (6, 60, 0.5, -6), (8, 67.5, 0.5, -6), (4, 45, 1.41, 3)],
)
def test_tech_3341_cases_15_to_19_true_peak(divisor, degrees, amplitude, dbtp):
    t = np.arange(48_000)
    tone = amplitude * np.sin(2 * np.pi * t / divisor + math.radians(degrees))
    tone *= np.minimum(1, np.minimum(t, t[::-1]) / 2400)
    assert -0.4 <= true_peak_db(np.stack([tone, tone])) - dbtp <= 0.2


@pytest.mark.parametrize("offset", [0, 1, 2, 3])
def test_peaks_between_samples_are_found_wherever_they_fall(offset):
    """A band-limited pulse of known height, sampled at four offsets (as Tech 3341 cases 20 to 23 do)."""
    t = np.arange(-400, 400)
    pulse = np.sinc((t + offset / 4) * 0.8) * np.hanning(802)[1:-1]
    assert -0.4 <= true_peak_db(np.stack([pulse, pulse])) <= 0.2


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_true_peak_agrees_with_long_oversampling(rate):
    sound = noise(1.0, rate=rate, level=0.2)
    wanted = np.abs(signal.resample(sound, sound.shape[1] * 16, axis=1)).max()
    assert abs(true_peak_db(sound, rate) - 20 * math.log10(wanted)) < 0.25


def test_a_peak_in_the_last_samples_counts():
    sound = np.zeros((2, 500))
    sound[:, -2:] = 0.9
    assert true_peak_db(sound) > 20 * math.log10(0.95)


NOISES = {
    "even noise": lambda random: random.uniform(-0.5, 0.5, 24_000),
    "normal noise": lambda random: 0.1 * random.standard_normal(24_000),
    "random signs": lambda random: 0.5 * np.sign(random.standard_normal(24_000)),
    "rare pulses": lambda random: (
        0.5 * (random.uniform(size=24_000) < 0.05) * np.sign(random.standard_normal(24_000))
    ),
    "clipped noise": lambda random: np.clip(random.standard_normal(24_000), -0.5, 0.5),
    "dark noise and signs": lambda random: (
        signal.lfilter([0.02], [1, -0.98], random.standard_normal(24_000))
        + 0.03 * np.sign(random.standard_normal(24_000))
    ),
}


@pytest.mark.slow
@pytest.mark.parametrize("what", NOISES)
def test_true_peaks_of_noise_over_the_whole_band(what):
    """Against ideal interpolation of a sound that goes round, led in and out by more of it."""
    worst, where = 0.0, 0
    for seed in range(12):
        sound = NOISES[what](np.random.default_rng(seed))
        fine = np.zeros(24_000 * 16 + 1, dtype=complex)
        fine[:12_001] = np.fft.rfft(sound)
        wanted = 32 * np.abs(np.fft.irfft(fine, 24_000 * 32)).max()
        meter = Peaks(48_000)
        rise = np.linspace(0.0, 1.0, 24_000)
        led_in_and_out = np.concatenate([sound * rise, sound, sound * rise[::-1]])
        meter.add(np.stack([led_in_and_out, led_in_and_out]))
        off = 20 * np.log10(meter.true_peak()[1] / wanted)
        if abs(off) > abs(worst):
            worst, where = off, seed
    print(f"true peak of {what}: {worst:+.3f} dB off at the most, seed {where}")
    assert abs(worst) <= 0.1


@pytest.mark.slow
@pytest.mark.parametrize("rate", [44_100, 48_000, 88_200, 96_000, 192_000])
def test_true_peaks_are_read_right_up_to_half_the_rate(rate):
    """Tones at simple fractions of the rate, whose samples always stand at the same places, and noise."""
    worst, where = 0.0, ""
    fade = windows.tukey(16_384, 0.3)
    for share in (1 / 8, 1 / 6, 1 / 5, 1 / 4, 1 / 3, 0.4, 0.45, 0.48, 0.495):
        for phase in (0.0, 0.4, 1.1, 2.0):
            meter = Peaks(rate)
            tone = np.sin(2 * np.pi * share * np.arange(16_384) + phase) * fade
            meter.add(np.stack([tone, 0.5 * tone]))
            off = abs(20 * np.log10(meter.true_peak()[0]))
            if off > worst:
                worst, where = off, f"a tone at {share:.3f} of the rate"
    for top in (0.7, 0.9, 0.95, 0.98):
        for seed in range(3):
            spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(16_384))
            spectrum[int(top * len(spectrum)) :] = 0.0
            sound = np.fft.irfft(spectrum, 16_384) * fade
            fine = np.zeros(16_384 * 8 + 1, dtype=complex)
            fine[:8193] = np.fft.rfft(sound)
            wanted = 16 * np.abs(np.fft.irfft(fine, 16_384 * 16)).max()
            meter = Peaks(rate)
            for start in range(0, 16_384, 1000):
                meter.add(np.stack([sound, sound])[:, start : start + 1000])
            off = abs(20 * np.log10(meter.true_peak()[1] / wanted))
            if off > worst:
                worst, where = off, f"noise up to {top} of half the rate"
    print(f"true peaks at {rate} Hz: {worst:.3f} dB off at the most, {where}")
    assert worst <= 0.1


@pytest.mark.parametrize("rate", [1000, 1001, 1500, 3000, 3500, 7999])
def test_at_the_lowest_rates_loudness_is_finite_and_that_of_the_tone(rate):
    """Where the shelf of the standard lies beyond half the rate: a tone of 200 Hz is as loud as ever."""
    t = np.arange(10 * rate) / rate
    tone = 0.1 * np.sin(2 * np.pi * 200 * t)
    meter = heard(np.stack([tone, tone]), rate)
    wanted = heard(np.stack([0.1 * np.sin(2 * np.pi * 200 * np.arange(480_000) / 48_000)] * 2), 48_000)
    assert meter.integrated() == pytest.approx(wanted.integrated(), abs=0.1)
