"""The document as a model: whatever is done, what was saved can be reached and what is not undone is not lost."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from stonekite.desktop.model.document import Document
from stonekite.session import edits, storage, tree
from stonekite.session.types import BlindTest, Loop, Session, Sound, Source, Stem

STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("edit"), st.floats(-20, 10)),
        st.tuples(st.just("drag"), st.lists(st.floats(-20, 10), min_size=1, max_size=4)),
        st.tuples(st.just("key"), st.floats(-20, 10)),
        st.tuples(st.just("kept"), st.floats(-6, 6)),
        st.tuples(st.just("loop"), st.one_of(st.none(), st.floats(0, 5))),
        st.tuples(st.just("test"), st.just(None)),
        st.tuples(st.just("save"), st.just(None)),
        st.tuples(st.just("undo"), st.integers(1, 4)),
        st.tuples(st.just("redo"), st.integers(1, 4)),
    ),
    max_size=30,
)


def opened() -> Document:
    document = Document()
    session = Session(
        sound=Sound(
            stems=(Stem(id=1, name="log", source=Source(path="/log.wav", rate=48_000, frames=480_000)),)
        )
    )
    session, _ = edits.add_stage(session, tree.FIRST, "gain")
    document.open(session)
    return document


def level(session: Session) -> float:
    return session.sound.stems[0].strip.upper.level_db


@given(STEPS)
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_nothing_is_lost_and_what_was_saved_can_be_reached(tmp_path: Path, steps):
    document, path = opened(), tmp_path / "log.kite"
    # The model: levels in a list with a place in it, and beside them what undo does not touch.
    levels, place = [0.0], 0
    saved: int | None = 0
    loop, tests, key_open, written = None, 0, False, False

    def pushed(value: float, joins: bool = False) -> None:
        nonlocal place, saved
        if joins:
            levels[place] = value
            saved = None if saved == place else saved
            return
        if saved is not None and saved > place:
            saved = None
        del levels[place + 1 :]
        levels.append(value)
        place += 1

    for what, value in steps:
        if what == "edit" and value != levels[place]:
            document.put(("upper", "level_db"), value, "Level")
            pushed(value)
            key_open = False
        elif what == "drag":
            token, first = object(), True
            for step in value:
                if step != levels[place]:
                    document.put(("upper", "level_db"), step, "Level", token)
                    pushed(step, joins=not first)
                    first = key_open = False
        elif what == "key" and value != levels[place]:
            document.put(("upper", "level_db"), value, "Level", ("keys", "level"))
            pushed(value, joins=key_open)
            key_open = True
        elif what == "kept":
            document.keep_levels({})
        elif what == "loop":
            loop = None if value is None else Loop(start_s=value, end_s=value + 1)
            document.set_loop(loop)
        elif what == "test":
            document.add_blind_test(
                BlindTest(kind="abx", first="a", second="b", planned=1, order=(0,), answers=(0,))
            )
            tests += 1
            saved = None
        elif what == "save":
            document.save(path)
            saved, written, key_open = place, True, False
        elif what in ("undo", "redo"):
            for _ in range(value):
                (document.undo if what == "undo" else document.redo)()
                moved = max(0, place - 1) if what == "undo" else min(len(levels) - 1, place + 1)
                key_open = key_open and moved == place
                place = moved
        assert level(document.session) == levels[place]
        assert document.session.desk.loop == loop and len(document.session.desk.blind_tests) == tests
    # From where it is, the whole of the list can be walked, and what was saved is known again.
    for _ in range(place):
        document.undo()
    seen = []
    for k in range(len(levels)):
        seen.append(level(document.session))
        if k == saved:
            assert not document.modified
            if written:
                assert level(storage.load(path)) == level(document.session)
        document.redo()
    assert seen == levels


def test_keys_are_one_step_until_they_rest(monkeypatch):
    document = opened()
    now = [0.0]
    monkeypatch.setattr(document._history, "clock", lambda: now[0])
    for k, pause in enumerate((0.0, 0.2, 0.2, 1.5, 0.3)):
        now[0] += pause
        document.put(("upper", "level_db"), float(k + 1), "Level", ("keys", "level"))
    document.undo()
    assert level(document.session) == 3.0
    document.undo()
    assert level(document.session) == 0.0


@pytest.mark.parametrize("way", ["save", "choose"])
def test_a_gesture_ends_where_something_else_begins(tmp_path, way):
    document = opened()
    document.put(("upper", "level_db"), -1.0, "Level", ("keys", "level"))
    if way == "save":
        document.save(tmp_path / "log.kite")
    else:
        document.end_gesture()
    document.put(("upper", "level_db"), -2.0, "Level", ("keys", "level"))
    document.undo()
    assert level(document.session) == -1.0
    assert way != "save" or not document.modified


@pytest.mark.parametrize("held", [True, False])
def test_a_button_that_is_held_still_stays_one_step_and_keys_do_not(monkeypatch, held):
    now = [0.0]
    document = opened()
    monkeypatch.setattr(document._history, "clock", lambda: now[0])
    token = (object() if held else "keys", "intake", "left", "trim_db")
    before = document.session
    for value in (-1.0, -2.0):
        now[0] += 5.0
        document.put(("intake", "left", "trim_db"), value, "Intake: trim", token)
    document.undo()
    assert (document.session == before) is held
