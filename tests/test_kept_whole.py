"""Sessions kept whole: mended, found again, gathered, and brought back from earlier saves."""

import json
import os
import shutil
import zipfile

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import THOROUGH, session_on, write_wav
from test_two_files import music
from trees import drawn_strip

from stonekite.engine.offline.export import written
from stonekite.files.audio import AudioError, fingerprint
from stonekite.session import storage, tree
from stonekite.session.export_sets import RESULT, How
from stonekite.session.keeping import gathering, mending, saves
from stonekite.session.types import Reference, Strip, Version
from stonekite.stages.compressor import Compressor
from stonekite.stages.eq import Eq
from stonekite.stages.gain import Gain


def done(steps):
    while True:
        try:
            next(steps)
        except StopIteration as end:
            return end.value


def rendered(session, path):
    *_, _last = written(session, {RESULT: path}, How(bits="64f"), force=True)
    return soundfile.read(path)[0]


@pytest.fixture
def session(tmp_path):
    folder = tmp_path / "ferry" / "takes"
    folder.mkdir(parents=True)
    path = write_wav(folder / "reel.wav", music(1.0, 3))
    other = write_wav(
        folder / "old" / "reel.wav" if (folder / "old").mkdir() is None else path, music(0.5, 4)
    )
    made = session_on(path, Strip(stages=(Eq(id=2), Compressor(id=3), Gain(id=4))))
    source = made.sound.stems[0].source
    source = msgspec.structs.replace(source, fingerprint=fingerprint(path))
    stem = msgspec.structs.replace(made.sound.stems[0], source=source)
    sound = msgspec.structs.replace(made.sound, stems=(stem,))
    reference = session_on(other).sound.stems[0].source
    reference = msgspec.structs.replace(reference, fingerprint=fingerprint(other))
    desk = msgspec.structs.replace(made.desk, references=(Reference(name="old", source=reference),))
    return tree.counted(
        msgspec.structs.replace(made, sound=sound, versions=(Version(number=1, sound=sound),), desk=desk)
    )


# Mended


def test_a_setting_that_cannot_be_is_as_at_first_and_the_rest_stays(session):
    whole = json.loads(storage.encode(session))
    stages = whole["sound"]["stems"][0]["strip"]["stages"]
    stages[1]["upper"]["threshold_db"] = -9999
    stages[2]["kind"] = 7
    whole["desk"]["references"][0]["source"]["rate"] = "fast"
    with pytest.raises(storage.SessionError):
        storage.decode(json.dumps(whole).encode())
    back, told = mending.mended(json.dumps(whole).encode(), "“x.kite”")
    strip = back.sound.stems[0].strip
    assert [type(stage) for stage in strip.stages] == [Eq, Compressor]
    assert strip.stages[1].upper.threshold_db == Compressor(id=0).upper.threshold_db
    assert len(told) == 3 and any("Compressor" in one and "threshold_db" in one for one in told)
    assert back.versions == session.versions and not back.desk.references


def test_a_file_that_breaks_off_keeps_what_was_before(session):
    text = storage.encode(session)
    end = text.index(b'"versions"')
    back, told = mending.mended(text[: end + 40], "“x.kite”")
    assert back.sound == session.sound and "breaks off" in told[0]
    for cut in range(200, len(text), max(1, len(text) // (400 if THOROUGH else 40))):
        try:
            back, told = mending.mended(text[:cut], "“x.kite”")
        except storage.SessionError as error:
            assert "cannot be mended" in str(error) or "not a session" in str(error)
        else:
            assert told and storage.decode(storage.encode(back)) == back


def test_what_is_whole_is_not_changed_and_nonsense_is_refused(session):
    assert mending.mended(storage.encode(session), "“x”") == (session, [])
    for text in (b"", b"no", b"[]", b"{}", b"\x00\xff", b'{"format": 3, "sound": {"stems": []}}'):
        with pytest.raises(storage.SessionError):
            mending.mended(text, "“x”")
    with pytest.raises(storage.SessionError, match="newer"):
        mending.mended(b'{"format": 99, "sound": {}}', "“x”")


def test_damage_anywhere_is_mended_or_refused_with_a_sentence(session):
    mended = 0
    for seed in range(600 if THOROUGH else 40):
        rng = np.random.default_rng(seed)
        stem = msgspec.structs.replace(session.sound.stems[0], strip=drawn_strip(seed))
        sound = msgspec.structs.replace(session.sound, stems=(stem,))
        text = bytearray(
            storage.encode(tree.counted(msgspec.structs.replace(session, sound=sound, versions=())))
        )
        for _ in range(rng.integers(1, 4)):
            place = int(rng.integers(0, len(text)))
            text[place : place + int(rng.integers(0, 30))] = rng.bytes(int(rng.integers(0, 8)))
        try:
            back, _ = mending.mended(bytes(text), "“x”")
        except storage.SessionError:
            continue
        mended += 1
        assert storage.decode(storage.encode(back)) == back
    assert mended > 10


# Found again


def test_recordings_are_found_where_a_folder_was_moved_as_a_whole(session, tmp_path):
    storage.save(session, tmp_path / "ferry" / "s.kite")
    os.rename(tmp_path / "ferry" / "takes", tmp_path / "ferry" / "renamed")
    back = storage.load(tmp_path / "ferry" / "s.kite")
    assert back.sound.stems[0].source.path == str(tmp_path / "ferry" / "renamed" / "reel.wav")
    assert back.versions[0].sound.stems[0].source.path == back.sound.stems[0].source.path
    # A file of the same name with other content is not taken for it.
    assert back.desk.references[0].source.path == str(tmp_path / "ferry" / "renamed" / "old" / "reel.wav")


@pytest.mark.parametrize("name", ["a" * 300 + ".wav", "../" * 400 + "reel.wav", "a\0b.wav"])
def test_a_recording_of_a_name_that_cannot_be_is_not_there_and_said(session, tmp_path, name):
    stem = session.sound.stems[0]
    source = msgspec.structs.replace(stem.source, path=name, fingerprint=stem.source.fingerprint)
    stem = msgspec.structs.replace(stem, source=source)
    lost = msgspec.structs.replace(
        session, sound=msgspec.structs.replace(session.sound, stems=(stem,)), versions=()
    )
    (tmp_path / "far" / "off").mkdir(parents=True)
    (tmp_path / "far" / "off" / "s.kite").write_bytes(storage.encode(tree.counted(lost)))
    storage.load(tmp_path / "far" / "off" / "s.kite")
    with pytest.raises(AudioError, match="not there"):
        list(gathering.gather(lost, tmp_path / "away", "lost"))
    with pytest.raises(AudioError, match="not there"):
        list(written(lost, {RESULT: tmp_path / "out.wav"}, How()))


def test_one_that_was_renamed_deep_below_is_found_by_what_is_in_it(session, tmp_path):
    storage.save(session, tmp_path / "ferry" / "s.kite")
    deep = tmp_path / "ferry" / "a" / "b"
    deep.mkdir(parents=True)
    os.rename(tmp_path / "ferry" / "takes" / "reel.wav", deep / "take 7.wav")
    shutil.copy(tmp_path / "ferry" / "takes" / "old" / "reel.wav", tmp_path / "ferry" / "reel.wav")
    assert storage.load(tmp_path / "ferry" / "s.kite").sound.stems[0].source.path == str(deep / "take 7.wav")


def test_showing_one_finds_the_others_of_its_folder(session, tmp_path):
    from stonekite.session.keeping.finding import Finder

    (tmp_path / "far").mkdir()
    storage.save(session, tmp_path / "far" / "s.kite")
    os.rename(tmp_path / "ferry", tmp_path / "elsewhere")
    lost = storage.load(tmp_path / "far" / "s.kite")
    assert not os.path.exists(lost.desk.references[0].source.path)
    finder = Finder(tmp_path / "far")
    finder.moved(tmp_path / "ferry" / "takes" / "reel.wav", tmp_path / "elsewhere" / "takes" / "reel.wav")
    found = finder.find(lost.desk.references[0].source)
    assert found.path == str(tmp_path / "elsewhere" / "takes" / "old" / "reel.wav")


# Gathered


@pytest.mark.parametrize("suffix", ["", ".zip"])
def test_a_gathered_session_sounds_the_same_elsewhere(session, tmp_path, suffix):
    before = rendered(session, tmp_path / "before.wav")
    made = done(gathering.gather(session, tmp_path / f"parcel{suffix}", "night ferry"))
    assert made.files == 3 and not made.sentences
    there = tmp_path / "there"
    there.mkdir()
    shutil.move(tmp_path / f"parcel{suffix}", there / f"parcel{suffix}")
    shutil.rmtree(tmp_path / "ferry")
    path = there / "parcel" / "night ferry.kite"
    if suffix:
        assert done(gathering.unpack(there / "parcel.zip")) == path
    back = storage.load(path)
    for source in storage.sources_of(back):
        assert source.path.startswith(str(there))
    assert np.array_equal(rendered(back, tmp_path / "after.wav"), before)
    assert not [name for name in os.listdir(there) if name.startswith(".")]


def test_what_is_missing_is_said_and_nothing_half_stays(session, tmp_path):
    (tmp_path / "ferry" / "takes" / "old" / "reel.wav").unlink()
    made = done(gathering.gather(session, tmp_path / "parcel", "x"))
    assert made.files == 2 and "left out" in made.sentences[0]
    assert not storage.load(made.path).desk.references
    with pytest.raises(AudioError, match="exists already"):
        done(gathering.gather(session, tmp_path / "parcel", "x"))
    steps = gathering.gather(session, tmp_path / "two.zip", "x")
    next(steps)
    steps.close()
    (tmp_path / "ferry" / "takes" / "reel.wav").unlink()
    with pytest.raises(AudioError, match="is not there"):
        done(gathering.gather(session, tmp_path / "three", "x"))
    assert sorted(os.listdir(tmp_path)) == ["ferry", "parcel"]


def test_hostile_archives_are_refused(tmp_path):
    for names in (
        ["x/../../evil.kite"],
        ["x/s.kite", "x/audio/../../e.wav"],
        ["/etc/s.kite"],
        ["x/a.kite", "x/b.kite"],
        ["x/run.sh"],
        [],
    ):
        path = tmp_path / "bad.zip"
        with zipfile.ZipFile(path, "w") as archive:
            for name in names:
                archive.writestr(name, b"{}")
        with pytest.raises(storage.SessionError):
            done(gathering.unpack(path))
    path.write_bytes(b"PK\x03\x04 broken")
    with pytest.raises(storage.SessionError, match="archive"):
        done(gathering.unpack(path))
    assert os.listdir(tmp_path) == ["bad.zip"]


# Earlier saves


def test_earlier_saves_are_kept_bounded_and_come_back(session, tmp_path, monkeypatch):
    where, path = tmp_path / "kept", tmp_path / "ferry" / "s.kite"
    monkeypatch.setattr(saves, "MOST", 3)
    states = []
    for level in range(6):
        stem = session.sound.stems[0]
        strip = msgspec.structs.replace(
            stem.strip, upper=msgspec.structs.replace(stem.strip.upper, level_db=-level)
        )
        sound = msgspec.structs.replace(session.sound, stems=(msgspec.structs.replace(stem, strip=strip),))
        session = msgspec.structs.replace(session, sound=sound)
        saves.keep(path, where)
        storage.save(session, path)
        os.utime(path, ns=(0, (1_700_000_000 + level) * 10**9))
        states.append(strip)
    found = saves.listed(path, where)
    assert [round(save.when) - 1_700_000_000 for save in found] == [4, 3, 2]
    back = saves.load(found[1], path)
    assert back.sound.stems[0].strip == states[3]
    assert os.path.exists(back.sound.stems[0].source.path)
    saves.keep(path, where)
    saves.keep(path, where)  # the same once more is kept once
    assert len(saves.listed(path, where)) == 3
    monkeypatch.setattr(saves, "MOST_BYTES", path.stat().st_size * 2)
    path.write_text(path.read_text() + "\n")
    saves.keep(path, where)
    assert len(saves.listed(path, where)) <= 2
    assert not saves.listed(tmp_path / "never.kite", where)
