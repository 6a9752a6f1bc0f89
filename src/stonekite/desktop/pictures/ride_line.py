"""A ride as a line over time: what it moves, in which colour, and how high it stands in the range of its setting."""

from dataclasses import dataclass

import numpy as np

from stonekite.session import ride_edits, tree
from stonekite.session.ride_edits import Address
from stonekite.session.types import LEGS, Strip
from stonekite.stages import riding
from stonekite.stages.riding import Ride
from stonekite.stages.settings import Setting


@dataclass(frozen=True)
class Line:
    """A ride to be drawn: what it moves, in which colour (a component's name), the ride; None: `value` stands still."""

    name: str
    setting: Setting
    colour: str
    ride: Ride | None
    value: float = 0.0

    def values(self, times: np.ndarray) -> np.ndarray:
        """Where the setting stands at times in seconds, in its own unit."""
        if self.ride is None:
            return np.full(len(times), self.value)
        return riding.along(self.ride, self.setting, times)

    def travels(self, times: np.ndarray) -> np.ndarray:
        """Where it stands in its range, from 0 to 1."""
        return np.array([self.setting.to_travel(float(value)) for value in self.values(times)])


def line_of(strip: Strip, address: Address) -> Line | None:
    """The line of a setting of a strip; None where the strip has no such setting."""
    setting = ride_edits.setting_of(strip, address)
    if setting is None:
        return None
    first = address.path.partition(".")[0]
    colour = "both"
    if address.of == "leg":
        colour = strip.split.component(LEGS[address.number])
    elif address.of == "stage" and first in LEGS:
        colour = tree.carried(strip, address.number).component(first)  # type: ignore[arg-type]
    ride, value = ride_edits.ride_of(strip, address), ride_edits.value_of(strip, address)
    return Line(ride_edits.called(strip, address), setting, colour, ride, value)


def lines_of(before: Strip | None, after: Strip | None) -> list[tuple[Line | None, Line | None]]:
    """What rides in one of two strips, as the lines of both; None where a strip has no such setting or is none."""
    found: list[Address] = []
    for strip in (after, before):
        if strip is not None:
            found += [address for address, _ in ride_edits.rides_in(strip) if address not in found]
    return [
        (
            None if before is None else line_of(before, address),
            None if after is None else line_of(after, address),
        )
        for address in found
    ]
