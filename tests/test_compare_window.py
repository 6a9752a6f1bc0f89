"""Versions, references, the Compare view and blind tests, by mouse and keyboard in the real window."""

import itertools
import json

import numpy as np
import pytest
import soundfile
from conftest import RATE, heard_strip, noise, sine, write_wav
from hands import LEFT, click, drag, from_menu, press, to_front
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget
from scipy import stats
from test_measures import done

from stonekite.engine.offline.subjects import Subject, measured
from stonekite.reports.table import ROWS
from stonekite.session import storage
from stonekite.session.blind import Trials, as_csv
from stonekite.session.types import Loop
from stonekite.stages.gain import Gain, GainSide
from stonekite.words import parsed_range

ALT, SHIFT = Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ShiftModifier


def louder(window, gain_db: float) -> None:
    """Put one gain stage of so many dB on both legs."""
    side = GainSide(gain_db=gain_db)
    document = window.document
    if document.strip.stages:
        document.put(("stages", 0), Gain(id=document.strip.stages[0].id, upper=side, lower=side), "gain")
    else:
        window.stages.add("gain")
        louder(window, gain_db)


@pytest.fixture
def versions(opened, qtbot):
    """A window with version 1 (+4 dB), version 2 (+9 dB) and now -3 dB."""
    louder(opened, 4.0)
    to_front(qtbot, opened)
    opened.timeline.setFocus()
    press(qtbot, opened, Qt.Key.Key_V)
    louder(opened, 9.0)
    press(qtbot, opened, Qt.Key.Key_V)
    louder(opened, -3.0)
    return opened


def known(qtbot, window, *keys: str) -> None:
    qtbot.waitUntil(lambda: all(key in window.listen.loudness for key in keys), timeout=90_000)


def settled(qtbot, window) -> None:
    """All that is compared has been measured."""
    comparing = window.switching.comparing
    qtbot.waitUntil(
        lambda: window.switching.figures("difference") is not None and not comparing.waiting, timeout=90_000
    )


def test_versions_are_kept_heard_matched_and_used_by_key(versions, qtbot, tmp_path):
    window = versions
    assert [v.number for v in window.document.session.versions] == [1, 2]
    known(qtbot, window, "processed", "unprocessed", "version 1", "version 2")
    assert window.listen.loudness["version 2"] - window.listen.loudness["version 1"] == pytest.approx(
        5, abs=0.02
    )
    press(qtbot, window, Qt.Key.Key_2, ALT)
    assert window.listen.heard == "version 2"
    assert heard_strip(window) is window.document.session.version(2).sound.stems[0].strip
    assert window.transport.listening.processed_db == pytest.approx(-12, abs=0.02)
    assert len(window.transport._beside) == 2  # all are as late as what is heard
    press(qtbot, window, Qt.Key.Key_1, ALT)
    assert window.transport.listening.processed_db == pytest.approx(-7, abs=0.02)
    press(qtbot, window, Qt.Key.Key_2)
    assert window.transport.listening.what == "unprocessed"
    assert window.transport.listening.unprocessed_db == pytest.approx(-3, abs=0.02)
    # An edit is heard at once: the state now comes back.
    press(qtbot, window, Qt.Key.Key_1, ALT)
    louder(window, -5.0)
    assert window.listen.heard == "processed" and heard_strip(window) is window.document.strip
    # Back to a version, and undone.
    window.listen.versions.menu_asked.emit(1, QPoint(10, 10))
    from_menu(qtbot, window.switching.menu, "Make it the state now")
    assert window.document.strip.stages[0].upper.gain_db == 4.0
    window.document.undo()
    assert window.document.strip.stages[0].upper.gain_db == -5.0
    # A note, and another state in its place.
    dialog = window.switching.ask_note(2)
    assert isinstance(dialog, QInputDialog)
    dialog.textValueSelected.emit("too loud")
    dialog.reject()
    assert window.document.session.version(2).note == "too loud"
    window.switching.replace(2)
    assert window.document.session.version(2).sound.stems[0].strip == window.document.strip
    window.document.save(tmp_path / "v.kite")
    assert storage.load(tmp_path / "v.kite").versions == window.document.session.versions


def test_a_level_that_is_given_back_is_no_edit(versions, qtbot):
    window = versions
    stage = window.document.strip.stages[0]
    window.stages.toggle_level_kept()
    press(qtbot, window, Qt.Key.Key_1, ALT)
    window.document.keep_levels({stage.id: -3.0})
    assert window.document.strip.stages[0].kept_db == 3.0
    assert window.listen.heard == "version 1"
    assert heard_strip(window) is window.document.session.version(1).sound.stems[0].strip
    window.document.undo()
    assert window.listen.heard == "processed"


def test_ten_versions_are_one_too_many(opened, qtbot):
    for _ in range(9):
        opened.switching.keep()
    opened.switching.keep()
    assert len(opened.document.session.versions) == 9 and "All 9 versions" in opened.transport_row.hint.text()


def test_what_plays_is_the_version_that_was_chosen(versions, qtbot, tmp_path):
    window = versions
    window.start()
    known(qtbot, window, "processed", "unprocessed", "version 1", "version 2")
    press(qtbot, window, Qt.Key.Key_2, ALT)
    window.listen.toggle_match()
    window.transport.disturb("record", path=str(tmp_path / "out.wav"))
    window.transport.play()
    qtbot.waitUntil(lambda: window.transport.position_s > 1.0, timeout=90_000)
    window.transport.pause()
    window.transport.disturb("record")
    qtbot.waitUntil(
        lambda: (tmp_path / "out.wav").exists() and soundfile.info(tmp_path / "out.wav").frames > 9000
    )
    qtbot.wait(300)
    heard = soundfile.read(tmp_path / "out.wav")[0].T
    recorded = soundfile.read(window.document.stem.source.path)[0].T
    start = int(np.flatnonzero(np.abs(heard[0]) > 0)[0])
    part = heard[:, start : start + RATE // 2]
    assert np.abs(part).std() / np.abs(recorded[:, : part.shape[1]]).std() == pytest.approx(
        10 ** (9 / 20), rel=0.05
    )


def test_the_table_has_the_figures_of_an_independent_measurement(versions, qtbot):
    window = versions
    press(qtbot, window, Qt.Key.Key_F8)
    view = window.compare_view
    assert view.isVisible() and window.listen.isVisible()
    settled(qtbot, window)
    source = window.document.stem.source
    wanted = {
        "unprocessed": done(measured(Subject(source))),
        "processed": done(measured(Subject(source, window.document.strip))),
    }
    for row in ROWS:
        before, after, change, *_ = view.table._texts(row)
        assert before == row.text(row.value(wanted["unprocessed"]))
        assert after == row.text(row.value(wanted["processed"]))
        assert change == row.change(row.value(wanted["unprocessed"]), row.value(wanted["processed"]))
    assert view.table.text_of("Integrated")[2] == "−3.0"
    # Level-matched, nothing but the level was changed: there is no difference.
    assert window.switching.figures("difference").true_peak_dbtp < -90
    # Another pair, by mouse.
    click(qtbot, view.of, view.of.cell("version 2").center())
    click(qtbot, view.against, view.against.cell("version 1").center())
    assert view.table.text_of("Integrated")[2] == "+5.0"
    click(qtbot, view.page, view.page.cell("differences").center())
    assert view.list.sentences == ["Mid Gain, gain: +4.0 dB → +9.0 dB", "Side Gain, gain: +4.0 dB → +9.0 dB"]
    # The stage of a version is taken over into the state now.
    click(qtbot, view.against, view.against.cell("processed").center())
    stage = window.document.strip.stages[0].id
    qtbot.mouseClick(view.list.buttons[stage], LEFT)
    assert window.document.strip.stages[0].upper.gain_db == 9.0
    assert view.list.sentences == ["Nothing differs."]
    press(qtbot, window, Qt.Key.Key_F6)
    assert window.work.isVisible() and not window.switching.viewing


def test_an_edit_shows_its_figures_soon(opened, qtbot):
    opened.document.set_loop(Loop(start_s=0.5, end_s=3.5))
    opened.stages.add("gain")
    press(qtbot, opened, Qt.Key.Key_F8)
    view = opened.compare_view
    settled(qtbot, opened)
    assert "0:00.50 – 0:03.50" in view.words.text()
    assert opened.switching.figures("processed").seconds == pytest.approx(3.0)
    before = opened.switching.figures("unprocessed")
    louder(opened, 6.0)
    assert view.table.text_of("Integrated")[1] == "…"  # nothing old is shown as new
    qtbot.waitUntil(lambda: view.table.text_of("Integrated")[2] == "+6.0", timeout=60_000)
    assert opened.switching.figures("unprocessed") is before  # it was not measured again
    opened.document.undo()
    assert view.table.text_of("Integrated")[2] == "0.0"  # known from before
    # The whole, and the loop again.
    click(qtbot, view.range, view.range.cell("whole").center())
    qtbot.waitUntil(lambda: opened.switching.figures("processed") is not None, timeout=90_000)
    assert opened.switching.figures("processed").seconds == pytest.approx(4.0)


def test_measuring_can_be_stopped_and_goes_on_with_the_next_change(window, qtbot, tmp_path):
    long = np.tile(noise(10.0), 60)
    window.opening.open_path(write_wav(tmp_path / "long.wav", long, subtype="PCM_16"))
    window.show_view("compare")
    view = window.compare_view
    qtbot.waitUntil(view.stop.isVisible, timeout=90_000)
    assert view.words.text().startswith("measuring…")
    qtbot.mouseClick(view.stop, LEFT)
    assert not view.stop.isVisible() and window.switching.figures("processed") is None
    qtbot.wait(500)
    assert window.switching.figures("processed") is None
    window.document.set_loop(Loop(start_s=1.0, end_s=3.0))
    qtbot.waitUntil(lambda: window.switching.figures("processed") is not None, timeout=90_000)


def test_plots_read_out_what_the_measures_say_and_are_linked(versions, qtbot):
    window = versions
    window.show_view("compare")
    view = window.compare_view
    settled(qtbot, window)
    spectrum = view.spectrum
    x = spectrum.x_of(1000.0)
    qtbot.mouseMove(spectrum, QPoint(int(x), int(spectrum.plot().center().y())))
    assert view.frequency.cursor == pytest.approx(1000, rel=0.03)
    levels = [window.switching.figures(key).spectra_db[2] for key in ("unprocessed", "processed")]
    at = int(np.argmin(np.abs(np.log(np.geomspace(20, 20_000, 240) / view.frequency.cursor))))
    wanted = f"{levels[0][at]:.1f} → {levels[1][at]:.1f}".replace("-", "−")
    assert wanted in spectrum.readout() and "Hz" in view.ratio.readout() and "1.00 kHz" in view.loss.readout()
    # The drawn line is where its values are.
    xs = [spectrum.x_of(hertz) for hertz in np.geomspace(20, 20_000, 240)]
    run = spectrum.line(xs, levels[1])[0]
    k = at - (240 - len(levels[1]))
    assert spectrum.y_of(levels[1][at]) == pytest.approx(run[k].y(), abs=0.5)
    # Zoomed in one, zoomed in all; back by double-click.
    spectrum.setFocus()
    qtbot.keyClick(spectrum, Qt.Key.Key_Plus)
    assert view.ratio.axis is spectrum.axis and spectrum.axis.low > 20
    drag(qtbot, spectrum, spectrum.plot().center(), spectrum.plot().center() + QPointF(30, 0))
    qtbot.mouseDClick(view.loss, LEFT, pos=view.loss.plot().center().toPoint())
    assert (spectrum.axis.low, spectrum.axis.high) == spectrum.axis.whole
    for mode in ("change", "difference"):
        click(qtbot, view.spectrum_mode, view.spectrum_mode.cell(mode).center())
        view.spectrum.grab()
    for mode in ("before", "after", "change", "difference", "curves"):
        click(qtbot, view.time_mode, view.time_mode.cell(mode).center())
        view._times.currentWidget().grab()
        view.time.point(1.5)
        assert view._times.currentWidget().readout().startswith("0:01.50")


def test_a_spectrogram_is_bright_where_the_sound_is(window, qtbot, tmp_path):
    tone = sine(1000, 4.0, -12.0)
    tone[:, : 2 * RATE] = 0.0
    window.opening.open_path(write_wav(tmp_path / "tone.wav", tone))
    window.show_view("compare")
    qtbot.waitUntil(lambda: window.switching.figures("processed") is not None, timeout=90_000)
    plot = window.compare_view.spectrogram
    plot.show_mode("after")
    levels, start, step = plot.table()
    times = start + step * np.arange(len(levels))
    band = int(np.argmin(np.abs(np.geomspace(20, 20_000, 240) - 1000)))
    assert levels[times > 2.2, band].min() == pytest.approx(-12.0, abs=0.5)
    assert levels[times < 1.8, band].max() < -140
    assert levels[times > 2.2, band - 40].max() < -80


def test_references_of_any_rate_stand_in_the_switch(opened, qtbot, tmp_path, monkeypatch):
    path = write_wav(tmp_path / "hall.wav", noise(3.0, rate=44_100, level=0.02), rate=44_100)
    monkeypatch.setattr(
        QFileDialog, "getOpenFileNames", lambda *a, **k: ([str(path), str(tmp_path / "no.wav")], "")
    )
    qtbot.mouseClick(opened.listen.references.add, LEFT)
    assert [r.name for r in opened.document.session.desk.references] == ["hall"]
    assert "is not there" in opened.transport_row.hint.text()
    known(qtbot, opened, "reference 0", "processed")
    opened.timeline.setFocus()
    press(qtbot, opened, Qt.Key.Key_R)
    assert opened.listen.heard == "reference 0" and opened.transport.listening.what == "reference"
    assert opened.transport._referred[0].path == str(path)
    # It is the quieter one: all the rest is turned down to it.
    assert opened.transport.listening.reference_db == 0.0
    press(qtbot, opened, Qt.Key.Key_1)
    assert opened.transport.listening.processed_db == pytest.approx(-14, abs=0.5)
    opened.switching.set_reference_range(0, "0:01 – 0:02.5")
    assert opened.document.session.desk.references[0].loop == Loop(start_s=1, end_s=2.5)
    opened.switching.set_reference_range(0, "2 – 1")
    assert "ends before it begins" in opened.transport_row.hint.text()
    press(qtbot, opened, Qt.Key.Key_R)
    assert opened.transport._referred[1:] == (44_100, int(2.5 * 44_100))
    opened.switching.remove_reference(0)
    assert opened.listen.heard == "processed"


@pytest.mark.parametrize(
    ("text", "wanted"),
    [("0:10 – 0:30", (10, 30)), ("75-80.5", (75, 80.5)), ("1:02.5 to 2:00", (62.5, 120)), (" ", None)],
)
def test_ranges_are_typed_as_people_write_them(text, wanted):
    assert parsed_range(text) == wanted


def test_a_report_is_written_from_the_window(versions, qtbot, tmp_path, monkeypatch):
    window = versions
    window.show_view("compare")
    settled(qtbot, window)
    for name in ("r.html", "r.csv", "r.json"):
        monkeypatch.setattr(
            QFileDialog, "getSaveFileName", lambda *a, name=name, **k: (str(tmp_path / name), "")
        )
        qtbot.mouseClick(window.compare_view.report, LEFT)
        assert (tmp_path / name).stat().st_size > 1000
    assert set(json.loads((tmp_path / "r.json").read_text())) == {
        "Unprocessed",
        "Now",
        "Version 1",
        "Version 2",
    }
    assert "From Version 1 to the state now" in (tmp_path / "r.html").read_text()


# Blind tests


def test_hidden_assignments_are_uniform_and_independent():
    orders = np.array([Trials("abx", "a", "b", 100)._order for _ in range(200)])
    assert stats.binomtest(int(orders.sum()), orders.size).pvalue > 1e-6
    pairs = np.bincount((2 * orders[:, :-1] + orders[:, 1:]).ravel(), minlength=4)
    assert stats.chisquare(pairs).pvalue > 1e-6
    assert len({tuple(order) for order in orders.tolist()}) == 200


def test_answers_are_counted_for_what_was_behind_the_letters():
    trials = Trials("abx", "one", "two", 40)
    for _ in range(30):
        trials.answer("A" if trials.behind("X") == trials.behind("A") else "B")
    assert (trials.result().right, trials.result().count) == (30, 30)
    shuffled = Trials("preference", "one", "two", 40)
    while not shuffled.done:  # always the first one, wherever it is
        shuffled.answer("A" if shuffled.behind("A") == 0 else "B")
    assert shuffled.result().right == 40 and len(set(shuffled.result().order)) == 2
    assert as_csv(shuffled.result()).count("\n") == 41


def begin(qtbot, window, kind: str, trials: int):
    window.show_view("compare")
    qtbot.mouseClick(window.compare_view.blind, LEFT)
    view = window.blind_testing.view
    click(qtbot, view.kind, view.kind.cell(kind).center())
    view.count._move(float(trials))
    qtbot.waitUntil(view.go.isEnabled, timeout=90_000)
    qtbot.mouseClick(view.go, LEFT)
    return view


def snapshot(window) -> list:
    """Everything to be seen in the window that could tell anything."""
    found = [window.windowTitle()]
    for widget in window.findChildren(QWidget):
        if not widget.isVisible():
            continue
        found.append(
            (
                type(widget).__name__,
                widget.isEnabled(),
                widget.geometry(),
                widget.toolTip(),
                widget.accessibleName(),
                widget.accessibleDescription(),
                *(getattr(widget, name)() for name in ("text", "isChecked") if hasattr(widget, name)),
            )
        )
    return found


@pytest.mark.parametrize("kind", ["abx", "preference"])
def test_nothing_on_the_screen_differs_between_the_two_answers(versions, qtbot, kind):
    window = versions
    window.start()
    view = begin(qtbot, window, kind, 10)
    # What goes on anyway, and has nothing to do with the answers, is over.
    qtbot.waitUntil(
        lambda: (
            window.showing.measured is not None
            and not window.switching.comparing.waiting
            and window.engine.simulated
        ),
        timeout=90_000,
    )
    window.say("")
    qtbot.wait(200)
    seen: dict[tuple, list] = {}
    for order, letter in itertools.product((0, 1), "ABX" if kind == "abx" else "AB"):
        view.trials._order[view.trials.place] = order
        qtbot.keyClick(view, {"A": Qt.Key.Key_A, "B": Qt.Key.Key_B, "X": Qt.Key.Key_X}[letter])
        qtbot.wait(120)
        picture = window.grab().toImage()
        seen.setdefault((letter,), []).append((snapshot(window), picture))
    for (letter,), (one, two) in seen.items():
        assert one[0] == two[0], letter
        assert one[1] == two[1], letter
    assert not window.listen.isVisible() and not window.menus.isVisible() and not window.work.isVisible()
    view.finish()
    assert window.listen.isVisible() and window.menus.isVisible()


def test_a_blind_test_by_keys_from_beginning_to_result(versions, qtbot, tmp_path, monkeypatch):
    window = versions
    window.start()
    view = begin(qtbot, window, "abx", 6)
    assert "whatever comes out" in view.rule.text() and view.trials.planned == 6
    heard = []
    for _ in range(6):
        hidden = view.trials.behind("X")
        strips = []
        for key in (Qt.Key.Key_A, Qt.Key.Key_B, Qt.Key.Key_X):
            qtbot.keyClick(view, key)
            strips.append((heard_strip(window), window.transport.listening.what))
        assert strips[2] == strips[hidden] and strips[0] != strips[1]
        heard.append(window.transport.listening)
        # Keys that would switch in the window do nothing here.
        before = window.transport.listening
        playing = heard_strip(window)
        for key in (Qt.Key.Key_1, Qt.Key.Key_2, Qt.Key.Key_V, Qt.Key.Key_H):
            qtbot.keyClick(view, key)
        window.document.changed.emit()  # as when a measurement gives a level back
        assert window.transport.listening == before and len(window.document.session.versions) == 2
        assert heard_strip(window) is playing
        qtbot.keyClick(view, Qt.Key.Key_A if hidden == 0 else Qt.Key.Key_B, SHIFT)
    assert "6 of 6 trials" in view.words.text() and "0.0156" in view.words.text()
    test = window.document.session.desk.blind_tests[0]
    assert test.right == 6 and test.match_lu <= 0.1 and {test.first, test.second} == {"Now", "Unprocessed"}
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "t.csv"), ""))
    qtbot.mouseClick(view.save, LEFT)
    assert (tmp_path / "t.csv").read_text().count("yes") == 6
    qtbot.mouseClick(view.close_result, LEFT)
    assert window.compare_view.isVisible()
    window.document.save(tmp_path / "b.kite")
    assert storage.load(tmp_path / "b.kite").desk.blind_tests == (test,)


def test_a_test_can_be_stopped_and_says_so(versions, qtbot):
    window = versions
    window.start()
    view = begin(qtbot, window, "preference", 8)
    qtbot.keyClick(view, Qt.Key.Key_A, SHIFT)
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert "stopped early: 8 were planned" in view.words.text()
    qtbot.mouseClick(view.close_result, LEFT)
    view = begin(qtbot, window, "abx", 8)
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert window.compare_view.isVisible() and len(window.document.session.desk.blind_tests) == 1


def test_two_of_the_same_and_silence_cannot_be_tested(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "still.wav", np.zeros((2, RATE))))
    window.show_view("compare")
    window.blind_testing.ask()
    view = window.blind_testing.view
    qtbot.waitUntil(lambda: "silent" in view.trouble.text(), timeout=90_000)
    click(qtbot, view.second, view.second.cell("processed").center())
    assert "two different" in view.trouble.text() and not view.go.isEnabled()
