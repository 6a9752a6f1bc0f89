"""Several strips at once: joined, aligned, heard, and the same however they are played."""

import time
from concurrent.futures import ThreadPoolExecutor
from threading import Event

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, THOROUGH, noise
from mixes import drawn_sound, recording

from stonekite.engine.mix.layout import laid_out, placed
from stonekite.engine.mix.mixer import Mixer
from stonekite.engine.offline.export import set_written
from stonekite.engine.offline.made import feeds
from stonekite.engine.offline.render import open_source, rendered
from stonekite.engine.play.playback import Playback
from stonekite.session import storage
from stonekite.session.export_sets import RESULT, ExportSet, parts_of
from stonekite.session.mix import places, wires
from stonekite.session.mix.fader import Fader, Send
from stonekite.session.types import MIX, Bus, Leg, Mix, Session, Sound, Split, Stem, Strip
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.riding import Point, Ride

SEEDS = range(40 if THOROUGH else 4)


def late_by(milliseconds: float) -> Strip:
    """A strip that is late, and does nothing else: its compressor looks ahead, and nothing reaches its threshold."""
    side = CompressorSide(threshold_db=0.0, look_ahead_ms=milliseconds)
    return Strip(split=Split(mode="left-right"), stages=(Compressor(id=901, upper=side, lower=side),))


@pytest.fixture
def sources(tmp_path):
    """Three recordings of unlike lengths."""
    return [
        recording(tmp_path / f"{k}.wav", noise(seconds, seed=k + 1))
        for k, seconds in enumerate((1.2, 0.7, 1.0))
    ]


def through(sound: Sound, number: int = MIX, block: int = 4096) -> np.ndarray:
    """What comes out of a strip of a sound, as an export has it."""
    stem = places.as_stem(sound, number)
    with open_source(stem.source) as reader:
        return np.concatenate([out for _, out in rendered(reader, stem.strip, block)], axis=1)


def played(sound: Sound, blocks: int, start: int = 0, heard: int = MIX, size: int = 512) -> np.ndarray:
    reader = feeds(sound, open_source)
    playback = Playback(reader, laid_out(sound))
    playback.hear(heard)
    playback.seek(start)
    playback.play()
    return np.concatenate([playback.read(size) for _ in range(blocks)], axis=1)


@pytest.mark.parametrize("seed", SEEDS)
def test_any_sound_is_the_same_in_any_blocks_played_and_exported(seed, sources):
    sound = drawn_sound(seed, sources)
    whole = through(sound)
    assert np.array_equal(through(sound, block=777), whole)
    heard = played(sound, whole.shape[1] // 512)
    assert np.array_equal(heard, whole[:, : heard.shape[1]])
    start = 20_000
    later = played(sound, 40, start)
    there = whole[:, start : start + later.shape[1]]
    assert np.abs(later - there)[:, 512:].max() <= 1e-5 * (np.abs(whole).max() + 1e-9)


@pytest.mark.slow
@pytest.mark.parametrize("rate", [44_100, 96_000, 192_000])
@pytest.mark.parametrize("seed", range(12 if THOROUGH else 2))
def test_up_to_thirty_strips_with_sends_and_keys_are_the_same_at_any_rate_on_any_threads(
    seed, rate, tmp_path
):
    """Played, exported, in any blocks, on one thread or several: to the bit."""
    rng = np.random.default_rng([seed, rate])
    stems, buses = int(rng.integers(6, 24)), int(rng.integers(3, 7))
    sources = [
        recording(tmp_path / f"{k}.wav", noise(float(rng.uniform(0.1, 0.35)), seed=k + 1, rate=rate), rate)
        for k in range(stems)
    ]
    sound = drawn_sound(int(rng.integers(1 << 20)), sources, buses)
    whole = through(sound)
    assert np.array_equal(through(sound, block=777), whole), f"{stems} stems, {buses} buses"
    heard = played(sound, whole.shape[1] // 512)
    assert np.array_equal(heard, whole[:, : heard.shape[1]]), f"{stems} stems, {buses} buses"
    reader = feeds(sound, open_source)
    given = reader.read(0, whole.shape[1])
    outs = []
    with ThreadPoolExecutor(2) as crew:
        for blocks, hands in ((512, None), (997, crew)):
            mixer = Mixer(laid_out(sound), rate, crew=hands)
            parts = [mixer.process(given[:, k : k + blocks], k)[0] for k in range(0, given.shape[1], blocks)]
            outs.append(np.concatenate(parts, axis=1))
    assert np.array_equal(*outs)


@pytest.mark.parametrize("seed", SEEDS)
def test_what_goes_into_a_bus_is_heard_alike_wherever_it_is_asked_for(seed, sources):
    """Played in the mix's graph, and read as the recording that a bus works on."""
    sound = drawn_sound(seed, sources)
    if any(one.fader.alone for one in wires.going_on(sound)):
        return  # a bus by itself knows nothing of what is alone elsewhere
    for bus in sound.buses:
        whole = through(sound, bus.id)
        heard = played(sound, whole.shape[1] // 512, heard=bus.id)
        assert np.array_equal(heard, whole[:, : heard.shape[1]])


@pytest.mark.parametrize("milliseconds", [7.0, 20.0])
@pytest.mark.parametrize("way", ["into", "send", "before", "bus in bus"])
def test_one_stem_over_two_paths_one_of_them_late_nulls(sources, milliseconds, way):
    """With left/right as the split, so that turning upside down changes no digit."""
    plain, flat = Strip(split=Split(mode="left-right")), late_by(milliseconds)
    upside_down = msgspec.structs.replace(plain, upper=Leg(inverted=True), lower=Leg(inverted=True))
    twice = (
        Stem(id=1, name="one", source=sources[0], strip=flat),
        Stem(id=2, name="other", source=sources[0], strip=upside_down),
    )
    if way == "into":
        sound = Sound(stems=twice)
    elif way == "bus in bus":
        inner = Bus(id=11, name="inner", strip=flat, into=12)
        one = msgspec.structs.replace(twice[0], into=11, strip=plain)
        sound = Sound(stems=(one, twice[1]), buses=(inner, Bus(id=12, name="outer", strip=flat)))
    else:
        stem = msgspec.structs.replace(
            twice[0], strip=plain, sends=(Send(to=11, before=way == "before"),), fader=Fader(level_db=0.0)
        )
        parallel = msgspec.structs.replace(flat, upper=Leg(inverted=True), lower=Leg(inverted=True))
        sound = Sound(stems=(stem,), buses=(Bus(id=11, name="parallel", strip=parallel),))
    mixer = Mixer(laid_out(sound), RATE)
    assert mixer.latency >= round(milliseconds * RATE / 1000)
    out = through(sound)
    assert out.shape[1] == sources[0].frames
    assert not out.any()


def test_the_sum_of_all_stems_as_they_are_sent_on_is_the_mix(sources):
    sound = drawn_sound(3, sources, buses=0)
    quiet = tuple(
        msgspec.structs.replace(s, fader=Fader(level_db=-3.0, place=40.0 * k - 40))
        for k, s in enumerate(sound.stems)
    )
    sound = msgspec.structs.replace(sound, stems=quiet, mix=Mix())
    mix = through(sound)
    alone = [
        through(msgspec.structs.replace(sound, stems=tuple(
            msgspec.structs.replace(s, fader=msgspec.structs.replace(s.fader, alone=s.id == stem.id)) for s in quiet
        )))
        for stem in quiet
    ]  # fmt: skip
    assert np.abs(sum(alone) - mix).max() < 1e-6 * 10 ** (-20 / 20)
    assert all(np.abs(one).max() > 1e-3 for one in alone)


def test_a_stem_that_begins_later_and_has_another_rate_stands_where_it_should(tmp_path):
    click = np.zeros((2, 4800))
    click[:, 1000] = 0.5
    first = recording(tmp_path / "a.wav", np.zeros((2, RATE)))
    same = recording(tmp_path / "b.wav", click)
    slow = np.zeros((2, 44_100))
    slow[:, 22_050] = 0.5
    other = recording(tmp_path / "c.wav", slow, 44_100)
    sound = Sound(
        stems=(
            Stem(id=1, name="a", source=first),
            Stem(id=2, name="b", source=same, start_s=0.25),
            Stem(id=3, name="c", source=other, start_s=0.1),
        )
    )
    assert places.timeline(sound) == (RATE, 4800 + RATE)
    out = through(sound)
    assert int(np.abs(out[0, :20_000]).argmax()) == 12_000 + 1000
    assert int(np.abs(out[0, 20_000:]).argmax()) + 20_000 == 4800 + 24_000


@pytest.mark.parametrize("place", [-100.0, -37.0, 0.0, 12.5, 80.0, 100.0])
def test_what_stands_in_the_centre_keeps_its_power_wherever_it_is_placed(place):
    moved = placed(place) @ np.ones(2)
    assert float((moved**2).sum()) == pytest.approx(2.0, abs=1e-12)
    assert moved[1] == pytest.approx(0.0, abs=1e-12) if place == -100.0 else moved[1] > 0.0
    mirrored = placed(-place)
    assert np.allclose(placed(place), mirrored[::-1, ::-1])
    if place == 0.0:
        assert np.array_equal(placed(place), np.eye(2))


def test_alone_opens_the_ways_through_what_is_alone_and_no_other(sources):
    """Against all ways from a stem to the mix, one by one."""
    for seed in range(60):
        sound = drawn_sound(seed, sources, buses=4, strips=False)
        alone = {one.id for one in wires.going_on(sound) if one.fader.alone}
        every = list(wires.wires(sound))

        def ways(number: int, before: list, every=every):
            if number == MIX:
                yield before
            for wire in every:
                if wire.source == number:
                    yield from ways(wire.to, [*before, wire])

        heard = set()
        for stem in sound.stems:
            for way in ways(stem.id, []):
                if not alone or alone & {wire.source for wire in way}:
                    heard |= {(w.source, w.to, w.send) for w in way if not w.fader.muted}
        opened = {(w.source, w.to, w.send) for w in wires.open_wires(sound)}
        # A bus that nothing goes into may be open: nothing comes out of it.
        reached = {s.id for s in sound.stems} | {w.to for w in every}
        assert {one for one in opened if one[0] in _fed(sound)} == {one for one in heard}, (seed, reached)


def _fed(sound: Sound) -> set[int]:
    """All that a recording comes through."""
    fed = {stem.id for stem in sound.stems}
    for number in wires.order(sound):
        fed |= {wire.to for wire in wires.wires(sound) if wire.source == number and number in fed}
    return fed


def test_circles_and_ways_to_nowhere_are_refused_with_a_sentence(sources):
    one, two = Bus(id=5, name="pier", into=6), Bus(id=6, name="quay", sends=(Send(to=5),))
    stem = Stem(id=1, name="reel", source=sources[0])
    cases = {
        "in a circle: pier, quay": Sound(stems=(stem,), buses=(one, two)),
        "goes to a bus that is not there": Sound(stems=(msgspec.structs.replace(stem, into=9),)),
        "is sent to a bus twice": Sound(
            stems=(msgspec.structs.replace(stem, sends=(Send(to=6), Send(to=6))),),
            buses=(Bus(id=6, name="q"),),
        ),
    }
    for words, sound in cases.items():
        assert words in wires.flaw(sound)
        text = storage.encode(Session(sound=sound))
        with pytest.raises(storage.SessionError, match=r"\$\.sound\.buses"):
            storage.decode(text)
    assert not wires.can_go(
        Sound(stems=(stem,), buses=(Bus(id=5, name="p", into=6), Bus(id=6, name="q"))), 6, 5
    )


@pytest.mark.parametrize("seed", range(12))
def test_a_mix_is_saved_and_opened_as_it_was_and_made_sources_are_not_taken(seed, sources):
    sound = drawn_sound(seed, sources)
    ids = iter(range(1000, 100_000))
    from stonekite.session import tree

    def own(strip: Strip) -> Strip:  # numbers are given once in a session
        return msgspec.structs.replace(
            strip, stages=tuple(tree.renumbered(s, next(ids) * 1000)[0] for s in strip.stages), spurs=()
        )

    session = tree.counted(Session(sound=tree.with_strips(sound, own)))
    assert storage.decode(storage.encode(session)) == session
    made = places.as_stem(session.sound, MIX).source
    hostile = msgspec.structs.replace(
        session,
        sound=msgspec.structs.replace(sound, stems=(Stem(id=1, name="x", source=made),), buses=(), mix=Mix()),
    )
    with pytest.raises(storage.SessionError, match="strips in place of a recording"):
        storage.decode(storage.encode(hostile))


def test_changes_glide_and_are_then_as_if_they_had_always_been_so(sources):
    """Levels, sends, what is alone, and a stage that makes one stem later, while it plays."""
    stems = tuple(
        Stem(id=k + 1, name=str(k), source=source, sends=(Send(to=10, level_db=-6.0),))
        for k, source in enumerate(sources)
    )
    sound = Sound(stems=stems, buses=(Bus(id=10, name="b", fader=Fader(level_db=-3.0)),))
    side = GainSide(gain_db=-4.0)
    changes = [
        {"fader": Fader(level_db=-9.0, place=30.0)},
        {"sends": ()},
        {"fader": Fader(alone=True)},
        {"strip": late_by(20.0)},
        {"strip": Strip(stages=(Gain(id=77, upper=side, lower=side),))},
    ]
    for change in changes:
        after = msgspec.structs.replace(
            sound, stems=(msgspec.structs.replace(stems[0], **change), *stems[1:])
        )
        reader = feeds(sound, open_source)
        playback = Playback(reader, laid_out(sound))
        playback.play()
        first = [playback.read(512) for _ in range(12)]
        playback.update(laid_out(after))
        heard = np.concatenate([*first, *(playback.read(512) for _ in range(68))], axis=1)
        old, new = through(sound), through(after)
        assert np.array_equal(heard[:, : 12 * 512], old[:, : 12 * 512])
        late = Mixer(laid_out(after), RATE).latency  # what is heard then is so much behind
        settled = 40 * 512
        there = new[:, settled - late : heard.shape[1] - late]
        assert np.abs(heard[:, settled:] - there).max() < 1e-12, change
        between = heard[:, 12 * 512 - 64 : 12 * 512 + 2048]
        assert np.abs(np.diff(between)).max() < 1.2 * np.abs(np.diff(old)).max() + np.abs(np.diff(new)).max()


@pytest.mark.parametrize("seed", range(3))
def test_stems_and_buses_are_written_from_one_start_and_add_up_to_the_mix(seed, sources, tmp_path):
    """What goes into the mix, by itself, at its level and place; rates, places and tails as they come."""
    sound = drawn_sound(20 + seed, sources)
    rows = {
        name: tuple(
            msgspec.structs.replace(one, fader=msgspec.structs.replace(one.fader, alone=False))
            for one in getattr(sound, name)
        )
        for name in ("stems", "buses")
    }
    session = Session(sound=msgspec.structs.replace(sound, mix=Mix(), **rows))
    chosen = ExportSet(what=("result", "strips"), bits="64f", pattern="{number} {what}")
    ((_, names),) = parts_of(chosen, session)
    assert len(names) == 1 + len(session.sound.stems) + len(session.sound.buses)
    *_, done = set_written(session, chosen, tmp_path)
    files = {point: soundfile.read(tmp_path / name)[0].T for point, name in names.items()}
    assert len(done.paths) == len(names) and len({file.shape for file in files.values()}) == 1
    into = [one.id for one in wires.going_on(session.sound) if one.into == MIX]
    whole = sum(file for point, file in files.items() if point.spur in into and point.what == "strip")
    assert np.abs(whole - files[RESULT]).max() < 10 ** (-120 / 20)
    assert np.abs(files[RESULT]).max() > 1e-3


@pytest.mark.parametrize("only_wires", [False, True])
def test_what_changes_while_a_start_still_hears_back_is_heard_after_it(sources, only_wires):
    """As in the player, with a thread beside the playing."""
    stems = tuple(Stem(id=k + 1, name=str(k), source=source) for k, source in enumerate(sources))
    sound = Sound(stems=stems, buses=(Bus(id=10, name="b"),))
    side = GainSide(gain_db=-6.0)
    after = msgspec.structs.replace(
        sound,
        stems=(
            msgspec.structs.replace(
                stems[0], into=10, strip=Strip(stages=(Gain(id=77, upper=side, lower=side),))
            ),
            msgspec.structs.replace(stems[1], fader=Fader(muted=True)),
            stems[2],
        ),
    )
    if only_wires:
        quiet = msgspec.structs.replace(stems[0], fader=Fader(level_db=-6.0))
        after = msgspec.structs.replace(sound, stems=(quiet, *stems[1:]))
    with ThreadPoolExecutor(1) as helper:
        reader = feeds(sound, open_source)
        playback = Playback(reader, laid_out(sound), helper=helper)
        playback.seek(10_000)
        playback.play()
        playback.update(laid_out(after), {})
        playback.hear(MIX if only_wires else 1)
        heard = []
        while sum(block.shape[1] for block in heard) < 16_000:
            block = playback.read(512)
            if playback._starting is None:
                heard.append(block)
        played_on = np.concatenate(heard, axis=1)
        wanted = through(after, MIX if only_wires else 1)
        first = 8_000  # by then all has gone over
        errors = [
            np.abs(played_on[:, first:] - wanted[:, at + first : at + played_on.shape[1]]).max()
            for at in range(10_000 - 512, 10_000 + 1, 512)
        ]
        assert min(errors) < 1e-12
        playback.close()


def test_a_strip_that_a_version_has_not_is_not_heard_and_the_mix_is(sources):
    sound = Sound(
        stems=(Stem(id=1, name="one", source=sources[0]), Stem(id=2, name="two", source=sources[1]))
    )
    assert np.array_equal(played(sound, 40, heard=77), played(sound, 40, heard=MIX))


def test_a_start_that_is_left_is_not_waited_for(sources):
    """Another sound is loaded while one still hears back: the player must not stand still."""
    sound = drawn_sound(1, sources)
    with ThreadPoolExecutor(1) as helper:
        playback = Playback(feeds(sound, open_source), laid_out(sound), helper=helper)
        held = Event()
        helper.submit(held.wait, 30.0)  # so that the start cannot end
        playback.seek(30_000)
        playback.play()
        begun = time.monotonic()
        playback.close()
        assert time.monotonic() - begun < 5.0
        held.set()


def coming_and_going(sources) -> dict[str, tuple[Sound, Sound]]:
    """Sounds before and after edits by which strips come or go."""
    stems = tuple(Stem(id=k + 1, name=str(k), source=source) for k, source in enumerate(sources))
    plain = Sound(stems=stems)
    side = GainSide(gain_db=-4.0)
    rides = (Ride(path="upper.gain_db", points=(Point(at_s=0.0, value=-20.0), Point(at_s=1.0, value=0.0))),)
    gain = Gain(id=70, upper=side, lower=side, rides=rides)
    bus = Bus(id=10, name="b", strip=Strip(split=Split(mode="left-right"), stages=(gain,)))
    fed = (msgspec.structs.replace(stems[0], sends=(Send(to=10, level_db=-6.0),)), *stems[1:])
    inside = (msgspec.structs.replace(stems[0], into=10), *stems[1:])
    late = msgspec.structs.replace(
        bus, strip=msgspec.structs.replace(late_by(20.0), stages=(*late_by(20.0).stages, gain))
    )
    two = (msgspec.structs.replace(bus, into=11), Bus(id=11, name="c", strip=late_by(7.0)))
    return {
        "a bus beside the mix": (plain, Sound(stems=fed, buses=(bus,))),
        "a bus in between": (plain, Sound(stems=inside, buses=(bus,))),
        "a late one": (plain, Sound(stems=fed, buses=(late,))),
        "bus in bus": (plain, Sound(stems=inside, buses=two)),
        "none feeds it": (plain, Sound(stems=stems, buses=(bus,))),
        "one goes": (Sound(stems=fed, buses=(bus,)), plain),
        "both go": (Sound(stems=inside, buses=two), plain),
        "one in place of the other": (
            Sound(stems=inside, buses=(bus,)),
            Sound(
                stems=(msgspec.structs.replace(stems[0], into=12), *stems[1:]), buses=(Bus(id=12, name="d"),)
            ),
        ),
    }


@pytest.mark.parametrize("case", range(8))
@pytest.mark.parametrize("start", [0, 10_000])
def test_strips_come_and_go_while_it_plays_and_nothing_stops(case, start, sources):
    name, (sound, after) = list(coming_and_going(sources).items())[case]
    playback = Playback(feeds(sound, open_source), laid_out(sound))
    assert playback.fits(laid_out(after)), name
    playback.seek(start)
    playback.play()
    first = [playback.read(512) for _ in range(12)]
    playback.update(laid_out(after))
    heard = np.concatenate([*first, *(playback.read(512) for _ in range(48))], axis=1)
    old, new = through(sound), through(after)
    late = playback._mixer.latency - Mixer(laid_out(sound), RATE).latency
    settled = 30 * 512
    there = new[:, start + settled - late : start + heard.shape[1] - late]
    assert np.abs(heard[:, settled:] - there).max() < 1e-9, name
    between = heard[:, 12 * 512 - 64 : 12 * 512 + 2048]
    assert np.abs(np.diff(between)).max() < 1.2 * np.abs(np.diff(old)).max() + np.abs(np.diff(new)).max()
    assert np.abs(heard).reshape(2, -1, 256).max(axis=2).min() > 0.0  # no gap
    # Back again, in the middle of going over, and once more.
    for one in (sound, after, sound):
        playback.update(laid_out(one))
        playback.read(200)
    assert np.isfinite(playback.read(4096)).all()
    assert set(playback._mixer.parts) >= set(laid_out(sound).strips)
    for _ in range(8):
        playback.read(512)
    assert set(playback._mixer.parts) == set(laid_out(sound).strips)
    for one in (after, sound, after):  # a new start in the middle of it
        playback.update(laid_out(one))
        playback.read(200)
        playback.seek(start)
        anew = np.concatenate([playback.read(512) for _ in range(24)], axis=1)
        wanted = (new if one is after else old)[:, start : start + anew.shape[1]]
        assert np.abs(anew[:, 2048:] - wanted[:, 2048:]).max() < 1e-5, name
