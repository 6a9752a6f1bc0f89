"""What a mixer is made from: strips in their order, where stems begin, and by which gains they are joined."""

import math
from dataclasses import dataclass, field

import numpy as np

from stonekite.engine.graph.ends import shares
from stonekite.session import tree
from stonekite.session.mix import places, wires
from stonekite.session.types import Sound, Stem, Strip
from stonekite.signal.decibels import gain_of

ALONE = 1
"""The id of a strip that nothing stands beside."""


@dataclass(frozen=True)
class Layout:
    """The strips by their ids, each behind all that goes into it; the last is the one that all goes into. `ahead` has the
    stems, in the order in which they come in, and by how many frames the place of each is ahead of the timeline's (by
    less than none where it begins later). `gains` (2, 2) are those of the wires, from left and right
    (columns) to left and right (rows)."""

    strips: dict[int, Strip]
    ahead: dict[int, int]
    gains: dict[tuple[int, int], np.ndarray] = field(default_factory=dict)

    @property
    def order(self) -> tuple[int, ...]:
        return tuple(self.strips)

    @property
    def last(self) -> int:
        return self.order[-1]

    def fits(self, other: "Layout") -> bool:
        """Whether one can go over into the other: the same strips, stems at the same places."""
        return set(self.strips) == set(other.strips) and self.ahead == other.ahead


def alone(strip: Strip) -> Layout:
    """Of one strip that hears a recording, and nothing else."""
    return Layout({ALONE: strip}, {ALONE: 0})


def laid_out(sound: Sound, rate: float) -> Layout:
    """Of all strips of a sound, at a rate in Hz. Raises ValueError with a sentence if they cannot be joined."""
    by_id = {tree.number_of(one): one for _, one in tree.holders(sound)}
    order = wires.order(sound)
    gains: dict[tuple[int, int], np.ndarray] = {}
    for wire in wires.wires(sound):  # what is closed is a wire, too: it may be opened
        gains.setdefault((wire.source, wire.to), np.zeros((2, 2)))
    for wire in wires.open_wires(sound):
        gains[wire.source, wire.to] = gains[wire.source, wire.to] + wire_gains(wire)
    ahead = {stem.id: ahead_of(stem, rate) for stem in sound.stems}
    return Layout({number: by_id[number].strip for number in order}, ahead, gains)


def ahead_of(stem: Stem, rate: float) -> int:
    """By how many frames the place of a stem's recording is ahead of the timeline's."""
    start, begins, _ = places.part_of(stem, rate)
    return begins - start


def wire_gains(wire: wires.Wire) -> np.ndarray:
    """Gains (2, 2) of a wire."""
    gain = 1.0 if wire.send is None else gain_of(wire.send.level_db)
    if wire.send is not None and wire.send.before:
        return gain * np.eye(2)
    return gain * gain_of(wire.fader.level_db) * placed(wire.fader.place)


def placed(place: float) -> np.ndarray:
    """Gains (2, 2) that move a stereo signal to a place in % of the way to one side: one side goes over to the other
    one by sine and cosine, and what is the same on both keeps its power."""
    if place == 0.0:
        return np.eye(2)
    moved = shares(100.0 - 2.0 * abs(place), "constant-power")  # of the right side where it goes to the left
    gains = np.array([[1.0, moved[0]], [0.0, moved[1]]])
    gains *= math.sqrt(2.0 / float((gains.sum(axis=1) ** 2).sum()))
    return gains if place < 0.0 else gains[::-1, ::-1]


def least(sounds: tuple[Sound, ...]) -> dict[int, tuple[Strip, ...]]:
    """Of each strip by its id those of the same strip in other sounds."""
    found: dict[int, tuple[Strip, ...]] = {}
    for sound in sounds:
        for _, one in tree.holders(sound):
            number = tree.number_of(one)
            found[number] = (*found.get(number, ()), one.strip)
    return found
