"""What a mixer is made from: strips in their order, where stems begin, and by which gains they are joined."""

import math
from dataclasses import dataclass, field, replace

import numpy as np

from stonekite.engine.graph.ends import shares
from stonekite.session import tree
from stonekite.session.mix import wires
from stonekite.session.types import Made, Sound, Strip
from stonekite.signal.decibels import gain_of

ALONE = 1
"""The id of a strip that nothing stands beside."""

Beside = dict[int, tuple[Strip, ...]]
"""By the id of a strip those that it has to be in time with."""


@dataclass(frozen=True, eq=False)
class Layout:
    """The strips by their ids, each behind all that goes into it; the last is the one that all goes into. `stems` are
    those of what comes in, in its order. `gains` (2, 2) are those of the wires, from left and right (columns) to left and
    right (rows). `keys` are the strips that detectors of a strip hear."""

    strips: dict[int, Strip]
    stems: tuple[int, ...]
    gains: dict[tuple[int, int], np.ndarray] = field(default_factory=dict)
    keys: dict[int, tuple[int, ...]] = field(default_factory=dict)

    @property
    def order(self) -> tuple[int, ...]:
        return tuple(self.strips)

    @property
    def last(self) -> int:
        return self.order[-1]

    def fits(self, other: "Layout") -> bool:
        """Whether one can go over into the other: fed by the same stems, whatever buses there are."""
        return self.stems == other.stems and self.last == other.last


def alone(strip: Strip) -> Layout:
    """Of one strip that hears a recording, and nothing else."""
    return Layout({ALONE: strip}, (ALONE,))


def laid_out(sound: Sound) -> Layout:
    """Of all strips of a sound. Raises ValueError with a sentence if they cannot be joined."""
    return _laid_out(sound, wires.keys(sound))


def made_for(made: Made) -> Layout:
    """Of all strips whose sound goes into one, or is heard by its detectors."""
    layout = _laid_out(made.sound, {**wires.keys(made.sound), made.of: made.keys})
    # Nothing but the mix hears what is made: it comes behind all that its detectors hear.
    behind = {number: layout.strips[number] for number in (made.of, layout.last)}
    strips = {number: strip for number, strip in layout.strips.items() if number not in behind}
    return replace(layout, strips=strips | behind)


def _laid_out(sound: Sound, keys: dict[int, tuple[int, ...]]) -> Layout:
    by_id = {tree.number_of(one): one for _, one in tree.holders(sound)}
    order = wires.order(sound)
    gains: dict[tuple[int, int], np.ndarray] = {}
    for wire in wires.wires(sound):  # what is closed is a wire, too: it may be opened
        gains.setdefault((wire.source, wire.to), np.zeros((2, 2)))
    for wire in wires.open_wires(sound):
        gains[wire.source, wire.to] = gains[wire.source, wire.to] + wire_gains(wire)
    return Layout(
        {number: by_id[number].strip for number in order},
        tuple(stem.id for stem in sound.stems),
        gains,
        keys,
    )


def wire_gains(wire: wires.Wire) -> np.ndarray:
    """Gains (2, 2) of a wire."""
    gain = 1.0 if wire.send is None else gain_of(wire.send.level_db)
    if wire.send is not None and wire.send.before:
        return gain * np.eye(2)
    return gain * gain_of(wire.fader.level_db) * placed(wire.fader.place)


def going_on_gains(sound: Sound, number: int) -> np.ndarray:
    """Gains (2, 2) with which a stem or a bus goes on, as far as anything of it does."""
    for wire in wires.open_wires(sound):
        if wire.source == number and wire.send is None:
            return wire_gains(wire)
    return np.zeros((2, 2))


def placed(place: float) -> np.ndarray:
    """Gains (2, 2) that move a stereo signal to a place in % of the way to one side: one side goes over to the other
    one by sine and cosine, and what is the same on both keeps its power."""
    if place == 0.0:
        return np.eye(2)
    moved = shares(100.0 - 2.0 * abs(place), "constant-power")  # of the right side where it goes to the left
    gains = np.array([[1.0, moved[0]], [0.0, moved[1]]])
    gains *= math.sqrt(2.0 / float((gains.sum(axis=1) ** 2).sum()))
    return gains if place < 0.0 else gains[::-1, ::-1]


def least(sounds: tuple[Sound, ...]) -> Beside:
    """Of each strip by its id those of the same strip in other sounds."""
    found: dict[int, tuple[Strip, ...]] = {}
    for sound in sounds:
        for _, one in tree.holders(sound):
            number = tree.number_of(one)
            found[number] = (*found.get(number, ()), one.strip)
    return found
