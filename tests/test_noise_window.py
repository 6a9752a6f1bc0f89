"""Noise reduction in the real window: a pause is looped and learned, analyses are compared by mouse, it is forgotten."""

import msgspec
import numpy as np
import pyloudnorm
import soundfile
from conftest import excerpt_of, heard_strip
from hands import click, drag, from_menu, press
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QFileDialog
from voices import clean_log, wheelhouse_log

from stonekite.desktop.model.demo_session import wheelhouse_session
from stonekite.measure.quality import si_sdr
from stonekite.session.types import Session, Sound, Strip
from stonekite.stages.noise import response


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
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned is not None, timeout=90_000)
    learned = window.stages.stage.shared.learned
    assert abs(learned.start_s - loop.start_s) < 0.01 and abs(learned.end_s - loop.end_s) < 0.01
    assert editor.learned.text().startswith("Learned from 0.1") and editor.forget.isEnabled()
    assert window.document.next_undo == "Noise: learned"
    # The engine is on the left: lower, and in the learned curve louder there below 100 Hz.
    low = slice(3, 8)
    assert sum(learned.upper_db[low]) != sum(learned.lower_db[low])
    # Its mark on the timeline is dragged by its end, and as a whole: learned anew from there, one step to undo each.
    mark = timeline.mark_of((learned.start_s, learned.end_s))
    drag(
        qtbot,
        timeline,
        QPointF(mark.right(), mark.center().y()),
        QPointF(timeline.x_of(0.6), mark.center().y()),
    )
    qtbot.waitUntil(lambda: abs(window.stages.stage.shared.learned.end_s - 0.6) < 0.02, timeout=90_000)
    assert window.stages.stage.shared.learned.start_s == learned.start_s
    y, grip = mark.center().y(), timeline.x_of(0.3)
    drag(qtbot, timeline, QPointF(grip, y), QPointF(grip + timeline.x_of(0.4) - timeline.x_of(0.3), y))
    qtbot.waitUntil(lambda: abs(window.stages.stage.shared.learned.end_s - 0.7) < 0.02, timeout=90_000)
    assert abs(window.stages.stage.shared.learned.start_s - learned.start_s - 0.1) < 0.02
    window.document.undo()
    window.document.undo()
    assert window.stages.stage.shared.learned == learned and window.document.desk.loop == loop
    # The points of the picture stand on the curve and bend it.
    picture = editor.picture
    handle = next(h for h in picture._handles if h.label == "1.5k")
    was = picture.place(handle)
    drag(qtbot, picture, was, was - QPointF(0.0, picture.y_of(0.0) - picture.y_of(4.0)))
    side = window.stages.stage.upper
    assert abs(side.at_1500_db + 4.0) < 0.3 and side.at_400_db == 0.0
    curve = response(window.stages.stage, "upper", np.array([1500.0]), 48_000)
    assert abs(picture.db_at(picture.place(handle).y()) - 20 * np.log10(abs(curve[0]))) < 0.2
    qtbot.keyClick(picture, Qt.Key.Key_Up)
    assert window.stages.stage.upper.at_1500_db < side.at_1500_db
    # The curve of the noise itself is bent where it stands: 12 dB up on the scale of the spectra.
    bend = next(h for h in picture._handles if h.on_noise and h.at_hz == 900.0)
    was = picture.place(bend)
    up = QPointF(0.0, -12.0 / picture.spectrum_db(1.0))
    drag(qtbot, picture, was, was + up)
    assert abs(window.stages.stage.upper.noise_900_db - 12.0) < 1.0
    assert abs(picture.place(bend).y() - (was + up).y()) < 3.0
    window.document.undo()
    # While it plays, the noise that is known and what is done to it are drawn.
    window.hearing.toggle_play()
    qtbot.waitUntil(lambda: picture._noise_gains is not None and picture._noise_gains[0].min() < -6.0)
    assert picture._noise[0].max() > -60.0
    # What is taken away stands in colour in the spectrograms, and what came in without any.
    qtbot.waitUntil(lambda: (editor.passing.picture._looks[0, :, -30] > -100.0).any())

    def coloured() -> float:
        newest = editor.passing.picture.colours("upper")[:, -1]
        return float(np.abs(newest[:, 0] - newest[:, 1]).max())

    assert coloured() > 40.0
    which = editor.passing.which
    click(qtbot, which, which.cell("before").center())
    assert coloured() < 25.0
    window.hearing.toggle_play()
    control = editor.shared.controls["analysis"]
    click(qtbot, control, control.cell("own").center())
    assert window.stages.stage.shared.analysis == "own" and window.stages.stage.shared.learned == learned
    click(qtbot, editor.forget, QPointF(editor.forget.rect().center()))
    assert window.stages.stage.shared.learned is None
    window.document.set_loop(None)
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    assert "Loop a pause first" in window.transport_row.hint.text()
    window.hearing.set_loop((0.5, 0.53))
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    qtbot.waitUntil(lambda: "at least" in window.transport_row.hint.text(), timeout=90_000)
    assert window.stages.stage.shared.learned is None


def test_what_goes_is_seen_over_the_loop_and_all_before_anything_was_played(window, qtbot):
    window.document.open(wheelhouse_session())
    window.start()
    window.stages.choose(2, "upper")
    editor = window.panel.editors["noise"]
    qtbot.waitUntil(editor.isVisible)
    box = editor.passing
    click(qtbot, box.when, box.when.cell("all").center())
    qtbot.waitUntil(
        lambda: box.picture._range is not None and box.picture._range.levels is not None, timeout=90_000
    )
    source = window.document.stem.source
    shown = box.picture._range
    assert (shown.start_s, shown.end_s) == (0.0, source.frames / source.rate)
    before, after = shown.levels[0], shown.levels[2]
    assert (before - after).max() > 10.0 and before.max() > -60.0
    window.hearing.set_loop((1.0, 3.0))
    click(qtbot, box.when, box.when.cell("loop").center())
    qtbot.waitUntil(
        lambda: box.picture._range.end_s == 3.0 and box.picture._range.levels is not None, timeout=90_000
    )
    assert box.picture._range.levels.shape[2] == 120
    # A click goes there; an edit is looked at again, and what there was stays until then.
    plot = box.picture.plot()
    click(qtbot, box.picture, QPointF(plot.left() + 0.75 * plot.width(), plot.center().y()))
    qtbot.waitUntil(lambda: abs(window.transport.position_s - 2.5) < 0.05)
    known = box.picture._range.levels
    window.document.put_stage(msgspec.structs.replace(window.stages.stage, inserted=False), "out")
    assert box.picture._range.levels is known
    qtbot.waitUntil(lambda: box.picture._range.levels is not known, timeout=90_000)
    assert np.array_equal(*box.picture._range.levels.reshape(2, -1))
    click(qtbot, box.when, box.when.cell("lately").center())
    assert box.picture._range is None


def test_from_the_noisy_log_to_a_clean_file(window, qtbot, tmp_path, monkeypatch):
    """A pause is marked and learned, what goes is heard, three analyses are compared by keys, folded, exported; and what
    is shown agrees with what is computed offline."""
    session = excerpt_of(wheelhouse_session(), 9.0, tmp_path)
    plain = msgspec.structs.replace(
        session.sound.stems[0], strip=Strip(split=session.sound.stems[0].strip.split)
    )
    window.document.open(Session(sound=Sound(stems=(plain,))))
    window.start()
    click(qtbot, window.kite, window.kite.plus_centre("upper"))
    from_menu(qtbot, window.popups.adding, "Noise")
    editor = window.panel.editors["noise"]
    qtbot.waitUntil(editor.isVisible)
    timeline = window.timeline
    qtbot.waitUntil(lambda: timeline.width() > 300)
    timeline.zoom(0.1, 0.6)
    drag(qtbot, timeline, QPointF(timeline.x_of(0.12), 20), QPointF(timeline.x_of(1.1), 20))
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned is not None, timeout=90_000)
    # What goes is heard while it plays: the change alone.
    qtbot.mouseClick(window.panel.change, Qt.MouseButton.LeftButton)
    assert heard_strip(window).stages[0].change_only
    qtbot.mouseClick(window.panel.change, Qt.MouseButton.LeftButton)
    # Three analyses as versions, switched by keys at equal loudness.
    control = editor.shared.controls["analysis"]
    for analysis in ("one", "own", "together"):
        click(qtbot, control, control.cell(analysis).center())
        window.switching.keep(analysis)
    kept = [version.note for version in window.document.session.versions]
    assert kept == ["one", "own", "together"] and window.listen.match.isChecked()
    for key, analysis in ((Qt.Key.Key_1, "one"), (Qt.Key.Key_2, "own"), (Qt.Key.Key_3, "together")):
        press(qtbot, window, key, Qt.KeyboardModifier.AltModifier)
        number = kept.index(analysis) + 1
        qtbot.waitUntil(lambda number=number: window.listen.version == number, timeout=60_000)
    press(qtbot, window, Qt.Key.Key_1)
    click(qtbot, window.kite, window.kite.plus_centre("upper"))
    from_menu(qtbot, window.popups.adding, "Fold")
    fold = window.panel.editors["fold"]
    qtbot.waitUntil(fold.isVisible)
    window.document.set_loop(None)
    click(qtbot, fold.learn, QPointF(fold.learn.rect().center()))
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned is not None, timeout=90_000)
    press(qtbot, window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    export = window.exporting.dialog
    export._button(export.bits, "32f").click()
    out = tmp_path / "log.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(out), ""))
    qtbot.mouseClick(export.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "Written" in export.message.text(), timeout=60_000)
    qtbot.mouseClick(export.cancel, Qt.MouseButton.LeftButton)
    made, rate = soundfile.read(out)
    assert np.array_equal(made[:, 0], made[:, 1])
    clean = clean_log()[: 9 * rate]
    noisy = wheelhouse_log()[:, : 9 * rate]
    gains = [si_sdr(clean, made[: len(clean), 0]) - si_sdr(clean, row) for row in noisy]
    loud = pyloudnorm.Meter(rate).integrated_loudness(made[: 9 * rate])  # what rings on is not measured
    print(f"the log, folded: SI-SDR {gains[0]:+.1f} and {gains[1]:+.1f} dB over the sides; {loud:.2f} LUFS")
    assert min(gains) > 6.0
    # What the window says of the result is what the file has.
    qtbot.waitUntil(
        lambda: (
            window.showing.measured is not None
            and abs((window.showing.measured.after.get("integrated_lufs") or 0.0) - loud) < 0.1
        ),
        timeout=60_000,
    )


def test_learning_can_be_cancelled(window, qtbot):
    """Nothing is learned then, the word says so, and learning works again afterwards."""
    window.document.open(wheelhouse_session())
    window.start()
    window.stages.choose(2, "upper")
    editor, cancel = window.panel.editors["noise"], window.transport_row.cancel
    qtbot.waitUntil(editor.isVisible)
    before = window.stages.stage.shared.learned
    qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
    assert not cancel.isVisible()
    window.learning.learn(0.0, 6.0)
    assert cancel.isVisible()
    click(qtbot, cancel, QPointF(cancel.rect().center()))
    assert not cancel.isVisible() and window.transport_row.hint.text() == "Learning the noise: cancelled."
    qtbot.wait(1500)
    assert window.stages.stage.shared.learned == before
    window.learning.learn(0.1, 0.7)
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned != before, timeout=90_000)
    assert not cancel.isVisible()
