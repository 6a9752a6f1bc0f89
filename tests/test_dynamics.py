"""The compressor against its formula, its definition of times, and the rules of coupling."""

import itertools

import numpy as np
import pytest
from conftest import RATE, noise, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal
from test_stages import LEFT_RIGHT, through

from stonekite.engine.graph.chain import Chain
from stonekite.session.types import Strip
from stonekite.signal.kernel import kernel
from stonekite.signal.vectors import quick
from stonekite.stages.base import At, Context
from stonekite.stages.compressor import Compressor, CompressorShared, CompressorSide, curve
from stonekite.stages.gate import Gate, GateShared, GateSide
from stonekite.stages.limiter import Limiter, LimiterShared, LimiterSide
from stonekite.stages.planning import still_rows
from stonekite.stages.registry import KINDS


def compressor(upper: CompressorSide | None, lower: CompressorSide | None = None, **shared) -> Strip:
    stage = Compressor(id=2, upper=upper, lower=lower, shared=CompressorShared(**shared))
    return Strip(split=LEFT_RIGHT, stages=(stage,))


def steady(level_db: float, seconds: float = 1.0) -> np.ndarray:
    return np.full((2, int(seconds * RATE)), 10 ** (level_db / 20))


def gain_db(strip: Strip, sound: np.ndarray) -> np.ndarray:
    return 20 * np.log10(np.abs(through(strip, sound)) / np.abs(sound))


@kernel
def log2_into(x, out):
    quick.log2_into(x, out)


@kernel
def exp2_into(x, out):
    quick.exp2_into(x, out)


QUICK = {"attack_ms": 0.05, "release_ms": 5.0}


def test_the_polynomials_are_as_exact_as_said():
    x = np.exp(np.random.default_rng(0).uniform(-60, 60, 20_000))
    out = np.empty_like(x)
    log2_into(x, out)
    assert np.abs(out - np.log2(x)).max() < 2e-9
    y = np.random.default_rng(1).uniform(-60, 60, 20_000)
    exp2_into(y, out)
    assert np.abs(out / 2**y - 1).max() < 2e-9
    exp2_into(np.zeros(5), out[:5])
    assert np.array_equal(out[:5], np.ones(5))


@pytest.mark.parametrize("ratio", [1.5, 4.0, 100.0])
@pytest.mark.parametrize("knee", [0.0, 12.0])
def test_the_static_curve_is_that_of_the_formula(ratio, knee):
    side = CompressorSide(threshold_db=-30, ratio=ratio, knee_db=knee, **QUICK)
    for level in np.arange(-90.0, 0.5, 2.5):
        made = gain_db(compressor(side), steady(level, 0.2))[0, -1]
        over, slope = level + 30.0, 1 - 1 / ratio if ratio < 100 else 1.0
        if 2 * over <= -knee:
            wanted = 0.0
        elif 2 * abs(over) <= knee and knee:
            wanted = -slope * (over + knee / 2) ** 2 / (2 * knee)
        else:
            wanted = -slope * over
        assert made == pytest.approx(wanted, abs=0.1)
        drawn = curve(Compressor(id=1, upper=side), "upper", np.array([level]))[0] - level
        assert drawn == pytest.approx(wanted, abs=1e-9)


HOLD_MS = 10.2
"""How long a peak detector holds, as its help says."""


def stepping(levels_db: list[float], seconds: list[float], hertz: float = 1000.0) -> np.ndarray:
    """A tone that goes from level to level in its zeros."""
    level = np.repeat(10 ** (np.array(levels_db) / 20), [int(s * RATE) for s in seconds])
    return sine(hertz, len(level) / RATE, 0)[:, : len(level)] * level


def reductions(strip: Strip, sound: np.ndarray) -> np.ndarray:
    """What the stage turned the upper leg down by, in dB, from sample to sample (but where the sound is at zero)."""
    gains = np.abs(through(strip, sound)[0]) / np.maximum(np.abs(sound[0]), 1e-12)
    heard = np.abs(sound[0]) > 1e-6
    return -20 * np.log10(np.interp(np.arange(len(gains)), np.flatnonzero(heard), gains[heard]))


@pytest.mark.parametrize("attack", [0.3, 1.0, 20.0, 150.0])
@pytest.mark.parametrize("detection", ["peak", "rms"])
def test_attack_is_the_time_to_63_percent(attack, detection):
    side = CompressorSide(threshold_db=-40, ratio=100, knee_db=0, attack_ms=attack, release_ms=500)
    made = reductions(compressor(side, detection=detection), stepping([-60, -10], [0.2, 1.5]))
    full = made[-100]
    reached = np.flatnonzero(made[RATE // 5 :] >= (1 - np.exp(-1)) * full)[0] / RATE * 1000
    print(f"attack {attack} ms, {detection}: {reached:.2f} ms")
    # A tone needs a quarter of its period to get to its height; the mean takes time of its own, as its help says.
    assert attack * 0.95 - 0.05 <= reached <= attack * 1.05 + (0.3 if detection == "peak" else 24.0)


@pytest.mark.parametrize("release", [20.0, 100.0, 400.0])
@pytest.mark.parametrize("detection", ["peak", "rms"])
def test_release_is_the_time_to_let_go_of_63_percent(release, detection):
    side = CompressorSide(threshold_db=-40, ratio=100, knee_db=0, attack_ms=0.05, release_ms=release)
    made = reductions(compressor(side, detection=detection), stepping([-10, -60], [0.5, 3.0]))
    gone = np.flatnonzero(made[RATE // 2 :] <= np.exp(-1) * made[RATE // 2 - 100])[0] / RATE * 1000
    print(f"release {release} ms, {detection}: {gone:.2f} ms")
    if detection == "peak":
        assert gone == pytest.approx(release + HOLD_MS, rel=0.03, abs=1.0)
    else:
        assert release * 0.97 <= gone <= release * 1.03 + 24.0


@pytest.mark.slow
@pytest.mark.parametrize("detection", ["peak", "rms"])
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_tones_are_turned_down_as_drawn(detection, rate):
    """All frequencies, phases and times that the curve stands for, exact fractions of the rate among them."""
    rng = np.random.default_rng(rate)
    tones = [50.0, 61.7, 74.0, 100.0, 333.0, 1000.0, 5000.0, rate / 8, rate / 6, rate / 5, rate / 4, 16_000.0]
    worst, where = 0.0, ""
    for hertz in [f for f in tones if f <= 16_000]:
        for attack, release in ((0.1, 50.0), (1.0, 80.0), (10.0, 120.0), (30.0, 50.0)):
            side = CompressorSide(threshold_db=-30, ratio=4, knee_db=6, attack_ms=attack, release_ms=release)
            stage = Compressor(id=2, upper=side, lower=side, shared=CompressorShared(detection=detection))
            level = float(rng.uniform(-26, -3))
            tone = sine(hertz, 1.0, level, rate=rate, phase=float(rng.uniform(0, 6)))
            chain = Chain(Strip(split=LEFT_RIGHT, stages=(stage,)), rate)
            out = chain.process(tone, 0)[0, rate // 2 :]
            made = 10 * np.log10(np.mean(out**2) / np.mean(tone[0, rate // 2 :] ** 2))
            read = level - (3.0103 if detection == "rms" else 0.0)
            drawn = curve(stage, "upper", np.array([read]))[0] - read
            if abs(made - drawn) > worst:
                worst, where = abs(made - drawn), f"{hertz:.0f} Hz, {attack}/{release} ms"
    print(f"{detection} at {rate} Hz: off the drawn curve by {worst:.3f} dB at the most, {where}")
    assert worst <= 0.2


def test_silence_costs_no_more_than_sound():
    """Nothing is left in a detector that could become a denormal number, however long the silence."""
    for detection in ("peak", "rms"):
        stage = Compressor(id=2, shared=CompressorShared(detection=detection))
        kind = KINDS["compressor"]
        coefficients, rows = kind.coefficients(stage, Context(RATE)), still_rows(stage, Context(RATE))
        state = kind.start(coefficients)
        kind.process(state, coefficients, noise(1.0), At(0, **rows))
        for k in range(12):
            kind.process(state, coefficients, np.zeros((2, RATE)), At((k + 1) * RATE, **rows))
        numbers = [a for part in (state.smoothers, *state.envelope.arrays) for a in (np.abs(part),)]
        assert not any(((a > 0) & (a < 1e-300)).any() for a in numbers)


def test_adaptive_release_lets_short_peaks_go_sooner_than_long_ones():
    side = CompressorSide(threshold_db=-40, ratio=100, attack_ms=0.05, release_ms=80, adaptive=True)

    def half_gone(loud_s: float) -> float:
        sound = np.concatenate([steady(-10, loud_s), steady(-60, 4.0)], axis=1)
        reduction = -gain_db(compressor(side), sound)[0][int(loud_s * RATE) :]
        return float(np.flatnonzero(reduction < 15.0)[0]) / RATE

    assert half_gone(0.02) < 0.1 < 2 * 0.1 < half_gone(3.0)


SIDE = CompressorSide(threshold_db=-30, ratio=6)


def test_uncoupled_legs_do_not_know_of_each_other():
    one, two = noise(0.5), noise(0.5)
    two[1] = 5 * noise(0.5, seed=9)[1]
    strip = compressor(SIDE, SIDE, coupling=0)
    assert np.array_equal(through(strip, one)[0], through(strip, two)[0])


def test_coupled_legs_are_turned_down_alike_to_the_bit_and_in_between_monotonously():
    loud = np.stack([steady(-6)[0], steady(-50)[1]])
    gains = []
    for coupling in (0, 25, 50, 75, 100):
        out = through(compressor(SIDE, SIDE, coupling=coupling), loud)
        gains.append(out[:, -1] / loud[:, -1])
    assert all(a[1] >= b[1] for a, b in itertools.pairwise(gains))
    assert gains[0][1] == 1.0
    sound = noise(0.5)
    strip = compressor(SIDE, SIDE, coupling=100)
    sound[1] = 0.5 * sound[0]  # a power of two: the products round alike
    out = through(strip, sound)
    assert np.array_equal(out[1], 0.5 * out[0])


@pytest.mark.parametrize("trim", [-9.0, 6.0])
def test_a_detector_trim_is_a_lower_threshold(trim):
    sound = noise(0.5)
    trimmed = through(compressor(CompressorSide(threshold_db=-30, trim_db=trim)), sound)
    lower = through(compressor(CompressorSide(threshold_db=-30 - trim)), sound)
    assert np.abs(trimmed - lower).max() < 1e-12


def test_look_ahead_on_one_leg_only_is_exactly_nothing_below_the_threshold():
    sound = 0.001 * noise(0.5)
    side = CompressorSide(threshold_db=-20, knee_db=0, look_ahead_ms=5.0)
    assert np.array_equal(
        through(compressor(side, CompressorSide(threshold_db=-20, knee_db=0)), sound), sound
    )
    assert np.array_equal(through(compressor(None, side), sound), sound)


def test_look_ahead_turns_down_before_the_peak():
    sound = np.concatenate([steady(-40, 0.1), steady(-6, 0.1)], axis=1)
    late = CompressorSide(threshold_db=-30, ratio=100, attack_ms=1.0)
    ahead = CompressorSide(threshold_db=-30, ratio=100, attack_ms=1.0, look_ahead_ms=5.0)
    first = int(0.1 * RATE) + 2
    assert gain_db(compressor(ahead), sound)[0, first] < -20 < gain_db(compressor(late), sound)[0, first]


def test_the_detector_hears_its_window_only():
    low, high = sine(60, 1.0, -6), sine(3000, 1.0, -6)
    side = CompressorSide(threshold_db=-30, low_hz=1000, release_ms=300)
    quiet = gain_of_rms(compressor(side), low)
    assert quiet > -1.0 > -8.0 > gain_of_rms(compressor(side), high)
    tilted = CompressorSide(threshold_db=-30, tilt_db=-24, release_ms=300)
    assert gain_of_rms(compressor(tilted), high) > gain_of_rms(compressor(tilted), low) + 3


def gain_of_rms(strip: Strip, sound: np.ndarray) -> float:
    out = through(strip, sound)[0, RATE // 2 :]
    return float(20 * np.log10(np.sqrt(np.mean(out**2) / np.mean(sound[0, RATE // 2 :] ** 2))))


def test_range_makeup_and_rms():
    loud = steady(-2)
    assert gain_db(compressor(CompressorSide(threshold_db=-40, ratio=10, range_db=6)), loud)[
        0, -1
    ] == pytest.approx(-6, abs=0.01)
    side = CompressorSide(threshold_db=-40, ratio=4, auto_makeup=True, makeup_db=1)
    assert gain_db(compressor(side), steady(-80))[0, -1] == pytest.approx(1 + 0.5 * 0.75 * 40, abs=0.01)
    tone = sine(1000, 1.0, -10)
    rms = CompressorSide(threshold_db=-30, ratio=100, knee_db=0, attack_ms=5, release_ms=5)
    assert gain_of_rms(compressor(rms, detection="rms"), tone) == pytest.approx(-(30 - 13.01), abs=0.15)


BUSY = compressor(
    CompressorSide(threshold_db=-35, ratio=5, look_ahead_ms=1.5, low_hz=200, adaptive=True),
    CompressorSide(threshold_db=-25, attack_ms=0.3, tilt_db=6),
    coupling=40,
    detection="rms",
)


@given(st.lists(st.integers(1, 9999), max_size=14))
@settings(max_examples=15, deadline=None)
def test_the_block_size_does_not_change_a_bit(edges):
    sound = noise(10_000 / RATE)
    wanted = Chain(BUSY, RATE).process(sound, 0)
    chain = Chain(BUSY, RATE)
    places = sorted({0, 10_000, *edges})
    out = [chain.process(sound[:, a:b].copy(), a) for a, b in itertools.pairwise(places)]
    assert np.array_equal(np.concatenate(out, axis=1), wanted)


def test_silence_nan_and_full_scale():
    assert np.array_equal(through(BUSY, np.zeros((2, 5000))), np.zeros((2, 5000)))
    bad = noise(0.1)
    bad[0, 1000] = np.nan
    assert np.isfinite(through(BUSY, bad)).all()
    assert np.isfinite(through(BUSY, np.ones((2, 5000)))).all()


def gate(upper: GateSide | None, lower: GateSide | None = None, **shared) -> Strip:
    return Strip(
        split=LEFT_RIGHT, stages=(Gate(id=2, upper=upper, lower=lower, shared=GateShared(**shared)),)
    )


@pytest.mark.parametrize("ratio", [2.0, 100.0])
@pytest.mark.parametrize("knee", [0.0, 8.0])
def test_the_expanders_static_curve(ratio, knee):
    side = GateSide(
        threshold_db=-40, ratio=ratio, knee_db=knee, range_db=50, hysteresis_db=0, hold_ms=0, **QUICK
    )
    for level in np.arange(-90.0, 0.5, 2.5):
        made = gain_db(gate(side), steady(level, 0.3))[0, -1]
        under = -40.0 - level
        if under <= -knee / 2:
            wanted = 0.0
        elif abs(under) <= knee / 2:
            wanted = -(ratio - 1) * (under + knee / 2) ** 2 / (2 * knee)
        else:
            wanted = -(ratio - 1) * under
        assert made == pytest.approx(max(wanted, -50.0), abs=0.1)


def test_hold_and_hysteresis_keep_a_gate_open():
    side = GateSide(
        threshold_db=-30, ratio=100, range_db=60, attack_ms=0.05, release_ms=5, hold_ms=50, hysteresis_db=6
    )
    sound = np.concatenate([steady(-20, 0.1), steady(-34, 0.3), steady(-40, 0.5)], axis=1)
    gains = gain_db(gate(side), sound)[0]
    assert gains[int(0.35 * RATE)] == pytest.approx(0, abs=1e-6)  # under the threshold, within the hysteresis
    closing = int(0.4 * RATE)
    assert gains[closing + int(0.045 * RATE)] == pytest.approx(0, abs=1e-6)  # held
    assert gains[closing + int(0.1 * RATE)] < -50
    assert gain_db(gate(side), steady(-34, 0.3))[0, -1] < -50  # coming from below it is closed there


def test_coupled_gates_open_together():
    loud = np.stack([steady(-10)[0], steady(-60)[1]])
    side = GateSide(threshold_db=-40, ratio=4, range_db=30)
    alone, together = (gain_db(gate(side, side, coupling=c), loud)[1, -1] for c in (0, 100))
    assert alone == pytest.approx(-30, abs=0.1) and together == pytest.approx(0, abs=1e-6)
    quiet = np.stack([loud[0], loud[1]])
    quiet[0] *= 0.5
    strip = gate(side, side)
    assert np.array_equal(through(strip, loud)[1], through(strip, quiet)[1])


def test_a_gate_that_is_open_is_exactly_nothing_and_blocks_do_not_matter():
    side = GateSide(threshold_db=-80, look_ahead_ms=2.0)
    sound = noise(0.3)
    strip = gate(side, None)
    out = through(strip, sound)
    assert np.array_equal(out[:, 200:], sound[:, 200:])
    strip = gate(GateSide(threshold_db=-25, low_hz=300), GateSide(threshold_db=-20, hold_ms=3), coupling=30)
    wanted = Chain(strip, RATE).process(sound, 0)
    chain = Chain(strip, RATE)
    parts = [
        chain.process(sound[:, a:b].copy(), a)
        for a, b in itertools.pairwise([0, 7, 1000, 1001, 9000, 14_400])
    ]
    assert np.array_equal(np.concatenate(parts, axis=1), wanted)


def limiter(upper: LimiterSide | None, lower: LimiterSide | None = None, **shared) -> Strip:
    return Strip(
        split=LEFT_RIGHT, stages=(Limiter(id=2, upper=upper, lower=lower, shared=LimiterShared(**shared)),)
    )


def true_peak_db(sound: np.ndarray) -> float:
    """True peak by an interpolation of its own: 16 times, by the whole spectrum."""
    padded = np.pad(sound, ((0, 0), (500, 500)))
    return float(20 * np.log10(np.abs(signal.resample(padded, 16 * padded.shape[1], axis=1)).max()))


def overs() -> dict[str, np.ndarray]:
    """Sounds whose true peak is far over the ceiling of -1 dBTP."""
    t = np.arange(RATE // 2) / RATE
    programme = signal.sosfilt(
        signal.butter(10, 17_000, fs=RATE, output="sos"), np.random.default_rng(8).standard_normal(len(t))
    )
    fade = np.minimum(1, np.minimum(t, t[::-1]) / 0.005)
    return {
        # EBU Tech 3341, cases 15 to 18: sines at a quarter, a sixth and an eighth of the rate, phase turned.
        "quarter": np.sin(2 * np.pi * RATE / 4 * t + np.pi / 4) * fade * 1.41,
        "sixth": np.sin(2 * np.pi * RATE / 6 * t + np.pi / 3) * fade * 1.41,
        "eighth": np.sin(2 * np.pi * RATE / 8 * t + 3 * np.pi / 8) * fade * 1.41,
        "square": np.sign(np.sin(2 * np.pi * 441 * t)) * fade * 1.2,
        "noise": programme * fade * 0.8,
        "hits": programme * fade * np.exp(-((t * 7) % 1) * 12) * 4,
    }


def ideal_peak_db(sound: np.ndarray) -> float:
    """Largest value of the band-limited signal through samples (frames,), in dB; the ends are faded out."""
    faded = sound * signal.windows.tukey(len(sound), 0.1)
    spectrum = np.fft.rfft(faded)
    fine = np.zeros(len(sound) * 8 + 1, dtype=complex)
    fine[: len(spectrum)] = spectrum
    return float(20 * np.log10(16 * np.abs(np.fft.irfft(fine, len(sound) * 16)).max()))


def loud_sounds(rate: int) -> dict[str, np.ndarray]:
    """A second each of what has peaks between its samples, up to half the rate."""
    rng = np.random.default_rng(rate)
    t = np.arange(rate) / rate
    clicks = np.zeros(rate)
    clicks[rng.integers(0, rate, 200)] = rng.choice([-1.5, 1.5], 200)
    return {
        "white noise": 0.3 * rng.standard_normal(rate),
        "uniform noise": 10.0 * rng.uniform(-1, 1, rate),
        "random signs": 2.0 * rng.choice([-1.0, 1.0], rate),
        "squares": np.sign(np.sin(2 * np.pi * 5000.3 * t + 0.1)),
        "clicks": clicks,
        "programme and noise": 0.5 * np.sin(2 * np.pi * 100 * t) + 0.3 * rng.standard_normal(rate),
        "a tone near half the rate": 1.5 * np.sin(2 * np.pi * 0.48 * np.arange(rate)),
    }


@pytest.mark.slow
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
def test_nothing_at_all_passes_the_ceiling(rate):
    worst, where = -99.0, ""
    for drive, release, ahead in ((0.0, 80.0, 2.0), (20.0, 5.0, 0.5), (36.0, 50.0, 10.0)):
        for name, sound in loud_sounds(rate).items():
            side = LimiterSide(drive_db=drive, release_ms=release)
            stage = Limiter(id=2, upper=side, lower=None, shared=LimiterShared(look_ahead_ms=ahead))
            chain = Chain(Strip(split=LEFT_RIGHT, stages=(stage,)), rate)
            peak = ideal_peak_db(chain.process(np.stack([sound, sound]), 0)[0])
            if peak > worst:
                worst, where = peak, f"{name}, drive {drive} dB, {ahead}/{release} ms"
    print(f"{rate} Hz: {worst + 1:+.3f} dB over the ceiling at the most, {where}")
    assert worst <= -1.0 + 0.1


@pytest.mark.parametrize("name", list(overs()))
def test_nothing_passes_the_ceiling_not_even_between_samples(name):
    sound = np.stack([overs()[name], 0.5 * overs()[name]])
    peak = true_peak_db(through(limiter(LimiterSide(), LimiterSide()), sound))
    print(f"{name}: true peak {peak:.3f} dBTP under a ceiling of -1")
    assert peak <= -1.0 + 0.1


def test_a_limiter_is_exactly_nothing_below_its_ceiling():
    sound = noise(0.5)
    sound *= 0.8 / np.abs(sound).max() * 10 ** (-2 / 20)
    assert np.array_equal(through(limiter(LimiterSide(), LimiterSide()), sound), sound)
    assert np.array_equal(through(limiter(None, LimiterSide()), sound), sound)


def test_a_limiter_comes_back_and_drives_and_couples():
    sound = np.concatenate([steady(6, 0.2), steady(-20, 1.0)], axis=1)
    out = through(limiter(LimiterSide(release_ms=50)), sound)
    assert np.array_equal(out[:, -100:], sound[:, -100:])
    driven = through(limiter(LimiterSide(drive_db=12)), steady(-20, 0.3))
    assert 20 * np.log10(driven[0, -1]) == pytest.approx(-8, abs=1e-6)
    loud = np.stack([steady(6)[0], steady(-30)[1]])
    gains = [
        through(limiter(LimiterSide(), LimiterSide(), coupling=c), loud)[:, -1] / loud[:, -1]
        for c in (0, 50, 100)
    ]
    assert gains[0][1] == 1.0 > gains[1][1] > gains[2][1]
    assert gains[2][0] == pytest.approx(gains[2][1], rel=1e-12)


def test_a_limiter_does_not_depend_on_the_block_size():
    sound = 4 * noise(0.3)
    strip = limiter(LimiterSide(), LimiterSide(release_ms=20), coupling=30)
    wanted = Chain(strip, RATE).process(sound, 0)
    chain = Chain(strip, RATE)
    parts = [
        chain.process(sound[:, a:b].copy(), a) for a, b in itertools.pairwise([0, 1, 30, 1000, 1001, 14_400])
    ]
    assert np.array_equal(np.concatenate(parts, axis=1), wanted)
