"""The filters follow their analogue prototypes, computed here by scipy from their polynomials."""

import itertools

import numpy as np
import pytest
from scipy import signal

from stonekite.signal.filters import design
from stonekite.stages.eq import Band, Eq, EqSide, band_sections, response, side_sections
from stonekite.stages.filter import FilterSide
from stonekite.stages.filter import side_sections as filter_sections

FREQUENCIES = np.geomspace(20, 20_000, 700)


def prototype_db(kind: str, f0: float, gain_db: float, q: float, f: np.ndarray) -> np.ndarray:
    """Magnitude in dB of the cookbook's analogue prototypes, by polynomials in s."""
    a = 10 ** (gain_db / 40)
    b, d = {
        "bell": ([1, a / q, 1], [1, 1 / (a * q), 1]),
        "low-shelf": ([a, a * np.sqrt(a) / q, a * a], [a, np.sqrt(a) / q, 1]),
        "high-shelf": ([a * a, a * np.sqrt(a) / q, a], [1, np.sqrt(a) / q, a]),
        "low-pass": ([1], [1, 1 / q, 1]),
        "high-pass": ([1, 0, 0], [1, 1 / q, 1]),
        "notch": ([1, 0, 1], [1, 1 / q, 1]),
        "low-pass-6": ([1], [1, 1]),
        "high-pass-6": ([1, 0], [1, 1]),
    }[kind]
    return 20 * np.log10(np.maximum(np.abs(signal.freqs(b, d, f / f0)[1]), 1e-12))


def made_db(sos: np.ndarray, rate: float, f: np.ndarray = FREQUENCIES) -> np.ndarray:
    """Magnitude in dB of sections, by scipy."""
    if not len(sos):
        return np.zeros(len(f))
    full = np.insert(sos, 3, 1.0, axis=1)
    return 20 * np.log10(np.maximum(np.abs(signal.sosfreqz(full, f, fs=rate)[1]), 1e-12))


@pytest.mark.slow
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("kind", ["bell", "low-shelf", "high-shelf"])
def test_bells_and_shelves_within_a_tenth_of_a_db(kind, rate):
    worst = 0.0
    for f0, gain, q in itertools.product(
        [50, 160, 500, 1600, 4000, 8000, 11_000, 16_000], [-12, -4, 2, 7, 12], [0.5, 0.71, 1.3, 3, 6]
    ):
        made = made_db(design.sections(kind, f0, gain, q, rate), rate)
        worst = max(worst, np.abs(made - prototype_db(kind, f0, gain, q, FREQUENCIES)).max())
    print(f"{kind} at {rate} Hz: worst {worst:.3f} dB")
    assert worst <= 0.04


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("kind", ["high-pass", "low-pass", "notch", "high-pass-6", "low-pass-6"])
def test_cuts_within_a_tenth_of_a_db_where_they_are_heard(kind, rate):
    worst = 0.0
    for f0, q in itertools.product([20, 60, 300, 1500, 6000, 12_000, 18_000], [0.5, 0.541, 0.71, 1.307, 4]):
        wanted = prototype_db(kind, f0, 0, q, FREQUENCIES)
        made = made_db(design.sections(kind, f0, 0, q, rate), rate)
        heard = wanted > -24
        worst = max(worst, np.abs(made - wanted)[heard].max(initial=0.0))
    print(f"{kind} at {rate} Hz: worst {worst:.3f} dB")
    assert worst <= 0.04


@pytest.mark.parametrize("kind", ["bell", "low-shelf", "high-shelf"])
@pytest.mark.parametrize("f0", [80, 3000, 15_000])
def test_a_cut_is_the_mirror_of_its_boost(kind, f0):
    boost = made_db(design.sections(kind, f0, 9.0, 1.1, 44_100), 44_100)
    cut = made_db(design.sections(kind, f0, -9.0, 1.1, 44_100), 44_100)
    assert np.abs(boost + cut).max() < 1e-9


def test_filters_are_stable_and_of_minimum_phase():
    for kind, f0, q in itertools.product(
        ["bell", "low-shelf", "high-shelf", "low-pass"], [20, 1000, 15_000, 20_000], [0.2, 1, 12]
    ):
        for row in design.sections(kind, f0, -20, q, 44_100):
            assert np.abs(np.roots([1, row[3], row[4]])).max() < 1
            assert np.abs(np.roots(row[:3])).max(initial=0) < 1 + 1e-9


def test_a_notch_is_silent_at_its_frequency_and_a_high_pass_at_dc():
    assert made_db(design.sections("notch", 1000, 0, 2, 48_000), 48_000, np.array([1000.0]))[0] < -150
    assert (
        abs(design.response(design.sections("high-pass", 60, 0, 0.7, 48_000), np.array([0.0]), 48_000)[0])
        == 0
    )


@pytest.mark.parametrize("shape", ["high-pass", "low-pass"])
def test_24_db_is_butterworth_at_the_default_q(shape):
    band = Band(shape=shape, frequency_hz=1000, slope=24)
    order = signal.butter(4, 1.0, "highpass" if shape == "high-pass" else "lowpass", analog=True)
    wanted = 20 * np.log10(np.abs(signal.freqs(*order, FREQUENCIES / 1000)[1]))
    made = made_db(band_sections(band, 48_000), 48_000)
    heard = wanted > -24
    assert np.abs(made - wanted)[heard].max() < 0.1


def test_bands_add_up_and_off_or_flat_bands_are_nothing():
    one, two = Band(frequency_hz=100, gain_db=5), Band(shape="high-shelf", frequency_hz=5000, gain_db=-3)
    side = EqSide(bands=(one, None, Band(gain_db=0.0), Band(gain_db=9, on=False), two))
    both = made_db(band_sections(one, 48_000), 48_000) + made_db(band_sections(two, 48_000), 48_000)
    shown = 20 * np.log10(np.abs(response(Eq(id=1, upper=side), "upper", FREQUENCIES, 48_000)))
    assert np.abs(shown - both).max() < 1e-9
    assert len(side_sections(EqSide(bands=(Band(), Band(gain_db=9, on=False))), 48_000)) == 0


def test_low_rates_hold_frequencies_below_the_limit():
    made = made_db(design.sections("bell", 15_000, 6, 1, 8000), 8000, np.geomspace(20, 3900, 100))
    assert np.isfinite(made).all() and made.max() < 12


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("slope", [6, 12, 18, 24, 36, 48])
def test_the_filter_stage_is_butterworth_at_every_slope(rate, slope):
    worst = 0.0
    for corner in (40, 300, 2500, 9000, 16_000):
        for kind in ("high_pass", "low_pass"):
            side = FilterSide(**{kind: True, f"{kind}_hz": corner, f"{kind}_slope": slope})
            order = signal.butter(slope // 6, 1.0, kind.replace("_", ""), analog=True)
            wanted = 20 * np.log10(np.maximum(np.abs(signal.freqs(*order, FREQUENCIES / corner)[1]), 1e-12))
            made = made_db(filter_sections(side, rate), rate)
            heard = wanted > -24
            worst = max(worst, np.abs(made - wanted)[heard].max())
    print(f"{slope} dB per octave at {rate} Hz: worst {worst:.3f} dB")
    assert worst <= 0.1


@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_narrow_shelves_next_to_20_khz_follow_their_prototypes(rate):
    """Wherever the sliders go: Q to 12, corners to 20 kHz, gains to 24 dB."""
    rng = np.random.default_rng(rate)
    worst, where = 0.0, ""
    for k in range(120):
        kind = ("low-shelf", "high-shelf")[k % 2]
        f0 = float(np.exp(rng.uniform(np.log(9000), np.log(20_000))))
        q, gain = float(np.exp(rng.uniform(np.log(2), np.log(12)))), float(rng.uniform(-24, 24))
        made = 20 * np.log10(
            np.abs(design.response(design.sections(kind, f0, gain, q, rate), FREQUENCIES, rate))
        )
        miss = np.abs(made - prototype_db(kind, f0, gain, q, FREQUENCIES)).max()
        if miss > worst:
            worst, where = miss, f"{kind} {f0:.0f} Hz, {gain:.1f} dB, Q {q:.1f}"
    print(f"shelves at {rate} Hz: {worst:.3f} dB off at the most, {where}")
    assert worst <= 0.04


@pytest.mark.parametrize("rate", [44_100, 48_000, 88_200, 192_000])
def test_random_filters_of_all_kinds_follow_their_prototypes(rate):
    """900 of them, wherever the sliders go, designed at once; and one by one, where what does little is left out."""
    rng = np.random.default_rng(rate)
    kinds = ["bell", "low-shelf", "high-shelf", "high-pass", "low-pass", "notch", "high-pass-6", "low-pass-6"]
    worst, where = 0.0, ""
    for kind in kinds:
        hz, q = 20.0 * 1000.0 ** rng.uniform(size=113), 0.2 * 60.0 ** rng.uniform(size=113)
        gain = rng.uniform(-24.0, 24.0, 113)
        together = design.moving(kind, hz, gain, q, rate)
        for k in range(len(hz)):
            alone = design.sections(kind, hz[k], gain[k], q[k], rate)
            wanted = prototype_db(kind, hz[k], gain[k], q[k], FREQUENCIES)
            heard = wanted > -24 if "pass" in kind or kind == "notch" else wanted > -100
            for made in (together[k], alone):
                miss = np.abs(made_db(made, rate) - wanted)[heard].max(initial=0.0)
                if miss > worst:
                    worst, where = miss, f"{kind} at {hz[k]:.0f} Hz, {gain[k]:.1f} dB, Q {q[k]:.2f}"
    print(f"{len(kinds) * 113} filters at {rate} Hz: {worst:.3f} dB off at the most, {where}")
    assert worst <= 0.04
