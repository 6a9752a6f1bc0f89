"""The computer's own output, through Qt, and Qt's turn of events in a process without a window."""

import sys
import time
from collections.abc import Callable

import numpy as np
import soxr
from PySide6.QtCore import QByteArray, QCoreApplication, QtMsgType, qInstallMessageHandler
from PySide6.QtMultimedia import QAudio, QAudioDevice, QAudioFormat, QAudioSink, QMediaDevices

from stonekite.player.output.server import server_answers
from stonekite.player.output.simulated import SimulatedOutput
from stonekite.player.protocol import AHEAD_S

MOST_AHEAD_S = 0.25
"""How far ahead of the ears sound is rendered at the most, after it has run out."""
STUCK_S = 0.7
"""A device that has taken nothing for so long is gone."""
HELD_UP_S = 0.1
"""What the system may keep itself of what it was given, at the most."""
START_S = 4.0
"""So long a device may need before it takes anything at all."""


def begin() -> Callable[[], None]:
    """Start what devices need of Qt. The result is to be called again and again: it lets Qt learn what has happened."""
    qInstallMessageHandler(_only_serious)
    return QCoreApplication(sys.argv[:1]).processEvents


def _only_serious(kind: QtMsgType, context: object, text: str) -> None:
    """Qt's multimedia part talks about every library it does not find; a missing device is told in the window."""
    if kind in (QtMsgType.QtCriticalMsg, QtMsgType.QtFatalMsg):
        print(text, file=sys.stderr)


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
        self._held = (0.0, time.monotonic())
        """Seconds of sound that were there at the last look, and when that was."""
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
        now = time.monotonic()
        # Where this process was held up, nothing was taken out of the buffer here, and yet the device had nothing left.
        held_up = now - self._held[1] > self._held[0] + HELD_UP_S
        self._held = held / self.rate, now
        if (held <= 0 or held_up) and self._started and self.starving and not self._dry:
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
