"""What goes wrong in the window itself: said, and written to a file that a user can send; the window goes on."""

import sys
import time
import traceback
from contextlib import suppress
from pathlib import Path
from types import TracebackType

import platformdirs
from PySide6.QtCore import QObject, Signal

from stonekite import __version__
from stonekite.words import said

MOST_BYTES = 1 << 20
"""The file is begun anew beyond this; the one before is kept beside it."""
AGAIN_S = 10.0
"""The same fault is said again after so long, and always counted in the file."""


def faults_file() -> Path:
    """Where faults are written."""
    return Path(platformdirs.user_log_path("stonekite")) / "faults.log"


class Faults(QObject):
    """Hears of every exception that nobody has caught. `said` has a sentence about it."""

    said = Signal(str)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._last = ("", 0.0)

    def listen(self) -> None:
        """From now on."""
        sys.excepthook = self._hear

    def _hear(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if not isinstance(error, Exception):
            sys.__excepthook__(kind, error, trace)
            return
        told = "".join(traceback.format_exception(kind, error, trace))
        print(told, file=sys.stderr)
        self._write(told)
        words, now = f"{kind.__name__}: {error}", time.monotonic()
        if words != self._last[0] or now - self._last[1] > AGAIN_S:
            self._last = words, now
            self.said.emit(
                said(
                    "Stone Kite failed at this: {words}. It goes on; what happened is written in “{path}”."
                ).format(words=words, path=faults_file())
            )

    def _write(self, told: str) -> None:
        with suppress(OSError):
            path = faults_file()
            path.parent.mkdir(parents=True, exist_ok=True)
            if path.exists() and path.stat().st_size > MOST_BYTES:
                path.replace(path.with_suffix(".old"))
            with path.open("a", encoding="utf-8", errors="replace") as file:
                file.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} Stone Kite {__version__}\n{told}\n")
