"""From a verdict on a recording to the intake that repairs it."""

import msgspec

from stonekite.measure.verdicts import Findings, Verdict
from stonekite.session.types import Intake, IntakeSide, Output, SideName
from stonekite.words import said


def repair_words(verdict: Verdict) -> str | None:
    """What its repair does, for a button; None if nothing can be done in the intake."""
    other = "left" if verdict.side == "right" else "right"
    return {
        "one-side-silent": said("Use {other} for both").format(other=other),
        "nearly-silent": said("Use {other} for both").format(other=other),
        "narrow-band": said("Use {other} for both").format(other=other),
        "mono": said("Fold to mono"),
        "mono-off-centre": said("Balance sides"),
        "inverted": said("Invert {side}").format(side=verdict.side),
        "late": said("Align sides"),
        "louder": said("Balance sides"),
        "offset": said("Remove DC"),
    }.get(verdict.fault)


def repaired(intake: Intake, verdict: Verdict, found: Findings) -> Intake:
    """The intake with a verdict's repair; the same one where there is nothing to repair."""
    fault = verdict.fault
    if fault in ("one-side-silent", "nearly-silent", "narrow-band"):
        return msgspec.structs.replace(intake, use="left" if verdict.side == "right" else "right")
    if fault == "mono":
        return msgspec.structs.replace(intake, use="mono")
    if fault == "inverted":
        return _with(intake, "right", inverted=True)
    if fault == "late":
        return aligned(intake, found)
    if fault in ("louder", "mono-off-centre"):
        return balanced(intake, found)
    if fault == "offset":
        return msgspec.structs.replace(intake, remove_dc=True)
    return intake


USUAL_DB = -6.0
"""Side against mid of an image that is wide enough."""


def narrowed(output: Output, verdict: Verdict) -> Output:
    """The output with a width that brings a side which is louder than the middle to a usual level under it."""
    width = 100.0 * 10 ** ((USUAL_DB - verdict.amount) / 20.0)
    return msgspec.structs.replace(output, width=float(round(max(0.0, width))))


def balanced(intake: Intake, found: Findings) -> Intake:
    """Trims that make both sides equally loud: the louder one is turned down."""
    left, right = (found.components[name].lufs for name in ("left", "right"))
    if left is None or right is None:
        return intake
    if intake.use == "swapped":
        left, right = right, left
    apart = _limited(right - left)
    intake = _with(intake, "left", trim_db=round(min(0.0, apart), 2) + 0.0)
    return _with(intake, "right", trim_db=round(min(0.0, -apart), 2) + 0.0)


def aligned(intake: Intake, found: Findings) -> Intake:
    """Delays that bring both sides into time: the earlier one is held back."""
    milliseconds = 1000.0 * found.offset_samples / found.rate
    if intake.use == "swapped":
        milliseconds = -milliseconds
    intake = _with(intake, "left", delay_ms=max(0.0, milliseconds))
    return _with(intake, "right", delay_ms=max(0.0, -milliseconds))


def _limited(db: float) -> float:
    return min(24.0, max(-24.0, db))


def _with(intake: Intake, side: SideName, **values: object) -> Intake:
    changed: IntakeSide = msgspec.structs.replace(getattr(intake, side), **values)
    return msgspec.structs.replace(intake, **{side: changed})
