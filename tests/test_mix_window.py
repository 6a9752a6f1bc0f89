"""Several strips in the window: by mouse and keys, as they are heard, saved and exported."""

from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, noise, write_wav
from hands import drag
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from stonekite.desktop.dialogs.parallel_dialog import ParallelDialog
from stonekite.desktop.model.demo_reel import reel_session
from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.export import export
from stonekite.session import storage, tree
from stonekite.session.mix import mix_edits, places, wires
from stonekite.session.mix.mix_edits import BEGINNINGS
from stonekite.session.types import MIX

NAMES = ("accordion", "dulcimer", "frame drums", "tuba", "voices")


@pytest.fixture
def folder(tmp_path):
    """A folder of five recordings, one of another rate, and something that is none."""
    made = tmp_path / "reel"
    made.mkdir()
    for k, name in enumerate(NAMES):
        rate = 44_100 if name == "tuba" else RATE
        write_wav(made / f"{name}.wav", noise(2.0 + 0.1 * k, seed=k + 1, rate=rate, level=0.05), rate)
    (made / "notes.txt").write_text("words")
    return made


@pytest.fixture
def window(window, folder):
    """A window on the mix of them."""
    window.resize(1280, 800)
    window.mixing.open_paths([folder])
    return window


def row(window, name: str):
    one = next(one for _, one in tree.holders(window.document.session.sound) if places.name_of(one) == name)
    return window.mixing.view.rows[tree.number_of(one)]


def holder(window, name: str):
    return tree.holder(window.document.session.sound, row(window, name).number)


def click(widget, place: QPoint | None = None, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, place or widget.rect().center())


def test_a_folder_is_a_session_of_stems_and_one_file_a_session_as_ever(window, folder, qtbot):
    sound = window.document.session.sound
    assert [stem.name for stem in sound.stems] == list(NAMES)
    assert window.showing.view == "mix" and window.mixing.view.isVisible()
    assert not window.kite.isVisible() and window.timeline.isVisible()
    assert places.timeline(sound) == (RATE, round(2.4 * RATE))
    assert len(window.mixing.view.rows) == 6 and window.switching.in_the_mix
    window.mixing.open_paths(
        [folder / "notes.txt"]
    )  # beside what is there, since the mix is shown: it is no recording
    assert len(window.document.session.sound.stems) == 5
    window.document.discard()
    window.show_view("stage")
    window.mixing.open_paths([folder / "tuba.wav"])
    assert len(window.document.session.sound.stems) == 1 and window.showing.view == "source"
    assert not window.mixing.bar.isVisible() and window.kite.isVisible()
    assert window.document.stem is window.document.session.sound.stems[0]


def test_the_parallel_bus_in_four_actions_fed_by_all_but_tuba_and_drums(window, qtbot):
    view = window.mixing.view
    click(view.buttons["parallel"])  # 1
    (dialog,) = window.findChildren(ParallelDialog)
    assert list(dialog.begins._words) == list(BEGINNINGS)
    for name in ("tuba", "frame drums"):  # 2, 3
        box = dialog.boxes[row(window, name).number]
        QTest.mouseClick(
            box, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(8, box.height() // 2)
        )
    dialog.accept()  # 4
    sound = window.document.session.sound
    (bus,) = sound.buses
    fed = {stem.name for stem in sound.stems if any(send.to == bus.id for send in stem.sends)}
    assert fed == {"accordion", "dulcimer", "voices"} and bus.fader.level_db == -24.0
    (stage,) = bus.strip.stages
    assert bus.strip.split.mode == "left-right" and stage.shared.coupling == 0.0 and stage.linked
    assert stage.upper == stage.lower
    window.document.undo()
    assert not window.document.session.sound.buses
    window.document.redo()
    # A loud hit on the left changes the right of it by not one bit.
    made = places.as_stem(window.document.session.sound, bus.id)
    hit = noise(0.5, level=0.02)
    louder = hit.copy()
    louder[0, 5000:5200] = 0.9
    quiet, loud = (Chain(made.strip, RATE).process(one, 0) for one in (hit, louder))
    assert np.array_equal(quiet[1], loud[1]) and not np.array_equal(quiet[0], loud[0])


def test_rows_are_moved_muted_placed_sent_named_and_taken_back(window, qtbot):
    view = window.mixing.view
    click(view.buttons["bus"])
    (bus,) = window.document.session.sound.buses
    drums = row(window, "frame drums")
    drag(qtbot, drums.fields["level_db"], QPointF(120, 12), QPointF(90, 12))
    assert holder(window, "frame drums").fader.level_db < -2.0
    drums.fields["place"].setFocus()
    QTest.keyClick(drums.fields["place"], Qt.Key.Key_Right)
    assert holder(window, "frame drums").fader.place == 1.0
    click(drums.toggles["muted"])
    assert holder(window, "frame drums").fader.muted
    cell = drums.sends[bus.id]
    click(cell)
    assert holder(window, "frame drums").sends[0].level_db == 0.0
    drag(qtbot, cell, QPointF(40, 12), QPointF(20, 12))
    assert -30.0 < holder(window, "frame drums").sends[0].level_db < -1.0
    cell.way_asked.emit(True)
    assert holder(window, "frame drums").sends[0].before
    cell.setFocus()
    QTest.keyClick(cell, Qt.Key.Key_Delete)
    assert not holder(window, "frame drums").sends
    window.document.undo()
    assert holder(window, "frame drums").sends[0].before
    # All but the chosen rows.
    click(row(window, "tuba").name, QPoint(60, 8))
    click(row(window, "frame drums").name, QPoint(60, 8), Qt.KeyboardModifier.ControlModifier)
    menu = view._many_menu(bus.id)
    next(action for action in menu.actions() if "all but" in action.text()).trigger()
    fed = {stem.name for stem in window.document.session.sound.stems if stem.sends}
    assert fed == {"accordion", "dulcimer", "voices"}
    # Into the bus, by its menu; the bus cannot go into itself.
    window.mixing.actions.put_into(row(window, "tuba").number, bus.id)
    assert "Bus" in row(window, "tuba").into.text()
    assert row(window, "Bus").sends[bus.id].words == "–"
    # Names, order, removal.
    name = row(window, "tuba").name
    name.setFocus()
    QTest.keyClick(name, Qt.Key.Key_F2)
    QTest.keyClicks(name._edit, "Brass")
    QTest.keyClick(name._edit, Qt.Key.Key_Return)
    assert holder(window, "Brass").source.path.endswith("tuba.wav")
    QTest.keyClick(row(window, "Brass").name, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert [stem.name for stem in window.document.session.sound.stems][2] == "Brass"
    first = row(window, "accordion").name
    drag(
        qtbot,
        first,
        QPointF(60, 10),
        QPointF(60, 10 + 3 * view.rows[row(window, "accordion").number].height()),
    )
    assert window.document.session.sound.stems[0].name != "accordion"
    window.mixing.actions.remove(bus.id)
    assert not window.document.session.sound.buses and holder(window, "Brass").into == MIX
    assert all(not stem.sends for stem in window.document.session.sound.stems)


def test_one_strip_after_the_other_is_open_and_edited_by_itself(window, qtbot):
    click(row(window, "dulcimer").kite)
    assert window.showing.view == "stage" and window.kite.isVisible() and window.mixing.bar.isVisible()
    assert window.document.strip is holder(window, "dulcimer").strip
    window.stages.add("eq")
    QTest.keyClick(window, Qt.Key.Key_PageDown, Qt.KeyboardModifier.ControlModifier)
    assert window.document.stem.name == "frame drums" and not window.document.strip.stages
    window.stages.add("gain")
    kinds = {
        stem.name: [type(s).__name__ for s in stem.strip.stages]
        for stem in window.document.session.sound.stems
    }
    assert kinds["dulcimer"] == ["Eq"] and kinds["frame drums"] == ["Gain"] and not kinds["tuba"]
    numbers = [number for _, number in tree.numbers(window.document.session.sound)]
    assert len(set(numbers)) == len(numbers)
    window.document.undo()
    assert not holder_strip(window, "frame drums").stages and holder_strip(window, "dulcimer").stages
    window.document.go_to(MIX)
    assert window.document.stem.name == "Mix" and not window.mixing.bar.way.isEnabled()
    window.stages.add("limiter")
    assert window.document.session.sound.mix.strip.stages
    # What is open is removed: another one is open, and nothing raises.
    window.document.go_to(window.document.session.sound.stems[1].id)
    window.mixing.actions.remove(window.document.place)
    assert window.document.place == window.document.session.sound.stems[0].id


def holder_strip(window, name: str):
    return next(stem.strip for stem in window.document.session.sound.stems if stem.name == name)


def test_time_on_the_timeline_without_touching_files(window, qtbot):
    actions, number = window.mixing.actions, row(window, "voices").number
    actions.put_time(number, start_s=1.0)
    assert places.timeline(window.document.session.sound)[1] == round(3.4 * RATE)
    actions.split(number, 2.0)
    parts = [stem for stem in window.document.session.sound.stems if stem.name == "voices"]
    assert [(p.start_s, p.from_s, p.length_s) for p in parts] == [
        (1.0, 0.0, 1.0),
        (2.0, 1.0, pytest.approx(1.4)),
    ]
    actions.repeat(parts[1].id)
    again = [stem for stem in window.document.session.sound.stems if stem.name == "voices"][2]
    assert again.start_s == pytest.approx(3.4) and again.from_s == 1.0
    told: list[str] = []
    actions.said.connect(told.append)
    actions.split(parts[0].id, 5.0)
    assert told and "is not heard there" in told[0]
    for _ in range(3):
        window.document.undo()
    assert len(window.document.session.sound.stems) == 5


@pytest.mark.processes
def test_what_is_heard_of_a_mix_is_what_is_saved_opened_and_exported(window, qtbot, tmp_path):
    window.mixing.actions.add_parallel(
        [row(window, "voices").number, row(window, "dulcimer").number], "drive"
    )
    number = window.document.session.sound.buses[0].id
    window.mixing.actions.put_fader(number, "level_db", -6.0)
    window.mixing.actions.put_fader(row(window, "tuba").number, "place", -40.0)
    window.document.go_to(MIX)
    path = tmp_path / "mix.kite"
    window.document.save(path)
    assert storage.load(path).sound == window.document.session.sound
    *_, done = export(storage.load(path), tmp_path / "mix.wav", bits="32f", tail=0.0)
    written = soundfile.read(tmp_path / "mix.wav")[0].T
    assert done.overs == 0 and written.shape[1] == round(2.4 * RATE)
    recorded = tmp_path / "heard.wav"
    transport = window.transport
    window.start()
    qtbot.waitUntil(lambda: bool(transport.status["beat"]), timeout=30_000)
    transport.disturb("record", path=str(recorded))
    transport.play()
    qtbot.waitUntil(lambda: transport.position_s > 1.5, timeout=30_000)
    assert transport.status["strips"][:5, 2:].max() > 0.0 or not window.mixing.view.isVisible()
    transport.pause()
    qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
    transport.disturb("record")
    qtbot.waitUntil(lambda: recorded.exists() and soundfile.info(recorded).frames > RATE, timeout=5000)
    heard = soundfile.read(recorded)[0].T
    begin = int(np.flatnonzero(np.abs(heard).max(axis=0) > 0.0)[0])
    first = int(np.flatnonzero(np.abs(written).max(axis=0) > 0.0)[0])
    count = RATE
    assert np.abs(heard[:, begin : begin + count] - written[:, first : first + count]).max() < 1e-6


@pytest.mark.processes
def test_a_stem_that_comes_is_moved_or_goes_interrupts_nothing(window, qtbot, tmp_path):
    """While it plays: what is heard in the end is what an export has there, and it was silent nowhere."""
    long = write_wav(tmp_path / "long.wav", noise(30.0, seed=9, level=0.05))
    window.mixing.open_paths([long])
    transport, actions = window.transport, window.mixing.actions
    window.document.go_to(MIX)
    window.start()
    qtbot.waitUntil(lambda: bool(transport.status["beat"]), timeout=30_000)
    recorded = tmp_path / "heard.wav"
    transport.disturb("record", path=str(recorded))
    transport.play()
    qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.3, timeout=30_000)

    def go_on():
        place = transport.position_s
        qtbot.waitUntil(lambda: transport.position_s > place + 1.5, timeout=30_000)

    window.mixing.open_paths([write_wav(tmp_path / "bell.wav", noise(9.0, seed=10, level=0.05))])
    go_on()
    actions.put_time(row(window, "bell").number, start_s=0.5, from_s=0.2, length_s=8.0)
    go_on()
    actions.repeat(row(window, "bell").number)
    go_on()
    transport.pause()
    qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
    transport.disturb("record")
    qtbot.waitUntil(lambda: recorded.exists() and soundfile.info(recorded).frames > 4 * RATE, timeout=5000)
    list(export(window.document.session, tmp_path / "mix.wav", bits="64f", tail=0.0))
    heard, written = soundfile.read(recorded)[0].T, soundfile.read(tmp_path / "mix.wav")[0].T
    if not int(transport.status["underruns"]):  # otherwise other work took both cores
        there = np.flatnonzero(np.abs(heard).max(axis=0) > 0.0)
        heard = heard[:, there[0] : there[-1]]
        assert np.diff(there).max() < 20
        place = heard.shape[1] - RATE  # the last second, but for what fades out
        assert np.abs(heard[:, place : place + 40_000] - written[:, place : place + 40_000]).max() < 1e-9


def test_what_is_open_is_compared_in_the_mix_or_by_itself(window, qtbot):
    number = row(window, "voices").number
    window.document.go_to(number)
    window.stages.add("gain")
    stage = window.document.strip.stages[0]
    side = msgspec.structs.replace(stage.upper, gain_db=-12.0)
    window.document.put_stage(msgspec.structs.replace(stage, upper=side, lower=side), "softer")
    sound, transport = window.document.session.sound, window.transport
    assert transport._places == (MIX, number) and transport.sound is sound
    window.listen.choose("unprocessed")
    assert tree.strip_in(transport.sound, number).stages == () and transport.listening.what == "processed"
    window.listen.choose("difference")
    assert transport._places == (number, number) and transport.listening.what == "difference"
    window.listen.choose("processed")
    window.mixing.bar.way._choose(False)
    assert transport._places == (number, number) and not window.switching.beside_others
    window.mixing.hear_in_the_mix(True)
    comparing, keys = window.switching.comparing, ("processed", "unprocessed")
    qtbot.waitUntil(lambda: all(comparing.measures(key) is not None for key in keys), timeout=30_000)
    loud = {key: comparing.measures(key).integrated_lufs for key in keys}
    assert 0.05 < loud["unprocessed"] - loud["processed"] < 3.0  # one of five, 12 dB softer
    assert wires.can_go(sound, number, MIX) and Path(sound.stems[0].source.path).exists()


def test_the_mix_without_a_bus_is_as_loud_as_with_it(window, qtbot):
    number = window.mixing.actions.add_parallel(
        [stem.id for stem in window.document.session.sound.stems], "empty"
    )
    window.mixing.actions.put_fader(number, "level_db", 0.0)
    click(window.mixing.view.rows[number].without)
    sound = tree.holder(window.transport.sound, number)
    assert sound.fader.muted and not tree.holder(window.document.session.sound, number).fader.muted
    qtbot.waitUntil(lambda: window.switching.left_out_db is not None, timeout=30_000)
    # All of it comes twice with the bus, and once without.
    assert window.switching.left_out_db == pytest.approx(6.02, abs=0.05)
    qtbot.waitUntil(
        lambda: window.transport.listening.processed_db == pytest.approx(6.02, abs=0.05), timeout=5000
    )
    assert "turned by +6.02 dB" in window.transport_row.hint.text()
    click(window.mixing.view.rows[number].without)
    assert (
        window.transport.sound is window.document.session.sound
        and window.transport.listening.processed_db <= 0.0
    )


def test_rows_fold_into_their_bus(window, qtbot):
    window.document.open(reel_session())
    view, sound = window.mixing.view, window.document.session.sound
    window.show_view("mix")
    tune = next(bus for bus in sound.buses if any(stem.into == bus.id for stem in sound.stems))
    inside = [stem.id for stem in sound.stems if stem.into == tune.id]
    entries = {action.text(): action for action in view.menu_of(tune.id).actions()}
    entries[f"Fold what goes into it: {len(inside)}"].trigger()
    shown = {number for number, row in view.rows.items() if row.isVisible()}
    assert shown == set(view.rows) - set(inside)
    assert f"{len(inside)} folded" in view.rows[tune.id].name.accessibleDescription()
    assert not any("Fold" in action.text() for action in view.menu_of(inside[0]).actions())
    window.document.edit(mix_edits.put_into(window.document.session, inside[0], 0), "out of it")
    assert view.rows[inside[0]].isVisible() and not view.rows[inside[1]].isVisible()
    entries = {action.text(): action for action in view.menu_of(tune.id).actions()}
    entries[f"Unfold what goes into it: {len(inside) - 1}"].trigger()
    assert all(row.isVisible() for row in view.rows.values())


def test_a_stem_is_moved_and_trimmed_by_typing_its_times(window, qtbot):
    window.document.open(reel_session())
    window.show_view("mix")
    document = window.document
    stem = document.session.sound.stems[1]
    entries = {action.text(): action for action in window.mixing.view.menu_of(stem.id).actions()}
    assert "On the timeline…" in entries
    dialog = window.mixing.ask_time(stem.id)

    def typed_in(name: str, text: str) -> None:
        field = dialog.fields[name]
        field.type_value()
        field._edit.setText(text)
        field._typed()

    for name, text in (("start_s", "4"), ("from_s", "1.5"), ("length_s", "3")):
        typed_in(name, text)
    now = document.session.sound.stems[1]
    assert (now.start_s, now.from_s, now.length_s) == (4.0, 1.5, 3.0)
    assert "0:04.00 to 0:07.00" in dialog.words.text()
    typed_in(
        "length_s", f"{stem.source.frames / stem.source.rate - 0.0005:.3f}"
    )  # to the end of the recording
    assert document.session.sound.stems[1].length_s is None
    typed_in("from_s", f"{stem.source.frames / stem.source.rate - 0.0005:.3f}")
    assert document.session.sound.stems[1].from_s < stem.source.frames / stem.source.rate
    dialog.reject()
    back = document.session.sound.stems[1]
    assert (back.start_s, back.from_s, back.length_s) == (stem.start_s, stem.from_s, stem.length_s)
    assert back.strip == stem.strip


def test_a_stem_gets_another_hue_from_its_menu(window, qtbot):
    number = row(window, "tuba").number
    before = row(window, "tuba").name.grab().toImage()
    hues = next(a.menu() for a in window.mixing.view.menu_of(number).actions() if a.text() == "Hue")
    hues.actions()[9].trigger()
    assert tree.holder(window.document.session.sound, number).hue == 9
    assert row(window, "tuba").name.grab().toImage() != before
    window.document.undo()
    assert row(window, "tuba").name.grab().toImage() == before
