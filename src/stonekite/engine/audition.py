"""What a strip sounds like while something in it is listened to alone: never saved, never exported."""

from typing import Any, Literal

import msgspec

from stonekite.session.edits import other
from stonekite.session.types import LegName, Strip
from stonekite.stages.base import Stage
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.registry import kind_of


class Audition(msgspec.Struct, frozen=True):
    """Listen to the strip without a stage, to what a stage changes, to what its detector hears, or to the range that
    a band works on."""

    stage: int
    what: Literal["out", "change", "detector", "band"]
    leg: LegName = "upper"
    slot: int = 0


def auditioned(strip: Strip, audition: Audition | None) -> Strip:
    """The strip to play; the strip itself if there is nothing to listen to alone."""
    if audition is None or audition.stage not in [stage.id for stage in strip.stages]:
        return strip
    heard = {}
    if audition.what in ("band", "detector"):  # of the other leg nothing is heard
        silent = other(audition.leg)
        heard[silent] = msgspec.structs.replace(strip.leg(silent), muted=True)
    stages = tuple(_heard(stage, audition) if stage.id == audition.stage else stage for stage in strip.stages)
    return msgspec.structs.replace(strip, stages=stages, **heard)


def _heard(stage: Stage, audition: Audition) -> Stage:
    if audition.what == "out":
        return msgspec.structs.replace(stage, inserted=False)
    if audition.what == "change":
        return msgspec.structs.replace(stage, change_only=True)
    if audition.what == "detector":
        detector = kind_of(stage).offers.detector
        return stage if detector is None else detector(stage)
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
