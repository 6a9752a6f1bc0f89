"""Child processes of the window: the player and the workers, spoken to through framed msgpack."""

import contextlib
import os
import subprocess
import sys
import threading
from typing import Any

from PySide6.QtCore import QObject, Signal

from stonekite.framing import read_frame, write_frame


class Child(QObject):
    """A Python module running as a process. `told` gives each value it says, `ended` its exit code.

    Values are sent and received by threads: the window never waits for a pipe.
    """

    told = Signal(object)
    ended = Signal(int)

    def __init__(
        self,
        module: str,
        answers: Any,
        arguments: tuple[str, ...] = (),
        descriptors: tuple[int, ...] = (),
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._closing = False
        self._process = subprocess.Popen(
            [sys.executable, "-m", module, *arguments],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            pass_fds=descriptors,
            process_group=0,  # Ctrl-C in a terminal is for the window, which then ends this process
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen", "QT_LOGGING_RULES": "qt.multimedia.*=false"},
        )
        threading.Thread(target=self._listen, args=(answers,), daemon=True).start()

    @property
    def pid(self) -> int:
        return self._process.pid

    def _listen(self, answers: Any) -> None:
        with contextlib.suppress(OSError, ValueError, RuntimeError):
            while (value := read_frame(self._process.stdout, answers)) is not None:
                self.told.emit(value)
        code = self._process.wait()
        if not self._closing:
            with contextlib.suppress(RuntimeError):  # the window may be gone already
                self.ended.emit(code)

    def send(self, value: Any) -> None:
        """Say something; lost if the process is gone (then `ended` tells)."""
        with contextlib.suppress(OSError, ValueError):
            write_frame(self._process.stdin, value)

    def close(self) -> None:
        """End the process and wait for it."""
        self._closing = True
        with contextlib.suppress(OSError):
            self._process.stdin.close()
        try:
            self._process.wait(2)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
