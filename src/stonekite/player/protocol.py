"""What the window and the player say to each other.

Commands go through the player's standard input, events come through its standard output, both framed
msgpack; what changes all the time (position, meters, spectra) stands in shared memory.
"""

import mmap
from typing import Literal

import msgspec
import numpy as np

from stonekite.engine.play.listen import Listening
from stonekite.engine.play.smoothing import DEFAULT_SMOOTHING
from stonekite.measure.spectrum import BANDS
from stonekite.session.types import BUSES, STEMS, Sound, Source
from stonekite.stages.base import WORKED
from stonekite.stages.dynamic_eq import BANDS as MOVING_BANDS

SCOPE = 384
STRIPS = STEMS + BUSES + 1
AHEAD_S = 0.07
"""How far ahead of the ears sound is rendered at first."""


class KeptAs(msgspec.Struct, frozen=True):
    """The file in which it is kept what a strip of this id sounds like."""

    strip: int
    path: str


class Load(msgspec.Struct, tag=True):
    """Play other recordings; playing stops. What is heard is the strip of the id `heard`, and what is watched stands in
    the one of the id `opened`. What is `kept` of the sound need not be computed."""

    sound: Sound
    heard: int
    opened: int
    listening: Listening
    kept: tuple[KeptAs, ...] = ()


class Update(msgspec.Struct, tag=True):
    """Hear other settings, in time with those that may be switched to, which stand `beside`; None if these are the same
    as before. With `listening` it is another version, with its gains: then it goes over fast. What is `kept` of the sound
    need not be computed; None if this is the same as before."""

    sound: Sound
    heard: int
    opened: int
    beside: tuple[Sound, ...] | None = None
    listening: Listening | None = None
    kept: tuple[KeptAs, ...] | None = None


class Refer(msgspec.Struct, tag=True):
    """Get another recording ready to be listened to, looping in these frames of its own; None for none."""

    source: Source | None
    start: int = 0
    end: int = 0


class Listen(msgspec.Struct, tag=True):
    listening: Listening


class Play(msgspec.Struct, tag=True):
    pass


class Pause(msgspec.Struct, tag=True):
    pass


class Seek(msgspec.Struct, tag=True):
    frame: int


class SetLoop(msgspec.Struct, tag=True):
    """Repeat these frames; equal ends: no loop."""

    start: int
    end: int


class Watch(msgspec.Struct, tag=True):
    """Take spectra before and after this stage, -1: at the end of the legs; in bands of an octave over `parts`."""

    stage: int
    parts: int = DEFAULT_SMOOTHING


class Meter(msgspec.Struct, tag=True):
    """Tell the levels of all strips, or do not."""

    on: bool


TESTING = "STONEKITE_TESTING"
"""The variable of the environment that lets tests disturb a player."""


class Disturb(msgspec.Struct, tag=True):
    """For tests: make the simulated output stall for a time, change its rate, vanish, come back, or record. A player
    obeys only where TESTING is in its environment."""

    what: Literal["stall", "rate", "vanish", "return", "record"]
    value: float = 0.0
    path: str = ""


Command = Load | Update | Refer | Listen | Play | Pause | Seek | SetLoop | Watch | Meter | Disturb


class OutputIs(msgspec.Struct, tag=True):
    """Where the sound goes now; `simulated` if there is no device."""

    name: str
    simulated: bool
    rate: int


class Ready(msgspec.Struct, tag=True):
    """The kernels are compiled and the recording is open."""


class Fault(msgspec.Struct, tag=True):
    """The recording cannot be played, and why."""

    sentence: str


class Lost(msgspec.Struct, tag=True):
    """What was kept in a file cannot be read."""

    path: str


class Warm(msgspec.Struct, tag=True):
    """The process is there and waits; `realtime` if the system lets it play before everything else."""

    realtime: bool
    version: str


class Making(msgspec.Struct, tag=True):
    """Kernels of these kinds are compiled for the first time on this machine, for about so many more seconds; no seconds:
    all are there. `waits` if playing waits for it; otherwise it goes on without the stages of these kinds."""

    labels: tuple[str, ...]
    seconds: float
    waits: bool = False


class Refused(msgspec.Struct, tag=True):
    """A stage's settings cannot be computed, and why: playing goes on with what was there before."""

    stage: int
    sentence: str


class Overloaded(msgspec.Struct, tag=True):
    """The processor cannot keep up: `load` times what there is would be needed, of which these stages take the largest
    shares. With a load of 0 it keeps up again."""

    load: float
    stages: tuple[tuple[int, float], ...] = ()


class Renew(msgspec.Struct, tag=True):
    """A device that was lost may be back: this process cannot use it any more, a fresh one can."""


Event = OutputIs | Ready | Fault | Warm | Making | Refused | Overloaded | Renew | Lost

STATUS = np.dtype(
    [
        ("serial", "i8"),
        ("playing", "i4"),
        ("underruns", "i4"),
        ("position", "f8"),
        ("position_at", "f8"),  # when that was heard, by time.monotonic()
        ("queued_s", "f8"),
        ("ahead_s", "f8"),
        ("beat", "i8"),
        ("obeyed", "i8"),
        ("load", "f8"),
        ("updates", "i8"),
        (
            "held_s",
            "f8",
        ),  # the longest that other settings have held a block back since the recording was loaded
        ("momentary", "f8", 2),
        ("correlation", "f8", 2),
        ("image", "f8", (2, 2)),
        ("leg_levels", "f4", 4),
        ("peak_in", "f4", 2),
        ("reduction", "f4", 2),
        ("ceiling", "f4"),
        ("follows", "f8", 2),
        ("worked", "f4", (2, WORKED)),
        ("guarded", "i8"),  # the id of a stage that its guard has silenced, 0 for none
        ("band_levels", "f4", (2, MOVING_BANDS)),
        ("band_gains", "f4", (2, MOVING_BANDS)),
        ("spectra", "f4", (4, BANDS)),
        ("noise", "f4", (2, BANDS)),
        ("noise_gains", "f4", (2, BANDS)),
        ("scope", "f4", (2, SCOPE)),
        ("strips", "f4", (STRIPS, 4)),  # greatest samples before and behind each: stems, buses, the mix
        ("serial_end", "i8"),
    ]
)


def nothing_yet() -> np.void:
    """The status of a player that has said nothing yet: no figure of it is known."""
    status = np.zeros(1, dtype=STATUS)[0]
    status["correlation"] = status["image"] = np.nan
    status["momentary"], status["leg_levels"] = -200.0, -200.0
    return status


class Status:
    """The shared block. One process writes, the other reads; both map the same file descriptor."""

    SIZE = STATUS.itemsize

    def __init__(self, descriptor: int) -> None:
        self._map = mmap.mmap(descriptor, self.SIZE)
        self._block = np.frombuffer(self._map, dtype=STATUS)[0:1]

    def write(self, **values: object) -> None:
        """Publish a complete set of values."""
        block = self._block[0]
        serial = int(block["serial"]) + 1
        block["serial"] = serial
        for name, value in values.items():
            block[name] = value
        block["serial_end"] = serial

    def read(self) -> np.void:
        """The latest complete set of values (a copy)."""
        for _ in range(8):
            # The writer begins with one and ends with the other: read the other way round, they are the same only if
            # nothing was written meanwhile.
            ended = int(self._block[0]["serial_end"])
            copy = self._block[0].copy()
            if int(self._block[0]["serial"]) == ended:
                break
        return copy
