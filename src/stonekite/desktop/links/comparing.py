"""Measures behind the window what is compared; knows what was measured before, by its content."""

from collections import OrderedDict
from typing import Literal

from PySide6.QtCore import QObject, QTimer, Signal

from stonekite.engine.offline.subjects import Subject
from stonekite.measure.measures import Measures
from stonekite.processes.jobs import Answer, Compare, Compared, Done, Failed, Progress
from stonekite.processes.pool import COMPARE, Pool
from stonekite.session import tree
from stonekite.session.mix import places
from stonekite.session.types import MIX, Loop, Session, Sound, Strip
from stonekite.words import said

SETTLE_MS = 60
KEPT = 64
"""So many measurements are remembered."""

Range = Literal["loop", "selection", "whole"]


class Comparing(QObject):
    """Give it the session and a range by `show`; `changed` says that measures have come, `progressed` 0 to 1 (1: done).

    Subjects have keys: unprocessed, processed, version 1 and so on, reference 0 and so on, difference.
    """

    changed = Signal()
    progressed = Signal(float)
    failed = Signal(str)

    def __init__(self, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self._known: OrderedDict[str, Measures] = OrderedDict()
        self._faults: dict[str, str] = {}
        self._subjects: dict[str, Subject] = {}
        self._asked: list[str] = []
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLE_MS)
        self._settle.timeout.connect(self._ask)

    def show(self, subjects: dict[str, Subject]) -> None:
        """Have these measured, as far as they are not known yet, the first ones first."""
        if subjects == self._subjects:
            return
        self._subjects = subjects
        self._settle.start()
        self.changed.emit()

    def measures(self, key: str) -> Measures | None:
        """Measures of a subject, if they are known."""
        subject = self._subjects.get(key)
        if subject is None or subject.identity not in self._known:
            return None
        self._known.move_to_end(subject.identity)
        return self._known[subject.identity]

    def loudness(self) -> dict[str, float | None]:
        """Integrated loudness of what is known; None where there is none."""
        found = {key: self.measures(key) for key in self._subjects}
        return {key: measures.integrated_lufs for key, measures in found.items() if measures is not None}

    @property
    def waiting(self) -> bool:
        """Whether something is still to be measured."""
        return any(identity not in self._faults for identity in self._missing())

    def _missing(self) -> list[str]:
        found = {subject.identity: None for subject in self._subjects.values()}
        return [identity for identity in found if identity not in self._known]

    def _ask(self) -> None:
        missing = [identity for identity in self._missing() if identity not in self._faults]
        if not missing:
            self._asked = []
            self.progressed.emit(1.0)
            return
        if missing == self._asked:
            return
        self._asked = missing
        by_identity = {subject.identity: subject for subject in self._subjects.values()}
        wanted = [by_identity[identity] for identity in missing]
        self._workers.ask("compare", COMPARE, lambda number: Compare(number, wanted), self._hear, self._lost)

    def _hear(self, answer: Answer) -> None:
        if isinstance(answer, Progress):
            self.progressed.emit(answer.done)
        elif isinstance(answer, Compared):
            if answer.measures is None:
                self._faults[answer.identity] = answer.fault
                self.failed.emit(answer.fault)
            else:
                self._known[answer.identity] = answer.measures
                self._known.move_to_end(answer.identity)
                while len(self._known) > KEPT:
                    self._known.popitem(last=False)
            self.changed.emit()
        elif isinstance(answer, Failed):
            self._asked = []
            self.failed.emit(answer.sentence)
        elif isinstance(answer, Done):
            self._asked = []
            self.progressed.emit(1.0)

    def _lost(self) -> None:
        self._asked = []
        self.failed.emit(said("Measuring stopped unexpectedly, twice; it starts again with the next change."))

    def cancel(self) -> None:
        """Stop measuring; it goes on with the next change."""
        if not self._asked:
            return
        self._workers.drop("compare")
        self._faults |= dict.fromkeys(self._missing(), "stopped")
        self._asked = []
        self.progressed.emit(1.0)

    def forget_faults(self) -> None:
        """Try again what could not be measured."""
        self._faults.clear()

    def close(self) -> None:
        """What may still come is of no use."""
        self._settle.stop()
        self._workers.drop("compare")


def span_of(loop: Loop | None, rate: int, frames: int) -> tuple[int, int] | None:
    """A range in frames; None for all of it."""
    if loop is None:
        return None
    start, end = int(loop.start_s * rate), min(frames, int(loop.end_s * rate))
    return (start, end) if end > start else None


def subjects_of(
    session: Session, chosen: Loop | None, place: int, *, everything: bool, in_the_mix: bool = False
) -> dict[str, Subject]:
    """What is compared of what is open, by its id, in a range: the recording, the result, and, where everything is wanted
    or they are in the switch, versions and references, each reference in its own range. In the mix it is the mix, with
    what is open and with that untouched.
    """
    stem = places.as_stem(session.sound, MIX if in_the_mix else place)
    source = stem.source
    span = span_of(chosen, source.rate, source.frames)

    def of(sound: Sound) -> Subject:
        there = places.as_stem(sound, MIX) if in_the_mix else None
        if there is None:
            return Subject(source, tree.strip_in(sound, place), span)
        return Subject(there.source, there.strip, span)

    without = of(tree.put_strip(session.sound, place, Strip())) if in_the_mix else Subject(source, None, span)
    found = {"processed": of(session.sound), "unprocessed": without}
    if everything or session.versions or session.desk.references:
        for version in session.versions:
            found[f"version {version.number}"] = of(version.sound)
        for k, reference in enumerate(session.desk.references):
            own = span_of(reference.loop, reference.source.rate, reference.source.frames)
            found[f"reference {k}"] = Subject(reference.source, None, own, rate=source.rate)
    return found
