"""Amplifiers and cabinets in the real window, by mouse and keyboard: three amps wide, and the direct and miked pair."""

import numpy as np
import pytest
from conftest import excerpt, write_wav
from hands import click, drag, from_menu, pick, to_front
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication
from test_spurs_window import ended

from stonekite.demos.demo import demo_path
from stonekite.desktop.model.demo_session import amps_session
from stonekite.engine.offline.paths import loudness_of
from stonekite.session import tree

LEFT = Qt.MouseButton.LeftButton


def from_submenu(qtbot, menu, word: str, inner: str) -> None:
    """Click a word of an open menu and then one of what opens beside it."""
    qtbot.waitUntil(menu.isVisible)
    action = next(action for action in menu.actions() if action.text() == word)
    click(qtbot, menu, QPointF(menu.actionGeometry(action).center()))
    beside = action.menu()
    qtbot.waitUntil(beside.isVisible)
    there = next(action for action in beside.actions() if action.text() == inner)
    click(qtbot, beside, QPointF(beside.actionGeometry(there).center()))
    qtbot.waitUntil(lambda: not menu.isVisible())
    to_front(qtbot, menu.parentWidget().window())


def test_three_amps_wide_in_a_few_actions(window, qtbot, tmp_path):
    """From the plain recording: equally loud within 0.3 LU, the dry path down, one undo."""
    window.opening.open_path(excerpt(demo_path("cable zither"), 6.0, tmp_path))
    window.start()
    kite = window.kite
    click(qtbot, kite, kite.split_centre())
    from_menu(qtbot, window.menus.signal_menu, "Left / right")
    click(qtbot, kite, kite.new_spur_centre())
    from_submenu(qtbot, window.spurring.popup, "Three amps wide, from", "Left")  # two clicks: five in all
    qtbot.waitUntil(lambda: window.document.next_undo == "Three amps wide", timeout=180_000)
    strip = window.document.strip
    assert [spur.position for spur in strip.spurs] == [-100.0, 0.0, 100.0]
    assert all(spur.placed and spur.source == "left" for spur in strip.spurs)
    assert strip.upper.level_db == strip.lower.level_db == -120.0
    numbers = [spur.id for spur in strip.spurs]
    loud = ended(loudness_of(window.document.stem, numbers))
    print("three amplifiers:", {n: round(level, 3) for n, level in loud.items()})
    assert max(loud.values()) - min(loud.values()) < 0.3
    # Their level is that of the pickup while it plays, brought to where an amplifier wants it.
    inputs = {spur.branch.stages[0].upper.input_db for spur in strip.spurs}
    assert len(inputs) == 1 and abs(inputs.pop() - 2.7) < 1.5
    window.document.undo()
    assert not window.document.strip.spurs and window.document.strip.upper.level_db == 0.0
    # Where there is no room for three more, a sentence says so and nothing changes.
    for _ in range(6):
        window.spurs.add_from("left")
    window.spurring.three_amps("left")
    assert "three spurs" in window.transport_row.hint.text() and len(window.document.strip.spurs) == 6


@pytest.mark.slow
def test_the_demo_of_three_amplifiers_is_level():
    stem = amps_session().sound.stems[0]
    loud = ended(loudness_of(stem, [spur.id for spur in stem.strip.spurs]))
    assert max(loud.values()) - min(loud.values()) < 0.3


def test_the_direct_side_gets_an_amplifier_and_its_microphones_by_hand(window, qtbot, tmp_path):
    window.opening.open_path(excerpt(demo_path("cable zither"), 6.0, tmp_path))
    window.start()
    kite = window.kite
    click(qtbot, kite, kite.split_centre())
    from_menu(qtbot, window.menus.signal_menu, "Left / right")
    for kind in ("Amp", "Cabinet"):
        click(qtbot, kite, kite.plus_centre("upper"))
        from_menu(qtbot, window.popups.adding, kind)
        number = window.stages.stage.id
        window.stages.choose(number, "lower")
        qtbot.mouseClick(window.panel.side_on, LEFT)  # off the right, which was miked
        window.stages.choose(number, "upper")
    stages = dict((type(stage).__name__, stage) for _, stage in tree.walk(window.document.strip))
    assert all(stage.lower is None and stage.upper is not None for stage in stages.values())
    # The input has set itself, without being asked.
    amp = stages["Amp"].id
    qtbot.waitUntil(lambda: window.document.stage(amp).shared.learned is not None, timeout=90_000)
    # Voice and tone by hand; how hard it works is shown while it plays.
    window.stages.choose(amp, "upper")
    editor = window.panel.editors["amp"]
    qtbot.waitUntil(editor.isVisible)
    pick(qtbot, editor.rows["upper"].controls["voice"], "Basalt")
    assert window.stages.stage.upper.voice == "basalt"
    assert editor.work._names == ("1", "2", "3", "power")
    window.hearing.toggle_play()
    qtbot.waitUntil(
        lambda: editor.work.levels(0)[1] > -40.0 and editor.work.levels(0)[0] > -40.0, timeout=90_000
    )
    window.hearing.toggle_play()
    # Microphones are dragged in the plan, turned by their other end, chosen and moved by keys.
    window.stages.choose(stages["CabinetStage"].id, "upper")
    editor = window.panel.editors["cabinet"]
    qtbot.waitUntil(editor.isVisible)
    plan = editor.plan
    drag(qtbot, plan, plan.head("mic_1"), plan.point(6.0, 15.0))
    side = window.stages.stage.upper
    assert abs(side.mic_1_across_cm - 6.0) < 0.6 and abs(side.mic_1_away_cm - 15.0) < 0.6
    drag(qtbot, plan, plan.tail("mic_1"), plan.head("mic_1") + QPointF(22.0, -20.0))
    assert 30.0 < window.stages.stage.upper.mic_1_angle_deg < 55.0
    plan.setFocus()
    qtbot.keyClick(plan, Qt.Key.Key_PageDown)
    before = window.stages.stage.upper
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Plus):
        qtbot.keyClick(plan, key)
    after = window.stages.stage.upper
    assert after.mic_2_away_cm == before.mic_2_away_cm + 1.0
    assert after.mic_2_across_cm == before.mic_2_across_cm + 1.0
    assert after.mic_2_angle_deg == before.mic_2_angle_deg + 5.0
    level = editor.rows["upper"].controls["mic_2_db"]
    level.setFocus()
    qtbot.keyClick(level, Qt.Key.Key_Minus)
    qtbot.keyClicks(QApplication.focusWidget(), "3")
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
    assert window.stages.stage.upper.mic_2_db == -3.0
    assert "not aligned" in editor.told.text()
    # What is wanted less often stands in rows that open: where microphones stand, as figures.
    across = editor.rows["upper"].controls["mic_2_across_cm"]
    assert not across.isVisible()
    qtbot.mouseClick(editor.further, LEFT)
    assert across.isVisible()
    qtbot.mouseClick(editor.further, LEFT)
    assert not across.isVisible()
    qtbot.mouseClick(editor.rows["upper"].controls["aligned"], LEFT)
    assert window.stages.stage.upper.aligned and "aligned" in editor.told.text()
    # A response of one's own: in the session from then on, and undone in one step.
    ringing = np.exp(-np.arange(4000) / 300) * np.sin(np.arange(4000) / 8)
    window.responses.use(write_wav(tmp_path / "my box.wav", np.stack([ringing, ringing]) * 0.5))
    qtbot.waitUntil(lambda: window.stages.stage.upper.cabinet == "own", timeout=90_000)
    assert window.stages.stage.upper.own.name == "my box.wav" and "my box" in editor.told.text()
    assert plan.names == ()
    window.responses.use(tmp_path / "missing.wav")
    qtbot.waitUntil(lambda: "missing.wav" in window.transport_row.hint.text(), timeout=90_000)
    window.document.undo()
    assert window.stages.stage.upper.cabinet == "single"


@pytest.mark.parametrize("kind", ["amp", "cabinet"])
def test_what_is_shown_survives_a_leg_that_passes(window, qtbot, kind):
    window.opening.open_path(demo_path("cable zither"))
    window.start()
    window.stages.add(kind)
    window.stages.choose(window.stages.stage.id, "lower")
    qtbot.mouseClick(window.panel.side_on, LEFT)
    editor = window.panel.editors[kind]
    qtbot.waitUntil(editor.isVisible)
    assert not window.grab().isNull() and window.stages.stage.lower is None
    if kind == "cabinet":
        assert editor.plan.names == () and not editor.respond.isEnabled()
    else:
        assert editor.work._names == ()
