"""Rides as they are edited: shown, moved with their control, copied, recorded, in the model and by the mouse."""

import time

import msgspec
import numpy as np
import pytest
from conftest import noise, session_on, write_wav
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from test_two_files import music

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.ride_actions import RideActions
from stonekite.desktop.pictures.ride_line import lines_of
from stonekite.engine.offline.render import open_source, rendered
from stonekite.session import edits, ride_edits, ride_lines, storage
from stonekite.session.ride_edits import Address
from stonekite.session.types import Strip, Tempo
from stonekite.stages import planning, riding
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.echo.settings import Tap
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.gain import Gain
from stonekite.stages.registry import KINDS, kind_of
from stonekite.stages.riding import Point, Ride

LEVEL = Address("leg", 0, "level_db")
THRESHOLD = Address("stage", 3, "upper.threshold_db")
HERTZ = Address("stage", 2, "upper.bands.0.frequency_hz")


@pytest.fixture
def strip():
    band = Band(frequency_hz=1000.0, gain_db=3.0)
    return Strip(
        stages=(
            Eq(id=2, upper=EqSide(bands=(band,)), lower=EqSide(bands=(band,))),
            Compressor(
                id=3,
                linked=True,
                upper=CompressorSide(threshold_db=-20.0),
                lower=CompressorSide(threshold_db=-26.0),
            ),
        )
    )


def line(address, *points, way="straight"):
    return Ride(path=address.path, points=tuple(Point(at_s=at, value=value, way=way) for at, value in points))


def at(strip, address, *times):
    setting = ride_edits.setting_of(strip, address)
    return riding.along(ride_edits.ride_of(strip, address), setting, np.array(times, dtype=float))


def test_a_ridden_control_is_shown_where_it_is_and_moves_its_line(strip):
    strip = ride_edits.put_ride(strip, LEVEL, line(LEVEL, (1, -12), (3, 0)))
    assert ride_edits.shown(strip.upper, 2.0).level_db == pytest.approx(-6.0)
    shown = ride_edits.shown(strip.upper, 2.0)
    edited = msgspec.structs.replace(strip, upper=msgspec.structs.replace(shown, level_db=-9.0))
    moved = ride_edits.carried(strip, edited, 2.0)
    assert at(moved, LEVEL, 1, 2, 3) == pytest.approx([-15, -9, -3])
    # Something else of the leg leaves the line alone.
    muted = msgspec.structs.replace(strip, upper=msgspec.structs.replace(shown, muted=True))
    assert ride_edits.carried(strip, muted, 2.0).upper.rides == strip.upper.rides
    # Frequencies go by the ratio.
    strip = ride_edits.put_ride(strip, HERTZ, line(HERTZ, (0, 500), (4, 2000)))
    stage = ride_edits.shown(strip.stages[0], 2.0)
    assert stage.upper.bands[0].frequency_hz == pytest.approx(1000.0)
    stage = edits.put(stage, ("upper", "bands", 0, "frequency_hz"), 1500.0)
    moved = ride_edits.carried(strip, msgspec.structs.replace(strip, stages=(stage, strip.stages[1])), 2.0)
    assert at(moved, HERTZ, 0, 4) == pytest.approx([750, 3000])


def test_an_edit_of_what_rides_sets_a_point_where_that_is_chosen(window, tmp_path):
    """Of a number, of a linked one on both sides, and of a switch; the rest of the line stays, and the choice is kept."""
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(4.0, 6)))
    document, panel = window.document, window.riding
    panel.ride(LEVEL)
    for at_s, value in ((0.0, 0.0), (4.0, -12.0)):
        panel.rides.add(at_s, value)
    panel.meaning.click()
    panel.tick(2.0)
    gesture = object()
    for value in (-5.0, -2.0):  # one gesture, one point
        document.put(("upper", "level_db"), value, "Level", gesture)
    strip = document.strip
    assert [(p.at_s, p.value) for p in ride_edits.ride_of(strip, LEVEL).points] == [
        (0, 0),
        (2, -2.0),
        (4, -12),
    ]
    assert strip.upper.level_db == 0.0 and at(strip, LEVEL, 1.0)[0] == pytest.approx(-1.0)
    document.undo()
    assert len(ride_edits.ride_of(document.strip, LEVEL).points) == 2
    assert preferences.load().edit_of_ridden == "point"
    mute = Address("leg", 0, "muted")
    panel.ride(mute)
    panel.rides.add(0.0, 0.0)
    document.put(("upper", "muted"), True, "Mute")
    assert [(p.at_s, p.value) for p in ride_edits.ride_of(document.strip, mute).points][-1] == (2.0, 1.0)
    panel.meaning.click()
    document.put(("upper", "level_db"), -8.0, "Level")
    assert [p.value for p in ride_edits.ride_of(document.strip, LEVEL).points] == [-2.0, -14.0]


def test_linked_sides_ride_together_and_keep_their_offset(strip):
    strip = ride_edits.put_ride(strip, THRESHOLD, line(THRESHOLD, (0, -20), (2, -40)))
    other = Address("stage", 3, "lower.threshold_db")
    assert at(strip, other, 0, 2) == pytest.approx([-26, -46])
    strip = ride_edits.put_ride(strip, THRESHOLD, line(THRESHOLD, (0, -10), (1, -30)))
    assert at(strip, other, 0, 1) == pytest.approx([-16, -36])
    strip = ride_edits.put_ride(strip, THRESHOLD, None)
    assert ride_edits.ride_of(strip, other) is None


def test_every_setting_that_can_ride_is_touched_ridden_and_moved():
    """Over all kinds: what an edit of a number touches can be ridden, shown, and moved by its control."""
    count = 0
    for tag, kind in KINDS.items():
        if tag == "unknown":
            continue
        stage = kind.stage(id=2)
        strip = Strip(stages=(stage,))
        for path, holder, setting in riding.settings_in(stage):
            address = Address("stage", 2, path)
            if ride_edits.why_not(strip, address):
                continue
            low, high = setting.from_travel(0.3), setting.from_travel(0.6)
            now = getattr(holder, path.rpartition(".")[2])
            other = high if now != high else low
            changed = edits.put(strip, ("stages", 0), riding.put(stage, path, other))
            assert ride_edits.touched(strip, changed) == address, path
            ridden = edits.put(
                strip,
                ("stages", 0),
                msgspec.structs.replace(stage, rides=(line(address, (0, low), (2, high)),)),
            )
            shown = ride_edits.shown(ridden.stages[0], 1.0)
            value = getattr(riding.found(shown, path)[0], path.rpartition(".")[2])
            assert min(low, high) - 1e-9 <= value <= max(low, high) + 1e-9
            target = setting.from_travel(setting.to_travel(value) + 0.0501)
            moved = ride_edits.carried(
                ridden, edits.put(ridden, ("stages", 0), riding.put(shown, path, target)), 1.0
            )
            assert at(moved, address, 1.0)[0] == pytest.approx(target, rel=1e-9, abs=1e-9), path
            count += 1
    assert count > 60


def test_points_and_ranges_leave_the_rest_of_the_line(strip):
    setting = ride_edits.setting_of(strip, LEVEL)
    ride = line(LEVEL, (0, -20), (2, -10), (4, -30), (8, 0))
    times = np.linspace(0, 9, 200)
    whole = riding.along(ride, setting, times)
    cut = ride_lines.cut_in(ride, setting, 3.3)
    assert len(cut.points) == 5 and riding.along(cut, setting, times) == pytest.approx(whole)
    for change in (
        ride_lines.scaled(setting, 1.2),
        ride_lines.shifted(setting, 0.05),
        ride_lines.reversed_in_time,
        ride_lines.cleared,
        ride_lines.thinned(setting, 0.5),
    ):
        made = ride_lines.within(ride, setting, (2.5, 6.0), change)
        outside = (times < 2.4) | (times > 8.0)
        assert riding.along(made, setting, times)[outside] == pytest.approx(whole[outside])
        assert list(made.points) == sorted(made.points, key=lambda one: one.at_s)
    back = ride_lines.within(ride, setting, (0.0, 8.0), ride_lines.reversed_in_time)
    assert riding.along(back, setting, 8.0 - times[times <= 8]) == pytest.approx(whole[times <= 8])
    assert ride_lines.without_point(line(LEVEL, (0, 1)), 0) is None
    moved = ride_lines.moved_point(ride, 1, 99.0, -5.0)
    assert moved.points[1].at_s < moved.points[2].at_s and moved.points[1].value == -5.0


def test_a_copied_part_fits_another_range_and_another_setting(strip):
    setting, hertz = ride_edits.setting_of(strip, LEVEL), ride_edits.setting_of(strip, HERTZ)
    ride = line(LEVEL, (0, -30), (2, 0), (3, -12))
    part = ride_lines.copied(ride, setting, (1.0, 3.0))
    twice = ride_lines.pasted(ride, setting, LEVEL.path, 0.0, part, (10.0, 14.0), stretch=2.0)
    for share in np.linspace(0.01, 0.99, 9):
        assert riding.along(twice, setting, np.array([10 + 4 * share])) == pytest.approx(
            riding.along(ride, setting, np.array([1 + 2 * share])), abs=1e-6
        )
    assert riding.along(twice, setting, np.array([9.9])) == pytest.approx([-12.0])
    assert riding.along(twice, setting, np.array([14.1])) == pytest.approx([-12.0])
    there = ride_lines.pasted(None, hertz, HERTZ.path, 1000.0, part, (5.0, 7.0))
    for point in there.points[1:]:
        assert hertz.low <= point.value <= hertz.high
    assert riding.along(there, hertz, np.array([4.9]))[0] == pytest.approx(1000.0)
    assert hertz.to_travel(riding.along(there, hertz, np.array([6.0]))[0]) == pytest.approx(
        setting.to_travel(0.0)
    )


@pytest.mark.parametrize("take", ["held", "on"])
def test_what_was_recorded_is_thinned_by_less_than_a_tenth_of_a_step(strip, take):
    rng = np.random.default_rng(1)
    for address in (LEVEL, HERTZ, THRESHOLD):
        setting = ride_edits.setting_of(strip, address)
        bent = np.log2 if setting.taper == "log" else np.array
        ride = line(address, (0, setting.from_travel(0.5)), (60, setting.from_travel(0.6)))
        travels = np.clip(0.6 + np.cumsum(rng.normal(0, 0.004, 300)), 0.3, 0.95)
        taken = [(10 + 0.033 * k, setting.from_travel(float(travel))) for k, travel in enumerate(travels)]
        made = ride_lines.recorded(ride, setting, address.path, 0.0, taken, take, 0.5)
        times = np.array([at for at, _ in taken])
        off = np.abs(bent(riding.along(made, setting, times)) - bent([value for _, value in taken]))
        assert off.max() <= 0.1 * setting.step + 1e-9
        assert len(made.points) < 300
        before, after = np.array([5.0, 9.9]), np.array([times[-1] + 0.6, 50.0])
        assert riding.along(made, setting, before) == pytest.approx(riding.along(ride, setting, before))
        if take == "held":
            assert riding.along(made, setting, after) == pytest.approx(riding.along(ride, setting, after))
        else:
            assert riding.along(made, setting, after) == pytest.approx([taken[-1][1]] * 2)


def test_recording_takes_down_what_is_moved_while_it_plays(qapp, tmp_path):
    document = Document()
    document.open(session_on(write_wav(tmp_path / "a.wav", music(2.0, 1))))
    rides = RideActions(document)
    place = [None]
    rides.heard = lambda: place[0]
    rides.mode = "held"
    document.put(("upper", "level_db"), -3.0, "Level")  # nothing plays: an edit as ever
    assert not document.strip.upper.rides and document.strip.upper.level_db == -3.0
    token = object()
    for k in range(1, 21):
        place[0] = 0.5 + 0.05 * k
        document.shown_s = place[0]
        document.put(("upper", "level_db"), -3.0 - 0.5 * k, "Level", token)
        # What is moved is heard at once: from here on the line stands there.
        assert at(document.strip, LEVEL, 30.0)[0] == pytest.approx(-3.0 - 0.5 * k)
    for _ in range(10):  # held still
        place[0] += 0.05
        rides.tick(pressed=True)
    rides.tick(pressed=False)
    time.sleep(0.45)
    rides.tick(pressed=False)
    assert at(document.strip, LEVEL, 0.4, 1.0, 1.5, 1.9) == pytest.approx(
        [-3.0, -8.0, -13.0, -13.0], abs=0.06
    )
    assert at(document.strip, LEVEL, 2.6)[0] == pytest.approx(-3.0)
    document.undo()
    assert not document.strip.upper.rides and document.strip.upper.level_db == -3.0
    document.redo()
    storage.save(document.session, tmp_path / "s.kite")
    assert storage.load(tmp_path / "s.kite").sound == document.session.sound
    rides.mode = "off"
    document.put(("lower", "level_db"), -1.0, "Level")
    assert not document.strip.lower.rides


def test_lines_are_drawn_dragged_bent_and_undone_by_the_mouse(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(8.0, 6)))
    window.stages.add("gain")
    stage = window.stages.stage.id
    field = window.panel.editors["gain"].rows["upper"].controls["gain_db"]
    field.ride_asked.emit()
    panel, lane = window.riding, window.riding.lane
    assert panel.isVisible() and window.document.strip.stages[0].rides[0].path == "upper.gain_db"
    address = Address("stage", stage, "upper.gain_db")
    for x, y in ((0.25, 0.2), (0.5, 0.7), (0.75, 0.4)):
        QTest.mouseClick(
            lane, Qt.MouseButton.LeftButton, pos=QPoint(int(x * lane.width()), int(y * lane.height()))
        )
    ride = ride_edits.ride_of(window.document.strip, address)
    assert len(ride.points) == 4
    assert [point.at_s for point in ride.points[1:]] == pytest.approx([2, 4, 6], abs=0.05)
    # Drag the second one up, in one step.
    where = lane.point_of(2).toPoint()
    QTest.mousePress(lane, Qt.MouseButton.LeftButton, pos=where)
    for k in range(1, 9):
        QTest.mouseMove(lane, where - QPoint(0, 3 * k))
    QTest.mouseRelease(lane, Qt.MouseButton.LeftButton, pos=where - QPoint(0, 24))
    up = ride_edits.ride_of(window.document.strip, address)
    assert up.points[2].value > ride.points[2].value + 5
    window.document.undo()
    assert ride_edits.ride_of(window.document.strip, address) == ride
    panel.rides.bend("held")
    assert {point.way for point in ride_edits.ride_of(window.document.strip, address).points} <= {
        "held",
        "straight",
    }
    # The control follows, says that it rides, and moves the line.
    panel.tick(4.0)
    value = riding.along(ride_edits.ride_of(window.document.strip, address), field.setting, np.array([4.0]))[
        0
    ]
    assert field.value == pytest.approx(value) and "rides" in field.accessibleDescription()
    before = ride_edits.ride_of(window.document.strip, address).points[1].value
    field.setFocus()
    QTest.keyClick(field, Qt.Key.Key_Up)
    assert ride_edits.ride_of(window.document.strip, address).points[1].value == pytest.approx(
        before + 0.5, abs=0.51
    )
    assert ride_edits.ride_of(window.document.strip, address).points[1].value > before
    # A right click takes a point away; with the last one the ride.
    for _ in range(4):
        QTest.mouseClick(lane, Qt.MouseButton.RightButton, pos=lane.point_of(0).toPoint() + QPoint(1, 0))
    assert not window.document.strip.stages[0].rides


def test_switches_and_ends_ride_by_the_mouse_and_are_heard(window, qtbot, tmp_path):
    """A leg is muted from the middle on, the result's width opens: asked for at the controls, drawn, exported."""
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(8.0, 6)))
    rides, lane = window.riding.rides, window.riding.lane
    mute = window.leg_rows["upper"].toggles["muted"]
    mute.ride_asked.emit()
    assert rides.chosen == Address("leg", 0, "muted") and mute.accessibleDescription() == "rides"
    rides.add(4.0, 1.0)
    where = lane.point_of(1).toPoint()
    QTest.mousePress(lane, Qt.MouseButton.LeftButton, pos=where)
    for k in range(1, 9):
        QTest.mouseMove(lane, where + QPoint(0, k))
    QTest.mouseRelease(lane, Qt.MouseButton.LeftButton, pos=where + QPoint(0, 8))
    assert {p.value for p in window.document.strip.upper.rides[0].points} <= {0.0, 1.0}
    window.riding.tick(6.0)
    window.showing.follow_rides()
    assert mute.isChecked() and window.document.strip.upper.muted is False
    mute.click()  # turned from its point on
    assert [p.value for p in window.document.strip.upper.rides[0].points] == [0.0, 0.0]
    assert not mute.isChecked()
    window.document.undo()
    assert mute.isChecked()

    window.show_view("output")
    window.riding.tick(0.0)
    width = window.output_view.controls[("width",)]
    width.ride_asked.emit()
    assert rides.chosen == Address("output", 0, "width")
    rides.add(8.0, 0.0)
    window.riding.tick(4.0)
    window.showing.follow_rides()
    assert width.value == pytest.approx(50.0) and "rides" in width.accessibleDescription()
    window.show_view("source")
    trim = window.source_view.sides["left", "trim_db"]
    trim.ride_asked.emit()
    assert rides.chosen == Address("intake", 0, "left.trim_db")
    limit = window.output_view.controls[("limited",)]
    assert not limit.rides  # it would make the result later

    document = window.document
    with open_source(document.stem.source) as reader:
        made = np.concatenate([out for _, out in rendered(reader, document.strip)], axis=1)
        rate = reader.facts.rate
    mid = made.sum(axis=0)
    assert np.abs(mid[: int(3.9 * rate)]).max() > 0.01
    assert np.abs(mid[int(4.1 * rate) :]).max() < 1e-9


@pytest.mark.parametrize("tag", [tag for tag in KINDS if tag != "unknown"])
def test_every_setting_that_can_ride_is_asked_for_at_its_control(window, tmp_path, tag):
    """By a right click there: its line is open, and its control says that it rides."""
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(4.0, 6)))
    window.show_view("kite")
    window.stages.add(tag)
    document, rides = window.document, window.riding.rides
    stage = document.strip.stages[0]
    number = stage.id
    if (bands := kind_of(stage).offers.bands) is not None:
        stage = edits.put(stage, ("upper", "bands"), (bands.band(), bands.band()))
    if tag == "echo":
        stage = edits.put(stage, ("shared", "taps"), (Tap(time_ms=300.0), Tap(time_ms=500.0)))
    if tag == "bands":
        stage = edits.put(stage, ("upper", "count"), 4)
    document.put_stage(stage, "as drawn")
    wanted = {path for path in planning.ridable(stage) if not path.startswith("lower.")}
    asked = set()
    window.panel.ride_asked.connect(lambda _, path: asked.add(path))
    editor = window.panel.editors[tag]
    controls = [*editor.findChildren(ValueField), *editor.findChildren(Toggle)]
    controls += [window.panel.level_kept, window.panel.inserted]
    slots = range(2) if bands is not None or tag == "echo" else [0]
    for slot in slots:
        if bands is not None:
            editor.choose(slot)
        elif tag == "echo":
            editor.taps.choose(slot)
        for control in controls:
            if getattr(control, "rides", True):
                control.ride_asked.emit()
                if ridden := [ride.path for ride in document.strip.stages[0].rides]:
                    assert ridden == [rides.chosen.path], "one at a time"
                    assert "rides" in control.accessibleDescription(), ridden
                    rides.stop()
    assert {path for path in asked if not path.startswith("lower.")} >= wanted - {"change_only"}
    assert document.stage(number) is not None


def test_gain_still_rides_in_the_engine_as_drawn(tmp_path):
    """What is drawn is what is written: a line of the model rendered."""

    session = session_on(
        write_wav(tmp_path / "dc.wav", np.full((2, 48000), 0.25)), Strip(stages=(Gain(id=2),))
    )
    address = Address("stage", 2, "upper.gain_db")
    stem = session.sound.stems[0]
    strip = ride_edits.put_ride(stem.strip, address, line(address, (0.2, 0.0), (0.6, -12.0)))
    with open_source(stem.source) as reader:
        sound = np.concatenate([made for _, made in rendered(reader, strip)], axis=1)
    level = 20 * np.log10(np.abs(sound[0] / 0.25))
    assert level[int(0.1 * 48000)] == pytest.approx(0.0, abs=0.01)
    assert level[int(0.4 * 48000)] == pytest.approx(-6.0, abs=0.02)
    assert level[int(0.9 * 48000)] == pytest.approx(-12.0, abs=0.01)


def test_the_line_of_a_version_is_dashed_and_compare_draws_both(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(8.0, 6)))
    window.stages.add("gain")
    window.riding.ride(address := Address("stage", window.stages.stage.id, "lower.gain_db"))
    lane, rides = window.riding.lane, window.riding.rides
    rides.add(0.0, -9.0)
    window.switching.keep("")
    rides.move(0, 0.0, 12.0, "up")
    line = lines_of(window.document.session.versions[0].sound.stems[0].strip, window.document.strip)[0]
    assert [float(one.values(np.array([3.0]))[0]) for one in line] == [-9.0, 12.0]

    def inked(value: float) -> np.ndarray:
        """Where along the height of a value there is something drawn."""
        picture, y = lane.grab().toImage(), round(lane.y_of(value))
        ground = picture.pixelColor(30, y + 5)
        return np.array([picture.pixelColor(x, y) != ground for x in range(100, lane.width() - 100)])

    qtbot.waitUntil(lambda: inked(12.0).all())
    assert not inked(-9.0).any()
    for heard in (1, None):  # it stays beside the state now, which is heard again
        window.listen.choose_version(heard)
        qtbot.waitUntil(lambda: 0.4 < inked(-9.0).mean() < 0.9)
    window.show_view("compare")
    view = window.compare_view
    view._choose(before="version 1", after="processed")
    qtbot.waitUntil(lambda: view.over_time.known(), timeout=90_000)
    view.time.point(3.0)
    name = ride_edits.called(window.document.strip, address)
    assert f"{name} {line[0].setting.shown(-9.0)} → {line[0].setting.shown(12.0)}" in view.over_time.spoken()
    view.over_time.grab()
    view._choose(before="unprocessed")
    assert (
        view.over_time.pair.rides[0][0] is None
        and f"{name} {line[1].setting.shown(12.0)}" in view.over_time.spoken()
    )


def test_what_follows_while_playing_leaves_the_window_time_for_the_rest(window, tmp_path, monkeypatch):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(8.0, 6)))
    window.stages.add("gain")
    panel = window.riding
    panel.ride(Address("stage", window.stages.stage.id, "upper.gain_db"))
    monkeypatch.setattr(window.transport, "playing", True)
    followed = []
    panel.moved_on.connect(lambda: (time.sleep(0.05), followed.append(window.document.shown_s)))
    begun = time.perf_counter()
    while (past := time.perf_counter() - begun) < 1.2:
        panel.tick(past)
        time.sleep(0.005)
    assert 2 <= len(followed) <= 7  # 0.05 s of each 0.2
    until = time.perf_counter() + 10.0
    while followed[-1] != 6.0 and time.perf_counter() < until:
        time.sleep(0.1)
        panel.tick(6.0)
    assert followed[-1] == 6.0  # and the last place is not left out


def test_points_at_beats_move_with_the_tempo_and_points_at_seconds_stay(window, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "a.wav", noise(8.0)))
    document, rides = window.document, window.riding.rides
    tempo = Tempo(bpm=100.0, first_beat_s=0.1)
    document.edit(edits.put(document.session, ("sound", "tempo"), tempo), "tempo")
    rides.choose(Address("leg", 0, "level_db"))
    for at_s in (0.1 + 4 * 0.6, 1.0, 0.1 + 8 * 0.6):
        rides.add(at_s, -3.0)
    points = document.strip.upper.rides[0].points
    assert [point.beat for point in points] == [None, 4.0, 8.0]
    document.edit(
        edits.put(document.session, ("sound", "tempo"), Tempo(bpm=150.0, first_beat_s=0.2)), "faster"
    )
    points = document.strip.upper.rides[0].points
    assert [point.at_s for point in points] == pytest.approx([1.0, 0.2 + 4 * 0.4, 0.2 + 8 * 0.4])
    # So fast that a beat comes before what stood in front of it: the points stay in the order of time.
    document.edit(edits.put(document.session, ("sound", "tempo"), Tempo(bpm=250.0)), "very fast")
    points = document.strip.upper.rides[0].points
    assert [point.beat for point in points] == [4.0, None, 8.0]
    assert storage.decode(storage.encode(document.session)) == document.session
    document.undo()
    document.undo()
    assert [point.beat for point in document.strip.upper.rides[0].points] == [None, 4.0, 8.0]


@pytest.mark.parametrize(
    "text, at_s, value, beat",
    [
        ("-6", 2.0, -6.0, None),
        ("−7,5 dB @ 0:03.25", 3.25, -7.5, None),
        ("@ 1.5", 1.5, -3.0, None),
        ("-1 @ beat 5", 0.1 + 4 * 0.6, -1.0, 4.0),
    ],
)
def test_a_point_is_typed_over_itself(window, tmp_path, qtbot, text, at_s, value, beat):
    window.opening.open_path(write_wav(tmp_path / "a.wav", noise(8.0)))
    document, rides, lane = window.document, window.riding.rides, window.riding.lane
    document.edit(
        edits.put(document.session, ("sound", "tempo"), Tempo(bpm=100.0, first_beat_s=0.1)), "tempo"
    )
    rides.choose(Address("leg", 0, "level_db"))
    rides.add(2.0, -3.0)
    window.riding.toggle()
    qtbot.mouseDClick(lane, Qt.MouseButton.LeftButton, pos=lane.point_of(0).toPoint())
    assert lane._edit.text() == "−3.0 dB @ 0:02.00"
    lane._edit.setText(text)
    qtbot.keyClick(lane._edit, Qt.Key.Key_Return)
    point = document.strip.upper.rides[0].points[0]
    assert (point.at_s, point.value, point.beat) == (pytest.approx(at_s), value, beat)
    said: list[str] = []
    rides.said.connect(said.append)
    rides.type_point(0, "loud @ noon")
    assert said and document.strip.upper.rides[0].points[0] == point


def test_the_delay_of_a_leg_is_given_by_a_note_and_follows_the_tempo(window, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "a.wav", noise(1.0)))
    document, row = window.document, window.leg_rows["lower"]
    row.delay.type_value("1/16")
    row.delay._typed()
    assert document.strip.lower.delay_note == "1/16" and document.strip.lower.delay_ms == pytest.approx(125.0)
    document.edit(edits.put(document.session, ("sound", "tempo"), Tempo(bpm=150.0)), "faster")
    assert document.strip.lower.delay_ms == pytest.approx(100.0)
    assert storage.decode(storage.encode(document.session)) == document.session
    row.delay.type_value("20 ms")
    row.delay._typed()
    assert document.strip.lower.delay_note == "" and document.strip.lower.delay_ms == 20.0


def test_an_entry_of_a_point_does_not_outlive_its_line(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(4.0, 6)))
    rides, lane = window.riding.rides, window.riding.lane
    window.riding.ride(Address("leg", 0, "level_db"))
    rides.add(2.0, -3.0)
    lane.type_point(1)
    entry = lane._edit
    assert entry is not None and entry.isVisible()
    window.riding.refresh()
    assert lane._edit is entry  # nothing else is there
    window.document.discard()
    window.opening.open_path(write_wav(tmp_path / "lock.wav", music(4.0, 7)))
    assert lane._edit is None
    window.riding.ride(Address("leg", 0, "level_db"))
    lane.type_point(0)
    window.document.undo()
    assert lane._edit is None
