"""Echoes in the real window: times as notes, stems and taps dragged, a stage in the loop, the tempo, throws, the guard."""

import msgspec
import pytest
from conftest import RATE
from hands import click, double_click, drag, from_menu, press, to_front
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication
from test_echo import in_loop

from stonekite.desktop.dialogs.tempo_dialog import Taps, TempoDialog
from stonekite.desktop.model.demo_session import calls_session, lantern_session
from stonekite.session import storage, tree
from stonekite.session.differences import differences
from stonekite.session.edits import put
from stonekite.session.types import Tempo
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.echo.settings import Echo, EchoSide, Tap
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.settings import settings_of

SHIFT, CONTROL, ALT = (
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)


@pytest.fixture
def lantern(window, qtbot):
    """The window with the lantern loop, its echo open."""
    window.document.open(lantern_session())
    window.stages.choose(window.document.strip.stages[0].id, "upper")
    qtbot.waitUntil(lambda: window.panel.editors["echo"].isVisible())
    return window


def echo_of(window) -> Echo:
    return window.document.strip.stages[0]


def typed(qtbot, field, text: str) -> None:
    field.setFocus()
    qtbot.keyClick(field, Qt.Key.Key_Return)
    field._edit.selectAll()
    qtbot.keyClicks(field._edit, text)
    qtbot.keyClick(field._edit, Qt.Key.Key_Return)


def test_times_are_typed_as_notes_and_follow_the_tempo(lantern, qtbot):
    field = lantern.panel.editors["echo"].rows["upper"].controls["time_ms"]
    typed(qtbot, field, "1.5 beats")
    assert echo_of(lantern).upper.time_note == "1.5 beats"
    assert echo_of(lantern).upper.time_ms == pytest.approx(1.5 * 60_000 / 76)
    press(qtbot, lantern, Qt.Key.Key_T)
    dialog = lantern.timing.dialog
    assert dialog.isVisible()
    typed(qtbot, dialog.bpm, "96")
    assert echo_of(lantern).upper.time_ms == pytest.approx(937.5)
    assert dialog.table.item(2, 0).text() == "625.00" and lantern.timing.button.text() == "96 BPM"
    typed(qtbot, field, "300 ms")
    assert echo_of(lantern).upper.time_note == ""
    typed(qtbot, dialog.bpm, "132")
    assert echo_of(lantern).upper.time_ms == 300.0
    typed(qtbot, field, "8 beats")  # 3.6 s fits; at a slower tempo it would not
    typed(qtbot, field, "99 beats")
    assert echo_of(lantern).upper.time_note == "8 beats"
    qtbot.keyClick(field, Qt.Key.Key_Down)
    assert echo_of(lantern).upper.time_note == "7 beats"
    for _ in range(7):
        lantern.document.undo()
    assert echo_of(lantern).upper.time_note == "1/8 dotted"


def test_stems_and_taps_are_dragged_and_keyed(lantern, qtbot):
    gram = lantern.panel.editors["echo"].echogram
    gram.setFocus()
    first = gram.grips()[0]
    here = gram.place_of(first)
    drag(qtbot, gram, here, QPointF(here.x() + 60, here.y() + 20))
    moved = echo_of(lantern).upper
    wanted = 1e3 * (first.seconds + 60 / (gram.plot().width() - 8) * gram.view_s)
    assert moved.time_note == "" and moved.time_ms == pytest.approx(wanted, rel=0.06)
    assert moved.level_db < -4.0 - 3.0
    assert lantern.document.next_undo.startswith("Left Echo")
    qtbot.keyClick(gram, Qt.Key.Key_Right, CONTROL)
    assert echo_of(lantern).upper.time_note != ""
    before = echo_of(lantern).upper.level_db
    qtbot.keyClick(gram, Qt.Key.Key_Up)
    assert echo_of(lantern).upper.level_db == pytest.approx(before + 0.5)
    double_click(qtbot, gram, QPointF(gram.x_of(0.3), gram.plot().top() + 25))
    assert len(echo_of(lantern).shared.taps) == 1
    assert echo_of(lantern).shared.taps[0].time_ms == pytest.approx(300.0, abs=12.0)
    for _ in range(4):
        if gram._grip().tap is not None:
            break
        qtbot.keyClick(gram, Qt.Key.Key_PageDown)
    qtbot.keyClick(gram, Qt.Key.Key_Left)
    assert echo_of(lantern).shared.taps[0].time_ms < 300.0
    row = lantern.panel.editors["echo"].taps
    typed(qtbot, row.row.controls["time_ms"], "1/8 triplet")
    assert echo_of(lantern).shared.taps[0].time_note == "1/8 triplet"
    click(qtbot, row.add, QPointF(row.add.rect().center()))
    assert len(echo_of(lantern).shared.taps) == 2 and row.chosen == 1
    gram.setFocus()
    qtbot.keyClick(gram, Qt.Key.Key_Delete)
    click(qtbot, row.remove, QPointF(row.remove.rect().center()))
    assert echo_of(lantern).shared.taps == ()
    assert "falls by 60 dB" in gram.accessibleDescription()


def test_a_tap_keeps_its_place_when_another_one_is_removed(lantern, qtbot):
    """The others keep their numbers and their settings, and a new one takes the place that is free."""
    row = lantern.panel.editors["echo"].taps
    for _ in range(3):
        click(qtbot, row.add, QPointF(row.add.rect().center()))
    one, _, three = echo_of(lantern).shared.taps
    row.choose(1)
    click(qtbot, row.remove, QPointF(row.remove.rect().center()))
    assert echo_of(lantern).shared.taps == (one, None, three) and echo_of(lantern).shared.there == (
        one,
        three,
    )
    assert row.choice._words == {0: "1", 2: "3"} and row.chosen in (0, 2)
    row.choose(2)
    typed(qtbot, row.row.controls["level_db"], "-20")
    changed = echo_of(lantern).shared.taps[2]
    assert changed.level_db == -20.0 and echo_of(lantern).shared.taps[0] == one
    assert lantern.document.next_undo == "Echo: tap 3, level"
    said = [d.sentence for d in differences(before_of(lantern), lantern.document.strip)]
    assert any("tap 3, level" in sentence for sentence in said)
    saved = storage.decode(storage.encode(lantern.document.session))
    assert saved.sound == lantern.document.session.sound
    click(qtbot, row.add, QPointF(row.add.rect().center()))
    assert echo_of(lantern).shared.taps[1] is not None and row.chosen == 1
    assert echo_of(lantern).shared.taps[2] == changed
    for k in (2, 1, 0):
        row.choose(k)
        click(qtbot, row.remove, QPointF(row.remove.rect().center()))
    assert echo_of(lantern).shared.taps == ()


def test_every_setting_of_a_tap_is_set_in_its_row(lantern, qtbot):
    row = lantern.panel.editors["echo"].taps
    click(qtbot, row.add, QPointF(row.add.rect().center()))
    moved = []
    for name, setting in settings_of(Tap).items():
        if isinstance(setting.default, float):
            wanted = setting.from_travel(0.4)
            row.row.controls[name].moved.emit(wanted, None)
            assert getattr(echo_of(lantern).shared.taps[0], name) == pytest.approx(wanted)
            moved.append(name)
    assert {"time_ms", "level_db", "place", "high_pass_hz", "low_pass_hz"} <= set(moved)


def before_of(window):
    """The strip before the last step."""
    window.document.undo()
    strip = window.document.strip
    window.document.redo()
    return strip


def test_a_stage_goes_into_the_loop_and_what_is_too_late_is_refused(lantern, qtbot):
    editor = lantern.panel.editors["echo"]
    button = editor.paths.buttons[0]
    click(qtbot, button, QPointF(button.rect().center()))
    assert lantern.kite.inside == echo_of(lantern).id
    click(qtbot, lantern.kite, lantern.kite.plus_centre("upper", echo_of(lantern).branches[0].id))
    from_menu(qtbot, lantern.popups.adding, "Chorus")
    assert [type(s).__name__ for s in echo_of(lantern).branches[0].stages] == ["Chorus"]
    # A linear-phase EQ in a loop that is too short for it.
    number = echo_of(lantern).id
    short = EchoSide(time_ms=30.0)
    stage = Echo(id=number, upper=short, lower=short, branches=echo_of(lantern).branches)
    lantern.document.put_stage(stage, "short")
    late = Eq(id=0, upper=EqSide(bands=(Band(gain_db=3.0),)), shared=EqShared(phase="linear"))
    QApplication.clipboard().clear()
    before = lantern.document.session
    changed = put(stage, ("branches", 0, "stages"), (msgspec.structs.replace(late, id=77),))
    lantern.document.put_stage(changed, "late")
    assert lantern.document.session is before
    assert (
        "cannot be shorter than" in lantern.transport_row.hint.text()
        and "too short" in lantern.transport_row.hint.text()
    )
    # As well from the other side: the time goes no lower than what is in the loop needs.
    lantern.document.put_stage(put(changed, ("upper",), EchoSide(time_ms=900.0)), "…")
    whole = put(put(changed, ("upper",), EchoSide(time_ms=900.0)), ("lower",), EchoSide(time_ms=900.0))
    lantern.document.put_stage(whole, "long enough")
    assert echo_of(lantern).branches[0].stages[0].id == 77
    lantern.stages.choose(number, "upper")
    typed(qtbot, editor.rows["upper"].controls["time_ms"], "20")
    assert echo_of(lantern).upper.time_ms == 900.0
    assert editor.rows["upper"].controls["time_ms"].value == 900.0


def test_the_loop_picture_tells_the_margin_and_warns(lantern, qtbot):
    editor = lantern.panel.editors["echo"]
    assert "below growing" in editor.loop.words
    for leg in ("upper", "lower"):
        lantern.stages.choose(echo_of(lantern).id, leg)
        typed(qtbot, editor.rows[leg].controls["feedback_db"], "3")
    assert editor.loop.words.startswith("grows by") and "held" in editor.echogram.accessibleDescription()


def test_the_tempo_is_tapped_found_and_its_first_beat_clicked(window, qtbot):
    window.document.open(calls_session(132))
    window.start()
    window.timing.put({"bpm": 90.0, "first_beat_s": 0.0}, "tempo")
    press(qtbot, window, Qt.Key.Key_T)
    dialog = window.timing.dialog
    click(qtbot, dialog.find_button, QPointF(dialog.find_button.rect().center()))
    qtbot.waitUntil(lambda: window.timing.tempo.bpm != 90.0, timeout=90_000)
    assert window.timing.tempo.bpm == pytest.approx(132.0, rel=0.01)
    assert window.timing.tempo.first_beat_s == pytest.approx(0.05, abs=0.02)
    assert "Found 13" in dialog.words.text()
    click(qtbot, dialog.half, QPointF(dialog.half.rect().center()))
    assert window.timing.tempo.bpm == pytest.approx(66.0, rel=0.01)
    click(qtbot, dialog.click, QPointF(dialog.click.rect().center()))
    to_front(qtbot, window)
    timeline = window.timeline
    click(qtbot, timeline, QPointF(timeline.x_of(2.0), 20))
    assert window.timing.tempo.first_beat_s == pytest.approx(2.0, abs=0.05)
    dialog.table.setCurrentCell(3, 1)
    dialog.copy()
    assert QApplication.clipboard().text() == dialog.table.item(3, 1).text()


def test_taps_are_a_line_through_all_of_them(qapp):
    taps = Taps()
    times = [0.0, 0.5, 1.01, 1.5, 1.99, 2.5]
    found = [taps.tap(10.0 + t) for t in times]
    assert found[0] is None and found[-1] == pytest.approx(120.0, rel=0.01)
    assert taps.tap(30.0) is None  # after a pause it begins anew
    dialog = TempoDialog()
    dialog.show_found(None, 0.0, 0.0, 0.0)
    assert "Nothing" in dialog.words.text()


def test_loops_snap_to_beats_unless_they_are_not_to(window, qtbot):
    window.document.open(calls_session(96))
    timeline = window.timeline
    qtbot.waitUntil(lambda: timeline.width() > 300)
    timeline.zoom(0.3, 3.0)
    beat = 60 / 96
    ends = [0.05 + 3 * beat + 0.04, 0.05 + 7 * beat - 0.05]
    drag(qtbot, timeline, *(QPointF(timeline.x_of(t), 20) for t in ends))
    loop = window.document.session.desk.loop
    assert (loop.start_s - 0.05) / beat == pytest.approx(3.0, abs=1e-6)
    assert (loop.end_s - 0.05) / beat == pytest.approx(7.0, abs=1e-6)
    window.document.edit(put(window.document.session, ("sound", "tempo"), Tempo()), "no tempo")
    assert timeline.snapped(1.234) == 1.234


def test_a_spur_is_closed_after_the_word_and_rings_on(window, qtbot):
    window.document.open(calls_session(96))
    spur = window.document.strip.spurs[0]
    window.spurs.choose(spur.id)
    toggle = window.spur_view.row.controls["closed"]
    click(qtbot, toggle, QPointF(toggle.rect().center()))
    assert window.document.strip.spurs[0].closed
    assert window.document.next_undo is not None


def test_the_guard_is_told_while_it_plays(window, qtbot):
    window.document.open(lantern_session())
    window.start()
    loud = EchoSide(time_ms=50.0, feedback_db=6.0, level_db=6.0, low_gain_db=18.0, low_hz=300.0, low_q=0.4)
    stage = Echo(id=echo_of(window).id, upper=loud, lower=loud, branches=echo_of(window).branches)
    window.document.put_stage(stage, "too loud")
    window.hearing.toggle_play()
    qtbot.waitUntil(lambda: "made silent" in window.transport_row.hint.text(), timeout=120_000)
    assert window.transport_row.hint.text().startswith("Echo got louder than +12 dBFS")
    window.hearing.toggle_play()


def test_demos_of_echoes_are_in_time_and_whole(window):
    for session in (calls_session(96), calls_session(132), lantern_session()):
        bpm = session.sound.tempo.bpm
        for _, stage in tree.walk(session.sound.stems[0].strip):
            if isinstance(stage, Echo):
                assert stage.upper.time_note and stage.lower.time_note
                one, two = stage.upper.time_ms, stage.lower.time_ms
                assert min(one, two) * bpm / 60_000 in (pytest.approx(1.0), pytest.approx(0.75))
        window.document.open(session)
        assert not window.document.modified
    assert [version.number for version in lantern_session().versions] == [1, 2, 3]
    assert in_loop(Drive(id=1, upper=DriveSide()))[0].stages and RATE
