"""What a setting is: its range, unit, taper, step and words, declared once in the type annotation.

A settings struct annotates its fields with `number(...)`, `choice(...)` or `flag(...)`. Validation (by
msgspec), typed entry, sliders, presets, the command line and the schema all read that one declaration.
"""

import inspect
import math
import re
from dataclasses import dataclass
from functools import cache
from typing import Annotated, Any, Literal, get_type_hints

import msgspec

from stonekite import notes, words
from stonekite.signal.decibels import SILENCE_DB

Taper = Literal["linear", "log", "fader"]


class Settings(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, weakref=True):
    """Base of every group of settings: immutable, and strict about what it accepts."""


@dataclass(frozen=True)
class Setting:
    """One declared setting. `low` and `high` are in `unit`; `words` maps a choice's values to its labels.

    `decimals` are those that are shown, where not as usual for the unit. With `goes_round` the end is the beginning, as
    of an angle: what leaves the range comes in on the other side. `both` is of one
    that is between two legs: it does nothing on a path that carries one. `note` names the field beside it, if there is
    one, that holds the note by which it is given; the value is then what the note is at the tempo. One that is `seldom`
    wanted stands in a row that can be put away. `still` is why it cannot move over the recording; empty if it can.
    """

    label: str
    help: str
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    taper: Taper = "linear"
    step: float = 0.1
    default: Any = None
    words: dict[Any, str] | None = None
    decimals: int | None = None
    goes_round: bool = False
    both: bool = False
    note: str = ""
    seldom: bool = False
    still: str = ""

    @property
    def is_switch(self) -> bool:
        """Whether it is on or off."""
        return isinstance(self.default, bool)

    def __post_init__(self) -> None:
        for name in ("label", "help", "still"):
            object.__setattr__(self, name, words.said(getattr(self, name)))
        if self.words is not None:
            shown = {value: words.said(word) for value, word in self.words.items()}
            object.__setattr__(self, "words", shown)

    def of_note(self, text: str, bpm: float) -> float:
        """What a note is in this unit at a tempo, held to the range: ms, or Hz of one that repeats."""
        length = notes.seconds(text, bpm)
        return self.held(1.0 / length if self.unit == "Hz" else 1000.0 * length)

    def note_fits(self, text: str, bpm: float) -> bool:
        """Whether a note is within the range at a tempo."""
        length = notes.seconds(text, bpm)
        return self.low <= (1.0 / length if self.unit == "Hz" else 1000.0 * length) <= self.high

    def to_travel(self, value: float) -> float:
        """Position 0 to 1 of a value along a slider."""
        if self.taper == "log":
            return math.log(value / self.low) / math.log(self.high / self.low)
        if self.taper == "fader":
            return 10.0 ** ((value - self.high) / 50.0) if value > self.low else 0.0
        return (value - self.low) / (self.high - self.low)

    def from_travel(self, travel: float) -> float:
        """Value at a position 0 to 1 along a slider, held to the range."""
        travel = min(1.0, max(0.0, travel))
        if self.taper == "log":
            return self.held(self.low * (self.high / self.low) ** travel)
        if self.taper == "fader":
            return self.held(self.high + 50.0 * math.log10(travel)) if travel > 0.02 else self.low
        return self.held(self.low + travel * (self.high - self.low))

    def stepped(self, value: float, steps: float) -> float:
        """The value moved by a number of steps: of `step` units, or of `step` octaves on a log taper."""
        if self.taper == "log":
            return self.held(value * 2.0 ** (steps * self.step))
        if self.taper == "fader" and value <= -60.0 and steps < 0:
            return self.low
        if self.taper == "fader" and value < -60.0:
            return -60.0
        return self.held(value + steps * self.step)

    def held(self, value: float) -> float:
        """The nearest value within the range; of one that goes round the same within it, of a switch 0 or 1."""
        if self.is_switch:
            return 1.0 if value >= 0.5 else 0.0
        if self.goes_round and not self.low <= value <= self.high:
            return self.low + (value - self.low) % (self.high - self.low)
        return min(self.high, max(self.low, value))

    def moved_with(self, value: float, old: float, new: float) -> float:
        """Where `value` goes when a linked partner goes from old to new: keeps difference or ratio."""
        if value == old:
            return new
        if self.taper == "log":
            return self.held(value * new / old)
        return self.held(value + (new - old))

    def shown(self, value: Any) -> str:
        """The value as text with its unit, using a true minus sign."""
        if self.words is not None:
            return self.words[value]
        if self.is_switch:
            return words.said("on") if value >= 0.5 else words.said("off")
        if self.taper == "fader" and value <= SILENCE_DB:
            return "−∞ dB"
        if self.decimals is not None:
            return words.figure(value, self.unit, self.decimals)
        if self.unit == "Hz":
            if value >= 1000:
                return f"{value / 1000:.{2 if value < 9995 else 1}f} kHz"
            return f"{value:.{0 if value >= 200 else 1}f} Hz"
        if self.unit == "dB":
            text = words.figure(value, "dB", sign=True)
            return text if self.low < 0 else text.removeprefix("+")
        if self.unit == ": 1" and value >= self.high:
            return "∞ : 1"
        if not self.unit and self.step == 1.0:
            return words.number(value, 0)
        text = f"{value:.2f}"
        if self.unit == "ms" and value >= 10:
            text = f"{value:.1f}" if value < 100 else f"{value:.0f}"
        if self.unit in ("%", "st"):
            text = f"{value:.1f}".removesuffix(".0")
        return f"{text.replace('-', '−')} {self.unit}".strip()

    def typed(self, text: str, units: dict[str, float] | None = None) -> float:
        """The value a person meant by a typed text: `1.2k`, `-3`, `−3 dB`, `off`.

        `units` gives other units that may be typed, and how much of the setting's own each is. Raises
        ValueError with a sentence that names the setting and its range.
        """
        folded = text.strip().lower().replace("−", "-").replace(",", ".")
        if self.is_switch and folded in (words.said("on"), words.said("off")):
            return 1.0 if folded == words.said("on") else 0.0
        if self.unit == ": 1":
            folded = f"{self.high:g}" if folded.startswith(("∞", "inf")) else folded.split(":")[0].strip()
        if self.taper == "fader" and folded in ("off", "-inf", "-∞", "-inf db", "-∞ db", "inf", "silence"):
            return self.low
        match = re.fullmatch(r"([+-]?(?:\d+\.?\d*|\.\d+))\s*(k|m)?\s*([a-zµ%°]*)", folded)
        if match is None:
            sentence = words.said("{label}: “{text}” is not a number.").format(
                label=self.label, text=text.strip()
            )
            raise ValueError(f"{sentence} {self._range()}")
        number, prefix, unit = match.groups()
        full = (prefix or "") + unit
        scale = {
            "": 1.0,
            "k": 1000.0,
            "khz": 1000.0,
            self.unit.lower().replace(" ", ""): 1.0,
            **(units or {}),
        }.get(full)
        if scale is None:
            sentence = words.said("{label} is in {unit}, not in “{other}”.")
            plain = words.said("plain numbers")
            raise ValueError(sentence.format(label=self.label, unit=self.unit or plain, other=full))
        value = float(number) * scale
        if not self.low <= value <= self.high:
            sentence = words.said("{label}: {text} is out of range.").format(
                label=self.label, text=text.strip()
            )
            raise ValueError(f"{sentence} {self._range()}")
        return value

    def _range(self) -> str:
        sentence = words.said("It goes from {low} to {high}.")
        return sentence.format(low=self.shown(self.low), high=self.shown(self.high))


def number(
    label: str,
    unit: str,
    low: float,
    high: float,
    *,
    step: float,
    help: str,
    taper: Taper = "linear",
    decimals: int | None = None,
    goes_round: bool = False,
    both: bool = False,
    note: str = "",
    seldom: bool = False,
    still: str = "",
) -> msgspec.Meta:
    """Declare a number: `x: Annotated[float, number(...)] = default`."""
    setting = Setting(
        label=label,
        unit=unit,
        low=low,
        high=high,
        step=step,
        help=help,
        taper=taper,
        decimals=decimals,
        goes_round=goes_round,
        both=both,
        note=note,
        seldom=seldom,
        still=still,
    )
    extra: dict[str, Any] = {"unit": unit} if unit else {}
    return msgspec.Meta(
        ge=low, le=high, title=label, description=help, extra={"setting": setting}, extra_json_schema=extra
    )


NoteName = Annotated[str, msgspec.Meta(max_length=24, pattern=notes.PATTERN)]
"""A note by which another setting is given; empty where it is given by its number."""


def choice(label: str, words: dict[Any, str], *, help: str, seldom: bool = False) -> msgspec.Meta:
    """Declare a choice among the values of a Literal; `words` gives the label of each."""
    setting = Setting(label=label, help=help, words=words, seldom=seldom)
    return msgspec.Meta(title=label, description=help, extra={"setting": setting})


def flag(label: str, *, help: str, both: bool = False, still: str = "") -> msgspec.Meta:
    """Declare something that is on or off."""
    setting = Setting(label=label, help=help, both=both, step=1.0, still=still)
    return msgspec.Meta(title=label, description=help, extra={"setting": setting})


def settings_of(kind: type[msgspec.Struct]) -> dict[str, Setting]:
    """Every declared setting of a struct type, by field name, with its default.

    Those that it has of its own come before those that it shares with others, the most common last.
    """
    return _settings_of(kind)


@cache
def _settings_of(kind: Any) -> dict[str, Setting]:
    found = {}
    hints = get_type_hints(kind, include_extras=True)

    def depth(field: msgspec.structs.FieldInfo) -> int:
        return next(k for k, c in enumerate(kind.__mro__) if field.name in inspect.get_annotations(c))

    for field in sorted(msgspec.structs.fields(kind), key=depth):
        for meta in getattr(hints[field.name], "__metadata__", ()):
            if isinstance(meta, msgspec.Meta) and meta.extra and "setting" in meta.extra:
                declared: Setting = meta.extra["setting"]
                default = None if field.default is msgspec.NODEFAULT else field.default
                found[field.name] = Setting(**{**declared.__dict__, "default": default})
    return found
