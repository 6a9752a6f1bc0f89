"""The journal: what was not saved outlives a kill, a damaged file and another window."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from conftest import THOROUGH, noise, session_on, write_wav

from stonekite.session import edits
from stonekite.session.journal import SUFFIX, Journal, last_entry, left_behind
from stonekite.session.types import Session


@pytest.fixture
def session(tmp_path) -> Session:
    return session_on(write_wav(tmp_path / "quay.wav", noise(0.2)))


def levelled(session: Session, level_db: float) -> Session:
    return edits.put(session, ("sound", "stems", 0, "strip", "upper", "level_db"), level_db)


def level_of(session: Session) -> float:
    return session.sound.stems[0].strip.upper.level_db


def fail(error: OSError) -> None:
    raise AssertionError(error)


def test_what_was_noted_last_is_left_behind_and_no_living_window_s(session, tmp_path):
    journal = Journal(fail, tmp_path / "journals")
    for k in range(30):
        journal.note(levelled(session, -0.1 * k), Path("/boat/quay.kite"), k, f"Level {k}")
    assert journal.flush()
    assert left_behind(tmp_path / "journals") == [], "its window lives"
    journal.close()
    (left,) = left_behind(tmp_path / "journals")
    assert left.session is not None and level_of(left.session) == pytest.approx(-2.9)
    assert (left.entry.path, left.entry.edits, left.entry.words) == ("/boat/quay.kite", 29, "Level 29")
    assert left_behind(tmp_path / "journals") == [], "one is asked about it, not two"
    left.forget()
    assert list((tmp_path / "journals").iterdir()) == []


def test_nothing_is_left_of_what_was_saved(session, tmp_path):
    journal = Journal(fail, tmp_path / "journals")
    journal.note(session, None, 1, "Level")
    journal.flush()
    journal.clean()
    journal.close()
    assert left_behind(tmp_path / "journals") == []
    assert list((tmp_path / "journals").glob("*")) == []


def test_a_long_journal_is_begun_anew_under_its_lock(session, tmp_path, monkeypatch):
    monkeypatch.setattr("stonekite.session.journal.LONG", 4000)
    monkeypatch.setattr("stonekite.session.journal.PAUSE_S", 0.0)
    journal = Journal(fail, tmp_path / "journals")
    for k in range(60):
        journal.note(levelled(session, -0.1 * k), None, k, "Level")
        journal.flush()
    (path,) = (tmp_path / "journals").glob(f"*{SUFFIX}")
    assert path.stat().st_size < 12_000
    assert left_behind(tmp_path / "journals") == []
    journal.close()
    (left,) = left_behind(tmp_path / "journals")
    assert level_of(left.session) == pytest.approx(-5.9)
    left.let_go()


def test_a_damaged_journal_gives_what_can_be_read_of_it(session, tmp_path):
    monkey = tmp_path / "journals"
    journal = Journal(fail, monkey)
    for k in range(4):
        journal.note(levelled(session, -float(k)), None, k, "Level")
        journal.flush()
    journal.close()
    (path,) = monkey.glob(f"*{SUFFIX}")
    whole, rng = path.read_bytes(), np.random.default_rng(0)
    found = 0
    for _ in range(3000 if THOROUGH else 300):
        damaged = bytearray(whole)
        how = int(rng.integers(4))
        if how == 0:
            del damaged[int(rng.integers(len(damaged))) :]
        elif how == 1:
            for at in rng.integers(0, len(damaged), int(rng.integers(1, 40))):
                damaged[at] = int(rng.integers(256))
        elif how == 2:
            at, count = int(rng.integers(len(damaged))), int(rng.integers(1, 600))
            damaged[at : at + count] = bytes(len(damaged[at : at + count]))
        else:
            at = int(rng.integers(len(damaged)))
            damaged[at:at] = rng.bytes(int(rng.integers(1, 600)))
        path.write_bytes(bytes(damaged))
        for left in left_behind(monkey):
            found += left.session is not None
            assert left.session is None or level_of(left.session) in (0.0, -1.0, -2.0, -3.0)
            left.let_go()
        path.write_bytes(whole)
    assert found > 200
    assert last_entry(whole[:-3]).edits == 2, "the one before the last, which is cut"


def test_a_disk_without_room_is_told_and_tried_again(session, tmp_path):
    told = []
    (tmp_path / "journals").write_text("in the way")
    journal = Journal(told.append, tmp_path / "journals")
    journal.note(session, None, 1, "Level")
    journal.flush()
    assert told and isinstance(told[0], OSError)
    (tmp_path / "journals").unlink()
    journal.note(session, None, 2, "Level")
    journal.close()
    assert [left.entry.edits for left in left_behind(tmp_path / "journals")] == [2]


EDITING = """
import sys, time
from pathlib import Path
from stonekite.session import edits, storage
from stonekite.session.journal import Journal
session = storage.load(Path(sys.argv[1]))
journal = Journal(lambda error: None, Path(sys.argv[2]))
k = 0
while True:
    k += 1
    session = edits.put(session, ("sound", "stems", 0, "strip", "upper", "level_db"), -0.001 * (k % 60_000))
    journal.note(session, Path(sys.argv[1]), k, "Level")
    print(k, time.time(), flush=True)
    time.sleep(0.004)
"""


@pytest.mark.processes
@pytest.mark.slow
def test_killed_in_the_middle_of_edits_at_most_a_second_is_lost(session, tmp_path):
    from stonekite.session import storage

    storage.save(session, tmp_path / "quay.kite")
    worst, rng = 0.0, np.random.default_rng(1)
    for _ in range(200 if THOROUGH else 8):
        process = subprocess.Popen(
            [sys.executable, "-c", EDITING, str(tmp_path / "quay.kite"), str(tmp_path / "journals")],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert process.stdout is not None
        lines = [process.stdout.readline()]
        end = time.monotonic() + 0.6 + float(rng.uniform(0, 0.6))
        while time.monotonic() < end:
            lines.append(process.stdout.readline())
        os.kill(process.pid, signal.SIGKILL)
        lines += process.stdout.readlines()
        process.wait()
        process.stdout.close()
        told = {int(a): float(b) for a, b in (line.split() for line in lines if len(line.split()) == 2)}
        (left,) = left_behind(tmp_path / "journals")
        assert left.session is not None
        worst = max(worst, max(told.values()) - told[min(left.entry.edits, max(told))])
        left.forget()
        assert list((tmp_path / "journals").iterdir()) == []
    print(f"most that a kill cost: {worst:.2f} s of edits")
    assert worst <= 1.0


def test_the_window_keeps_a_journal_and_offers_it(window, qtbot, tmp_path, monkeypatch):
    monkeypatch.setattr("stonekite.session.journal.folder", lambda: tmp_path / "journals")
    path = write_wav(tmp_path / "quay.wav", noise(0.5))
    window.opening.open_path(path)
    window.recovering.start()
    window.stages.add("eq")
    window.document.put(("upper", "level_db"), -4.0, "Level")
    assert window.recovering._journal.flush()
    window.recovering.close()  # as if it had been killed: what is unsaved stays
    window.document.discard()
    window.opening.open_path(path)
    assert window.document.strip.upper.level_db == 0.0
    window.recovering.start()

    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication, QMessageBox

    told = []

    def answer() -> None:
        box = QApplication.activeModalWidget()
        if box is None:  # on a busy machine it takes longer
            QTimer.singleShot(50, answer)
            return
        assert isinstance(box, QMessageBox)
        told.append(f"{box.text()} {box.informativeText()}")
        box.defaultButton().click()

    QTimer.singleShot(50, answer)
    window.recovering.offer()
    assert "2 edits" in told[0] and "EQ" in told[0] and "−4.0 dB" in told[0].replace("-4.0", "−4.0"), told
    assert window.document.strip.upper.level_db == -4.0
    assert window.document.modified
    assert window.document.unsaved_edits == 2
    assert len(list((tmp_path / "journals").glob(f"*{SUFFIX}"))) == 1, "this window's own"
    window.document.discard()
    window.recovering.close()


@pytest.mark.processes
@pytest.mark.slow
def test_a_window_that_is_ended_in_any_way_keeps_what_was_not_saved(tmp_path):
    path = write_wav(tmp_path / "quay.wav", noise(0.5))
    environment = {
        **os.environ,
        "QT_QPA_PLATFORM": "offscreen",
        "XDG_STATE_HOME": str(tmp_path / "state"),
        "XDG_CONFIG_HOME": str(tmp_path / "config"),
    }
    journals, worst = tmp_path / "state" / "stonekite" / "journals", 0.0
    ways = [signal.SIGTERM, signal.SIGHUP, signal.SIGKILL, signal.SIGKILL] * (50 if THOROUGH else 1)
    for number in ways:
        process = subprocess.Popen(
            [sys.executable, str(Path(__file__).with_name("editing_window.py")), str(path)],
            env=environment,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert process.stdout is not None
        told = [process.stdout.readline() for _ in range(60)]
        process.send_signal(number)
        told += process.stdout.readlines()
        assert process.wait(60) == (-9 if number == signal.SIGKILL else 0)
        times = {int(a): float(b) for a, b in (line.split() for line in told if len(line.split()) == 2)}
        (left,) = left_behind(journals)
        assert left.session is not None and left.entry.edits > 0
        lost = max(times.values()) - times[min(left.entry.edits, max(times))]
        worst = max(worst, lost)
        assert lost <= (1.0 if number == signal.SIGKILL else 0.05)
        left.forget()
        assert list(journals.iterdir()) == []
    print(f"ended windows: {worst:.2f} s of edits lost at the most")
