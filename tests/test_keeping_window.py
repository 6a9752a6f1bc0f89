"""What stems sound like, computed behind the window while hands rest, and played from where it is kept."""

import shutil

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, noise, write_wav

from stonekite.engine.offline.export import export
from stonekite.files import kept
from stonekite.session.types import MIX, Strip
from stonekite.stages.drive import Drive
from stonekite.stages.echo import Echo

pytestmark = pytest.mark.processes


@pytest.fixture
def window(window, tmp_path, qtbot):
    """Three stems of drives, and their player."""
    folder = tmp_path / "reel"
    folder.mkdir()
    for k, name in enumerate(("accordion", "dulcimer", "voices")):
        write_wav(folder / f"{name}.wav", noise(2.2, seed=k + 1, level=0.05))
    window.mixing.open_paths([folder])
    session = window.document.session
    stems = tuple(
        msgspec.structs.replace(
            stem, strip=Strip(stages=(Drive(id=100 + 3 * k), Echo(id=101 + 3 * k), Drive(id=102 + 3 * k)))
        )
        for k, stem in enumerate(session.sound.stems)
    )
    sound = msgspec.structs.replace(session.sound, stems=stems)
    window.document.edit(msgspec.structs.replace(session, sound=sound, last_id=200), "strips")
    window.document.go_to(MIX)
    window.start()
    qtbot.waitUntil(lambda: bool(window.transport.status["beat"]), timeout=60_000)
    return window


def kept_now(window):
    return window.mixing.keeper.kept_of(window.document.session.sound)


def wait_until_kept(window, qtbot, count=3):
    qtbot.waitUntil(lambda: len(kept_now(window)) == count, timeout=120_000)


def heard(window, qtbot, file):
    """What the output gets of the whole mix."""
    transport = window.transport
    transport.pause()
    for attempt in range(5):
        path = file.with_stem(f"{file.stem} {attempt}")
        qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
        transport.seek(0)
        qtbot.waitUntil(lambda: transport.status["position"] < 0.1, timeout=5000)
        ran_out = int(transport.status["underruns"])
        transport.disturb("record", path=str(path))
        transport.play()
        qtbot.waitUntil(lambda: transport.position_s > 1.6, timeout=60_000)
        transport.pause()
        qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
        transport.disturb("record")
        qtbot.waitUntil(lambda path=path: path.exists() and soundfile.info(path).frames > RATE, timeout=5000)
        if int(transport.status["underruns"]) == ran_out:
            break  # otherwise other work took both cores, and there are gaps
    out = soundfile.read(path)[0].T
    return out[:, int(np.flatnonzero(np.abs(out).max(axis=0) > 0.0)[0]) :]


def exported(window, path):
    for _ in export(window.document.session, path, bits="64f", tail=0.0):
        pass
    out = soundfile.read(path)[0].T
    return out[:, int(np.flatnonzero(np.abs(out).max(axis=0) > 0.0)[0]) :]


def assert_heard(window, qtbot, tmp_path, name):
    count = int(1.2 * RATE)
    wanted = exported(window, tmp_path / f"{name}.wav")
    assert np.array_equal(heard(window, qtbot, tmp_path / f"heard {name}.wav")[:, :count], wanted[:, :count])


def test_stems_are_kept_while_hands_rest_played_and_computed_after_an_edit(window, qtbot, tmp_path):
    wait_until_kept(window, qtbot)
    view = window.mixing.view
    rows = [view.rows[stem.id] for stem in window.document.session.sound.stems]
    assert (
        "3 kept" in view.counts.text()
        and all("kept" in one.kite.accessibleDescription() for one in rows)
        and view.kept == {one.id for one in window.document.session.sound.stems}
    )
    assert_heard(window, qtbot, tmp_path, "kept")
    # An edit: this stem is computed at once, and kept again after a while; taken back, it is known at once.
    number = window.document.session.sound.stems[1].id
    window.document.go_to(number)
    before = kept_now(window)
    window.document.put(("upper", "level_db"), -5.0, "Level")
    window.document.go_to(MIX)
    assert {one.strip for one in kept_now(window)} == {one.strip for one in before} - {number}
    assert_heard(window, qtbot, tmp_path, "edited")
    wait_until_kept(window, qtbot)
    assert_heard(window, qtbot, tmp_path, "kept again")
    window.document.undo()
    assert kept_now(window) == before
    assert_heard(window, qtbot, tmp_path, "taken back")


def test_what_is_kept_may_vanish_be_cut_or_be_removed_and_sound_goes_on(window, qtbot, tmp_path):
    wait_until_kept(window, qtbot)
    transport, ended = window.transport, []
    transport.failed.connect(ended.append)
    transport.play()
    qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.2, timeout=30_000)
    for one in kept_now(window)[:2]:
        with open(one.path, "r+b") as file:
            file.truncate(1000)
    qtbot.waitUntil(lambda: len(kept_now(window)) == 1, timeout=10_000)
    wait_until_kept(window, qtbot)
    shutil.rmtree(kept.folder())
    assert_heard(window, qtbot, tmp_path, "without the folder")
    window.menus.actions_by_id["forget-results"].trigger()
    assert kept_now(window) == ()
    assert_heard(window, qtbot, tmp_path, "computed")
    wait_until_kept(window, qtbot)
    assert len(list(kept.folder().iterdir())) == 3 and not ended
    window.menus.actions_by_id["keep-results"].trigger()
    assert kept_now(window) == () and not window.mixing.keeper.on
    assert_heard(window, qtbot, tmp_path, "switched off")
    assert "kept" not in window.mixing.view.counts.text()
