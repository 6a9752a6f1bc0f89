"""The process of the player, started by the window as `python -m stonekite.player.process DESCRIPTOR`.

DESCRIPTOR is the shared status block. It ends when its standard input does.
"""

import contextlib
import gc
import os
import queue
import signal
import sys
import threading
import time

from stonekite import __version__
from stonekite.player.output import device, realtime
from stonekite.player.player import Player
from stonekite.player.protocol import Command, Event, Status, Warm
from stonekite.processes.framing import read_frame, write_frame

PAUSE_S, IDLE_S = 0.003, 0.03
"""Between looks at what is to be done: with a recording, and without one."""


def main() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the window, which ends this process
    status = Status(int(sys.argv[1]))
    out = os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    attend = device.begin()
    commands: queue.SimpleQueue[Command | None] = queue.SimpleQueue()
    incoming = sys.stdin.buffer

    def listen() -> None:
        while (command := read_frame(incoming, Command)) is not None:
            commands.put(command)
        commands.put(None)

    def send(event: Event) -> None:
        with contextlib.suppress(OSError):
            write_frame(out, event)

    threading.Thread(target=listen, daemon=True).start()
    with contextlib.suppress(OSError):
        os.nice(-10)  # where it is allowed: sound before pictures
    # Settings are built in a thread beside the sound, which must not wait for it: not even a little at each of the
    # hundred kernels of a block.
    sys.setswitchinterval(0.00005)
    player = Player(status, send)
    player.load_what_is_there()
    send(Warm(realtime.ask(), __version__))
    # Nothing here makes cycles worth collecting, and a collection could come at a bad moment.
    gc.collect()
    gc.freeze()
    gc.disable()
    while True:
        try:
            while (command := commands.get_nowait()) is not None:
                player.obey(command)
            return
        except queue.Empty:
            pass
        attend()
        if not player.step():
            time.sleep(PAUSE_S if player.busy else IDLE_S)


if __name__ == "__main__":
    main()
