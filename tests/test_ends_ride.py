"""What moves of a strip besides its stages: the ends, the legs' delays, switches; against closed forms."""

import itertools

import msgspec
import numpy as np
import pytest
from conftest import RATE
from scipy import signal
from trees import SPLITS, drawn_strip

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.course import Course
from stonekite.session import ride_edits
from stonekite.session.ride_edits import Address
from stonekite.session.spur import Spur
from stonekite.session.types import Intake, Leg, Output, Split, Strip
from stonekite.signal.delay import TAPS
from stonekite.stages import planning
from stonekite.stages.branch import Branch
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.echo.settings import Echo, EchoSide
from stonekite.stages.eq import Eq, EqShared, EqSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.limiter import Limiter, LimiterSide
from stonekite.stages.riding import Point, Ride

APART = Split(mode="left-right")


def ride(path: str, *points: tuple[float, float], way: str = "straight") -> Ride:
    return Ride(path=path, points=tuple(Point(at_s=at, value=value, way=way) for at, value in points))


def through(strip: Strip, sound: np.ndarray, rate: float = RATE, blocks=(512,), start: int = 0) -> np.ndarray:
    """Sound (2, frames) through a strip without its latency, in blocks of these sizes in turns, from a frame on."""
    chain = Chain(strip, rate)
    sizes, out, done = itertools.cycle(blocks), [], start
    while done < sound.shape[1]:
        block = sound[:, done : done + next(sizes)]
        out.append(chain.process(block, done))
        done += block.shape[1]
    return np.concatenate(out, axis=1)[:, chain.latency :]


def tone(hz: float, seconds: float = 2.0, rate: float = RATE) -> np.ndarray:
    wave = 0.25 * np.sin(2 * np.pi * hz * np.arange(int(seconds * rate)) / rate)
    return np.stack([wave, wave])


def test_width_balance_and_level_of_the_output_are_what_the_closed_form_says():
    sound = np.stack([np.full(2 * RATE, 0.5), np.full(2 * RATE, -0.1)])
    output = Output(
        rides=(
            ride("width", (0.0, 0.0), (2.0, 200.0)),
            ride("trim_db", (0.0, -20.0), (2.0, 0.0)),
            ride("balance", (0.0, 0.0), (2.0, 50.0)),
        )
    )
    out = through(Strip(split=APART, output=output), sound)
    at = np.arange(0, 2 * RATE - 64, 64)
    t = at / RATE
    side = 0.5 * t
    level = 10 ** ((-20.0 + 10.0 * t) / 20)
    left = level * (1 - 0.25 * t) * (0.5 * (0.5 + side) - 0.1 * (0.5 - side))
    right = level * (0.5 * (0.5 - side) - 0.1 * (0.5 + side))
    assert np.abs(out[0, at] - left).max() < 1e-9 and np.abs(out[1, at] - right).max() < 1e-9


def test_a_side_of_the_output_is_moved_across_at_constant_power():
    sound = np.stack([np.full(RATE, 0.5), np.zeros(RATE)])
    output = Output(rides=(ride("left.position", (0.0, -100.0), (1.0, 100.0)),))
    out = through(Strip(split=APART, output=output), sound)
    at = np.arange(0, RATE - 64, 64)
    assert np.abs(np.hypot(*out[:, at]) - 0.5).max() < 1e-9
    assert np.abs(np.arctan2(out[1, at], out[0, at]) - 0.5 * np.pi * at / RATE).max() < 1e-9


def test_trims_and_polarity_of_the_intake_ride_before_all_that_is_late():
    intake = Intake(
        rides=(ride("left.trim_db", (0.0, -12.0), (2.0, 0.0)), ride("right.inverted", (1.0, 0.0), (1.5, 1.0)))
    )
    late = Limiter(id=1, upper=LimiterSide(ceiling_db=0.0), lower=LimiterSide(ceiling_db=0.0))
    out = through(Strip(split=APART, intake=intake, stages=(late,)), np.full((2, 2 * RATE), 0.25))
    at = np.arange(64, int(1.9 * RATE), 64)
    assert np.abs(20 * np.log10(out[0, at] / 0.25) - (-12.0 + 6.0 * at / RATE)).max() < 0.01
    assert np.abs(out[1, : int(1.49 * RATE)] - 0.25).max() < 1e-3
    assert np.abs(out[1, int(1.511 * RATE) : int(1.9 * RATE)] + 0.25).max() < 1e-3


def test_the_ceiling_of_the_output_rides():
    output = Output(limited=True, rides=(ride("ceiling_db", (0.0, -3.0), (2.0, -15.0)),))
    out = through(Strip(output=output), 4 * tone(997.0))
    for at_s in (0.5, 1.0, 1.5):
        peak = np.abs(out[:, int(at_s * RATE) : int((at_s + 0.02) * RATE)]).max()
        assert 20 * np.log10(peak) == pytest.approx(-3.0 - 6.0 * at_s, abs=0.25)


def test_a_leg_is_muted_and_turned_for_a_while_without_a_click():
    upper = Leg(
        rides=(ride("muted", (0.0, 0.0), (0.5, 1.0), (1.0, 0.0)), ride("inverted", (0.0, 0.0), (1.5, 1.0)))
    )
    sound = tone(220.0)
    out = through(Strip(split=APART, upper=upper), sound)
    at = [int(s * RATE) for s in (0.5, 0.512, 1.0, 1.012, 1.5, 1.512)]
    assert np.array_equal(out[0, : at[0]], sound[0, : at[0]])
    assert not out[0, at[1] : at[2]].any()
    assert np.array_equal(out[0, at[3] : at[4]], sound[0, at[3] : at[4]])
    assert np.array_equal(out[0, at[5] :], -sound[0, at[5] :])
    assert np.array_equal(out[1], sound[1])
    high = signal.sosfilt(signal.butter(8, 8_000, "high", fs=RATE, output="sos"), out[0])
    assert 20 * np.log10(np.abs(high[2000:]).max()) < -75


def test_a_stage_is_in_for_a_while_and_otherwise_what_came():
    squeezed = CompressorSide(threshold_db=-40.0, ratio=8.0)
    stage = Compressor(id=1, upper=squeezed, lower=squeezed, level_kept=True, kept_db=9.0)
    rides = (ride("inserted", (0.0, 0.0), (0.5, 1.0), (1.0, 0.0)),)
    sound = tone(440.0)
    out = through(Strip(split=APART, stages=(msgspec.structs.replace(stage, rides=rides),)), sound)
    always = through(Strip(split=APART, stages=(stage,)), sound)
    assert np.array_equal(out[:, : RATE // 2], sound[:, : RATE // 2])
    during = slice(int(0.52 * RATE), RATE)
    assert np.abs(out[:, during] - always[:, during]).max() < 1e-12
    assert np.array_equal(out[:, int(1.02 * RATE) :], sound[:, int(1.02 * RATE) :])


def test_a_spur_moves_across_and_is_thrown_into():
    echo = Echo(id=7, upper=EchoSide(time_ms=250.0, feedback_db=-6.0), lower=None)
    spur = Spur(
        branch=Branch(id=5, stages=(echo,)),
        source="mid",
        rides=(ride("closed", (0.0, 1.0), (1.0, 0.0), (1.2, 1.0)),),
    )
    strip = Strip(split=Split(), spurs=(spur,), upper=Leg(muted=True), lower=Leg(muted=True))
    out = through(strip, tone(440.0, 4.0))
    assert not out[:, :RATE].any()  # nothing gets in before
    assert np.abs(out[:, int(1.26 * RATE) : int(1.44 * RATE)]).max() > 0.1
    last = [np.abs(out[:, int(s * RATE) : int((s + 0.25) * RATE)]).max() for s in (1.25, 2.25, 3.25)]
    assert 0.0 < last[2] < last[1] < last[0]  # it rings on

    placed = msgspec.structs.replace(
        spur, branch=Branch(id=5), placed=True, rides=(ride("position", (0.0, -100.0), (2.0, 100.0)),)
    )
    out = through(msgspec.structs.replace(strip, spurs=(placed,)), np.full((2, 2 * RATE), 0.5))
    at = np.arange(0, 2 * RATE - 64, 64)
    assert np.abs(np.hypot(*out[:, at]) - 0.5).max() < 1e-9
    assert np.abs(np.arctan2(out[1, at], out[0, at]) - 0.25 * np.pi * at / RATE).max() < 1e-9


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
def test_a_delay_that_rides_as_tape_does_is_where_it_should_be_to_a_thousandth_of_a_sample(rate):
    """A tone that is read at t - d(t): the phase tells the delay."""
    hz = 1000.0
    upper = Leg(delay_way="tape", rides=(ride("delay_ms", (0.5, 3.0), (1.5, 23.0), (2.0, 23.0)),))
    out = through(Strip(split=APART, upper=upper), tone(hz, 2.0, rate), rate)
    at = np.arange(int(0.3 * rate), out.shape[1] - 3)
    t = at / rate
    late_ms = np.interp(t, [0.5, 1.5], [3.0, 23.0])
    wanted = 0.25 * np.sin(2 * np.pi * hz * (t - late_ms * 1e-3))
    slope = 2 * np.pi * hz * 0.25 / rate  # of the tone, for each sample
    off = np.abs(out[0, at] - wanted)
    corners = (np.abs(t - 0.5) < 0.002) | (np.abs(t - 1.5) < 0.002)  # rounded off within a cell
    assert off[~corners].max() / slope < 1e-3
    assert off[corners].max() / slope < 64 * 0.02 / 4 + 1e-3
    assert (
        np.array_equal(out[1, : len(t)], tone(hz, 2.0, rate)[1, : len(t)])
        or np.abs(out[1] - tone(hz, 2.0, rate)[1, : out.shape[1]]).max() < 1e-12
    )


@pytest.mark.parametrize("delay_ms", [0.0, 0.37, 12.0, 999.9])
@pytest.mark.parametrize("way", ["over", "tape"])
def test_a_delay_that_has_come_to_rest_is_as_one_that_stands(delay_ms, way):
    sound = 0.2 * np.random.default_rng(3).standard_normal((2, 3 * RATE))
    sound = signal.sosfilt(signal.butter(6, 18_000, fs=RATE, output="sos"), sound)
    moving = Leg(delay_way=way, rides=(ride("delay_ms", (0.0, 20.0), (0.8, delay_ms)),))
    out = through(Strip(split=APART, lower=moving), sound)
    still = through(Strip(split=APART, lower=Leg(delay_ms=delay_ms)), sound)
    after = slice(2 * RATE, min(out.shape[1], still.shape[1]))
    assert np.abs(out[:, after] - still[:, after]).max() < 1e-6


def test_a_jump_of_the_delay_goes_over_from_copy_to_copy_without_a_click():
    upper = Leg(rides=(ride("delay_ms", (0.0, 3.3), (1.0, 23.6), way="held"),))
    hz = 1000.0
    out = through(Strip(split=APART, upper=upper), tone(hz))
    t = np.arange(out.shape[1]) / RATE
    for late_ms, span in ((3.3, slice(RATE // 10, RATE)), (23.6, slice(int(1.05 * RATE), -100))):
        wanted = 0.25 * np.sin(2 * np.pi * hz * (t - late_ms * 1e-3))
        assert np.abs(out[0, span] - wanted[span]).max() < 1e-6
    high = signal.sosfilt(signal.butter(8, 8_000, "high", fs=RATE, output="sos"), out[0])
    assert 20 * np.log10(np.abs(high[4000:-4000]).max()) < -80


def test_the_other_leg_spurs_and_the_unprocessed_stay_where_they_are():
    sound = 0.2 * np.random.default_rng(5).standard_normal((2, RATE))
    spur = Spur(
        branch=Branch(id=5, stages=(Gain(id=6, upper=GainSide(gain_db=-6.0), lower=GainSide(gain_db=-6.0)),))
    )
    upper = Leg(rides=(ride("delay_ms", (0.1, 0.0), (0.9, 30.0)),))
    strip = Strip(split=APART, spurs=(spur,), upper=upper)
    chain = Chain(strip, RATE)
    assert chain.latency == TAPS // 2
    out = through(strip, sound)
    assert np.abs(out[1] - (1 + 10 ** (-6 / 20)) * sound[1, : out.shape[1]]).max() < 1e-12


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(8))
def test_ends_that_ride_are_the_same_in_any_blocks_and_through_jumps(seed):
    strip = drawn_strip(1000 + seed, spurs=1, stages=1)
    rng = np.random.default_rng(seed)
    strip = msgspec.structs.replace(
        strip,
        intake=Intake(
            rides=(
                ride("left.trim_db", (0.1, -9.0), (0.6, 3.0)),
                ride("right.inverted", (0.0, 0.0), (0.3, 1.0)),
            )
        ),
        output=Output(
            limited=True,
            rides=(
                ride("width", (0.0, 20.0), (0.7, 150.0)),
                ride("trim_db", (0.2, -30.0), (0.5, 0.0), way="curved"),
                ride("ceiling_db", (0.0, -3.0), (0.7, -12.0)),
            ),
        ),
        upper=Leg(delay_way=("over", "tape")[seed % 2], rides=(ride("delay_ms", (0.0, 0.0), (0.6, 17.0)),)),
        lower=Leg(rides=(ride("muted", (0.0, 0.0), (0.2, 1.0), (0.3, 0.0)),)),
    )
    sound = 0.3 * rng.standard_normal((2, 40_000))
    whole = through(strip, sound)
    assert np.isfinite(whole).all()
    for blocks in ([1, 7, 63, 65, 999], [9_999]):
        assert np.array_equal(through(strip, sound, blocks=blocks), whole)
    heard = []
    for blocks in (500, 1700):
        course = Course()
        for at, place in ((9_000, 2_000), (17_003, 4_500), (25_000, 100)):
            course.jump(at, place)
        chain = Chain(strip, RATE, course=course)
        parts = [chain.process(sound[:, k : k + blocks], k) for k in range(0, sound.shape[1], blocks)]
        heard.append(np.concatenate(parts, axis=1))
    assert np.array_equal(*heard)


def test_a_switch_that_rides_is_turned_from_its_point_on():
    strip = Strip(upper=Leg(rides=(ride("muted", (1.0, 0.0), (2.0, 1.0), (3.0, 0.0)),)))
    assert [ride_edits.shown(strip.upper, s).muted for s in (0.5, 1.5, 2.5, 3.5)] == [
        False,
        False,
        True,
        False,
    ]
    by_hand = msgspec.structs.replace(strip, upper=msgspec.structs.replace(strip.upper, muted=True))
    made = ride_edits.carried(strip, by_hand, 1.5)
    assert [point.value for point in made.upper.rides[0].points] == [1.0, 1.0, 0.0]
    assert made.upper.muted is False
    assert ride_edits.touched(Strip(), Strip(upper=Leg(muted=True))) == Address("leg", 0, "muted")
    for address, why in (
        (Address("leg", 0, "alone"), "listening"),
        (Address("output", 0, "limited"), "ceiling"),
        (Address("output", 0, "law"), "Only numbers and switches"),
        (Address("output", 0, "ceiling_db"), "not limited"),
        (Address("intake", 0, "left.delay_ms"), "leg"),
    ):
        assert why in ride_edits.why_not(Strip(), address)


def test_all_that_rides_of_the_ends_changes_neither_latency_nor_structure():
    for split in SPLITS:
        part = Strip(split=split, output=Output(limited=True))
        still = Chain(part, RATE).latency
        for name in ("intake", "output", "upper", "lower"):
            for path, setting in planning.ridable(getattr(part, name)).items():
                low, high = setting.low, setting.high
                end = msgspec.structs.replace(
                    getattr(part, name), rides=(ride(path, (0.0, low), (1.0, high)),)
                )
                made = Chain(msgspec.structs.replace(part, **{name: end}), RATE)
                assert made.latency == still + (TAPS // 2 if path == "delay_ms" else 0), path


@pytest.mark.parametrize("rate", [44_100.0, 96_000.0])
@pytest.mark.parametrize("way", ["over", "tape"])
@pytest.mark.parametrize("from_ms", [-17.0, 4.0])
def test_the_delay_of_a_spur_rides_before_and_behind_the_legs(rate, way, from_ms):
    """Where it has come to rest it is where one stands that never moved; the legs stay where they are."""
    rng = np.random.default_rng(3)
    late = Eq(id=8, shared=EqShared(phase="linear"), upper=EqSide(), lower=EqSide())
    branch = Branch(id=5, stages=(late,))
    moving = Spur(branch=branch, delay_way=way, rides=(ride("delay_ms", (0.2, from_ms), (0.8, 3.37)),))
    sound = signal.sosfiltfilt(
        signal.butter(4, 15_000, fs=rate, output="sos"), 0.2 * rng.standard_normal((2, int(1.4 * rate)))
    )
    out = through(Strip(split=APART, spurs=(moving,)), sound, rate)
    for begin, end, ms in ((0.0, 0.19, from_ms), (0.9, 1.2, 3.37)):
        still = msgspec.structs.replace(moving, rides=(), delay_ms=ms)
        wanted = through(Strip(split=APART, spurs=(still,)), sound, rate)
        part = slice(int(begin * rate), int(end * rate))
        assert np.abs(out[:, part] - wanted[:, part]).max() < 1e-6
    blocks = through(Strip(split=APART, spurs=(moving,)), sound, rate, blocks=(1, 700, 63, 9_001))
    assert np.array_equal(blocks, out)
    assert ride_edits.why_not(Strip(spurs=(moving,)), Address("spur", 5, "delay_ms")) == ""


def test_linear_phase_before_it_makes_no_difference_to_where_an_end_rides():
    late = Eq(id=1, shared=EqShared(phase="linear"))
    output = Output(rides=(ride("trim_db", (0.0, -24.0), (1.0, 0.0)),))
    plain = through(Strip(split=APART, output=output), np.full((2, RATE), 0.25))
    behind = through(Strip(split=APART, output=output, stages=(late,)), np.full((2, RATE), 0.25))
    count = min(plain.shape[1], behind.shape[1])
    assert np.abs(plain[:, :count] - behind[:, :count])[:, 6000:-6000].max() < 1e-6
