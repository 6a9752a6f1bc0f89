"""Dynamic EQ against its formula, its prototypes and the definition of its times; coupling and exactness."""

import numpy as np
import pytest
from conftest import RATE, noise, sine
from test_stages import LEFT_RIGHT, through

from stonekite.engine.graph.chain import Chain
from stonekite.session.types import Strip
from stonekite.stages.base import At, Context
from stonekite.stages.dynamic_eq import (
    Band,
    DynamicEq,
    DynamicEqShared,
    DynamicEqSide,
    gain_db,
    response,
    response_with,
)
from stonekite.stages.planning import still_rows
from stonekite.stages.registry import KINDS


def side(*many: Band | None, **more) -> DynamicEqSide:
    return DynamicEqSide(bands=many, **more)


def strip(upper: DynamicEqSide | None, lower: DynamicEqSide | None = None, **shared) -> Strip:
    stage = DynamicEq(id=2, upper=upper, lower=lower, shared=DynamicEqShared(**shared))
    return Strip(split=LEFT_RIGHT, stages=(stage,))


def level_db(sound: np.ndarray) -> float:
    return float(10 * np.log10(2 * np.mean(sound**2)))


STILL = {"attack_ms": 50, "release_ms": 50}


@pytest.mark.parametrize("range_db", [-12.0, 9.0])
@pytest.mark.parametrize("level", [-60.0, -43.0, -36.0, -28.0, -12.0])
def test_a_steady_tone_in_the_band_is_turned_as_the_formula_says(range_db, level):
    band = Band(frequency_hz=1500, q=2, threshold_db=-40, ratio=2, range_db=range_db, **STILL)
    made = through(strip(side(band)), sine(1500, 1.0, level))
    wanted = gain_db(side(band), band, np.array([level - 3.01]))[0]  # the detector hears power
    over = level - 3.01 + 40
    by_hand = (
        0.0
        if over <= -3
        else min(12.0 if range_db < 0 else 9.0, (over + 3) ** 2 / 24 if over < 3 else over / 2)
    )
    assert wanted == pytest.approx(np.copysign(by_hand, range_db), abs=1e-9)
    assert level_db(made[0, RATE // 2 :]) - level == pytest.approx(wanted, abs=0.1)
    assert np.array_equal(made[1], sine(1500, 1.0, level)[1])


@pytest.mark.slow
@pytest.mark.parametrize("shape", ["bell", "low-shelf", "high-shelf"])
@pytest.mark.parametrize("range_db", [-9.0, 6.0])
def test_the_drawn_curve_is_that_of_what_plays(shape, range_db):
    # A loud tone holds the band at the end of its range; how much a quiet one beside it is turned shows the curve.
    where = {"bell": 1000.0, "low-shelf": 60.0, "high-shelf": 12_000.0}[shape]
    band = Band(
        shape=shape, frequency_hz=1000, q=0.9, threshold_db=-80, range_db=range_db, ratio=100, **STILL
    )
    holding = sine(where, 3.0, -6)
    for hertz in (100.0, 500.0, 1400.0, 3000.0, 9000.0):
        sound = holding + sine(hertz, 3.0, -40)
        made = through(strip(side(band)), sound)[0, -RATE:]
        tone = np.exp(-2j * np.pi * hertz * np.arange(RATE) / RATE)
        gain = np.abs(made @ tone) / np.abs(sound[0, -RATE:] @ tone)
        stage = DynamicEq(id=2, upper=side(band), lower=None)
        drawn = np.abs(response(stage, "upper", np.array([hertz]), RATE))[0]
        assert 20 * np.log10(gain / drawn) == pytest.approx(0.0, abs=0.1), hertz


@pytest.mark.parametrize(("frequency", "q"), [(80, 1.0), (1000, 4.0), (8000, 1.0)])
def test_a_bell_is_as_wide_as_its_analogue_prototype(frequency, q):
    f = frequency * 2.0 ** np.array([-1.0, -0.3, 0.0, 0.3, 1.0])
    f = f[f < 19_000]
    stage = DynamicEq(id=1, upper=side(Band(frequency_hz=frequency, q=q, range_db=-12)), lower=None)
    s = 1j * f / frequency
    gain = 10 ** (-12 / 20)
    prototype = (s**2 + gain * s / q + 1) / (s**2 + s / q + 1)
    drawn = response(stage, "upper", f, RATE)
    assert 20 * np.log10(np.abs(drawn) / np.abs(prototype)) == pytest.approx(0.0, abs=1.0)
    assert 20 * np.log10(np.abs(drawn[len(f) // 2 if len(f) == 5 else 2])) == pytest.approx(-12, abs=1e-6)


def constant_gains(attack: float, release: float, sound: np.ndarray) -> np.ndarray:
    """Amounts in dB by which a low shelf that hears everything turns a constant down."""
    band = Band(
        shape="low-shelf",
        frequency_hz=5000,
        q=0.5,
        threshold_db=-40,
        ratio=100,
        range_db=-24,
        attack_ms=attack,
        release_ms=release,
    )
    return -20 * np.log10(np.abs(through(strip(side(band), detection="peak"), sound)[0] / sound[0]))


@pytest.mark.parametrize("attack", [2.0, 40.0])
@pytest.mark.parametrize("release", [50.0, 300.0])
def test_times_are_those_to_63_percent(attack, release):
    level = np.repeat([1e-3, 0.1, 1e-3], [RATE // 10, RATE, 2 * RATE])
    amounts = constant_gains(attack, release, np.stack([level, level]))

    def passed(start: int, reached) -> float:
        """Milliseconds from a step, which itself rings for a moment."""
        return (np.flatnonzero(reached(amounts[start + 40 :]))[0] + 40) / RATE * 1000

    up = passed(RATE // 10, lambda amount: amount >= (1 - np.exp(-1)) * 20)
    down = passed(RATE // 10 + RATE, lambda amount: amount <= np.exp(-1) * 20)
    # The step rings in the detector's filter, and a peak is held for 10.2 ms, as the help says.
    assert up == pytest.approx(attack, rel=0.07)
    assert down == pytest.approx(release + 10.2, rel=0.05)


@pytest.mark.parametrize("detection", ["peak", "rms"])
def test_tones_are_turned_down_as_drawn(detection):
    worst, where = 0.0, ""
    cases = [("bell", f, f) for f in (50.0, 61.7, 333.0, 2000.0, 8000.0, 12_000.0, 16_000.0)]
    cases += [("low-shelf", 4000.0, 60.0), ("low-shelf", 900.0, 50.0), ("high-shelf", 500.0, 12_000.0)]
    for shape, frequency, hertz in cases:
        for attack, release in ((0.1, 50.0), (2.0, 80.0), (30.0, 50.0)):
            band = Band(
                shape=shape, frequency_hz=frequency, q=1.0 if shape == "bell" else 0.7, threshold_db=-30,
                ratio=4, range_db=-18, attack_ms=attack, release_ms=release,
            )  # fmt: skip
            level = -9.0
            tone = sine(hertz, 1.2, level, phase=0.7)
            out = through(strip(side(band), detection=detection), tone)[0, RATE // 2 :]
            made = 10 * np.log10(np.mean(out**2) / np.mean(tone[0, RATE // 2 :] ** 2))
            # What the detector hears, and what the band makes of the tone with the gain that asks for.
            stage = DynamicEq(id=2, upper=side(band), lower=None)
            wet = _heard_gain(band, hertz)
            read = level + 20 * np.log10(wet) - (3.0103 if detection == "rms" else 0.0)
            gain = gain_db(stage.upper, band, np.array([read]))[0]
            drawn = np.abs(response_with(stage, "upper", [gain], np.array([hertz]), RATE))[0]
            off = abs(made - 20 * np.log10(drawn))
            if off > worst:
                worst, where = off, f"{shape} {hertz:.0f} Hz, {attack}/{release} ms"
    print(f"{detection}: off the drawn gain by {worst:.3f} dB at the most, {where}")
    assert worst <= 0.2


def _heard_gain(band: Band, hertz: float) -> float:
    """Gain from the leg to what the band's detector hears, by its prototype on the bent axis."""
    s = 1j * np.tan(np.pi * hertz / RATE) / np.tan(np.pi * band.frequency_hz / RATE)
    if band.shape == "bell":
        return 1.0  # at its centre
    below = s * s + s / band.q + 1
    return float(abs((1.0 if band.shape == "low-shelf" else s * s) / below))


BANDS = (
    Band(frequency_hz=300, threshold_db=-50, range_db=-12),
    None,
    Band(shape="high-shelf", frequency_hz=5000, threshold_db=-60, range_db=-9),
)


def test_uncoupled_legs_do_not_know_of_each_other():
    one, two = noise(0.4), noise(0.4)
    two[1] = 5 * noise(0.4, seed=9)[1]
    made = [through(strip(side(*BANDS), side(*BANDS)), sound) for sound in (one, two)]
    assert np.array_equal(made[0][0], made[1][0])


def test_coupling_carries_what_a_loud_leg_asks_for_across():
    loud = np.stack([sine(300, 1.0, -6)[0], sine(300, 1.0, -70)[1]])
    turned = []
    for coupling in (0, 30, 70, 100):
        made = through(strip(side(*BANDS), side(*BANDS), coupling=coupling), loud)
        turned.append(level_db(made[1, RATE // 2 :]) - level_db(loud[1, RATE // 2 :]))
    assert turned[0] == 0.0
    assert all(np.diff(turned) < -1)
    upper = level_db(made[0, RATE // 2 :]) - level_db(loud[0, RATE // 2 :])
    assert turned[-1] == pytest.approx(upper, abs=1e-6)


def test_detector_trim_is_a_lower_threshold():
    lower = [
        Band(**{**{n: getattr(b, n) for n in b.__struct_fields__}, "threshold_db": b.threshold_db - 5})
        if b
        else None
        for b in BANDS
    ]
    sound = noise(0.5)
    assert np.array_equal(through(strip(side(*BANDS, trim_db=5)), sound), through(strip(side(*lower)), sound))


def test_under_the_threshold_nothing_changes_even_with_one_leg_looking_ahead():
    band = Band(threshold_db=-10)
    chain = Chain(strip(side(band, look_ahead_ms=7.3), side(band)), RATE)
    assert chain.latency == round(0.0073 * RATE)
    sound = noise(0.5, level=0.01)
    assert np.array_equal(through(chain.strip, sound), sound)


def test_what_the_bands_say_of_themselves_is_what_they_do():
    kind = KINDS["dynamic-eq"]
    stage = DynamicEq(
        id=1,
        upper=side(Band(threshold_db=-40, range_db=-6)),
        lower=side(None, Band(range_db=5, threshold_db=-50)),
    )
    coefficients, rows = kind.coefficients(stage, Context(RATE)), still_rows(stage, Context(RATE))
    state = kind.start(coefficients)
    for start in range(0, RATE, 512):
        kind.process(state, coefficients, sine(1000, 512 / RATE, -12), At(start, **rows))
    levels, gains = kind.offers.bands_now(state)
    assert levels[0, 0] == pytest.approx(-15, abs=0.5)
    assert gains[0] == pytest.approx([-6, 0, 0, 0, 0, 0, 0, 0])
    assert gains[1, 1] == pytest.approx(5)
