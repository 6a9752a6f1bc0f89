"""Child processes: the player and the workers, spoken to through framed msgpack."""

import contextlib
import os
import queue
import subprocess
import sys
import threading
from collections.abc import Callable
from typing import Any

from stonekite.processes.framing import framed, read_frame

Deliver = Callable[[Callable[[], None]], None]
"""Has something called by whoever hears of a child: in the window, by its own thread."""


def behind_all() -> None:
    """Have this process work only with what the processor has over."""
    os.setpriority(os.PRIO_PROCESS, 0, 19)
    with contextlib.suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))


class Child:
    """A Python module running as a process. `told` gets each value it says, `ended` its exit code, both by `deliver`.

    Values are sent and received by threads: the window never waits for a pipe.
    """

    def __init__(
        self,
        module: str,
        answers: Any,
        told: Callable[[Any], None],
        ended: Callable[[int], None],
        deliver: Deliver,
        arguments: tuple[str, ...] = (),
        descriptors: tuple[int, ...] = (),
    ) -> None:
        self._told, self._ended, self._deliver = told, ended, deliver
        self._gone = False
        self._closing = False
        process = subprocess.Popen(
            [sys.executable, "-m", module, *arguments],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            pass_fds=descriptors,
            process_group=0,  # Ctrl-C in a terminal is for the window, which then ends this process
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen", "QT_LOGGING_RULES": "qt.multimedia.*=false"},
        )
        assert process.stdin is not None and process.stdout is not None
        self._process = process
        self._to, self._from = process.stdin, process.stdout
        self._outgoing: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        self._threads = [
            threading.Thread(target=self._listen, args=(answers,), daemon=True),
            threading.Thread(target=self._write, daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    @property
    def pid(self) -> int:
        return self._process.pid

    def _listen(self, answers: Any) -> None:
        with contextlib.suppress(OSError, ValueError):
            while (value := read_frame(self._from, answers)) is not None:
                self._say(self._told, value)
        # A frame that could not be read is the end of talking, too.
        with contextlib.suppress(OSError):
            self._to.close()
        try:
            code = self._process.wait(2)
        except subprocess.TimeoutExpired:
            self._process.kill()
            code = self._process.wait()
        self._outgoing.put(None)
        self._from.close()
        if not self._closing:
            self._say(self._ended, code)

    def _say(self, hear: Callable[[Any], None], value: Any) -> None:
        def heard() -> None:
            if not self._gone:  # whoever let go of it wants to hear no more
                hear(value)

        self._deliver(heard)

    def _write(self) -> None:
        while (frame := self._outgoing.get()) is not None:
            try:
                self._to.write(frame)
                self._to.flush()
            except (OSError, ValueError):  # gone, or closed
                return

    def send(self, value: Any) -> None:
        """Say something, in turn; lost if the process is gone (then `ended` tells). Raises ValueError with a sentence for
        what cannot be said.

        It is packed here, which takes little: a thread that does it could be put aside in the middle of it by one that
        plays, and keep Python's lock from the window all the while.
        """
        self._outgoing.put(framed(value))

    def kill(self) -> None:
        """End a process that does not answer; `ended` tells when it is gone."""
        with contextlib.suppress(OSError):
            self._process.kill()

    def close(self) -> None:
        """End the process and wait for it."""
        self._closing = True
        self._outgoing.put(None)
        with contextlib.suppress(OSError, ValueError):
            self._to.close()
        for patience_s, push in ((0.2, self._process.terminate), (1.0, self._process.kill)):
            try:
                self._process.wait(patience_s)
                break
            except subprocess.TimeoutExpired:  # still starting, or in the middle of something
                push()
        self._process.wait()
        self.let_go()

    def let_go(self) -> None:
        """Hear no more of a process that has ended, and wait for its threads."""
        self._gone = True
        for thread in self._threads:
            thread.join(3)
