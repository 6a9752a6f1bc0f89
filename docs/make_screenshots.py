"""Takes the pictures in docs/screenshots from the demo recording: `python docs/make_screenshots.py`."""

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import msgspec
import numpy as np
import soundfile
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QApplication, QWidget

from stonekite.desktop.controls import theme
from stonekite.desktop.model.demo_session import amps_session, calls_session, wheelhouse_session
from stonekite.desktop.shell.window import Window
from stonekite.session.ride_edits import Address
from stonekite.session.types import MIX

FOLDER = Path(__file__).with_name("screenshots")


def wait(seconds: float, until: Callable[[], bool] = lambda: False) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end and not until():
        QApplication.processEvents()
        time.sleep(0.005)


def save(widget: QWidget, name: str) -> None:
    picture = widget.grab()
    picture.save(str(FOLDER / f"{name}.png"))
    print(name, picture.width(), picture.height())


def with_dialog(window: Window, dialog: QWidget, name: str) -> None:
    """The window with a dialog over it, as it stands on the screen."""
    picture = window.grab()
    painter = QPainter(picture)
    painter.fillRect(picture.rect(), theme.faded(theme.roles.ground, 0.5))
    shot = dialog.grab()
    left, top = (picture.width() - shot.width()) // 2, (picture.height() - shot.height()) // 2
    painter.fillRect(left - 1, top - 1, shot.width() + 2, shot.height() + 2, theme.roles.line)
    painter.drawPixmap(left, top, shot)
    painter.end()
    picture.save(str(FOLDER / f"{name}.png"))


def stage_pictures(window: Window) -> None:
    """Stages of the demo."""
    window.stages.add("compressor", "upper")
    window.panel.editors["compressor"].curve.moved.emit({"threshold_db": -32.0, "low_hz": 140.0}, None)
    wait(7.0)
    save(window, "compressor")
    window.document.undo()
    window.document.undo()
    window.stages.add("drive", "lower")
    window.panel.editors["drive"].curve.moved.emit({"drive_db": 18.0}, None)
    wait(4.0)
    save(window, "drive")
    window.document.undo()
    window.document.undo()


def mix_picture(window: Window) -> None:
    """Stems and buses of the reel, while it plays."""
    window.document.discard()
    window.opening.open_reel()
    window.document.go_to(MIX)
    wait(120.0, lambda: window.showing.measured is not None)
    window.transport.seek(int(20.0 * window.rate))
    window.transport.play()
    wait(3.0)
    save(window, "mix")
    window.transport.pause()


def view_pictures(window: Window) -> None:
    """The source check and the output."""
    window.show_view("source")
    wait(1.0)
    save(window, "source-check")
    window.show_view("output")
    window.output_view.picture.moved.emit("left", -70.0, None)
    window.output_view.picture.moved.emit("right", 85.0, None)
    wait(1.5)
    save(window, "output")
    window.document.undo()
    window.document.undo()
    window.show_view("stage")
    wait(1.0)


def compare_pictures(window: Window) -> None:
    """The comparison in both themes, and a blind test."""
    window.switching.keep("only the EQ")
    window.stages.add("compressor", "upper")
    window.panel.editors["compressor"].curve.moved.emit({"threshold_db": -30.0}, None)
    window.switching.keep("calmer middle")
    window.show_view("compare")
    view = window.compare_view
    wait(
        60,
        lambda: window.switching.figures("difference") is not None and not window.switching.comparing.waiting,
    )
    view.frequency.point(1450.0)
    wait(0.5)
    save(window, "compare")
    theme.apply(QApplication.instance(), "light")
    view.time_mode._choose("after")
    wait(0.5)
    save(window, "compare-light")
    theme.apply(QApplication.instance())
    view.time_mode._choose("curves")
    window.blind_testing.ask()
    wait(60, window.blind_testing.view.go.isEnabled)
    save(window, "blind-test")
    window.show_view("stage")
    for _ in range(4):
        window.document.undo()
    wait(1.0)


def path_pictures(window: Window) -> None:
    """The cable zither: spurs, what stands in a stage, a spur aligned, rides and grips."""
    window.document.discard()
    window.opening.open_zither()
    wait(40, lambda: window.showing.measured is not None)
    torn = window.document.strip.spurs[0]
    bands = torn.branch.stages[1]
    window.stages.choose(bands.id, "upper")
    window.transport.play()
    wait(3.5)
    save(window, "spurs")
    window.stages.choose(bands.branches[1].stages[0].id, "upper")
    wait(3.0)
    save(window, "bands")
    window.spurs.choose(torn.id)
    window.spurring.align(torn.id)
    wait(120, lambda: window.spur_view._aligned is not None)
    wait(0.5)
    save(window, "spur")
    window.document.undo()
    window.spurs.choose(0)
    rides(window, torn.id)
    window.transport.pause()
    wait(0.5)


def rides(window: Window, torn: int) -> None:
    """The demo's spurs ride over its sections, with the grips over the window."""
    window.riding.rides.choose(Address("spur", torn, "level_db"))
    window.spurs.choose(torn)
    window.grips.show()
    wait(60.0, lambda: not window.errands.busy)
    window.transport.seek(9 * 48_000)
    wait(2.0)
    window.say("")
    picture = window.grab()
    painter = QPainter(picture)
    shot = window.grips.grab()
    painter.fillRect(207, 329, shot.width() + 2, shot.height() + 2, theme.roles.line)
    painter.drawPixmap(208, 330, shot)
    painter.end()
    picture.save(str(FOLDER / "rides-and-grips.png"))
    window.grips.close()


def pair_pictures(window: Window) -> None:
    """Two component files that were worked on elsewhere, taken back."""
    pairs = window.pairs
    pairs.show()
    pairing = pairs.pairing
    wait(30, lambda: pairing.rehearsed is not None)
    with tempfile.TemporaryDirectory() as folder:
        pairing.write(Path(folder))
        wait(30, lambda: pairing.written is not None)
        mid, side = (soundfile.read(path)[0] for path in pairing.written.paths)
        late = np.concatenate([np.zeros(576), side])
        late[48_000 * 11 : 48_000 * 14] *= 1.4
        soundfile.write(pairing.written.paths[0], 10 ** (-0.4 / 20) * mid, 48_000, subtype="PCM_24")
        soundfile.write(pairing.written.paths[1], late, 48_000, subtype="PCM_24")
        pairing.take_back([Path(path) for path in pairing.written.paths])
        wait(40, lambda: pairing.back is not None)
        pairs.view._repair_all()
        wait(40, lambda: pairing.left is not None)
        wait(0.5)
        save(window, "two-files")
    window.show_view("stage")


def echo_pictures(window: Window) -> None:
    """Calls thrown into an echo, and a voice in noise, while they play."""
    window.document.discard()
    window.document.open(calls_session(96))
    echo = window.document.strip.spurs[0].branch.stages[1]
    window.stages.choose(echo.id, "upper")
    tap = window.panel.editors["echo"]
    tap._add_tap(312.5)
    wait(20, lambda: window.showing.measured is not None)
    wait(2.0)
    window.say("")
    window.transport.seek(4 * 48_000)
    window.transport.play()
    wait(3.2)
    save(window, "echo")
    window.transport.pause()
    window.document.discard()
    window.document.open(wheelhouse_session())
    window.stages.choose(2, "upper")
    window.learning.learn(0.1, 1.1)
    wait(20, lambda: window.stages.stage.shared.learned is not None)
    window.document.set_loop(None)
    wait(9.0)
    window.say("")
    window.transport.seek(int(2.6 * 48_000))
    window.transport.play()
    wait(1.6)
    save(window, "noise")
    window.transport.pause()


def amp_pictures(window: Window) -> None:
    """Three amplifiers wide, one of them and its cabinet."""
    window.document.discard()
    window.document.open(amps_session())
    wait(40, lambda: window.showing.measured is not None)
    left, _, right = window.document.strip.spurs
    window.stages.choose(right.branch.stages[0].id, "upper")
    window.transport.play()
    wait(3.5)
    window.say("")
    save(window, "amp")
    cabinet = left.branch.stages[1]
    window.stages.choose(cabinet.id, "upper")
    second = msgspec.structs.replace(cabinet.upper, mic_2_db=-3.0, mic_2_angle_deg=20.0, room_db=-12.0)
    window.document.put_stage(msgspec.structs.replace(cabinet, upper=second), "second microphone")
    wait(3.0)
    save(window, "cabinet")
    window.transport.pause()


def main(width: int = 1280, height: int = 800) -> None:
    FOLDER.mkdir(exist_ok=True)
    application = QApplication([])
    theme.apply(application)
    window = Window()
    window.resize(width, height)
    window.show()
    window.opening.open_demo()
    window.start()
    wait(60, lambda: window.showing.measured is not None)
    wait(3.0)
    window.say("")
    window.transport.seek(48_000 * 7)
    window.transport.play()
    wait(2.2)
    save(window, "main-window")
    view_pictures(window)
    stage_pictures(window)
    compare_pictures(window)
    window.transport.pause()
    pair_pictures(window)
    dialog = window.sets.ask()
    dialog.list.setCurrentRow(2)
    wait(1.0)
    with_dialog(window, dialog, "export-sets")
    dialog.reject()
    path_pictures(window)
    echo_pictures(window)
    amp_pictures(window)
    mix_picture(window)
    window.document.discard()
    window.close()


if __name__ == "__main__":
    main(*(int(a) for a in sys.argv[1:3]))
