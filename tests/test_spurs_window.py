"""Paths beside the legs in the real window: made, filled, gone into, aligned and matched by mouse and by keyboard."""

import numpy as np
import pytest
import soundfile
from conftest import excerpt_of
from hands import click, double_click, drag, from_menu, press, to_front
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication

from stonekite.demos.demo import demo_path
from stonekite.desktop.model.demo_session import zither_session
from stonekite.engine.offline.paths import aligned, loudness_of
from stonekite.engine.play.audition import Audition, auditioned
from stonekite.session import edits, presets, storage, tree
from stonekite.session.alone import only
from stonekite.session.differences import described, differences
from stonekite.session.spur import Spur
from stonekite.session.types import Leg, Source, Split, Stem, Strip
from stonekite.stages.branch import Branch

SHIFT, CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier
ZITHER = Source(path=str(demo_path("cable zither")), rate=48_000, frames=24 * 48_000)
LEFT_RIGHT = Split(mode="left-right")


def ended(steps):
    """What work gives back in the end."""
    while True:
        try:
            next(steps)
        except StopIteration as end:
            return end.value


@pytest.mark.slow
def test_the_amplifier_is_aligned_to_the_pickup_and_the_fold_rises_as_it_must():
    strip = Strip(split=LEFT_RIGHT, lower=Leg(muted=True), spurs=(Spur(source="right", branch=Branch(id=5)),))
    found = ended(aligned(Stem(id=1, name="z", source=ZITHER, strip=strip), 5))
    print(f"found {found.delay_ms:.5f} ms; the fold rises by {found.rise_db:.3f} dB")
    assert abs(found.delay_ms + 1.70) * 48 <= 0.1
    sound = soundfile.read(ZITHER.path)[0].T
    late = np.fft.irfft(
        np.fft.rfft(sound[1]) * np.exp(2j * np.pi * np.fft.rfftfreq(sound.shape[1], 1 / 48_000) * 1.7e-3)
    )
    rise = 10 * np.log10(np.sum((sound[0] + late) ** 2) / np.sum((sound[0] + sound[1]) ** 2))
    assert found.rise_db == pytest.approx(rise, abs=0.02)


def test_paths_are_measured_alone():
    strip = Strip(split=LEFT_RIGHT, spurs=(Spur(source="left", level_db=-6.0, branch=Branch(id=5)),))
    loud = ended(loudness_of(Stem(id=1, name="z", source=ZITHER, strip=strip), ["upper", "lower", 5]))
    assert loud[5] == pytest.approx(loud["upper"] - 6.0, abs=0.01)
    assert loud["lower"] - loud["upper"] == pytest.approx(4.0, abs=2.5)
    assert only(strip, "upper").lower.muted and not only(strip, "upper").upper.muted


def menu_key(qtbot, menu, word: str) -> None:
    """Choose a word of an open menu by the arrow keys and Enter."""
    qtbot.waitUntil(menu.isVisible)
    for _ in range(60):
        active = menu.activeAction()
        if active is not None and active.text().split("\t")[0] == word:
            break
        qtbot.keyClick(menu, Qt.Key.Key_Down)
    assert menu.activeAction().text().split("\t")[0] == word
    qtbot.keyClick(menu, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: not menu.isVisible())
    to_front(qtbot, menu.parentWidget().window())


def test_from_the_plain_recording_to_four_paths_by_mouse(window, qtbot, tmp_path):
    window.opening.open_path(demo_path("cable zither"))
    window.start()
    actions = 0

    def counted(act, *given, **named):
        nonlocal actions
        actions += 1
        return act(*given, **named)

    kite = window.kite
    counted(click, qtbot, kite, kite.split_centre())
    counted(from_menu, qtbot, window.menus.signal_menu, "Left / right")
    # The torn top: a spur from the left, a filter and two bands in it, a drive in each.
    counted(click, qtbot, kite, kite.new_spur_centre())
    counted(from_menu, qtbot, window.spurring.popup, "Left")
    torn = window.spurs.chosen
    view = window.spur_view
    assert window.middle.currentWidget() is view
    view.name.setFocus()
    view.name.selectAll()
    counted(qtbot.keyClicks, view.name, "Torn top")
    counted(qtbot.keyClick, view.name, Qt.Key.Key_Return)
    assert window.document.strip.spur(torn).name == "Torn top"
    for kind in ("Filter", "Bands"):
        counted(click, qtbot, kite, kite.plus_centre("upper", torn))
        counted(from_menu, qtbot, window.popups.adding, kind)
    bands = window.stages.stage
    assert bands.lower is None and kite.inside == 0
    counted(double_click, qtbot, kite, kite.stone_centre(bands.id, "upper"))
    assert kite.inside == bands.id
    for k in range(2):
        counted(click, qtbot, kite, kite.plus_centre("upper", bands.branches[k].id))
        counted(from_menu, qtbot, window.popups.adding, "Drive")
    kite.setFocus()
    counted(press, qtbot, kite, Qt.Key.Key_Escape)
    assert kite.inside == 0 and window.stages.stage.id == bands.id
    # The crossover is dragged in the picture.
    picture = window.panel.editors["bands"].picture
    handle = picture._handles[0]
    place = picture.place(handle)
    counted(drag, qtbot, picture, place, QPointF(picture.x_of(1600), place.y()))
    assert window.document.stage(bands.id).upper.first_hz == pytest.approx(1600, rel=0.03)
    # The octave under.
    counted(click, qtbot, kite, kite.new_spur_centre())
    counted(from_menu, qtbot, window.spurring.popup, "Left")
    under = window.spurs.chosen
    counted(click, qtbot, kite, kite.plus_centre("upper", under))
    counted(from_menu, qtbot, window.popups.adding, "Sub-octave")
    counted(
        qtbot.mouseClick,
        window.panel.editors["suboctave"].rows["upper"].controls["keeps"],
        Qt.MouseButton.LeftButton,
    )
    # Levels: all four equally loud, then eased down.
    counted(click, qtbot, kite, kite.lane_centre(torn))
    counted(qtbot.mouseClick, view.match, Qt.MouseButton.LeftButton)
    dialog = window.spurring.dialog
    counted(qtbot.mouseClick, dialog.go, Qt.MouseButton.LeftButton)
    before = window.document.strip.spur(under).level_db
    qtbot.waitUntil(lambda: window.document.next_undo == "Levels matched", timeout=60_000)
    assert window.document.strip.spur(under).level_db != before
    to_front(qtbot, window)
    level = view.row.controls["level_db"]
    level.setFocus()
    counted(qtbot.keyClick, level, Qt.Key.Key_Minus)
    counted(qtbot.keyClicks, QApplication.focusWidget(), "9")
    counted(qtbot.keyClick, QApplication.focusWidget(), Qt.Key.Key_Return)
    strip = window.document.strip
    assert strip.spur(torn).level_db == -9.0
    print(f"four paths in {actions} actions")
    assert actions <= 40
    assert [len(spur.branch.stages) for spur in strip.spurs] == [2, 1]
    assert [len(b.stages) for b in tree.find(strip, bands.id)[1].branches] == [1, 1, 0, 0]
    # Saved, opened, the same; undone, all of it.
    storage.save(window.document.session, tmp_path / "four.kite")
    assert storage.load(tmp_path / "four.kite") == window.document.session
    while window.document.next_undo:
        press(qtbot, window, Qt.Key.Key_Z, CONTROL)
    assert window.document.strip == Strip()


def test_four_paths_by_keyboard_alone(opened, qtbot):
    window, kite = opened, opened.kite
    kite.setFocus()
    press(qtbot, window, Qt.Key.Key_N)
    menu_key(qtbot, window.spurring.popup, "Side")
    first = window.spurs.chosen
    assert window.document.strip.spur(first).source == "side"
    kite.setFocus()
    press(qtbot, kite, Qt.Key.Key_Plus)
    menu_key(qtbot, window.popups.adding, "Bands")
    bands = window.stages.stage
    kite.setFocus()
    press(qtbot, kite, Qt.Key.Key_Return)
    assert kite.inside == bands.id
    press(qtbot, kite, Qt.Key.Key_Plus)
    menu_key(qtbot, window.popups.adding, "Drive")
    drive = window.stages.stage
    assert window.stages.branch == bands.branches[0].id and kite.inside == bands.id
    kite.setFocus()
    press(qtbot, kite, Qt.Key.Key_Escape)
    assert kite.inside == 0 and window.stages.stage.id == bands.id
    # Out of the spur's stones to the spur itself, to the legs and back.
    press(qtbot, kite, Qt.Key.Key_Left)
    assert window.spurs.chosen == first and window.showing.view == "spur"
    press(qtbot, kite, Qt.Key.Key_Up)
    press(qtbot, kite, Qt.Key.Key_Down)
    # A copy is pressed, the drive is taken out and in, the spur removed and brought back.
    window.menus.actions_by_id["press-copy"].trigger()
    pressed = window.document.strip.spurs[-1]
    assert pressed.name == "Pressed copy" and pressed.level_db == -12.0
    assert pressed.branch.stages[0].linked and pressed.branch.stages[0].shared.coupling == 0.0
    window.stages.choose(drive.id)
    assert kite.inside == bands.id
    press(qtbot, window, Qt.Key.Key_B)
    assert not window.stages.stage.inserted
    press(qtbot, window, Qt.Key.Key_B)
    window.spurs.choose(first)
    kite.setFocus()
    press(qtbot, kite, Qt.Key.Key_Delete)
    assert [spur.id for spur in window.document.strip.spurs] == [pressed.id]
    press(qtbot, window, Qt.Key.Key_Z, CONTROL)
    assert tree.find(window.document.strip, drive.id)[1].inserted


def test_a_stone_is_dragged_from_the_legs_into_a_spur_and_back(opened, qtbot):
    window, kite = opened, opened.kite
    window.set_split("left-right", "")
    window.stages.add("eq")
    stage = window.stages.stage.id
    window.spurs.add_from("left")
    spur = window.spurs.chosen
    target = kite.plus_centre("upper", spur)
    drag(qtbot, kite, kite.stone_centre(stage, "upper"), target)
    assert tree.home(window.document.strip, stage).branch == spur
    assert window.document.stage(stage).lower is None
    plus = kite.plus_centre("upper")
    drag(qtbot, kite, kite.stone_centre(stage, "upper"), QPointF(plus.x() - 60, plus.y()))
    assert tree.home(window.document.strip, stage).branch == tree.LEGS_BRANCH


def test_what_is_too_deep_is_refused_with_a_sentence(opened, qtbot):
    window = opened
    window.stages.add("bands")
    for _ in range(2):
        window.stages.add("bands", "upper", window.stages.stage.branches[0].id)
    inner = window.stages.stage.branches[0].id
    window.stages.add("bands", "upper", inner)
    assert "3 deep" in window.transport_row.hint.text()
    window.stages.add("gain", "upper", inner)
    assert window.stages.branch == inner


def test_many_spurs_and_stages_scroll_and_say_so(opened, qtbot):
    window = opened
    window.resize(1100, 700)
    for _ in range(12):
        window.stages.add("gain", "upper", 0)
    for _ in range(9):
        window.spurs.add_from("right")
    assert len(window.document.strip.spurs) == 8 and "8 spurs already" in window.transport_row.hint.text()
    kite = window.kite
    qtbot.waitUntil(lambda: kite._hidden)
    scales = {stone.scale for stone in kite._layout.stones}
    assert min(scales) >= 0.5
    xs = [stone.x for stone in kite._layout.along(0, "upper")]
    assert min(np.diff(xs)) >= 36.0
    last = window.document.strip.spurs[-1].id
    window.spurs.choose(last)
    lane = kite.lane_centre(last)
    visible = kite.visibleRegion().boundingRect()
    assert visible.contains(lane.toPoint())


def test_what_is_heard_without_a_spur_is_as_loud_as_with_it(window, qtbot, tmp_path):
    window.document.open(excerpt_of(zither_session(), 6.0, tmp_path))
    window.start()
    view = window.spur_view
    torn = window.document.strip.spurs[0].id
    click(qtbot, window.kite, window.kite.lane_centre(torn))
    qtbot.mouseClick(view.without, Qt.MouseButton.LeftButton)
    assert window.hearing.spur_out == torn
    qtbot.waitUntil(lambda: "to be as loud as with it" in window.transport_row.hint.text(), timeout=60_000)
    held = window.hearing._audition
    stem = window.document.stem
    heard = auditioned(stem.strip, held)
    assert heard.spur(torn).muted and stem.strip.spur(torn).muted is False
    loud = ended(loudness_of(stem, ["all", f"without {torn}"]))
    assert held.gain_db == pytest.approx(loud["all"] - loud[f"without {torn}"], abs=0.02)
    assert heard.output.trim_db == pytest.approx(stem.strip.output.trim_db + held.gain_db)
    # Another level: measured again. Off: all is as it was, and nothing was changed but that level.
    window.spurs.put("level_db", 0.0)
    qtbot.waitUntil(lambda: window.hearing._audition.gain_db != held.gain_db, timeout=60_000)
    qtbot.mouseClick(view.without, Qt.MouseButton.LeftButton)
    assert window.hearing.spur_out == 0 and auditioned(stem.strip, window.hearing._audition) is stem.strip


def test_the_whole_strip_goes_out_and_in_by_one_key(opened, qtbot):
    press(qtbot, opened, Qt.Key.Key_X)
    assert opened.listen.listening.what == "unprocessed"
    press(qtbot, opened, Qt.Key.Key_X)
    assert opened.listen.listening.what == "processed"


def test_a_stage_in_a_band_of_a_spur_is_heard_alone(window):
    """Taken out, only what it changes: of all that is heard beside it, nothing is left."""
    window.opening.open_zither()
    strip = window.document.strip
    torn, under = strip.spurs
    bands = torn.branch.stages[1]
    drive = bands.branches[1].stages[0]
    heard = auditioned(strip, Audition(drive.id, "out"))
    assert not tree.find(heard, drive.id)[1].inserted and heard.spur(under.id) == under
    heard = auditioned(strip, Audition(drive.id, "change"))
    inside = tree.find(heard, bands.id)[1]
    assert tree.find(heard, drive.id)[1].change_only
    assert heard.spur(torn.id).alone and heard.upper.muted and heard.lower.muted
    assert [path.muted for path in inside.upper.paths] == [True, False, True, True]


def test_all_that_is_done_to_a_stage_is_done_in_a_branch(opened, qtbot):
    """Linked, copied, pasted, given a preset, kept in a version and taken from it, told in words and in the report."""
    window = opened
    window.set_split("left-right", "")
    window.spurs.add_from("both")
    spur = window.spurs.chosen
    window.stages.add("bands", "upper", spur)
    band = window.stages.stage.branches[1].id
    window.stages.add("eq", "upper", band)
    stage = window.stages.stage.id
    press(qtbot, window, Qt.Key.Key_K)
    assert window.stages.stage.linked
    window.document.put_in_side(window.stages.stage, "upper", ("mix",), 60.0, "mix")
    assert window.stages.stage.lower.mix == 60.0
    words = window.kite.accessibleDescription()
    assert words.startswith("EQ on Left, in Spur, Bands, above 180 Hz chosen.")
    window.stages.copy()
    window.stages.paste()
    pasted = window.stages.stage
    assert pasted.id != stage and window.stages.branch == band and pasted.upper.mix == 60.0
    preset = next(p for _, p in presets.listed([presets.SHIPPED])[0] if p.kind == "eq" and p.scope == "stage")
    window.stages.use_preset(preset)
    assert window.stages.stage.upper == preset.stage.upper and window.stages.stage.id == pasted.id
    window.switching.keep("with both")
    window.stages.remove(pasted.id)
    told = [
        d.sentence
        for d in differences(window.document.session.version(1).sound.stems[0].strip, window.document.strip)
    ]
    assert told == ["Spur, Bands, above 180 Hz, EQ 2: removed"]
    window.document.edit(edits.take_stage(window.document.session, tree.FIRST, 1, pasted.id), "taken over")
    assert window.document.strip == window.document.session.version(1).sound.stems[0].strip
    parts = dict(described(window.document.strip))
    assert "Spur, Bands, above 180 Hz, EQ 1" in parts and "Spur Spur" in parts
