"""The settings of a cabinet."""

from typing import Annotated, Any, Literal

import msgspec

from stonekite.signal.decibels import SILENCE_DB
from stonekite.stages.base import Side, Stage
from stonekite.stages.cabinet.kinds import BOXES, CabinetName
from stonekite.stages.settings import Settings, choice, flag, number

NO_LOW_HZ, NO_HIGH_HZ = 20.0, 20_000.0
"""Cuts that are there cut nothing."""
Capsule = Literal["dynamic", "ribbon", "condenser", "omni"]
_CAPSULES = {"dynamic": "Dynamic", "ribbon": "Ribbon", "condenser": "Condenser", "omni": "Omni"}


def _capsule(which: int) -> Any:
    return Annotated[Capsule, choice(f"Mic {which}", dict(_CAPSULES), help=f"What microphone {which} is")]


def _level(which: str, help: str) -> Any:
    return Annotated[float, number(which, "dB", SILENCE_DB, 12.0, taper="fader", step=0.5, help=help)]


def _across(which: int) -> Any:
    meta = number(
        f"{which} across",
        "cm",
        -30.0,
        30.0,
        step=0.5,
        decimals=1,
        seldom=True,
        help="From the middle of the cone",
    )
    return Annotated[float, meta]


def _away(which: int) -> Any:
    meta = number(
        f"{which} away", "cm", 1.0, 60.0, step=0.5, decimals=1, seldom=True, help="In front of the cone"
    )
    return Annotated[float, meta]


def _angle(which: int) -> Any:
    meta = number(
        f"{which} angle",
        "°",
        -60.0,
        60.0,
        step=5.0,
        decimals=0,
        seldom=True,
        help="Turned in the plane of the plan",
    )
    return Annotated[float, meta]


def _upside_down(which: int) -> Any:
    return Annotated[bool, flag(f"{which} inverted", help=f"Turn microphone {which} upside down")]


class OwnResponse(Settings, frozen=True, kw_only=True):
    """A response that a user brought: kept whole, so that no file has to be found again. `samples` are 32-bit floats, one
    row after the other; `fingerprint` tells what file it came from."""

    name: Annotated[str, msgspec.Meta(min_length=1, max_length=200)]
    rate: Annotated[float, msgspec.Meta(ge=1000.0, le=400_000.0)]
    rows: Annotated[int, msgspec.Meta(ge=1, le=2)]
    fingerprint: Annotated[str, msgspec.Meta(max_length=100)] = ""
    samples: Annotated[bytes, msgspec.Meta(min_length=4, max_length=2 * 4 * 100_000)]


class CabinetSide(Side, frozen=True, kw_only=True):
    cabinet: Annotated[
        CabinetName,
        choice(
            "Cabinet",
            {**{name: box.label for name, box in BOXES.items()}, "own": "own response"},
            help="Speakers, their size, and whether the back is open; or a response of your own",
        ),
    ] = "single"
    mic_1: _capsule(1) = "dynamic"  # type: ignore[valid-type]
    mic_1_db: _level("Mic 1", "Level of the first microphone") = 0.0  # type: ignore[valid-type]
    mic_2: _capsule(2) = "ribbon"  # type: ignore[valid-type]
    mic_2_db: _level("Mic 2", "Level of the second microphone") = SILENCE_DB  # type: ignore[valid-type]
    room_db: _level("Room", "Level of the pair in the room") = SILENCE_DB  # type: ignore[valid-type]
    low_cut_hz: Annotated[
        float,
        number(
            "Low cut",
            "Hz",
            NO_LOW_HZ,
            500.0,
            taper="log",
            step=1 / 12,
            help="12 dB per octave; 20 Hz is none",
        ),
    ] = NO_LOW_HZ
    high_cut_hz: Annotated[
        float,
        number(
            "High cut",
            "Hz",
            1000.0,
            NO_HIGH_HZ,
            taper="log",
            step=1 / 12,
            help="12 dB per octave; 20 kHz is none",
        ),
    ] = NO_HIGH_HZ
    level_db: Annotated[float, number("Level", "dB", -36.0, 24.0, step=0.5, help="Level of all together")] = (
        0.0
    )
    mic_1_across_cm: _across(1) = 2.0  # type: ignore[valid-type]
    mic_1_away_cm: _away(1) = 4.0  # type: ignore[valid-type]
    mic_1_angle_deg: _angle(1) = 0.0  # type: ignore[valid-type]
    mic_1_inverted: _upside_down(1) = False  # type: ignore[valid-type]
    mic_2_across_cm: _across(2) = -5.0  # type: ignore[valid-type]
    mic_2_away_cm: _away(2) = 12.0  # type: ignore[valid-type]
    mic_2_angle_deg: _angle(2) = 0.0  # type: ignore[valid-type]
    mic_2_inverted: _upside_down(2) = False  # type: ignore[valid-type]
    room_m: Annotated[
        float,
        number(
            "Room away",
            "m",
            0.5,
            4.0,
            step=0.1,
            decimals=1,
            seldom=True,
            help="From the cone to the room pair",
        ),
    ] = 1.8
    room_wide_m: Annotated[
        float,
        number(
            "Room wide",
            "m",
            0.1,
            3.0,
            step=0.1,
            decimals=1,
            seldom=True,
            help="Between both of the room pair",
        ),
    ] = 1.0
    aligned: Annotated[
        bool,
        flag("Align mics", help="Bring the second microphone into time with the first; otherwise they comb"),
    ] = False
    own: OwnResponse | None = None


class CabinetShared(Settings, frozen=True, kw_only=True):
    room: Annotated[
        Literal["own", "across"],
        choice(
            "Room pair",
            {"own": "Each leg its own", "across": "Across the legs"},
            help="Whether the room pair goes to its own leg, or one of it to each leg",
        ),
    ] = "own"


class CabinetStage(Stage, frozen=True, kw_only=True, tag="cabinet"):
    upper: CabinetSide | None = CabinetSide()
    lower: CabinetSide | None = CabinetSide()
    shared: CabinetShared = CabinetShared()
