"""Lengths of notes at a tempo, and how they are typed: 1/8, 1/8 dotted, 1/4 triplet, 1.5 beats.

A beat is a quarter note.
"""

import re

SLOWEST_BPM, FASTEST_BPM = 20.0, 400.0
PARTS = (1, 2, 4, 8, 16, 32, 64)
KINDS = {"": 1.0, "dotted": 1.5, "triplet": 2.0 / 3.0}
_MOST_BEATS = 8


def seconds(text: str, bpm: float) -> float:
    """How long a note is at so many beats a minute. Raises ValueError with a sentence."""
    folded = " ".join(text.lower().replace(",", ".").split())
    note = re.fullmatch(r"1/(\d{1,2})( dotted| triplet)?", folded)
    if note and int(note[1]) in PARTS:
        return 240.0 / bpm / int(note[1]) * KINDS[(note[2] or "").strip()]
    beats = re.fullmatch(r"(\d{1,3}(?:\.\d{1,6})?) beats?", folded)
    if beats and float(beats[1]) > 0.0:
        return float(beats[1]) * 60.0 / bpm
    raise ValueError(f"“{text.strip()}” is no note: 1/1 to 1/64, dotted or triplet, or a number of beats.")


def names() -> list[str]:
    """Every note of the table, from the longest part down, each plain, dotted and as a triplet, then whole beats."""
    notes = [f"1/{part} {kind}".strip() for part in PARTS for kind in KINDS]
    return [*notes, "1 beat", *(f"{n} beats" for n in range(2, _MOST_BEATS + 1))]


def table(bpm: float) -> dict[str, float]:
    """Lengths in ms of all notes at so many beats a minute."""
    return {name: 1000.0 * seconds(name, bpm) for name in names()}
