"""From a new recording that needs repair to an exported file, by mouse and keyboard."""

import numpy as np
import pytest
import soundfile
from conftest import RATE, heard_strip, noise, session_on, write_wav
from hands import LEFT, click, double_click, drag, from_menu, pick, press, to_front
from PySide6.QtCore import QPoint, QPointF, QRect, Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QLabel, QPushButton
from scipy import signal
from test_source_check import late, looked_at, music, said

from stonekite.demos.demo import demo_path
from stonekite.desktop.views.source_view import VerdictRow
from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import Tap
from stonekite.engine.offline.tones import test_pair as pair_through
from stonekite.files.audio import Reader
from stonekite.session import storage
from stonekite.session.types import Intake, Output, Strip
from stonekite.signal.matrix import encode
from stonekite.stages.compressor import CompressorSide
from stonekite.stages.registry import KINDS

CONTROL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def crooked(tmp_path):
    """A recording whose right side is 4 dB louder and 24.3 samples late."""
    sound = late(music(11, seconds=5.0) * [[1.0], [1.6]], 24.3)
    return write_wav(tmp_path / "wheelhouse.wav", sound)


def sentences(window) -> list[str]:
    return [row.sentence.text() for row in window.source_view.findChildren(VerdictRow) if row.isVisible()]


def repair(qtbot, window, words: str) -> None:
    qtbot.waitUntil(lambda: all(row.isVisible() for row in window.source_view.rows))
    button = next(
        b
        for row in window.source_view.rows
        for b in row.findChildren(QPushButton)
        if b.text() == words and b.isEnabled()
    )
    qtbot.mouseClick(button, LEFT)


def typed(qtbot, field, text: str) -> None:
    field.setFocus()
    qtbot.keyClick(field, Qt.Key.Key_Return)
    qtbot.keyClicks(QApplication.focusWidget(), text)
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)


def undo_all(qtbot, window) -> None:
    to_front(qtbot, window)
    for _ in range(100):
        if window.document.next_undo:
            press(qtbot, window, Qt.Key.Key_Z, CONTROL)
    assert window.document.next_undo is None


def test_repair_filter_eq_widen_keep_and_export(window, crooked, qtbot, tmp_path, monkeypatch):
    window.opening.open_path(crooked)
    window.start()
    view = window.source_view
    assert window.middle.currentWidget() is view
    qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
    # The verdicts, and their repairs.
    qtbot.waitUntil(lambda: bool(sentences(window)))
    told = sentences(window)
    assert any(s.startswith("Right is late by 0.51 ms (24.3 samples)") for s in told)
    assert any(s.startswith("Right is ") and "dB louder" in s for s in told)
    repair(qtbot, window, "Align sides")
    repair(qtbot, window, "Balance sides")
    intake = window.document.strip.intake
    assert intake.left.delay_ms == pytest.approx(1000 * 24.3 / RATE, abs=0.002)
    assert intake.right.trim_db < -2 and intake.left.trim_db == 0
    assert [row.button.text() for row in view.rows if row.button is not None].count("Repaired") == 2
    # Mid and side.
    click(qtbot, window.kite, window.kite.split_centre())
    words = next(
        a.text() for a in window.menus.signal_menu.actions() if a.text().startswith("Mid / side, half-sum")
    )
    from_menu(qtbot, window.menus.signal_menu, words)
    # A filter on the side only.
    click(qtbot, window.kite, window.kite.plus_centre("lower"))
    from_menu(qtbot, window.popups.adding, "Filter")
    editor = window.panel.editors["filter"]
    picture = editor.picture
    high = picture._handles[0]
    drag(qtbot, picture, picture.place(high), QPointF(picture.x_of(250), picture.place(high).y()))
    stage = window.document.strip.stages[0]
    assert stage.lower.high_pass and stage.lower.high_pass_hz == pytest.approx(250, rel=0.03)
    assert not stage.upper.high_pass
    pick(qtbot, editor.rows["lower"].controls["high_pass_slope"], "24")
    assert window.document.strip.stages[0].lower.high_pass_slope == 24
    # An EQ, different on both legs.
    click(qtbot, window.kite, window.kite.plus_centre("upper"))
    from_menu(qtbot, window.popups.adding, "EQ")
    eq = window.panel.eq
    double_click(qtbot, eq.picture, QPointF(eq.picture.x_of(400), eq.picture.y_of(-4)))
    press(qtbot, window, Qt.Key.Key_O)
    double_click(qtbot, eq.picture, QPointF(eq.picture.x_of(6000), eq.picture.y_of(5)))
    pick(qtbot, eq.shape, "High shelf")
    stage = window.document.strip.stages[1]
    assert stage.upper.bands[0].gain_db == pytest.approx(-4, abs=0.3)
    assert stage.lower.bands[0].shape == "high-shelf"
    # Wider, with the lows in the middle.
    click(qtbot, window.kite, window.kite.plus_centre("upper"))
    from_menu(qtbot, window.popups.adding, "Width")
    width = window.panel.editors["width"].shared
    typed(qtbot, width.controls["width"], "130")
    qtbot.mouseClick(width.controls["mono_below"], LEFT)
    assert (
        window.document.strip.stages[2].shared.width == 130
        and window.document.strip.stages[2].shared.mono_below
    )
    # The EQ is kept as a preset.
    click(qtbot, window.kite, window.kite.stone_centre(window.document.strip.stages[1].id, "upper"))
    press(qtbot, window, Qt.Key.Key_P)
    dialog = QApplication.activeModalWidget()
    dialog.name.setFocus()
    qtbot.keyClicks(dialog.name, "Wheelhouse log")
    qtbot.keyClick(dialog.name, Qt.Key.Key_Return)
    assert "Kept" in dialog.message.text() and dialog.isVisible()
    qtbot.mouseClick(dialog.use, LEFT)
    # Export.
    to_front(qtbot, window)
    press(qtbot, window, Qt.Key.Key_E, CONTROL)
    export = window.exporting.dialog
    export._button(export.bits, "32f").click()
    out = tmp_path / "result.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(out), ""))
    qtbot.mouseClick(export.go, LEFT)
    qtbot.waitUntil(lambda: "Written" in export.message.text(), timeout=60_000)
    qtbot.mouseClick(export.cancel, LEFT)
    _check(soundfile.read(out)[0].T, soundfile.read(crooked)[0].T)
    # Undone, all of it.
    final = window.document.session
    undo_all(qtbot, window)
    assert window.document.strip == Strip() and window.document.session != final
    # Another session takes the preset.
    window.document.discard()
    window.opening.open_path(write_wav(tmp_path / "reel.wav", noise(2.0)))
    click(qtbot, window.kite, window.kite.plus_centre("upper"))
    from_menu(qtbot, window.popups.adding, "EQ")
    press(qtbot, window, Qt.Key.Key_P)
    dialog = QApplication.activeModalWidget()
    names = [dialog.list.item(k).text().split("  ")[0] for k in range(dialog.list.count())]
    assert "Wheelhouse log" in names and len(names) >= 5
    dialog.list.setFocus()
    dialog.list.setCurrentRow(names.index("Warm hold"))
    assert window.document.strip.stages[0].upper.bands[0].shape == "low-shelf"
    dialog.list.setCurrentRow(names.index("Wheelhouse log"))
    qtbot.mouseClick(dialog.use, LEFT)
    assert window.document.strip.stages[0].lower.bands == final.sound.stems[0].strip.stages[1].lower.bands
    to_front(qtbot, window)
    press(qtbot, window, Qt.Key.Key_Z, CONTROL)  # all that was tried is one step
    assert window.document.strip.stages[0].lower.bands == ()


def _check(result: np.ndarray, source: np.ndarray) -> None:
    """The exported sound is in time, balanced, without lows at the sides, and wider."""
    found = said(result)
    assert "late" not in found and "louder" not in found
    assert "late" in said(source)
    f, before = signal.welch(encode(source), RATE, nperseg=8192)
    _, after = signal.welch(encode(result), RATE, nperseg=8192)
    assert 10 * np.log10(after[1][f < 90].mean() / before[1][f < 90].mean()) < -25
    assert abs(looked_at(result).offset_samples) < 0.1


def test_presets_are_tried_cancelled_exported_and_imported(opened, qtbot, tmp_path, monkeypatch):
    opened.stages.add("gain", "lower")
    before = opened.document.session
    dialog = opened.show_presets()
    dialog.list.setCurrentRow(1)
    assert opened.document.session != before
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "sent"), ""))
    qtbot.mouseClick(dialog.write, LEFT)
    assert (tmp_path / "sent.kitepreset").exists()
    qtbot.keyClick(dialog, Qt.Key.Key_Escape)
    assert opened.document.session == before
    dialog = opened.show_presets()
    dialog.import_from(tmp_path / "sent.kitepreset")
    assert "Imported" in dialog.message.text()
    assert len(list(opened.preset_folder.glob("*"))) == 1
    dialog.import_from(tmp_path / "sent.kitepreset")
    assert "already" in dialog.message.text()
    (tmp_path / "bad.kitepreset").write_text("{}")
    dialog.import_from(tmp_path / "bad.kitepreset")
    assert "not a preset" in dialog.message.text()
    qtbot.mouseClick(dialog.delete, LEFT)
    assert not list(opened.preset_folder.glob("*"))
    dialog.reject()


def test_every_kind_has_an_editor_from_its_declaration(opened, qtbot):
    for kind in KINDS:
        opened.stages.add(kind)
        opened.resize(1100, 700)
        qtbot.wait(20)
        editor = opened.panel.editors[kind]
        picture = getattr(editor, "main_picture", editor.picture)
        assert editor.isVisible() and picture.isVisible() and picture.height() >= 80
        for widget in editor.findChildren(QLabel):
            if widget.isVisible() and widget.text():
                assert widget.width() >= widget.fontMetrics().horizontalAdvance(widget.text()) - 2, (
                    widget.text()
                )
        if KINDS[kind].offers.bands:
            editor.picture.add_asked.emit(900.0, -4.0)
            controls = [*editor.fields.values(), *editor.sides.values(), editor.view]
            assert all(not c.isVisible() or editor.rect().contains(c.geometry()) for c in controls)
            continue
        for row in editor.rows.values():
            for control in row.controls.values():
                assert control.accessibleName() and control.toolTip()
                within = QRect(control.mapTo(row, QPoint(0, 0)), control.size())
                assert not control.isVisible() or row.rect().contains(within)


def test_copy_paste_swap_and_copy_across(opened, qtbot):
    opened.stages.add("gain", "upper")
    row = opened.panel.editors["gain"].rows["upper"]
    typed(qtbot, row.controls["gain_db"], "-3")
    menu = opened.panel.open_more()
    from_menu(qtbot, menu, "Swap legs")
    assert opened.document.strip.stages[0].lower.gain_db == -3
    press(qtbot, opened, Qt.Key.Key_O)
    from_menu(qtbot, opened.panel.open_more(), "Copy settings to Mid")
    assert opened.document.strip.stages[0].upper.gain_db == -3
    opened.timeline.setFocus()
    press(qtbot, opened, Qt.Key.Key_C, CONTROL)
    press(qtbot, opened, Qt.Key.Key_V, CONTROL)
    one, two = opened.document.strip.stages
    assert two.lower == one.lower and two.id != one.id and opened.stages.chosen[0] == two.id
    from_menu(qtbot, opened.panel.open_more(), "Reset")
    assert opened.document.strip.stages[1] == type(two)(id=two.id)
    from_menu(qtbot, opened.panel.open_more(), "Paste settings on this leg")
    assert getattr(opened.document.strip.stages[1], opened.stages.chosen[1]).gain_db == -3
    # From the lower leg of one to the upper leg of another.
    first = opened.document.strip.stages[0]
    opened.stages.choose(first.id, "lower")
    typed(qtbot, opened.panel.editors["gain"].rows["lower"].controls["gain_db"], "-9")
    opened.stages.copy()
    opened.stages.choose(opened.document.strip.stages[1].id, "upper")
    opened.stages.paste_on_leg()
    assert opened.document.strip.stages[1].upper.gain_db == -9
    QApplication.clipboard().setText("no stage")
    press(qtbot, opened, Qt.Key.Key_V, CONTROL)
    assert (
        "no stage on the clipboard" in opened.transport_row.hint.text()
        and len(opened.document.strip.stages) == 2
    )


def test_enter_takes_a_typed_value_and_escape_leaves_it(opened, qtbot):
    opened.stages.add("gain", "upper")
    field = opened.panel.editors["gain"].rows["upper"].controls["gain_db"]
    typed(qtbot, field, "-3")
    assert QApplication.focusWidget() is field and field.value == -3
    qtbot.keyClick(field, Qt.Key.Key_Return)
    qtbot.keyClicks(QApplication.focusWidget(), "7")
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Escape)
    assert QApplication.focusWidget() is field and field.value == -3


def test_a_click_on_its_mark_leaves_a_value_on_its_leg(opened, qtbot):
    opened.stages.add("gain", "upper")
    opened.stages.toggle_linked()
    field = opened.panel.editors["gain"].rows["upper"].controls["gain_db"]
    typed(qtbot, field, "-3")
    assert opened.document.strip.stages[0].lower.gain_db == -3
    click(qtbot, field, field.tie_place())
    assert opened.document.strip.stages[0].unlinked == ("gain_db",)
    typed(qtbot, field, "-5")
    assert opened.document.strip.stages[0].lower.gain_db == -3
    click(qtbot, field, field.tie_place())
    typed(qtbot, field, "-4")
    assert opened.document.strip.stages[0].lower.gain_db == -2  # the offset stays


def test_holding_h_and_listening_to_the_change_are_heard_but_not_saved(opened, qtbot):
    opened.stages.add("gain", "upper")
    typed(qtbot, opened.panel.editors["gain"].rows["upper"].controls["gain_db"], "-6")
    before = opened.document.session
    opened.timeline.setFocus()
    qtbot.keyPress(opened, Qt.Key.Key_H)
    assert heard_strip(opened).stages[0].inserted is False
    qtbot.keyRelease(opened, Qt.Key.Key_H)
    assert heard_strip(opened) is opened.document.strip
    qtbot.mouseClick(opened.panel.change, LEFT)
    assert heard_strip(opened).stages[0].change_only
    press(qtbot, opened, Qt.Key.Key_O)  # another leg comes to the front: heard as it is again
    assert heard_strip(opened) is opened.document.strip and not opened.panel.change.isChecked()
    assert opened.document.session is before


def test_a_band_is_heard_alone(opened, qtbot):
    opened.stages.add("eq")
    eq = opened.panel.eq
    double_click(qtbot, eq.picture, QPointF(eq.picture.x_of(1000), eq.picture.y_of(6)))
    qtbot.mouseClick(eq.alone, LEFT)
    heard = heard_strip(opened)
    assert heard.stages[0].upper.high_pass and heard.lower.muted
    qtbot.mouseClick(eq.alone, LEFT)
    assert heard_strip(opened) is opened.document.strip


def test_a_stage_keeps_its_level(window, tmp_path, qtbot):
    window.opening.open_path(write_wav(tmp_path / "a.wav", 0.3 * noise(4.0)))
    window.start()
    window.stages.add("gain", "upper")
    for leg in ("upper", "lower"):
        typed(qtbot, window.panel.editors["gain"].rows[leg].controls["gain_db"], "6")
    qtbot.mouseClick(window.panel.level_kept, LEFT)
    qtbot.waitUntil(lambda: window.document.strip.stages[0].kept_db != 0, timeout=60_000)
    assert window.document.strip.stages[0].kept_db == pytest.approx(-6.0, abs=0.05)
    qtbot.waitUntil(lambda: "given back" in window.panel.words.text(), timeout=90_000)
    press(qtbot, window, Qt.Key.Key_Z, CONTROL)
    assert not window.document.strip.stages[0].level_kept


def test_a_starting_curve_from_the_other_leg(window, tmp_path, qtbot):
    sound = noise(5.0)
    dark = signal.sosfilt(signal.butter(1, 600, fs=RATE, output="sos"), sound[1])
    window.opening.open_path(write_wav(tmp_path / "two.wav", np.stack([sound[0], dark])))
    window.set_split("left-right", "")
    window.stages.add("eq", "upper")
    qtbot.mouseClick(window.panel.eq.match, LEFT)
    qtbot.mouseClick(window.matching.dialog.go, LEFT)
    qtbot.waitUntil(lambda: bool(window.document.strip.stages[0].upper.bands), timeout=60_000)
    gains = {round(b.frequency_hz): b.gain_db for b in window.document.strip.stages[0].upper.bands}
    assert gains[8000] < -6 and gains.get(250, 0) > gains[8000]
    assert "Right" in window.transport_row.hint.text()
    # And back, towards a reference recording: the sound as it was.
    reference = session_on(write_wav(tmp_path / "bright.wav", sound)).sound.stems[0].source
    to_front(qtbot, window)
    press(qtbot, window, Qt.Key.Key_O)
    window.matching.start(reference)
    qtbot.waitUntil(lambda: bool(window.document.strip.stages[0].lower.bands), timeout=60_000)
    gains = {round(b.frequency_hz): b.gain_db for b in window.document.strip.stages[0].lower.bands}
    assert gains[8000] > 6
    assert "the reference" in window.transport_row.hint.text()


def test_a_recording_of_two_is_separated(window, tmp_path, qtbot, monkeypatch):
    path = write_wav(tmp_path / "zither.wav", noise(1.0))
    window.opening.open_path(path)
    folder = tmp_path / "parts"
    folder.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: str(folder))
    qtbot.mouseClick(window.source_view.separate, LEFT)
    qtbot.mouseClick(window.separating.dialog.go, LEFT)
    qtbot.waitUntil(lambda: "Written" in window.transport_row.hint.text(), timeout=60_000)
    left = soundfile.read(folder / "zither.only-left.wav")[0]
    assert np.array_equal(left, soundfile.read(path)[0][:, 0])
    elsewhere = []
    window.separating.open_elsewhere = elsewhere.append
    qtbot.mouseClick(window.source_view.separate, LEFT)
    window.separating.dialog.group.buttons()[1].click()
    qtbot.mouseClick(window.separating.dialog.go, LEFT)
    assert window.document.stem.source.channels == (0, 0) and "zither.only-left" in window.document.name
    assert storage.load(elsewhere[0]).sound.stems[0].source.channels == (1, 1)


def test_a_verdict_of_two_recordings_in_one_leads_to_separating(window, tmp_path, qtbot):
    sound = np.stack([music(9, seconds=20.0)[0], music(10, seconds=20.0)[1]])
    window.opening.open_path(write_wav(tmp_path / "log.wav", sound))
    window.start()
    qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
    qtbot.waitUntil(lambda: any("nothing in common" in sentence for sentence in sentences(window)))
    repair(qtbot, window, "Separate…")
    assert window.separating.dialog.isVisible()
    window.separating.dialog.reject()


def test_a_side_that_is_louder_than_the_middle_is_narrowed(window, tmp_path, qtbot):
    mid, side = noise(3.0, level=0.05)
    window.opening.open_path(write_wav(tmp_path / "wide.wav", np.stack([mid + 2 * side, mid - 2 * side])))
    window.start()
    qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
    assert window.showing.measured.before["side_to_mid_db"] > 3
    repair(qtbot, window, "Narrow the result")
    assert window.source_view.rows[-1].button.text() == "Repaired"
    qtbot.waitUntil(lambda: (window.showing.measured.after["side_to_mid_db"] or 0) < 0, timeout=60_000)
    assert window.showing.measured.after["side_to_mid_db"] == pytest.approx(-6, abs=0.3)


def test_the_test_generator_is_a_source(window, qtbot):
    window.opening.open_generator()
    window.start()
    qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
    controls = window.source_view.generator
    pick(qtbot, controls["signal"], "Pink noise")
    typed(qtbot, controls["correlation"], "0.3")
    assert controls["correlation"].isVisible() and not controls["tone_hz"].isVisible()
    qtbot.waitUntil(
        lambda: abs((window.showing.measured.before["correlation"] or 0) - 0.3) < 0.05, timeout=60_000
    )
    press(qtbot, window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.transport.position_s > 0.1, timeout=90_000)
    undo_all(qtbot, window)
    assert window.document.stem.source.generator.signal == "twin-tones"


def test_a_dual_mono_compressor_from_the_demo(window, qtbot):
    window.opening.open_demo()
    window.start()
    qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
    window.set_split("left-right", "")
    click(qtbot, window.kite, window.kite.plus_centre("upper"))
    from_menu(qtbot, window.popups.adding, "Compressor")
    window.panel.linked.click()
    editor = window.panel.editors["compressor"]
    controls = editor.rows["upper"].controls
    typed(qtbot, controls["threshold_db"], "-30")
    typed(qtbot, controls["ratio"], "4:1")
    side = CompressorSide(threshold_db=-30, ratio=4)
    stage = window.document.strip.stages[1]
    assert stage.upper == stage.lower == side
    # One leg's threshold for itself.
    click(qtbot, controls["threshold_db"], controls["threshold_db"].tie_place())
    typed(qtbot, controls["threshold_db"], "-36")
    stage = window.document.strip.stages[1]
    assert (stage.upper.threshold_db, stage.lower.threshold_db) == (-36, -30)
    # The detector hears a range only, and so do we.
    picture = editor.picture
    low = picture._handles[0]
    drag(
        qtbot, picture, picture.place(low) + QPointF(4, 0), QPointF(picture.x_of(300), picture.place(low).y())
    )
    assert window.document.strip.stages[1].upper.low_hz == pytest.approx(300, rel=0.12)
    assert window.document.strip.stages[1].lower.low_hz == window.document.strip.stages[1].upper.low_hz
    # And its highs better: the lever is pulled up by 3 dB of the picture.
    tilt = picture.place(picture._handles[2])
    drag(qtbot, picture, tilt, QPointF(tilt.x(), picture.y_of(3.0)))
    assert window.document.strip.stages[1].upper.tilt_db == pytest.approx(3 / 0.39, abs=0.6)
    press(qtbot, window, Qt.Key.Key_Z, CONTROL)
    assert window.document.strip.stages[1].upper.tilt_db == 0
    editor.detector.click()
    heard = heard_strip(window)
    assert heard.stages[1].upper.bands[0].shape == "high-pass" and heard.lower.muted
    editor.detector.click()
    assert heard_strip(window) is window.document.strip
    # The reductions that are shown are those that an export has.
    window.hearing.toggle_loop()
    window.transport.seek(RATE * 6)
    window.timeline.setFocus()
    press(qtbot, window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.transport.position_s > 6.5, timeout=90_000)
    editor.history.forget()
    qtbot.waitUntil(lambda: len(editor.history._looks) > 90, timeout=90_000)
    begin = window.transport.position_s
    shown = {leg: editor.history.figures(leg)[2] for leg in ("upper", "lower")}
    # What was looked at lies between these two stretches, so its greatest does, too.
    least = _reductions(window.document.strip, begin - 2.0, begin - 0.5)
    most = _reductions(window.document.strip, begin - 6.0, begin + 0.5)
    print(f"largest reductions shown {shown}, computed {least} to {most}")
    assert all(
        low - 0.5 <= seen <= high + 0.5 for low, seen, high in zip(least, shown.values(), most, strict=True)
    )
    # What is aimed at is marked, and can be moved.
    history = editor.history
    start = QPointF(history.plot().center().x(), history._y(3.0))
    drag(qtbot, history, start, QPointF(start.x(), history._y(6.0)))
    assert history.target_db == pytest.approx((5, 7), abs=0.4)
    assert history._looks
    history.aim(2.0, 4.0)


def test_drive_shows_that_left_and_right_stay_apart_and_mid_and_side_do_not(opened, qtbot):
    opened.start()
    opened.set_split("left-right", "")
    click(qtbot, opened.kite, opened.kite.plus_centre("upper"))
    from_menu(qtbot, opened.popups.adding, "Drive")
    editor = opened.panel.editors["drive"]
    tones = editor.tones
    qtbot.waitUntil(lambda: tones.words.text() == "tones stay apart", timeout=60_000)
    curve = editor.curve
    opened.panel.linked.click()
    drag(qtbot, curve, curve.plot().center(), curve.plot().center() + QPointF(curve.plot().width() / 3, 0))
    stage = opened.document.strip.stages[0]
    assert stage.upper.drive_db == stage.lower.drive_db == pytest.approx(24, abs=0.7)
    shown = {line.product.name for line, _ in tones.plot.shown(0)}
    assert {"A", "3A"} <= shown and not any("B" in name for name in shown)
    opened.set_split("mid-side", "half-sum")
    qtbot.waitUntil(lambda: tones.words.text().startswith("sums and differences"), timeout=90_000)
    found = pair_through(opened.document.strip.stages[0], opened.document.strip.split, RATE)
    levels = {line.product.name: line.after[0] for line in found.lines}
    for line, level in tones.plot.shown(0):
        assert level == pytest.approx(levels[line.product.name], abs=0.05)
    assert any("B" in line.product.name and line.product.mixed for line, _ in tones.plot.shown(0))
    assert "2A+B" in tones.plot.help_at(QPointF(tones.plot.x_of(2 * 317 + 443), 40))
    # Of noise no tone stands out by much; the picture takes what there is without a word of complaint.
    qtbot.mouseClick(tones.choice, LEFT, pos=tones.choice.cell(True).center().toPoint())
    qtbot.waitUntil(lambda: bool(tones.plot._found.spectra), timeout=90_000)


def test_a_band_that_cuts_only_when_it_is_loud(opened, qtbot):
    opened.start()
    click(qtbot, opened.kite, opened.kite.plus_centre("lower"))
    from_menu(qtbot, opened.popups.adding, "Dynamic EQ")
    editor = opened.panel.editors["dynamic-eq"]
    picture = editor.picture
    double_click(qtbot, picture, QPointF(picture.x_of(2000), picture.y_of(-8)))
    typed(qtbot, editor.fields["threshold_db"], "-60")
    band = opened.document.strip.stages[0].lower.bands[0]
    assert band.range_db == pytest.approx(-8, abs=0.3) and band.threshold_db == -60
    assert opened.document.strip.stages[0].upper.bands == ()
    opened.timeline.setFocus()
    press(qtbot, opened, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: picture._gains_db[1, 0] < -7.5, timeout=90_000)
    assert not picture._gains_db[0].any()
    levels, gains = editor.row._live
    assert -60 < levels[0] < 0 and gains[0] == picture._gains_db[1, 0]
    typed(qtbot, editor.fields["threshold_db"], "0")
    qtbot.waitUntil(lambda: picture._gains_db[1, 0] > -0.5, timeout=90_000)
    editor.alone.click()
    assert heard_strip(opened).upper.muted
    editor.alone.click()


def test_the_ceiling_of_the_output(opened, qtbot):
    opened.start()
    press(qtbot, opened, Qt.Key.Key_F7)
    view = opened.output_view
    qtbot.mouseClick(view.controls[("limited",)], LEFT)
    typed(qtbot, view.controls[("ceiling_db",)], "-12")
    assert opened.document.strip.output == Output(limited=True, ceiling_db=-12)
    opened.timeline.setFocus()
    press(qtbot, opened, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: view._most_db > 0.5, timeout=90_000)
    assert "at the most" in view.limiting.text()
    qtbot.waitUntil(
        lambda: (
            opened.showing.measured is not None and opened.showing.measured.after["true_peak_dbtp"] < -11.4
        ),
        timeout=90_000,
    )


def _reductions(strip: Strip, start_s: float, stop_s: float) -> list[float]:
    """The greatest reduction of each leg in a stretch of the demo, computed block by block."""
    with Reader(demo_path()) as reader:
        sound = reader.read(0, int(stop_s * RATE))
    chain = Chain(strip, RATE)
    found = np.zeros(2)
    tap = Tap(strip.stages[1].id)
    for start in range(0, sound.shape[1] - 512, 512):
        chain.process(sound[:, start : start + 512], start, tap)
        tap.take()
        if start > start_s * RATE:
            found = np.maximum(found, tap.node.reduction_db)
    return found.tolist()


def test_the_output_is_placed_by_mouse(opened, qtbot):
    click(qtbot, opened.kite, opened.kite._output_box().center())
    view = opened.output_view
    assert opened.middle.currentWidget() is view
    picture = view.picture
    start = picture.place_of("left")
    drag(qtbot, picture, start, picture._on_arc(0, picture._radius))
    assert opened.document.strip.output.left.position == 0
    typed(qtbot, view.controls["right", "position"], "40")
    assert opened.document.strip.output.right.position == 40
    qtbot.mouseClick(view.swap, LEFT)
    assert opened.document.strip.output.left.position == 40
    qtbot.mouseClick(view.reset, LEFT)
    assert opened.document.strip.output == Strip().output
    press(qtbot, opened, Qt.Key.Key_F5)
    assert opened.middle.currentWidget() is opened.source_view
    pick(qtbot, opened.source_view.use, "Folded to mono")
    assert opened.document.strip.intake == Intake(use="mono")
    typed(qtbot, opened.source_view.sides["left", "delay_ms"], "82.6 samples")
    assert opened.document.strip.intake.left.delay_ms == pytest.approx(82.6 / 48)
