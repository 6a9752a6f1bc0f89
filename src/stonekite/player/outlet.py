"""Where the player's sound goes: the device that is there, or the simulated output in its place."""

import math
import time
from collections.abc import Callable
from pathlib import Path

from stonekite.player import protocol
from stonekite.player.output.device import MOST_AHEAD_S, DeviceOutput, Output, best_output, device_identity
from stonekite.player.output.server import server_answers
from stonekite.player.output.simulated import SimulatedOutput
from stonekite.player.protocol import AHEAD_S, Event, OutputIs, Renew

DEVICE_CHECK_S = 1.0
CALL_S = 0.25
"""So often is looked whether the server behind a device is there."""
RENEW_S = 2.0
"""A device that went away is not tried again for so long."""
FURTHER_S, CALM_S = 0.06, 20.0
"""So much further ahead after sound has run out, and so long without that until half of it is taken back."""


class Outlet:
    """The output of now. `send` tells the window of it, `changed` is called when it is another one."""

    def __init__(self, send: Callable[[Event], None], changed: Callable[[], None]) -> None:
        self._send, self._changed = send, changed
        # Without a server to speak to Qt's library is not even started: it would not see one that comes later.
        self._bare = not server_answers()
        self.output: Output = SimulatedOutput(48_000) if self._bare else best_output(48_000)
        self._no_devices = False
        self._lost: list[Output] = []
        self._lost_at = self._asked_at = -math.inf
        self._ran_out = (0, -math.inf)
        self._called = 0.0
        self._checked = time.monotonic()
        self._tell_output()

    def open(self, rate: int) -> None:
        """Take sound of a rate in Hz."""
        without = self._no_devices or self._bare or self._lost
        self._use(SimulatedOutput(rate) if without else best_output(rate))

    def disturb(self, command: protocol.Disturb, rate: int) -> None:
        """For tests: see protocol.Disturb."""
        output = self.output
        if command.what == "return":
            self._no_devices = False
        elif command.what == "vanish":
            self._no_devices = True
            output.close()
            self._use(SimulatedOutput(rate))
        elif isinstance(output, SimulatedOutput):
            if command.what == "stall":
                output.stall(command.value)
            elif command.what == "record":
                output.record(Path(command.path)) if command.path else output.close()
            else:
                output.rate = int(command.value)
                self._tell_output()

    def _use(self, output: Output) -> None:
        if output is not self.output:
            self.output.close()
        self.output = output
        self._changed()
        self._tell_output()

    def _tell_output(self) -> None:
        self._send(OutputIs(self.output.name, self.output.simulated, self.output.rate))

    def check(self, now: float, rate: int) -> None:
        """Fall back when the device is gone, and have this process replaced when there is one again.

        After a sound server has gone Qt's library cannot be used any more in this process: not to close the device,
        which would wait for the server, nor to open another one, which would end the process.
        """
        self._adapt(now)
        if self.output.gone or self._unanswered(now):
            self._lost.append(self.output)  # kept, since letting go of it closes it
            self._lost_at = now
            self.output = SimulatedOutput(rate)
            self._changed()
            self._tell_output()
        if now - self._checked < DEVICE_CHECK_S:
            return
        self._checked = now
        if self._lost or self._bare:
            if (
                not self._no_devices
                and now - max(self._lost_at, self._asked_at) > RENEW_S
                and server_answers()
            ):
                self._asked_at = now
                self._send(Renew())
            return
        identity = None if self._no_devices else device_identity()
        current = getattr(self.output, "identity", None)
        if identity != current:
            self._use(best_output(rate) if identity is not None else SimulatedOutput(rate))

    def _unanswered(self, now: float) -> bool:
        """Whether the server behind a device has gone or stopped: sooner known than that it takes nothing any more."""
        if not isinstance(self.output, DeviceOutput) or now - self._called < CALL_S:
            return False
        self._called = now
        return not server_answers()

    def _adapt(self, now: float) -> None:
        """Work further ahead after sound has run out, and come back when it has not for a while."""
        output = self.output
        count, since = self._ran_out
        if output.underruns > count:
            output.ahead_s = min(MOST_AHEAD_S, output.ahead_s + FURTHER_S)
            self._ran_out = output.underruns, now
        elif output.underruns < count:  # another output
            self._ran_out = output.underruns, now
        elif output.ahead_s > AHEAD_S and now - since > CALM_S:
            output.ahead_s = max(AHEAD_S, output.ahead_s - FURTHER_S / 2)
            self._ran_out = count, now
