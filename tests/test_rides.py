"""Settings that move over the recording: what holds for all kinds, all numbers that can move, and any rides of them."""

import itertools

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from conftest import RATE, session_on, write_wav
from scipy import signal
from trees import SPLITS, drawn_stage, ridden

from stonekite import cli
from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.course import Course
from stonekite.engine.graph.line import Line
from stonekite.engine.offline.render import rendered
from stonekite.files.audio import Reader
from stonekite.session import differences, edits, limits, presets, storage
from stonekite.session.spur import Spur
from stonekite.session.types import Leg, Session, Sound, Source, Split, Stem, Strip
from stonekite.signal.filters import design
from stonekite.stages import describe, planning, riding
from stonekite.stages.base import Context, Stage
from stonekite.stages.branch import Branch
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.echo.settings import Echo, EchoShared, EchoSide, Tap
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.limiter import Limiter, LimiterShared, LimiterSide
from stonekite.stages.phaser import Phaser, PhaserSide
from stonekite.stages.registry import KINDS, kind_of
from stonekite.stages.riding import Point, Ride

CELL = 64
FLAG = riding.found(Gain(id=1), "inserted")[2]
SOURCE = Source(path="/ferry/quay.wav", frames=48_000, rate=48_000)


def heard(
    stage: Stage, sound: np.ndarray, blocks=512, rate: float = RATE, split=SPLITS[0], start: int = 0
) -> np.ndarray:
    """Sound (2, frames) through a stage, in blocks of these sizes, from a frame on."""
    line = Line((stage,), Context(rate, split.encoding))
    sizes = itertools.cycle([blocks] if isinstance(blocks, int) else blocks)
    out, done = [], start
    while done < sound.shape[1]:
        block = sound[:, done : done + next(sizes)].copy()
        line.process(block, done)
        out.append(block)
        done += block.shape[1]
    return np.concatenate(out, axis=1)


def noise(frames: int, rng: np.random.Generator) -> np.ndarray:
    """Noise that is loud and quiet in turns."""
    levels = np.repeat(10.0 ** rng.uniform(-3.0, 0.3, frames // 1000 + 1), 1000)[:frames]
    return 0.3 * rng.standard_normal((2, frames)) * levels


def moved(stage: Stage, **rides: tuple[float, ...]) -> Stage:
    """A stage with rides that go straight through values, one a second: `upper__gain_db=(0, -6)`."""
    made = [
        Ride(
            path=path.replace("__", "."),
            points=tuple(Point(at_s=float(k), value=value) for k, value in enumerate(values)),
        )
        for path, values in rides.items()
    ]
    return msgspec.structs.replace(stage, rides=tuple(made))


@pytest.mark.slow
@pytest.mark.parametrize("tag", KINDS)
@pytest.mark.parametrize("seed", range(3))
def test_what_moves_is_the_same_in_any_blocks(tag, seed):
    rng = np.random.default_rng([seed, *tag.encode()])
    rate = float(rng.choice([44_100, 48_000, 96_000]))
    split = SPLITS[int(rng.integers(len(SPLITS)))]
    stage = drawn_stage(tag, rng, slowest_s=30.0, deep=1)
    stage = ridden(stage, rng, 1.0 if seed == 0 else 0.5, seconds=0.4)
    sound = noise(16_000, rng)
    whole = heard(stage, sound, 512, rate, split)
    assert np.isfinite(whole).all()
    for blocks in ([1, 7, 63, 65, 999], 64, 9_999):
        other = heard(stage, sound, blocks, rate, split)
        assert np.array_equal(other, whole), f"{tag} in blocks of {blocks}, {np.abs(other - whole).max()}"
    still = msgspec.structs.replace(stage, rides=())
    context = Context(rate, split.encoding)
    if planning.works(still):
        assert planning.plan_of(stage, context).latency == planning.plan_of(still, context).latency


@pytest.mark.parametrize("tag", KINDS)
def test_a_ride_that_stands_is_the_setting_itself(tag):
    rng = np.random.default_rng([9, *tag.encode()])
    stage = msgspec.structs.replace(drawn_stage(tag, rng, slowest_s=30.0, deep=0), rides=())
    rides = []
    for path in planning.ridable(stage):
        holder, field, _ = riding.found(stage, path)
        rides.append(Ride(path=path, points=(Point(at_s=0.2, value=getattr(holder, field)),)))
    sound = noise(8_000, rng)
    standing = msgspec.structs.replace(stage, rides=tuple(rides))
    assert np.array_equal(heard(standing, sound), heard(stage, sound))


@pytest.mark.parametrize("tag", KINDS)
def test_every_number_moves_the_sound_or_says_why_not(tag):
    """A number that is said to move changes the rows of its kind; what stands still has a sentence for it."""
    rng = np.random.default_rng([4, *tag.encode()])
    for _ in range(4):
        stage = drawn_stage(tag, rng, slowest_s=30.0, deep=0)
        stage = msgspec.structs.replace(stage, rides=())
        can = planning.ridable(stage)
        for path, _, setting in riding.settings_in(stage):
            if setting.words is None:
                why = planning.why_still(stage, path)
                assert (why == "") == (path in can)
                assert not why or (why[0].isupper() and why.endswith("."))
        kind, context = kind_of(stage), Context(RATE, seconds=np.array([0.3]))
        for path, setting in can.items():
            if planning.role_of(stage, path, setting) != "number":  # the engine's, not the kind's
                continue
            ends = [
                kind.rows(riding.put(stage, path, np.array([setting.from_travel(t)])), context)
                for t in (0.02, 0.5, 0.98)
            ]
            assert len({len(row[0]) for row in ends}) == 1, f"{tag} {path}: other rows"
            same = np.array_equal(ends[0], ends[1]) and np.array_equal(ends[1], ends[2])
            assert not same or _silent(stage, path), f"{tag} {path} moves nothing"


def _silent(stage: Stage, path: str) -> bool:
    """Whether a number means nothing as the stage is: what is coupled with a leg that is not there, a corner beyond
    another one, a tap or a band that is off, a rate of what does not swing."""
    return (
        None in (stage.upper, stage.lower)
        or path.split(".")[1] in ("bands", "paths", "low_hz", "low_q", "high_hz", "high_q", "trim_db")
        or path.startswith("shared")
    )


def test_a_level_goes_straight_in_db_and_a_frequency_in_octaves():
    stage = moved(Gain(id=1), upper__gain_db=(-30.0, 6.0), lower__gain_db=(0.0, -12.0))
    out = heard(stage, np.ones((2, RATE)))
    places = np.arange(0, RATE, CELL)
    wanted = -30.0 + 36.0 * places / RATE
    assert np.abs(20 * np.log10(out[0, places]) - wanted).max() < 1e-9
    assert np.abs(20 * np.log10(out[1, places]) + 12.0 * places / RATE).max() < 1e-9
    everywhere = -30.0 + 36.0 * np.arange(RATE) / RATE
    assert np.abs(20 * np.log10(out[0]) - everywhere).max() < 1e-4
    _, _, setting = riding.found(FilterSide(), "high_pass_hz")
    ride = Ride(path="high_pass_hz", points=(Point(at_s=0.0, value=100.0), Point(at_s=2.0, value=1600.0)))
    assert riding.along(ride, setting, np.array([-1.0, 0.5, 1.0, 5.0])) == pytest.approx(
        [100.0, 200.0, 400.0, 1600.0]
    )


@pytest.mark.parametrize("tag", KINDS)
def test_a_switch_that_rides_sounds_as_the_stage_that_always_stood_so(tag):
    """Between its turns to the bit, and on its way in between, for any switches of any kind."""
    rng = np.random.default_rng([11, *tag.encode()])
    sound, rate = noise(24_000, rng), float(rng.choice([44_100, 48_000, 96_000]))
    stage = msgspec.structs.replace(drawn_stage(tag, rng, slowest_s=30.0, deep=1), rides=())
    roles = {p: planning.role_of(stage, p, s) for p, s in planning.ridable(stage).items()}
    paths = [path for path, role in roles.items() if role == "way"]
    assert {"change_only", "level_kept"} <= {*paths}
    late = max(planning.plan_of(stage, Context(rate)).latency) if planning.works(stage) else 0
    most = 18_000 - late
    for chosen in (paths[:3], *([path] for path in paths[3:])):
        rides, turned = [], []
        for path in chosen:
            turns = np.sort(rng.integers(2, most // CELL, 3)) * CELL
            values = [float(k % 2) for k in range(3)]
            points = tuple(Point(at_s=t / rate, value=v) for t, v in zip(turns.tolist(), values, strict=True))
            rides.append(Ride(path=path, points=points))
            turned += turns.tolist()
        out = heard(msgspec.structs.replace(stage, rides=tuple(rides)), sound, 700, rate)
        still = {}
        for stance in itertools.product((False, True), repeat=len(chosen)):
            one = stage
            for path, on in zip(chosen, stance, strict=True):
                one = riding.put(one, path, on)
            still[stance] = heard(one, sound, 512, rate)
        over = int(riding.SWITCH_S * rate) + CELL
        for first, last in itertools.pairwise(sorted({0, *turned, most})):
            begun = first + (over if first else 0)
            if begun < last:
                stance = tuple(bool(riding.value_at(r, FLAG, begun / rate)) for r in rides)
                part = slice(late + begun, late + last)
                assert np.array_equal(out[:, part], still[stance][:, part]), f"{tag} {chosen} {stance}"
        ends = np.array([*still.values()])
        room = 1e-9 + 1e-9 * np.abs(ends).max()
        assert (out <= ends.max(axis=0) + room).all() and (out >= ends.min(axis=0) - room).all()


def test_what_was_in_an_echo_is_frozen_where_its_switch_turns():
    """What goes in afterwards is not in it, and it falls no more, until it is let go."""
    stage = Echo(id=1, upper=EchoSide(time_ms=100.0, feedback_db=-6.0), lower=EchoSide(time_ms=100.0))
    points = (Point(at_s=0.0, value=0.0), Point(at_s=0.45, value=1.0), Point(at_s=1.45, value=0.0))
    stage = msgspec.structs.replace(stage, rides=(Ride(path="shared.held", points=points),))
    sound = np.zeros((2, 2 * RATE))
    sound[:, 1000:1200] = 0.5 * np.random.default_rng(3).standard_normal((2, 200))
    sound[:, RATE : RATE + 200] = 0.5
    out = heard(stage, sound) - sound
    strokes = [np.abs(out[0, 1000 + k * 4800 : 1200 + k * 4800]).max() for k in range(19)]
    falls = 20 * np.log10(np.array(strokes[2:]) / strokes[1])
    assert np.abs(falls[:3] + 6.0 * np.arange(1, 4)).max() < 0.5
    assert np.abs(falls[4:12] - falls[4]).max() < 1e-6
    assert falls[16] < falls[13] - 12.0
    came = np.abs(out[0, RATE + 4800 : RATE + 5000]).max()
    assert came < 1e-6
    assert planning.why_still(stage, "shared.held") == ""


def test_a_fourth_switch_of_a_stage_is_refused_with_a_sentence():
    side = FilterSide(high_pass=True, low_pass=True)
    stage = Filter(id=1, upper=side, lower=side)
    paths = [f"{leg}.{which}" for leg in ("upper", "lower") for which in ("high_pass", "low_pass")]
    rides = tuple(Ride(path=path, points=(Point(at_s=1.0, value=1.0),)) for path in paths)
    strip = Strip(stages=(msgspec.structs.replace(stage, rides=rides),))
    assert "3 switches" in riding.flaw(strip.stages[0])
    assert not riding.flaw(msgspec.structs.replace(stage, rides=rides[:3]))


def test_points_are_held_or_curved_as_they_say():
    _, _, setting = riding.found(GainSide(), "gain_db")
    points = (
        Point(at_s=1.0, value=-10.0, way="held"),
        Point(at_s=2.0, value=0.0, way="curved"),
        Point(at_s=4.0, value=8.0),
    )
    ride = Ride(path="gain_db", points=points)
    at = riding.along(ride, setting, np.array([0.0, 1.5, 1.999, 2.0, 2.5, 3.0, 3.5, 9.0]))
    assert at == pytest.approx([-10.0, -10.0, -10.0, 0.0, 1.25, 4.0, 6.75, 8.0])


LEVELS = [
    (Compressor(id=1, upper=CompressorSide(ratio=1.0)), "upper.makeup_db", -20.0, 12.0),
    (Limiter(id=1, upper=LimiterSide(ceiling_db=0.0)), "upper.drive_db", 0.0, 20.0),
    (KINDS["amp"].stage(id=1), "upper.level_db", -20.0, 6.0),
    (KINDS["drive"].stage(id=1), "upper.level_db", -20.0, 6.0),
]


@pytest.mark.parametrize(
    ("stage", "path", "low", "high"), LEVELS, ids=lambda v: getattr(v, "__class__", v).__name__
)
def test_levels_of_kinds_are_what_the_closed_form_says(stage, path, low, high):
    """Also where the stage holds the sound back: the level belongs to the sound, not to the moment."""
    stage = msgspec.structs.replace(stage, lower=None, level_kept=False)
    ride = Ride(path=path, points=(Point(at_s=0.2, value=low), Point(at_s=1.0, value=high)))
    sound = np.zeros((2, RATE + 4_096))
    sound[0] = 1e-3 * np.sin(2 * np.pi * 997 * np.arange(sound.shape[1]) / RATE)
    still = riding.put(stage, path, 0.0)
    late = max(planning.plan_of(still, Context(RATE)).latency)
    plain = heard(still, sound)[0, late : late + RATE]
    moves = heard(msgspec.structs.replace(stage, rides=(ride,)), sound)[0, late : late + RATE]
    clear = np.abs(plain) > 0.5 * np.abs(plain[RATE // 2 :]).max()
    clear[: RATE // 5] = False
    wanted = np.interp(np.arange(RATE) / RATE, [0.2, 1.0], [low, high])
    off = np.abs(20 * np.log10(np.abs(moves[clear] / plain[clear])) - wanted[clear])
    print(f"{path}: {off.max():.4f} dB off at the most")
    assert off.max() < 0.05


def test_what_is_late_rides_where_its_input_was():
    """A mix that opens at a place opens there, although the limiter is late by its look-ahead."""
    stage = Limiter(
        id=1, shared=LimiterShared(look_ahead_ms=10.0), upper=LimiterSide(drive_db=0.0), lower=None
    )
    late = max(planning.plan_of(stage, Context(RATE)).latency)
    ride = Ride(
        path="upper.mix",
        points=(Point(at_s=0.0, value=0.0, way="held"), Point(at_s=0.5, value=100.0)),
    )
    loud = moved(stage, upper__ceiling_db=(-30.0, -30.0))
    stage = msgspec.structs.replace(loud, rides=(*loud.rides, ride))
    sound = np.zeros((2, RATE))
    sound[0] = 0.5
    out = heard(stage, sound)[0, late:]
    opened = int(np.flatnonzero(out < 0.49)[0])
    assert abs(opened - RATE // 2) <= CELL + 1


def by_sample(rows: np.ndarray, sound: np.ndarray) -> np.ndarray:
    """Sound (frames,) through sections (frames, n, 5) that are other ones for every frame, in transposed direct form."""
    count = rows.shape[1]
    out = sound.tolist()
    for section in range(count):
        s1 = s2 = 0.0
        for i, (b0, b1, b2, a1, a2) in enumerate(rows[:, section].tolist()):
            x = out[i]
            y = b0 * x + s1
            s1, s2 = b1 * x - a1 * y + s2, b2 * x - a2 * y
            out[i] = y
    return np.array(out)


def test_a_high_pass_that_sweeps_is_as_one_designed_for_every_sample():
    frames = int(0.25 * RATE)
    seconds = np.arange(frames) / RATE
    corners = 40.0 * 400.0 ** np.clip(seconds / 0.2, 0.0, 1.0)
    stage = Filter(id=1, upper=FilterSide(high_pass=True, high_pass_slope=12), lower=None)
    ride = Ride(
        path="upper.high_pass_hz", points=(Point(at_s=0.0, value=40.0), Point(at_s=0.2, value=16_000.0))
    )
    rng = np.random.default_rng(1)
    worst = -300.0
    for sound in (
        0.2 * rng.standard_normal(frames),
        *(0.5 * np.sin(2 * np.pi * hz * seconds) for hz in (60.0, 997.0, 9000.0)),
    ):
        exact = by_sample(design.cut("high-pass", corners, 12, RATE), sound)
        made = heard(msgspec.structs.replace(stage, rides=(ride,)), np.stack([sound, sound]))[0]
        worst = max(worst, 20 * np.log10(np.abs(made - exact).max() / np.abs(sound).max()))
    print(f"a high-pass from 40 Hz to 16 kHz in 200 ms: {worst:.1f} dB of what goes in")
    assert worst < -90.0


def test_bells_that_move_in_all_numbers_are_as_ones_designed_for_every_sample():
    frames = 2 * RATE
    seconds = np.arange(frames) / RATE
    ride = np.clip(seconds / 2.0, 0.0, 1.0)
    hz, gain, q = 200.0 * 20.0**ride, -9.0 + 18.0 * ride, 0.7 * 4.0**ride
    stage = moved(
        Eq(id=1, upper=EqSide(bands=(Band(),)), lower=None),
        **{
            "upper__bands__0__frequency_hz": (200.0, 200.0 * 20**0.5, 4000.0),
            "upper__bands__0__gain_db": (-9.0, 0.0, 9.0),
            "upper__bands__0__q": (0.7, 1.4, 2.8),
        },
    )
    sound = 0.2 * np.random.default_rng(2).standard_normal(frames)
    exact = by_sample(design.moving("bell", hz, gain, q, RATE), sound)
    made = heard(stage, np.stack([sound, sound]))[0]
    off = 20 * np.log10(np.abs(made - exact).max() / np.abs(sound).max())
    print(f"a bell over four octaves and 18 dB in two seconds: {off:.1f} dB")
    assert off < -90.0


@pytest.mark.parametrize("kind", ["bell", "low-shelf", "high-shelf", "high-pass", "low-pass", "notch"])
def test_between_any_two_settings_filters_are_stable(kind):
    rng = np.random.default_rng(3)
    travel = rng.uniform(size=(2, 4000))
    rows = design.moving(
        kind, 20.0 * 1000.0 ** travel[0], rng.uniform(-24, 24, 4000), 0.2 * 60.0 ** travel[1], 44_100
    )
    first, second = rows[:2000], rows[2000:]
    for share in (0.0, 0.25, 0.5, 0.75):
        between = first + share * (second - first)
        for section in between.reshape(-1, 5):
            assert abs(section[4]) < 1.0 and abs(section[3]) < 1.0 + section[4] + 1e-12


def test_a_swing_stands_where_the_integral_of_its_rate_says():
    side = PhaserSide(rate_hz=1.0)
    stage = moved(Phaser(id=1, upper=side, lower=side), upper__rate_hz=(0.1, 8.0, 0.5, 3.0))
    seconds = np.linspace(0.0, 3.0, 200)
    _, _, setting = riding.found(stage, "upper.rate_hz")
    fine = np.linspace(0.0, 3.0, 300_001)
    rates = riding.along(stage.rides[0], setting, fine)
    exact = np.concatenate([[0.0], np.cumsum(0.5 * (rates[1:] + rates[:-1])) * (fine[1] - fine[0])])
    now = planning.moved(stage, seconds).upper.rate_hz
    turns = riding.integral(stage, "upper.rate_hz", now, seconds)
    assert np.abs(turns - np.interp(seconds, fine, exact)).max() < 2e-4
    # From wherever it is asked it is the same, and it is never turned back.
    parts = [
        riding.integral(stage, "upper.rate_hz", now[k : k + 1], seconds[k : k + 1]) for k in (7, 99, 180)
    ]
    assert np.array_equal(np.concatenate(parts), turns[[7, 99, 180]])
    assert (np.diff(turns) > 0).all()


LOOPED = ["gain", "filter", "eq", "width", "chorus", "phaser", "limiter", "drive", "bands"]


@pytest.mark.parametrize("tag", LOOPED)
def test_a_round_of_a_loop_is_as_the_one_before(tag):
    """Where playing goes round, settings jump with the place: once what was before is forgotten, every round is alike."""
    rng = np.random.default_rng([6, *tag.encode()])
    for tried in itertools.count():
        stage = ridden(drawn_stage(tag, rng, slowest_s=0.15, deep=0), rng, 1.0, seconds=0.5)
        if planning.plan_of(stage, Context(RATE)).memory < 60_000 or tried > 60:
            break
    course = Course()
    line = Line((stage,), Context(RATE), course=course)
    length, rounds = 24_000, 6
    sound = noise(length, rng)
    out = []
    for k in range(rounds):
        if k:
            course.jump(k * length, 4_000)
        block = sound.copy()
        for start in range(0, length, 480):
            part = block[:, start : start + 480]
            line.process(part, k * length + start)
        out.append(block)
    peak = np.abs(out[-1]).max()
    assert np.isfinite(out[-1]).all()
    assert np.abs(out[-1] - out[-2]).max() <= 1e-5 * max(1.0, peak)


def test_nothing_clicks_where_a_ride_jumps_with_the_place():
    """A steady tone, and a level that is another one where the loop begins anew: no step is larger than a fade's."""
    stage = moved(Gain(id=1), upper__gain_db=(0.0, -40.0), lower__gain_db=(0.0, -40.0))
    course = Course()
    line = Line((stage,), Context(RATE), course=course)
    block = np.ones((2, RATE))
    out = []
    for start in range(0, RATE, 500):
        if start == 24_000:
            course.jump(start, 0)
        part = block[:, start : start + 500]
        line.process(part, start)
        out.append(part)
    whole = np.concatenate(out, axis=1)
    assert np.abs(np.diff(whole[0])).max() < 0.01
    assert whole[0, 24_000 + 9_600] == pytest.approx(10 ** (-8 / 20), rel=1e-3)


def test_an_echo_is_thrown_and_rings_on():
    """The level of what goes round is ridden open for a word and closed: its tail rings, and falls by itself."""
    side = EchoSide(time_ms=120.0, feedback_db=-6.0, level_db=0.0)
    echo = Echo(id=1, upper=side, lower=side, shared=EchoShared(dry_db=-120.0, taps=(Tap(time_ms=50.0),)))
    gate = Gain(id=2)
    points = tuple(
        Point(at_s=time, value=value, way="held")
        for time, value in ((0.0, -120.0), (0.5, 0.0), (0.6, -120.0))
    )
    ride = tuple(Ride(path=f"{leg}.gain_db", points=points) for leg in ("upper", "lower"))
    line = Line((msgspec.structs.replace(gate, rides=ride), echo), Context(RATE))
    block = noise(4 * RATE, np.random.default_rng(5))
    line.process(block, 0)
    level = np.sqrt(signal.lfilter(np.ones(4800) / 4800, 1.0, block[0] ** 2).clip(0.0))
    assert np.abs(block[:, : RATE // 2]).max() == 0.0
    assert level[int(0.7 * RATE)] > 1e-3
    assert 20 * np.log10(level[int(3.9 * RATE)] / level[int(0.7 * RATE)]) < -90.0


def test_feedback_that_rides_up_is_held_all_the_way():
    side = EchoSide(time_ms=80.0, feedback_db=-12.0)
    stage = moved(Echo(id=1, upper=side, lower=side), upper__feedback_db=(-12.0, 6.0, 6.0, -20.0))
    out = heard(stage, noise(5 * RATE, np.random.default_rng(8)))
    assert np.isfinite(out).all() and np.abs(out).max() <= 10 ** (12 / 20) + 1e-9


def session_with(stage: Stage):
    """A session of one stem with a stage."""
    stem = Stem(id=1, name="quay", source=SOURCE, strip=Strip(stages=(stage,)))
    return Session(sound=Sound(stems=(stem,)))


def test_rides_are_saved_and_opened_and_told_apart_in_words():
    rng = np.random.default_rng(3)
    stage = ridden(drawn_stage("echo", rng, number=4, deep=0), rng)
    session = session_with(stage)
    again = storage.decode(storage.encode(session))
    assert again.sound == session.sound and again.sound.stems[0].strip.stages[0].rides == stage.rides
    gain = moved(Gain(id=1), upper__gain_db=(-12.0, 0.0, -3.0))
    before, after = (Strip(stages=(one,)) for one in (Gain(id=1), gain))
    told = [difference.sentence for difference in differences.differences(before, after)]
    assert len(told) == 1 and "ride" in told[0] and "−12.0 dB to 0.0 dB, 3 points" in told[0]
    assert any(
        "3 points from 0.0 s to 2.0 s" in line for _, lines in differences.described(after) for line in lines
    )


def test_rides_go_where_the_settings_go():
    stage = moved(Gain(id=1), upper__gain_db=(-12.0, 0.0), lower__mix=(0.0, 100.0))
    assert {ride.path for ride in edits.swapped(stage).rides} == {"lower.gain_db", "upper.mix"}
    assert {ride.path for ride in edits.copied_across(stage, "upper").rides} == {
        "upper.gain_db",
        "lower.gain_db",
    }
    assert {ride.path for ride in edits.on_one_leg(stage).rides} == {"upper.gain_db"}
    lower = msgspec.structs.replace(stage, upper=None)
    assert {ride.path for ride in edits.on_one_leg(lower).rides} == {"upper.mix"}
    assert edits.reset(stage).rides == () and presets.of_stage("a", stage).stage.rides == ()
    # Those of a leg that is off sleep: they move nothing, and are there when it comes back.
    sound = noise(4_000, np.random.default_rng(1))
    assert np.array_equal(heard(lower, sound)[0], sound[0]) and lower.rides == stage.rides


@pytest.mark.parametrize(
    ("rides", "why"),
    [
        ((("upper.gain_db", (0.0, -3.0)), ("upper.gain_db", (0.0, -6.0))), "one ride"),
        ((("upper.gain_db", (0.0, 99.0)),), "out of range"),
        ((("upper.gain_db", (0.0, float("nan"))),), "out of range"),
        ((("upper.gain_db", ("loud",)),), "This cannot be"),
        ((("Upper gain", (0.0,)),), "This cannot be"),
        ((("upper.gain_db", ()),), "This cannot be"),
        (tuple((f"upper.x{k}", (0.0,)) for k in range(201)), "200 rides in one place at the most"),
    ],
)
def test_rides_that_cannot_be_are_said(rides, why):
    made = tuple(
        Ride(path=path, points=tuple(Point(at_s=float(k), value=v) for k, v in enumerate(values)))
        for path, values in rides
    )
    assert why in limits.excess(session_with(msgspec.structs.replace(Gain(id=1), rides=made)))


def test_points_that_go_back_in_time_are_said_and_do_no_harm():
    ride = Ride(path="upper.gain_db", points=(Point(at_s=2.0, value=0.0), Point(at_s=1.0, value=-6.0)))
    stage = msgspec.structs.replace(
        Gain(id=2), rides=(ride, Ride(path="no.such", points=(Point(at_s=0, value=1),)))
    )
    assert "follow each other" in limits.excess(session_with(stage))
    with pytest.raises(storage.SessionError, match="follow each other"):
        storage.decode(storage.encode(session_with(stage)))
    assert np.isfinite(heard(stage, noise(9_000, np.random.default_rng(2)))).all()


def test_levels_of_legs_and_spurs_ride_in_time_with_the_recording():
    """Also where the legs wait for a spur that is late, and whatever the blocks."""
    ride = Ride(path="level_db", points=(Point(at_s=0.1, value=-30.0), Point(at_s=0.9, value=6.0)))
    late = Limiter(
        id=5, shared=LimiterShared(look_ahead_ms=10.0), upper=LimiterSide(ceiling_db=0.0), lower=None
    )
    spur = Spur(branch=Branch(id=4, stages=(late,)), source="left", after="split", rides=(ride,))
    split = Split(mode="left-right")
    legs = Strip(split=split, upper=Leg(rides=(ride,)), lower=Leg())
    beside = Strip(split=split, upper=Leg(muted=True), spurs=(spur,))
    sound = 0.1 * np.ones((2, RATE + 2_000))
    wanted = -1.0 + np.interp(np.arange(RATE) / RATE, [0.1, 0.9], [-30.0, 6.0]) - 19.0
    for strip in (legs, beside):
        chain = Chain(strip, RATE)
        whole = chain.process(sound.copy(), 0)[:, chain.latency :]
        off = np.abs(20 * np.log10(whole[0, 4_000:RATE]) - wanted[4_000:])
        assert off.max() < 0.01 and whole[1, 4_000:RATE] == pytest.approx(0.1)
        parts, again = Chain(strip, RATE), []
        for start, stop in itertools.pairwise((0, 1, 70, 4_000, 4_064, 30_001, sound.shape[1])):
            again.append(parts.process(sound[:, start:stop].copy(), start))
        assert np.array_equal(np.concatenate(again, axis=1)[:, chain.latency :], whole)
    told = differences.differences(Strip(split=split), legs)
    assert any("level, ride" in difference.place for difference in told)


def test_a_ride_of_a_level_that_is_edited_goes_over():
    """From one ride to another while it plays: no step."""
    rides = [
        (Ride(path="level_db", points=(Point(at_s=0.0, value=a), Point(at_s=9.0, value=b))),)
        for a, b in ((0.0, -6.0), (-12.0, 0.0))
    ]
    old, new = (Chain(Strip(upper=Leg(rides=one)), RATE) for one in rides)
    sound = np.ones((2, RATE))
    first = old.process(sound[:, :24_000].copy(), 0)
    heritage = new.heritage(old)
    assert heritage.fits
    new.take_over(old, heritage, 960)
    second = new.process(sound[:, 24_000:].copy(), 24_000)
    whole = np.concatenate([first, second], axis=1)
    assert np.abs(np.diff(whole, axis=1)).max() < 0.01


def test_the_command_line_tells_what_can_ride():
    ran = CliRunner().invoke(cli.main, ["stages", "limiter"])
    lines = {line.split()[0]: line for line in ran.output.splitlines()[1:]}
    assert " rides " in lines["ceiling_db"] and " rides " not in lines["shared.look_ahead_ms"]
    assert " rides " in lines["mix"]
    told = describe.described(KINDS["noise"])["settings"]
    assert told["amount_db"]["still"].endswith(".") and told["mix"]["still"] == ""
    assert describe.described(KINDS["filter"])["settings"]["high_pass_hz"]["still"] == ""  # once it is on


def test_the_window_says_that_settings_ride_and_exports_them(window, tmp_path):
    """Opened in the window: what rides is said, since nothing shows it yet; what is exported rides."""
    path = write_wav(tmp_path / "quay.wav", 0.1 * np.ones((2, 2 * RATE)))
    stage = moved(Gain(id=5), upper__gain_db=(0.0, -20.0), lower__gain_db=(0.0, -20.0))
    storage.save(
        session_on(path, Strip(split=Split(mode="left-right"), stages=(stage,))), tmp_path / "rides.kite"
    )
    said = []
    window.opening.said.connect(said.append)
    window.opening.open_path(tmp_path / "rides.kite")
    assert said and said[-1].startswith("2 settings of this session ride")
    assert window.document.strip.stages[0].rides == stage.rides
    with Reader(path) as reader:
        made = np.concatenate([out for _, out in rendered(reader, window.document.strip)], axis=1)
    assert 20 * np.log10(made[:, RATE // 2] / 0.1) == pytest.approx(-10.0, abs=0.01)
    assert 20 * np.log10(made[:, -1] / 0.1) == pytest.approx(-20.0, abs=0.01)


@pytest.mark.parametrize("tag", ["gain", "eq", "compressor", "limiter", "chorus", "phaser", "echo", "drive"])
def test_jumps_within_a_block_are_the_same_in_any_blocks(tag):
    """The place jumps anywhere, also in the middle of cells and of blocks, to the middle of other ones."""
    rng = np.random.default_rng([12, *tag.encode()])
    stage = ridden(drawn_stage(tag, rng, slowest_s=5.0, deep=0), rng, 1.0, seconds=0.5)
    sound = noise(12_000, rng)
    jumps = [(640, 32), (1_000, 9_999), (1_032, 70), (5_000, 0), (5_003, 12_345), (9_216, 64)]
    made = []
    for sizes in ([512], [96, 64, 32], [1, 77, 640], [4_096]):
        course = Course()
        for clock, place in jumps:
            course.jump(clock, place)
        line, out, done = Line((stage,), Context(RATE), course=course), [], 0
        for size in itertools.cycle(sizes):
            block = sound[:, done : done + size].copy()
            line.process(block, done)
            out.append(block)
            done += block.shape[1]
            if done >= sound.shape[1]:
                break
        made.append(np.concatenate(out, axis=1))
    for other in made[1:]:
        assert np.array_equal(other, made[0]), np.flatnonzero((other != made[0]).any(axis=0))[0]
