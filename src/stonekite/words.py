"""How names, numbers and times are shown and typed, wherever they stand, and in which language.

All that is said goes through `said`, which looks it up in a catalogue of the user's language, if there is one: a gettext
file called stonekite.mo. What is filled in has a name: said("{count} bands").format(count=3). `python -m
stonekite.catalogue` writes the template for one. Knows nothing else of this program.
"""

import math
import os
import re
import struct
from functools import cache
from pathlib import Path
from string import Formatter
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from gettext import NullTranslations

DOMAIN = "stonekite"
_marked: set[str] = set()


@cache
def _catalogue() -> "NullTranslations | None":
    """That of the user's language (LANGUAGE, LC_ALL, LC_MESSAGES, LANG), beside the program or among the user's data;
    None where there is none, and without loading what it would take."""
    data = os.environ.get("XDG_DATA_HOME") or os.path.expanduser("~/.local/share")
    for folder in (Path(data) / DOMAIN / "locale", Path(__file__).parent / "locale"):
        if folder.is_dir():
            import gettext

            with_it = gettext.find(DOMAIN, folder)
            if with_it is not None:
                try:
                    return gettext.translation(DOMAIN, folder)
                except (OSError, ValueError, struct.error):  # a damaged one
                    return None
    return None


def said(text: str) -> str:
    """A text of the program in the user's language."""
    _marked.add(text)
    return _looked_up(text) if text and translated() else text


@cache
def _looked_up(text: str) -> str:
    """A text as the catalogue has it; as it stands where the catalogue's would not take what is filled in."""
    catalogue = _catalogue()
    found = text if catalogue is None else catalogue.gettext(text)
    return found if _fields(found) == _fields(text) else text


def _fields(text: str) -> set[tuple[str, str | None]] | None:
    """What is filled into a text, and how; None where it cannot be."""
    try:
        return {(name, how) for _, name, how, _ in Formatter().parse(text) if name is not None}
    except ValueError:
        return None


def translated() -> bool:
    """Whether there is a catalogue of the user's language."""
    return _catalogue() is not None


def marked() -> set[str]:
    """What was asked for so far, as it stands in the program."""
    return _marked - {""}


Component = Literal["left", "right", "mid", "side"]
NAMES: dict[str, str] = {
    "left": said("Left"),
    "right": said("Right"),
    "mid": said("Mid"),
    "side": said("Side"),
}
LETTERS: dict[str, str] = {"left": "L", "right": "R", "mid": "M", "side": "S"}
"""Of the components."""


def number(value: float, digits: int = 1, sign: bool = False) -> str:
    """A number with a true minus sign; what is shown as nought has none. With `sign` a plus is said, too."""
    text = f"{value:{'+' if sign else ''}.{digits}f}"
    if not text.strip("+-0."):
        text = text.lstrip("+-")
    return text.replace("-", "−")


def figure(value: float | None, unit: str, digits: int = 1, sign: bool = False) -> str:
    """A number with its unit; a dash where there is none."""
    if value is None or not math.isfinite(value):
        return "–"
    return f"{number(value, digits, sign)} {unit}".strip()


def mark(value: float) -> str:
    """A number at an axis, as short as it can be."""
    return f"{value:g}".replace("-", "−")


def spoken_hertz(hertz: float) -> str:
    """A frequency with its unit."""
    return f"{hertz / 1000:.2f} kHz" if hertz >= 1000 else f"{hertz:.0f} Hz"


def clock(seconds: float, digits: int = 2) -> str:
    """A time as 1:02.50 or 1:01:02.50."""
    whole, rest = divmod(max(0.0, seconds), 60)
    hours, minutes = divmod(int(whole), 60)
    tail = f"{rest:0{digits + 3 if digits else 2}.{digits}f}"
    return f"{hours}:{minutes:02d}:{tail}" if hours else f"{minutes}:{tail}"


def parsed_time(text: str) -> float:
    """Seconds of a time such as 75, 1:15 or 1:15.5. Raises ValueError with a sentence."""
    match = re.fullmatch(r"(?:(\d+):)?(\d+(?:\.\d*)?)", text.strip().replace(",", "."))
    if match is None:
        sentence = said("“{text}” is not a time: type minutes:seconds, such as 1:15.")
        raise ValueError(sentence.format(text=text.strip()))
    return 60.0 * int(match[1] or 0) + float(match[2])


def parsed_range(text: str) -> tuple[float, float] | None:
    """Start and end in seconds of a range such as 0:10 – 0:30; None for nothing. Raises ValueError with a sentence."""
    if not text.strip():
        return None
    parts = re.split(r"[–—-]|\bto\b", text)
    if len(parts) != 2:
        raise ValueError(said("Type two times, such as 0:10 – 0:30, or nothing for all of it."))
    start, end = (parsed_time(part) for part in parts)
    if end <= start:
        raise ValueError(said("The range ends before it begins."))
    return start, end


_NOTES = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")


def note(hz: float) -> str:
    """The name of the note nearest to a frequency in Hz, A4 at 440 Hz: E1, B♭3."""
    place = round(69 + 12 * math.log2(hz / 440.0))
    return f"{_NOTES[place % 12]}{place // 12 - 1}"
