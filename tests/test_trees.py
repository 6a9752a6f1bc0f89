"""What must hold for any strip, with spurs beside its legs and branches in its stages."""

import itertools
import random

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, THOROUGH, noise
from test_kinds import changed, off_by_db, programme, through, worst_step
from trees import SPLITS, drawn_stage, drawn_strip

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.tails import REST_S
from stonekite.engine.mix.strip import StripPlayer
from stonekite.engine.offline.export import export
from stonekite.engine.offline.render import open_source
from stonekite.engine.play.listen import Listening
from stonekite.engine.play.playback import Playback
from stonekite.session import edits, storage, tree
from stonekite.session.differences import differences
from stonekite.session.edits import put
from stonekite.session.history import History
from stonekite.session.spur import Spur
from stonekite.session.types import Leg, Session, Sound, Source, Split, Stem, Strip
from stonekite.stages.bands import BandPath, BandsSide, BandsStage
from stonekite.stages.branch import Branch
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.registry import kind_of


def write_sound(path, sound: np.ndarray) -> Source:
    """A recording of a sound (2, frames), as a session names it."""
    soundfile.write(path, sound.T, RATE, subtype="DOUBLE")
    return Source(path=str(path), rate=RATE, frames=sound.shape[1])


SEEDS = range(60 if THOROUGH else 5)
LATE = Eq(id=90, upper=EqSide(bands=(Band(gain_db=0.0),)), shared=EqShared(phase="linear"))


@pytest.mark.slow
@pytest.mark.parametrize("seed", SEEDS)
def test_any_cut_gives_the_same_bits_at_every_depth(seed):
    strip, sound = drawn_strip(seed), programme(0.6, seed)
    wanted = through(strip, sound)
    chain = Chain(strip, RATE)
    edges = sorted([0, *np.random.default_rng(seed).integers(0, sound.shape[1], 30).tolist(), sound.shape[1]])
    parts = [chain.process(sound[:, a:b], a) for a, b in itertools.pairwise(edges)]
    assert np.array_equal(np.concatenate(parts, axis=1), wanted)


def moved(strip: Strip, seed: int) -> tuple[Strip, str]:
    """A strip with one thing changed anywhere in it."""
    rng = random.Random(seed)
    numbers = np.random.default_rng(seed)
    what = ("stage", "out", "gone", "new", "spur's level", "spur's delay", "spur gone", "spur's tap")[
        seed % 8
    ]
    places = [place for place in tree.walk(strip)]
    spur = rng.randrange(len(strip.spurs))
    if what in ("stage", "out", "gone") and places:
        path, stage = rng.choice(places)
        if what == "stage":
            tag = kind_of(stage).stage.__struct_config__.tag
            return put(strip, path, drawn_stage(tag, numbers, stage.id, 0.3, 0)), what
        if what == "out":
            return put(strip, (*path, "inserted"), False), what
        kept = tuple(one for one in tree.at(strip, path[:-1]) if one is not stage)
        spurs = tuple(
            msgspec.structs.replace(s, after="split") if s.after == stage.id else s for s in strip.spurs
        )
        return put(msgspec.structs.replace(strip, spurs=spurs), path[:-1], kept), what
    if what == "new":
        place = rng.choice(list(tree.branches(strip)))
        new = drawn_stage("filter", numbers, 77, 0.3)
        return put(strip, place.path, (*place.stages, new)), what
    change = {
        "spur's level": {"level_db": -7.0, "inverted": True},
        "spur's delay": {"delay_ms": rng.uniform(-5, 5)},
        "spur's tap": {"after": "end" if strip.spurs[spur].after == "split" else "split"},
    }
    if what in change:
        return put(strip, ("spurs", spur), msgspec.structs.replace(strip.spurs[spur], **change[what])), what
    return msgspec.structs.replace(strip, spurs=strip.spurs[:spur] + strip.spurs[spur + 1 :]), "spur gone"


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(96 if THOROUGH else 8))
def test_a_change_anywhere_glides_and_is_then_as_if_it_had_always_been_so(seed):
    before = drawn_strip(seed)
    after, what = moved(before, seed)
    sound = programme(6.0, seed)
    out, memory = changed(before, after, sound)
    old, new = through(before, sound), through(after, sound)
    at = 2 * RATE
    # What remembers for longer than the sound is long is only held to its steps.
    known = at + memory < sound.shape[1] - RATE // 4
    off = off_by_db(out[:, at + memory :], new[:, at + memory :]) if known else -999.0
    step = worst_step(out, old, new, at)
    print(f"{what}: after the memory {off:.0f} dB, largest step {step:.2f} times")
    assert off <= -120.0
    assert step <= 1.5


@pytest.mark.slow
@pytest.mark.parametrize("seed", SEEDS)
def test_what_is_no_number_stays_in_its_branch_and_is_forgotten(seed):
    strip, sound = drawn_strip(seed), programme(5.0, seed)
    broken = sound.copy()
    broken[seed % 2, 12_345] = np.nan
    broken[(seed + 1) % 2, 20_000] = 1e300
    chain = Chain(strip, RATE)
    out = np.concatenate(
        [chain.process(broken[:, k : k + 480], k) for k in range(0, broken.shape[1], 480)], axis=1
    )
    assert np.isfinite(out).all()
    start = 20_000 + chain.memory
    if start < sound.shape[1] - RATE // 4:
        assert off_by_db(out[:, start:], through(strip, sound)[:, start:]) <= -120.0


SOURCES = ["left", "right", "mid", "side", "both"]


@pytest.mark.parametrize("split", SPLITS, ids=str)
@pytest.mark.parametrize("source", SOURCES)
def test_an_empty_spur_adds_up_to_twice_its_component(split: Split, source):
    sound = programme(0.3, 3)
    out = Chain(Strip(split=split, spurs=(Spur(branch=Branch(id=5), source=source),)), RATE).process(sound, 0)
    mid, side = 0.5 * (sound[0] + sound[1]), 0.5 * (sound[0] - sound[1])
    more = {
        "left": np.stack([sound[0], 0 * sound[0]]),
        "right": np.stack([0 * sound[1], sound[1]]),
        "mid": np.stack([mid, mid]),
        "side": np.stack([side, -side]),
        "both": sound,
    }[source]
    assert off_by_db(out, sound + more) <= -250.0


@pytest.mark.parametrize("where", ["leg", "spur", "band", "band in spur", "spur and leg", "two deep"])
@pytest.mark.parametrize("after", ["split", "end"])
def test_what_is_late_is_in_time_at_every_depth(where, after):
    """A linear-phase EQ that only delays, anywhere: a spur still adds exactly 6.02 dB."""
    in_band = BandsStage(
        id=30, branches=(Branch(id=31, stages=(LATE,)), Branch(id=32), Branch(id=33), Branch(id=34))
    )
    deep = msgspec.structs.replace(
        in_band,
        id=40,
        branches=(Branch(id=41), Branch(id=42, stages=(in_band,)), Branch(id=43), Branch(id=44)),
    )
    late = msgspec.structs.replace(LATE, upper=EqSide(bands=(Band(gain_db=3.0),)), lower=None)
    legs = {"leg": (late,), "spur and leg": (late,)}.get(where, ())
    inside = {
        "spur": (late,), "band": (in_band,), "band in spur": (in_band,), "spur and leg": (late,), "two deep": (deep,)
    }.get(where, ())  # fmt: skip
    sound = programme(1.5, 4)
    strip = Strip(
        split=Split(mode="left-right"),
        stages=legs,
        spurs=(Spur(branch=Branch(id=5, stages=inside), after=after),),
    )
    chain = Chain(strip, RATE)
    out = chain.process(sound, 0)[:, chain.latency :]

    def alone(stages):
        one = Chain(Strip(split=Split(mode="left-right"), stages=stages), RATE)
        return one.process(sound, 0)[:, one.latency :][:, : out.shape[1] - RATE // 2]

    wanted = alone(legs) + alone((*legs, *inside) if after == "end" else inside)
    assert off_by_db(out[:, : wanted.shape[1]], wanted) <= -200.0


@pytest.mark.parametrize("delay_ms", [-20.0, -3.21, -1.0, 0.0, 0.013, 5.0, 20.0])
def test_a_spur_is_as_much_later_as_it_says(delay_ms):
    strip = Strip(
        split=Split(mode="left-right"),
        upper=Leg(muted=True),
        lower=Leg(muted=True),
        spurs=(Spur(branch=Branch(id=5), delay_ms=delay_ms),),
    )
    chain = Chain(strip, RATE)
    t = np.arange(RATE) / RATE
    for hz in (60.0, 997.0, 9001.0, 18_000.0):
        out = chain.process(np.stack([np.sin(2 * np.pi * hz * t)] * 2), 0)[0, chain.latency :]
        wanted = np.sin(2 * np.pi * hz * (t - delay_ms * 1e-3))[: len(out)]
        assert np.abs(out - wanted)[RATE // 4 : -RATE // 4].max() < 1e-3


@pytest.mark.slow
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_bands_add_up_flat_and_turn_as_the_stated_all_pass(rate):
    every = np.fft.rfftfreq(2 * rate, 1 / rate)
    heard = (every >= 20.0) & (every <= 20_000.0)
    hz = every[heard]
    worst, where = 0.0, ""
    rng = np.random.default_rng(1)
    for slope in (24, 48):
        for count in (2, 3, 4):
            for _ in range(6):
                first, second, third = np.exp(rng.uniform(np.log(20), np.log(20_000), 3))
                side = BandsSide(count=count, slope=slope, first_hz=first, second_hz=second, third_hz=third)
                chain = Chain(
                    Strip(split=Split(mode="left-right"), stages=(BandsStage(id=3, upper=side),)), rate
                )
                impulse = np.zeros((2, 2 * rate))
                impulse[:, 0] = 1.0
                out = chain.process(impulse, 0)
                found = np.fft.rfft(out[0])[heard]
                off = float(np.abs(20 * np.log10(np.abs(found))).max())
                turned = kind_of(BandsStage(id=3)).dry.response(
                    BandsStage(id=3, upper=side), "upper", hz, rate
                )
                assert np.abs(found - turned).max() < 1e-4
                if off > worst:
                    worst, where = off, f"{count} bands, {slope} dB, {first:.0f} {second:.0f} {third:.0f} Hz"
    print(f"bands at {rate} Hz: {worst:.2e} dB off flat at the most, {where}")
    assert worst <= 0.01


def test_bands_are_taken_out_and_heard_alone():
    sound = programme(1.0, 6)
    paths = (BandPath(muted=True), BandPath(), BandPath(), BandPath())
    low = BandsSide(paths=(BandPath(alone=True), *paths[1:]))
    high = BandsSide(paths=paths)
    strips = [
        Strip(split=Split(mode="left-right"), stages=(BandsStage(id=3, upper=side, lower=side),))
        for side in (low, high, BandsSide())
    ]
    parts = [through(strip, sound) for strip in strips]
    assert off_by_db(parts[0] + parts[1], parts[2]) <= -250.0


def test_a_leg_without_bands_passes_in_time_and_can_be_turned_as_the_other():
    sound = programme(1.0, 7)
    inner = (Branch(id=31, stages=(LATE,)), Branch(id=32), Branch(id=33), Branch(id=34))
    stage = BandsStage(id=3, lower=None, branches=inner)
    chain = Chain(Strip(split=Split(mode="left-right"), stages=(stage,)), RATE)
    out = chain.process(sound, 0)
    assert np.array_equal(out[1, chain.latency :], sound[1, : -chain.latency or None])
    matched = put(stage, ("shared", "matched"), True)
    same = np.stack([sound[0], sound[0]])
    turned = Chain(Strip(split=Split(mode="left-right"), stages=(matched,)), RATE).process(same, 0)
    assert off_by_db(turned[:1], turned[1:]) <= -200.0


def crosses(stage) -> bool:
    """Whether a stage has sound go from one leg to the other."""
    greatest = kind_of(stage).offers.greatest
    return greatest is not None and bool(
        greatest(stage, np.array([300.0, 3000.0]), RATE)[[0, 1], [1, 0]].any()
    )


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(60 if THOROUGH else 12))
def test_nothing_sounds_on_longer_than_a_strip_says(seed):
    """A leg that was delayed by parts of a sample lost its last 60."""
    chain = Chain(drawn_strip(200 + seed, spurs=seed % 3, stages=1 + seed % 2), RATE)
    sound = noise(0.3, seed=seed)
    if chain.tail > 2 * RATE:
        pytest.skip("rings for longer than there is time")
    ends = sound.shape[1] + chain.latency + chain.tail
    heard = chain.process(np.pad(sound, ((0, 0), (0, chain.latency + chain.tail + RATE // 4))), 0)
    assert np.abs(heard[:, ends:]).max() < 10 ** (-90 / 20) * max(1.0, np.abs(heard).max())


def test_legs_that_are_not_coupled_do_not_hear_each_other_in_any_branch():
    sound = programme(0.6, 8)
    other = sound.copy()
    other[1] *= -0.3
    for seed in range(8 if THOROUGH else 4):
        drawn = drawn_strip(seed)
        places = [(path, stage) for path, stage in tree.walk(drawn)]
        strip = Strip(
            split=Split(mode="left-right"), stages=drawn.stages, upper=drawn.upper, lower=drawn.lower
        )
        if any(crosses(stage) for _, stage in places):
            continue
        for path, stage in tree.walk(strip):
            if hasattr(getattr(stage, "shared", None), "coupling"):
                strip = put(strip, (*path, "shared", "coupling"), 0.0)
                rides = tuple(ride for ride in stage.rides if ride.path != "shared.coupling")
                strip = put(strip, (*path, "rides"), rides)
        assert np.array_equal(through(strip, sound)[0], through(strip, other)[0])


def test_a_stage_in_a_branch_is_changed_without_a_new_start_of_the_others():
    """One band's EQ is moved: what rings in another band goes on ringing."""
    ring = Eq(id=50, upper=EqSide(bands=(Band(frequency_hz=100, q=30, gain_db=15),)))
    bell = Eq(id=51, upper=EqSide(bands=(Band(frequency_hz=3000, gain_db=3),)))
    stage = BandsStage(
        id=3,
        branches=(Branch(id=4, stages=(ring,)), Branch(id=5, stages=(bell,)), Branch(id=6), Branch(id=7)),
    )
    strip = Strip(split=Split(mode="left-right"), stages=(stage,))
    player = StripPlayer(strip, RATE)
    sound = np.zeros((2, RATE))
    sound[:, 0] = 1.0
    player.process(sound[:, : RATE // 2], 0)
    player.update(
        put(strip, ("stages", 0, "branches", 1, "stages", 0, "upper", "bands", 0, "gain_db"), 4.0), RATE // 2
    )
    out = player.process(sound[:, RATE // 2 :], RATE // 2)
    assert off_by_db(out, through(strip, sound)[:, RATE // 2 :]) <= -100.0


def test_the_tail_is_played_and_written_until_it_is_quiet_or_as_asked(tmp_path):
    """A resonance that is struck at the very end of a recording."""
    sound = np.zeros((2, RATE))
    sound[:, -10:] = 0.5
    source = write_sound(tmp_path / "end.wav", sound)
    ring = Eq(id=3, upper=EqSide(bands=(Band(frequency_hz=200, q=30, gain_db=18),)))
    strip = Strip(split=Split(mode="left-right"), stages=(ring,))
    session = Session(sound=Sound(stems=(Stem(id=1, name="end", source=source, strip=strip),)))
    padded = np.pad(sound, ((0, 0), (0, 2 * RATE)))
    wanted = through(strip, padded)
    loud = np.flatnonzero(np.abs(wanted).max(axis=0) > 10 ** (-90 / 20))[-1] + 1
    assert RATE + 5000 < loud < 2 * RATE
    rest = round(REST_S * RATE)  # that follows, below the limit
    for tail, frames in ((None, loud + rest), (0.0, RATE), (0.5, RATE + RATE // 2)):
        out = tmp_path / f"{tail}.wav"
        list(export(session, out, bits="32f", tail=tail))
        written = soundfile.read(out)[0].T
        assert written.shape[1] == frames
        assert np.abs(written - wanted[:, :frames]).max() < 1e-7
    player = Playback(open_source(source), strip)
    player.play()
    heard = np.concatenate([player.read(512) for _ in range(400)], axis=1)
    assert not player.playing
    assert np.array_equal(heard[:, :loud], wanted[:, :loud])


@pytest.mark.slow
@pytest.mark.parametrize("seed", SEEDS)
def test_playing_and_exporting_a_tree_give_the_same_from_any_start(seed, tmp_path):
    sound = programme(2.0, seed)
    source = write_sound(tmp_path / "tree.wav", sound)
    strip = drawn_strip(seed)
    session = Session(sound=Sound(stems=(Stem(id=1, name="tree", source=source, strip=strip),)))
    out = tmp_path / "out.wav"
    list(export(session, out, bits="32f", tail=0.0))
    written = soundfile.read(out)[0].T
    player = Playback(open_source(source), strip)
    player.play()
    heard = np.concatenate([player.read(512) for _ in range(2 * RATE // 512)], axis=1)
    assert np.abs(heard - written[:, : heard.shape[1]]).max() < 1e-6
    start = int(np.random.default_rng(seed).integers(RATE // 2, RATE))
    player = Playback(open_source(source), strip)
    player.seek(start)
    player.play()
    heard = np.concatenate([player.read(512) for _ in range(40)], axis=1)
    there = written[:, start : start + heard.shape[1]]
    peak = np.abs(written).max() + 1e-9
    assert np.abs(heard - there)[:, 512:].max() / peak < 1e-5


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(20))
def test_a_tree_is_saved_loaded_changed_and_undone_to_equality(seed):
    strip = drawn_strip(seed, spurs=3)
    session = Session(sound=Sound(stems=(Stem(id=99_999, name="t", source=SOURCE, strip=strip),)))
    assert storage.decode(storage.encode(session)) == session
    history = History.of(session)
    now = session
    for k in range(6):
        changed, _ = moved(now.sound.stems[0].strip, 8 * seed + k)
        now = put(now, ("sound", "stems", 0, "strip"), changed)
        history.push(now, f"step {k}", None)
        assert storage.decode(storage.encode(now)) == now
        assert differences(strip, changed) or changed == strip
        if not changed.spurs:
            break
    while history.next_undo:
        history.undo()
    assert history.now.sound == session.sound


SOURCE = Source(path="quay.wav", rate=RATE, frames=RATE)


def deep(count: int) -> BandsStage:
    """Bands in bands, so many."""
    inner = (deep(count - 1),) if count > 1 else ()
    first = 100 * count
    branches = tuple(Branch(id=first + k, stages=inner if k == 0 else ()) for k in range(4))
    return BandsStage(id=first + 50, branches=branches)


def full_spur(number: int) -> Spur:
    """A spur of sixty stages."""
    return Spur(
        name=f"{number}", branch=Branch(id=number, stages=tuple(Eq(id=number + k) for k in range(1, 61)))
    )


@pytest.mark.parametrize(
    ("strip", "said"),
    [
        (Strip(stages=(deep(4),)), r"too deep \(at \$\.sound\.stems\[0\]\.strip\.stages\[0\]\.branches\[0\]"),
        (Strip(spurs=(Spur(branch=Branch(id=5, stages=(deep(3),))),)), "too deep"),
        (Strip(spurs=(Spur(branch=Branch(id=0)),)), r"without a number \(at .*spurs\[0\]"),
        (Strip(spurs=(Spur(branch=Branch(id=5), after=77),)), r"after no stage \(at .*spurs\[0\]\.after"),
        (Strip(stages=(deep(1),), spurs=(Spur(branch=Branch(id=101)),)), "uses the number 101 twice"),
        (Strip(spurs=tuple(full_spur(5000 + 100 * k) for k in range(5))), "more than 256 stages"),
    ],
)
def test_trees_that_cannot_be_are_refused_with_their_place(strip, said):
    text = storage.encode(
        Session(sound=Sound(stems=(Stem(id=99_999, name="t", source=SOURCE, strip=strip),)))
    )
    with pytest.raises(storage.SessionError, match=said):
        storage.decode(text)


def test_what_is_unknown_deep_in_a_tree_is_refused_with_its_place():
    strip = Strip(spurs=(Spur(branch=Branch(id=5, stages=(deep(1),))),))
    session = Session(sound=Sound(stems=(Stem(id=99_999, name="t", source=SOURCE, strip=strip),)))
    text = storage.encode(session).replace(b'"slope": 24', b'"slope": 25', 1)
    with pytest.raises(storage.SessionError, match=r"spurs\[0\]\.branch\.stages\[0\]\.upper\.slope"):
        storage.decode(text)


def test_edits_keep_a_tree_whole():
    """A stage goes away with what stands in it, and a spur that left after it leaves before it; ids are never twice."""
    strip = Strip(stages=(LATE, deep(2)), spurs=(Spur(branch=Branch(id=5), after=90),))
    session = Session(sound=Sound(stems=(Stem(id=99_999, name="t", source=SOURCE, strip=strip),)))
    without = edits.remove_stage(session, tree.FIRST, 90)
    assert without.sound.stems[0].strip.spurs[0].after == "split"
    again, number = edits.insert_stage(without, tree.FIRST, deep(2), 0)
    numbers = [n for _, n in tree.numbers(again.sound)]
    assert len(set(numbers)) == len(numbers) and number in numbers
    with pytest.raises(ValueError, match="3 deep"):
        edits.insert_stage(session, tree.FIRST, deep(2), 0, branch=tree.branch(strip, 100).branch)
    with pytest.raises(ValueError, match="inside itself"):
        edits.move_stage(session, tree.FIRST, 250, 0, branch=200)
    into, _ = edits.add_stage(session, tree.FIRST, "gain", None, 201)
    moved_out = edits.move_stage(
        into, tree.FIRST, tree.branch(into.sound.stems[0].strip, 201).stages[0].id, 0, 5
    )
    assert len(moved_out.sound.stems[0].strip.spur(5).branch.stages) == 1
    kept = edits.keep_version(moved_out)
    gone = edits.remove_stage(kept, tree.FIRST, 250)
    back = edits.take_stage(gone, tree.FIRST, 1, 250)
    assert back.sound.stems[0].strip == moved_out.sound.stems[0].strip


@pytest.mark.parametrize("rings", [False, True])
@pytest.mark.parametrize("gone", [False, True])
def test_a_stage_that_is_taken_out_rings_on_or_stops_as_chosen(rings, gone):
    """A resonance of two seconds is struck and taken out: what rings is what it would have rung, or nothing."""
    ring = Eq(id=3, rings_on=rings, upper=EqSide(bands=(Band(frequency_hz=100, q=30, gain_db=15),)))
    gain = Gain(id=4, upper=GainSide(gain_db=-1.0), lower=None)
    strip = Strip(split=Split(mode="left-right"), stages=(ring, gain))
    sound = np.zeros((2, 4 * RATE))
    sound[:, 0] = 1.0
    wanted = through(strip, sound)
    player = StripPlayer(strip, RATE)
    at = RATE // 4
    first = player.process(sound[:, :at], 0)
    without = (gain,) if gone else (msgspec.structs.replace(ring, inserted=False), gain)
    player.update(msgspec.structs.replace(strip, stages=without), at)
    # Another change while it rings does not end it.
    middle = player.process(sound[:, at : 2 * at], at)
    louder = msgspec.structs.replace(gain, upper=GainSide(gain_db=-1.5))
    player.update(msgspec.structs.replace(strip, stages=(*without[:-1], louder)), 2 * at)
    last = player.process(sound[:, 2 * at :], 2 * at)
    assert np.array_equal(first, wanted[:, :at])
    settled = int(0.03 * RATE)
    if rings:
        assert off_by_db(middle[:, settled:], wanted[:, at + settled : 2 * at]) < -80.0
        assert off_by_db(last[:, settled:], 10 ** (-0.5 / 20) * wanted[:, 2 * at + settled :]) < -80.0
        assert np.abs(last[:, 2 * RATE :]).max() < 10 ** (-90 / 20)
    else:
        assert np.abs(middle[:, settled:]).max() == np.abs(last).max() == 0.0


def test_the_unprocessed_signal_turned_as_empty_bands_leaves_no_difference(tmp_path):
    sound = programme(3.0, 9)
    source = write_sound(tmp_path / "turn.wav", sound)
    side = BandsSide(count=3, slope=48)
    inner = tuple(Branch(id=31 + k, stages=(LATE,) if k == 0 else ()) for k in range(4))
    strip = Strip(stages=(BandsStage(id=3, upper=side, lower=BandsSide(first_hz=700.0), branches=inner),))
    levels = {}
    for turned in (False, True):
        listening = Listening("difference", turned=turned)
        player = Playback(open_source(source), strip, listening)
        player.play()
        heard = np.concatenate([player.read(512) for _ in range(250)], axis=1)
        levels[turned] = 20 * np.log10(np.abs(heard[:, RATE:]).max() / np.abs(sound).max())
    print(f"difference of empty bands {levels[False]:.0f} dB, turned {levels[True]:.0f} dB")
    assert levels[False] > -20 and levels[True] < -120
    # Turned on while it plays it goes over without a click.
    player = Playback(open_source(source), strip, Listening("unprocessed"))
    player.play()
    plain = np.concatenate([player.read(512) for _ in range(100)], axis=1)
    player.listen(Listening("unprocessed", turned=True))
    after = np.concatenate([player.read(512) for _ in range(100)], axis=1)
    own = np.abs(np.diff(sound, axis=1)).max()
    assert np.abs(np.diff(np.concatenate([plain, after], axis=1), axis=1)).max() <= 1.5 * own


def test_a_spur_leaves_after_a_stage_that_is_out_as_after_one_that_is_in():
    """Also when the stage was taken out while it played."""
    sound = programme(1.0, 10)
    gain = Gain(id=4, upper=GainSide(gain_db=-6.0), lower=GainSide(gain_db=-6.0))
    last = Gain(id=5, upper=GainSide(gain_db=-60.0), lower=GainSide(gain_db=-60.0))
    strip = Strip(stages=(gain, last), spurs=(Spur(branch=Branch(id=9), after=4),))
    out = msgspec.structs.replace(strip, stages=(msgspec.structs.replace(gain, inserted=False), last))
    player = StripPlayer(strip, RATE)
    at = RATE // 2
    player.process(sound[:, :at], 0)
    player.update(out, at)
    heard = player.process(sound[:, at:], at)
    assert off_by_db(heard[:, 2000:], through(out, sound)[:, at + 2000 :]) <= -250.0
    assert off_by_db(through(out, sound), sound * (1 + 10 ** (-60 / 20))) <= -250.0
