"""Export sets: what they write, how loud that is in the files, and what the files are called."""

import datetime
import json
import math

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, THOROUGH, session_on, write_wav
from test_two_files import music

from stonekite.engine.offline.export import Exported, written
from stonekite.engine.offline.levelling import levels_of
from stonekite.files.audio import AudioError
from stonekite.session import export_sets, tree
from stonekite.session.export_sets import RESULT, ExportSet, How, Point, SetError
from stonekite.session.spur import Spur
from stonekite.session.types import Leg, Split, Strip
from stonekite.stages.branch import Branch
from stonekite.stages.echo import Echo
from stonekite.stages.eq import Eq


def export(session, targets, how, **more) -> Exported:
    *_, last = written(session, targets, how, **more)
    return last


def read(path):
    sound, rate = soundfile.read(path, always_2d=True)
    return sound.T, rate


def independent(path) -> tuple[float, float]:
    """Loudness by another library, and true peak by eight times oversampling."""
    import pyloudnorm
    import soxr

    sound, rate = soundfile.read(path, always_2d=True)
    loud = pyloudnorm.Meter(rate).integrated_loudness(sound)
    dense = soxr.resample(np.pad(sound, ((2000, 2000), (0, 0))), rate, 8 * rate, quality="VHQ")
    return loud, 20 * math.log10(np.abs(dense).max())


@pytest.fixture
def session(tmp_path):
    path = write_wav(tmp_path / "reel.wav", music(6.0, 31))
    strip = Strip(
        split=Split(matrix="equal-power"),
        stages=(Eq(id=2),),
        upper=Leg(level_db=-2.0),
        spurs=(Spur(name="far", branch=tree.renumbered(Branch(stages=(Echo(id=0),)), 3)[0], level_db=-9.0),),
    )
    return session_on(path, strip)


def test_everything_adds_up_and_lines_up(session, tmp_path):
    points = export_sets.points_of(session.sound, tuple(export_sets.WHATS))
    assert [point.what for point in points] == [
        "result",
        "unprocessed",
        "difference",
        "before",
        "before",
        "after",
        "after",
        "spur",
        "strip",
    ]
    targets = {point: tmp_path / f"{k}.wav" for k, point in enumerate(points)}
    done = export(session, targets, How(bits="64f"))
    files = {point: read(path)[0] for point, path in targets.items()}
    assert len(done.paths) == 9 and len({sound.shape[1] for sound in files.values()}) == 1
    result, dry, difference = (files[points[k]] for k in range(3))
    assert np.allclose(result - dry, difference, atol=1e-12)
    mid, side = files[Point("after", "mid")][0], files[Point("after", "side")][0]
    assert np.allclose([mid + side, mid - side], result, atol=1e-12)
    length = read(session.sound.stems[0].source.path)[0].shape[1]
    assert np.array_equal(dry[:, :length], read(session.sound.stems[0].source.path)[0])
    assert not dry[:, length:].any() and result.shape[1] > length
    # The legs alone and the spur are the result.
    stem = session.sound.stems[0]
    bare = msgspec.structs.replace(stem, strip=msgspec.structs.replace(stem.strip, spurs=()))
    bare = msgspec.structs.replace(session, sound=msgspec.structs.replace(session.sound, stems=(bare,)))
    export(bare, {RESULT: tmp_path / "bare.wav"}, How(bits="64f", tail_s=(result.shape[1] - length) / RATE))
    legs = read(tmp_path / "bare.wav")[0]
    assert np.allclose(legs + files[points[-2]], result, atol=1e-9)


FORMATS = [
    ("wav", "16"),
    ("wav", "24"),
    ("wav", "32f"),
    ("flac", "24"),
    ("flac", "16"),
    ("aiff", "24"),
    ("ogg", "24"),
]


@pytest.mark.parametrize(("suffix", "bits"), FORMATS)
@pytest.mark.parametrize("rate", [None, 44_100, 96_000])
def test_loudness_and_ceiling_are_those_of_the_file(session, tmp_path, suffix, bits, rate):
    if rate and not THOROUGH and (suffix, bits) not in (("wav", "16"), ("ogg", "24")):
        pytest.skip("thorough only")
    how = How(bits=bits, rate=rate, loudness_lufs=-20.0, ceiling_dbtp=-2.0, fade_in_s=0.3, fade_out_s=1.5)
    path = tmp_path / f"out.{suffix}"
    done = export(session, {RESULT: path}, how)
    loud, peak = independent(path)
    assert loud == pytest.approx(
        -20.0, abs=0.06 if rate in (None, 48000) else 0.09
    )  # the library's own filter
    assert done.levels[RESULT].lufs == pytest.approx(-20.0, abs=0.05)
    assert peak <= -2.0 + 0.05 and not done.sentences
    sound = read(path)[0]
    assert np.abs(sound[:, :16]).max() < 1e-3 and np.abs(sound[:, -4:]).max() < 1e-3


def test_where_loudness_and_ceiling_contradict_the_ceiling_is_kept_and_said(session, tmp_path):
    done = export(session, {RESULT: tmp_path / "o.wav"}, How(loudness_lufs=-5.0, ceiling_dbtp=-1.0))
    assert independent(tmp_path / "o.wav")[1] == pytest.approx(-1.0, abs=0.05)
    (sentence,) = done.sentences
    assert "ceiling was kept" in sentence and done.overs == 0
    lufs = done.levels[RESULT].lufs
    assert f"{lufs:.1f}".replace("-", "−") in sentence


def test_the_unprocessed_is_as_loud_as_the_result_and_the_rest_still_adds_up(session, tmp_path):
    points = [
        RESULT,
        Point("unprocessed"),
        Point("after", "mid"),
        Point("after", "side"),
        Point("difference"),
    ]
    targets = {point: tmp_path / f"{k}.wav" for k, point in enumerate(points)}
    done = export(session, targets, How(bits="32f", loudness_lufs=-18.0, ceiling_dbtp=-6.0, matched=True))
    levels = [done.levels[point] for point in points]
    assert levels[0].lufs == pytest.approx(levels[1].lufs, abs=0.05)
    assert max(one.true_peak_db for one in levels) <= -6.0 + 0.05
    result, dry, mid, side, difference = (read(targets[point])[0] for point in points)
    assert np.allclose(result - dry, difference, atol=1e-6)
    export(session, {points[4]: tmp_path / "alone.wav"}, How(bits="32f", matched=True))
    assert read(tmp_path / "alone.wav")[0].shape == difference.shape
    assert np.allclose([mid[0] + side[0], mid[0] - side[0]], result, atol=1e-6)


def test_silence_and_the_shortest_have_no_loudness(tmp_path):
    silent = session_on(write_wav(tmp_path / "silent.wav", np.zeros((2, RATE))))
    done = export(silent, {RESULT: tmp_path / "a.wav"}, How(loudness_lufs=-20.0))
    assert "no loudness" in done.sentences[0] and np.abs(read(tmp_path / "a.wav")[0]).max() < 3e-7
    one = session_on(write_wav(tmp_path / "one.wav", np.full((2, 1), 0.5)))
    done = export(one, {RESULT: tmp_path / "b.wav"}, How(loudness_lufs=-20.0, fade_in_s=1.0, fade_out_s=1.0))
    assert read(tmp_path / "b.wav")[0].shape[1] == 1


def test_a_cancelled_set_leaves_nothing(session, tmp_path):
    folder = tmp_path / "out"
    folder.mkdir()
    steps = written(
        session, {RESULT: folder / "a.wav", Point("unprocessed"): folder / "b.wav"}, How(matched=True)
    )
    for _ in range(5):
        next(steps)
    assert any(folder.iterdir())
    steps.close()
    assert not list(folder.iterdir())
    with pytest.raises(AudioError, match="exists already"):
        (folder / "a.wav").write_bytes(b"")
        export(session, {RESULT: folder / "a.wav"}, How())


def test_names_follow_the_pattern(session):
    today = datetime.date(2026, 5, 4)
    chosen = ExportSet(
        what=("result", "after", "spurs"),
        pattern="{recording} {date} {number} {what} {rate}",
        rate=44100,
        format="flac",
    )
    assert list(export_sets.names(chosen, session, today=today).values()) == [
        "reel 2026-05-04 1 result 44.1 kHz.flac",
        "reel 2026-05-04 2 mid after 44.1 kHz.flac",
        "reel 2026-05-04 3 side after 44.1 kHz.flac",
        "reel 2026-05-04 4 spur far 44.1 kHz.flac",
    ]
    for pattern, word in (
        ("{recording}", "same name"),
        ("{here}", "cannot have"),
        ("{loudness}", "no name"),
        ("../{what}", ""),
    ):
        try:
            made = export_sets.names(msgspec.structs.replace(chosen, pattern=pattern), session)
        except SetError as error:
            assert word and word in str(error)
        else:
            assert not word and all("/" not in name and not name.startswith(".") for name in made.values())


def test_own_sets_are_kept_and_bad_ones_are_told(tmp_path):
    chosen = ExportSet(name="Für Ada: −16", loudness_lufs=-16.0, ceiling_dbtp=-1.0)
    path = export_sets.save(chosen, tmp_path)
    (tmp_path / f"bad{export_sets.SUFFIX}").write_text(json.dumps({"what": ["everything"]}))
    found, faults = export_sets.own(tmp_path)
    assert found == [chosen] and export_sets.load(path) == chosen
    assert len(faults) == 1 and "$.what" in faults[0]


def test_levels_of_one_channel_are_those_of_one_loudspeaker():
    t = np.arange(5 * RATE) / RATE
    tone = 10 ** (-23 / 20) * np.sin(2 * np.pi * 997 * t)[None]
    both = levels_of(iter([np.repeat(tone, 2, axis=0)]), RATE)
    one = levels_of(iter([tone]), RATE)
    assert both.lufs == pytest.approx(-23.0, abs=0.05) and one.lufs == pytest.approx(-26.0, abs=0.05)


def test_the_command_line_writes_a_set(session, tmp_path, monkeypatch):
    from click.testing import CliRunner

    from stonekite.cli import main
    from stonekite.session import storage

    storage.save(session, tmp_path / "reel.kite")
    export_sets.save(ExportSet(name="mine", what=("result", "unprocessed"), loudness_lufs=-19.0), tmp_path)
    run = CliRunner()
    out = run.invoke(
        main,
        [
            "export",
            str(tmp_path / "reel.kite"),
            "-o",
            str(tmp_path / "out"),
            "--set",
            str(tmp_path / f"mine{export_sets.SUFFIX}"),
            "--json",
        ],
    )
    assert out.exit_code == 0, out.stderr
    told = json.loads(out.stdout)
    assert [path.split("/")[-1] for path in told["files"]] == ["reel result.wav", "reel unprocessed.wav"]
    assert told["levels"][0]["integrated_lufs"] == pytest.approx(-19.0, abs=0.05)
    again = run.invoke(main, ["export", str(tmp_path / "reel.kite"), "-o", str(tmp_path / "out")])
    assert again.exit_code == 1 and "exists already" in again.stderr
    none = run.invoke(main, ["export", str(tmp_path / "reel.kite"), "-o", str(tmp_path), "--set", "nothing"])
    assert none.exit_code == 1 and "no export set" in none.stderr


@pytest.mark.processes
def test_sets_are_chosen_kept_queued_and_cancelled_in_the_window(
    window, qtbot, tmp_path, session, monkeypatch
):
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QFileDialog

    window.sets.folder = tmp_path / "own"
    window.document.open(session)
    dialog = window.sets.ask()
    queue = window.sets.queue
    assert "reel result.wav" in dialog.example.text()
    QTest.mouseClick(dialog.what["unprocessed"], Qt.MouseButton.LeftButton)
    dialog.numbers["loudness_lufs"].setText("-17,5")
    dialog.name.setText("for the ferry")
    assert dialog.chosen().loudness_lufs == -17.5 and dialog.chosen().what == ("result", "unprocessed")
    QTest.mouseClick(dialog.keep, Qt.MouseButton.LeftButton)
    assert dialog.list.item(0).text() == "for the ferry" and dialog.remove.isEnabled()
    dialog.pattern.setText("{recording}")
    assert "same name" in dialog.fault.text() and not dialog.write.isEnabled()
    dialog.pattern.setText("{what} of {recording}")
    for text in ("abc", "12"):
        dialog.numbers["ceiling_dbtp"].setText(text)
        assert dialog.fault.text() and not dialog.write.isEnabled()
    dialog.numbers["ceiling_dbtp"].setText("")
    out = tmp_path / "out"
    out.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a: str(out))
    QTest.mouseClick(dialog.write, Qt.MouseButton.LeftButton)
    second = queue.add(dialog.chosen(), session, "x", tmp_path / "not there")
    third = queue.add(dialog.chosen(), session, "x", out)
    queue.cancel(third)
    qtbot.waitUntil(lambda: second.state == "failed", timeout=90_000)
    first = queue.entries[0]
    assert first.state == "written" and "−17.5 LUFS" in first.words
    assert sorted(path.name for path in out.iterdir()) == ["result of reel.wav", "unprocessed of reel.wav"]
    assert "folder" in second.words and third not in queue.entries
    queue.clear()
    assert not queue.entries
    QTest.mouseClick(dialog.remove, Qt.MouseButton.LeftButton)
    assert not list((tmp_path / "own").iterdir())
    dialog.close()


def test_sections_are_written_by_themselves_and_are_cuts_of_the_whole(session, tmp_path):
    from stonekite.engine.offline.export import set_written
    from stonekite.session.types import Section

    spans = (("Cast off", 0.0, 2.5), ("Midstream", 2.5, 4.0))
    sections = tuple(Section(name=name, start_s=start, end_s=end) for name, start, end in spans)
    chosen = ExportSet(what=("result", "spurs"), bits="64f", sections=True, pattern="{section} {what}")
    with pytest.raises(SetError, match="no sections"):
        export_sets.parts_of(chosen, session)
    desk = msgspec.structs.replace(session.desk, sections=sections)
    session = msgspec.structs.replace(session, desk=desk)
    with pytest.raises(SetError, match="section"):
        export_sets.parts_of(msgspec.structs.replace(chosen, pattern="{what}"), session)
    *_, done = set_written(session, chosen, tmp_path)
    assert [path.name for path in done.paths] == [
        "Cast off result.wav",
        "Cast off spur far.wav",
        "Midstream result.wav",
        "Midstream spur far.wav",
    ]
    whole = tmp_path / "whole.wav"
    export(session, {RESULT: whole}, How(bits="64f"))
    for name, start, end in spans:
        cut = read(whole)[0][:, int(start * RATE) : int(end * RATE)]
        assert np.allclose(read(tmp_path / f"{name} result.wav")[0], cut, atol=1e-12)
    *_, loud = set_written(
        session, msgspec.structs.replace(chosen, loudness_lufs=-20.0), tmp_path, force=True
    )
    assert [one.lufs for one in loud.in_order[::2]] == pytest.approx([-20.0, -20.0], abs=0.05)
