"""Sections: found where a piece changes, struck, named, looped, and rides copied from one to another."""

import numpy as np
import pytest
from conftest import RATE, write_wav
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from test_two_files import music

from stonekite.measure import sections
from stonekite.session import ride_edits, storage
from stonekite.session.ride_edits import Address
from stonekite.stages import riding
from stonekite.stages.riding import Point, Ride

LEVEL = Address("leg", 0, "level_db")


def piece(*parts: tuple[str, float]) -> np.ndarray:
    """Stretches of different sounds (2, frames): a name and seconds each."""
    rng = np.random.default_rng(4)
    made = []
    for name, seconds in parts:
        t = np.arange(int(seconds * RATE)) / RATE
        noise = rng.standard_normal((2, len(t)))
        low = np.cumsum(noise, axis=1)
        low -= np.linspace(0, 1, len(t)) * low[:, -1:]
        made.append(
            {
                "loud": 0.2 * noise,
                "soft": 0.02 * noise,
                "dull": 0.1 * low / np.abs(low).max(),
                "tone": 0.1 * np.sin(2 * np.pi * 880 * t)[None] + 0.001 * noise,
            }[name]
        )
    return np.concatenate(made, axis=1)


def found(sound: np.ndarray) -> list[float]:
    blocks = (sound[:, k : k + 9999] for k in range(0, sound.shape[1], 9999))
    return sections.boundaries(sections.described(blocks, RATE))


def test_changes_of_level_and_of_spectrum_are_found():
    assert found(piece(("loud", 12), ("soft", 10), ("loud", 14))) == pytest.approx([12, 22], abs=0.6)
    assert found(piece(("loud", 9), ("dull", 11), ("tone", 10))) == pytest.approx([9, 20], abs=0.6)
    assert found(piece(("loud", 40))) == []
    assert found(np.zeros((2, 20 * RATE))) == [] and found(music(3.0, 1)) == []


@pytest.fixture
def view(window, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "reel.wav", np.tile(music(4.0, 2), 3)))
    return window.sections


def test_sections_are_struck_named_moved_looped_and_saved(view, window, tmp_path):
    document = window.document
    assert not view.isVisible()
    view.strike(4.0)
    view.strike(8.0)
    assert [(one.start_s, one.end_s) for one in view.sections] == [(0, 4), (4, 8), (8, 12)]
    assert view.isVisible()
    view.name(1, "  Midstream \n")
    assert view.sections[1].name == "Midstream"
    QTest.mouseClick(view.bar, Qt.MouseButton.LeftButton, pos=view.bar.box(1).center().toPoint())
    assert (document.desk.loop.start_s, document.desk.loop.end_s) == (4, 8) and view.at == 1
    view.step(1)
    assert view.at == 2
    view.step(1)
    assert view.at == 0
    edge = QPoint(int(view.bar.box(0).right()) + 1, 8)
    QTest.mousePress(view.bar, Qt.MouseButton.LeftButton, pos=edge)
    QTest.mouseMove(view.bar, edge - QPoint(view.bar.width() // 12, 0))
    QTest.mouseRelease(view.bar, Qt.MouseButton.LeftButton, pos=edge)
    assert view.sections[0].end_s == pytest.approx(3.0, abs=0.1)
    assert document.desk.loop.end_s == view.sections[0].end_s  # the loop goes along
    storage.save(document.session, tmp_path / "s.kite")
    assert storage.load(tmp_path / "s.kite").desk.sections == view.sections
    view.remove(0)
    assert view.sections[0].name == "Midstream"
    document.set_sections(())
    assert not view.isVisible()


def test_rides_of_one_section_go_in_another_fitted_to_its_length(view, window):
    document = window.document
    view.strike(4.0)
    view.strike(10.0)
    ride = Ride(path="level_db", points=(Point(at_s=1.0, value=-20.0), Point(at_s=3.0, value=0.0)))
    strip = ride_edits.put_ride(document.strip, LEVEL, ride)
    document.put(("upper",), strip.upper, "Ride")
    view.copy_rides(0, 1, fitted=True)
    now = ride_edits.ride_of(document.strip, LEVEL)
    setting = ride_edits.setting_of(document.strip, LEVEL)
    for share in np.linspace(0.02, 0.98, 11):
        there = riding.along(now, setting, np.array([4 + 6 * share]))[0]
        here = riding.along(ride, setting, np.array([4 * share]))[0]
        assert there == pytest.approx(here, abs=0.05)
    assert riding.along(now, setting, np.array([2.0, 11.0])) == pytest.approx([-10.0, 0.0])
    document.undo()
    assert ride_edits.ride_of(document.strip, LEVEL) == ride


@pytest.mark.processes
def test_sections_are_proposed_behind_the_window(window, qtbot, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "p.wav", piece(("loud", 10), ("soft", 10), ("loud", 8))))
    window.sections.propose()
    qtbot.waitUntil(lambda: len(window.sections.sections) == 3, timeout=60_000)
    assert window.sections.sections[1].start_s == pytest.approx(10.0, abs=0.6)
