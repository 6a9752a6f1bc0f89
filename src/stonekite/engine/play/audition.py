"""What a strip sounds like while something in it is listened to alone: never saved, never exported."""

from typing import Any, Literal

import msgspec

from stonekite.session import tree
from stonekite.session.alone import without
from stonekite.session.edits import other, put
from stonekite.session.types import Leg, LegName, Output, Strip
from stonekite.stages.base import Stage
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.registry import kind_of
from stonekite.stages.settings import settings_of


class Audition(msgspec.Struct, frozen=True):
    """Listen to the strip without a stage, to what a stage changes, to what its detector hears, to the range that a band
    works on, or to the strip without a spur, turned by a gain in dB so that it is as loud as with it.
    """

    stage: int
    what: Literal["out", "change", "detector", "band", "without"]
    leg: LegName = "upper"
    slot: int = 0
    gain_db: float = 0.0


def auditioned(strip: Strip, audition: Audition | None) -> Strip:
    """The strip to play; the strip itself if there is nothing to listen to alone."""
    if audition is None:
        return strip
    if audition.what == "without":
        held = settings_of(Output)["trim_db"].held(strip.output.trim_db + audition.gain_db)
        return msgspec.structs.replace(
            without(strip, audition.stage), output=msgspec.structs.replace(strip.output, trim_db=held)
        )
    try:
        path, stage = tree.find(strip, audition.stage)
    except LookupError:
        return strip
    if audition.what != "out":
        strip = _only(strip, path, audition)
    return put(strip, path, _heard(stage, audition))


def _only(strip: Strip, path: tree.Path, audition: Audition) -> Strip:
    """A strip in which only the branch that a path leads into is heard, and all of it."""
    silent = [other(audition.leg)] if audition.what in ("band", "detector") else []
    spurs = strip.spurs
    if path[0] == "spurs":
        chosen = spurs[path[1]]  # type: ignore[index]
        spurs = tuple(
            msgspec.structs.replace(spur, alone=spur is chosen, muted=spur is not chosen) for spur in spurs
        )
        silent = [] if chosen.of_both else silent
        strip = msgspec.structs.replace(strip, upper=Leg(muted=True), lower=Leg(muted=True))
    else:
        if silent or "branches" in path:
            spurs = tuple(msgspec.structs.replace(spur, muted=True) for spur in spurs)
        for leg in silent:
            strip = msgspec.structs.replace(
                strip, **{leg: msgspec.structs.replace(strip.leg(leg), muted=True)}
            )
    strip = msgspec.structs.replace(strip, spurs=spurs)
    for k, step in enumerate(path):
        if step == "branches":
            stage: Any = tree.at(strip, path[:k])
            only = kind_of(stage).branching.only  # type: ignore[union-attr]
            strip = put(strip, path[:k], only(stage, path[k + 1]))  # type: ignore[arg-type]
    return strip


def _heard(stage: Stage, audition: Audition) -> Stage:
    if audition.what == "out":
        return msgspec.structs.replace(stage, inserted=False)
    if audition.what == "change":
        return msgspec.structs.replace(stage, change_only=True)
    if audition.what == "detector":
        detector = kind_of(stage).offers.detector
        return stage if detector is None else msgspec.structs.replace(detector(stage), key=stage.key)
    side = getattr(stage, audition.leg)
    bands = getattr(side, "bands", ())
    band = bands[audition.slot] if audition.slot < len(bands) else None
    only = band_range(band) if band is not None else None
    return Filter(id=stage.id, upper=only, lower=only)


def band_range(band: Any) -> FilterSide:
    """The part of the spectrum that a band works on."""
    f, half = band.frequency_hz, 2 ** (0.5 / band.q)
    if band.shape in ("low-shelf", "high-pass"):
        return FilterSide(low_pass=True, low_pass_hz=f, low_pass_slope=24)
    if band.shape in ("high-shelf", "low-pass", "tilt"):
        return FilterSide(high_pass=True, high_pass_hz=f, high_pass_slope=24)
    return FilterSide(
        high_pass=True,
        high_pass_hz=max(20.0, f / half),
        high_pass_slope=24,
        low_pass=True,
        low_pass_hz=min(20_000.0, f * half),
        low_pass_slope=24,
    )
