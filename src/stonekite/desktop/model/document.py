"""The open session: its tree, its history and its file. The only place where the window changes it."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, Signal

from stonekite.files.audio import AudioError, Facts, facts, fingerprint, pick_channels
from stonekite.session import edits, storage
from stonekite.session.history import History
from stonekite.session.types import BlindTest, LegName, Loop, Session, Source, Stem, Strip
from stonekite.stages.base import Stage

STEM = 0
LEVEL_KEPT_LU = 0.03
"""A stage keeps its level as well as this."""


def session_of(path: Path, channels: tuple[int, int] | None = None) -> tuple[Session, Facts]:
    """A new session around one recording. Raises AudioError, ChannelsNeeded where channels must be chosen."""
    found = facts(path)
    used = pick_channels(found, channels)
    source = Source(
        path=str(path.absolute()),
        channels=used,
        channel_count=found.channels,
        rate=found.rate,
        frames=found.frames,
        fingerprint=fingerprint(path),
    )
    return Session(stems=(Stem(id=1, name=path.stem, source=source),)), found


class Document(QObject):
    """`changed` comes after every change of the tree, `edited` before it where it is an edit or one undone, `opened`
    after another session was opened.
    """

    changed = Signal()
    edited = Signal()
    opened = Signal()
    named = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._history: History | None = None
        self._saved: Session | None = None
        self.path: Path | None = None

    @property
    def is_open(self) -> bool:
        return self._history is not None

    @property
    def session(self) -> Session:
        assert self._history is not None
        return self._history.now

    @property
    def stem(self) -> Stem:
        return self.session.stems[STEM]

    @property
    def strip(self) -> Strip:
        return self.stem.strip

    @property
    def name(self) -> str:
        return self.path.name if self.path is not None else (self.stem.name if self.is_open else "")

    @property
    def modified(self) -> bool:
        return self._history is not None and self._saved is not self.session

    def open(self, session: Session, path: Path | None = None) -> None:
        """Make a session the open one; `path` is its file, if it has one."""
        self._history = History.of(session)
        self._saved = session
        self.path = path
        self.opened.emit()
        self.named.emit()

    def load(self, path: Path) -> None:
        """Open a session file. Raises SessionError, AudioError if its recording cannot be used."""
        session = storage.load(path)
        source = session.stems[STEM].source
        if source.generator is not None:
            self.open(session, path)
            return
        found = facts(Path(source.path))
        if found.rate != source.rate or found.channels != source.channel_count:
            raise AudioError(
                f"“{found.path.name}” is not the recording this session was made with: it has {found.rate} Hz "
                f"and {found.channels} channels, not {source.rate} Hz and {source.channel_count}."
            )
        if found.frames != source.frames:
            source = msgspec.structs.replace(source, frames=found.frames)
            session = edits.put(session, ("stems", STEM, "source"), source)
        self.open(session, path)

    def save(self, path: Path) -> None:
        """Write the session to a file and make it the session's own. Raises SessionError."""
        storage.save(self.session, path)
        self.end_gesture()  # what is saved stays a step of its own
        self._saved = self.session
        self.path = path
        self.named.emit()

    def edit(self, session: Session, words: str, gesture: object = None) -> None:
        """Make another tree the current one. Edits with the same gesture are one step to undo."""
        if session is self.session:
            return
        assert self._history is not None
        self._history.push(session, words, gesture)
        self.edited.emit()
        self.changed.emit()
        self.named.emit()

    def put(self, path: edits.Path, value: Any, words: str, gesture: object = None) -> None:
        """Change one value of the strip; nothing happens if it is that already."""
        full = ("stems", STEM, "strip", *path)
        if edits.at(self.session, full) != value:
            self.edit(edits.put(self.session, full, value), words, gesture)

    def put_stage(self, stage: Stage, words: str, gesture: object = None) -> None:
        """Replace the stage that has the same id."""
        index = edits.stage_index(self.strip, stage.id)
        self.put(("stages", index), stage, words, gesture)

    def put_in_side(
        self, stage: Stage, leg: LegName, path: edits.Path, value: Any, words: str, gesture: object = None
    ) -> None:
        """Change one value of one side of a stage, and of the other side if the stage is linked."""
        self.put_stage(edits.put_linked(stage, leg, path, value), words, gesture)

    def stage(self, number: int) -> Stage | None:
        """The stage of that id, or None."""
        return next((stage for stage in self.strip.stages if stage.id == number), None)

    def keep_levels(self, changes: dict[int, float]) -> None:
        """Give back the loudness that stages add, as measured, where they are to keep their level.

        What is measured follows from the settings, so it is no step to undo.
        """
        stages = tuple(self._levelled(stage, changes.get(stage.id)) for stage in self.strip.stages)
        if stages == self.strip.stages or self._history is None:
            return
        clean = not self.modified
        self._history.amend(edits.put(self.session, ("stems", STEM, "strip", "stages"), stages))
        if clean:
            self._saved = self.session
        self.changed.emit()

    @staticmethod
    def _levelled(stage: Stage, change: float | None) -> Stage:
        if not stage.level_kept or change is None:
            return stage
        wanted = min(36.0, max(-36.0, -change))
        near = abs(wanted - stage.kept_db) < LEVEL_KEPT_LU
        return stage if near else msgspec.structs.replace(stage, kept_db=round(wanted, 2))

    def set_loop(self, loop: Loop | None) -> None:
        """Change the loop; it is saved, but not a step to undo."""
        if loop == self.session.loop or self._history is None:
            return
        self._amend_all(lambda tree: msgspec.structs.replace(tree, loop=loop))
        self.changed.emit()

    def _amend_all(self, change: Callable[[Session], Session]) -> None:
        """Change what is saved but never undone. What was saved stays what was saved."""
        assert self._history is not None
        made = {id(tree): change(tree) for tree in self._history.trees}
        if self._saved is not None:
            self._saved = made.get(id(self._saved)) or change(self._saved)
        self._history.amend_all(lambda tree: made[id(tree)])

    def discard(self) -> None:
        """Count what is open as saved: its changes are not worth keeping."""
        self._saved = self.session if self.is_open else None

    def add_blind_test(self, test: BlindTest) -> None:
        """Keep the result of a blind test; it is saved, and cannot be undone."""
        assert self._history is not None
        tests = (*self.session.blind_tests, test)
        self._amend_all(lambda tree: msgspec.structs.replace(tree, blind_tests=tests))
        self._saved = None  # no state that was saved has it
        self.changed.emit()
        self.named.emit()

    def end_gesture(self) -> None:
        if self._history is not None:
            self._history.end_gesture()

    def undo(self) -> None:
        self._step(self._history.undo() if self._history is not None else None)

    def redo(self) -> None:
        self._step(self._history.redo() if self._history is not None else None)

    def _step(self, words: str | None) -> None:
        if words is not None:
            self.edited.emit()
            self.changed.emit()
            self.named.emit()

    @property
    def next_undo(self) -> str | None:
        return self._history.next_undo if self._history is not None else None

    @property
    def next_redo(self) -> str | None:
        return self._history.next_redo if self._history is not None else None
