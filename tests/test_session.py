"""The tree: edits, links, undo, saving and loading."""

import json
from pathlib import Path

import jsonschema
import msgspec
import pytest
from conftest import noise, session_on, write_wav
from hypothesis import given
from hypothesis import strategies as st

from stonekite.session import edits, storage, tree
from stonekite.session.history import History
from stonekite.session.types import Desk, Leg, Loop, Session, Sound, Source, Split, Stem, Strip
from stonekite.stages.eq import Band, Eq, EqSide


def a_session(**strip) -> Session:
    source = Source(path="/somewhere/quay.wav", rate=48_000, frames=1000)
    return Session(sound=Sound(stems=(Stem(id=1, name="quay", source=source, strip=Strip(**strip)),)))


STAGE = Eq(
    id=5,
    linked=True,
    upper=EqSide(bands=(Band(frequency_hz=1000, gain_db=2), None, Band(gain_db=1))),
    lower=EqSide(bands=(Band(frequency_hz=2000, gain_db=-1),)),
)


def test_an_edit_shares_what_did_not_change():
    session = a_session(stages=(STAGE,))
    changed = edits.put(
        session, ("sound", "stems", 0, "strip", "stages", 0, "upper", "bands", 0, "gain_db"), 6.0
    )
    assert changed.sound.stems[0].strip.stages[0].upper.bands[0].gain_db == 6.0
    assert changed.sound.stems[0].strip.stages[0].lower is STAGE.lower
    assert changed.sound.stems[0].source is session.sound.stems[0].source
    assert session.sound.stems[0].strip.stages[0] is STAGE


@pytest.mark.parametrize("value", [99.0, float("nan"), float("inf"), "3"])
def test_an_edit_out_of_range_is_refused(value):
    with pytest.raises(msgspec.ValidationError):
        edits.put(STAGE, ("upper", "bands", 0, "gain_db"), value)


def test_linked_edits_keep_offsets_and_ratios():
    moved = edits.put_linked(STAGE, "upper", ("bands", 0, "gain_db"), 5.0)
    assert (moved.upper.bands[0].gain_db, moved.lower.bands[0].gain_db) == (5.0, 2.0)
    moved = edits.put_linked(STAGE, "upper", ("bands", 0, "frequency_hz"), 500.0)
    assert moved.lower.bands[0].frequency_hz == pytest.approx(1000.0)
    moved = edits.put_linked(STAGE, "upper", ("bands", 0, "on"), False)
    assert moved.lower.bands[0].on is False
    moved = edits.put_linked(STAGE, "upper", ("bands", 2, "gain_db"), 4.0)  # lower has no third band
    assert moved.upper.bands[2].gain_db == 4.0 and moved.lower is STAGE.lower


@given(st.floats(-24, 24))
def test_a_linked_partner_never_leaves_its_range(gain):
    moved = edits.put_linked(STAGE, "upper", ("bands", 0, "gain_db"), gain)
    assert -24 <= moved.lower.bands[0].gain_db <= 24


def test_unlinked_edits_stay_on_their_side():
    alone = msgspec.structs.replace(STAGE, linked=False)
    assert edits.put_linked(alone, "lower", ("bands", 0, "gain_db"), 9.0).upper is STAGE.upper


def test_adding_moving_and_removing_stages():
    session, first = edits.add_stage(a_session(), tree.FIRST, "eq")
    session, second = edits.add_stage(session, tree.FIRST, "eq")
    assert len({1, first, second}) == 3
    session = edits.move_stage(session, tree.FIRST, second, 0)
    assert [s.id for s in session.sound.stems[0].strip.stages] == [second, first]
    session = edits.remove_stage(session, tree.FIRST, second)
    assert [s.id for s in session.sound.stems[0].strip.stages] == [first]


def test_undo_and_redo():
    start = a_session()
    history = History.of(start)
    louder = edits.put(start, ("sound", "stems", 0, "strip", "upper"), Leg(level_db=3))
    drag = object()
    history.push(louder, "Mid level")
    for level in (1.0, 2.0, 4.0):
        history.push(
            edits.put(louder, ("sound", "stems", 0, "strip", "lower", "level_db"), level), "Side level", drag
        )
    assert len(history.states) == 3
    assert history.undo() == "Side level" and history.now.is_in(louder)
    assert history.undo() == "Mid level" and history.now.is_in(start)
    assert history.undo() is None
    assert history.redo() == "Mid level" and history.next_redo == "Side level"
    history.push(start, "back")
    assert history.next_redo is None


def test_saving_and_loading(tmp_path: Path):
    recording = (
        write_wav(tmp_path / "takes" / "quay.wav", noise(0.1))
        if (tmp_path / "takes").mkdir() is None
        else None
    )
    session = msgspec.structs.replace(session_on(recording), desk=Desk(loop=Loop(start_s=0.01, end_s=0.05)))
    session = edits.put(
        session, ("sound", "stems", 0, "strip"), Strip(stages=(STAGE,), split=Split(matrix="raised-side"))
    )
    path = tmp_path / "quay.kite"
    storage.save(session, path)
    assert storage.load(path) == session
    text = json.loads(path.read_text())
    assert text["format"] == 3 and text["sound"]["stems"][0]["source"]["path"] == "takes/quay.wav"
    jsonschema.validate(text, storage.schema())


def test_a_moved_recording_is_found_by_its_fingerprint(tmp_path: Path):
    from stonekite.files.audio import fingerprint

    recording = write_wav(tmp_path / "quay.wav", noise(0.1))
    session = session_on(recording)
    source = msgspec.structs.replace(session.sound.stems[0].source, fingerprint=fingerprint(recording))
    path = tmp_path / "quay.kite"
    storage.save(edits.put(session, ("sound", "stems", 0, "source"), source), path)
    moved = tmp_path / "audio" / "quay.wav"
    moved.parent.mkdir()
    recording.rename(moved)
    write_wav(recording, noise(0.1, seed=9))  # another recording of the same name in the old place
    assert Path(storage.load(path).sound.stems[0].source.path) == moved


def test_a_failed_save_keeps_the_old_file(tmp_path: Path):
    path = tmp_path / "gone" / "quay.kite"
    with pytest.raises(storage.SessionError, match="was not saved"):
        storage.save(a_session(), path)
    kept = tmp_path / "quay.kite"
    kept.write_text("old")
    (tmp_path / "x").mkdir()
    with pytest.raises(storage.SessionError):
        storage.save(a_session(), tmp_path / "x")
    assert kept.read_text() == "old" and sorted(p.name for p in tmp_path.iterdir()) == ["quay.kite", "x"]


GOOD = json.loads(storage.encode(a_session(stages=(STAGE,))))


def broken(change) -> bytes:
    tree = json.loads(json.dumps(GOOD))
    change(tree)
    return json.dumps(tree).encode()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (b"", "not a session file"),
        (b"\x00\xff\xfe", "not a session file"),
        (b"[1, 2]", "not a session file"),
        (b"{" * 100_000, "not a session file"),
        (b'{"format": 1}', r"\$|stems"),
        (b'{"format": 3}', r"\$|sound"),
        (broken(lambda t: t.update(format=4)), "newer Stone Kite"),
        (broken(lambda t: t.pop("format")), "format number"),
        (broken(lambda t: t.update(extra=1)), "unknown field `extra`"),
        (broken(lambda t: t["sound"].update(stems=[])), r"\$\.sound\.stems"),
        (broken(lambda t: t["sound"]["stems"][0]["strip"]["upper"].update(level_db=400)), r"level_db"),
        (
            broken(lambda t: t["sound"]["stems"][0]["strip"]["stages"][0].update(kind=7)),
            r"stages\[0\]",
        ),
        (
            broken(
                lambda t: t["sound"]["stems"][0]["strip"]["stages"][0]["upper"]["bands"][0].update(q="wide")
            ),
            r"bands\[0\]\.q",
        ),
        (
            broken(lambda t: t["sound"]["stems"][0]["strip"]["stages"][0]["upper"].update(bands=[None] * 17)),
            r"bands",
        ),
        (
            broken(lambda t: t["sound"]["stems"][0]["strip"]["stages"][0].update(id=1)),
            r"twice \(at \$\.sound\.stems\[0\]",
        ),
        (
            broken(lambda t: t["sound"]["stems"][0]["source"].update(channels=[0, 5])),
            r"channel that is not there",
        ),
        (broken(lambda t: t["sound"]["stems"][0]["source"].update(rate=0)), r"source\.rate"),
        (broken(lambda t: t["desk"].update(loop={"start_s": 3, "end_s": 1})), r"loop"),
    ],
)
def test_hostile_sessions_are_refused_with_the_place(text, said):
    with pytest.raises(storage.SessionError, match=said):
        storage.decode(text)


@pytest.mark.slow
@given(st.recursive(st.none() | st.booleans() | st.floats() | st.text(), lambda c: st.lists(c) | st.dictionaries(st.sampled_from(["format", "stems", "strip", "x"]), c)))  # fmt: skip
def test_any_json_is_refused_cleanly(tree):
    with pytest.raises(storage.SessionError):
        storage.decode(json.dumps(tree).encode())


OLD = Path(__file__).with_name("sessions")


def test_sessions_of_format_1_are_opened_with_all_that_is_in_them(tmp_path: Path):
    was = json.loads((OLD / "format-1.kite").read_text())
    opened = storage.load(OLD / "format-1.kite")
    now = json.loads(msgspec.json.encode(opened))
    for stem in (*now["sound"]["stems"], *(s for v in now["versions"] for s in v["sound"]["stems"])):
        assert stem["strip"].pop("spurs") == []
        assert [stem["strip"][leg].pop("rides") for leg in ("upper", "lower")] == [[], []]
        assert [stem["strip"][leg].pop("delay_ms") for leg in ("upper", "lower")] == [0.0, 0.0]
        assert [stem["strip"][leg].pop("delay_note") for leg in ("upper", "lower")] == ["", ""]
        assert [stem["strip"][leg].pop("delay_way") for leg in ("upper", "lower")] == ["over", "over"]
        assert [stem["strip"][end].pop("rides") for end in ("intake", "output")] == [[], []]
        assert not any(stage.pop("key") for stage in stem["strip"]["stages"])
        sides = [stage[leg] for stage in stem["strip"]["stages"] for leg in ("upper", "lower") if stage[leg]]
        bands = [band for side in sides for band in side.get("bands", ()) if band and "hears_leg" in band]
        assert not any([band.pop(name) for band in bands for name in ("hears_leg", "key")])
        assert stem["strip"].pop("grips") == []
        assert [stage.pop("rings_on") for stage in stem["strip"]["stages"]].count(True) == 0
        assert [stage.pop("rides") for stage in stem["strip"]["stages"]].count([]) == len(
            stem["strip"]["stages"]
        )
    assert [stem["strip"] for stem in now["sound"]["stems"]] == [stem["strip"] for stem in was["stems"]]
    assert len(was["stems"][0]["strip"]["stages"]) >= 9
    kept = [{**version, "strip": version["sound"]["stems"][0]["strip"]} for version in now["versions"]]
    assert [{k: v for k, v in one.items() if k != "sound"} for one in kept] == was["versions"]
    assert now["desk"]["loop"] == was["loop"] and now["desk"]["blind_tests"] == was["blind_tests"]
    assert [r["name"] for r in now["desk"]["references"]] == [r["name"] for r in was["references"]]
    storage.save(opened, tmp_path / "new.kite")
    assert json.loads((tmp_path / "new.kite").read_text())["format"] == 3
    assert storage.load(tmp_path / "new.kite") == opened
    generator = storage.load(OLD / "format-1-generator.kite").sound.stems[0].source.generator
    assert generator is not None and generator.signal == "sweep"


@pytest.mark.parametrize(
    ("change", "place"),
    [
        (
            lambda t: t["stems"][0]["strip"]["upper"].update(level_db=400),
            r"\$\.stems\[0\]\.strip\.upper\.level_db",
        ),
        (lambda t: t["versions"][0].update(strip=[]), r"\$\.versions\[0\]\.strip"),
        (lambda t: t.update(sound={}), "unknown field `sound`"),
    ],
)
def test_what_is_wrong_in_an_older_session_is_said_at_its_own_place(change, place):
    tree = json.loads((OLD / "format-1.kite").read_text())
    change(tree)
    with pytest.raises(storage.SessionError, match=place):
        storage.decode(json.dumps(tree).encode())
