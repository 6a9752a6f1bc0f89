"""Knobs of MIDI devices turn grips: messages as the standard has them, a simulated device, and none at all."""

import sys
from pathlib import Path

import pytest
from conftest import write_wav
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from test_two_files import music

from stonekite import midi
from stonekite.desktop.model import preferences
from stonekite.desktop.model.knobs import Knobs
from stonekite.midi import Knob, Turned
from stonekite.session.ride_edits import Address


@pytest.mark.parametrize(
    ("message", "told"),
    [
        ([0xB0, 21, 64], Turned(Knob(1, 21), 64)),
        ([0xBF, 0, 127], Turned(Knob(16, 0), 127)),
        ([0xB3, 119, 0], Turned(Knob(4, 119), 0)),
        ([0xB0, 120, 0], None),  # all sound off: a channel mode
        ([0x90, 60, 100], None),  # a note
        ([0xE0, 0, 64], None),
        ([0xF8], None),
        ([0xB0, 21], None),
        ([0xB0, 21, 200], None),
        ([0xB0, 21, 64, 0], None),
        ([], None),
    ],
)
def test_control_changes_are_read_and_nothing_else(message, told):
    assert midi.turned(message) == told


def test_without_a_sequencer_there_is_the_simulated_device_and_others_are_said(monkeypatch):
    monkeypatch.setattr(midi, "_SEQUENCER", Path("/nowhere"))
    assert midi.names() == [midi.SIMULATED]
    with pytest.raises(OSError, match="connected"):
        midi.opened("Tall desk", print)
    monkeypatch.setattr(midi, "_SEQUENCER", Path(__file__))
    monkeypatch.setitem(sys.modules, "rtmidi", None)  # the package is not there
    assert midi.names() == [midi.SIMULATED]


@pytest.fixture
def knobs(qtbot):
    made = Knobs()
    made.open(midi.SIMULATED)
    yield made
    made.close()


def test_a_knob_does_nothing_until_it_comes_past_where_its_grip_is(knobs):
    heard = []
    knobs.turned.connect(lambda *told: heard.append(told))
    knobs.learn(2)
    knobs.device.turn(30, 10)
    knobs.look()
    assert knobs.of == {2: Knob(1, 30)} and knobs.learning is None and not heard
    knobs.positions = {2: 0.5}
    for value in (20, 40, 60):
        knobs.device.turn(30, value)
        knobs.look()
    assert not heard  # 60 of 127 is short of the middle
    knobs.device.turn(30, 70)
    knobs.look()
    assert [told[:2] for told in heard] == [(2, 70 / 127)]
    for value in (80, 90, 127):
        knobs.device.turn(30, value)
    knobs.device.turn(31, 5)
    knobs.look()
    assert len(heard) == 2 and heard[-1][1] == 1.0 and heard[-1][2] is heard[0][2]  # one step to undo
    knobs.positions = {2: 0.1}  # it was moved by hand
    knobs.device.turn(30, 120)
    knobs.look()
    assert len(heard) == 2
    knobs.device.turn(30, 0)
    knobs.look()
    assert heard[-1][1] == 0.0
    QTest.qWait(700)
    knobs.device.turn(30, 3)
    knobs.look()
    assert heard[-1][2] is not heard[0][2]


def test_knobs_are_remembered_and_a_damaged_file_is_passed_over(knobs):
    knobs.learn(0)
    knobs.device.turn(25, 64, channel=3)
    knobs.look()
    again = Knobs()
    assert again.of == {0: Knob(3, 25)}
    again.begin()
    assert again.name == midi.SIMULATED
    again.forget(0)
    assert not Knobs().of
    again.close()
    preferences.place().write_text('{"knobs": {"x": 3}}')
    assert not Knobs().of


def test_a_grip_is_turned_and_recorded_by_the_simulated_knobs(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", music(4.0, 6)))
    grips, rides, document = window.grips, window.riding.rides, window.document
    grips.show()
    grips.new_grip()
    grips.take(Address("leg", 0, "level_db"))
    QTest.keyClick(grips, Qt.Key.Key_Escape)
    entries = {action.text(): action for action in grips.menu(0).actions()}
    entries["Move the knob that shall turn this…"].trigger()
    assert (
        grips.simulated is not None and grips.simulated.isVisible() and "move the knob" in grips.words.text()
    )
    knob = grips.simulated.knobs[3]
    knob.setFocus()
    QTest.keyClick(knob, Qt.Key.Key_Up)
    qtbot.waitUntil(lambda: grips.knobs.learning is None, timeout=2000)
    assert grips.knobs.of[0].number == 24 and document.strip.grips[0].position == 0.5
    place = [0.0]
    rides.heard = lambda: place[0]
    rides.mode = "on"
    for value in range(60, 100, 4):
        place[0] += 0.1
        knob.moved.emit(float(value), object())
        qtbot.waitUntil(lambda: not grips.knobs._waiting, timeout=2000)
    rides.heard = lambda: None
    rides.tick(pressed=False)
    ride = document.strip.upper.rides[0]
    setting = Address("leg", 0, "level_db")
    assert ride.path == setting.path and len(ride.points) >= 2
    assert ride.points[-1].value > ride.points[0].value
    grips.hear("")
    assert grips.simulated is None and grips.knobs.device is None
