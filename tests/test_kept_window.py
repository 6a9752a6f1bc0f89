"""Damaged sessions, moved folders, archives and earlier saves in the real window."""

import json
import os
import shutil
from pathlib import Path

import msgspec
import pytest
from conftest import session_on, write_wav
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QMessageBox
from test_two_files import music

from stonekite.desktop.model.document import session_of
from stonekite.session import storage
from stonekite.session.keeping import saves
from stonekite.session.types import Reference
from stonekite.stages.gain import Gain


@pytest.fixture(autouse=True)
def kept_here(tmp_path, monkeypatch):
    monkeypatch.setattr(saves, "folder", lambda: tmp_path / "kept")


@pytest.fixture
def path(tmp_path):
    folder = tmp_path / "takes"
    folder.mkdir()
    recording = write_wav(folder / "reel.wav", music(1.0, 2))
    other = write_wav(folder / "old.wav", music(1.0, 3))
    session = session_of(recording)[0]
    reference = Reference(name="old", source=session_of(other)[0].sound.stems[0].source)
    stem = session.sound.stems[0]
    strip = msgspec.structs.replace(stem.strip, stages=(Gain(id=2), Gain(id=3)))
    sound = msgspec.structs.replace(session.sound, stems=(msgspec.structs.replace(stem, strip=strip),))
    desk = msgspec.structs.replace(session.desk, references=(reference,))
    storage.save(msgspec.structs.replace(session, sound=sound, desk=desk, last_id=3), tmp_path / "s.kite")
    return tmp_path / "s.kite"


def answer(monkeypatch, word):
    """Click the button of that word in the next box; gives what it said."""
    said = []

    def exec(box):
        said.append(box.text() + box.informativeText())
        button = next((one for one in box.buttons() if one.text() == word), None)
        box._clicked = button
        return 0

    monkeypatch.setattr(QMessageBox, "exec", exec)
    monkeypatch.setattr(QMessageBox, "clickedButton", lambda box: box._clicked)
    return said


def test_a_damaged_session_opens_as_far_as_it_can_when_asked(window, path, monkeypatch):
    whole = json.loads(path.read_text())
    whole["sound"]["stems"][0]["strip"]["stages"][0]["upper"]["gain_db"] = 1e9
    path.write_text(json.dumps(whole))
    before = path.read_bytes()
    said = answer(monkeypatch, "Open what can be used")
    window.opening.open_path(path)
    assert "Gain, upper, gain_db" in said[0]
    assert len(window.document.strip.stages) == 2 and window.document.modified
    assert window.document.path is None and path.read_bytes() == before
    window.document.discard()
    path.write_bytes(before[:30])
    answer(monkeypatch, "OK")
    window.opening.open_path(path)
    assert len(window.document.strip.stages) == 2  # what was open still is


def test_showing_the_recording_finds_the_rest_of_its_folder(window, path, tmp_path, monkeypatch):
    (tmp_path / "far" / "away").mkdir(parents=True)
    shutil.move(tmp_path / "takes", tmp_path / "far" / "away" / "box")
    shutil.move(path, tmp_path / "far" / "s.kite")
    (tmp_path / "else").mkdir()
    shutil.move(tmp_path / "far" / "away", tmp_path / "else" / "away")
    answer(monkeypatch, "Show where it is…")
    there = tmp_path / "else" / "away" / "box"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(there / "reel.wav"), ""))
    window.opening.open_path(tmp_path / "far" / "s.kite")
    assert window.document.stem.source.path == str(there / "reel.wav")
    assert window.document.desk.references[0].source.path == str(there / "old.wav")


@pytest.mark.processes
def test_a_session_is_gathered_and_its_archive_opens(window, qtbot, path, tmp_path, monkeypatch):
    window.opening.open_path(path)
    target = tmp_path / "to go.zip"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(target), ""))
    window.keeping.ask_gather()
    qtbot.waitUntil(target.exists, timeout=60_000)
    qtbot.waitUntil(lambda: not window.errands.busy, timeout=60_000)
    shutil.rmtree(tmp_path / "takes")
    window.opening.open_path(target)
    inside = tmp_path / "to go" / "s.kite"
    qtbot.waitUntil(lambda: window.document.path == inside, timeout=60_000)
    assert os.path.dirname(window.document.stem.source.path) == str(tmp_path / "to go" / "audio")
    assert len(window.document.desk.references) == 1


def test_earlier_saves_are_looked_at_heard_and_taken_back(window, qtbot, path):
    window.opening.open_path(path)
    assert "not saved over" in window.keeping.ask_saves().lines.text()
    for level in (-3.0, -6.0):
        window.document.put(("upper", "level_db"), level, "Level")
        assert window.opening.save()
    dialog = window.keeping.ask_saves()
    assert dialog.list.count() == 2
    dialog.list.setCurrentRow(1)
    assert "0.0 dB → −6.0 dB" in dialog.lines.text()
    dialog.list.setCurrentRow(0)
    assert "−3.0 dB → −6.0 dB" in dialog.lines.text()
    QTest.mouseClick(dialog.hear, Qt.MouseButton.LeftButton)
    (version,) = window.document.session.versions
    assert version.sound.stems[0].strip.upper.level_db == -3.0 and window.listen.version == version.number
    assert window.document.strip.upper.level_db == -6.0
    QTest.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    assert window.document.strip.upper.level_db == -3.0 and not dialog.isVisible()
    window.document.undo()
    assert window.document.strip.upper.level_db == -6.0
    window.document.discard()
    window.document.open(session_on(Path(window.document.stem.source.path)))
    assert window.keeping.ask_saves() is None
