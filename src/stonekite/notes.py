"""Lengths of notes at a tempo, and how they are typed: 1/8, 1/8 dotted, 1/4 triplet, 1.5 beats.

A beat is a quarter note.
"""

import re
from functools import cache

from stonekite.words import said

SLOWEST_BPM, FASTEST_BPM = 20.0, 400.0
PARTS = (1, 2, 4, 8, 16, 32, 64)
KINDS = {"": 1.0, "dotted": 1.5, "triplet": 2.0 / 3.0}
PATTERN = (
    r"^(1/(1|2|4|8|16|32|64)( dotted| triplet)?|(?!0{1,3}(\.0{1,6})? )[0-9]{1,3}(\.[0-9]{1,6})? beats?)?$"
)
"""Of a note as it is kept, which `beats` takes whatever it is; empty for none."""
_MOST_BEATS = 8


def beats(text: str) -> float:
    """How many beats a note is long. Raises ValueError with a sentence."""
    folded = " ".join(text.lower().replace(",", ".").split())
    note = re.fullmatch(r"1/(\d{1,2})( dotted| triplet)?", folded)
    if note and int(note[1]) in PARTS:
        return 4.0 / int(note[1]) * KINDS[(note[2] or "").strip()]
    some = re.fullmatch(r"(\d{1,3}(?:\.\d{1,6})?) beats?", folded)
    if some and float(some[1]) > 0.0:
        return float(some[1])
    sentence = said("“{text}” is no note: 1/1 to 1/64, dotted or triplet, or a number of beats.")
    raise ValueError(sentence.format(text=text.strip()))


def kept(text: str) -> str:
    """A typed note as it is kept and shown. Raises ValueError with a sentence."""
    folded = " ".join(text.lower().replace(",", ".").split())
    beats(folded)
    return folded


def seconds(text: str, bpm: float) -> float:
    """How long a note is at so many beats a minute. Raises ValueError with a sentence."""
    return beats(text) * 60.0 / bpm


def looks_like(text: str) -> bool:
    """Whether a typed text means a note rather than a number."""
    return "/" in text or "beat" in text.lower()


def names() -> list[str]:
    """Every note of the table, from the longest part down, each plain, dotted and as a triplet, then whole beats."""
    notes = [f"1/{part} {kind}".strip() for part in PARTS for kind in KINDS]
    return [*notes, "1 beat", *(f"{n} beats" for n in range(2, _MOST_BEATS + 1))]


@cache
def by_length() -> tuple[str, ...]:
    """All notes of the table from the shortest to the longest, each length once."""
    found = {round(beats(name), 9): name for name in reversed(names())}
    return tuple(found[length] for length in sorted(found))


def named(length: float) -> str:
    """The note that is so many beats long: of the table, or a number of beats."""
    for name in by_length():
        if abs(beats(name) - length) < 1e-6:
            return name
    return f"{length:.4f}".rstrip("0").rstrip(".") + " beats"


def table(bpm: float) -> dict[str, float]:
    """Lengths in ms of all notes at so many beats a minute."""
    return {name: 1000.0 * seconds(name, bpm) for name in names()}
