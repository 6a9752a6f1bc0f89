"""Export sets that are to be written, one after the other, behind the window."""

import time
from dataclasses import dataclass, field
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from stonekite.processes.jobs import Answer, Failed, Progress
from stonekite.processes.pool import EXPORT, Pool
from stonekite.processes.set_jobs import SetWritten, WriteSet
from stonekite.session.export_sets import ExportSet
from stonekite.session.types import Session
from stonekite.words import figure, said

_CLIENT = "export set"


@dataclass(eq=False)
class Entry:
    """One set in the queue: of a session as it was when it was asked for. `state` is waiting, writing, written or failed;
    `words` say what came of it."""

    chosen: ExportSet
    session: Session
    session_name: str
    folder: Path
    state: str = "waiting"
    done: float = 0.0
    words: str = ""
    paths: list[str] = field(default_factory=list)
    began: float = 0.0

    @property
    def left_s(self) -> float | None:
        """How long it will take, in seconds, as far as it can be told."""
        if self.state != "writing" or self.done < 0.02:
            return None
        return (time.monotonic() - self.began) * (1 - self.done) / self.done


class ExportQueue(QObject):
    """`changed` comes with everything that happens, `said` with a word for the window."""

    changed = Signal()
    said = Signal(str)

    def __init__(self, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self.entries: list[Entry] = []

    @property
    def running(self) -> Entry | None:
        """What is written now."""
        return next((entry for entry in self.entries if entry.state == "writing"), None)

    def add(self, chosen: ExportSet, session: Session, session_name: str, folder: Path) -> Entry:
        """Have a set written when its turn comes."""
        entry = Entry(chosen, session, session_name, folder)
        self.entries.append(entry)
        self._pump()
        self.changed.emit()
        return entry

    def cancel(self, entry: Entry) -> None:
        """End what is written, or take it out of the queue; nothing of it stays on the disk."""
        if entry.state == "writing":
            self._workers.drop(_CLIENT)
        if entry in self.entries:
            self.entries.remove(entry)
        self._pump()
        self.changed.emit()

    def clear(self) -> None:
        """Forget what has been written."""
        self.entries = [entry for entry in self.entries if entry.state in ("waiting", "writing")]
        self.changed.emit()

    def _pump(self) -> None:
        if self.running is not None:
            return
        entry = next((entry for entry in self.entries if entry.state == "waiting"), None)
        if entry is None:
            return
        entry.state, entry.began = "writing", time.monotonic()
        self._workers.ask(
            _CLIENT,
            EXPORT,
            lambda number: WriteSet(
                number, entry.session, entry.session_name, entry.chosen, str(entry.folder)
            ),
            lambda answer: self._hear(entry, answer),
            lambda: self._end(entry, "failed", said("This stopped unexpectedly; nothing was written.")),
            "writing",
        )

    def _hear(self, entry: Entry, answer: Answer) -> None:
        if isinstance(answer, Progress):
            entry.done = answer.done
            self.changed.emit()
        elif isinstance(answer, Failed):
            self._end(entry, "failed", answer.sentence)
        elif isinstance(answer, SetWritten):
            entry.paths = answer.paths
            told = [said("{count} files").format(count=len(answer.paths))]
            if len(answer.paths) == 1:
                told = [said("“{name}”").format(name=Path(answer.paths[0]).name)]
            first = answer.levels[0] if answer.levels else None
            if first is not None and first[0] is not None:
                told.append(f"{figure(first[0], 'LUFS')}, {figure(first[1], 'dBTP')}")
            self._end(entry, "written", ". ".join([", ".join(told), *answer.sentences]))
            self.said.emit(said("Export set “{name}” is written.").format(name=entry.chosen.name))

    def _end(self, entry: Entry, state: str, words: str) -> None:
        entry.state, entry.words, entry.done = state, words, 1.0
        self._pump()
        self.changed.emit()
