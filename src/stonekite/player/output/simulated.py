"""An output that needs no hardware: it takes samples at the pace of a device."""

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile

from stonekite.player.protocol import AHEAD_S


class SimulatedOutput:
    """Takes samples at exactly the pace of a device, without one.

    It can record what it was given, and be made to stall, to change its rate or to vanish.
    """

    name = "simulated output"
    simulated = True

    def __init__(self, rate: int, clock: Callable[[], float] = time.monotonic) -> None:
        self.rate = rate
        self.underruns = 0
        self.gone = False
        self.ahead_s = AHEAD_S
        self._clock = clock
        self._dry = True
        self._queued = 0.0
        self._looked = clock()
        self._stalled_until = 0.0
        self._record: soundfile.SoundFile | None = None
        self.starving = False

    def _consume(self) -> None:
        now = self._clock()
        passed, self._looked = now - self._looked, now
        if now < self._stalled_until:
            return
        self._queued -= passed * self.rate
        if self._queued < 0:
            if self.starving and not self._dry:  # counted once, until something is written again
                self.underruns += 1
                self._dry = True
            self._queued = 0.0

    def room(self) -> int:
        """Frames that can be written now."""
        self._consume()
        return max(0, int(self.ahead_s * self.rate) - int(np.ceil(self._queued)))

    def queued(self) -> int:
        """Frames that were written but not heard yet."""
        self._consume()
        return int(self._queued)

    def write(self, block: np.ndarray) -> None:
        """Take a block (2, frames)."""
        self._consume()
        self._dry = False
        self._queued += block.shape[1]
        if self._record is not None:
            self._record.write(block.T)

    def close(self) -> None:
        if self._record is not None:
            self._record.close()
            self._record = None

    def stall(self, seconds: float) -> None:
        """Take nothing for a while."""
        self._stalled_until = self._clock() + seconds

    def record(self, path: Path) -> None:
        """Write what comes from now on to a file of 64-bit floats."""
        self.close()
        self._record = soundfile.SoundFile(str(path), "w", self.rate, 2, subtype="DOUBLE", format="WAV")
