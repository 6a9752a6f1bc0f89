"""Stems on the timeline: dragged, trimmed and stepped in the mix, and what of them is heard then."""

import numpy as np
import pytest
from conftest import RATE, noise, write_wav
from hands import drag
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from stonekite.engine.offline.looking import MOST_COLUMNS, looked_at
from stonekite.session import tree
from stonekite.session.mix import mix_edits, places
from stonekite.session.mix.spans import LEAST_S, Span, dragged, on_frames, snapped, span_of
from stonekite.session.types import Session, Sound, Source, Stem, Strip
from stonekite.stages.gain import Gain
from stonekite.stages.riding import Point, Ride


@pytest.mark.parametrize("seed", range(200))
def test_a_span_stays_within_its_recording_and_the_timeline_and_what_stays_stays_where_it_is(seed):
    rng = np.random.default_rng(seed)
    whole = float(rng.uniform(0.5, 20.0))
    first = float(rng.uniform(0.0, 0.8 * whole)) * (seed % 3 > 0)
    span = Span(
        float(rng.uniform(0.0, 9.0)) * (seed % 4 > 0), first, float(rng.uniform(0.2, 1.0)) * (whole - first)
    )
    by = float(rng.uniform(-25.0, 25.0))
    moved, begun, ended = (dragged(span, whole, hold, by) for hold in ("middle", "start", "end"))
    for one in (moved, begun, ended):
        assert (
            one.start_s >= 0.0 and one.from_s >= -1e-12 and one.length_s >= min(LEAST_S, span.length_s) - 1e-9
        )
        assert one.from_s + one.length_s <= whole + 1e-9
    assert moved[1:] == span[1:] and ended[:2] == span[:2]
    assert begun.end_s == pytest.approx(span.end_s)
    assert begun.start_s - begun.from_s == pytest.approx(span.start_s - span.from_s)
    for hold, one in (("start", begun), ("end", ended), ("middle", moved)):
        assert dragged(span, whole, hold, 0.0) == span
        back = dragged(
            one, whole, hold, -(one.end_s - span.end_s if hold == "end" else one.start_s - span.start_s)
        )
        assert back == pytest.approx(span)


def test_ends_come_to_the_nearest_mark_within_reach():
    span = Span(1.0, 0.0, 2.0)
    assert span.start_s + snapped(span, "middle", 0.48, [1.5, 9.0], 0.1) == 1.5
    assert span.end_s + snapped(span, "middle", 0.52, [3.5, 9.0], 0.1) == 3.5
    assert span.end_s + snapped(span, "end", -0.45, [2.5, 1.0], 0.1) == 2.5
    assert snapped(span, "start", 0.3, [1.5], 0.1) == 0.3 and snapped(span, "end", 0.3, [], 0.1) == 0.3
    assert on_frames(Span(1 / 3, 0.1000049, 2.0), 1000) == (0.333, 0.1, 2.0)


def test_what_rides_goes_with_the_recording_and_not_with_where_it_is_cut():
    ride = Ride(path="upper.gain_db", points=(Point(at_s=2.0, value=-3.0), Point(at_s=4.0, value=1.0)))
    strip = Strip(stages=(Gain(id=5, rides=(ride,)),))
    source = Source(path="none", rate=RATE, frames=10 * RATE)
    session = tree.counted(
        Session(sound=Sound(stems=(Stem(id=1, name="a", source=source, start_s=1.0, strip=strip),)))
    )

    def points(**times):
        stem = mix_edits.put_time(session, 1, **times).sound.stems[0]
        return [point.at_s for point in stem.strip.stages[0].rides[0].points]

    assert points(start_s=1.5) == [2.5, 4.5]
    assert points(start_s=1.5, from_s=0.5, length_s=3.0) == [2.0, 4.0]
    assert points(from_s=0.5) == [1.5, 3.5] and points(length_s=2.0) == [2.0, 4.0]


@pytest.mark.parametrize("frames", [1, 5, MOST_COLUMNS, MOST_COLUMNS + 1, 300_001])
def test_a_recording_is_seen_as_its_extremes(frames, tmp_path):
    sound = noise(frames / RATE, level=0.2)[:, :frames]
    path = write_wav(tmp_path / "a.wav", sound, subtype="FLOAT")
    steps, seen = looked_at(Source(path=str(path), rate=RATE, frames=frames)), None
    try:
        while True:
            assert 0.0 <= next(steps) <= 1.0
    except StopIteration as end:
        seen = end.value
    stretch = -(-frames // MOST_COLUMNS)
    assert seen.shape[1] == -(-frames // stretch) <= MOST_COLUMNS
    for k in (0, seen.shape[1] // 2, seen.shape[1] - 1):
        there = sound.astype(np.float32)[:, k * stretch : (k + 1) * stretch]
        assert seen[0, k] == there.min() and seen[1, k] == there.max()


@pytest.fixture
def window(window, tmp_path, qtbot):
    """Two stems of four and of three seconds, shown by their times."""
    folder = tmp_path / "reel"
    folder.mkdir()
    for name, seconds in (("accordion", 4.0), ("voices", 3.0)):
        write_wav(folder / f"{name}.wav", noise(seconds, seed=3, level=0.05))
    window.resize(1280, 800)
    window.mixing.open_paths([folder])
    window.mixing.view.times.click()
    qtbot.waitUntil(lambda: cell(window, 1).isVisible() and cell(window, 1).width() > 300)
    window.mixing.view.look(window.mixing._stretch(), 0.0)
    return window


def stem(window, k):
    return window.document.session.sound.stems[k]


def cell(window, k):
    return window.mixing.view.rows[stem(window, k).id].span


def at(window, k, seconds):
    return QPointF(round(cell(window, k)._x_of(seconds)), 20)


def drag_freely(widget, start, end):
    """With Alt held."""
    button, alt = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.AltModifier
    for kind, place, held in (
        (QEvent.Type.MouseButtonPress, start, button),
        (QEvent.Type.MouseMove, end, button),
        (QEvent.Type.MouseButtonRelease, end, Qt.MouseButton.NoButton),
    ):
        here = QMouseEvent(kind, place, widget.mapToGlobal(place), button, held, alt)
        QApplication.sendEvent(widget, here)


def test_a_stem_is_moved_and_trimmed_by_the_mouse(window, qtbot):
    whole = places.timeline(window.document.session.sound)[1] / RATE
    pixel = whole / cell(window, 1).width()
    drag_freely(cell(window, 1), at(window, 1, 1.5), at(window, 1, 2.1))
    assert stem(window, 1).start_s == pytest.approx(0.6, abs=2 * pixel)
    assert round(stem(window, 1).start_s * RATE) / RATE == stem(window, 1).start_s
    window.document.undo()
    assert stem(window, 1).start_s == 0.0
    # Its end comes to the end of the other one, and the beginning of what is heard to where it was.
    drag(qtbot, cell(window, 1), at(window, 1, 1.5), at(window, 1, 2.5) + QPointF(3, 0))
    assert span_of(stem(window, 1)).end_s == 4.0
    window.mixing.view.look(window.mixing._stretch(), 0.0)
    drag(qtbot, cell(window, 1), at(window, 1, 1.0) + QPointF(2, 0), at(window, 1, 2.0))
    span = span_of(stem(window, 1))
    assert span.end_s == 4.0 and span.start_s - span.from_s == pytest.approx(1.0)
    assert span.start_s == pytest.approx(2.0, abs=3 * pixel)
    drag(qtbot, cell(window, 1), at(window, 1, 4.0) - QPointF(2, 0), at(window, 1, 3.0))
    assert span_of(stem(window, 1)).end_s == pytest.approx(3.0, abs=3 * pixel)
    # What was cut is there again when it is drawn out, and not more than there is.
    drag(
        qtbot,
        cell(window, 1),
        at(window, 1, span_of(stem(window, 1)).end_s) - QPointF(2, 0),
        QPointF(5000, 20),
    )
    assert span_of(stem(window, 1)).end_s == 4.0
    assert window.document.session.sound.stems[0] == stem(window, 0) and stem(window, 0).length_s is None


def test_a_drag_can_be_given_up_and_a_click_goes_there(window, qtbot):
    went, before = [], window.document.next_undo
    window.mixing.view.seek_asked.connect(went.append)
    span = cell(window, 1)
    QTest.mousePress(
        span, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(window, 1, 1.0).toPoint()
    )
    QTest.mouseMove(span, at(window, 1, 2.0).toPoint())
    assert span._draft is not None and stem(window, 1).start_s == 0.0
    QTest.keyClick(span, Qt.Key.Key_Escape)
    QTest.mouseRelease(
        span, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(window, 1, 2.0).toPoint()
    )
    assert stem(window, 1).start_s == 0.0 and window.document.next_undo == before and not went
    QTest.mouseClick(
        span, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(window, 1, 1.0).toPoint()
    )
    assert went == [pytest.approx(1.0, abs=0.02)] and window.document.place == stem(window, 1).id


def test_keys_step_a_stem_and_its_ends(window, qtbot):
    span = cell(window, 1)
    span.setFocus()
    QTest.keyClick(span, Qt.Key.Key_Right)
    QTest.keyClick(span, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert stem(window, 1).start_s == pytest.approx(0.11)
    QTest.keyClick(span, Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
    assert span_of(stem(window, 1)) == pytest.approx((0.11, 0.0, 2.9))
    QTest.keyClick(span, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert span_of(stem(window, 1)) == pytest.approx((0.21, 0.1, 2.8))
    asked = []
    window.mixing.view.time_asked.connect(asked.append)
    QTest.keyClick(span, Qt.Key.Key_Return)
    assert asked == [stem(window, 1).id]
    window.mixing.view.times.click()
    assert not span.isVisible() and window.mixing.view.rows[stem(window, 1).id].kite.isVisible()


def test_recordings_are_drawn_and_the_view_stays_where_it_was(window, qtbot):
    overview = window.mixing.overviews
    qtbot.waitUntil(lambda: overview.of(stem(window, 0).source) is not None, timeout=60_000)
    assert overview.of(stem(window, 0).source).max() > 0.05
    window.timeline.zoom(0.4, 1.0)
    view = window.timeline.view
    window.mixing.view.look(window.mixing._stretch(), 0.5)
    drag_freely(cell(window, 1), at(window, 1, 1.0), at(window, 1, 1.2))
    assert stem(window, 1).start_s > 0.1 and window.timeline.view == pytest.approx(view)
