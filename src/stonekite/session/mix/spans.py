"""A stem taken by its middle or by one of its ends on the timeline: where it may go, and what of it is heard then."""

from collections.abc import Iterable
from typing import Literal, NamedTuple

from stonekite.session.mix.places import length_s
from stonekite.session.types import Stem

Hold = Literal["middle", "start", "end"]
LEAST_S = 0.01
"""No stem is made shorter."""


class Span(NamedTuple):
    """When a stem begins, with what of its recording, and for how long it is heard, in seconds."""

    start_s: float
    from_s: float
    length_s: float

    @property
    def end_s(self) -> float:
        return self.start_s + self.length_s


def span_of(stem: Stem) -> Span:
    """Where a stem is."""
    return Span(stem.start_s, stem.from_s, length_s(stem))


def dragged(span: Span, whole_s: float, hold: Hold, by_s: float) -> Span:
    """A span of a recording of `whole_s` seconds that is moved, or of which one end is: as far as there is something to
    hear there, and the timeline has begun. What stays of it stays where it is."""
    start, first, length = span
    if hold == "middle":
        return Span(max(0.0, start + by_s), first, length)
    if hold == "start":
        by = max(-min(start, first), min(length - LEAST_S, by_s))
        return Span(start + by, first + by, length - by) if by else span
    return Span(start, first, max(min(LEAST_S, length), min(whole_s - first, length + by_s)))


def snapped(span: Span, hold: Hold, by_s: float, marks: Iterable[float], reach_s: float) -> float:
    """By how much to drag instead, so that an end that is dragged comes to the nearest of marks within reach."""
    ends = {"middle": (span.start_s, span.end_s), "start": (span.start_s,), "end": (span.end_s,)}[hold]
    off = [mark - (end + by_s) for mark in marks for end in ends]
    nearest = min(off, key=abs, default=reach_s)
    return by_s + nearest if abs(nearest) < reach_s else by_s


def on_frames(span: Span, rate: float) -> Span:
    """A span whose times are whole frames."""
    return Span(*(round(seconds * rate) / rate for seconds in span))
