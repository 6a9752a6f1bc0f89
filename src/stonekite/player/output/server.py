"""Whether there is a sound server to speak to, asked without its library."""

import os
import socket
import struct
from pathlib import Path


def server_answers() -> bool:
    """Whether the desktop's sound server can be spoken to. One that is stopped would make Qt wait for it, and one that is
    gone would make Qt's library end the process; True where there is no such server to look at.
    """
    place = os.environ.get("PULSE_SERVER", "").removeprefix("unix:")
    if not place.startswith("/"):
        runtime = os.environ.get("PULSE_RUNTIME_PATH") or f"{os.environ.get('XDG_RUNTIME_DIR', '')}/pulse"
        place = f"{runtime}/native"
        if not os.path.exists(runtime):
            return True
    with socket.socket(socket.AF_UNIX) as caller:
        caller.settimeout(0.2)
        try:
            caller.connect(place)
            credentials = caller.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
        except OSError:
            return False
    number = struct.unpack("3i", credentials)[0]
    try:
        state = Path(f"/proc/{number}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except (OSError, IndexError):
        return True  # not ours to look at
    return state not in ("T", "t", "Z", "X")
