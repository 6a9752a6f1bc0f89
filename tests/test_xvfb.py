"""The application as it is started, on a real (virtual) screen."""

import os
import shutil
import signal
import subprocess
import sys
import time

import pytest
from conftest import noise, write_wav

pytestmark = pytest.mark.processes
needs_xvfb = pytest.mark.skipif(
    shutil.which("xvfb-run") is None, reason="needs xvfb-run (scripts/test installs it)"
)

ROBOT = """
import sys
from PySide6.QtCore import QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from stonekite.desktop.shell import application
from stonekite.desktop.shell.window import Window

seen = []
real = Window.start
def start(window):
    real(window)
    QTimer.singleShot(300, lambda: act(window))
def act(window):
    seen.append(QApplication.platformName())
    seen.append(window.document.name)
    QTest.mouseClick(window.empty_view.button, __import__('PySide6.QtCore').QtCore.Qt.MouseButton.LeftButton)
    seen.append(len(window.document.strip.stages))
    seen.append(window.grab().save(sys.argv[2]))
    window.document.discard()
    window.close()
Window.start = start
from pathlib import Path
code = application.run([Path(sys.argv[1])])
print(seen, code)
"""


@needs_xvfb
def test_the_window_opens_a_file_on_a_screen(tmp_path):
    path = write_wav(tmp_path / "quay.wav", noise(0.5))
    environment = {k: v for k, v in os.environ.items() if k != "QT_QPA_PLATFORM"}
    done = subprocess.run(
        ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, "-c", ROBOT, str(path), str(tmp_path / "shot.png")],
        capture_output=True,
        text=True,
        timeout=120,
        env=environment,
    )  # fmt: skip
    assert "['xcb', 'quay', 1, True] 0" in done.stdout, done.stdout + done.stderr
    assert (tmp_path / "shot.png").stat().st_size > 10_000


@needs_xvfb
def test_the_command_opens_and_closes_by_ctrl_c(tmp_path):
    environment = {k: v for k, v in os.environ.items() if k != "QT_QPA_PLATFORM"}
    process = subprocess.Popen(
        ["xvfb-run", "-a", sys.executable, "-m", "stonekite", "--demo"],
        env=environment,
        start_new_session=True,
        stderr=subprocess.PIPE,
        text=True,
    )
    time.sleep(4)
    assert process.poll() is None
    os.killpg(process.pid, signal.SIGINT)  # as a terminal does: to every process of the group
    _, said = process.communicate(timeout=30)
    assert "Traceback" not in said


def test_the_window_does_not_load_kernels():
    """The window's process never computes sound: Numba and scipy stay out of it."""
    code = (
        "import sys; from stonekite.desktop.shell.window import Window; from stonekite.desktop.controls import theme\n"
        "from PySide6.QtWidgets import QApplication\n"
        "app = QApplication([]); w = Window(); w.opening.open_demo(); w.grab(); w.measuring.close()\n"
        "print([m for m in ('numba', 'scipy') if m in sys.modules])"
    )
    done = subprocess.run(
        [sys.executable, "-c", code],
        capture_output=True,
        text=True,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )
    assert done.stdout.strip().endswith("[]"), done.stdout + done.stderr
