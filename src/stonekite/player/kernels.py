"""Which kernels are there to play with, and how the others come: what a strip needs first, the rest behind it.

What is compiled already on this machine is loaded in the player, beside the playing; what is not is compiled by processes
of their own (player/making.py), so that neither sound nor answers wait for it.
"""

import os
import queue
import time
from collections.abc import Callable, Iterable
from concurrent.futures import Executor, Future

from stonekite.engine.offline import warm
from stonekite.player.making import Made, Make, make, warm_meters
from stonekite.processes.children import Child
from stonekite.session import tree
from stonekite.session.alone import leaving_out
from stonekite.session.types import Sound, Strip
from stonekite.stages.registry import KINDS

MOST_MAKERS = 2
REST_AFTER_S = 3.0
"""So long after all that is needed was there the rest begins to be compiled, by the player that plays."""


class Kernels:
    """What is loaded in this process. `helper` loads beside the playing."""

    def __init__(self, helper: Executor) -> None:
        self._helper = helper
        self._whole: set[str] = set()
        """Kinds that are loaded in all their ways."""
        self._loaded: set[str] = set()
        self._wanted: dict[str, Strip] = {}
        self._first: set[str] = set()
        """What of it is needed by the strips that are to be played, not by those beside them."""
        self._loading: dict[str, Future[None]] = {}
        self._makers: list[Child] = []
        self._at_work: dict[str, Child] = {}
        self._rest: Child | None = None
        self._rested = self._asked = False
        self._calls: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._began = self._still = 0.0

    def load_what_is_there(self) -> None:
        """Load all that has been compiled on this machine before, at once."""
        for name in (warm.ENDS, *KINDS):
            if warm.are_compiled(name):
                warm.warm_kernels((name,))
                self._whole.add(name)
        if warm.ENDS in self._whole:
            warm_meters()
        self._rested = len(self._whole) == 1 + len(KINDS)

    def _is_there(self, part: Strip) -> bool:
        return warm.kind_name(part) in self._whole or warm.way_of(part) in self._loaded

    def want(self, sound: Sound, beside: Iterable[Sound] = ()) -> None:
        """A sound is to be played: what its strips need comes before all else, their ends first, and then what others
        need that may be played instead."""
        if len(self._whole) == 1 + len(KINDS):  # as on every start but the first
            self._wanted, self._first = {}, set()
            return
        self._asked = True
        before = set(self._wanted)
        self._wanted = self._missing(_strips_of(sound))
        self._first = set(self._wanted)
        self._wanted.update(self._missing(strip for other in beside for strip in _strips_of(other)))
        if set(self._wanted) - before:
            self._began = time.monotonic()
        self._go_on()

    def _missing(self, strips: Iterable[Strip]) -> dict[str, Strip]:
        """What of these strips is not there, in the order of need: ends, without which nothing plays, before stages."""
        parts = {warm.way_of(part): part for strip in strips for part in warm.parts_of(strip)}
        missing = [(way, part) for way, part in parts.items() if not self._is_there(part)]
        return dict(sorted(missing, key=lambda one: bool(one[1].stages)))

    @property
    def ends_there(self) -> bool:
        """Whether the strips that are to be played could, without their stages."""
        return all(self._wanted[way].stages for way in self._first if way in self._wanted)

    @property
    def complete(self) -> bool:
        """Whether all is there that the strips need which are to be played."""
        return not any(way in self._wanted for way in self._first)

    def able(self, strip: Strip) -> Strip:
        """A strip without the stages that cannot play yet."""
        if not self._wanted:
            return strip
        missing = {
            stage.id
            for _, stage in tree.walk(strip)
            if warm.way_of(warm.part_of(strip, stage)) in self._wanted
        }
        return leaving_out(strip, missing)

    @property
    def coming(self) -> tuple[tuple[str, ...], float]:
        """What is being compiled, in words of the kinds, and for about how many more seconds."""
        waiting = [part for way, part in self._wanted.items() if way not in self._loading]
        names = dict.fromkeys(warm.kind_name(part) for part in waiting)
        labels = tuple(dict.fromkeys(label for part in waiting if (label := warm.label_of(part))))
        if not waiting:
            return (), 0.0
        each = [warm.seconds_for([name]) for name in names]
        whole = max(*each, sum(each) / MOST_MAKERS, 1.0)
        return labels, max(1.0, whole - (time.monotonic() - self._began))

    def step(self) -> bool:
        """Hear of what was made; whether something that was wanted is there now."""
        while True:
            try:
                self._calls.get_nowait()()
            except queue.Empty:
                break
        came = False
        for way, loading in list(self._loading.items()):
            if loading.done():
                del self._loading[way]
                self._loaded.add(way)
                came = self._wanted.pop(way, None) is not None or came
        if self._wanted or not self._asked or self._rested or self._rest is not None:
            self._still = time.monotonic()
        elif time.monotonic() - self._still > REST_AFTER_S:
            self._rest = self._child("rest")
        return came

    def _go_on(self) -> None:
        for way, part in self._wanted.items():
            if way in self._loading or way in self._at_work:
                continue
            if warm.is_compiled(part):
                self._loading[way] = self._helper.submit(make, part)
            elif (maker := self._free_maker()) is not None:
                self._at_work[way] = maker
                maker.send(Make(part))

    def _free_maker(self) -> Child | None:
        busy = list(self._at_work.values())
        for maker in self._makers:
            if maker not in busy:
                return maker
        if len(self._makers) < min(MOST_MAKERS, os.cpu_count() or 1):
            self._makers.append(self._child())
            return self._makers[-1]
        return None

    def _child(self, *arguments: str) -> Child:
        made: list[Child] = []
        made.append(
            Child(
                "stonekite.player.making",
                Made,
                lambda answer: self._made(answer),
                lambda code: self._ended(made[0]),
                self._calls.put,
                arguments,
            )
        )
        return made[0]

    def _made(self, answer: Made) -> None:
        self._at_work.pop(answer.way, None)
        part = self._wanted.get(answer.way)
        if part is not None:  # what could not be compiled is tried here: who plays says why
            self._loading[answer.way] = self._helper.submit(make, part)
        self._go_on()
        if not self._wanted:
            for maker in self._makers:
                maker.kill()
            self._makers.clear()

    def _ended(self, child: Child) -> None:
        """A maker is gone. What it was at is loaded, or compiled, here."""
        if child is self._rest:
            self._rested = True
            return
        if child in self._makers:
            self._makers.remove(child)
        for way in [way for way, maker in self._at_work.items() if maker is child]:
            self._made(Made(way))


def _strips_of(sound: Sound) -> list[Strip]:
    return [one.strip for _, one in tree.holders(sound)]
