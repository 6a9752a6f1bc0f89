"""Noise reduction in the real window: a pause is looped and learned, analyses are compared by mouse, it is forgotten."""

from hands import click, drag
from PySide6.QtCore import QPointF

from stonekite.desktop.model.demo_session import wheelhouse_session


def test_the_noise_of_a_pause_is_learned_and_forgotten(window, qtbot):
    window.document.open(wheelhouse_session())
    window.start()
    window.stages.choose(2, "upper")
    editor = window.panel.editors["noise"]
    qtbot.waitUntil(editor.isVisible)
    timeline = window.timeline
    qtbot.waitUntil(lambda: timeline.width() > 300)
    timeline.zoom(0.1, 0.6)
    drag(qtbot, timeline, QPointF(timeline.x_of(0.15), 20), QPointF(timeline.x_of(0.95), 20))
    loop = window.document.desk.loop
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned is not None, timeout=20_000)
    learned = window.stages.stage.shared.learned
    assert abs(learned.start_s - loop.start_s) < 0.01 and abs(learned.end_s - loop.end_s) < 0.01
    assert editor.learned.text().startswith("Learned from 0.1") and editor.forget.isEnabled()
    assert window.document.next_undo == "Noise: learned"
    # The engine is on the left: lower, and in the learned curve louder there below 100 Hz.
    low = slice(3, 8)
    assert sum(learned.upper_db[low]) != sum(learned.lower_db[low])
    control = editor.shared.controls["analysis"]
    click(qtbot, control, control.cell("own").center())
    assert window.stages.stage.shared.analysis == "own" and window.stages.stage.shared.learned == learned
    click(qtbot, editor.forget, QPointF(editor.forget.rect().center()))
    assert window.stages.stage.shared.learned is None
    window.document.set_loop(None)
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    assert "Loop a pause first" in window.hint.text()
    window.hearing.set_loop((0.5, 0.53))
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    qtbot.waitUntil(lambda: "at least" in window.hint.text(), timeout=20_000)
    assert window.stages.stage.shared.learned is None
