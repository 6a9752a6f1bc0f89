"""Component files of the open recording: what they would be, what was written, and what came back of them."""

import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from stonekite.engine.offline.rejoining import Finding, Leftover, findings, refusal
from stonekite.engine.offline.returned import Returned
from stonekite.files.amiss import amiss
from stonekite.files.audio import Bits
from stonekite.files.components import Note, component_names, usual_bits
from stonekite.measure.headroom import Survey
from stonekite.processes.jobs import Answer, Failed, Progress, Request
from stonekite.processes.pair_jobs import (
    Held,
    HoldAgainst,
    JoinedWritten,
    PairRehearsed,
    PairSurveyed,
    PairWritten,
    RehearsePair,
    SurveyPair,
    TakeBack,
    TakenBack,
    Way,
    WriteJoined,
    WritePair,
)
from stonekite.processes.pool import ERRAND, EXPORT, Pool, Which
from stonekite.session.types import Source
from stonekite.signal.matrix import Matrix
from stonekite.words import said


class Pairing(QObject):
    """What is known of the pair, one thing after the other; None for what is not known yet. `changed` says that something
    is, `said` has a sentence. `to_hear` gives a stereo file that was made to be listened to.

    `repairs` are the names of those that are made. `busy` says what runs, and `done` how far it is.
    """

    changed = Signal()
    said = Signal(str)
    to_hear = Signal(str)

    def __init__(self, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self._folder: Path | None = None
        self._forget(None)

    def _forget(self, source: Source | None) -> None:
        self.source = source
        self.way = Way()
        self._own_bits: Bits | None = None
        self.survey: Survey | None = None
        self.rehearsed: PairRehearsed | None = None
        self.written: PairWritten | None = None
        self.back: Returned | None = None
        self.repairs: frozenset[str] = frozenset()
        self.left: Leftover | None = None
        self.joined: str = ""
        self.fault = ""
        self.busy, self.done = "", 0.0

    @property
    def usable(self) -> bool:
        """Whether there is a recording that can be encoded: a test generator has no file."""
        return self.source is not None and self.source.generator is None

    def follow(self, source: Source, matrix: Matrix) -> None:
        """The recording is this one. Of another one nothing stays."""
        if source == self.source:
            return
        for client in ("pair look", "pair back", "pair write"):
            self._workers.drop(client)
        self._forget(source)
        self.way = Way(matrix=matrix)
        self.changed.emit()

    def look(self) -> None:
        """Find out what there is to know before anything is written."""
        source = self.source
        if self.survey is None and not self.busy and source is not None and self.usable:
            self._ask("pair look", said("Looking at the recording"), lambda n: SurveyPair(n, source))

    # Out

    def choose(self, matrix: Matrix | None = None, bits: Bits | None = None) -> None:
        """Another matrix, or other samples; until some were chosen they are those that lose nothing."""
        self._own_bits = bits or self._own_bits
        matrix = matrix or self.way.matrix
        usual = self.way.bits if self.survey is None else usual_bits(self.survey.facts, matrix)
        self._go(Way(matrix, self._own_bits or usual))

    def trim(self, on: bool) -> None:
        """Turn components down so far that they fit, or not."""
        trims = (0.0, 0.0)
        if on and self.survey is not None:
            way = self.way
            trims = tuple(self.survey.trim_db(row, way.matrix, way.bits) for row in (0, 1))  # type: ignore[assignment]
        self._go(Way(self.way.matrix, self.way.bits, trims))

    def _go(self, way: Way) -> None:
        self.way, self.rehearsed = way, None
        self._rehearse()
        self.changed.emit()

    def _rehearse(self) -> None:
        source, way = self.source, self.way
        if source is not None and self.usable and self.survey is not None:
            self._ask("pair look", "", lambda n: RehearsePair(n, source, way))

    @property
    def over(self) -> tuple[bool, bool]:
        """Whether something of Mid and of Side would be cut off."""
        if self.survey is None:
            return False, False
        way = self.way
        return tuple(  # type: ignore[return-value]
            not self.survey.fits(row, way.matrix, way.bits, way.trims_db[row]) for row in (0, 1)
        )

    @property
    def names(self) -> list[str]:
        """Of the files that will be written."""
        return component_names(Path(self.source.path).stem) if self.source is not None else []

    def write(self, folder: Path) -> None:
        """Write the pair into a folder, and prove that it comes back."""
        source, way = self.source, self.way
        if source is not None and self.usable:
            self._ask(
                "pair write",
                said("Writing the pair"),
                lambda n: WritePair(n, source, str(folder), way),
                "writing",
            )

    # Back

    def take_back(self, paths: list[Path]) -> None:
        """Hold files that came back against the recording."""
        source = self.source
        if source is None or not self.usable:
            return
        went = None
        if self.written is not None:
            way = self.written.way
            went = Note(way.matrix, "", None, trims_db=way.trims_db)
        self.back, self.left, self.repairs, self.joined = None, None, frozenset(), ""
        names = [str(path) for path in paths]
        self._ask("pair back", said("Measuring what came back"), lambda n: TakeBack(n, source, names, went))
        self.changed.emit()

    def findings(self) -> list[Finding]:
        """What happened to the parts."""
        if self.back is None or self.source is None:
            return []
        return findings(self.back, self.source)

    @property
    def refusal(self) -> str:
        """Why the parts cannot be joined as they are repaired now; empty if they can."""
        return (
            "" if self.back is None or self.source is None else refusal(self.back, self.source, self.repairs)
        )

    def repair(self, name: str, on: bool) -> None:
        """Make a repair, or take it back."""
        self.repair_to(self.repairs | {name} if on else self.repairs - {name})

    def repair_to(self, names: frozenset[str]) -> None:
        """Make these repairs and no other ones."""
        self.repairs, self.left, self.joined = names, None, ""
        self._hold()
        self.changed.emit()

    def _hold(self) -> None:
        source, back, repairs = self.source, self.back, sorted(self.repairs)
        if source is not None and back is not None and not self.refusal:
            self._ask("pair back", "", lambda n: HoldAgainst(n, source, back, repairs))
        else:
            self._workers.drop("pair back")
            self.busy = ""

    def join(self, path: Path, bits: Bits | None = None) -> None:
        """Write the repaired parts as a stereo file."""
        self._join(str(path), bits, False, said("Writing “{name}”").format(name=path.name))

    def hear(self, less: bool) -> None:
        """Make a file of the repaired parts, or of what is left, to be listened to."""
        if self._folder is None:
            self._folder = Path(tempfile.mkdtemp(prefix="stonekite-pair-"))
        name = "left over.wav" if less else "joined.wav"
        self._join(str(self._folder / name), "32f", less, said("Getting it ready to be heard"))

    def _join(self, path: str, bits: Bits | None, less: bool, words: str) -> None:
        source, back, repairs = self.source, self.back, sorted(self.repairs)
        if source is None or back is None or self.refusal:
            return
        exact = self.left is not None and self.left.exact
        self._ask(
            "pair write",
            words,
            lambda n: WriteJoined(n, source, back, repairs, path, bits, exact, less),
            "writing",
        )

    # Work

    def _ask(
        self, client: str, words: str, make: Callable[[int], Request], which: Which = "measuring"
    ) -> None:
        self.fault = ""
        self.busy, self.done = words, 0.0
        rank = EXPORT if which == "writing" else ERRAND
        self._workers.ask(client, rank, make, self._hear, self._lost, which)
        self.changed.emit()

    def cancel(self) -> None:
        """End what runs; nothing of it stays."""
        for client in ("pair look", "pair back", "pair write"):
            self._workers.drop(client)
        self.busy = ""
        self.said.emit(said("Cancelled."))
        self.changed.emit()

    def _hear(self, answer: Answer) -> None:
        if isinstance(answer, Progress):
            self.done = answer.done
            self.changed.emit()
            return
        self.busy = ""
        if isinstance(answer, Failed):
            self.fault = answer.sentence
            self.said.emit(answer.sentence)
        elif isinstance(answer, PairSurveyed):
            self.survey = answer.survey
            self.choose()
        elif isinstance(answer, PairRehearsed):
            self.rehearsed = answer if answer.way == self.way else None
        elif isinstance(answer, PairWritten):
            self.written = answer
        elif isinstance(answer, TakenBack):
            self.back = answer.back
            self._hold()
        elif isinstance(answer, Held):
            self.left = answer.left if frozenset(answer.repairs) == self.repairs else None
        elif isinstance(answer, JoinedWritten):
            self._joined(answer)
        self.changed.emit()

    def _joined(self, answer: JoinedWritten) -> None:
        if self._folder is not None and Path(answer.path).parent == self._folder:
            self.to_hear.emit(answer.path)
            return
        self.joined = answer.path
        words = said("Written: “{name}”.").format(name=Path(answer.path).name)
        self.said.emit(" ".join([words, *amiss(answer.overs)]))

    def _lost(self) -> None:
        self.busy, self.fault = "", said("This stopped unexpectedly; try again.")
        self.changed.emit()

    def close(self) -> None:
        """Remove what was only made to be heard."""
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)
            self._folder = None
