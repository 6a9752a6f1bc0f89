"""A strip in whose place what it sounds like is played from where it was kept."""

from dataclasses import replace

from stonekite.engine.mix.layout import Beside, Layout
from stonekite.files.kept import Result
from stonekite.session.types import Split, Strip
from stonekite.stages.machinery.kept import Kept


def playing(result: Result) -> Strip:
    """A strip that gives a result, whatever goes into it."""
    return Strip(split=Split(mode="left-right"), stages=(Kept(id=0, result=result),))


def with_kept(layout: Layout, beside: Beside, kept: dict[int, Strip]) -> tuple[Layout, Beside]:
    """A layout with results in place of its strips, by their ids: as late as those are, so that nothing else moves."""
    there = {number: strip for number, strip in kept.items() if number in layout.strips}
    late = {number: (*beside.get(number, ()), layout.strips[number]) for number in there}
    return replace(layout, strips={**layout.strips, **there}), {**beside, **late}
