"""From an open file to the export, by mouse and keys: four grips are made by pointing, ridden over three sections, the
rides of one section go in another, and what is exported has the levels that the grips say."""

import numpy as np
import pytest
from conftest import RATE, write_wav
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from stonekite.engine.offline.render import open_source, rendered
from stonekite.session import gripping, ride_edits
from stonekite.session.ride_edits import Address
from stonekite.session.types import Section
from stonekite.stages import riding

LEFT_HZ, RIGHT_HZ, LENGTH_S = 440.0, 1000.0, 9.0
NAMES = ("Direct", "Amplifier", "Torn top", "All")


def level_db(signal: np.ndarray, hertz: float, begin_s: float, end_s: float) -> float:
    """The level of a tone in a stretch of a signal (frames,), against 0.25."""
    part = signal[int(begin_s * RATE) : int(end_s * RATE)]
    window = np.hanning(len(part))
    turn = np.exp(-2j * np.pi * hertz * np.arange(len(part)) / RATE)
    return float(20 * np.log10(2 * np.abs(np.sum(part * window * turn)) / window.sum() / 0.25))


def click(widget, pos=None, button=Qt.MouseButton.LeftButton) -> None:
    QTest.mouseClick(widget, button, pos=pos or widget.rect().center())


@pytest.mark.slow
def test_four_grips_are_pointed_ridden_copied_and_exported(window, qtbot, tmp_path):
    t = np.arange(int(LENGTH_S * RATE)) / RATE
    tones = 0.25 * np.stack([np.sin(2 * np.pi * LEFT_HZ * t), np.sin(2 * np.pi * RIGHT_HZ * t)])
    window.opening.open_path(write_wav(tmp_path / "cable zither.wav", tones, RATE, "FLOAT"))
    document, grips, lane = window.document, window.grips, window.riding.lane
    window.set_split("left-right", "")
    window.spurs.add_from("left")
    spur = window.spurs.chosen
    click(window.spur_view.row.controls["placed"])
    window.spur_view.row.controls["position"].moved.emit(100.0, object())
    document.set_sections(
        tuple(
            Section(name=name, start_s=3.0 * k, end_s=3.0 * k + 3.0)
            for k, name in enumerate(("Cast off", "Midstream", "Landing"))
        )
    )

    # Four grips, each pointed at one control anywhere in the window.
    grips.show()
    for k, name in enumerate(NAMES):
        click(grips.add)
        assert grips.pointing == k
        if k == 2:
            window.spurs.choose(spur)
            window.show_view("spur")
        if k == 3:
            window.show_view("output")
        control = (
            window.leg_rows["upper"].level,
            window.leg_rows["lower"].level,
            window.spur_view.row.controls["level_db"],
            window.output_view.controls[("trim_db",)],
        )[k]
        click(control)
        QTest.keyClick(grips, Qt.Key.Key_Escape)
        card = grips.cards[k]
        card.name.setFocus()
        card.name.selectAll()
        QTest.keyClicks(card.name, name)
        QTest.keyClick(card.name, Qt.Key.Key_Return)
    strip = document.strip
    assert [grip.name for grip in strip.grips] == list(NAMES)
    assert [[t.of for t in grip.targets] for grip in strip.grips] == [["leg"], ["leg"], ["spur"], ["output"]]

    # Each is ridden: another height in each section, drawn under the timeline.
    heights = ((0.2, 0.45, 0.3), (0.3, 0.25, 0.6), (0.6, 0.3, 0.45), (0.4, 0.35, 0.3))
    for k, row in enumerate(heights):
        grips.cards[k].field.ride_asked.emit()
        assert window.riding.rides.chosen == Address("grip", k, "position")
        for begin_s, height in zip((0.0, 3.0, 6.0), row, strict=True):
            for at_s in (begin_s + 0.4, begin_s + 2.6):
                place = QPoint(round(window.timeline.x_of(at_s)), round(height * lane.height()))
                click(lane, place)
        QApplication.processEvents()
    assert len(ride_edits.rides_in(document.strip)) == 4

    def check() -> None:
        with open_source(document.stem.source) as reader:
            made = np.concatenate([out for _, out in rendered(reader, document.strip)], axis=1)
        strip = document.strip

        def wanted(address: Address, at_s: float) -> float:
            ride, setting = ride_edits.ride_of(strip, address), ride_edits.setting_of(strip, address)
            return float(riding.along(ride, setting, np.array([at_s]))[0])

        for begin_s in (1.0, 4.0, 7.0):
            at_s = begin_s + 0.5
            whole = wanted(Address("output", 0, "trim_db"), at_s)
            for channel, hertz, address in (
                (0, LEFT_HZ, Address("leg", 0, "level_db")),
                (1, RIGHT_HZ, Address("leg", 1, "level_db")),
                (1, LEFT_HZ, Address("spur", spur, "level_db")),
            ):
                heard = level_db(made[channel], hertz, begin_s, begin_s + 1.0)
                assert heard == pytest.approx(wanted(address, at_s) + whole, abs=0.1)

    for k, card in enumerate(grips.cards[:4]):  # knobs follow
        window.riding.tick(4.5)
        window.showing.follow_rides()
        assert card.field.value == pytest.approx(100.0 * ride_edits.grip_position(document.strip, k, 4.5))
    check()
    before = [ride_edits.grip_position(document.strip, k, 1.5) for k in range(4)]
    menu = window.sections.menu(2)
    inner = next(a.menu() for a in menu.actions() if a.menu() is not None)
    next(action for action in inner.actions() if action.text() == "Cast off").trigger()
    after = [ride_edits.grip_position(document.strip, k, 7.5) for k in range(4)]
    assert after == pytest.approx(before, abs=0.005)
    assert all(gripping.is_there(document.strip, t) for g in document.strip.grips for t in g.targets)
    check()
    document.undo()
    check()
