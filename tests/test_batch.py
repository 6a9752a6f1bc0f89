"""Batches: the same as one by one, resumed where they were ended, and never stopped by a bad recording."""

import csv
import json
import os
import signal
import subprocess
import sys
import time

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, session_on, write_wav
from test_two_files import music

from stonekite.engine.offline import batch
from stonekite.engine.offline.batch import Item, Learn, Row
from stonekite.engine.offline.export import written
from stonekite.files.audio import AudioError
from stonekite.processes.batching import ACCOUNT
from stonekite.session import presets, storage, tree
from stonekite.session.export_sets import RESULT, ExportSet
from stonekite.session.types import Bus, Strip
from stonekite.stages.compressor import Compressor
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.noise import Noise
from stonekite.stages.registry import kind_of


def last(steps):
    *_, row = steps
    return row


@pytest.fixture
def session(tmp_path):
    path = write_wav(tmp_path / "model.wav", music(2.0, 1))
    return session_on(path, Strip(stages=(Compressor(id=2),)))


def run(*arguments, **more):
    return subprocess.run(
        [sys.executable, "-m", "stonekite", "batch", *map(str, arguments)],
        capture_output=True,
        text=True,
        **more,
    )


def test_files_of_folders_come_in_order_with_what_is_below_them(tmp_path):
    for name in ("b.wav", "a.flac", "x/c.wav", "x/no.txt", "out/made.wav", ".hidden.wav"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"")
    found = batch.items_of([tmp_path, tmp_path / "b.wav"], tmp_path / "out")
    assert [(str(item.path.relative_to(tmp_path)), str(item.below)) for item in found[:3]] == [
        ("a.flac", "."),
        ("b.wav", "."),
        ("x/c.wav", "x"),
    ]
    assert len(found) == 3


def test_one_recording_is_what_a_session_on_it_gives(session, tmp_path):
    path = write_wav(tmp_path / "take.wav", music(3.0, 6))
    row = last(
        batch.one(session, Item(path, tmp_path.__class__()), ExportSet(bits="32f"), tmp_path / "out", "")
    )
    assert row.fault == "" and row.written == [str(tmp_path / "out" / "take result.wav")]
    here = batch.session_for(session, path)
    last(written(here, {RESULT: tmp_path / "alone.wav"}, ExportSet(bits="32f")))
    assert np.array_equal(soundfile.read(row.written[0])[0], soundfile.read(tmp_path / "alone.wav")[0])
    assert row.before.lufs is not None and row.after.true_peak_db is not None


def test_a_stage_keeps_its_level_on_each_recording(tmp_path):
    path = write_wav(tmp_path / "model.wav", music(2.0, 1))
    squeeze = tree.renumbered(Compressor(id=0), 2)[0]
    squeeze = msgspec.structs.replace(squeeze, level_kept=True, kept_db=20.0)
    session = session_on(path, Strip(stages=(squeeze,)))
    other = write_wav(tmp_path / "loud.wav", music(3.0, 8))
    row = last(batch.one(session, Item(other, tmp_path.__class__()), ExportSet(), tmp_path / "out", ""))
    assert row.after.lufs == pytest.approx(row.before.lufs, abs=0.2)


def test_what_was_learned_is_learned_anew_from_the_quietest_second(tmp_path):
    rng = np.random.default_rng(2)
    hiss = 0.01 * rng.standard_normal((2, 8 * RATE))
    sound = hiss.copy()
    sound[:, : 4 * RATE] += music(4.0, 3)[:, : 4 * RATE]
    sound[:, 6 * RATE :] += 0.3 * music(2.0, 4)
    path = write_wav(tmp_path / "log.wav", sound)
    start, end = batch.quietest(path)
    assert 4.0 <= start < end <= 6.0
    learning = kind_of(Noise(id=0)).offers.learning
    old = learning.from_sound(1e-4 * rng.standard_normal((2, RATE)), batch.Context(RATE, "half-sum"), 0.0)
    stage = learning.taken(tree.renumbered(Noise(id=0), 2)[0], old)
    session = session_on(path, Strip(stages=(stage,)))
    steps = batch.learned(session, Learn())
    while True:
        try:
            next(steps)
        except StopIteration as stop:
            now = stop.value
            break
    found = now.sound.stems[0].strip.stages[0].shared.learned
    assert found.start_s == pytest.approx(start) and found != old
    short = write_wav(tmp_path / "short.wav", music(1.0, 3))
    row = last(
        batch.one(session, Item(short, path.parent.__class__()), ExportSet(), tmp_path, "", Learn(30.0, 31.0))
    )
    assert "before the range" in row.fault


@pytest.mark.processes
def test_bad_recordings_stop_nothing_and_the_exit_code_tells(session, tmp_path):
    folder = tmp_path / "in"
    folder.mkdir()
    for k in range(3):
        write_wav(folder / f"take {k}.wav", music(1.0, k))
    (folder / "empty.wav").touch()
    (folder / "broken.wav").write_bytes(b"RIFF and nothing more")
    os.mkfifo(folder / "pipe.wav")
    write_wav(folder / "take 1.flac", music(1.0, 9))
    storage.save(session, tmp_path / "s.kite")
    out = tmp_path / "out"
    done = run(
        tmp_path / "s.kite",
        folder,
        tmp_path / "gone.wav",
        "-o",
        out,
        "--jobs",
        2,
        "--report",
        tmp_path / "r.csv",
        "--json",
    )
    assert done.returncode == 1
    told = json.loads(done.stdout)
    faults = {row["file"].split("/")[-1]: row["fault"] for row in told["rows"]}
    assert told["faults"] == 5
    assert "is empty" in faults["empty.wav"] and "not a file" in faults["pipe.wav"]
    assert "not there" in faults["gone.wav"] and "can be read" in faults["broken.wav"]
    assert "rename one" in faults["take 1.wav"] and faults["take 1.flac"] is None
    assert sorted(path.name for path in out.iterdir()) == [
        ACCOUNT,
        "take 0 result.wav",
        "take 1 result.wav",
        "take 2 result.wav",
    ]
    rows = list(csv.DictReader((tmp_path / "r.csv").open()))
    assert len(rows) == 8 and sum(bool(row["fault"]) for row in rows) == 5
    # Again: what is there is not made again, and nothing is overwritten by another batch.
    before = {path.name: path.stat().st_mtime_ns for path in out.glob("take*.wav")}
    again = json.loads(run(tmp_path / "s.kite", folder, "-o", out, "--json").stdout)
    assert sum(row["kept"] for row in again["rows"]) == 3
    assert before == {path.name: path.stat().st_mtime_ns for path in out.glob("take*.wav")}
    other = json.loads(
        run(tmp_path / "s.kite", folder, "-o", out, "--set", "To be sent, −16 LUFS", "--json").stdout
    )
    assert not any(row["kept"] for row in other["rows"])
    back = json.loads(run(tmp_path / "s.kite", folder / "take 0.wav", "-o", out, "--json").stdout)
    assert back["rows"][0]["kept"]
    write_wav(
        folder / "take 0.wav", music(1.5, 77)
    )  # another recording under the name of one that was written
    other = json.loads(run(tmp_path / "s.kite", folder / "take 0.wav", "-o", out, "--json").stdout)
    assert "exists already" in other["rows"][0]["fault"]


@pytest.mark.processes
def test_a_batch_that_was_killed_goes_on_and_makes_the_same_files(session, tmp_path):
    folder = tmp_path / "in"
    folder.mkdir()
    for k in range(10):
        write_wav(folder / f"take {k}.wav", music(2.0, k))
    storage.save(session, tmp_path / "s.kite")
    whole = run(tmp_path / "s.kite", folder, "-o", tmp_path / "whole", "--jobs", 2)
    assert whole.returncode == 0
    out = tmp_path / "out"
    for seed in range(4):
        process = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "stonekite",
                "batch",
                str(tmp_path / "s.kite"),
                str(folder),
                "-o",
                str(out),
                "--jobs",
                "2",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        time.sleep(1.2 + 0.4 * seed)
        process.send_signal((signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGHUP)[seed])
        process.wait(30)
        for path in out.glob("take*.wav") if out.exists() else ():
            assert soundfile.info(path).frames == soundfile.info(tmp_path / "whole" / path.name).frames
    time.sleep(1.0)  # the killed one's workers see that it is gone
    assert run(tmp_path / "s.kite", folder, "-o", out, "--jobs", 2).returncode == 0
    names = sorted(path.name for path in out.iterdir())
    assert names == sorted(path.name for path in (tmp_path / "whole").iterdir())
    for path in out.glob("take*.wav"):
        assert np.array_equal(soundfile.read(path)[0], soundfile.read(tmp_path / "whole" / path.name)[0])


@pytest.mark.processes
def test_a_preset_of_a_strip_will_do(session, tmp_path):
    preset = presets.of_strip("calm", session.sound.stems[0].strip)
    presets.save(preset, tmp_path / f"calm{presets.SUFFIX}")
    done = run(tmp_path / f"calm{presets.SUFFIX}", tmp_path / "model.wav", "-o", tmp_path / "out", "--json")
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "out" / "model result.wav").exists()
    stage = presets.of_stage("one", session.sound.stems[0].strip.stages[0])
    presets.save(stage, tmp_path / f"one{presets.SUFFIX}")
    wrong = run(tmp_path / f"one{presets.SUFFIX}", tmp_path / "model.wav", "-o", tmp_path / "out")
    assert wrong.returncode == 1 and "preset of a stage" in wrong.stderr
    assert (
        run(
            tmp_path / "s.kite", tmp_path / "model.wav", "-o", tmp_path, "--report", tmp_path / "r.pdf"
        ).returncode
        == 1
    )


@pytest.mark.processes
def test_a_batch_in_the_window_is_filled_run_stopped_and_reported(window, qtbot, session, tmp_path):
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest

    folder = tmp_path / "in"
    folder.mkdir()
    for k in range(4):
        write_wav(folder / f"take {k}.wav", music(2.0, k))
    (folder / "bad.wav").write_bytes(b"no")
    window.document.open(session)
    dialog = window.batches.ask()
    assert not dialog.go.isEnabled() and not dialog.learn.isVisible()
    window.batches.add([folder])
    assert len(dialog._lines) == 5 and dialog.go.isEnabled()
    out = tmp_path / "out"
    window.batches.start(ExportSet(), False, 2, out)
    assert dialog.running and dialog.go.text() == "Stop"
    qtbot.waitUntil(
        lambda: any(e.row is not None and not e.row.fault for e in window.batches.batch.entries),
        timeout=90_000,
    )
    QTest.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    assert not dialog.running and "goes on from here" in dialog.words.text()
    window.batches.start(ExportSet(), False, 2, out)
    qtbot.waitUntil(lambda: not dialog.running, timeout=90_000)
    rows = [entry.row for entry in window.batches.batch.entries]
    assert all(isinstance(row, Row) for row in rows) and any(row.kept for row in rows)
    assert "4 of 5" in dialog.words.text()
    assert len(list(out.glob("take*.wav"))) == 4
    window.batches.report(tmp_path / "r.html")
    assert "take 3.wav" in (tmp_path / "r.html").read_text()
    dialog.close()


def test_a_strip_of_several_is_taken_by_its_name(tmp_path):
    """A bus's strip over recordings; without a name it is said which there are."""
    path = write_wav(tmp_path / "model.wav", music(1.0, 1))
    side = GainSide(gain_db=-6.0)
    bus = Bus(id=9, name="Softer", strip=Strip(stages=(Gain(id=5, upper=side, lower=side),)))
    session = session_on(path, Strip())
    session = msgspec.structs.replace(session, sound=msgspec.structs.replace(session.sound, buses=(bus,)))
    storage.save(session, tmp_path / "s.kite")
    made = batch.strip_of(tmp_path / "s.kite", "Softer")
    assert len(made.sound.stems) == 1 and not made.sound.buses
    assert made.sound.stems[0].strip == bus.strip
    for name in ("", "Louder"):
        with pytest.raises(AudioError, match="Softer, Mix"):
            batch.strip_of(tmp_path / "s.kite", name)
    assert batch.strip_of(tmp_path / "s.kite", "Mix").sound.stems[0].strip == Strip()
    assert batch.only(session, 9).sound.stems[0].name == "Softer"
