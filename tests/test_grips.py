"""Grips: labelled controls that move several settings, also where these ride."""

import msgspec
import numpy as np
import pytest
from conftest import session_on, write_wav
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from test_two_files import music

from stonekite.session import gripping, presets, ride_edits, storage
from stonekite.session.grips import GRIPS, Grip, Target
from stonekite.session.ride_edits import Address
from stonekite.session.spur import Spur
from stonekite.session.types import Strip
from stonekite.stages import riding
from stonekite.stages.branch import Branch
from stonekite.stages.compressor import Compressor
from stonekite.stages.gain import Gain
from stonekite.stages.riding import Point, Ride

GAIN = Target(of="stage", number=2, path="upper.gain_db", start=0.25, end=0.75)
LEVEL = Target(of="leg", number=1, path="level_db", start=1.0, end=0.5)
SPUR = Target(of="spur", number=5, path="level_db")
IN = Target(of="stage", number=3, path="inserted")


@pytest.fixture
def strip():
    spur = Spur(name="Torn top", branch=Branch(id=5, stages=(Gain(id=6),)))
    grip = Grip(name="Direct", targets=(GAIN, LEVEL, SPUR, IN))
    return Strip(stages=(Gain(id=2), Compressor(id=3)), spurs=(spur,), grips=(grip,))


def value(strip, target):
    there = ride_edits.holder(strip, gripping.address_of(target))
    holder, field, _ = riding.found(there, target.path)
    return getattr(holder, field)


def test_each_target_goes_over_its_own_range(strip):
    for position in (0.0, 0.3, 0.5, 1.0):
        moved = gripping.moved(strip, 0, position, 0.0)
        assert moved.grips[0].position == position
        for target in (GAIN, LEVEL, SPUR):
            setting = ride_edits.setting_of(strip, gripping.address_of(target))
            assert value(moved, target) == pytest.approx(setting.from_travel(target.at(position)))
        assert moved.stages[1].inserted == (position >= 0.5)
    assert value(gripping.moved(strip, 0, 0.0, 0.0), LEVEL) > value(gripping.moved(strip, 0, 1.0, 0.0), LEVEL)


def test_what_rides_has_its_line_shifted(strip):
    ride = Ride(path="upper.gain_db", points=(Point(at_s=0.0, value=-6.0), Point(at_s=4.0, value=6.0)))
    address = gripping.address_of(GAIN)
    strip = ride_edits.put_ride(strip, address, ride)
    setting = ride_edits.setting_of(strip, address)
    moved = ride_edits.carried(strip, gripping.moved(strip, 0, 0.7, 2.0), 2.0)
    line = ride_edits.ride_of(moved, address)
    stood = (setting.to_travel(0.0) - 0.25) / 0.5  # where the grip follows the line
    assert ride_edits.grip_position(strip, 0, 2.0) == pytest.approx(stood)
    shift = setting.from_travel(setting.to_travel(0.0) + 0.5 * (0.7 - stood))
    assert riding.along(line, setting, np.array([0.0, 2.0, 4.0])) == pytest.approx(
        [shift - 6, shift, shift + 6]
    )


def test_what_is_gone_is_left_alone_and_limits_hold(strip):
    gone = msgspec.structs.replace(strip, stages=(), spurs=())
    moved = gripping.moved(gone, 0, 1.0, 0.0)
    assert moved.upper == gone.upper and gripping.called(gone, GAIN) == "what is gone"
    many = strip
    for k in range(GRIPS - 1):
        many = gripping.added(many, f"{k}")
    with pytest.raises(ValueError, match="8 grips"):
        gripping.added(many, "one more")
    assert gripping.target_of(strip, Address("stage", 3, "upper.nothing")) is None
    assert gripping.target_of(strip, Address("leg", 0, "alone")) is None


def test_presets_and_sessions_carry_grips_with_their_labels(strip, tmp_path):
    other = Strip(stages=(Gain(id=2), Gain(id=3)))
    used = presets.on_strip(presets.of_strip("zither", strip), other, 50)
    assert used.grips[0].name == "Direct" and len(used.grips[0].targets) == 4
    for old, new in zip(strip.grips[0].targets, used.grips[0].targets, strict=True):
        assert gripping.is_there(used, new)
        assert type(ride_edits.holder(used, gripping.address_of(new))) is type(
            ride_edits.holder(strip, gripping.address_of(old))
        )
    session = session_on(write_wav(tmp_path / "a.wav", music(1.0, 1)), strip)
    storage.save(session, tmp_path / "s.kite")
    assert storage.load(tmp_path / "s.kite").sound.stems[0].strip.grips == strip.grips


def test_a_grip_is_made_by_pointing_and_moved_by_mouse_wheel_keys_and_typing(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(2.0, 6)))
    window.stages.add("gain")
    stage = window.stages.stage.id
    grips = window.grips
    grips.show()
    QTest.mouseClick(grips.add, Qt.MouseButton.LeftButton)
    assert grips.pointing == 0 and len(window.document.strip.grips) == 1
    field = window.panel.editors["gain"].rows["upper"].controls["gain_db"]
    before = window.document.strip.stages
    for widget in (field, window.leg_rows["lower"].level):
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=widget.rect().center())
    assert window.document.strip.stages == before  # pointing moves nothing
    targets = window.document.strip.grips[0].targets
    assert [(one.of, one.path) for one in targets] == [("stage", "upper.gain_db"), ("leg", "level_db")]
    assert targets[0].number == stage
    QTest.keyClick(grips, Qt.Key.Key_Escape)
    assert grips.pointing is None
    card = grips.cards[0]
    card.name.setText("Under")
    card.name.editingFinished.emit()
    card.field.type_value()
    card.field._edit.setText("25")
    card.field._typed()
    strip = window.document.strip
    setting = ride_edits.setting_of(strip, gripping.address_of(targets[0]))
    assert strip.grips[0].name == "Under" and strip.grips[0].position == 0.25
    assert strip.stages[0].upper.gain_db == pytest.approx(setting.from_travel(0.25))
    assert strip.lower.level_db == pytest.approx(
        ride_edits.setting_of(strip, gripping.address_of(targets[1])).from_travel(0.25)
    )
    QTest.keyClick(grips, Qt.Key.Key_1)
    card.field.setFocus()
    QTest.keyClick(card.field, Qt.Key.Key_Up)
    assert window.document.strip.grips[0].position == pytest.approx(0.26)
    window.document.undo()
    window.document.undo()
    assert window.document.strip.grips[0].position == 0.5
    assert window.document.strip.stages == before
    names = [action.text() for action in grips.menu(0).actions()]
    assert any("Gain" in name for name in names) and "Remove the grip" in names
    grips.hold(0, Target(of="leg", number=0, path="muted"))
    grips.move_grip(0, 80.0)
    assert window.document.strip.upper.muted
    assert "3 settings" in card.count.text()
    grips._remove(0)
    assert not window.document.strip.grips and not card.isVisible()
    grips.close()


def test_a_grip_rides_by_the_lines_of_all_that_it_holds(strip):
    """It has no line of its own: one that is drawn for it is that of each of its targets, over its range."""
    address = Address("grip", 0, "position")
    points = (Point(at_s=0.0, value=0.0), Point(at_s=2.0, value=1.0, way="held"), Point(at_s=3.0, value=0.25))
    ridden = ride_edits.put_ride(strip, address, Ride(path="position", points=points))
    for target in (GAIN, LEVEL, SPUR):
        line = ride_edits.ride_of(ridden, gripping.address_of(target))
        setting = ride_edits.setting_of(ridden, gripping.address_of(target))
        assert [point.at_s for point in line.points] == [0.0, 2.0, 3.0]
        assert [point.value for point in line.points] == pytest.approx(
            [setting.from_travel(target.at(point.value)) for point in points]
        )
    switch = ride_edits.ride_of(ridden, gripping.address_of(IN))
    assert [point.value for point in switch.points] == [0.0, 1.0, 0.0]
    assert [point.at_s for point in switch.points] == pytest.approx([0.0, 1.0, 3.0], abs=0.006)
    assert ride_edits.grip_position(ridden, 0, 2.5) == pytest.approx(1.0)
    assert ride_edits.grip_position(strip, 0, 1.0) == 0.5
    assert ride_edits.ride_of(ridden, address).points[2].value == pytest.approx(0.25)
    # Moved by hand, all lines are shifted from where it is shown.
    lower = ride_edits.grip_position(ridden, 0, 1.0) - 0.05
    moved = ride_edits.carried(ridden, gripping.moved(ridden, 0, lower, 1.0), 1.0)
    assert ride_edits.grip_position(moved, 0, 1.0) == pytest.approx(lower)
    still = ride_edits.put_ride(ridden, address, None)
    assert not ride_edits.any_rides(still)
    empty = gripping.added(strip, "nothing")
    assert "nothing that can ride" in ride_edits.why_not(empty, Address("grip", 1, "position"))


@pytest.mark.parametrize("bend", [-1.0, -0.5, 0.3, 1.0])
def test_a_bent_target_goes_its_own_way_between_the_same_ends(strip, bend):
    bent = msgspec.structs.replace(LEVEL, bend=bend)
    assert [bent.at(position) for position in (0.0, 1.0)] == [LEVEL.start, LEVEL.end]
    for position in np.linspace(0.0, 1.0, 21):
        assert bent.position_of(bent.at(position)) == pytest.approx(position, abs=1e-9)
    assert (abs(bent.at(0.5) - bent.start) < 0.25) == (bend > 0.0)
    held = gripping.with_target(strip, 0, bent)
    assert held.grips[0].targets[1] == bent
    moved = gripping.moved(held, 0, 0.3, 0.0)
    setting = ride_edits.setting_of(moved, gripping.address_of(bent))
    assert value(moved, bent) == pytest.approx(setting.from_travel(bent.at(0.3)))
    # It rides along the bend: within a hundredth of its range anywhere, and exactly at the points.
    points = (
        Point(at_s=0.0, value=0.0),
        Point(at_s=2.0, value=1.0, way="curved"),
        Point(at_s=3.0, value=0.2, way="held"),
        Point(at_s=5.0, value=0.9),
    )
    line = Ride(path="position", points=points)
    address = Address("grip", 0, "position")
    ridden = ride_edits.put_ride(held, address, line)
    position = ride_edits.setting_of(ridden, address)
    times = np.linspace(0.0, 6.0, 601)
    wanted = np.array([bent.at(place) for place in riding.along(line, position, times)])
    found = ride_edits.ride_of(ridden, gripping.address_of(bent))
    travels = [setting.to_travel(one) for one in riding.along(found, setting, times)]
    assert np.abs(travels - wanted).max() < 0.01 * abs(bent.end - bent.start)
    # The grip has the line that was drawn, and drawing it once more adds nothing.
    read = ride_edits.ride_of(ridden, address).points
    assert [one.at_s for one in read] == [one.at_s for one in points]
    assert [one.value for one in read] == pytest.approx([one.value for one in points])
    again = ride_edits.put_ride(ridden, address, ride_edits.ride_of(ridden, address))
    assert len(ride_edits.ride_of(again, gripping.address_of(bent)).points) == len(found.points)
    alone = msgspec.structs.replace(held, grips=(Grip(name="alone", targets=(bent,)),))
    once = ride_edits.put_ride(alone, address, line)
    read = ride_edits.ride_of(once, address)
    assert np.abs(riding.along(read, position, times) - riding.along(line, position, times)).max() < 0.05
    twice = ride_edits.ride_of(ride_edits.put_ride(once, address, read), address)
    assert len(twice.points) == len(read.points)


def test_a_card_draws_what_its_grip_does_and_a_menu_bends_it(window, qtbot, tmp_path, strip):
    path = write_wav(tmp_path / "a.wav", music(1.0, 2))
    storage.save(session_on(path, strip), tmp_path / "a.kite")
    window.opening.open_path(tmp_path / "a.kite")
    window.grips.show()
    card = window.grips.cards[0]
    line = card.lines[1]
    assert line.text() == gripping.called(window.document.strip, LEVEL)

    def bent(word):
        inner = window.grips.menu(0).actions()[1].menu()
        action = next(one for one in inner.actions() if one.text() == word)
        action.trigger()
        return line.grab().toImage()

    even, late = line.grab().toImage(), bent("Mostly late")
    assert window.document.strip.grips[0].targets[1].bend == 1.0 and even != late
    actions = window.grips.menu(0).actions()[1].menu().actions()
    assert [one.text() for one in actions if one.isChecked()] == ["Mostly late"]
    assert bent("Evenly") == even and window.document.strip.grips[0].targets[1] == LEVEL


def test_a_grip_is_recorded_with_all_that_it_holds_and_follows_its_line(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(4.0, 6)))
    window.stages.add("gain")
    stage = window.stages.stage.id
    grips, rides, document = window.grips, window.riding.rides, window.document
    grips.show()
    grips.new_grip()
    for address in (Address("stage", stage, "upper.gain_db"), Address("leg", 1, "level_db")):
        grips.take(address)
    grips.point(None)
    place = [0.5]
    rides.heard = lambda: place[0]
    rides.mode = "on"
    token = object()
    for k in range(21):
        place[0] = 0.5 + 0.05 * k
        grips.cards[0].field.moved.emit(50.0 + k, token)
    rides.heard = lambda: None
    rides.tick(pressed=False)
    rides.mode = "off"
    strip = document.strip
    lines = [ride_edits.ride_of(strip, gripping.address_of(target)) for target in strip.grips[0].targets]
    assert all(line is not None for line in lines)
    seconds = np.array([0.6, 1.0, 1.4])
    for target, line in zip(strip.grips[0].targets, lines, strict=True):
        setting = ride_edits.setting_of(strip, gripping.address_of(target))
        travels = [setting.to_travel(float(v)) for v in riding.along(line, setting, seconds)]
        assert travels == pytest.approx([0.5 + 0.2 * (s - 0.5) for s in seconds], abs=0.02)
    document.shown_s = 1.5
    window.showing.follow_rides()
    assert grips.cards[0].field.value == pytest.approx(70.0, abs=1.0)
    assert "rides" in grips.cards[0].field.accessibleDescription()
    grips.cards[0].field.ride_asked.emit()
    assert rides.chosen == Address("grip", 0, "position") and window.riding.lane.isVisible()
    document.undo()
    assert not ride_edits.any_rides(document.strip)
