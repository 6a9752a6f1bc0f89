"""Detectors that hear another strip: what they do is what the other strip asks for, in time to the sample."""

from concurrent.futures import ThreadPoolExecutor

import msgspec
import numpy as np
import pytest
from conftest import RATE, noise
from mixes import recording
from test_mix import late_by, played, through
from trees import drawn_stage

from stonekite.engine.graph.chain import Chain
from stonekite.engine.mix.layout import laid_out
from stonekite.engine.mix.mixer import Mixer
from stonekite.engine.offline.made import feeds
from stonekite.engine.offline.render import open_source
from stonekite.engine.play.audition import Audition, auditioned
from stonekite.engine.play.live import Live
from stonekite.engine.play.playback import Playback
from stonekite.session import edits, limits, presets, storage, tree
from stonekite.session.mix import mix_edits, places, wires
from stonekite.session.mix.fader import Fader
from stonekite.session.mix.sound_differences import all_differences
from stonekite.session.types import Bus, Session, Sound, Split, Stem, Strip
from stonekite.stages.base import Key, hears_another
from stonekite.stages.compressor import Compressor, CompressorShared, CompressorSide
from stonekite.stages.dynamic_eq import Band, DynamicEq, DynamicEqSide
from stonekite.stages.echo.settings import Echo, EchoShared, EchoSide
from stonekite.stages.eq import Eq
from stonekite.stages.gate import Gate, GateSide
from stonekite.stages.registry import KINDS
from stonekite.stages.riding import Point, Ride

APART, MS = Split(mode="left-right"), Split()
SQUEEZED = CompressorSide(threshold_db=-40.0, ratio=6.0, attack_ms=2.0, release_ms=40.0)
STAGES = {
    "compressor": Compressor(id=7, upper=SQUEEZED, lower=SQUEEZED),
    "late compressor": Compressor(
        id=7,
        upper=msgspec.structs.replace(SQUEEZED, look_ahead_ms=7.0, low_hz=200.0),
        lower=msgspec.structs.replace(SQUEEZED, look_ahead_ms=3.0),
        shared=CompressorShared(coupling=60.0, detection="rms"),
    ),
    "gate": Gate(
        id=7, upper=GateSide(threshold_db=-30.0), lower=GateSide(threshold_db=-20.0, look_ahead_ms=4.0)
    ),
    "dynamic-eq": DynamicEq(
        id=7,
        upper=DynamicEqSide(bands=(Band(frequency_hz=800.0, range_db=-12.0, threshold_db=-50.0),)),
        lower=DynamicEqSide(
            bands=(Band(frequency_hz=2000.0, range_db=9.0, threshold_db=-50.0),), look_ahead_ms=2.0
        ),
    ),
    "echo": Echo(
        id=7,
        upper=EchoSide(time_ms=40.0),
        lower=EchoSide(time_ms=60.0),
        shared=EchoShared(duck_db=18.0, duck_above_db=-40.0),
    ),
}


def keyed(stage, strip: int = 2, **legs):
    return msgspec.structs.replace(stage, key=Key(strip=strip, **legs))


def sound_of(sources, own: Strip, key: Strip | None = None, **more) -> Sound:
    """A stem whose key is another one, which itself is not heard."""
    return Sound(
        stems=(
            Stem(id=1, name="Voice", source=sources[0], strip=own),
            Stem(
                id=2, name="Drum", source=sources[1], strip=key or Strip(split=APART), fader=Fader(muted=True)
            ),
        ),
        **more,
    )


@pytest.fixture
def sources(tmp_path):
    """A steady one, and one that is loud and quiet in turns."""
    steady = 0.2 * noise(1.0, seed=1)
    bursts = noise(1.0, seed=2) * np.repeat([1.0, 0.01, 0.3, 0.0, 1.0], RATE // 5)
    return [recording(tmp_path / "steady.wav", steady), recording(tmp_path / "bursts.wav", bursts)]


def samples(source) -> np.ndarray:
    with open_source(source) as reader:
        return reader.read(0, source.frames)


@pytest.mark.parametrize("split", [APART, MS])
def test_it_turns_down_by_what_the_other_strip_would_be_turned_down(sources, split):
    """A compressor that hears another stem gives its own the gains that the other one gets from the same compressor."""
    stage = STAGES["compressor"]
    out = through(sound_of(sources, Strip(split=split, stages=(keyed(stage),))), 1)
    chain = Chain(Strip(split=split, stages=(stage,)), RATE)
    own, other = samples(sources[0]), samples(sources[1])
    with np.errstate(all="ignore"):
        legs = chain.split(other)
        worked = chain.split(chain.process(other, 0))
        gains = worked / legs
    heard, before = chain.split(out), chain.split(own)
    sure = np.abs(legs) > 1e-4
    assert sure.mean() > 0.5
    assert np.abs(heard - before * gains)[sure].max() < 1e-9


@pytest.mark.parametrize("name", STAGES)
@pytest.mark.parametrize("late_ms", [0.0, 7.0, 20.0])
def test_keys_are_in_time_to_the_sample_however_late_they_are(sources, name, late_ms):
    """A stem that hears a copy of itself, which comes out late, is worked on as if it heard itself."""
    twice = [sources[1], sources[1]]
    stage = STAGES[name]
    plain = through(sound_of(twice, Strip(split=APART, stages=(stage,))), 1)
    heard = through(sound_of(twice, Strip(split=APART, stages=(keyed(stage),)), late_by(late_ms)), 1)
    assert np.array_equal(plain, heard)
    everything = sound_of(twice, Strip(split=APART, stages=(keyed(stage),)), late_by(late_ms))
    mixed = played(everything, plain.shape[1] // 512)
    assert np.array_equal(mixed, plain[:, : mixed.shape[1]])


def test_a_key_that_is_five_thousand_frames_late_for_a_stage_that_is_late_itself(sources):
    twice = [sources[1], sources[1]]
    waits, stage = late_by(20.0).stages[0], STAGES["late compressor"]
    plain = through(sound_of(twice, Strip(split=APART, stages=(waits, stage))), 1)
    late = Strip(split=APART, stages=tuple(msgspec.structs.replace(waits, id=20 + k) for k in range(6)))
    assert Chain(late, RATE).latency == 5_760
    heard = through(sound_of(twice, Strip(split=APART, stages=(waits, keyed(stage))), late), 1)
    assert np.array_equal(plain, heard)
    below = msgspec.structs.replace(stage, key=Key(strip=3))  # and over two more strips
    buses = (Bus(id=3, name="Bus", strip=late_by(7.0)),)
    through_bus = edits.put(
        sound_of(twice, Strip(split=APART, stages=(waits, below)), late, buses=buses), ("stems", 1, "into"), 3
    )
    open_fader = edits.put(through_bus, ("stems", 1, "fader"), Fader())
    assert np.array_equal(through(open_fader, 1), plain)


def test_each_leg_hears_what_it_is_told_and_left_does_not_touch_right(sources):
    stage = STAGES["compressor"]
    both = {}
    for upper, lower in (("leg", "leg"), ("right", "left"), ("own", "mid"), ("side", "own")):
        strip = Strip(split=APART, stages=(keyed(stage, upper=upper, lower=lower),))
        both[upper, lower] = through(sound_of(sources, strip), 1)
    alone = through(sound_of(sources, Strip(split=APART, stages=(stage,))), 1)
    assert np.array_equal(both["own", "mid"][0], alone[0]) and np.array_equal(
        both["side", "own"][1], alone[1]
    )
    assert not np.array_equal(both["leg", "leg"], both["right", "left"])
    # A bang on the left of the key changes right by not one bit.
    loud = samples(sources[1])
    loud[0, 10_000:12_000] = 0.9
    mixer = Mixer(laid_out(sound_of(sources, Strip(split=APART, stages=(keyed(stage),)))), RATE)
    mixer.hear(1)
    quiet = np.concatenate([samples(sources[0]), samples(sources[1])])
    bang = np.concatenate([samples(sources[0]), loud])
    outs = []
    for stems in (quiet, bang):
        mixer.begin()
        outs.append(mixer.process(stems, 0)[0])
    assert not np.array_equal(outs[0][0], outs[1][0]) and np.array_equal(outs[0][1], outs[1][1])


@pytest.mark.parametrize("ahead_ms", [0.0, 3.0])
def test_a_band_can_hear_its_own_leg_beside_one_that_hears_the_key(sources, ahead_ms):
    """As two stages one behind the other, of which one has the key; without the key both hear the leg."""
    first = Band(frequency_hz=600.0, range_db=-12.0, threshold_db=-50.0, hears_leg=True)
    second = Band(frequency_hz=3000.0, range_db=9.0, threshold_db=-50.0)

    def stage(number, *bands):
        side = DynamicEqSide(bands=bands, look_ahead_ms=ahead_ms)
        return DynamicEq(id=number, upper=side, lower=side)

    def heard(*stages):
        return through(sound_of(sources, Strip(split=APART, stages=stages)), 1)

    together = heard(keyed(stage(7, first, second)))
    apart = heard(stage(7, first), keyed(stage(8, second))) if not ahead_ms else None
    if apart is not None:
        assert np.abs(together - apart).max() < 1e-12
    plain = msgspec.structs.replace(first, hears_leg=False)
    assert np.array_equal(heard(stage(7, first, second)), heard(stage(7, plain, second)))
    assert np.array_equal(heard(keyed(stage(7, first))), heard(stage(7, first)))
    assert np.abs(heard(keyed(stage(7, plain, second))) - together).max() > 1e-3


@pytest.mark.parametrize("ahead_ms", [0.0, 3.0])
@pytest.mark.parametrize("moves", [False, True])
def test_each_band_can_hear_another_strip(sources, ahead_ms, moves):
    """As one stage behind the other, each with its key: the stage's, one of the band's own, and the leg."""
    rides = (
        Ride(
            path="upper.bands.0.range_db", points=(Point(at_s=0.1, value=-3.0), Point(at_s=0.6, value=-15.0))
        ),
    )
    other = Key(strip=3, upper="mid", lower="mid")
    bands = [
        Band(frequency_hz=600.0, range_db=-12.0, threshold_db=-60.0, key=other),
        Band(frequency_hz=3000.0, range_db=9.0, threshold_db=-50.0),
        Band(frequency_hz=9000.0, range_db=-9.0, threshold_db=-60.0, hears_leg=True),
    ]

    def stage(number, *bands, ahead=ahead_ms):
        side = DynamicEqSide(bands=bands, look_ahead_ms=ahead)
        made = DynamicEq(id=number, upper=side, lower=side)
        return (
            msgspec.structs.replace(made, rides=rides) if moves and bands[0].frequency_hz < 1000.0 else made
        )

    def heard(*stages):
        sound = sound_of(sources, Strip(split=APART, stages=stages))
        third = Stem(id=3, name="third", source=sources[1], strip=late_by(20.0), fader=Fader(muted=True))
        return through(msgspec.structs.replace(sound, stems=(*sound.stems, third)), 1)

    together = heard(keyed(stage(7, *bands)))
    plain = tuple(msgspec.structs.replace(band, key=None, hears_leg=False) for band in bands)
    others = msgspec.structs.replace(stage(8, plain[0]), key=other)
    if not ahead_ms:
        apart = heard(others, keyed(stage(9, plain[1])), stage(10, plain[2]))
        assert np.abs(together - apart).max() > 0.0  # the third hears what the others made
        two = heard(keyed(stage(7, *bands[:2])))
        assert np.abs(two - heard(others, keyed(stage(9, plain[1])))).max() < 1e-12
    assert np.array_equal(heard(stage(7, bands[0])), heard(others))
    assert np.abs(heard(keyed(stage(7, *plain))) - together).max() > 1e-3
    gone = tree.without_keys(Strip(stages=(keyed(stage(7, *bands)),)), 3).stages[0]
    assert gone.upper.bands[0].key is None and gone.key is not None
    assert np.array_equal(
        heard(gone), heard(keyed(stage(7, *[msgspec.structs.replace(b, key=None) for b in bands])))
    )
    assert wires.keys_of(Strip(stages=(keyed(stage(7, *bands)),))) == (2, 3)
    one_sided = msgspec.structs.replace(stage(7, bands[0]), lower=DynamicEqSide(bands=bands[1:]))
    assert [hears_another(one_sided, leg) for leg in ("upper", "lower")] == [True, False]


def test_circles_are_refused_with_a_sentence_wherever_they_come_from(sources):
    sound = sound_of(
        sources,
        Strip(stages=(STAGES["compressor"],)),
        Strip(stages=(msgspec.structs.replace(keyed(STAGES["gate"], 1), id=9),)),
    )
    session = Session(sound=sound)
    with pytest.raises(ValueError, match="cannot hear"):
        mix_edits.put_key(session, 1, 7, Key(strip=2))
    by_hand = edits.put(session, ("sound", "stems", 0, "strip", "stages", 0, "key"), Key(strip=2))
    assert "circle" in limits.excess(by_hand) and "Voice" in limits.excess(by_hand)
    with pytest.raises(storage.SessionError, match="circle"):
        storage.decode(storage.encode(by_hand))
    bus = Bus(id=3, name="Both", strip=Strip(stages=(msgspec.structs.replace(STAGES["gate"], id=8),)))
    fed = msgspec.structs.replace(sound, buses=(bus,))
    fed = edits.put(fed, ("stems", 1, "into"), 3)
    assert not wires.can_go(fed, 3, 1)  # the voice is the drum's key, which goes into the bus
    made = mix_edits.put_key(Session(sound=fed), 3, 8, Key(strip=2))
    assert wires.keys(made.sound)[3] == (2,)
    assert not limits.excess(made)


def test_what_is_gone_is_not_heard_and_keys_stay_in_their_session(sources, tmp_path):
    stage = keyed(STAGES["gate"])
    sound = sound_of(sources, Strip(stages=(stage,)))
    session = Session(sound=sound)
    kept = mix_edits.remove(session, 2)
    assert kept.sound.stems[0].strip.stages[0].key is None
    loose = edits.put(kept, ("sound", "stems", 0, "strip", "stages", 0, "key"), Key(strip=99))
    plain = through(sound_of(sources, Strip(stages=(STAGES["gate"],))), 1)
    assert np.array_equal(through(loose.sound, 1), plain)
    assert presets.of_stage("x", stage).stage.key is None
    assert presets.of_strip("x", sound.stems[0].strip).strip.stages[0].key is None
    assert presets.on_stage(presets.of_stage("x", STAGES["gate"]), stage, 50).key == stage.key
    assert storage.decode(storage.encode(session)) == session
    told = all_differences(sound_of(sources, Strip(stages=(STAGES["gate"],))), sound)
    assert told == ["Voice: Gate, detectors hear: its own legs → Drum"]
    deaf = edits.put(session, ("sound", "stems", 0, "strip", "stages"), (keyed(Eq(id=7)),))
    assert "no detector" in limits.excess(deaf)


@pytest.mark.parametrize("tag", KINDS)
def test_kinds_either_have_detectors_or_say_that_they_do_not(tag, sources):
    """What says that it hears a key does another thing with one; what does not lets none be put in."""
    rng = np.random.default_rng([3, *tag.encode()])
    if not KINDS[tag].hears_key:
        strip = Strip(stages=(keyed(drawn_stage(tag, rng, deep=0)),))
        assert "no detector" in limits.excess(Session(sound=sound_of(sources, strip)))
        return
    name = {"dynamic-eq": "dynamic-eq"}.get(tag, tag)
    stage = STAGES[name]
    own = through(sound_of(sources, Strip(split=APART, stages=(stage,))), 1)
    other = through(sound_of(sources, Strip(split=APART, stages=(keyed(stage),))), 1)
    assert np.abs(own - other).max() > 1e-3


def test_a_key_edited_while_it_plays_goes_over_without_a_click_and_is_the_export_afterwards(sources):
    plain = sound_of(sources, Strip(split=APART, stages=(STAGES["compressor"],)))
    with_key = sound_of(sources, Strip(split=APART, stages=(keyed(STAGES["compressor"]),)))
    exports = {sound is with_key: through(sound) for sound in (plain, with_key)}
    playback = Playback(feeds(plain, open_source), laid_out(plain))
    playback.seek(0)
    playback.play()
    heard = [playback.read(512) for _ in range(20)]
    playback.update(laid_out(with_key))
    heard += [playback.read(512) for _ in range(60)]
    out = np.concatenate(heard, axis=1)
    there = slice(out.shape[1] - 4096, out.shape[1])
    assert np.abs(out[:, there] - exports[True][:, there]).max() < 1e-4
    assert np.abs(out[:, : 20 * 512] - exports[False][:, : 20 * 512]).max() < 1e-9
    assert np.abs(np.diff(out, axis=1)).max() < 1.5 * np.abs(np.diff(exports[False], axis=1)).max()


def test_the_same_on_several_threads_and_in_other_blocks(sources):
    stages = tuple(
        keyed(msgspec.structs.replace(stage, id=10 + k)) for k, stage in enumerate(STAGES.values())
    )
    sound = sound_of(sources, Strip(split=MS, stages=stages), late_by(3.0))
    stems = np.concatenate([samples(sources[0]), samples(sources[1])])
    outs = []
    with ThreadPoolExecutor(2) as crew:
        for blocks, hands in ((512, None), (997, crew), (4096, crew)):
            mixer = Mixer(laid_out(sound), RATE, crew=hands)
            parts = [mixer.process(stems[:, k : k + blocks], k)[0] for k in range(0, stems.shape[1], blocks)]
            outs.append(np.concatenate(parts, axis=1))
    assert np.array_equal(outs[0], outs[1]) and np.array_equal(outs[0], outs[2])


def test_what_a_detector_hears_of_its_key_can_be_listened_to(sources):
    strip = Strip(split=APART, stages=(keyed(STAGES["compressor"]),))
    alone = auditioned(strip, Audition(stage=7, what="detector", leg="upper"))
    out = through(sound_of(sources, alone), 1)
    assert np.abs(out[0] - samples(sources[1])[0]).max() < 1e-12 and not out[1].any()


def test_what_goes_into_a_keyed_strip_is_measured_anew_when_its_key_changes(sources):
    sound = sound_of(sources, Strip(stages=(keyed(STAGES["gate"]),)))
    louder = edits.put(sound, ("stems", 1, "strip", "output", "trim_db"), 3.0)
    assert places.as_stem(sound, 1).source != places.as_stem(louder, 1).source
    unheard = sound_of(sources, Strip(stages=(STAGES["gate"],)))
    other = edits.put(unheard, ("stems", 1, "strip", "output", "trim_db"), 3.0)
    assert places.as_stem(unheard, 1).source == places.as_stem(other, 1).source
    assert tree.holder(sound, 1).strip.stages[0].key.strip == 2


def test_the_window_has_a_menu_of_keys_and_refuses_circles(window, qtbot, sources, tmp_path):
    window.opening.open_path(tmp_path / "steady.wav")
    window.mixing.actions.add([tmp_path / "bursts.wav"])
    document = window.document
    one, two = (stem.id for stem in document.session.sound.stems)
    document.go_to(one)
    window.stages.add("compressor")
    button = window.panel.key
    assert not button.isHidden() and "its own legs" in button.accessibleName()
    entries = {action.text(): action for action in button.open_menu().actions()}
    assert not entries["steady"].isEnabled() and entries["bursts"].isEnabled()
    entries["bursts"].trigger()
    assert document.strip.stages[0].key == Key(strip=two) and "bursts" in button.accessibleName()
    inner = next(a.menu() for a in button.open_menu().actions() if a.menu() is not None)
    next(a for a in inner.actions() if a.text() == "Right").trigger()
    assert document.strip.stages[0].key.upper == "right"
    document.go_to(two)
    window.stages.add("gate")
    entries = {action.text(): action for action in window.panel.key.open_menu().actions()}
    assert not entries["steady"].isEnabled()
    window.stages.add("eq")
    assert window.panel.key.isHidden()
    document.undo()
    document.undo()
    document.undo()
    document.go_to(one)
    assert document.strip.stages[0].key == Key(strip=two)
    # A band of a dynamic EQ can hear its own leg, where the stage has a key.
    window.stages.add("dynamic-eq")
    editor = window.panel.editors["dynamic-eq"]
    assert editor.own.isHidden()
    next(a for a in window.panel.key.open_menu().actions() if a.text() == "bursts").trigger()
    editor.row.add_asked.emit(0)
    assert not editor.own.isHidden() and not editor.own.isChecked()
    editor.own.click()
    stage = next(stage for stage in document.strip.stages if isinstance(stage, DynamicEq))
    assert stage.upper.bands[0].hears_leg and editor.own.isChecked()
    assert not editor.key.isEnabled()
    editor.own.click()
    assert editor.key.isEnabled() and "as its stage" in editor.key.accessibleName()
    entries = {action.text(): action for action in editor.key.open_menu().actions()}
    assert not entries["steady"].isEnabled()
    entries["bursts"].trigger()
    next(a for a in editor.key.open_menu().actions() if a.text() == "Left").trigger()
    stage = next(stage for stage in document.strip.stages if isinstance(stage, DynamicEq))
    assert (
        stage.upper.bands[0].key == Key(strip=two, upper="left") and "bursts" in editor.key.accessibleName()
    )
    next(a for a in editor.key.open_menu().actions() if a.text() == "As its stage").trigger()
    assert editor._band(0).key is None


def test_a_start_after_a_key_is_gone_or_another_one_came_is_as_any(sources):
    plain = Strip(split=APART, stages=(STAGES["compressor"],))
    both = Strip(split=APART, stages=(keyed(STAGES["compressor"]),))
    sounds = [sound_of(sources, strip) for strip in (both, plain, both, plain)]
    playback = Playback(feeds(sounds[0], open_source), laid_out(sounds[0]))
    for sound in sounds:
        playback.update(laid_out(sound))
        playback.seek(0)
        playback.play()
        heard = np.concatenate([playback.read(512) for _ in range(40)], axis=1)
        assert np.array_equal(heard, through(sound)[:, : heard.shape[1]])
        playback.pause()
        for _ in range(40):
            playback.read(512)


def test_pictures_of_a_detector_show_its_key(sources):
    """The level that goes in, and the spectrum behind what the detector hears, are those of the drum."""
    levels = []
    for stage in (STAGES["compressor"], keyed(STAGES["compressor"])):
        sound = sound_of(sources, Strip(split=APART, stages=(stage,)))
        live = Live(RATE)
        playback = Playback(feeds(sound, open_source), laid_out(sound), live=live)
        playback.hear(1, 1)
        playback.watched = 7
        playback.play()
        for _ in range(16):
            playback.read(512)
        levels.append(live.take_reduction()[0])
    own, key = (samples(source)[:, : 16 * 512] for source in sources)
    for level, heard in zip(levels, (own, key), strict=True):
        assert level == pytest.approx(20 * np.log10(np.abs(heard).max(axis=1)), abs=1e-6)
