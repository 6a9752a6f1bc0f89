"""A real window that is edited all the time, for tests that end it: `python editing_window.py RECORDING`."""

import sys
import time
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from stonekite.desktop.shell import application
from stonekite.desktop.shell.window import Window

made: list[Window] = []


class Edited(Window):
    def __init__(self) -> None:
        super().__init__()
        made.append(self)
        self.count = 0
        self.timer = QTimer(self)
        self.timer.timeout.connect(self.edit)
        self.timer.start(20)

    def edit(self) -> None:
        if self.document.is_open and self.recovering._journal is not None:
            self.count += 1
            self.document.put(("upper", "level_db"), -0.01 * (self.count % 4000), "Level", self.count)
            print(self.count, time.time(), flush=True)
            assert QApplication.instance() is not None


application.Window = Edited  # type: ignore[misc]
sys.exit(application.run([Path(sys.argv[1])]))
