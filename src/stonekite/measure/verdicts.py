"""What is to be said about a recording that arrived: findings in figures, verdicts in one sentence each."""

import math
from typing import Literal

import msgspec

from stonekite.words import number, said

Fault = Literal[
    "short",
    "silent",
    "one-side-silent",
    "nearly-silent",
    "mono",
    "mono-off-centre",
    "inverted",
    "late",
    "louder",
    "offset",
    "clipped",
    "narrow-band",
    "unrelated",
    "width",
]
SURE = 0.5
"""Confidence below which nothing is said about time and polarity."""

NEARLY_SILENT_DBFS = -60.0
SAME_DB = -80.0
LOUDER_DB = 2.0
LATE_SAMPLES = 0.5
BLEED = 0.06
"""Two tracks that run into each other at -30 dB correlate so much."""
OFFSET = 1e-3
OFFSET_UNDER_DB = 33.0
"""A mean this far under the level may be chance."""
SHORTEST_S = 0.5
_UNDER_DB = 40.0
"""A nearly silent side is at least this far under the other."""
_NAMES = {"left": said("Left"), "right": said("Right")}


class SideFindings(msgspec.Struct, frozen=True):
    """Figures of one component; None where there is silence."""

    rms_dbfs: float | None
    lufs: float | None
    peak_dbfs: float | None
    clipped: int
    dc: float
    noise_floor_dbfs: float | None
    bandwidth_hz: float | None


class Course(msgspec.Struct, frozen=True):
    """The image over time, a value every `step_s`; None where a side is silent."""

    step_s: float
    correlation: list[float | None]
    balance_db: list[float | None]
    """Level of Left over that of Right."""


class Findings(msgspec.Struct, frozen=True):
    """Figures of a recording: of each component, and of both sides together.

    `spectra_db` has the levels of each of the COMPONENTS in the bands of `spectrum.centres()`, in dBFS.
    """

    components: dict[str, SideFindings]
    rate: int
    seconds: float
    correlation: float | None
    side_to_mid_db: float | None
    offset_samples: float
    polarity: int
    confidence: float
    coherence: float
    spectra_db: list[list[float]]
    course: Course


class Verdict(msgspec.Struct, frozen=True):
    """One sentence about a recording. `side` is the one it is about, `amount` its figure (dB, samples)."""

    fault: Fault
    sentence: str
    side: Literal["left", "right"] | None = None
    amount: float = 0.0

    @property
    def usual(self) -> bool:
        """Whether it only says how things are, and nothing is wrong."""
        return self.fault in ("width", "short") and self.amount <= 0.0


def verdicts(found: Findings) -> list[Verdict]:
    """What is to be said, the most important first."""
    left, right = found.components["left"], found.components["right"]
    if left.rms_dbfs is None and right.rms_dbfs is None:
        return [Verdict("silent", said("The recording is silent."))]
    if found.seconds < SHORTEST_S:
        return [Verdict("short", said("The recording is too short to say anything about its sides."))]
    told = _lost_side(left, right)
    if not told:
        told = [*_togetherness(found), *_loudness(found, left, right)]
    told += _offsets(found) + _clipping(found)
    one_sound = ("one-side-silent", "nearly-silent", "mono", "mono-off-centre")
    return told if any(v.fault in one_sound for v in told) else [*told, _width(found)]


def _lost_side(left: SideFindings, right: SideFindings) -> list[Verdict]:
    for side, mine, others in (("left", left, right), ("right", right, left)):
        name = _NAMES[side]
        if mine.rms_dbfs is None:
            return [Verdict("one-side-silent", said("{name} is silent.").format(name=name), side)]  # type: ignore[arg-type]
        assert mine.rms_dbfs is not None
        if (
            mine.rms_dbfs < NEARLY_SILENT_DBFS
            and others.rms_dbfs is not None
            and mine.rms_dbfs < others.rms_dbfs - _UNDER_DB
        ):
            words = said("{name} is nearly silent ({rms_dbfs} dBFS).").format(
                name=name, rms_dbfs=number(mine.rms_dbfs)
            )
            return [Verdict("nearly-silent", words, side, mine.rms_dbfs)]  # type: ignore[arg-type]
    return []


def _togetherness(found: Findings) -> list[Verdict]:
    """Identical sides, polarity, time, and sides that have nothing to do with each other."""
    ratio = found.side_to_mid_db
    if ratio is None or ratio < SAME_DB:
        return [Verdict("mono", said("Both sides are identical: this is mono."))]
    if found.correlation is not None and found.correlation > 1 - 1e-7:
        return [
            Verdict(
                "mono-off-centre",
                said("Both sides carry the same sound at different levels: this is mono, off centre."),
            )
        ]
    told = []
    if found.confidence >= SURE:
        if found.polarity < 0:
            told.append(Verdict("inverted", said("Right is inverted."), "right"))
        if abs(found.offset_samples) >= LATE_SAMPLES:
            late: Literal["left", "right"] = "right" if found.offset_samples > 0 else "left"
            samples = abs(found.offset_samples)
            words = said("{name} is late by {late:.2f} ms ({samples:.1f} samples).").format(
                name=_NAMES[late], late=1000 * samples / found.rate, samples=samples
            )
            told.append(Verdict("late", words, late, samples))
    elif found.coherence < 0.02 and abs(found.correlation or 0.0) < BLEED:
        told.append(
            Verdict("unrelated", said("The sides have nothing in common: two microphones, or two tracks."))
        )
    return told


def _loudness(found: Findings, left: SideFindings, right: SideFindings) -> list[Verdict]:
    told: list[Verdict] = []
    if left.lufs is not None and right.lufs is not None and abs(right.lufs - left.lufs) >= LOUDER_DB:
        louder: Literal["left", "right"] = "right" if right.lufs > left.lufs else "left"
        amount = abs(right.lufs - left.lufs)
        told.append(
            Verdict(
                "louder",
                said("{name} is {amount:.1f} dB louder.").format(name=_NAMES[louder], amount=amount),
                louder,
                amount,
            )
        )
    if left.bandwidth_hz and right.bandwidth_hz:
        narrow: Literal["left", "right"] = "left" if left.bandwidth_hz < right.bandwidth_hz else "right"
        low, high = sorted((left.bandwidth_hz, right.bandwidth_hz))
        if low < 0.5 * high:
            words = said("{name} ends at {low:.1f} kHz, the other side at {high:.1f} kHz.").format(
                name=_NAMES[narrow], low=low / 1000, high=high / 1000
            )
            told.append(Verdict("narrow-band", words, narrow, low))
    return told


def _offsets(found: Findings) -> list[Verdict]:
    sides = [(_NAMES[s], found.components[s].dc) for s in _NAMES if _is_offset(found.components[s])]
    if not sides:
        return []
    words = said(" and ").join(
        said("{name} has an offset of {number} %").format(name=name, number=number(100 * dc, sign=True))
        for name, dc in sides
    )
    return [
        Verdict(
            "offset",
            said("{words}: a constant that is no sound.").format(words=words),
            amount=max(abs(dc) for _, dc in sides),
        )
    ]


def _is_offset(side: SideFindings) -> bool:
    level = side.rms_dbfs if side.rms_dbfs is not None else -math.inf
    return abs(side.dc) >= OFFSET and 20 * math.log10(abs(side.dc)) > level - OFFSET_UNDER_DB


def _clipping(found: Findings) -> list[Verdict]:
    sides = [(_NAMES[s], found.components[s].clipped) for s in _NAMES if found.components[s].clipped]
    if not sides:
        return []
    words = said(" and ").join(
        said("{name} is clipped in {count:,} samples").format(name=name, count=count) for name, count in sides
    )
    return [
        Verdict(
            "clipped",
            said("{words}; what was cut off is lost.").format(words=words.replace(",", " ")),
            amount=sum(c for _, c in sides),
        )
    ]


def _width(found: Findings) -> Verdict:
    """How wide it is; `amount` above 0 where that deserves a look."""
    ratio = found.side_to_mid_db
    if ratio is None or ratio < -60:
        return Verdict("width", said("Side is silent: the image is a point in the middle."))
    where = said("Side is {ratio:.1f} dB under Mid") if ratio < 0 else said("Side is {ratio:.1f} dB over Mid")
    where = where.format(ratio=abs(ratio))
    if ratio < -20:
        return Verdict("width", said("{where}: close to mono.").format(where=where))
    if ratio <= -3:
        return Verdict("width", said("{where}: a usual width.").format(where=where))
    loss = 10 * math.log10(1 + 10 ** (ratio / 10)) if ratio < 60 else math.inf
    if ratio <= 0:
        return Verdict(
            "width", said("{where}: wide; {loss:.1f} dB are lost in mono.").format(where=where, loss=loss)
        )
    return Verdict(
        "width", said("{where}: {loss:.1f} dB are lost in mono.").format(where=where, loss=loss), amount=ratio
    )
