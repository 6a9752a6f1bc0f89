"""Echo: times, repeats, growing and falling, guard, tails; chorus and phaser: against closed forms."""

import itertools
import math

import msgspec
import numpy as np
import pytest
from conftest import RATE, THOROUGH
from test_kinds import programme
from trees import drawn, drawn_branch

from stonekite import notes
from stonekite.engine.graph.chain import Chain
from stonekite.engine.mix.strip import StripPlayer
from stonekite.engine.offline.export import Exported, export
from stonekite.engine.offline.render import open_source
from stonekite.engine.play.playback import Playback
from stonekite.session.spur import Spur
from stonekite.session.types import Session, Sound, Source, Split, Stem, Strip
from stonekite.signal import loops
from stonekite.stages import echo
from stonekite.stages.base import Context
from stonekite.stages.branch import Branch
from stonekite.stages.chorus import Chorus, ChorusSide
from stonekite.stages.compressor import Compressor
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.echo.settings import Echo, EchoShared, EchoSide, Tap
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.machinery.swinging import SwingShared
from stonekite.stages.phaser import Phaser, PhaserSide
from stonekite.stages.planning import plan_of, refusal
from stonekite.stages.registry import heard_response

LEFT_RIGHT = Split(mode="left-right")
WET = EchoShared(dry_db=-120.0)


def strip_of(*stages, split: Split = LEFT_RIGHT) -> Strip:
    return Strip(split=split, stages=stages)


def heard(stage, sound: np.ndarray, rate: float = RATE) -> np.ndarray:
    chain = Chain(strip_of(stage), rate)
    return chain.process(np.pad(sound, ((0, 0), (0, chain.latency))), 0)[:, chain.latency :]


def impulse(frames: int, at: int = 64, legs=(1.0, 1.0)) -> np.ndarray:
    sound = np.zeros((2, frames))
    sound[:, at] = legs
    return sound


def in_loop(*stages) -> tuple[Branch, ...]:
    return (
        Branch(id=900, stages=tuple(msgspec.structs.replace(s, id=901 + k) for k, s in enumerate(stages))),
    )


TIMES_MS = (1.0, 1.37, 2.501, 10.003, 100.3, 454.5454, 625.0, 681.8181, 937.5, 1234.567, 3999.9)


@pytest.mark.parametrize("rate", [8000, 44_100, 48_000, 96_000, 192_000])
def test_every_time_is_what_was_asked_for(rate):
    worst, flat, where = 0.0, 0.0, 0.0
    for ms in TIMES_MS:
        side = EchoSide(time_ms=ms, feedback_db=-120.0, level_db=0.0)
        out = heard(
            Echo(id=3, upper=side, lower=None, shared=WET), impulse(int(ms * 1e-3 * rate) + 4096), rate
        )
        size = 1 << (out.shape[1] - 1).bit_length()
        hz = np.fft.rfftfreq(size, 1 / rate)
        spectrum = np.fft.rfft(out[0], size) * np.exp(2j * np.pi * hz * (ms * 1e-3 + 64 / rate))
        near = (hz > 20) & (hz < min(20_000.0, 0.4 * rate))
        off = float(np.abs(np.angle(spectrum[near]) / (2 * np.pi * hz[near] / rate)).max())
        if off > worst:
            worst, where = off, ms
        if ms * 1e-3 * rate > 40:
            flat = max(flat, float(np.abs(20 * np.log10(np.abs(spectrum[near]))).max()))
    print(f"{rate} Hz: off by {worst:.5f} samples at the most ({where} ms), {flat:.4f} dB off flat")
    assert worst <= 0.01
    assert flat <= 0.02


@pytest.mark.parametrize(
    ("bpm", "note", "ms"),
    [(96, "1 beat", 625.0), (132, "1 beat", 454.545), (96, "1.5 beats", 937.5), (132, "1.5 beats", 681.818)],
)
def test_notes_are_as_long_as_the_tempo_says(bpm, note, ms):
    assert 1000 * notes.seconds(note, bpm) == pytest.approx(ms, abs=1e-3)
    assert notes.beats("1/4 dotted") == 1.5 and notes.beats("1/8 triplet") == pytest.approx(1 / 3)
    for name in notes.names():
        assert notes.beats(notes.named(notes.beats(name))) == pytest.approx(notes.beats(name))


LINEAR = {
    "nothing": ({}, ()),
    "low-pass": ({"low_pass_hz": 3000.0}, ()),
    "low-pass, 6 dB": ({"low_pass_hz": 3000.0, "slope": 6}, ()),
    "high-pass": ({"high_pass_hz": 400.0}, ()),
    "bells": ({"low_gain_db": 1.2, "low_hz": 200.0, "high_gain_db": -5.0, "high_hz": 3000.0, "high_q": 3.0}, ()),
    "EQ": ({}, (Eq(id=1, upper=EqSide(bands=(Band(gain_db=-4.0, frequency_hz=900.0),)), lower=EqSide(bands=(Band(gain_db=3.0),))),)),
    "late EQ": ({}, (Eq(id=1, upper=EqSide(bands=(Band(gain_db=-4.0, frequency_hz=900.0),)), shared=EqShared(phase="linear")),)),
    "filter": ({"high_pass_hz": 60.0}, (Filter(id=1, lower=FilterSide(low_pass=True, low_pass_hz=5000.0)),)),
}  # fmt: skip


@pytest.mark.parametrize("what", list(LINEAR))
@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_the_kth_echo_is_the_loops_response_to_the_kth_power(what, rate):
    """Equal times, fed across: the k-th echo is F (G F)^(k-1) of what went in, with matrices."""
    settings, inside = LINEAR[what]
    ms = 251.37
    upper = EchoSide(time_ms=ms, level_db=0.0, feedback_db=-4.0, cross_db=-12.0, **settings)
    lower = msgspec.structs.replace(upper, feedback_db=-7.0, cross_db=-9.0)
    stage = Echo(id=3, upper=upper, lower=lower, shared=WET, branches=in_loop(*inside))
    assert refusal(stage, Context(rate)) == "" and not echo.is_bounded(stage, rate)
    turn = ms * 1e-3 * rate
    out = heard(stage, impulse(int(7.5 * turn), legs=(1.0, 0.5)), rate)
    size = 1 << 14
    hz = np.fft.rfftfreq(size, 1 / rate)
    near = (hz > 80) & (hz < 20_000)
    own = echo.own(stage, hz[near], rate)
    for part in inside:
        own = own * np.array([heard_response(part, leg, hz[near], rate) for leg in ("upper", "lower")])
    gains = echo.feedback(stage)
    came = own * np.array([[1.0], [0.5]])
    worst, where = 0.0, 0
    for k in range(1, 7):
        first = int(64 + k * turn) - 2500
        piece = np.fft.rfft(out[:, first : first + size // 2], size, axis=1)[:, near]
        loud = np.abs(came) > 1e-2 * np.abs(came).max()
        off = float(np.abs(20 * np.log10(np.abs(piece[loud]) / np.abs(came[loud]))).max())
        if off > worst:
            worst, where = off, k
        came = own * np.einsum("ab,bn->an", gains, came)
    print(f"{what} at {rate} Hz: echoes 1 to 6 off by {worst:.3f} dB at the most, in the {where}.")
    assert worst <= 0.1


def drawn_echo(seed: int) -> Echo:
    """An echo with random settings, taps and stages in its loop that fit: it may grow."""
    rng = np.random.default_rng(seed)
    sides = {leg: drawn(EchoSide, rng) for leg in ("upper", "lower")}
    shared = msgspec.structs.replace(
        drawn(EchoShared, rng), taps=tuple(drawn(Tap, rng) for _ in range(int(rng.integers(4))))
    )
    stage = Echo(id=3, shared=shared, **sides)
    inner = drawn_branch(rng, 100, int(rng.integers(3)), 1.0, 1)
    whole = msgspec.structs.replace(stage, branches=(inner,))
    return stage if refusal(whole, Context(RATE)) else whole


@pytest.mark.parametrize("seed", range(60 if THOROUGH else 12))
def test_nothing_is_ever_louder_than_the_guard_or_no_number(seed):
    stage = drawn_echo(seed)
    rng = np.random.default_rng(seed)
    sound = np.clip(4.0 * programme(2.0, seed) + 0.3 * rng.standard_normal((2, 2 * RATE)), -1, 1)
    sound = np.pad(sound, ((0, 0), (0, 2 * RATE)))
    out = heard(stage, sound)
    assert np.isfinite(out).all()
    mix = max(side.mix for side in (stage.upper, stage.lower))
    print(
        f"margin {echo.margin_db(stage, RATE):.1f} dB, loudest {20 * np.log10(np.abs(out).max()):.1f} dBFS, {mix:.0f} %"
    )
    assert np.abs(out).max() <= 10 ** (12 / 20) * (1 + 1e-9)


def test_a_loop_that_would_grow_is_bounded_and_marked_and_one_that_falls_is_not_touched():
    growing = Echo(id=3, upper=EchoSide(time_ms=40.0, feedback_db=3.0), lower=None)
    falling = Echo(id=3, upper=EchoSide(time_ms=40.0, feedback_db=-0.5), lower=None)
    assert echo.margin_db(growing, RATE) == pytest.approx(-3.0) and echo.is_bounded(growing, RATE)
    assert echo.margin_db(falling, RATE) == pytest.approx(0.5) and not echo.is_bounded(falling, RATE)
    out = heard(growing, np.pad(programme(0.5, 1), ((0, 0), (0, 6 * RATE))))
    assert 0.2 < np.abs(out[0, -RATE:]).max() < 1.0
    loud = heard(falling, 8.0 * impulse(RATE))
    assert np.abs(loud[0, 64 + 1920]) > 1.9  # above full scale, and as it is


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(30))
def test_the_margin_is_that_of_the_worst_phases(seed):
    """Against eigenvalues of the matrix turned by all phases of both ways round."""
    rng = np.random.default_rng(seed)
    stage = Echo(
        id=3,
        upper=msgspec.structs.replace(drawn(EchoSide, rng), cross_db=float(rng.uniform(-20, 6))),
        lower=msgspec.structs.replace(drawn(EchoSide, rng), cross_db=float(rng.uniform(-20, 6))),
    )
    hz = np.sort(
        np.concatenate([np.geomspace(15, 23_000, 3000), [s.low_hz for s in (stage.upper, stage.lower)]])
    )
    own = echo.own(stage, hz, RATE)
    worst = 0.0
    for turned in np.exp(1j * np.linspace(0, 2 * np.pi, 33)):
        matrices = echo.feedback(stage)[None] * (own * np.array([[1.0], [turned]])).T[:, None, :]
        worst = max(worst, float(np.abs(np.linalg.eigvals(matrices)).max()))
    assert -20 * math.log10(worst) == pytest.approx(echo.margin_db(stage, RATE), abs=0.1)


def test_stages_in_the_loop_count_with_the_most_that_they_can_do():
    def margin(*inside, feedback=-12.0) -> float:
        sides = {leg: EchoSide(feedback_db=feedback) for leg in ("upper", "lower")}
        return echo.margin_db(Echo(id=3, branches=in_loop(*inside), **sides), RATE)

    assert margin() == pytest.approx(12.0)
    bell = EqSide(bands=(Band(gain_db=9.0, frequency_hz=1000.0),))
    assert margin(Eq(id=1, upper=bell, lower=bell)) == pytest.approx(3.0, abs=0.05)
    driven = DriveSide(drive_db=18.0, level_db=0.0)
    assert margin(Drive(id=1, upper=driven, lower=driven)) < 0.0
    squeezed = Compressor(id=1)
    made_up = msgspec.structs.replace(squeezed.upper, makeup_db=6.0)
    assert margin(Compressor(id=1, upper=made_up, lower=made_up)) == pytest.approx(6.0, abs=0.1)


def measured_fall(out: np.ndarray) -> float:
    """Seconds of a fall by 60 dB, by the slope of the backward sum of the squares (ISO 3382) down to -60 dB: sample by
    sample, each by the dB that are gone with it."""
    left = np.cumsum((out**2).sum(axis=0)[::-1])[::-1]
    curve = 10 * np.log10(np.maximum(left / left[0], 1e-13))
    last = int(np.flatnonzero(curve <= -60.0)[0]) + int(0.002 * RATE)
    gone = curve[:last] - curve[1 : last + 1]
    kept = np.flatnonzero(gone > 0.0)
    slope = np.polyfit(kept / RATE, curve[kept], 1, w=np.sqrt(gone[kept]))[0]
    return float(-60.0 / slope)


@pytest.mark.parametrize("seed", range(40 if THOROUGH else 16))
def test_the_predicted_decay_is_the_measured_one(seed):
    rng = np.random.default_rng(seed)

    def side() -> EchoSide:
        return EchoSide(
            time_ms=float(np.exp(rng.uniform(np.log(20), np.log(600)))),
            level_db=0.0,
            feedback_db=float(rng.uniform(-12, -2)),
            cross_db=float(rng.choice([-120.0, -24.0, -15.0])),
            low_pass_hz=float(rng.choice([20_000.0, 6000.0, 2500.0])),
            high_pass_hz=float(rng.choice([20.0, 100.0])),
        )

    inside = [(), (), (Filter(id=1),), (Eq(id=1, upper=EqSide(bands=(Band(gain_db=-3.0),))),)][seed % 4]
    stage = Echo(id=3, upper=side(), lower=side(), shared=WET, branches=in_loop(*inside))
    if echo.margin_db(stage, RATE) < 1.0:
        pytest.skip("it hardly falls")
    falls = echo.course(stage, RATE).falls_s
    assert falls is not None
    out = heard(stage, impulse(int((falls * 1.6 + 3.0) * RATE)))
    found = measured_fall(out)
    print(f"falls in {falls:.3f} s, measured {found:.3f}, off by {100 * (falls / found - 1):.2f} %")
    assert abs(falls - found) <= 0.05 * found


def test_even_echoes_fall_by_their_feedback():
    side = EchoSide(time_ms=500.0, feedback_db=-9.0)
    assert echo.course(Echo(id=3, upper=side, lower=side), RATE).falls_s == pytest.approx(
        0.5 * 60 / 9, rel=1e-3
    )


def test_echoes_stand_where_the_picture_says():
    upper = EchoSide(time_ms=100.0, level_db=-3.0, feedback_db=-6.0, cross_db=-10.0)
    lower = EchoSide(time_ms=150.0, level_db=-5.0, feedback_db=-8.0)
    stage = Echo(id=3, upper=upper, lower=lower, shared=EchoShared(start="upper", dry_db=-120.0))
    out = heard(stage, impulse(RATE, legs=(1.0, 1.0)))
    course = echo.course(stage, RATE)
    assert [e.leg for e in course.echoes[:3]] == [0, 0, 1]
    for one in course.echoes:
        if one.seconds < 0.9 and one.level_db > -50:
            at = 64 + round(one.seconds * RATE)
            assert 20 * np.log10(np.abs(out[one.leg, at])) == pytest.approx(one.level_db, abs=0.05)


def test_the_kinds_response_is_that_of_the_stage_with_taps_and_a_branch():
    tap = Tap(time_ms=33.3, level_db=-4.0, low_pass_hz=4000.0)
    stage = Echo(
        id=3,
        upper=EchoSide(time_ms=20.7, feedback_db=-8.0, cross_db=-12.0, low_pass_hz=5000.0),
        lower=EchoSide(time_ms=31.1, feedback_db=-10.0, cross_db=-14.0),
        shared=EchoShared(dry_db=-2.0, taps=(tap, msgspec.structs.replace(tap, time_ms=61.0)), darker=0.5),
        branches=in_loop(Filter(id=1)),
    )
    out = heard(stage, impulse(1 << 17, at=0, legs=(1.0, 0.0)))
    hz = np.fft.rfftfreq(1 << 17, 1 / RATE)
    near = (hz > 30) & (hz < 20_000)
    found = np.fft.rfft(out[0])[near]
    wanted = echo.response(stage, "upper", hz[near], RATE)
    assert np.abs(found - wanted).max() < 2e-3


@pytest.mark.parametrize("place", [-100.0, -40.0, 0.0, 70.0, 100.0])
@pytest.mark.parametrize("fed", ["own", "fold", "upper", "lower"])
def test_taps_stand_at_their_times_levels_and_places(fed, place):
    tap = Tap(time_ms=40.25, level_db=-6.0, place=place, fed=fed)
    quiet = EchoSide(level_db=-120.0)
    stage = Echo(id=3, upper=quiet, lower=quiet, shared=EchoShared(dry_db=-120.0, taps=(tap,)))
    out = heard(stage, impulse(8192, legs=(1.0, 0.5)))
    into = {"own": (1.0, 0.5), "fold": (0.75, 0.75), "upper": (1.0, 1.0), "lower": (0.5, 0.5)}[fed]
    share = (min(1.0, 1 - place / 100), min(1.0, 1 + place / 100))
    for row in range(2):
        wanted = 10 ** (-6 / 20) * into[row] * share[row]
        assert out[row, 64 + 1932] == pytest.approx(wanted, abs=1e-6)


def test_later_taps_are_darker_and_thinner_by_rule():
    taps = tuple(Tap(time_ms=100.0 * k, low_pass_hz=8000.0, high_pass_hz=100.0) for k in (3, 1, 2))
    shared = EchoShared(taps=taps, darker=1.0, thinner=0.5)
    corners = [echo.later_corners(shared, tap) for tap in taps]
    assert corners[1] == (100.0, 8000.0)
    assert corners[2] == pytest.approx((100.0 * 2**0.5, 4000.0))
    assert corners[0] == pytest.approx((200.0, 2000.0))


@pytest.mark.parametrize("moves", ["crossfade", "tape"])
def test_another_time_is_reached_without_a_click_and_as_chosen(moves):
    t = np.arange(6 * RATE) / RATE
    sound = np.stack([0.3 * np.sin(2 * np.pi * 440 * t)] * 2)
    shared = EchoShared(dry_db=-120.0, moves=moves)
    side = EchoSide(time_ms=300.0, level_db=0.0, feedback_db=-120.0)
    before = strip_of(Echo(id=3, upper=side, lower=side, shared=shared))
    moved = msgspec.structs.replace(side, time_ms=380.0)
    after = strip_of(Echo(id=3, upper=moved, lower=moved, shared=shared))
    player = StripPlayer(before, RATE)
    out = [player.process(sound[:, : 2 * RATE], 0)]
    player.update(after, 2 * RATE)
    out.append(player.process(sound[:, 2 * RATE :], 2 * RATE))
    whole = np.concatenate(out, axis=1)
    steps = np.abs(np.diff(whole[0, RATE:]))
    assert steps.max() <= 1.4 * 0.3 * 2 * np.pi * 440 / RATE
    late = whole[0, 5 * RATE :]
    assert np.abs(late - 0.3 * np.sin(2 * np.pi * 440 * (t[5 * RATE :] - 0.38))).max() < 1e-3
    # On its way a tape plays lower, by as much as it glides.
    way = whole[0, 2 * RATE + 2400 : 2 * RATE + 2400 + 8192]
    hz = np.argmax(np.abs(np.fft.rfft(way * np.hanning(8192), 1 << 18))) * RATE / (1 << 18)
    assert hz == pytest.approx(440 * (1 - echo.TAPE) if moves == "tape" else 440, rel=0.01)


def test_what_is_in_the_loops_survives_edits_that_do_not_touch_it():
    side = EchoSide(time_ms=200.0, feedback_db=-1.0, level_db=0.0)
    first = Echo(id=3, upper=side, lower=side, shared=WET)
    edits = [
        ("level", msgspec.structs.replace(first, upper=msgspec.structs.replace(side, level_db=-6.0))),
        ("filter", msgspec.structs.replace(first, upper=msgspec.structs.replace(side, low_pass_hz=15_000.0))),
        ("stage", msgspec.structs.replace(first, branches=in_loop(Filter(id=1)))),
        ("late stage", msgspec.structs.replace(first, branches=in_loop(Drive(id=1, upper=DriveSide(drive_db=0.0, level_db=0.0), lower=DriveSide(drive_db=0.0, level_db=0.0))))),
        ("longer", msgspec.structs.replace(first, upper=msgspec.structs.replace(side, time_ms=900.0))),
        ("tap", msgspec.structs.replace(first, shared=msgspec.structs.replace(WET, taps=(Tap(),)))),
    ]  # fmt: skip
    sound = np.pad(programme(1.0, 5), ((0, 0), (0, 4 * RATE)))
    for what, stage in edits:
        player = StripPlayer(strip_of(first), RATE)
        player.process(sound[:, : 3 * RATE], 0)
        player.update(strip_of(stage), 3 * RATE)
        later = player.process(sound[:, 3 * RATE :], 3 * RATE)
        assert np.abs(later[1, RATE:]).max() > 0.02, what  # two seconds after the last sound
        own = np.abs(np.diff(heard(first, sound)[0, 2 * RATE :])).max()
        assert np.abs(np.diff(later[0, :RATE])).max() <= 1.6 * own, what


def test_freeze_holds_what_is_in_the_loop_and_lets_nothing_in():
    side = EchoSide(time_ms=250.0, feedback_db=-6.0, level_db=0.0)
    stage = Echo(id=3, upper=side, lower=side, shared=WET)
    frozen = msgspec.structs.replace(stage, shared=msgspec.structs.replace(WET, held=True))
    sound = programme(6.0, 3)
    player = StripPlayer(strip_of(stage), RATE)
    player.process(sound[:, : 2 * RATE], 0)
    player.update(strip_of(frozen), 2 * RATE)
    out = player.process(sound[:, 2 * RATE :], 2 * RATE)
    turn = 12_000
    one, two = out[:, RATE : RATE + turn], out[:, RATE + 8 * turn : RATE + 9 * turn]
    assert np.array_equal(one, two) and np.abs(one).max() > 0.01
    assert np.abs(np.diff(out)).max() <= 1.5 * np.abs(np.diff(sound)).max()


def test_loud_dry_sound_turns_the_echoes_down():
    side = EchoSide(time_ms=100.0, feedback_db=-120.0, level_db=0.0)
    t = np.arange(2 * RATE) / RATE
    loud = (t < 1.0) * 0.5 * np.sin(2 * np.pi * 300 * t)
    sound = np.stack([loud, loud])
    ducked = EchoShared(dry_db=-120.0, duck_db=12.0, duck_above_db=-30.0, duck_back_ms=50.0)
    out = heard(Echo(id=3, upper=side, lower=side, shared=ducked), sound)
    assert np.abs(out[0, RATE // 2 : RATE]).max() == pytest.approx(0.5 * 10 ** (-12 / 20), rel=0.02)
    side = EchoSide(time_ms=900.0, feedback_db=-120.0, level_db=0.0)
    out = heard(Echo(id=3, upper=side, lower=side, shared=ducked), sound)
    assert np.abs(out[0, int(1.5 * RATE) :]).max() == pytest.approx(0.5, rel=0.02)


def test_what_does_not_fit_is_refused_by_how_much():
    late = Eq(id=1, upper=EqSide(bands=(Band(gain_db=3.0),)), shared=EqShared(phase="linear"))
    stage = Echo(id=3, upper=EchoSide(time_ms=50.0), lower=EchoSide(time_ms=500.0), branches=in_loop(late))
    needs = max(plan_of(late, Context(RATE)).latency) / RATE * 1e3
    sentence = refusal(stage, Context(RATE))
    assert f"{needs:.1f} ms late" in sentence and "50.0 ms is" in sentence and "too short" in sentence
    assert refusal(msgspec.structs.replace(stage, upper=EchoSide(time_ms=400.0)), Context(RATE)) == ""


SOURCE_FRAMES = 2 * RATE


def session_of(tmp_path, strip: Strip, sound: np.ndarray) -> Session:
    import soundfile

    path = tmp_path / "word.wav"
    soundfile.write(path, sound.T, RATE, subtype="FLOAT")
    source = Source(path=str(path), rate=RATE, frames=sound.shape[1])
    return Session(sound=Sound(stems=(Stem(id=99, name="word", source=source, strip=strip),)))


def test_a_throw_is_exported_with_its_tail_as_long_as_predicted(tmp_path):
    """An echo in a spur, with an EQ behind it that hears only the echoes."""
    import soundfile

    side = EchoSide(time_ms=375.0, feedback_db=-5.0, level_db=0.0)
    wet = Echo(id=3, upper=side, lower=side, shared=WET)
    thinner = Eq(id=4, upper=EqSide(bands=(Band(gain_db=-6.0, frequency_hz=300.0),)))
    strip = Strip(split=LEFT_RIGHT, spurs=(Spur(branch=Branch(id=2, stages=(wet, thinner))),))
    sound = np.pad(0.5 * programme(1.0, 2) / np.abs(programme(1.0, 2)).max(), ((0, 0), (RATE, 0)))
    session = session_of(tmp_path, strip, sound)
    out = tmp_path / "out.wav"
    (done,) = [step for step in export(session, out, bits="32f") if isinstance(step, Exported)]
    assert done.guarded == ()
    written = soundfile.read(out)[0].T
    assert np.abs(written[:, -int(0.04 * RATE) :]).max() <= 10 ** (-90 / 20)
    # 0.5 falls below -90 dBFS after so many echoes of 375 ms
    predicted = 0.375 * math.ceil((90 - 6) / 5.0)
    assert (written.shape[1] - sound.shape[1]) / RATE == pytest.approx(predicted, rel=0.08)


@pytest.mark.parametrize("split", ["left-right", "mid-side"])
@pytest.mark.parametrize("loud_db", [15.0, 40.0, 59.0])
def test_a_damaged_sample_does_not_silence_an_echo_that_falls(tmp_path, loud_db, split):
    """Half a second after it, the echoes are those of the programme again, on either leg and through taps."""
    side = EchoSide(time_ms=130.0, feedback_db=-6.0, level_db=0.0)
    stage = Echo(id=3, upper=side, lower=side, shared=EchoShared(taps=(Tap(time_ms=57.0, level_db=-3.0),)))
    sound = 0.1 * programme(3.0, 7)
    damaged = sound.copy()
    damaged[1, RATE] = 10 ** (loud_db / 20)
    strip = Strip(split=Split(mode=split), stages=(stage,))
    made = []
    for heard_now in (sound, damaged):
        chain = Chain(strip, RATE)
        made.append(chain.process(heard_now.copy(), 0))
        assert not chain.guarded
    # Of what goes round there are four echoes in that time, each 6 dB down: of full scale 20 dB are left at the most.
    apart = np.abs(made[0] - made[1])
    tail = apart[:, int(1.55 * RATE) :].max()
    print(
        f"{loud_db:.0f} dBFS, {split}: {20 * np.log10(tail):.1f} dBFS from what it would have been, half a second later"
    )
    # Each leg stays under the guard: of mid and side left and right are the sum.
    most = 10 ** (12 / 20) * (1 + 1e-9) * (2 if split == "mid-side" else 1)
    assert np.abs(made[1][:, int(1.01 * RATE) :]).max() <= most
    assert np.median(apart[:, int(1.55 * RATE) :]) < 1e-6 and np.abs(made[1][:, -RATE:]).max() > 0.05


def test_the_guard_silences_says_so_and_comes_back_with_the_next_start(tmp_path):
    """A loop that is bounded, behind a level of 6 dB and a bell of 12: louder than +12 dBFS all the same."""
    side = EchoSide(time_ms=50.0, feedback_db=6.0, level_db=6.0, low_gain_db=18.0, low_hz=500.0, low_q=0.5)
    stage = Echo(id=3, upper=side, lower=side, branches=in_loop())
    t = np.arange(2 * RATE) / RATE
    sound = np.stack([0.5 * np.sin(2 * np.pi * 500 * t)] * 2)
    session = session_of(tmp_path, strip_of(stage), sound)
    (done,) = [step for step in export(session, tmp_path / "o.wav", bits="32f") if isinstance(step, Exported)]
    assert done.guarded == ("Echo",)
    player = Playback(open_source(session.sound.stems[0].source), strip_of(stage))
    player.play()
    heard_now = np.concatenate([player.read(480) for _ in range(150)], axis=1)
    assert player.guarded == [3]
    assert np.abs(heard_now).max() <= 10 ** (12 / 20)
    passed = np.abs(heard_now[:, -480:] - sound[:, 149 * 480 : 150 * 480]).max()
    assert passed < 1e-7  # the recording is kept in single precision
    player.seek(0)
    player.read(480)
    assert player.guarded == []


def test_places_follow_the_recording_round_a_loop(tmp_path):
    """A chorus is where the recording is, whatever the clock: after going round it is again as it was there."""
    sound = programme(3.0, 4)
    strip = strip_of(Chorus(id=3, upper=ChorusSide(rate_hz=0.7, depth_ms=4.0), lower=None))
    session = session_of(tmp_path, strip, sound)
    wanted = Chain(strip, RATE).process(sound, 0)
    player = Playback(open_source(session.sound.stems[0].source), strip)
    player.loop = (RATE // 2, 2 * RATE)
    player.play()
    out = np.concatenate([player.read(500) for _ in range(6 * RATE // 500)], axis=1)
    length = 3 * RATE // 2
    third = out[:, 2 * RATE + length + RATE // 2 : 2 * RATE + 2 * length - RATE // 4]
    there = wanted[:, RATE : RATE // 2 + length - RATE // 4]
    assert np.abs(third - there).max() < 1e-7  # the recording is kept in single precision
    assert np.abs(np.diff(out)).max() <= 1.5 * max(
        np.abs(np.diff(wanted)).max(), np.abs(np.diff(sound)).max()
    )


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("voices", [1, 2, 3])
def test_a_chorus_swings_as_far_as_it_says(rate, voices):
    side = ChorusSide(rate_hz=2.0, depth_ms=3.0, delay_ms=8.0, voices=voices, mix=100.0)
    stage = Chorus(id=3, upper=side, lower=side, shared=SwingShared(apart_deg=90.0))
    t = np.arange(rate) / rate
    out = heard(stage, np.stack([np.sin(2 * np.pi * 1000 * t)] * 2), rate)
    for row, ahead in enumerate((0.0, 0.25)):
        wanted = np.zeros(rate)
        for voice in range(voices):
            late = 8e-3 + 3e-3 * np.sin(2 * np.pi * (2.0 * t + ahead + voice / voices))
            wanted += np.sin(2 * np.pi * 1000 * (t - late)) / math.sqrt(voices)
        assert np.abs(out[row] - wanted)[rate // 10 :].max() < 2e-2 / 8


@pytest.mark.parametrize("passes", [2, 6, 12])
@pytest.mark.parametrize("feedback", [-70.0, 0.0, 60.0])
def test_a_phaser_that_stands_still_has_the_response_of_its_all_passes(passes, feedback):
    side = PhaserSide(octaves=0.0, centre_hz=900.0, passes=passes, feedback=feedback)
    stage = Phaser(id=3, upper=side, lower=None)
    out = heard(stage, impulse(1 << 16, at=0))
    hz = np.fft.rfftfreq(1 << 16, 1 / RATE)[1:-1]
    assert np.abs(np.fft.rfft(out[0])[1:-1] - heard_response(stage, "upper", hz, RATE)).max() < 1e-6
    assert np.array_equal(out[1], impulse(1 << 16, at=0)[1])


def test_loops_of_any_length_fall_as_fast_as_their_slowest_way():
    for a, b, cross in itertools.product((0.3, 0.9), (0.2, 0.8), (0.0, 0.3)):
        gains = np.array([[a, cross], [cross, b]])[:, :, None]
        times = np.array([[0.1], [0.25]])
        rate = float(loops.fall_rate(gains, times)[0])
        turned = gains[:, :, 0] * np.exp(rate * times[:, 0])[None, :]
        assert np.abs(np.linalg.eigvals(turned)).max() == pytest.approx(1.0, abs=1e-6)
