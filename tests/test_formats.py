"""What session files of other programs become: older formats, stages of unknown kinds; and numbers that never come again."""

import json
from pathlib import Path

import msgspec
import numpy as np
import pytest
from conftest import RATE, noise, session_on, write_wav
from test_kinds import programme
from trees import drawn_stage, drawn_strip

from stonekite.engine.graph.chain import Chain
from stonekite.session import edits, foreign, limits, storage, tree
from stonekite.session.mix.fader import Fader
from stonekite.session.spur import Spur
from stonekite.session.types import Mix, Strip
from stonekite.stages.base import HIGHEST_ID
from stonekite.stages.branch import Branch
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.registry import KINDS, kind_of
from stonekite.stages.unknown import UNKNOWN, Unknown

OLD = Path(__file__).with_name("sessions")
STRANGE = {
    "kind": "tremolo",
    "id": 40,
    "inserted": True,
    "upper": {"depth": 3.0, "wave": ["sine", None]},
    "lower": None,
    "branches": [{"id": 77, "stages": [{"kind": "gain", "id": 78}]}],
}


def with_strange(session) -> dict:
    """A session's JSON with a stage of an unknown kind among those of the legs."""
    whole = json.loads(storage.encode(session))
    whole["sound"]["stems"][0]["strip"]["stages"].insert(1, dict(STRANGE))
    return whole


@pytest.fixture
def session(tmp_path):
    made = edits.put(session_on(write_wav(tmp_path / "a.wav", noise(1.0))), ("sound", "stems", 0, "id"), 9)
    for kind in ("eq", "bands", "drive"):
        made, _ = edits.add_stage(made, tree.FIRST, kind)
    return made


NEW = {
    "rides": [],
    "grips": [],
    "sections": [],
    "made": None,
    "key": None,
}
OF_A_SOUND = {"buses": [], "mix": json.loads(msgspec.json.encode(Mix()))}
OF_A_STEM = {
    "start_s": 0.0,
    "fader": json.loads(msgspec.json.encode(Fader())),
    "into": 0,
    "sends": [],
    "hue": None,
    "from_s": 0.0,
    "length_s": None,
}
"""What sessions have got since, and what it is in older ones."""


def as_it_was(value):
    """What a session has, but for what there was not in older formats, of which there is nothing in it."""
    if isinstance(value, dict):
        new = {
            **NEW,
            **(OF_A_SOUND if value.keys() >= {"stems", "tempo"} else {}),
            **(OF_A_STEM if value.keys() >= {"source", "strip"} else {}),
            **(
                {"delay_ms": 0.0, "delay_note": "", "delay_way": "over"}
                if value.keys() >= {"level_db", "muted"} and "branch" not in value
                else {}
            ),
            **({"delay_way": "over"} if "branch" in value else {}),
        }
        assert all(value.get(name, nothing) == nothing for name, nothing in new.items())
        return {name: as_it_was(inner) for name, inner in value.items() if name not in new}
    return [as_it_was(inner) for inner in value] if isinstance(value, list) else value


def test_a_session_of_format_2_is_opened_with_all_that_is_in_it(tmp_path):
    was = json.loads((OLD / "format-2.kite").read_text())
    opened = storage.load(OLD / "format-2.kite")
    storage.save(opened, tmp_path / "new.kite")
    now = json.loads((tmp_path / "new.kite").read_text())
    assert was.pop("format") == 2 and now.pop("format") == 3
    assert now.pop("last_id") == 0 and tree.next_id(opened) == 7
    now = as_it_was(now)
    for whole in (was, now):
        for sound in (whole["sound"], *(version["sound"] for version in whole["versions"])):
            del sound["stems"][0]["source"]["path"]
    assert now == was and len(was["versions"]) == 2
    assert storage.encode(storage.load(tmp_path / "new.kite")) == storage.encode(opened)


def test_a_newer_format_says_so_and_what_is_wrong_in_an_older_one_is_said_at_its_place():
    text = json.loads((OLD / "format-2.kite").read_text())
    with pytest.raises(
        storage.SessionError, match="has format 4, from a newer Stone Kite; this one reads up to 3"
    ):
        storage.decode(json.dumps(text | {"format": 4, "rides": []}).encode())
    with pytest.raises(storage.SessionError, match="unknown field `last_id`"):
        storage.decode(json.dumps(text | {"last_id": 3}).encode())


def test_a_number_is_never_given_again(session):
    """Not after its stage was removed, saved and opened; and not where only a version still has it."""
    session, number = edits.add_stage(session, tree.FIRST, "echo")
    inside = [n for _, n in tree.numbers(session.sound) if n >= number]
    session = edits.remove_stage(session, tree.FIRST, number)
    again = storage.decode(storage.encode(session))
    assert again == session
    again, new = edits.add_stage(again, tree.FIRST, "gate")
    assert new > max(inside) and again.last_id == new


def test_undo_does_not_give_numbers_back(opened):
    """What is added after an addition was undone is another stage."""
    window, seen = opened, set()
    for k in range(12):
        before = set(dict(tree.walk(window.document.strip)).values())
        window.stages.add(("gain", "gate", "width")[k % 3])
        (new,) = [s for s in dict(tree.walk(window.document.strip)).values() if s not in before]
        assert new.id not in seen
        seen.add(new.id)
        if k % 3 == 0:
            window.document.undo()
        elif k % 3 == 1:
            window.stages.remove(new.id)
            window.document.undo()
            window.document.undo()


def test_when_all_numbers_are_used_it_is_said(session):
    full = msgspec.structs.replace(session, last_id=HIGHEST_ID)
    assert not limits.excess(full)
    with pytest.raises(ValueError, match="start a new session"):
        edits.add_stage(full, tree.FIRST, "gain")
    with pytest.raises(ValueError, match="start a new session"):
        edits.add_spur(full, tree.FIRST, drawn_strip(1).spurs[0])
    assert "start a new session" in limits.excess(msgspec.structs.replace(full, last_id=HIGHEST_ID + 1))


@pytest.mark.parametrize(
    "change",
    [
        lambda strip: msgspec.structs.replace(
            strip, upper=msgspec.structs.replace(strip.upper, level_db=999.0)
        ),
        lambda strip: msgspec.structs.replace(strip, stages=(Gain(id=50, upper=GainSide(gain_db=999.0)),)),
        lambda strip: msgspec.structs.replace(strip, stages=(Gain(id=50, upper=GainSide(gain_db=np.nan)),)),
        lambda strip: msgspec.structs.replace(strip, stages=(Gain(id=50, linked="yes"),)),
        lambda strip: msgspec.structs.replace(
            strip, output=msgspec.structs.replace(strip.output, law="loud")
        ),
        lambda strip: msgspec.structs.replace(
            strip, spurs=(Spur(name="x", branch=Branch(id=51, stages=(Gain(id=52, lower=7),))),)
        ),
    ],
)
def test_what_could_not_be_opened_cannot_be_made(opened, change):
    """Whatever way it comes to the document: it is said, and what was there stays."""
    document, said = opened.document, []
    document.refused.connect(said.append)
    before = document.session
    stems = (change_of(before, change),)
    wrong = msgspec.structs.replace(before, sound=msgspec.structs.replace(before.sound, stems=stems))
    assert not document.edit(wrong, "wrong") and document.session is before
    assert len(said) == 1 and said[0].startswith("This cannot be: ")


def change_of(session, change):
    stem = session.sound.stems[0]
    return msgspec.structs.replace(stem, strip=change(stem.strip))


def test_a_stage_of_an_unknown_kind_is_kept_as_it_came(session):
    whole = with_strange(session)
    opened = storage.decode(json.dumps(whole).encode())
    stage = opened.sound.stems[0].strip.stages[1]
    assert isinstance(stage, Unknown) and kind_of(stage) is UNKNOWN and stage.name == "tremolo"
    assert stage.lower is None and foreign.names(opened) == ["tremolo"]
    assert "(tremolo)" in foreign.told(["tremolo"])
    assert opened.last_id == 78  # also of what stands in it
    # Written as it came, in its place; taken out and given another number it says so.
    written = json.loads(storage.encode(opened))
    assert written["sound"]["stems"][0]["strip"]["stages"][1] == STRANGE
    moved = edits.move_stage(opened, tree.FIRST, 40, 2)
    path, _ = tree.find(moved.sound.stems[0].strip, 40)
    out = edits.put(moved, ("sound", "stems", 0, "strip", *path, "inserted"), False)
    written = json.loads(storage.encode(out))
    assert written["sound"]["stems"][0]["strip"]["stages"][2] == STRANGE | {"inserted": False}
    assert storage.encode(storage.decode(storage.encode(out))) == storage.encode(out)


def test_a_stage_of_an_unknown_kind_lets_the_sound_pass():
    eq = drawn_stage("eq", np.random.default_rng(3), 1)
    strip = Strip(
        stages=(eq, Unknown(id=90, name="tremolo"), drawn_stage("gate", np.random.default_rng(4), 20))
    )
    without = msgspec.structs.replace(strip, stages=(strip.stages[0], strip.stages[2]))
    sound = programme(0.4, 3)
    assert np.array_equal(
        Chain(strip, RATE).process(sound.copy(), 0), Chain(without, RATE).process(sound.copy(), 0)
    )


@pytest.mark.parametrize("inside", [False, True])
@pytest.mark.parametrize("seed", range(6))
def test_unknown_kinds_are_kept_wherever_they_stand(session, seed, inside):
    """In branches and spurs, and in versions: each stage in turn is of a kind that is not known."""
    strip = drawn_strip(seed, spurs=2, stages=3)
    made = edits.put(session, ("sound", "stems", 0, "strip"), strip)
    made = edits.put(made, ("sound", "stems", 0, "id"), 9_000)
    made = tree.counted(edits.keep_version(made))
    whole = json.loads(storage.encode(made))
    places = []

    def look(value, deep):
        if isinstance(value, dict):
            for key, one in value.items():
                if key == "stages":
                    places.extend((one, k) for k in range(len(one)) if (deep > 0) == inside)
                look(one, deep + (key == "branches"))
        elif isinstance(value, list):
            for one in value:
                look(one, deep)

    look(whole, 0)
    for stages, place in places:
        was = stages[place]
        stages[place] = was | {"kind": "glass"}
        text = json.dumps(whole).encode()
        opened = storage.decode(text)
        assert foreign.names(opened) == ["glass"]
        assert json.loads(storage.encode(opened)) == json.loads(text)
        stages[place] = was
    assert places or inside


@pytest.mark.parametrize(
    "strange",
    [
        {"kind": "tremolo"},
        {"kind": "tremolo", "id": "4"},
        {"kind": "tremolo", "id": -4},
        {"kind": "tremolo", "id": 2**40},
        {"kind": "", "id": 4000},
        {"kind": "x" * 300, "id": 4000},
        {"kind": 7, "id": 4000},
        {"kind": "tremolo", "id": 4000, "long": "x" * (5 * 2**20)},
    ],
)
def test_what_is_no_stage_of_any_kind_is_refused_in_a_sentence(session, strange):
    whole = with_strange(session)
    whole["sound"]["stems"][0]["strip"]["stages"][1] = strange
    with pytest.raises(storage.SessionError, match="cannot be used"):
        storage.decode(json.dumps(whole).encode())


def test_the_window_names_what_it_does_not_know(window, session, tmp_path, qtbot):
    path = tmp_path / "strange.kite"
    path.write_text(json.dumps(with_strange(session)))
    window.opening.open_path(path)
    assert "kinds that are not installed here (tremolo)" in window.transport_row.hint.text()
    window.stages.choose(40)
    editor = window.panel.editors["unknown"]
    qtbot.waitUntil(editor.isVisible)
    assert "of the kind “tremolo”" in editor.words.text()
    assert window.panel.title.text() == "tremolo" and "unknown" not in KINDS
    window.stages.toggle_inserted()
    window.document.save(path)
    saved = json.loads(path.read_text())["sound"]["stems"][0]["strip"]["stages"][1]
    assert saved == STRANGE | {"inserted": False}
