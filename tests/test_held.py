"""Buttons and keys held while what they hold goes, and handlers that fail: the window goes on."""

import sys

import numpy as np
import pytest
from conftest import THOROUGH, noise, session_on, write_wav
from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget

from stonekite.desktop.controls.guarded import _is_handler, _kinds
from stonekite.desktop.kite.kite_map import KiteMap
from stonekite.session import limits, storage
from stonekite.session.spur import Spur
from stonekite.session.types import Strip
from stonekite.stages.registry import KINDS


def centre_of(window, stage: int, leg: str = "upper") -> QPoint:
    stone = window.kite._layout.stone(stage, leg)
    return QPoint(int(stone.x), int(stone.y))


@pytest.fixture
def opened(window, tmp_path):
    window.opening.open_path(write_wav(tmp_path / "quay.wav", noise(2.0)))
    return window


def test_a_stone_that_goes_while_it_is_held_is_let_go_of(opened, qtbot):
    for drags in (False, True):
        opened.stages.add("eq")
        number = opened.stages.chosen[0]
        where = centre_of(opened, number)
        qtbot.mousePress(opened.kite, Qt.MouseButton.LeftButton, pos=where)
        if drags:
            qtbot.mouseMove(opened.kite, pos=where + QPoint(40, 4))
        opened.document.undo()
        qtbot.mouseRelease(opened.kite, Qt.MouseButton.LeftButton, pos=where + QPoint(40, 4) * drags)
        assert opened.document.stage(number) is None


def test_every_handler_of_the_window_is_guarded(window):
    """Whatever a handler raises is told, and ends nothing; a class that comes later is forgotten nowhere."""
    for kind in _kinds(QObject):
        for name, handler in vars(kind).items():
            if callable(handler) and _is_handler(name):
                assert hasattr(handler, "__wrapped__"), f"{kind.__name__}.{name}"


def test_what_handlers_raise_is_told_and_the_window_goes_on(opened, qtbot, monkeypatch, tmp_path):
    from stonekite.desktop.shell import faults

    monkeypatch.setattr(faults, "faults_file", lambda: tmp_path / "log" / "faults.log")
    told = []
    opened.faults.said.connect(told.append)
    monkeypatch.setattr(sys, "excepthook", opened.faults._hear)

    def fails(*_):
        raise ValueError("the gangway is up")

    monkeypatch.setattr(KiteMap, "_hit", fails)
    for _ in range(3):
        qtbot.mouseMove(opened.kite, pos=QPoint(30, 30))
        qtbot.mouseClick(opened.kite, Qt.MouseButton.LeftButton, pos=QPoint(40, 40))
    assert len(told) == 1 and "the gangway is up" in told[0] and "faults.log" in told[0]
    written = (tmp_path / "log" / "faults.log").read_text()
    assert "the gangway is up" in written and "Traceback" in written
    monkeypatch.undo()
    opened.stages.add("eq")
    assert opened.stages.stage is not None


def test_a_blind_test_ends_when_something_else_is_shown(opened, qtbot, tmp_path):
    other = write_wav(tmp_path / "pier.wav", noise(1.0, seed=2))
    for what in ("opened", "another view"):
        opened.opening.open_path(tmp_path / "quay.wav")
        opened.blind_testing.ask()
        view = opened.blind_testing.view
        from stonekite.session.blind import Trials

        view._keys = ("processed", "unprocessed")
        view.trials = Trials("abx", "now", "unprocessed", 5)
        view._pages.setCurrentIndex(1)
        view.begun.emit()
        assert opened.blind_testing.running and not opened.menus.isVisible()
        if what == "opened":
            opened.opening.open_path(other)
        else:
            opened.show_view("stage")
        assert not opened.blind_testing.running and not opened.hearing.handed_over
        assert opened.menus.isVisible() and opened.listen.isVisible()
        assert opened.pages.currentWidget() is opened.work


def test_inside_a_stage_another_session_is_opened(opened, tmp_path):
    opened.stages.add("bands")
    opened._go_in(opened.stages.chosen[0])
    assert opened.kite.inside
    opened.document.discard()
    opened.opening.open_demo()
    assert not opened.kite.inside
    opened.stages.add("gain")


def test_limits_hold_where_things_are_made(opened, tmp_path):
    told = []
    opened.document.refused.connect(told.append)
    opened.stages.said.connect(told.append)
    for _ in range(70):
        opened.stages.add("gain")
    assert len(opened.document.strip.stages) == 64
    assert told and "64 stages" in told[-1]
    opened.stages.add("bands")
    session = opened.document.session
    storage.save(session, tmp_path / "full.kite")
    assert storage.load(tmp_path / "full.kite").sound.stems[0].strip == opened.document.strip
    many = session_on(tmp_path / "quay.wav", Strip(spurs=tuple(_spur(k) for k in range(8))))
    assert "256 stages" in limits.excess(many)
    assert limits.excess(session) == ""


def _spur(k: int) -> Spur:
    from stonekite.stages.branch import Branch

    stages = tuple(KINDS["gain"].stage(id=1000 * (k + 1) + n) for n in range(1, 61))
    return Spur(name=f"Pier {k}", branch=Branch(id=1000 * (k + 1), stages=stages))


@pytest.mark.slow
def test_a_robot_holds_buttons_while_things_go(opened, qtbot):
    """Presses on everything that can be pressed, with undo, removal, views and openings before they are let go of."""
    rng = np.random.default_rng(11)
    window, raised = opened, []
    hook, sys.excepthook = sys.excepthook, lambda *told: raised.append(told[1])
    window.opening.open_demo()
    kinds = list(KINDS)
    meanwhile = (
        lambda: window.document.undo(),
        lambda: window.document.redo(),
        lambda: window.stages.remove(),
        lambda: window.stages.add(kinds[int(rng.integers(len(kinds)))]),
        lambda: window.show_view(("source", "stage", "output", "compare")[int(rng.integers(4))]),
        lambda: window.stages.choose_other_leg(),
        lambda: window.opening.open_demo(),
        lambda: window.set_split(("left-right", "mid-side")[int(rng.integers(2))], "half-sum"),
    )
    window.opening.may_leave = lambda: True
    keys = (
        Qt.Key.Key_Left,
        Qt.Key.Key_Up,
        Qt.Key.Key_Plus,
        Qt.Key.Key_Delete,
        Qt.Key.Key_Escape,
        Qt.Key.Key_Return,
    )
    try:
        for _ in range(3000 if THOROUGH else 220):
            widgets = [
                w for w in window.findChildren(QWidget) if w.isVisible() and w.width() > 3 and w.height() > 3
            ]
            held = widgets[int(rng.integers(len(widgets)))]
            start = QPoint(int(rng.integers(held.width())), int(rng.integers(held.height())))
            end = start + QPoint(int(rng.integers(-60, 60)), int(rng.integers(-40, 40)))
            QTest.mousePress(held, Qt.MouseButton.LeftButton, pos=start)
            if rng.random() < 0.6:
                QTest.mouseMove(held, pos=end)
            if rng.random() < 0.7:
                meanwhile[int(rng.integers(len(meanwhile)))]()
            QApplication.processEvents()
            try:
                QTest.mouseRelease(held, Qt.MouseButton.LeftButton, pos=end)
                QTest.keyClick(held, keys[int(rng.integers(len(keys)))])
            except RuntimeError:
                pass  # the widget itself is gone
            popup = QApplication.activePopupWidget() or QApplication.activeModalWidget()
            if popup is not None:
                popup.close()
            for dialog in window.findChildren(QWidget):
                if dialog.isWindow() and dialog.isVisible():
                    dialog.close()
    finally:
        sys.excepthook = hook
    assert not raised, raised[:3]
