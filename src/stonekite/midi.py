"""Knobs from outside: control changes of MIDI devices, of real ones and of a simulated one that is always there.

A control change is three bytes: 0xB0 and the channel, the number of the control, its value (MIDI 1.0 Detailed
Specification, MIDI Association, 1995, "Channel Voice Messages"). Numbers from 120 on are no controls but channel modes.
"""

import contextlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from stonekite.words import said

SIMULATED = said("Simulated knobs")
_SEQUENCER = Path("/dev/snd/seq")
_CHANGE, _MODES, HIGHEST = 0xB0, 120, 127

Heard = Callable[[Sequence[int]], None]
"""Is told each message, on whatever thread."""


class Knob(NamedTuple):
    """Which control of a device: its channel, 1 to 16, and its number."""

    channel: int
    number: int


class Turned(NamedTuple):
    """A knob, and where it is turned to, 0 to 127."""

    knob: Knob
    value: int


def turned(message: Sequence[int]) -> Turned | None:
    """What a message tells of a knob; None if it tells something else, or is damaged."""
    if len(message) != 3 or message[0] & 0xF0 != _CHANGE or message[1] >= _MODES:
        return None
    if not all(0 <= byte <= HIGHEST for byte in message[1:]):
        return None
    return Turned(Knob((message[0] & 0x0F) + 1, message[1]), message[2])


class Device(Protocol):
    """What is open."""

    def close(self) -> None:
        """Hear nothing more of it."""


class Simulated:
    """A device of knobs that are turned by the program itself."""

    def __init__(self, heard: Heard) -> None:
        self._heard: Heard | None = heard

    def turn(self, number: int, value: int, channel: int = 1) -> None:
        """Send what a real one would."""
        if self._heard is not None:
            self._heard([_CHANGE | (channel - 1), number, value])

    def close(self) -> None:
        self._heard = None


class _Real:
    """A port of the system's sequencer."""

    def __init__(self, name: str, heard: Heard) -> None:
        self._port = _port()
        self._port.set_callback(lambda told, _: heard(told[0]))
        self._port.open_port(self._port.get_ports().index(name))

    def close(self) -> None:
        self._port.close_port()


def _port() -> Any:
    import rtmidi

    return rtmidi.MidiIn(rtmidi.API_LINUX_ALSA, "Stone Kite")


def names() -> list[str]:
    """The devices that there are: first the simulated one, then those of the system, if it has any."""
    found = [SIMULATED]
    if _SEQUENCER.exists():
        with contextlib.suppress(
            Exception
        ):  # a library or a sequencer that is not as it should be: there are none
            found += _port().get_ports()
    return found


def opened(name: str, heard: Heard) -> Device:
    """A device that tells its messages. Raises OSError with a sentence if it cannot be opened."""
    if name == SIMULATED:
        return Simulated(heard)
    try:
        return _Real(name, heard)
    except Exception as error:
        raise OSError(said("“{name}” cannot be opened: is it connected?").format(name=name)) from error
