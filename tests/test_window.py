"""The real window, driven by mouse and keyboard as a user would."""

from pathlib import Path

import numpy as np
import pytest
import soundfile
from conftest import noise, sine, write_wav
from hands import LEFT, click, double_click, drag, from_menu, pick, press
from PySide6.QtCore import QEvent, QMimeData, QObject, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QWheelEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox, QWidget
from scipy import signal

from stonekite.desktop.controls import theme
from stonekite.desktop.dialogs.dialogs import ChannelDialog
from stonekite.desktop.shell.window import Window
from stonekite.desktop.timeline.waveforms import Waveforms
from stonekite.session import storage
from stonekite.signal.matrix import decode, encode
from stonekite.stages.eq import side_sections
from stonekite.stages.registry import KINDS


class _Windows(QObject):
    """Notes what shows itself as a window."""

    def __init__(self) -> None:
        super().__init__()
        self.shown: list[str] = []

    def eventFilter(self, what: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(what, QWidget) and what.isWindow():
            self.shown.append(f"{type(what).__name__} {what.accessibleName()}".strip())
        return False


def test_no_part_flashes_up_as_a_window_of_its_own(qtbot):
    watch = _Windows()
    QApplication.instance().installEventFilter(watch)
    window = Window()
    window.show()
    window.opening.open_demo()
    for kind in KINDS:
        window.stages.add(kind)
        qtbot.wait(1)
        window.stages.remove()
    QApplication.instance().removeEventFilter(watch)
    window.document.discard()
    window.close()
    assert watch.shown == ["Window"]


def test_from_a_new_file_to_the_exported_result(opened, qtbot, tmp_path, monkeypatch):
    window = opened
    window.start()
    qtbot.waitSignal(window.transport.ready, timeout=60_000).wait()
    # An EQ by the plus on the lower leg, a band by double-click, dragged, then typed values.
    click(qtbot, window.kite, window.kite.plus_centre("lower"))
    from_menu(qtbot, window.popups.adding, "EQ")
    stage = window.document.strip.stages[0]
    assert window.stages.chosen == (stage.id, "lower")
    picture = window.panel.eq.picture
    double_click(qtbot, picture, QPointF(picture.x_of(3000), picture.y_of(6)))
    band = window.document.strip.stages[0].lower.bands[0]
    assert band.frequency_hz == pytest.approx(3000, rel=0.02) and band.gain_db == pytest.approx(6, abs=0.3)
    drag(qtbot, picture, picture.handle(band), QPointF(picture.x_of(800), picture.y_of(-6)))
    band = window.document.strip.stages[0].lower.bands[0]
    assert band.frequency_hz == pytest.approx(800, rel=0.02) and band.gain_db == pytest.approx(-6, abs=0.3)
    field = window.panel.eq.fields["frequency_hz"]
    click(qtbot, field, QPointF(field.width() - 20, 9))
    qtbot.keyClicks(QApplication.focusWidget(), "1.2k")
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
    assert window.document.strip.stages[0].lower.bands[0].frequency_hz == 1200.0
    # The other leg gets a shelf; the upper leg is turned down.
    click(qtbot, window.panel.leg_choice, window.panel.leg_choice.cell("upper").center())
    click(qtbot, window.panel.eq.row, window.panel.eq.row.cell(0).center())
    pick(qtbot, window.panel.eq.shape, "High shelf")
    gain = window.panel.eq.fields["gain_db"]
    gain.setFocus()
    for _ in range(6):
        qtbot.keyClick(gain, Qt.Key.Key_Up)
    assert window.document.strip.stages[0].upper.bands[0].gain_db == 3.0
    level = window.leg_rows["upper"].level
    level.setFocus()
    qtbot.keyClick(level, Qt.Key.Key_Minus)
    qtbot.keyClicks(QApplication.focusWidget(), "4.5")
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
    assert window.document.strip.upper.level_db == -4.5
    # Listen: play, switch, level match measured behind the window.
    window.timeline.setFocus()
    press(qtbot, window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.transport.position_s > 0.1, timeout=90_000)
    press(qtbot, window, Qt.Key.Key_2)
    assert window.transport.listening.what == "unprocessed"
    qtbot.waitUntil(lambda: window.transport.listening.unprocessed_db < 0, timeout=90_000)
    press(qtbot, window, Qt.Key.Key_S, Qt.KeyboardModifier.ShiftModifier)
    assert window.transport.listening.only == "side"
    # Save, undo everything, redo everything.
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "mine"), ""))
    press(qtbot, window, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    final = window.document.session
    assert storage.load(tmp_path / "mine.kite") == final and not window.document.modified
    while window.document.next_undo:
        press(qtbot, window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.document.strip.stages == () and window.document.strip.upper.level_db == 0
    while window.document.next_redo:
        press(qtbot, window, Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier)
    assert window.document.session == final
    # Export as 32-bit float and compare with scipy.
    press(qtbot, window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    dialog = window.exporting.dialog
    dialog._button(dialog.bits, "32f").click()
    out = tmp_path / "result.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(out), ""))
    qtbot.mouseClick(dialog.go, LEFT)
    qtbot.waitUntil(lambda: "Written" in dialog.message.text(), timeout=60_000)
    source = soundfile.read(tmp_path / "quay.wav")[0].T
    written = soundfile.read(out)[0].T
    more = written.shape[1] - source.shape[1]  # what the EQ rings on with
    assert 0 < more < 4800
    legs = encode(np.pad(source, ((0, 0), (0, more))))
    strip = window.document.strip
    for row, side in enumerate((strip.stages[0].upper, strip.stages[0].lower)):
        legs[row] = signal.sosfilt(np.insert(side_sections(side, 48_000), 3, 1.0, axis=1), legs[row])
    legs[0] *= 10 ** (-4.5 / 20)
    assert pytest.approx(decode(legs), abs=2e-7) == written


def test_every_split_and_matrix_by_menu(opened, qtbot):
    for (mode, matrix), action in opened.menus.split_actions.items():
        action.trigger()
        split = opened.document.strip.split
        assert split.mode == mode and (not matrix or split.matrix == matrix)
        names = opened.panel.leg_choice._words if opened.stages.chosen else None
        assert names is None or list(names.values()) == [
            theme.NAMES[split.component(leg)] for leg in ("upper", "lower")
        ]
    opened.document.undo()
    assert opened.menus.split_actions["mid-side", "equal-power"].isChecked()


def test_leg_buttons(opened, qtbot):
    for name in ("inverted", "muted", "alone"):
        qtbot.mouseClick(opened.leg_rows["lower"].toggles[name], LEFT)
        assert getattr(opened.document.strip.lower, name) is True
        assert opened.document.next_undo.startswith("Side")
        qtbot.mouseClick(opened.leg_rows["lower"].toggles[name], LEFT)
        assert getattr(opened.document.strip.lower, name) is False


def test_linked_sides_move_together_and_unlinked_ones_do_not(opened, qtbot):
    opened.stages.add("eq")
    qtbot.mouseClick(opened.panel.linked, LEFT)
    click(qtbot, opened.panel.eq.row, opened.panel.eq.row.cell(2).center())
    stage = opened.document.strip.stages[0]
    assert stage.linked and stage.upper.bands[2] is not None and stage.lower.bands[2] is not None
    q = opened.panel.eq.fields["q"]
    q.setFocus()
    qtbot.keyClick(q, Qt.Key.Key_Up)
    stage = opened.document.strip.stages[0]
    assert stage.upper.bands[2].q == stage.lower.bands[2].q > 0.71
    press(qtbot, opened, Qt.Key.Key_K)
    qtbot.keyClick(q, Qt.Key.Key_Up)
    stage = opened.document.strip.stages[0]
    assert not stage.linked and stage.upper.bands[2].q > stage.lower.bands[2].q


def test_stones_are_chosen_reordered_and_taken_off(opened, qtbot):
    opened.stages.add("eq")
    opened.stages.add("eq")
    first, second = (s.id for s in opened.document.strip.stages)
    kite = opened.kite
    click(qtbot, kite, kite.stone_centre(first, "lower"))
    assert opened.stages.chosen == (first, "lower")
    drag(qtbot, kite, kite.stone_centre(first, "lower"), kite.stone_centre(second, "lower"))
    assert [s.id for s in opened.document.strip.stages] == [second, first]
    drag(
        qtbot,
        kite,
        kite.stone_centre(first, "upper"),
        QPointF(kite.stone_centre(first, "upper").x(), kite.height() - 2),
    )
    assert opened.document.stage(first).upper is None
    click(qtbot, kite, kite.stone_centre(first, "upper"))
    assert opened.document.stage(first).upper is not None
    kite.setFocus()
    qtbot.keyClick(kite, Qt.Key.Key_Left)
    assert opened.stages.chosen == (second, "upper")
    press(qtbot, opened, Qt.Key.Key_B)
    assert not opened.document.stage(second).inserted
    qtbot.keyClick(kite, Qt.Key.Key_Delete)
    assert opened.document.stage(second) is None and opened.stages.chosen[0] == first


def test_bands_by_keyboard(opened, qtbot):
    opened.stages.add("eq")
    picture, row = opened.panel.eq.picture, opened.panel.eq.row
    row.setFocus()
    qtbot.keyClick(row, Qt.Key.Key_Return)
    picture.setFocus()
    for key in (Qt.Key.Key_Up, Qt.Key.Key_Up, Qt.Key.Key_Right, Qt.Key.Key_Plus):
        qtbot.keyClick(picture, key)
    band = opened.document.strip.stages[0].upper.bands[0]
    assert band.gain_db == 1.0 and band.frequency_hz > 1000 and band.q > 0.71
    qtbot.keyClick(picture, Qt.Key.Key_Delete)
    assert opened.document.strip.stages[0].upper.bands == ()


def test_seventeen_bands_are_one_too_many_and_it_says_so(opened, qtbot):
    opened.stages.add("eq")
    picture = opened.panel.eq.picture
    for k in range(17):
        picture.add_asked.emit(100.0 * (k + 1), 3.0)
    assert len(opened.document.strip.stages[0].upper.bands) == 16
    assert "in use" in opened.transport_row.hint.text()


def test_the_drawn_curve_is_the_response_of_the_filters(opened, qtbot):
    opened.stages.add("eq")
    picture = opened.panel.eq.picture
    picture.add_asked.emit(9000.0, 9.0)
    stage = opened.document.strip.stages[0]
    frequencies = np.geomspace(20, 20_000, 400)
    full = np.insert(side_sections(stage.upper, 48_000), 3, 1.0, axis=1)
    wanted = 20 * np.log10(np.abs(signal.sosfreqz(full, frequencies, fs=48_000)[1]))
    assert picture._curves["upper"] == pytest.approx(wanted, abs=1e-6)
    assert picture._curves["lower"] == pytest.approx(0, abs=1e-9)


def test_one_drag_is_one_step_to_undo(opened, qtbot):
    level = opened.leg_rows["upper"].level
    track = level._track()
    drag(qtbot, level, track.center(), QPointF(track.left() + 10, track.center().y()), steps=12)
    assert opened.document.strip.upper.level_db < -20
    opened.document.undo()
    assert opened.document.strip.upper.level_db == 0 and opened.document.next_undo is None


def test_wheel_double_click_and_refused_entries(opened, qtbot):
    level = opened.leg_rows["lower"].level
    wheel = QWheelEvent(
        QPointF(60, 12), QPointF(level.mapToGlobal(QPoint(60, 12))), QPoint(), QPoint(0, 240),
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(level, wheel)
    assert opened.document.strip.lower.level_db == 1.0
    level.type_value()
    qtbot.keyClicks(QApplication.focusWidget() or level._edit, "loud")
    refused = []
    level.refused.connect(refused.append)
    level._edit.setText("loud")
    qtbot.keyClick(level._edit, Qt.Key.Key_Return)
    assert opened.document.strip.lower.level_db == 1.0 and "not a number" in refused[0]
    double_click(qtbot, level, level._track().center() + QPointF(-30, 0))
    assert opened.document.strip.lower.level_db == 0.0


def test_timeline_seek_loop_and_zoom(opened, qtbot):
    line = opened.timeline
    sought = []
    line.seek_asked.connect(sought.append)
    click(qtbot, line, QPointF(line.x_of(1.0), 30))
    assert sought == [pytest.approx(1.0, abs=0.02)]
    drag(qtbot, line, QPointF(line.x_of(1.0), 30), QPointF(line.x_of(2.5), 30))
    loop = opened.document.session.desk.loop
    assert (loop.start_s, loop.end_s) == (pytest.approx(1.0, abs=0.02), pytest.approx(2.5, abs=0.02))
    drag(qtbot, line, QPointF(line.x_of(loop.end_s), 30), QPointF(line.x_of(3.0), 30))
    assert opened.document.session.desk.loop.end_s == pytest.approx(3.0, abs=0.02)
    assert opened.document.next_undo is None  # a loop is not a step to undo
    press(qtbot, opened, Qt.Key.Key_L)
    assert opened.document.session.desk.loop is None
    press(qtbot, opened, Qt.Key.Key_L)
    assert opened.document.session.desk.loop.end_s == pytest.approx(3.0, abs=0.02)
    line.setFocus()
    qtbot.keyClick(line, Qt.Key.Key_Plus)
    start, stop = line.view
    assert stop - start == pytest.approx(4.0 * 0.7, abs=0.01)
    qtbot.keyClick(line, Qt.Key.Key_0)
    assert line.view == (0.0, 4.0)


def test_the_waveform_after_follows_the_settings(opened, qtbot):
    qtbot.waitUntil(lambda: opened.timeline._after is not None, timeout=60_000)
    before = opened.timeline._after.peaks.copy()
    qtbot.mouseClick(opened.leg_rows["lower"].toggles["muted"], LEFT)
    qtbot.waitUntil(lambda: opened.timeline._after.peaks[3] == 0, timeout=90_000)
    assert before[3] > 0
    assert opened.showing.measured.after["side_to_mid_db"] is None


def test_drag_and_drop_opens(window, qtbot, tmp_path):
    path = write_wav(tmp_path / "dropped.wav", noise(0.5))
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
    window.dropEvent(event)
    qtbot.waitUntil(lambda: window.document.is_open, timeout=5000)
    assert window.document.stem.name == "dropped"


def test_mono_says_so_and_eight_channels_ask(window, qtbot, tmp_path, monkeypatch):
    soundfile.write(tmp_path / "one.wav", noise(0.5)[0], 48_000)
    window.opening.open_path(tmp_path / "one.wav")
    assert "mono" in window.transport_row.hint.text() and window.document.stem.source.channels == (0, 0)
    soundfile.write(tmp_path / "eight.wav", np.zeros((4800, 8)), 48_000)

    def answer(dialog: ChannelDialog) -> int:
        dialog.boxes[0].setCurrentIndex(4)
        dialog.boxes[1].setCurrentIndex(5)
        return 1

    monkeypatch.setattr(ChannelDialog, "exec", answer)
    window.opening.open_path(tmp_path / "eight.wav")
    assert window.document.stem.source.channels == (4, 5)


@pytest.mark.parametrize("name", ["broken.wav", "broken.kite", "gone.wav"])
def test_what_cannot_be_opened_leaves_everything_as_it_was(opened, tmp_path, monkeypatch, name):
    said = []
    monkeypatch.setattr(QMessageBox, "exec", lambda box: said.append(box.text()))
    if name != "gone.wav":
        (tmp_path / name).write_bytes(b"nonsense")
    before = opened.document.session
    opened.opening.open_path(tmp_path / name)
    assert opened.document.session is before
    assert name in said[0] and said[0].endswith(".")


def test_a_session_whose_recording_is_gone_asks_for_it(opened, tmp_path, monkeypatch):
    opened.opening.save_to(tmp_path / "s.kite")
    (tmp_path / "elsewhere").mkdir()
    moved = (tmp_path / "quay.wav").rename(tmp_path / "elsewhere" / "other name.wav")

    def find(box: QMessageBox) -> None:
        monkeypatch.setattr(box, "clickedButton", lambda: box.buttons()[0])

    monkeypatch.setattr(QMessageBox, "exec", find)
    monkeypatch.setattr(
        QMessageBox, "clickedButton", lambda box: next(b for b in box.buttons() if "Show" in b.text())
    )
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(moved), ""))
    opened.opening.open_path(tmp_path / "s.kite")
    assert Path(opened.document.stem.source.path) == moved


def test_an_export_can_be_cancelled(opened, qtbot, tmp_path):
    long = write_wav(tmp_path / "long.wav", np.tile(noise(4.0), 60))
    opened.opening.open_path(long)
    opened.leg_rows["upper"].toggles["inverted"].click()
    dialog = opened.exporting.ask(opened.document)
    opened.exporting.start(opened.document, dialog, tmp_path / "out.wav")
    qtbot.waitUntil(lambda: 0 < dialog.bar.value() < 1000, timeout=60_000)
    qtbot.mouseClick(dialog.cancel, LEFT)
    qtbot.waitUntil(lambda: "Cancelled" in dialog.message.text(), timeout=90_000)
    assert [p.name for p in tmp_path.iterdir() if "out" in p.name] == []
    dialog.reject()


def test_everything_has_a_name_a_tooltip_and_fits(opened, qtbot):
    opened.stages.add("eq")
    opened.panel.eq.picture.add_asked.emit(500.0, 3.0)
    for size in ((1100, 700), (1280, 800), (1920, 1080)):
        opened.resize(*size)
        QApplication.processEvents()
        for widget in opened.centralWidget().findChildren(QWidget):
            if not widget.isVisible() or widget.focusPolicy() == Qt.FocusPolicy.NoFocus:
                continue
            name = f"{type(widget).__name__} {widget.accessibleName()}"
            assert widget.accessibleName() or getattr(widget, "text", str)(), name
            if type(widget).__module__.startswith("stonekite"):
                assert widget.toolTip() or type(widget).__name__ in ("KiteMap", "BandsPicture"), name
            least = widget.minimumSizeHint()
            assert widget.width() >= least.width() and widget.height() >= least.height(), f"{name} at {size}"
            corner = widget.mapTo(opened, widget.rect().bottomRight())
            assert corner.x() <= size[0] and corner.y() <= size[1], f"{name} at {size}"


def test_a_large_source_check_draws_what_arrived(opened, qtbot):
    opened.start()
    opened.show_view("source")
    view = opened.source_view
    opened.resize(1100, 700)
    qtbot.waitUntil(lambda: not view.plots.isVisible())
    opened.resize(1920, 1080)
    qtbot.waitUntil(lambda: view.plots.isVisible())
    qtbot.waitUntil(lambda: view.spectra.known(), timeout=60_000)
    found = view.spectra.found
    for plot, words in (
        (view.spectra, f"Left {found.spectra_db[0][120]:.1f}"),
        (view.course, "correlation +"),
    ):
        middle = plot.plot().center().toPoint()
        qtbot.mouseMove(plot, middle)
        plot.axis.point(plot.axis.value(120 / 239))
        assert words.replace("-", "−") in plot.readout(), plot.readout()
        assert plot.minimumSizeHint().height() == 0
    view.course.axis.point(None)
    assert view.course.readout() == ""
    opened.resize(1100, 700)
    qtbot.waitUntil(lambda: not view.plots.isVisible())


def test_unsaved_changes_are_asked_about(opened, qtbot, monkeypatch):
    opened.leg_rows["upper"].toggles["muted"].click()
    asked = []
    monkeypatch.setattr(QMessageBox, "exec", lambda box: asked.append(box.text()))
    monkeypatch.setattr(
        QMessageBox, "clickedButton", lambda box: box.button(QMessageBox.StandardButton.Cancel)
    )
    assert not opened.close()
    assert "unsaved changes" in asked[0] and opened.isVisible()


def test_silence_and_one_sample_open(window, qtbot, tmp_path):
    for name, sound in (("silent", np.zeros((2, 4800))), ("one", sine(100, 1 / 48_000, 0))):
        window.opening.open_path(write_wav(tmp_path / f"{name}.wav", sound))
        qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=90_000)
        assert window.listen.figures["integrated"]._now == "–"
        window.grab()


def test_a_recording_that_turns_out_to_be_empty_is_drawn_as_silence():
    waves = Waveforms(np.zeros((4, 2, 0)))
    assert not waves.columns(0, 0.0, 1.0, 30).any() and not waves.peaks.any()


def test_before_the_player_has_said_anything_no_figure_is_shown(window, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", noise(1.0)))
    window.showing.tick()
    for shown in (window.listen.correlation, window.listen.centre, window.listen.momentary):
        assert shown._now == "–" and shown._was == ""
