"""Batches: a strip over many recordings, by several workers at once, kept account of so that it goes on where it stopped.

The account is a file in the batch's folder with a line of JSON for the batch and for everything that happens: a recording
was begun, or done. A line that was not written whole is none.
"""

import contextlib
import json
import os
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from stonekite.engine.offline.batch import Item, Learn, Row, identity, targets_of
from stonekite.files.atomic import sweep
from stonekite.files.audio import fingerprint
from stonekite.processes.batch_jobs import OneWritten, WriteOne
from stonekite.processes.children import Child, Deliver
from stonekite.processes.jobs import Answer, Failed, Progress
from stonekite.session.export_sets import ExportSet, SetError
from stonekite.session.types import Session
from stonekite.words import said

ACCOUNT = "stonekite-batch.jsonl"
_DEATHS = 2
"""What has ended so many workers is given up."""


@dataclass(eq=False)
class Entry:
    """One recording of a batch: what is to be written, and what came of it."""

    item: Item
    targets: list[Path] = field(default_factory=list)
    mark: str = ""
    done: float = 0.0
    deaths: int = 0
    row: Row | None = None


class Account:
    """What has been done in a folder by batches that were the same."""

    def __init__(self, folder: Path, key: str) -> None:
        self._path = folder / ACCOUNT
        self.begun: set[tuple[str, str]] = set()
        self.done: dict[tuple[str, str], Row] = {}
        known = ""
        with contextlib.suppress(OSError):
            for line in self._path.read_text(errors="replace").splitlines():
                known = self._read(line, known, key)
        self._file = self._path.open("a")
        if known != key:
            self._say({"batch": key})

    def _read(self, line: str, known: str, key: str) -> str:
        """Take a line in; gives back which batch the next ones are of."""
        try:
            told = json.loads(line)
            if "batch" in told:
                return str(told["batch"])
            if known == key and "begun" in told:
                self.begun.add((str(told["begun"]), str(told["mark"])))
            elif known == key:
                row = msgspec.convert(told["row"], Row)
                self.done[row.path, str(told["mark"])] = row
        except (ValueError, TypeError, KeyError, msgspec.ValidationError):
            pass  # it was being written when something ended it
        return known

    def _say(self, what: dict) -> None:
        self._file.write(json.dumps(what) + "\n")
        self._file.flush()
        os.fsync(self._file.fileno())

    def begin(self, entry: Entry) -> None:
        self._say({"begun": str(entry.item.path), "mark": entry.mark})

    def end(self, entry: Entry) -> None:
        self._say({"row": msgspec.to_builtins(entry.row), "mark": entry.mark})

    def close(self) -> None:
        self._file.close()


class Batch:
    """Give it recordings; `told` is called by `deliver` after everything that happens, with the entry that it is about.

    It is `over` when every entry has its row. Raises OSError if nothing can be written into the folder.
    """

    def __init__(
        self,
        session: Session,
        session_name: str,
        chosen: ExportSet,
        items: list[Item],
        out: Path,
        told: Callable[[Entry], None],
        deliver: Deliver,
        *,
        jobs: int = 1,
        learn: Learn | None = None,
        force: bool = False,
    ) -> None:
        out.mkdir(parents=True, exist_ok=True)
        self._session, self._session_name, self._chosen = session, session_name, chosen
        self._out, self._learn, self._force = out, learn, force
        self._told, self._deliver = told, deliver
        self.entries = [Entry(item) for item in items]
        self._account = Account(out, identity(session, chosen, learn))
        self._children: list[Child | None] = [None] * max(1, jobs)
        self._running: list[Entry | None] = [None] * max(1, jobs)
        self._closed = False
        for folder in {out / item.below for item in items}:
            sweep(folder)
        self._look()

    def _look(self) -> None:
        """What there is to do: what was done before and is still there is not done again."""
        names: dict[Path, Entry] = {}
        for entry in self.entries:
            path = entry.item.path
            try:
                with contextlib.suppress(OSError):
                    entry.mark = fingerprint(path) if path.is_file() else ""
                targets = targets_of(self._session, self._chosen, entry.item, self._out, self._session_name)
                entry.targets = list(targets.values())
            except SetError as error:
                entry.row = Row(path=str(path), fault=str(error))
                continue
            twice = next((names[target] for target in entry.targets if target in names), None)
            if twice is not None:
                entry.row = Row(
                    path=str(path),
                    fault=said("It would be written over what “{name}” becomes: rename one of both.").format(
                        name=str(twice.item.path)
                    ),
                )
                continue
            names |= dict.fromkeys(entry.targets, entry)
            before = self._account.done.get((str(path), entry.mark))
            usable = before is not None and not before.fault and not self._force
            if before is not None and usable and all(Path(one).exists() for one in before.written):
                entry.row = msgspec.structs.replace(before, kept=True)

    @property
    def over(self) -> bool:
        return all(entry.row is not None for entry in self.entries)

    @property
    def done(self) -> float:
        """How much of all is done, 0 to 1."""
        shares = [1.0 if entry.row is not None else entry.done for entry in self.entries]
        return sum(shares) / max(1, len(shares))

    def start(self) -> None:
        """Begin; what was done before is told at once."""
        for entry in self.entries:
            if entry.row is not None:
                self._told(entry)
        self._pump()

    def _pump(self) -> None:
        for place in range(len(self._running)):
            if self._closed or self._running[place] is not None:
                continue
            entry = next((one for one in self.entries if one.row is None and one not in self._running), None)
            if entry is None:
                return
            self._begin(place, entry)

    def _begin(self, place: int, entry: Entry) -> None:
        self._running[place] = entry
        again = (str(entry.item.path), entry.mark) in self._account.begun
        there = [path for path in entry.targets if path.exists()]
        if there and not (self._force or again):
            fault = said("“{name}” exists already.").format(name=there[0].name)
            self._end(place, Row(path=str(entry.item.path), fault=fault))
            return
        self._account.begin(entry)
        child = self._children[place]
        if child is None:
            child = self._children[place] = Child(
                "stonekite.processes.worker",
                Answer,
                lambda answer: self._hear(place, answer),
                lambda code: self._ended(place),
                self._deliver,
            )
        request = WriteOne(
            self.entries.index(entry) + 1,
            self._session,
            self._session_name,
            self._chosen,
            str(entry.item.path),
            str(entry.item.below),
            str(self._out),
            self._learn,
            True,
        )
        try:
            child.send(request)
        except ValueError as error:
            self._end(place, Row(path=str(entry.item.path), fault=str(error)))

    def _hear(self, place: int, answer: Answer) -> None:
        entry = self._running[place]
        if entry is None or answer.number != self.entries.index(entry) + 1:
            return
        if isinstance(answer, Progress):
            entry.done = answer.done
            self._told(entry)
        elif isinstance(answer, OneWritten):
            self._end(place, answer.row)
        elif isinstance(answer, Failed):
            self._end(place, Row(path=str(entry.item.path), fault=answer.sentence))

    def _end(self, place: int, row: Row) -> None:
        entry = self._running[place]
        assert entry is not None
        self._running[place] = None
        entry.row = row
        with contextlib.suppress(OSError):  # on a full disk the next recording says so
            self._account.end(entry)
        self._told(entry)
        if self.over:
            self.close()
        else:
            self._pump()

    def _ended(self, place: int) -> None:
        """A worker died; what it was doing is tried once more."""
        child, self._children[place] = self._children[place], None
        if child is not None:
            child.let_go()
        entry = self._running[place]
        if entry is None or self._closed:
            return
        entry.deaths += 1
        if entry.deaths >= _DEATHS:
            words = said("Stone Kite stopped unexpectedly at this recording, twice.")
            self._end(place, Row(path=str(entry.item.path), fault=words))
        else:
            self._running[place] = None
            self._account.begun.add((str(entry.item.path), entry.mark))
            self._pump()

    def close(self) -> None:
        """End what runs; nothing unfinished stays."""
        if self._closed:
            return
        self._closed = True
        for child in self._children:
            if child is not None:
                child.close()
        self._account.close()


def faults_of(entries: list[Entry]) -> list[Row]:
    """The rows of those that went wrong."""
    return [entry.row for entry in entries if entry.row is not None and entry.row.fault]
