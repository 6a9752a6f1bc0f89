"""Where the player's sound goes: a device of this computer, or a simulated one. No widgets here."""

import os
import socket
import struct
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
import soxr
from PySide6.QtCore import QByteArray
from PySide6.QtMultimedia import QAudio, QAudioDevice, QAudioFormat, QAudioSink, QMediaDevices

from stonekite.player.protocol import AHEAD_S

MOST_AHEAD_S = 0.25
"""How far ahead of the ears sound is rendered at the most, after it has run out."""
STUCK_S = 0.7
"""A device that has taken nothing for so long is gone."""
START_S = 4.0
"""So long a device may need before it takes anything at all."""


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


class DeviceOutput:
    """The computer's default output, through Qt. Converts the rate where the device does not take it."""

    simulated = False

    def __init__(self, device: QAudioDevice, rate: int) -> None:
        self.name = device.description()
        self.identity = bytes(device.id().data())
        wanted = QAudioFormat()
        wanted.setSampleRate(rate)
        wanted.setChannelCount(2)
        wanted.setSampleFormat(QAudioFormat.SampleFormat.Float)
        if not device.isFormatSupported(wanted):
            wanted.setSampleRate(device.preferredFormat().sampleRate())
        self.rate = wanted.sampleRate()
        self._source_rate = rate
        self._convert = (
            soxr.ResampleStream(rate, self.rate, 2, dtype="float32") if self.rate != rate else None
        )
        self._sink = QAudioSink(device, wanted)
        self._sink.setBufferSize(int(MOST_AHEAD_S * self.rate) * 8)
        self.ahead_s = AHEAD_S
        self._pipe = self._sink.start()
        self.underruns = 0
        self.starving = False
        self._dry = True
        self._moved = (-1, time.monotonic())
        self._started = False

    @property
    def gone(self) -> bool:
        """Whether the device was closed, or takes nothing any more (some vanish without a word)."""
        return (
            self._pipe is None
            or self._sink.state() == QAudio.State.StoppedState
            or time.monotonic() - self._moved[1] > (STUCK_S if self._started else START_S)
        )

    def room(self) -> int:
        """Source frames that can be written now."""
        free = self._sink.bytesFree() // 8
        if free != self._moved[0]:
            self._started = self._started or free > self._moved[0] >= 0
            self._moved = (free, time.monotonic())
        held = self._sink.bufferSize() // 8 - free
        if held <= 0 and self._started and self.starving and not self._dry:
            self.underruns += 1
            self._dry = True
        wanted = min(free, int(self.ahead_s * self.rate) - held)
        return max(0, int(wanted * self._source_rate / self.rate))

    def queued(self) -> int:
        """Source frames that were written but not heard yet."""
        held = (self._sink.bufferSize() - self._sink.bytesFree()) // 8
        return int(held * self._source_rate / self.rate)

    def write(self, block: np.ndarray) -> None:
        """Take a block (2, frames)."""
        samples = np.ascontiguousarray(block.T, dtype=np.float32)
        if self._convert is not None:
            samples = np.ascontiguousarray(self._convert.resample_chunk(samples))
        np.clip(samples, -1.0, 1.0, out=samples)
        self._pipe.write(QByteArray(samples.tobytes()))
        self._dry = False

    def close(self) -> None:
        self._sink.stop()


Output = SimulatedOutput | DeviceOutput


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


def best_output(rate: int) -> Output:
    """The default device if there is one that works, otherwise the simulated output."""
    device = QMediaDevices.defaultAudioOutput() if server_answers() else QAudioDevice()
    if not device.isNull():
        output = DeviceOutput(device, rate)
        if not output.gone:
            return output
        output.close()
    return SimulatedOutput(rate)


def device_identity() -> bytes | None:
    """Which device is the default now; None if there is none."""
    device = QMediaDevices.defaultAudioOutput()
    return None if device.isNull() else bytes(device.id().data())
