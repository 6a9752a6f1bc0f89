"""What is to be said about a recording that arrived: findings in figures, verdicts in one sentence each."""

import math
from typing import Literal

import msgspec

from stonekite.words import number

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
_NAMES = {"left": "Left", "right": "Right"}


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
        return [Verdict("silent", "The recording is silent.")]
    if found.seconds < SHORTEST_S:
        return [Verdict("short", "The recording is too short to say anything about its sides.")]
    said = _lost_side(left, right)
    if not said:
        said = [*_togetherness(found), *_loudness(found, left, right)]
    said += _offsets(found) + _clipping(found)
    one_sound = ("one-side-silent", "nearly-silent", "mono", "mono-off-centre")
    return said if any(v.fault in one_sound for v in said) else [*said, _width(found)]


def _lost_side(left: SideFindings, right: SideFindings) -> list[Verdict]:
    for side, mine, others in (("left", left, right), ("right", right, left)):
        name = _NAMES[side]
        if mine.rms_dbfs is None:
            return [Verdict("one-side-silent", f"{name} is silent.", side)]  # type: ignore[arg-type]
        assert mine.rms_dbfs is not None
        if (
            mine.rms_dbfs < NEARLY_SILENT_DBFS
            and others.rms_dbfs is not None
            and mine.rms_dbfs < others.rms_dbfs - _UNDER_DB
        ):
            words = f"{name} is nearly silent ({number(mine.rms_dbfs)} dBFS)."
            return [Verdict("nearly-silent", words, side, mine.rms_dbfs)]  # type: ignore[arg-type]
    return []


def _togetherness(found: Findings) -> list[Verdict]:
    """Identical sides, polarity, time, and sides that have nothing to do with each other."""
    ratio = found.side_to_mid_db
    if ratio is None or ratio < SAME_DB:
        return [Verdict("mono", "Both sides are identical: this is mono.")]
    if found.correlation is not None and found.correlation > 1 - 1e-7:
        return [
            Verdict(
                "mono-off-centre",
                "Both sides carry the same sound at different levels: this is mono, off centre.",
            )
        ]
    said = []
    if found.confidence >= SURE:
        if found.polarity < 0:
            said.append(Verdict("inverted", "Right is inverted.", "right"))
        if abs(found.offset_samples) >= LATE_SAMPLES:
            late: Literal["left", "right"] = "right" if found.offset_samples > 0 else "left"
            samples = abs(found.offset_samples)
            words = f"{_NAMES[late]} is late by {1000 * samples / found.rate:.2f} ms ({samples:.1f} samples)."
            said.append(Verdict("late", words, late, samples))
    elif found.coherence < 0.02 and abs(found.correlation or 0.0) < BLEED:
        said.append(Verdict("unrelated", "The sides have nothing in common: two microphones, or two tracks."))
    return said


def _loudness(found: Findings, left: SideFindings, right: SideFindings) -> list[Verdict]:
    said: list[Verdict] = []
    if left.lufs is not None and right.lufs is not None and abs(right.lufs - left.lufs) >= LOUDER_DB:
        louder: Literal["left", "right"] = "right" if right.lufs > left.lufs else "left"
        amount = abs(right.lufs - left.lufs)
        said.append(Verdict("louder", f"{_NAMES[louder]} is {amount:.1f} dB louder.", louder, amount))
    if left.bandwidth_hz and right.bandwidth_hz:
        narrow: Literal["left", "right"] = "left" if left.bandwidth_hz < right.bandwidth_hz else "right"
        low, high = sorted((left.bandwidth_hz, right.bandwidth_hz))
        if low < 0.5 * high:
            words = f"{_NAMES[narrow]} ends at {low / 1000:.1f} kHz, the other side at {high / 1000:.1f} kHz."
            said.append(Verdict("narrow-band", words, narrow, low))
    return said


def _offsets(found: Findings) -> list[Verdict]:
    sides = [(_NAMES[s], found.components[s].dc) for s in _NAMES if _is_offset(found.components[s])]
    if not sides:
        return []
    words = " and ".join(f"{name} has an offset of {number(100 * dc, sign=True)} %" for name, dc in sides)
    return [
        Verdict("offset", f"{words}: a constant that is no sound.", amount=max(abs(dc) for _, dc in sides))
    ]


def _is_offset(side: SideFindings) -> bool:
    level = side.rms_dbfs if side.rms_dbfs is not None else -math.inf
    return abs(side.dc) >= OFFSET and 20 * math.log10(abs(side.dc)) > level - OFFSET_UNDER_DB


def _clipping(found: Findings) -> list[Verdict]:
    sides = [(_NAMES[s], found.components[s].clipped) for s in _NAMES if found.components[s].clipped]
    if not sides:
        return []
    words = " and ".join(f"{name} is clipped in {count:,} samples" for name, count in sides)
    return [
        Verdict(
            "clipped",
            f"{words.replace(',', ' ')}; what was cut off is lost.",
            amount=sum(c for _, c in sides),
        )
    ]


def _width(found: Findings) -> Verdict:
    """How wide it is; `amount` above 0 where that deserves a look."""
    ratio = found.side_to_mid_db
    if ratio is None or ratio < -60:
        return Verdict("width", "Side is silent: the image is a point in the middle.")
    where = f"Side is {abs(ratio):.1f} dB {'under' if ratio < 0 else 'over'} Mid"
    if ratio < -20:
        return Verdict("width", f"{where}: close to mono.")
    if ratio <= -3:
        return Verdict("width", f"{where}: a usual width.")
    loss = 10 * math.log10(1 + 10 ** (ratio / 10)) if ratio < 60 else math.inf
    if ratio <= 0:
        return Verdict("width", f"{where}: wide; {loss:.1f} dB are lost in mono.")
    return Verdict("width", f"{where}: {loss:.1f} dB are lost in mono.", amount=ratio)
