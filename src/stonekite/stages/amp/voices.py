"""The voices of the amplifiers: what each does, in numbers. They are the project's own, named after stones.

Slate: clean; two stages that hardly bend, all highs. Flint: two stages, bright, that tear when they are hit. Basalt:
three stages, thick in the middle. Obsidian: four stages with the lows taken out between them, most gain. Sandstone: for
low instruments; two stages that keep the bottom and round off the top.
"""

from typing import Literal, NamedTuple

import numpy as np

from stonekite.signal.decibels import gain_of
from stonekite.signal.filters.tone_network import Parts

VoiceName = Literal["slate", "flint", "basalt", "obsidian", "sandstone"]


class GainStage(NamedTuple):
    """High-pass and low-pass in Hz, gain in dB, bias (1 is the knee), how far it shifts, level behind it in dB."""

    high_hz: float
    low_hz: float
    gain_db: float
    bias: float
    shift: float
    level_db: float = 0.0


class Voice(NamedTuple):
    label: str
    about: str
    stages: tuple[GainStage, ...]
    gain_db: tuple[float, float]
    """Of the gain control, from its lowest to its highest, in front of the second stage."""
    network: Parts
    network_at: int
    """In front of which stage the tone network stands; as many as there are: in front of the power stage."""
    makeup_db: float
    """After the tone network, which takes away."""
    presence_hz: float
    power_hz: float
    transformer_hz: float
    master_db: tuple[float, float]
    """Of the master control, in front of the power stage."""
    shift_s: tuple[float, float]
    """In which the bias of a stage shifts, and comes back."""
    sag_s: tuple[float, float]
    """In which the supply sags, and recovers."""
    level_db: float
    """What brings voices to about the same level."""


_WIDE = Parts(250e3, 1e6, 25e3, 56e3, 250e-12, 20e-9, 20e-9)
_TIGHT = Parts(220e3, 1e6, 22e3, 33e3, 470e-12, 22e-9, 22e-9)
_DEEP = Parts(250e3, 500e3, 50e3, 82e3, 330e-12, 100e-9, 47e-9)

VOICES: dict[VoiceName, Voice] = {
    "slate": Voice(
        "Slate",
        "clean, with all its highs; bends only when it is pushed hard",
        (GainStage(25.0, 11_000.0, 6.0, 0.08, 0.1), GainStage(30.0, 10_000.0, 0.0, 0.1, 0.15)),
        (-24.0, 12.0),
        _WIDE,
        1,
        12.0,
        4000.0,
        8000.0,
        25.0,
        (-18.0, 10.0),
        (0.02, 0.15),
        (0.06, 0.35),
        6.0,
    ),
    "flint": Voice(
        "Flint",
        "bright; clear when played softly, tears when it is hit",
        (GainStage(40.0, 8000.0, 12.0, 0.15, 0.25), GainStage(90.0, 6500.0, 10.0, 0.2, 0.4)),
        (-24.0, 10.0),
        _WIDE,
        2,
        12.0,
        3500.0,
        6000.0,
        30.0,
        (-18.0, 8.0),
        (0.012, 0.12),
        (0.04, 0.25),
        0.0,
    ),
    "basalt": Voice(
        "Basalt",
        "thick in the middle, long and even",
        (
            GainStage(40.0, 9000.0, 14.0, 0.15, 0.2),
            GainStage(110.0, 7500.0, 10.0, 0.25, 0.4),
            GainStage(60.0, 7000.0, 8.0, 0.2, 0.3),
        ),
        (-24.0, 10.0),
        _TIGHT,
        3,
        12.0,
        3000.0,
        6000.0,
        35.0,
        (-18.0, 10.0),
        (0.01, 0.1),
        (0.03, 0.2),
        0.0,
    ),
    "obsidian": Voice(
        "Obsidian",
        "most gain; the lows are taken out between its stages, so that it stays clear",
        (
            GainStage(60.0, 8000.0, 14.0, 0.15, 0.15),
            GainStage(180.0, 7000.0, 12.0, 0.25, 0.25),
            GainStage(120.0, 6500.0, 12.0, 0.3, 0.3),
            GainStage(60.0, 6500.0, 8.0, 0.2, 0.2),
        ),
        (-24.0, 10.0),
        _TIGHT,
        4,
        12.0,
        3500.0,
        6000.0,
        40.0,
        (-18.0, 8.0),
        (0.008, 0.08),
        (0.025, 0.15),
        0.0,
    ),
    "sandstone": Voice(
        "Sandstone",
        "for low instruments: keeps the bottom whole and rounds off the top",
        (GainStage(15.0, 6000.0, 10.0, 0.1, 0.15), GainStage(20.0, 5000.0, 6.0, 0.15, 0.25)),
        (-24.0, 12.0),
        _DEEP,
        1,
        12.0,
        2500.0,
        5000.0,
        18.0,
        (-18.0, 10.0),
        (0.03, 0.25),
        (0.08, 0.5),
        4.0,
    ),
}


def linear(stage: GainStage, more_db: float = 0.0) -> tuple[float, ...]:
    """A stage as the kernel has it, with so much more gain."""
    return (
        stage.high_hz,
        stage.low_hz,
        gain_of(stage.gain_db + more_db),
        stage.bias,
        stage.shift,
        gain_of(stage.level_db),
    )


def between(ends: tuple[float, float], percent: float) -> float:
    """A value from 0 to 100 % of the way between two."""
    return float(np.interp(percent, (0.0, 100.0), ends))
