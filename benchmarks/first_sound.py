"""The first sound on a machine on which nothing has been compiled: from Play in the window, with each demo."""

import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

ONE = """
import sys, time
from PySide6.QtCore import QTimer
from PySide6.QtTest import QTest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication
import numpy as np
from stonekite.desktop.controls import theme
from stonekite.desktop.shell.window import Window
application = QApplication([])
theme.apply(application, "dark")
window = Window()
window.show()
name = sys.argv[1]
opening = window.opening
{"harp": opening.open_demo, "zither": opening.open_zither, "amps": opening.open_amps, "lantern": opening.open_lantern,
 "wheelhouse": opening.open_wheelhouse, "calls": lambda: opening.open_calls(96), "reel": opening.open_reel}[name]()
window.start()
QTest.mouseClick(window.transport_row.play_button, Qt.MouseButton.LeftButton)
begin, words = time.monotonic(), []
while time.monotonic() - begin < 90:
    application.processEvents()
    said = window.menus.engine_words.text()
    if "latency" not in said and (not words or words[-1][1] != said):
        words.append((time.monotonic() - begin, said))
    status = window.transport.status
    if float(status["position"]) > 0.01 and np.isfinite(status["momentary"]).any():
        break
    time.sleep(0.01)
print(f"{time.monotonic() - begin:.1f}")
if "-v" in sys.argv:
    for at, said in words:
        print(f"   {at:5.1f} s: {said}", file=sys.stderr)
window.document.discard()
window.shut_down()
"""
DEMOS = ("harp", "zither", "amps", "lantern", "wheelhouse", "calls", "reel")


def seconds_to_first_sound(demo: str, *more: str) -> float:
    """Of one demo, with an empty cache of kernels."""
    with tempfile.TemporaryDirectory() as cache, tempfile.TemporaryDirectory() as config:
        environment = {
            **os.environ,
            "NUMBA_CACHE_DIR": cache,
            "XDG_CONFIG_HOME": config,
            "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen"),
        }
        done = subprocess.run(
            [sys.executable, "-c", ONE, demo, *more],
            env=environment,
            stdout=subprocess.PIPE,
            text=True,
            check=True,
            cwd=Path(__file__).parent,
        )
    return float(done.stdout.split()[-1])


def rows(quick: bool = False) -> Iterator[tuple[str, str]]:
    """How long each demo takes, and what compiling all kernels takes."""
    for demo in DEMOS[:1] if quick else DEMOS:
        goal = 10 if demo == DEMOS[0] else 15
        yield (
            f"first sound, nothing compiled, demo {demo}",
            f"{seconds_to_first_sound(demo):.1f} s (goal {goal})",
        )
    if not quick:
        yield "processor for compiling all kernels", f"{seconds_to_compile():.0f} s (goal 60)"


def seconds_to_compile() -> float:
    """Of the processor, with an empty cache, for all kernels in all ways that kinds are set."""
    code = "import time; from stonekite.engine.offline.warm import warm_kernels; warm_kernels(); print(time.process_time())"
    with tempfile.TemporaryDirectory() as cache:
        done = subprocess.run(
            [sys.executable, "-c", code],
            env={**os.environ, "NUMBA_CACHE_DIR": cache},
            stdout=subprocess.PIPE,
            text=True,
            check=True,
        )
    return float(done.stdout)


if __name__ == "__main__":
    print(seconds_to_first_sound(*sys.argv[1:]) if sys.argv[1:] else "\n".join(map(str, rows())))
