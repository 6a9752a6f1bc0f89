"""What a delay of one leg does: where the image goes, and what falls out in a fold to mono."""

from typing import NamedTuple

from stonekite.session.types import Strip
from stonekite.signal.decibels import db_of, gain_of
from stonekite.words import NAMES, figure, said, spoken_hertz

_MOVES_MS, _FUSES_MS = 1.0, 35.0
"""Up to the first the image moves; up to the second both are heard as one, from where it comes first (Litovsky, Colburn,
Yost and Guzman, "The precedence effect", J. Acoust. Soc. Am. 106, 1999)."""
_HIGHEST_HZ = 20_000.0
DEEPEST_DB = -60.0


class Told(NamedTuple):
    """`nulls_hz` are the lowest frequencies that fall out in mono, by `depth_db` against what adds most."""

    sentence: str
    nulls_hz: tuple[float, ...] = ()
    depth_db: float = 0.0


def told(strip: Strip) -> Told:
    """What the delays of a strip's legs do; an empty sentence where they are alike."""
    apart = strip.lower.delay_ms - strip.upper.delay_ms
    if not apart:
        return Told("")
    later, first = ("lower", "upper") if apart > 0 else ("upper", "lower")
    apart = abs(apart)
    names = {leg: NAMES[strip.split.component(leg)] for leg in ("upper", "lower")}  # type: ignore[arg-type]
    if strip.split.mode == "mid-side":
        return Told(
            said("{late} {ms} behind {first}: mono stays as it is, the sides come later.").format(
                late=names[later], first=names[first], ms=figure(apart, "ms", 2)
            )
            if later == "lower"
            else said("{late} {ms} behind {first}: mono stays as it is, only later.").format(
                late=names[later], first=names[first], ms=figure(apart, "ms", 2)
            )
        )
    gains = [gain_of(leg.level_db) for leg in (strip.upper, strip.lower)]
    together = gains[0] + gains[1]
    difference = abs(gains[0] - gains[1])
    inverted = strip.upper.inverted != strip.lower.inverted
    steps = range(1, 4) if inverted else range(3)
    nulls = tuple(
        hertz for k in steps if (hertz := 1000.0 * (k if inverted else k + 0.5) / apart) < _HIGHEST_HZ
    )
    depth = DEEPEST_DB
    if together > 0.0 and difference / together > 10 ** (DEEPEST_DB / 20):
        depth = db_of(difference / together)
    side = names[first].lower()
    if apart <= _MOVES_MS:
        image = said("the image moves to the {side}").format(side=side)
    elif apart <= _FUSES_MS:
        image = said("heard from the {side}, and wide").format(side=side)
    else:
        image = said("heard as an echo")
    mono = ""
    if nulls:
        words = said("; in mono {hertz}… fall out")
        if depth > DEEPEST_DB:
            words = said("; in mono {hertz}… fall by {depth}")
        mono = words.format(
            hertz=", ".join(spoken_hertz(hertz) for hertz in nulls[:2]), depth=figure(-depth, "dB")
        )
    return Told(f"{image}{mono}", nulls, depth)
