"""All strips of a sound at work, aligned to the sample: each hears what goes into it when it is there from all of them.

A strip's own clock begins at 0 with the first frame of the timeline, or where playing starts, however late it hears it.
"""

import copy
import dataclasses
from concurrent.futures import Executor, ThreadPoolExecutor
from functools import partial

import numpy as np

from stonekite.engine.graph.courtesy import Turns
from stonekite.engine.graph.fading import Fade
from stonekite.engine.graph.probing import Probe
from stonekite.engine.mix.changing import Changing, Recall
from stonekite.engine.mix.layout import Layout
from stonekite.engine.mix.ordering import Ways, with_leaving
from stonekite.engine.mix.strip import GLIDE_S, LONGEST_MEMORY_S, SWITCH_S
from stonekite.engine.mix.wire import Past, Wire
from stonekite.session.types import Strip
from stonekite.signal.sanity import clean
from stonekite.stages.planning import CannotBuild

AT_ONCE = 2
"""So many strips get other settings ready at once: each keeps a copy of what it has to hear."""
Shown = tuple[np.ndarray, np.ndarray]
"""Blocks (2, frames): processed and unprocessed."""


def _not_known(frames: int) -> None:
    """Of what came before nothing more is known than was heard."""


class Mixer:
    """The strips of a layout at a rate in Hz. What comes in are the stems' blocks, two rows (2 stems, frames) of each in
    the order of the layout's stems; what comes out is that of one strip, `heard`, as late as the last one is. A `crew` of
    threads works on several strips at once; the samples are the same.
    """

    def __init__(
        self,
        layout: Layout,
        rate: float,
        beside: dict[int, tuple[Strip, ...]] | None = None,
        helper: ThreadPoolExecutor | None = None,
        turns: Turns | None = None,
        recall: Recall = _not_known,
        crew: Executor | None = None,
    ) -> None:
        self.rate = rate
        self.layout = layout
        self._crew = crew
        self.heard = layout.last
        self._made = partial(Changing, rate=rate, recall=recall, helper=helper, turns=turns or Turns())
        self.parts: dict[int, Changing] = {}
        self._order = layout.order
        """The strips in their order, with those that are on their way out."""
        self._rows = {number: 2 * k for k, number in enumerate(layout.stems)}
        self._wires: dict[tuple[int, int], Wire] = {}
        self._keys: dict[tuple[int, int], Wire] = {}
        """From a strip to one whose detectors hear it."""
        self._feeds: dict[int, Wire] = {}
        """From what comes in to the strip of each stem."""
        self._past: dict[int, Past] = {}
        self._fed = {number: Past() for number in layout.stems}
        self._ways_known: Ways | None = None
        self._known_late: tuple[int, ...] = ()
        self._late: dict[int, int] = {}
        self._begun: dict[int, int] = {}
        self._dead: dict[int, int] = {}
        self._inputs: dict[int, np.ndarray] = {}
        self.metered = False
        self._peaks: dict[int, np.ndarray] = {}
        self._fade = Fade(0)
        self._faded_from: int | None = None
        self.want(layout, beside or {})
        self.begin()

    # What it is like now

    @property
    def latency(self) -> int:
        """Samples by which all that can be heard is late."""
        return self._out(self.layout.last)

    def _out(self, number: int) -> int:
        return self._late[number] + self.parts[number].player.latency

    def _summed(self, of: dict[int, int]) -> int:
        """The most of a number of each strip that comes together on a way through."""
        found: dict[int, int] = {}
        for number in self._order:
            before = [found[source] for source in self._before(number)]
            found[number] = of[number] + max(before, default=0)
        return max(found.values())

    @property
    def lead(self) -> int:
        """Samples to be heard before the first one that counts, so that it is as if all had been heard."""
        whole = self._summed({number: part.player.chain.memory for number, part in self.parts.items()})
        return min(whole, int(LONGEST_MEMORY_S * self.rate))

    @property
    def tail(self) -> int:
        """Samples for which it sounds on after the end, besides its latency."""
        return self._summed({number: part.player.tail for number, part in self.parts.items()})

    @property
    def guarded(self) -> list[int]:
        """The ids of stages that their guards have made silent."""
        return [number for part in self.parts.values() for number in part.player.chain.guarded]

    def take_spent_s(self) -> dict[int, float]:
        """What each stage has taken of the processor's time since this was asked last."""
        spent: dict[int, float] = {}
        for part in self.parts.values():
            spent |= part.player.chain.take_spent_s()
        return spent

    @property
    def ceiling_db(self) -> float:
        """By how much the ceiling of what is heard turned the last block down at the most."""
        return self.parts[self.heard].player.chain.ceiling_db

    def take_refused(self) -> CannotBuild | None:
        """Why settings that were wished for are not heard, once."""
        for part in self.parts.values():
            if part.refused is not None:
                refused, part.refused = part.refused, None
                return refused
        return None

    def _before(self, number: int) -> list[int]:
        """All strips that one hears, with its detectors, too."""
        return [source for source, _ in (*self._ways.into[number], *self._ways.keys[number])]

    @property
    def _ways(self) -> Ways:
        """How the strips hear each other now; found anew only where that has changed."""
        known = self._order, tuple(self._wires), tuple(self._keys)
        if self._ways_known is None or self._ways_known.of != known:
            self._ways_known = Ways(*known)
        return self._ways_known

    # Other settings

    def want(self, layout: Layout, beside: dict[int, tuple[Strip, ...]]) -> None:
        """This layout, which fits the one of now, for the next start."""
        self.layout = layout
        for number, strip in layout.strips.items():
            if number not in self.parts:
                self._add(number, strip)
            self.parts[number].want(strip, beside.get(number, ()))

    def _add(self, number: int, strip: Strip) -> None:
        self.parts[number], self._past[number] = self._made(strip), Past()

    def update(
        self, layout: Layout, beside: dict[int, tuple[Strip, ...]], clock: int, glide_s: float = GLIDE_S
    ) -> None:
        """Glide to another layout that fits the one of now, from the next block on, or soon after. A strip that is new
        has heard silence; one that is gone is heard as long as it takes to go over."""
        new = [number for number in layout.order if number not in self.parts]
        for number in new:
            self._add(number, Strip())
            self.parts[number].begin()
        self._order = with_leaving(layout.order, self._order, list(self._wires))
        length = int(glide_s * self.rate)
        places = {number: k for k, number in enumerate(self._order)}
        for ends, wire in list(self._wires.items()):
            if ends not in layout.gains:
                if places[ends[0]] < places[ends[1]]:
                    wire.aim(np.zeros((2, 2)), self._delay(ends), length)
                else:
                    del self._wires[ends]
        for ends, gains in layout.gains.items():
            if ends in self._wires:
                self._wires[ends].aim(gains, self._delay(ends), length)
            else:
                self._wires[ends] = wire = Wire(np.zeros((2, 2)))
                wire.aim(gains, 0, length)
        self._hear_keys(layout)
        self.layout = layout
        self._known_late = ()
        self._begin_new(new, clock)
        for number, strip in layout.strips.items():
            part, others = self.parts[number], beside.get(number, ())
            if strip is not part.strip or others != part.beside:
                part.update(strip, others, self._clock(number, clock), glide_s)

    def _begin_new(self, new: list[int], clock: int) -> None:
        """Have strips begin that were not there: each hears what belongs to the place that all are at."""
        lates = self._lates()
        there = next(number for number in self.layout.order if number not in new)
        begins = self._clock(there, clock)
        place = self.parts[there].player.course.runs(begins, 1, 0)[0][1] + self._late[there]
        for number in new:
            self._late[number] = self._begun[number] = lates[number]
            self._dead[number] = 0
            self.parts[number].player.course.jump(clock - lates[number], place - lates[number])

    def _purge(self) -> None:
        """Let go of strips that are gone, as soon as nothing of them is heard."""
        for number in set(self.parts) - set(self.layout.strips):
            wires = [wire for ends, wire in self._wires.items() if number in ends]
            if number in (self.heard, self._faded_from) or not all(wire.rests for wire in wires):
                continue
            for one in (self.parts, self._past, self._late, self._begun, self._dead, self._inputs):
                one.pop(number, None)  # type: ignore[attr-defined]
            for joined in (self._wires, self._keys):
                for ends in [ends for ends in joined if number in ends]:
                    del joined[ends]
            self._order = tuple(other for other in self._order if other != number)

    def _hear_keys(self, layout: Layout) -> None:
        """Have detectors hear what they do in a layout. What one has heard keeps its place beside its strip: settings
        that go over know it there."""
        for number, heard in layout.keys.items():
            rows = self.parts[number].player.key_rows
            for source in heard:
                rows.setdefault(source, 2 * len(rows))
        places = {number: k for k, number in enumerate(self._order)}
        self._keys = {
            (source, number): self._keys.get((source, number)) or Wire(np.eye(2))
            for number, part in self.parts.items()
            for source in part.player.key_rows
            if places.get(source, len(places)) < places[number]
        }

    def hear(self, number: int, glide_s: float = SWITCH_S) -> None:
        """Have another strip come out; the last one in place of one that is not there, as in a version of before it."""
        number = number if number in self.layout.strips else self.layout.last
        if number != self.heard:
            self._faded_from, self.heard = self.heard, number
            self._fade = Fade(int(glide_s * self.rate))

    def follow(self, clock: int) -> None:
        """Have what was wished for got ready, and go over to it where it is."""
        self._purge()
        busy = sum(part.getting_ready for part in self.parts.values())
        for number, part in self.parts.items():
            before = part.getting_ready
            part.follow(self._clock(number, clock), busy < AT_ONCE)
            busy += part.getting_ready - before

    def catch_up(self, clock: int) -> None:
        """Have what is ready, but late, hear what was played until now."""
        for number, part in self.parts.items():
            part.catch_up(self._clock(number, clock))

    def without(self, stage: int) -> None:
        """Have all strips without a stage that failed, from the next start on."""
        for part in self.parts.values():
            part.without(stage)
        strips = {number: part.strip for number, part in self.parts.items()}
        self.layout = dataclasses.replace(self.layout, strips={n: strips[n] for n in self.layout.order})

    # Time

    def _clock(self, number: int, clock: int) -> int:
        """The clock of a strip, where that of what comes in stands so."""
        return clock - self._begun[number]

    def _delay(self, ends: tuple[int, int]) -> int:
        source, to = ends
        return max(0, self._late[to] - self._out(source))

    def _lates(self) -> dict[int, int]:
        """By how much what goes into each strip is late."""
        late: dict[int, int] = {}
        for number in self._order:
            late[number] = max(
                (late[source] + self.parts[source].player.latency for source in self._before(number)),
                default=0,
            )
        return late

    def _align(self, clock: int, anew: bool = False) -> None:
        """Have all strips hear together what belongs together, as late as they are now."""
        known = tuple(part.player.latency for part in self.parts.values())
        if known == self._known_late:
            return
        self._known_late = known
        before = dict(self._late)
        self._late = self._lates()
        inner = [(wire, self._delay(ends)) for ends, wire in (*self._wires.items(), *self._keys.items())]
        for wire, delay in [*inner, *((wire, self._late[number]) for number, wire in self._feeds.items())]:
            if anew:
                wire.set(delay)
            else:
                wire.aim(wire.aimed, delay, int(GLIDE_S * self.rate))
        for number, past in self._past.items():
            past.room_for(self._more(number))
        if not anew:
            for number, late in self._late.items():
                if late != before[number]:
                    self.parts[number].player.course.shift(self._clock(number, clock), before[number] - late)

    def jump(self, clock: int, place: int) -> None:
        """From a clock on what comes in belongs to another place of the timeline."""
        for number, part in self.parts.items():
            there = self._clock(number, clock) + self._late[number]
            part.player.course.jump(there, place)

    # At work

    def begin(self) -> None:
        """A new start with the settings that are wanted: silence was before."""
        self._order = self.layout.order
        self.parts = {number: self.parts[number] for number in self._order}
        self._past = {number: self._past[number] for number in self._order}
        self._inputs.clear()
        for part in self.parts.values():
            part.drop_wishes()
            part.begin()
        self._wires = {ends: Wire(gains) for ends, gains in self.layout.gains.items()}
        self._feeds = {number: Wire(np.eye(2)) for number in self._rows}
        self._keys = {}
        for part in self.parts.values():
            part.player.key_rows.clear()
        self._hear_keys(self.layout)
        for past in (*self._past.values(), *self._fed.values()):
            past.clear()
        self._fade, self._faded_from = Fade(0), None
        self._known_late, self._late = (), dict.fromkeys(self.layout.strips, 0)
        self._begun = dict.fromkeys(self.layout.strips, 0)
        self._align(0, anew=True)
        self._begun = dict(self._late)
        self._dead = dict(self._late)

    def remember(self, stems: np.ndarray) -> None:
        """What came in before now, where more is known of it than was processed."""
        for number, row in self._rows.items():
            self.parts[number].player.remember(stems[row : row + 2])

    def warm(self, stems: np.ndarray, clock: int) -> None:
        """Hear blocks that end at the clock, without giving anything."""
        if len(self.parts) == 1:
            self.parts[self.heard].player.warm(stems, clock)
        else:
            self.process(stems, clock - stems.shape[1])

    def process(
        self, stems: np.ndarray, clock: int, probe: Probe | None = None, watched: int | None = None
    ) -> Shown:
        """A block of what comes in through all strips: what is heard of it. A probe looks into the strip that is
        `watched`, where that is not the one that is heard."""
        self._align(clock)
        outs: dict[int, np.ndarray] = {}
        before: dict[int, np.ndarray] = {}
        looked_at = self.heard if watched is None else watched
        for row in self._ways.rows:
            for number in row:
                self._inputs[number] = source = self._input(number, stems, outs)
                if number in (self.heard, self._faded_from):
                    before[number] = self.parts[number].player.reference(source, self._more(number))

            def work(number: int) -> np.ndarray:
                looking = probe if number == looked_at else None
                return self._through(number, self._inputs[number], clock, looking)

            made = map(work, row) if self._crew is None or len(row) == 1 else self._crew.map(work, row)
            outs.update(zip(row, made, strict=True))
        shown = self._shown(outs, before)
        if self.metered:
            self._meter(outs)
        for number, out in outs.items():
            self._past[number].add(out)
        for number, first in self._rows.items():
            self._fed[number].add(stems[first : first + 2])
        return shown

    def _more(self, number: int) -> int:
        """By how much what comes out of a strip is held back to be as late as the last one."""
        return max(0, self.latency - self._out(number))

    def _shown(self, outs: dict[int, np.ndarray], before: dict[int, np.ndarray]) -> Shown:
        def of(number: int) -> Shown:
            return self._past[number].late(outs[number], self._more(number)), before[number]

        now = of(self.heard)
        if self._faded_from is None:
            return now
        was = of(self._faded_from)
        gone = copy.copy(self._fade)
        shown = self._fade.between(was[0], now[0]), gone.between(was[1], now[1])
        if self._fade.over:
            self._faded_from = None
        return shown

    def _meter(self, outs: dict[int, np.ndarray]) -> None:
        for number, out in outs.items():
            peaks = self._peaks.setdefault(number, np.zeros(4))
            into = self._inputs[number][:2]
            np.maximum(peaks[:2], np.abs(into).max(axis=1, initial=0.0), out=peaks[:2])
            np.maximum(peaks[2:], np.abs(out).max(axis=1, initial=0.0), out=peaks[2:])

    def take_peaks(self) -> dict[int, np.ndarray]:
        """The greatest samples (4,) of each strip since this was asked last: left and right before it, and behind it."""
        peaks, self._peaks = self._peaks, {}
        return peaks

    @property
    def heard_input(self) -> np.ndarray:
        """What went into the strip that is heard, of the last block, with what its detectors heard in further rows."""
        return self._inputs[self.heard]

    @property
    def heard_late(self) -> int:
        """By how much what goes into the strip that is heard is late."""
        return self._late[self.heard]

    @property
    def heard_latency(self) -> int:
        """By how much what is heard is later than what went into its strip."""
        return self.parts[self.heard].player.latency + self._more(self.heard)

    def clock_of_heard(self, clock: int) -> int:
        """The clock of the strip that is heard."""
        return self._clock(self.heard, clock)

    def _input(self, number: int, stems: np.ndarray, outs: dict[int, np.ndarray]) -> np.ndarray:
        row, key_rows = self._rows.get(number), self.parts[number].player.key_rows
        if row is not None and not self._late[number] and not key_rows and self._feeds[number].rests:
            return stems[row : row + 2]
        whole = np.zeros((2 + 2 * len(key_rows), stems.shape[1]))
        if row is not None:
            self._feeds[number].add(clean(stems[row : row + 2]), self._fed[number], whole[:2])
        for source, to in self._ways.into[number]:
            self._wires[source, to].add(outs[source], self._past[source], whole[:2])
        for source, to in self._ways.keys[number]:
            there = whole[2 + key_rows[source] :][:2]
            self._keys[source, to].add(outs[source], self._past[source], there)
        return whole

    def _through(self, number: int, source: np.ndarray, clock: int, probe: Probe | None) -> np.ndarray:
        player, frames = self.parts[number].player, source.shape[1]
        dead = min(self._dead[number], frames)
        if dead:  # it has not begun: nothing is there yet of the first frame
            self._dead[number] -= dead
            clock += dead
        if dead == frames:
            return np.zeros((2, frames))
        out = player.process(source[:, dead:], self._clock(number, clock), probe)
        return np.concatenate([np.zeros((2, dead)), out], axis=1) if dead else out
