"""Switching between versions, the unprocessed recording and references: in time, without clicks, equally loud."""

import itertools

import numpy as np
import pytest
from conftest import RATE, noise, session_on, sine, write_wav
from test_measures import done

from stonekite.demos.demo import demo_path
from stonekite.engine.graph.chain import Chain, latency_of
from stonekite.engine.mix.layout import ALONE
from stonekite.engine.mix.strip import SWITCH_S, StripPlayer
from stonekite.engine.offline.render import rendered
from stonekite.engine.offline.subjects import Subject, measured
from stonekite.engine.play.listen import Listener, Listening, matched_db
from stonekite.engine.play.playback import Playback
from stonekite.files.audio import Reader
from stonekite.measure.loudness import Loudness
from stonekite.session.types import Output, Place, Split, Strip
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.width import Width, WidthShared

LATE = Strip(
    stages=(
        Compressor(
            id=2,
            upper=CompressorSide(threshold_db=-30, look_ahead_ms=5),
            lower=CompressorSide(look_ahead_ms=1),
        ),
        Drive(id=3, lower=None),
    )
)
LONG = Strip(
    split=Split(mode="left-right"),
    stages=(Eq(id=4, upper=EqSide(bands=(Band(gain_db=6),)), shared=EqShared(phase="linear")),),
)
NONE = Strip()
FLOOR = max(latency_of(strip, RATE) for strip in (LATE, LONG))


def random_strip(seed: int) -> Strip:
    """A strip of a few stages, anything between too quiet and far too loud."""
    rng = np.random.default_rng(seed)
    stages = [
        Eq(
            id=2,
            upper=EqSide(
                bands=(Band(frequency_hz=float(rng.uniform(60, 6000)), gain_db=float(rng.uniform(-12, 12))),)
            ),
        ),
        Compressor(
            id=3,
            upper=CompressorSide(
                threshold_db=float(rng.uniform(-50, -10)), look_ahead_ms=float(rng.uniform(0, 4))
            ),
        ),
        Drive(id=4, upper=DriveSide(drive_db=float(rng.uniform(0, 24)), level_db=float(rng.uniform(-12, 0)))),
        Gain(id=5, lower=GainSide(gain_db=float(rng.uniform(-12, 12)))),
        Width(id=6, shared=WidthShared(width=float(rng.uniform(0, 200)))),
    ]
    kept = tuple(stage for stage in stages if rng.random() < 0.6)
    mode = "left-right" if rng.random() < 0.3 else "mid-side"
    return Strip(
        split=Split(mode=mode), stages=kept, output=Output(left=Place(position=float(rng.uniform(-100, 0))))
    )


def test_all_that_is_switched_between_is_equally_late():
    sound = noise(1.0)
    for strip in (NONE, LATE, LONG):
        chain = Chain(strip, RATE, FLOOR)
        own = Chain(strip, RATE)
        assert chain.latency == FLOOR
        late = FLOOR - own.latency
        assert np.array_equal(
            chain.process(sound, 0)[:, late:], own.process(sound, 0)[:, : sound.shape[1] - late]
        )
    assert np.array_equal(Chain(NONE, RATE, FLOOR).process(sound, 0)[:, FLOOR:], sound[:, :-FLOOR])


@pytest.mark.parametrize(("first", "second"), list(itertools.permutations((NONE, LATE, LONG), 2)))
def test_a_switch_takes_less_than_ten_milliseconds_and_keeps_the_time(first, second):
    sound = noise(2.0)
    player = StripPlayer(first, RATE, FLOOR)
    out, place = [], RATE
    for start in range(0, sound.shape[1], 512):
        if start // 512 == place // 512:
            player.update(second, start, SWITCH_S)
            place = start
            out.append(player.process(sound[:, start : start + 512], start))
            place = -1
            continue
        out.append(player.process(sound[:, start : start + 512], start))
    joined = np.concatenate(out, axis=1)
    before, after = (Chain(strip, RATE, FLOOR).process(sound, 0) for strip in (first, second))
    switched = RATE // 512 * 512
    over = switched + int(0.01 * RATE)
    assert np.array_equal(joined[:, :switched], before[:, :switched])
    # What remembers (a compressor's reduction, say) has heard only the last of the sound: it comes within a tenth of a dB.
    assert np.abs(joined[:, over:] - after[:, over:]).max() < 0.012 * np.abs(after).max()
    if second is not LATE:
        assert np.abs(joined[:, over:] - after[:, over:]).max() < 1e-9


def test_switching_leaves_no_click():
    tone = sine(100, 2.0, -12.0) + sine(171, 2.0, -14.0)
    sides = [Strip(stages=(Gain(id=2, upper=GainSide(gain_db=g)),)) for g in (0.0, -9.0)] + [LATE]
    player = StripPlayer(sides[0], RATE, FLOOR)
    listener = Listener(RATE)
    out = []
    choices = itertools.cycle(
        [(0, "processed"), (1, "processed"), (2, "unprocessed"), (2, "processed"), (0, "unprocessed")]
    )
    for start in range(0, tone.shape[1], 480):
        if start % 4800 == 0:
            which, what = next(choices)
            player.update(sides[which], start, SWITCH_S)
            listener.choose(Listening(what, processed_db=-3.0 * which))
        block = tone[:, start : start + 480]
        unprocessed = player.reference(block)
        out.append(listener.process(player.process(block, start), unprocessed))
    joined = np.concatenate(out, axis=1)[:, FLOOR + 480 :]
    own = max(
        np.abs(np.diff(Chain(s, RATE).process(tone, 0)[:, 4800:], axis=1)).max() for s in [*sides, NONE]
    )
    assert np.abs(np.diff(joined, axis=1)).max() <= 1.02 * own


def test_identical_versions_and_an_empty_session_differ_by_exactly_nothing(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(2.0))
    with Reader(path) as reader:
        one, two = (np.concatenate([p for _, p in rendered(reader, LATE)], axis=1) for _ in range(2))
        assert np.array_equal(one, two)
    source = session_on(path).sound.stems[0].source
    assert done(measured(Subject(source, NONE, difference_db=(0.0, 0.0)))).true_peak_dbtp is None
    with Reader(path) as reader:
        playback = Playback(reader, NONE, Listening("difference"))
        playback.update(NONE, {ALONE: (NONE, LATE, LONG)})
        playback.play()
        assert not any(playback.read(512).any() for _ in range(60))


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(20))
def test_random_sessions_are_matched_within_a_tenth_of_a_unit(seed):
    with Reader(demo_path()) as reader:
        sound = reader.read(RATE * 6, RATE * 8)
    strips = [NONE, random_strip(seed), random_strip(100 + seed)]
    signals = [Chain(strip, RATE).process(sound, 0) for strip in strips]

    def loudness(signal: np.ndarray) -> float:
        meter = Loudness(RATE)
        meter.add(signal)
        return meter.integrated()

    gains = matched_db({str(k): loudness(signal) for k, signal in enumerate(signals)})
    assert max(gains.values()) == 0.0
    matched = [loudness(signal * 10 ** (gains[str(k)] / 20)) for k, signal in enumerate(signals)]
    assert max(matched) - min(matched) <= 0.1


def test_what_is_silent_or_not_known_is_left_alone():
    assert matched_db({"a": -20.0, "b": None, "c": float("-inf"), "d": -17.0}) == {
        "a": 0,
        "b": 0,
        "c": 0,
        "d": -3,
    }
    assert matched_db({}) == {}


def test_a_reference_of_another_rate_stands_in_the_same_switch_and_loops_in_its_own_range(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(3.0))
    t = np.arange(2 * RATE) / RATE
    tone = 0.25 * np.sin(2 * np.pi * 500 * t)
    other = write_wav(tmp_path / "b.wav", np.stack([tone, tone]), subtype="FLOAT")
    with Reader(path) as reader:
        playback = Playback(reader, NONE)
        reference = Playback(Reader(other), NONE)
        reference.loop = (RATE, RATE + 4800)
        reference.position = RATE
        playback.refer(reference)
        playback.play()
        first = playback.read(4800)
        assert reference.position == RATE  # it waits until it is asked for
        playback.listen(Listening("reference", reference_db=-6.0))
        heard = np.concatenate([playback.read(480) for _ in range(100)], axis=1)
        playback.listen(Listening("processed"))
        back = np.concatenate([playback.read(480) for _ in range(4)], axis=1)
        wanted = reader.read(4800 + 48_000, 1920)
        assert np.array_equal(first, reader.read(0, 4800))
    settled = heard[0, 960:]
    assert np.abs(settled).max() == pytest.approx(0.25 * 10 ** (-6 / 20), rel=0.02)
    assert np.abs(np.diff(heard, axis=1)[:, 960:]).max() < 1.1 * 0.125 * 2 * np.pi * 500 / RATE * 1.2
    assert np.array_equal(back[:, 480:], wanted[:, 480:])  # in time with what went on meanwhile
    assert RATE <= reference.position <= RATE + 4800


def test_one_reference_goes_over_into_another_without_a_click(tmp_path):
    path = write_wav(tmp_path / "a.wav", np.zeros((2, 2 * RATE)))
    tones = [sine(hertz, 2.0, -6.0, phase=1.0) for hertz in (200, 310)]
    others = [write_wav(tmp_path / f"{k}.wav", tone, subtype="FLOAT") for k, tone in enumerate(tones)]
    with Reader(path) as reader:
        playback = Playback(reader, NONE, Listening("reference"))
        playback.refer(Playback(Reader(others[0]), NONE))
        playback.play()
        out = [playback.read(480) for _ in range(20)]
        playback.refer(Playback(Reader(others[1]), NONE))
        out += [playback.read(480) for _ in range(20)]
        playback.listen(Listening("processed"))
        out += [playback.read(480) for _ in range(4)]
    joined = np.concatenate(out, axis=1)
    own = max(np.abs(np.diff(tone, axis=1)).max() for tone in tones)
    assert np.abs(np.diff(joined, axis=1)).max() < 1.3 * own
    assert np.abs(joined[:, 480 * 25 : 480 * 39]).max() == pytest.approx(0.5, rel=0.01)
    assert not joined[:, -960:].any()


def test_the_difference_can_be_made_louder():
    listener = Listener(RATE, Listening("difference", difference_db=20.0))
    a, b = noise(0.01), noise(0.01, seed=3)
    assert np.allclose(listener.process(a, b), 10 * (a - b))
