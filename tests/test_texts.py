"""Texts have room: in every editor, at every size of the window, with settings at either end."""

import msgspec
import pytest
from conftest import THOROUGH
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QApplication, QWidget
from texts import cut_off, watched

from stonekite.desktop.model.demo_reel import reel_session
from stonekite.desktop.model.demo_session import lantern_session, wheelhouse_session, zither_session
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import settings_of

SIZES = [(1100, 700), (1280, 800), (1920, 1080)]


def at_the_end(values, end: str):
    changed = {
        name: getattr(setting, end)
        for name, setting in settings_of(type(values)).items()
        if isinstance(setting.default, float)
    }
    return msgspec.structs.replace(values, **changed)


@pytest.mark.slow
@pytest.mark.parametrize("size", SIZES)
def test_no_text_is_cut_off_or_over_another_in_any_editor(opened, size, qtbot):
    window, wrong = opened, []
    window.resize(*size)
    qtbot.wait(50)
    for kind in KINDS:
        window.stages.add(kind)
        stage = window.stages.stage
        for end in ("low", "high"):
            parts = [name for name in ("upper", "lower", "shared") if getattr(stage, name, None) is not None]
            moved = {name: at_the_end(getattr(stage, name), end) for name in parts}
            window.document.put_stage(msgspec.structs.replace(stage, **moved), "ends")
            QApplication.processEvents()
            with watched() as found:
                window.panel.grab()
            wrong += [f"{kind}, {end}: {one}" for one in [*found, *cut_off(window.panel)]]
        window.stages.remove(stage.id)
    assert not wrong


@pytest.mark.slow
@pytest.mark.parametrize("size", SIZES if THOROUGH else SIZES[:1])
def test_no_text_is_cut_off_or_over_another_in_any_view(window, size, qtbot):
    """With all that is measured, in sessions with spurs, amplifiers, echoes and noise."""
    wrong = []
    window.resize(*size)
    window.start()
    for make in (zither_session, lantern_session, wheelhouse_session)[: 3 if THOROUGH else 1]:
        window.document.open(make())
        qtbot.waitUntil(lambda: window.showing.measured is not None, timeout=120_000)
        for view in ("view-source", "view-output", "view-compare", "view-stage"):
            window.menus.actions_by_id[view].trigger()
            qtbot.waitUntil(lambda: not window.switching.comparing.waiting, timeout=120_000)
            with watched() as found:
                window.grab()
            wrong += [f"{make.__name__}, {view}: {one}" for one in [*found, *cut_off(window)]]
        window.document.discard()
    assert not wrong


def test_what_is_cut_off_or_painted_over_is_seen(qtbot):
    """The test above can fail."""

    class Crowded(QWidget):
        def paintEvent(self, event) -> None:
            painter = QPainter(self)
            painter.drawText(QRectF(0, 0, 20, 16), Qt.AlignmentFlag.AlignLeft, "20.00 kHz")
            painter.drawText(QRectF(0, 20, 200, 16), Qt.AlignmentFlag.AlignLeft, "8 beats")
            painter.drawText(QRectF(20, 20, 200, 16), Qt.AlignmentFlag.AlignLeft, "9 beats")
            painter.drawText(QRectF(0, 60, 200, 16), Qt.AlignmentFlag.AlignLeft, "far away")

    widget = Crowded()
    qtbot.addWidget(widget)
    widget.resize(300, 100)
    with watched() as found:
        widget.grab()
    assert len(found) == 2 and "20.00 kHz" in found[0] and "“9 beats” over “8 beats”" in found[1]


@pytest.mark.slow
@pytest.mark.parametrize("size", SIZES)
def test_no_text_is_cut_off_or_over_another_in_the_mix(window, size, qtbot):
    window.resize(*size)
    window.document.open(reel_session())
    window.show_view("mix")
    for end in ("low", "high"):
        for one in window.mixing.view.rows.values():
            for name, field in one.fields.items():
                window.mixing.actions.put_fader(one.number, name, getattr(field.setting, end))
        qtbot.wait(50)
        with watched() as found:
            window.mixing.view.grab()
        assert not [*found, *cut_off(window.mixing.view)], end
    window.mixing.show_kite(1)
    qtbot.wait(50)
    with watched() as found:
        window.mixing.bar.grab()
    assert window.mixing.bar.isVisible() and not [*found, *cut_off(window.mixing.bar)]
