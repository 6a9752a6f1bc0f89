"""Two files in the real window: out, back with what happened elsewhere, repaired, heard, written."""

import numpy as np
import pytest
import soundfile
from conftest import RATE, write_wav
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QWidget
from test_two_files import music

pytestmark = pytest.mark.processes


@pytest.fixture
def desk(window, qtbot, tmp_path):
    path = write_wav(tmp_path / "landing stage.wav", music(4.0, 5))
    window.opening.open_path(path)
    window.show_view("source")
    click(window.source_view.pair)
    assert window.pairs.view.isVisible()
    qtbot.waitUntil(lambda: window.pairs.pairing.rehearsed is not None, timeout=60_000)
    return window.pairs


def click(widget: QWidget, where=None) -> None:
    QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=where or widget.rect().center())


def drop(window, paths):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    window.dropEvent(
        QDropEvent(
            QPointF(400, 300),
            Qt.DropAction.CopyAction,
            data,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
    )


def test_out_and_back_by_the_mouse_is_exact(desk, window, qtbot, tmp_path, monkeypatch):
    view, pairing = desk.view, desk.pairing
    assert "bit for bit" in view.verdict.text()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a: str(tmp_path))
    click(view.write)
    qtbot.waitUntil(lambda: pairing.written is not None, timeout=60_000)
    assert pairing.written.changed == 0
    names = [str(tmp_path / name) for name in pairing.names]
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a: (names, ""))
    click(view.back)
    qtbot.waitUntil(lambda: pairing.left is not None, timeout=60_000)
    assert pairing.left.exact and not view.all.isVisible()
    assert "as noted" in view.told.text()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "joined.wav"), ""))
    click(view.join)
    qtbot.waitUntil(lambda: bool(pairing.joined), timeout=60_000)
    assert np.array_equal(
        soundfile.read(tmp_path / "joined.wav")[0], soundfile.read(tmp_path / "landing stage.wav")[0]
    )
    assert soundfile.info(tmp_path / "joined.wav").subtype == "PCM_24"
    click(view.open)
    qtbot.waitUntil(lambda: window.document.stem.name == "joined")


def test_a_softer_and_a_later_part_are_repaired_heard_and_written(desk, window, qtbot, tmp_path, monkeypatch):
    view, pairing = desk.view, desk.pairing
    sound = soundfile.read(tmp_path / "landing stage.wav")[0].T
    mid, side = (sound[0] + sound[1]) / 2, (sound[0] - sound[1]) / 2
    soundfile.write(tmp_path / "one.wav", mid * 10 ** (-0.4 / 20), RATE, subtype="PCM_24")
    soundfile.write(tmp_path / "two.wav", np.concatenate([np.zeros(576), side]), RATE, subtype="PCM_24")
    drop(window, [tmp_path / "two.wav", tmp_path / "one.wav"])
    qtbot.waitUntil(lambda: pairing.back is not None, timeout=60_000)
    told = [row.sentence.text() for row in view.rows]
    assert "Mid is 0.40 dB softer than it went." in told
    assert "Side is late by 12.00 ms (576 samples)." in told
    assert not view.join.isEnabled() and not view.hear.isEnabled()
    wrong = [row.sentence.text() for row in view.rows if row.button is not None]
    for sentence in wrong:
        click(next(row.button for row in view.rows if row.sentence.text() == sentence))
    assert len(pairing.repairs) == len(wrong) == 3
    qtbot.waitUntil(lambda: pairing.left is not None, timeout=60_000)
    assert pairing.left.peak_db < -130 and not pairing.left.worked
    window.start()
    click(view.hear, view.hear.cell("joined").center().toPoint())
    qtbot.waitUntil(lambda: desk._heard == "joined", timeout=60_000)
    assert window.hearing.handed_over
    window.show_view("stage")
    assert desk._heard == "recording" and not window.hearing.handed_over
    window.show_view("pair")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "joined"), ""))
    click(view.join)
    qtbot.waitUntil(lambda: bool(pairing.joined), timeout=60_000)
    back = soundfile.read(tmp_path / "joined.wav")[0].T
    assert back.shape == sound.shape and np.abs(back - sound).max() < 3e-7


def test_what_would_be_cut_off_is_said_and_trimmed_by_a_click(window, qtbot, tmp_path):
    loud = music(2.0, 9)
    loud[1] = -0.9 * loud[0]
    window.opening.open_path(write_wav(tmp_path / "hot.wav", loud / np.abs(loud).max() * 0.95))
    window.pairs.show()
    view, pairing = window.pairs.view, window.pairs.pairing
    qtbot.waitUntil(lambda: pairing.rehearsed is not None, timeout=60_000)
    click(view.cards["raised-side"])
    assert pairing.way.bits == "32f" and pairing.over == (False, False)
    click(view.bits, view.bits.cell("24").center().toPoint())
    assert pairing.over == (False, True) and "Side would be cut off" in view.verdict.text()
    qtbot.waitUntil(lambda: pairing.rehearsed is not None, timeout=60_000)
    assert pairing.rehearsed.overs > 0 and "will not come back" in view.verdict.text()
    click(view.trim)
    assert pairing.over == (False, False)
    qtbot.waitUntil(lambda: pairing.rehearsed is not None, timeout=60_000)
    assert pairing.rehearsed.overs == 0 and "turned down" in view.verdict.text()
    # Another recording: nothing of this one stays.
    window.opening.open_path(write_wav(tmp_path / "other.wav", music(1.0, 4)))
    assert pairing.survey is None and pairing.way.trims_db == (0.0, 0.0)


def test_a_test_generator_has_no_files(window, qtbot):
    window.opening.open_generator()
    window.show_view("pair")
    assert not window.pairs.view.write.isEnabled()
    assert "no file" in window.pairs.view.words.text()
