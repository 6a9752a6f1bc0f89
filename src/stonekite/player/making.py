"""Has kernels compiled by processes of their own: `python -m stonekite.player.making [rest]`.

They are told parts of strips, one at a time, and say when each is there. `rest` compiles all that is left, with what the
processor has over. Both end when their standard input does.
"""

import contextlib
import os
import queue
import signal
import sys
import threading

import msgspec
import numpy as np

from stonekite.engine.offline import warm
from stonekite.engine.play.live import Live
from stonekite.lazy import lazy
from stonekite.processes.children import behind_all
from stonekite.processes.framing import read_frame, write_frame
from stonekite.session.types import Strip
from stonekite.stages.registry import KINDS

kept_kernels = lazy("stonekite.signal.kept_kernels")


class Make(msgspec.Struct, tag=True):
    """Compile what a part of a strip needs."""

    part: Strip


class Made(msgspec.Struct, tag=True):
    """It is there, or could not be made; `way` names the part."""

    way: str


def warm_meters() -> None:
    """Load, or compile, what is measured while playing."""
    live = Live(warm.RATE)
    silence = np.zeros((2, 600))
    live.hear(silence, silence, silence, silence)
    live.look_at_spectra()
    live.momentary()


def make(part: Strip) -> None:
    """Load, or compile, what a part needs; with the ends what measures them. What cannot be built is left to whoever
    plays it."""
    with contextlib.suppress(Exception):
        warm.warm_part(part)
        if not part.stages:
            warm_meters()


def _rest() -> None:
    behind_all()
    kept_kernels.sweep()
    for name in (warm.ENDS, *KINDS):
        if not warm.are_compiled(name):
            with contextlib.suppress(Exception):
                warm.warm_kernels((name,))
                if name == warm.ENDS:
                    warm_meters()


def main() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    outgoing = os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, 0, 0)
    tasks: queue.SimpleQueue[Make] = queue.SimpleQueue()

    def listen() -> None:
        while (task := read_frame(sys.stdin.buffer, Make)) is not None:
            tasks.put(task)
        os._exit(0)  # the player has gone; what is half compiled is of no use

    threading.Thread(target=listen, daemon=True).start()
    if "rest" in sys.argv[1:]:
        _rest()
        os._exit(0)  # not past the thread that listens, which Python would wait for in vain
    while True:
        task = tasks.get()
        make(task.part)
        write_frame(outgoing, Made(warm.way_of(task.part)))


if __name__ == "__main__":
    with contextlib.suppress(BrokenPipeError):
        main()
