"""Painting gives way to keys and mouse: what is kept takes turns, what lives leaves looks out, and all of it comes."""

import time
from types import SimpleNamespace

import pytest
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from stonekite.desktop.pictures import turn as turns
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.pictures.turn import Turn, turn
from stonekite.stages.compressor import Compressor


class Slow(Picture):
    """A picture whose one layer takes 8 ms to paint."""

    def __init__(self) -> None:
        super().__init__()
        self.looks = 0
        self.painted = 0

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def paintEvent(self, event) -> None:
        self.looks += 1
        self.layer(QPainter(self), "kept", self._paint)

    def _paint(self, painter: QPainter) -> None:
        time.sleep(0.008)
        self.painted += 1


@pytest.fixture
def pictures(qtbot):
    made = [Slow() for _ in range(3)]
    for picture in made:
        qtbot.addWidget(picture)
        picture.resize(60, 40)
        picture.show()
        qtbot.waitExposed(picture)
    qtbot.waitUntil(lambda: all(picture.painted for picture in made) and not turn.over)
    return made


def test_what_one_edit_outdates_is_painted_in_several_turns(pictures, qtbot):
    before = [picture.painted for picture in pictures]
    for picture in pictures:
        picture.renew()
    for picture in pictures:
        picture.repaint()  # all in one turn: the events do not come in between
    assert [p.painted - b for p, b in zip(pictures, before, strict=True)] == [1, 0, 0]
    qtbot.waitUntil(lambda: [p.painted - b for p, b in zip(pictures, before, strict=True)] == [1, 1, 1])


def test_nothing_waits_for_more_than_eight_turns(pictures):
    picture = pictures[1]
    with turn:
        time.sleep(0.006)  # the turn is used up, and its end never comes
    picture.renew()
    painted, looks = picture.painted, 0
    while picture.painted == painted and looks < 20:
        picture.repaint()
        looks += 1
    assert looks == 9


def test_what_cannot_wait_is_painted_at_once(pictures):
    with turn:
        time.sleep(0.006)
    painted = [picture.painted for picture in pictures]
    pictures[0].at_once("kept")
    pictures[1].renew()
    for picture in pictures[:2]:
        picture.repaint()
    assert pictures[0].painted == painted[0] + 1
    assert pictures[1].painted == painted[1]


def test_a_hidden_picture_is_painted_whole_for_whoever_takes_it(pictures):
    picture = pictures[2]
    picture.hide()
    painted = picture.painted
    picture.renew()
    with turn:
        time.sleep(0.006)
        picture.grab()
    assert picture.painted == painted + 1


def test_a_turn_counts_what_is_spent_in_it_once_and_is_new_after_the_events(qtbot, monkeypatch):
    now = [0.0]
    monkeypatch.setattr(turns, "time", SimpleNamespace(perf_counter=lambda: now[0]))
    mine = Turn()
    with mine:
        assert not mine.over
        with mine:
            now[0] += 0.003
        assert not mine.over and not mine.busy
        now[0] += 0.003
        assert mine.over
    assert mine.over and mine.busy
    qtbot.waitUntil(lambda: not mine.over)
    assert mine.busy
    now[0] += 0.041
    assert not mine.busy


def test_what_keeps_a_history_gets_a_look_for_each_that_is_left_out(opened, monkeypatch):
    """While an edit is painted, at most two looks in a row are left out."""
    opened.document.put(("stages",), (Compressor(id=40),), "compressor")
    opened.stages.choose(40, "upper")
    shown = []
    monkeypatch.setattr(opened.panel, "show_live", shown.append)
    monkeypatch.setattr(Turn, "busy", property(lambda self: False))
    for _ in range(3):
        opened.showing.tick()
    assert len(shown) == 3
    monkeypatch.setattr(Turn, "busy", property(lambda self: True))
    seen = []
    for _ in range(9):
        opened.showing.tick()
        seen.append(len(shown) - 3)
    assert seen == [0, 0, 3, 3, 3, 6, 6, 6, 9]
