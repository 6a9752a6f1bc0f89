"""The invariants of the engine."""

import itertools
import time
from concurrent.futures import ThreadPoolExecutor
from threading import Event

import numpy as np
import pytest
from conftest import RATE, THOROUGH, noise, session_on, sine, write_wav
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal
from test_kinds import drawn_stage, programme

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import Tap
from stonekite.engine.mix.strip import GLIDE_S, StripPlayer
from stonekite.engine.offline.render import rendered
from stonekite.engine.play.listen import Listener, Listening
from stonekite.engine.play.playback import Playback
from stonekite.files.audio import Reader
from stonekite.session.types import Leg, Split, Strip
from stonekite.signal.matrix import MATRICES, decode, encode
from stonekite.stages.base import Kind, Plan, Side, Stage, never
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.eq import Band, Eq, EqSide, side_sections
from stonekite.stages.registry import KINDS

SPLITS = [Split(mode="left-right"), *(Split(matrix=m) for m in MATRICES)]


def eq(upper=(), lower=(), **more) -> Eq:
    return Eq(id=7, upper=EqSide(bands=tuple(upper)), lower=EqSide(bands=tuple(lower)), **more)


BANDS = (Band(frequency_hz=90, gain_db=6, q=1), Band(shape="high-shelf", frequency_hz=9000, gain_db=-5))
STRIP = Strip(
    stages=(eq(BANDS, [Band(shape="high-pass", frequency_hz=200, slope=24)]),), lower=Leg(level_db=2.0)
)


def played(player: StripPlayer, sound: np.ndarray, edges: list[int], changes: dict[int, Strip]) -> np.ndarray:
    """Sound through a player in blocks that end at the given edges, settings changing where told."""
    places = sorted({0, sound.shape[1], *edges, *changes})
    out = []
    for start, stop in itertools.pairwise(places):
        if start in changes:
            player.update(changes[start], start)
        out.append(player.process(sound[:, start:stop], start))
    return np.concatenate(out, axis=1)


@given(st.lists(st.integers(1, 9999), max_size=15))
@settings(max_examples=25, deadline=None)
def test_block_size_does_not_change_a_bit_even_while_gliding(edges):
    sound = noise(10_000 / RATE)
    changes = {
        2000: Strip(split=Split(mode="left-right"), stages=STRIP.stages),
        2500: Strip(upper=Leg(muted=True)),
    }
    wanted = played(StripPlayer(STRIP, RATE), sound, [], changes)
    assert np.array_equal(played(StripPlayer(STRIP, RATE), sound, edges, changes), wanted)


@pytest.mark.parametrize("split", SPLITS)
@pytest.mark.parametrize(
    "stages",
    [
        (),
        (eq(BANDS, BANDS, inserted=False),),
        (eq([Band(gain_db=0.0), None, Band(gain_db=8, on=False)]),),
        (Eq(id=3, upper=None, lower=None),),
    ],
)
def test_nothing_to_do_gives_the_input_back_exactly(split, stages):
    sound = noise(0.2)
    assert np.array_equal(Chain(Strip(split=split, stages=stages), RATE).process(sound, 0), sound)


@pytest.mark.parametrize("split", SPLITS)
def test_a_strip_is_split_filter_level_and_join(split):
    sound = noise(0.5)
    strip = Strip(
        split=split, stages=STRIP.stages, upper=Leg(level_db=-3, inverted=True), lower=Leg(level_db=1)
    )
    legs = sound if split.mode == "left-right" else encode(sound, split.matrix)
    stage = STRIP.stages[0]
    wanted = []
    for leg, side, gain in (
        (legs[0], stage.upper, -(10 ** (-3 / 20))),
        (legs[1], stage.lower, 10 ** (1 / 20)),
    ):
        wanted.append(gain * signal.sosfilt(np.insert(side_sections(side, RATE), 3, 1.0, axis=1), leg))
    wanted = np.array(wanted)
    wanted = wanted if split.mode == "left-right" else decode(wanted, split.matrix)
    assert np.abs(Chain(strip, RATE).process(sound, 0) - wanted).max() < 1e-12


def test_levels_mute_and_alone():
    sound = noise(0.1)

    def result(**legs: Leg) -> np.ndarray:
        return encode(Chain(Strip(**legs), RATE).process(sound, 0))

    mid, side = encode(sound)
    assert np.array_equal(result(upper=Leg(muted=True))[0], np.zeros_like(mid))
    assert result(upper=Leg(alone=True))[1] == pytest.approx(0, abs=1e-15)
    assert result(lower=Leg(alone=True))[1] == pytest.approx(side, abs=1e-15)
    assert result(upper=Leg(alone=True), lower=Leg(alone=True)) == pytest.approx(encode(sound), abs=1e-15)
    assert result(lower=Leg(level_db=-120))[1] == pytest.approx(0, abs=1e-15)
    assert result(lower=Leg(inverted=True))[1] == pytest.approx(-side, abs=1e-15)


def test_one_sided_eq_leaves_the_other_component_alone():
    sound = noise(0.3)
    strip = Strip(stages=(eq([Band(frequency_hz=3000, gain_db=12)]),))
    assert encode(Chain(strip, RATE).process(sound, 0))[1] == pytest.approx(encode(sound)[1], abs=1e-15)


LARGEST_STEP_DB = -80.0
"""A jump of a setting on a 100 Hz sine may add steps of at most this much of its peak per sample."""


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (Strip(), Strip(upper=Leg(level_db=-120))),
        (Strip(), Strip(upper=Leg(level_db=12))),
        (Strip(), Strip(upper=Leg(inverted=True))),
        (Strip(), STRIP),
        (STRIP, Strip(split=Split(mode="left-right"), stages=STRIP.stages)),
        (STRIP, Strip(split=Split(matrix="raised-side"), stages=STRIP.stages)),
        (Strip(stages=(eq([Band(frequency_hz=100, gain_db=-24, q=4)]),)), Strip(stages=(eq([Band(frequency_hz=100, gain_db=24)]),))),
        (STRIP, Strip(stages=(eq(BANDS, BANDS, inserted=False),))),
    ],
)  # fmt: skip
def test_a_jump_of_a_setting_glides(before, after):
    sound = sine(100, 1.0, 0)
    player = StripPlayer(before, RATE)
    out = played(player, sound, [], {20_000 + 123: after})
    # What the sine's own curvature leaves after a second difference, at the greater of both levels.
    steps = np.abs(np.diff(out, 2, axis=1))
    old = steps[:, 15_000:20_000].max()
    new = steps[:, 40_000:].max()
    during = steps[:, 20_100:24_000].max()
    extra = during - max(old, new)
    peak = np.abs(out).max()
    print(f"largest extra step {20 * np.log10(max(extra, 1e-9) / peak):.0f} dB of the peak")
    assert extra < 10 ** (LARGEST_STEP_DB / 20) * peak
    # And the step between neighbours never exceeds what a sine at the greater level has by much.
    assert np.abs(np.diff(out, axis=1)).max() < 1.2 * peak * 2 * np.pi * 100 / RATE


def test_changes_during_a_glide_wait_and_the_last_one_wins():
    player = StripPlayer(Strip(), RATE)
    sound = np.ones((2, 400))
    for k in range(20):
        player.update(Strip(upper=Leg(level_db=-float(k)), lower=Leg(level_db=-float(k))), k * 400)
        out = player.process(sound, k * 400)
    for k in range(20, 26):
        out = player.process(sound, k * 400)
    assert out[:, -1] == pytest.approx([10 ** (-19 / 20)] * 2)


def test_filters_go_on_from_their_state():
    """Changing one leg's level must not restart the filters: the other leg does not notice."""
    sound = noise(1.0)
    player = StripPlayer(STRIP, RATE)
    changed = Strip(stages=STRIP.stages, upper=Leg(level_db=-6), lower=STRIP.lower)
    out = encode(played(player, sound, [], {24_000: changed}))
    wanted = encode(Chain(STRIP, RATE).process(sound, 0))
    assert np.abs(out[1] - wanted[1]).max() < 1e-13


def test_nan_and_infinity_never_leave_a_stage():
    sound = noise(0.2)
    sound[0, 1000], sound[1, 1500] = np.nan, np.inf
    chain = Chain(STRIP, RATE)
    with np.errstate(invalid="ignore", over="ignore"):
        out = np.concatenate(
            [chain.process(sound[:, k : k + 480].copy(), k) for k in range(0, 9600, 480)], axis=1
        )
    assert np.isfinite(out).all()
    assert np.abs(out[:, 5000:]).max() > 0.05  # and it plays on afterwards


class LateSide(Side, frozen=True, kw_only=True):
    samples: int = 0


class Late(Stage, frozen=True, kw_only=True, tag="late"):
    """A kind for these tests: each leg comes late by its own number of samples, and says so."""

    upper: LateSide
    lower: LateSide


class _Lines:
    def __init__(self, lengths):
        self.lines = [np.zeros(n) for n in lengths]


def _process(state, coefficients, block, clock):
    for row, line in enumerate(state.lines):
        joined = np.concatenate([line, block[row]])
        block[row] = joined[: block.shape[1]]
        state.lines[row] = joined[block.shape[1] :]


def _lengths(stage, context):
    return stage.upper.samples, stage.lower.samples


LATE = Kind(
    stage=Late,
    side=LateSide,
    label="Late",
    help="Comes late.",
    group="Level",
    rank=99,
    response=lambda stage, leg, frequencies, rate: np.ones(len(frequencies)),
    neutral=lambda stage: False,
    plan=lambda stage, context: Plan(_lengths(stage, context)),
    coefficients=_lengths,
    start=_Lines,
    carry=never,
    process=_process,
)


def late(number: int, upper: int, lower: int, **more) -> Late:
    return Late(id=number, upper=LateSide(samples=upper, **more), lower=LateSide(samples=lower, **more))


@pytest.fixture
def late_kind(monkeypatch):
    monkeypatch.setitem(KINDS, Late.__struct_config__.tag, LATE)


@pytest.mark.parametrize(("upper", "lower"), [(0, 100), (333, 20), (64, 64)])
def test_unequal_latencies_of_the_legs_are_aligned_to_the_sample(late_kind, tmp_path, upper, lower):
    sound = np.rint(noise(0.3) * 2**20) / 2**23
    path = write_wav(tmp_path / "a.wav", sound)
    strip = Strip(stages=(late(1, upper, lower), late(2, 5, 0)))
    with Reader(path) as reader:
        pairs = list(rendered(reader, strip, block=1000))
    unprocessed, result = (np.concatenate(rows, axis=1) for rows in zip(*pairs, strict=True))
    assert np.array_equal(unprocessed, sound)
    assert np.array_equal(result, sound)


def test_the_unprocessed_reference_is_as_late_as_the_result(late_kind, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(1.0))
    strip = Strip(stages=(late(1, 200, 0),))
    with Reader(path) as reader:
        playback = Playback(reader, strip, Listening("difference"))
        playback.play()
        out = np.concatenate([playback.read(700) for _ in range(60)], axis=1)
    assert np.array_equal(out, np.zeros_like(out))


def test_playing_gives_what_an_export_gives(recording):
    with Reader(recording) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, STRIP)], axis=1)
        playback = Playback(reader, STRIP)
        playback.play()
        out = np.concatenate([playback.read(512) for _ in range(200)], axis=1)
    assert np.array_equal(out[:, : wanted.shape[1]], wanted)
    assert not playback.playing


def test_a_seek_starts_with_warm_filters_and_fades(recording):
    with Reader(recording) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, STRIP)], axis=1)
        playback = Playback(reader, STRIP)
        playback.seek(50_000)
        playback.play()
        out = np.concatenate([playback.read(480) for _ in range(50)], axis=1)
    assert np.abs(out[:, 0]).max() < 1e-3
    assert np.abs(out[:, 480:] - wanted[:, 50_480 : 50_000 + out.shape[1]]).max() < 1e-6


def test_a_loop_goes_round_without_a_click(tmp_path):
    path = write_wav(tmp_path / "tone.wav", sine(100, 2.0, -6))
    with Reader(path) as reader:
        playback = Playback(reader, Strip())
        playback.loop = (24_000 + 77, 48_000)
        playback.seek(24_077)
        playback.play()
        out = np.concatenate([playback.read(512) for _ in range(200)], axis=1)
    assert playback.playing and 24_077 <= playback.position <= 48_000
    assert np.abs(np.diff(out, axis=1)).max() < 2 * 0.5 * 2 * np.pi * 100 / RATE


def test_pause_and_play_do_not_click(tmp_path):
    path = write_wav(tmp_path / "tone.wav", sine(100, 2.0, -6))
    with Reader(path) as reader:
        playback = Playback(reader, Strip())
        out = []
        for k in range(120):
            if k % 20 == 0:
                playback.play()
            if k % 20 == 10:
                playback.pause()
            if k % 20 == 5:
                playback.seek(30_000 + k)
            out.append(playback.read(441))
    out = np.concatenate(out, axis=1)
    assert np.abs(np.diff(out, axis=1)).max() < 3 * 0.5 * 2 * np.pi * 100 / RATE


def test_switching_what_is_heard_is_in_sync_and_without_a_click():
    processed, unprocessed = sine(100, 0.5, 0), sine(100, 0.5, -6)
    listener = Listener(RATE, Listening("processed"))
    first = listener.process(processed[:, :10_000], unprocessed[:, :10_000])
    listener.choose(Listening("unprocessed"))
    second = listener.process(processed[:, 10_000:], unprocessed[:, 10_000:])
    out = np.concatenate([first, second], axis=1)
    assert np.array_equal(out[:, :10_000], processed[:, :10_000])
    done = 10_000 + int(0.010 * RATE)
    assert np.array_equal(out[:, done:], unprocessed[:, done:])
    assert np.abs(np.diff(out, axis=1)).max() < 1.3 * 2 * np.pi * 100 / RATE


def test_components_alone_are_centred_in_both_ears():
    sound = noise(0.1)
    for only, wanted in (
        ("left", sound[0]),
        ("right", sound[1]),
        ("mid", encode(sound)[0]),
        ("side", encode(sound)[1]),
    ):
        out = Listener(RATE, Listening("unprocessed", only)).process(sound * 2, sound)  # type: ignore[arg-type]
        assert np.array_equal(out[0], out[1])
        assert np.array_equal(out[0], wanted)


def test_taps_see_a_stage_before_and_after():
    sound = noise(0.1)
    tap = Tap(7)
    Chain(STRIP, RATE).process(sound, 0, tap)
    before, after = tap.take()
    assert np.array_equal(before, encode(sound))
    only = Chain(Strip(stages=STRIP.stages), RATE).process(sound, 0)
    assert encode(only) == pytest.approx(after, abs=1e-12)
    Chain(Strip(stages=(eq(inserted=False),)), RATE).process(sound, 0, tap)
    before, after = tap.take()
    assert np.array_equal(before, after)


def test_glide_is_as_long_as_said():
    player = StripPlayer(Strip(), RATE)
    player.update(Strip(upper=Leg(muted=True), lower=Leg(muted=True)), 0)
    out = player.process(np.ones((2, 4000)), 0)
    length = int(GLIDE_S * RATE)
    assert out[0, length - 20] > 0 and np.array_equal(out[:, length:], np.zeros((2, 4000 - length)))


def test_an_empty_session_renders_bit_for_bit(recording):
    session = session_on(recording)
    with Reader(recording) as reader:
        source = reader.read(0, reader.facts.frames)
        out = np.concatenate([o for _, o in rendered(reader, session.sound.stems[0].strip)], axis=1)
    assert np.array_equal(out, source)


@pytest.mark.slow
def test_what_is_chosen_while_nothing_plays_is_heard_from_the_first_frame(tmp_path):
    """Also where two choices came one after the other: nothing was heard that would go over into them."""
    path = write_wav(tmp_path / "a.wav", noise(1.0))

    def heard(*choices):
        with Reader(path) as reader:
            playback = Playback(reader, Strip(upper=Leg(level_db=-6.0)), Listening("processed"))
            playback.play()
            playback.read(1000)
            playback.pause()
            playback.read(1000)
            for choice in choices:
                playback.listen(choice)
            playback.seek(0)
            playback.play()
            return playback.read(4000)

    last = Listening("processed", processed_db=-1.0)
    assert np.array_equal(heard(Listening("difference"), Listening("unprocessed"), last), heard(last))
    gain = 10 ** (-1.0 / 20)
    assert np.abs(heard(last) - gain * heard()).max() < 1e-12


@pytest.mark.parametrize("seed", range(12 if THOROUGH else 5))
def test_from_the_middle_on_playing_gives_what_an_export_gives(tmp_path, seed):
    """Whatever the kinds remember: detectors with slow releases, long filters, all of them in a row."""
    rng = np.random.default_rng(seed)
    kinds = list(KINDS)
    stages = tuple(
        drawn_stage(kinds[int(rng.integers(len(kinds)))], rng, number, slowest_s=8.0)
        for number in range(2, 5)
    )
    if seed % 3 == 0:
        slow = CompressorSide(threshold_db=-45, ratio=8, release_ms=900, adaptive=True)
        stages = (*stages, Compressor(id=9, upper=slow, lower=slow))
    strip = Strip(split=SPLITS[seed % 4], stages=stages)
    sound = programme(24.0, seed) * np.linspace(1.0, 0.4, int(24.0 * RATE))
    path = write_wav(tmp_path / "a.wav", sound, subtype="DOUBLE")
    start = 20 * RATE
    with Reader(path) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, strip)], axis=1)
        playback = Playback(reader, strip)
        playback.seek(start)
        playback.play()
        out = np.concatenate([playback.read(512) for _ in range(100)], axis=1)
    there = wanted[:, start + 480 : start + out.shape[1]]
    off = 20 * np.log10(np.abs(out[:, 480:] - there).max() / np.abs(there).max() + 1e-15)
    print(f"from the middle on: {off:.0f} dB of the peak")
    assert off <= -90.0


@pytest.mark.slow
@pytest.mark.parametrize("jumps", [(), (5, 18, 9), ("pause", 12)])
def test_a_start_beside_the_playing_is_silent_until_it_has_heard_back_and_then_gives_the_export(
    tmp_path, jumps
):
    slow = CompressorSide(threshold_db=-45, ratio=8, release_ms=300)
    strip = Strip(
        stages=(Compressor(id=9, upper=slow, lower=slow), Drive(id=10, upper=DriveSide(), lower=DriveSide()))
    )
    path = write_wav(tmp_path / "a.wav", programme(24.0, 4), subtype="DOUBLE")
    start = 20 * RATE
    with ThreadPoolExecutor(1) as helper, Reader(path) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, strip)], axis=1)
        held = Event()
        helper.submit(held.wait)
        playback = Playback(reader, strip, helper=helper)
        playback.seek(start)
        playback.play()
        for jump in jumps:
            if jump == "pause":
                playback.pause()
                assert not playback.playing and playback.heard_position == start
                playback.play()
                continue
            playback.seek(jump * RATE)
            start = jump * RATE
        # While the helper is held nothing waits for it.
        for _ in range(10):
            assert not playback.read(512).any() and playback.heard_position == start and playback.playing
        held.set()
        while not (block := playback.read(512)).any():
            assert playback.heard_position in (start, start + 512)
            time.sleep(0.002)
        out = np.concatenate([block, *(playback.read(512) for _ in range(60))], axis=1)
        playback.close()
    there = wanted[:, start + 480 : start + out.shape[1]]
    assert np.abs(out[:, 480:] - there).max() <= 1e-9 * np.abs(there).max()
