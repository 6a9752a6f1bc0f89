"""What stems sound like, kept on the disk and played in place of computing it: the same samples, and never others."""

import errno
import os
import shutil

import msgspec
import numpy as np
import pytest
from conftest import RATE, THOROUGH, noise
from mixes import drawn_sound, recording

from stonekite.engine.mix.kept import playing, with_kept
from stonekite.engine.mix.layout import laid_out
from stonekite.engine.offline import keeping
from stonekite.engine.offline.made import feeds
from stonekite.engine.offline.render import open_source, rendered
from stonekite.engine.play.playback import Playback
from stonekite.files import kept
from stonekite.session.mix import places
from stonekite.session.types import Stem, Strip
from stonekite.stages.drive import Drive
from stonekite.stages.gain import Gain

SEEDS = range(8 if THOROUGH else 2)


@pytest.fixture
def sources(tmp_path):
    return [
        recording(tmp_path / f"{k}.wav", noise(seconds, seed=k)) for k, seconds in enumerate((1.1, 1.3, 0.9))
    ]


def run(generator):
    """What a generator of progress comes to."""
    told = []
    while True:
        try:
            told.append(next(generator))
        except StopIteration as end:
            assert all(0.0 <= one <= 1.0 for one in told)
            return end.value


def all_kept(sound, folder):
    """Strips with results in place of those of all stems."""
    return {
        stem.id: playing(
            kept.Result(run(keeping.keep(places.as_stem(sound, stem.id), folder, (), least=0.0)))
        )
        for stem in sound.stems
    }


def played(playback, frames, block=700):
    out = []
    while sum(one.shape[1] for one in out) < frames:
        out.append(playback.read(block))
    return np.concatenate(out, axis=1)[:, :frames]


def started(sound, results, heard=None, place=0):
    layout, beside = with_kept(laid_out(sound), {}, results)
    made = Playback(feeds(sound, open_source), layout)
    made.update(layout, beside)
    made.hear(layout.last if heard is None else heard)
    made.seek(place)
    made.play()
    return made


@pytest.mark.parametrize("seed", SEEDS)
def test_a_mix_of_kept_stems_is_what_it_is_computed(seed, sources, tmp_path):
    """Random strips, keys, sends, buses: to the bit until the end, and as far as what rings on is to be heard."""
    sound = drawn_sound(seed, sources)
    results = all_kept(sound, tmp_path / "kept")
    frames, end = int(2.0 * RATE), places.timeline(sound)[1]
    from_kept, computed = (played(started(sound, one), frames) for one in (results, {}))
    assert np.array_equal(from_kept[:, :end], computed[:, :end])
    assert np.abs(from_kept - computed)[:, end:].max() < 10 ** (-90 / 20)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_kept_stem_is_the_same_from_any_start_and_in_any_blocks(seed, sources, tmp_path):
    sound = drawn_sound(10 + seed, sources)
    results = all_kept(sound, tmp_path / "kept")
    number = sound.stems[seed % 3].id
    whole = played(started(sound, {}, number), int(1.5 * RATE))
    rng = np.random.default_rng(seed)
    for _ in range(4):
        place = int(rng.integers(1, RATE))
        part = played(started(sound, results, number, place), 8000, int(rng.integers(1, 3000)))
        faded = 400  # a start in the middle is faded in
        assert np.array_equal(part[:, faded:], whole[:, place + faded : place + 8000])


def test_going_to_what_is_kept_and_back_is_heard_nowhere(sources, tmp_path):
    """While it plays: stems are kept one after the other, and computed again."""
    sound = drawn_sound(5, sources)
    results = all_kept(sound, tmp_path / "kept")
    whole = played(started(sound, {}), int(1.2 * RATE), 512)
    playback = started(sound, {})
    out = [playback.read(512) for _ in range(12)]
    for there in ({1: results[1]}, results, {2: results[2], 3: results[3]}, {}):
        playback.update(*with_kept(laid_out(sound), {}, there))
        out += [playback.read(512) for _ in range(20)]
    heard = np.concatenate(out, axis=1)
    assert np.abs(heard - whole[:, : heard.shape[1]]).max() < 1e-5 * np.abs(whole).max()


@pytest.mark.parametrize("first", range(2))
def test_what_is_kept_is_never_that_of_other_settings(first, sources, tmp_path):
    """Random edits, taken back now and then: each has what a fresh render gives, though others are kept beside it."""
    rng = np.random.default_rng(first)
    sounds = [drawn_sound(40 + 10 * first + k, sources) for k in range(3)]
    for sound in list(sounds):
        stem = sound.stems[0]
        later = msgspec.structs.replace(stem, start_s=0.25)
        louder = msgspec.structs.replace(
            stem, strip=msgspec.structs.replace(stem.strip, upper=msgspec.structs.replace(stem.strip.upper, level_db=-1.0))
        )  # fmt: skip
        for one in (later, louder):
            sounds.append(msgspec.structs.replace(sound, stems=(one, *sound.stems[1:])))
    for _ in range(40 if THOROUGH else 12):
        stem = places.as_stem(sounds[int(rng.integers(len(sounds)))], int(rng.integers(1, 4)))
        result = kept.Result(run(keeping.keep(stem, tmp_path / "kept", (), least=0.0)))
        held = np.empty((2, result.frames))
        result.read(0, held)
        with open_source(stem.source) as reader:
            fresh = np.concatenate([out for _, out in rendered(reader, stem.strip)], axis=1)
        assert np.array_equal(held[:, : fresh.shape[1]], fresh)


def test_a_recording_that_was_changed_has_another_result(sources, tmp_path):
    stem = places.as_stem(drawn_sound(3, sources), 1)
    before = run(keeping.keep(stem, tmp_path / "kept", (), least=0.0))
    recording(tmp_path / "0.wav", noise(1.1, seed=77))
    assert run(keeping.keep(stem, tmp_path / "kept", (), least=0.0)) != before


def test_what_costs_next_to_nothing_is_not_kept(tmp_path):
    source = recording(tmp_path / "long.wav", noise(6.0))
    plain = Stem(id=1, name="plain", source=source, strip=Strip(stages=(Gain(id=5),)))
    with pytest.raises(keeping.NotWorth):
        run(keeping.keep(plain, tmp_path / "kept", ()))
    assert not list((tmp_path / "kept").iterdir())
    drives = tuple(Drive(id=10 + k) for k in range(6))
    assert run(
        keeping.keep(msgspec.structs.replace(plain, strip=Strip(stages=drives)), tmp_path / "kept", ())
    ).exists()


def test_what_was_used_least_makes_room_and_what_is_in_use_stays(tmp_path):
    def there():
        return {path.name[0] for path in tmp_path.iterdir()}

    for k, name in enumerate("abcd"):
        path = tmp_path / f"{name}{kept.SUFFIX}"
        path.write_bytes(b"0" * 1000)
        os.utime(path, (1000 + k, 1000 + k))
    in_use = [f"b{kept.SUFFIX}", f"d{kept.SUFFIX}"]
    kept.make_room(tmp_path, 1000, in_use, 5000)
    assert there() == set("abcd")
    kept.make_room(tmp_path, 1000, in_use, 4500)
    assert there() == set("bcd")
    with pytest.raises(kept.NoRoom):
        kept.make_room(tmp_path, 1001, in_use, 3000)
    assert there() == set("bcd")  # nothing goes where it would not do
    kept.make_room(tmp_path, 1000, in_use, 3000)
    assert there() == set("bd")
    kept.forget_all(tmp_path)
    assert not there()


def test_a_full_disk_leaves_nothing_and_a_file_that_is_not_whole_is_none(sources, tmp_path, monkeypatch):
    folder = tmp_path / "kept"
    stem = places.as_stem(drawn_sound(23, sources), 2)
    with monkeypatch.context() as full:
        full.setattr(kept.shutil, "disk_usage", lambda where: shutil._ntuple_diskusage(1, 1, kept.LEFT_FREE))
        with pytest.raises(kept.NoRoom):
            run(keeping.keep(stem, folder, (), least=0.0))
    steps = keeping.keep(stem, folder, (), least=0.0)
    next(steps)
    steps.close()  # as when the window ends
    assert not list(folder.iterdir())
    with monkeypatch.context() as full:

        def no_space(descriptor):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

        full.setattr(os, "fsync", no_space)
        with pytest.raises(OSError, match="No space"):
            run(keeping.keep(stem, folder, (), least=0.0))
    assert not list(folder.iterdir())
    path = run(keeping.keep(stem, folder, (), least=0.0))
    whole = path.read_bytes()
    for end in (0, 7, 31, 40, len(whole) - 1):
        path.write_bytes(whole[:end])
        with pytest.raises(ValueError, match=path.name[:8]):
            kept.Result(path)
    assert run(keeping.keep(stem, folder, (), least=0.0)) == path and path.read_bytes() == whole


def test_a_file_that_is_cut_while_it_plays_is_silent_there_and_said(sources, tmp_path):
    stem = places.as_stem(drawn_sound(24, sources), 1)
    path = run(keeping.keep(stem, tmp_path / "kept", (), least=0.0))
    result = kept.Result(path)
    os.truncate(path, 5000)
    out = np.ones((2, 1000))
    result.read(10_000, out)
    assert result.broken and not out.any()
