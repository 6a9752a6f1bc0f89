"""The open session: its tree, its history and its file. The only place where the window changes it."""

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, Signal

from stonekite.files.audio import AudioError, Facts, facts, fingerprint, pick_channels, shown_name
from stonekite.session import edits, limits, ride_edits, storage, tree
from stonekite.session.history import History, Kept
from stonekite.session.keeping import saves
from stonekite.session.kept_levels import with_levels
from stonekite.session.mix import places
from stonekite.session.ride_edits import Address
from stonekite.session.timing import retimed
from stonekite.session.types import (
    MIX,
    BlindTest,
    Desk,
    Intake,
    Leg,
    LegName,
    Loop,
    Output,
    Reference,
    Section,
    Session,
    Sound,
    Source,
    Split,
    Stem,
    Strip,
)
from stonekite.stages.base import Stage
from stonekite.words import said


def session_of(path: Path, channels: tuple[int, int] | None = None) -> tuple[Session, Facts]:
    """A new session around one recording. Raises AudioError, ChannelsNeeded where channels must be chosen."""
    try:
        str(path.absolute()).encode()
    except UnicodeEncodeError:
        raise AudioError(
            said(
                "The name of “{path}” is not UTF-8, which a session cannot hold. Rename it and open it again."
            ).format(path=shown_name(path))
        ) from None
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
    return Session(sound=Sound(stems=(Stem(id=1, name=path.stem, source=source),))), found


class Document(QObject):
    """`refused` gives why an edit was not made. `changed` comes after every change of the tree, `edited` before it where
    it is an edit or one undone, `opened` after another session was opened, `placed` when another strip of it is open.
    """

    refused = Signal(str)
    changed = Signal()
    edited = Signal()
    opened = Signal()
    placed = Signal()
    named = Signal()
    noted = Signal()
    """After anything that makes what is open another session than its file."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._history: History | None = None
        self._session: Session | None = None
        self._saved: Kept | None = None
        self._place = MIX
        self._desk_saved = True
        self.unsaved_edits = 0
        """How many edits were made since it was saved or opened."""
        self.last_words = ""
        """What the last of them did."""
        self.path: Path | None = None
        self.shown_s = 0.0
        """The time at which settings that ride are shown."""
        self._as_shown: tree.Path | None = None
        self.edit_of_ridden: ride_edits.Meaning = "line"
        """What is being edited as it is shown."""
        self.touched: Address | None = None
        """The setting that was changed last, of those that can ride."""
        self.record: Callable[[Address, float, object], Strip | None] | None = None
        """Of a setting, its new value and a gesture: the strip in which that is recorded, None if nothing is."""
        self.named.connect(self.noted)

    @property
    def is_open(self) -> bool:
        return self._history is not None

    @property
    def session(self) -> Session:
        assert self._session is not None
        return self._session

    @property
    def place(self) -> int:
        """The id of what is open: a stem, a bus, or the mix."""
        return self._place

    @property
    def holder(self) -> tree.Path:
        """Where in the sound that is."""
        return tree.holder_path(self.session.sound, self._place)

    @property
    def stem(self) -> Stem:
        """What is open, as a stem on the timeline."""
        return places.as_stem(self.session.sound, self._place)

    @property
    def strip(self) -> Strip:
        return tree.strip_at(self.session, self.holder)

    def go_to(self, number: int) -> None:
        """Open another stem or bus, or the mix. Raises LookupError if there is none of that id."""
        tree.holder_path(self.session.sound, number)
        if number != self._place:
            self.end_gesture()
            self._place, self.touched = number, None
            self.placed.emit()
            self.changed.emit()

    def _become(self, session: Session) -> None:
        """Have another session; what is not there any more is not open either."""
        self._session = session
        if not places.is_there(session.sound, self._place):
            self._place, self.touched = session.sound.stems[0].id, None
            self.placed.emit()

    @property
    def name(self) -> str:
        if self.path is not None or not self.is_open:
            return "" if self.path is None else self.path.name
        stems = self.session.sound.stems
        return stems[0].name if len(stems) == 1 else said("{count} stems").format(count=len(stems))

    @property
    def modified(self) -> bool:
        return self._history is not None and not (self._desk_saved and self._saved is self._history.now)

    def open(self, session: Session, path: Path | None = None, unsaved: int = 0) -> None:
        """Make a session the open one; `path` is its file, if it has one, and `unsaved` how many edits it has that the
        file has not.
        """
        session = tree.counted(retimed(session))
        self.shown_s, self.touched = 0.0, None
        self._session, self._place = session, session.sound.stems[0].id
        self._history = History.of(session)
        self.discard()
        if unsaved:
            self._saved, self.unsaved_edits = None, unsaved
        self.path = path
        self.opened.emit()
        self.named.emit()

    def load(self, path: Path) -> None:
        """Open a session file. Raises SessionError, AudioError if its recording cannot be used."""
        session = storage.load(path)
        for k, stem in enumerate(session.sound.stems):
            session = self._as_found(session, ("sound", "stems", k, "source"), stem.source)
        self.open(session, path)

    def _as_found(self, session: Session, path: tree.Path, source: Source) -> Session:
        """A session with what the header of a recording says now. Raises AudioError."""
        if source.generator is not None:
            return session
        found = facts(Path(source.path))
        if found.rate != source.rate or found.channels != source.channel_count:
            raise AudioError(
                said(
                    "“{name}” is not the recording this session was made with: it has {rate} Hz and {channels} "
                    "channels, not {usual_rate} Hz and {usual_channels}."
                ).format(
                    name=found.path.name,
                    rate=found.rate,
                    channels=found.channels,
                    usual_rate=source.rate,
                    usual_channels=source.channel_count,
                )
            )
        if found.frames != source.frames:
            session = edits.put(session, path, msgspec.structs.replace(source, frames=found.frames))
        return session

    def save(self, path: Path) -> None:
        """Write the session to a file, what was in it is kept, and make it the session's own. Raises SessionError."""
        with contextlib.suppress(OSError):  # an earlier save is worth less than this one
            saves.keep(path)
        storage.save(self.session, path)
        self.end_gesture()  # what is saved stays a step of its own
        self.discard()
        self.path = path
        self.named.emit()

    def edit(self, session: Session, words: str, gesture: object = None) -> bool:
        """Make another tree the current one, with the same desk. Edits with the same gesture are one step to undo.

        Whether it was made: what cannot be, as a stage that is too late for the loop it is put into, is refused.
        """
        session = self._ridden(tree.counted(retimed(session)), gesture)
        if session is self.session:
            return True
        why = limits.excess(session)
        if not why and session.sound is not self.session.sound:
            why = tree.refusal_of_new(session.sound, self.session.sound)
        if why:
            self.refused.emit(why)
            self.changed.emit()  # what shows the wish goes back to what is
            return False
        assert self._history is not None
        self._become(session)
        self._history.push(session, words, gesture)
        self._count(words)
        self.edited.emit()
        self.changed.emit()
        self.named.emit()
        return True

    def _ridden(self, session: Session, gesture: object) -> Session:
        """What an edit makes of settings that ride: their lines move, or what was moved is recorded."""
        old = self.strip
        try:
            holder = tree.holder_path(session.sound, self._place)
        except LookupError:
            return session
        new = tree.strip_at(session, holder)
        if new is old:
            return session
        changed = ride_edits.touched(old, new, self.shown_s, self._as_shown)
        if changed is not None:
            self.touched = changed
            value = ride_edits.value_of(new, changed)
            if self.record is not None and (taken := self.record(changed, value, gesture)) is not None:
                return edits.put(session, ("sound", *holder, "strip"), taken)
        carried = ride_edits.carried(old, new, self.shown_s, self._as_shown, self.edit_of_ridden)
        return session if carried is new else edits.put(session, ("sound", *holder, "strip"), carried)

    def _count(self, words: str) -> None:
        self.unsaved_edits += 1
        self.last_words = words

    def put(self, path: tree.Path, value: Any, words: str, gesture: object = None) -> None:
        """Change one value of the strip; nothing happens if it is that already."""
        full = ("sound", *self.holder, "strip", *path)
        if tree.at(self.session, full) != value:
            self.edit(edits.put(self.session, full, value), words, gesture)

    def put_shown(self, path: tree.Path, value: Any, words: str, gesture: object = None) -> None:
        """Replace what rides can stand in by another one that was made from how it is shown."""
        there = tree.at(self.strip, path)
        if value != ride_edits.shown(there, self.shown_s):
            self._as_shown = path
            try:
                self.edit(
                    edits.put(self.session, ("sound", *self.holder, "strip", *path), value), words, gesture
                )
            finally:
                self._as_shown = None

    def put_stage(self, stage: Stage, words: str, gesture: object = None) -> None:
        """Replace the stage that has the same id."""
        path, _ = tree.find(self.strip, stage.id)
        self.put_shown(path, stage, words, gesture)

    def put_in_side(
        self, stage: Stage, leg: LegName, path: tree.Path, value: Any, words: str, gesture: object = None
    ) -> None:
        """Change one value of one side of a stage, and of the other side if the stage is linked."""
        self.put_stage(edits.put_linked(stage, leg, path, value), words, gesture)

    def stage(self, number: int) -> Stage | None:
        """The stage of that id as it is shown: what rides stands where it is at `shown_s`. None if it is not there."""
        try:
            return ride_edits.shown(tree.find(self.strip, number)[1], self.shown_s)
        except LookupError:
            return None

    def leg(self, name: LegName) -> Leg:
        """A leg as it is shown."""
        return ride_edits.shown(self.strip.leg(name), self.shown_s)

    @property
    def intake(self) -> Intake:
        """The intake as it is shown."""
        return ride_edits.shown(self.strip.intake, self.shown_s)

    @property
    def output(self) -> Output:
        """The output as it is shown."""
        return ride_edits.shown(self.strip.output, self.shown_s)

    def split_of(self, number: int) -> Split:
        """What the legs carry that the stage of that id works on."""
        return tree.carried(self.strip, number)

    def keep_levels(self, changes: dict[int, float]) -> None:
        """Give back the loudness that stages add, as measured, where they are to keep their level.

        What is measured follows from the settings, so it is no step to undo.
        """
        strip = with_levels(self.strip, changes)
        if strip is self.strip or self._history is None:
            return
        clean = self._saved is self._history.now
        self._session = edits.put(self.session, ("sound", *self.holder, "strip"), strip)
        self._history.amend(self._session)
        if clean:
            self._saved = self._history.now
        self.changed.emit()

    # The desk: saved, never undone.

    @property
    def desk(self) -> Desk:
        return self.session.desk

    def set_loop(self, loop: Loop | None) -> None:
        """Change the loop; it is saved along, but not worth a question."""
        if self._session is not None and loop != self.desk.loop:
            self._put_on_desk(loop=loop)

    def set_sections(self, sections: tuple[Section, ...]) -> None:
        """Have other named ranges, in the order of time."""
        self._desk_saved = False
        self._put_on_desk(sections=tuple(sorted(sections, key=lambda one: one.start_s)))

    def add_blind_test(self, test: BlindTest) -> None:
        """Keep the result of a blind test."""
        self._desk_saved = False
        self._put_on_desk(blind_tests=(*self.desk.blind_tests, test))

    def set_references(self, references: tuple[Reference, ...]) -> None:
        """Have other recordings to compare with."""
        self._desk_saved = False
        self._put_on_desk(references=references)

    def _put_on_desk(self, **values: Any) -> None:
        desk = msgspec.structs.replace(self.desk, **values)
        msgspec.convert(msgspec.to_builtins(desk), Desk)
        self._count(said("Desk"))
        self._session = msgspec.structs.replace(self.session, desk=desk)
        self.changed.emit()
        self.named.emit()

    def discard(self) -> None:
        """Count what is open as saved: its changes are not worth keeping."""
        self._saved = self._history.now if self._history is not None else None
        self._desk_saved = True
        self.unsaved_edits, self.last_words = 0, ""
        self.noted.emit()

    def end_gesture(self) -> None:
        if self._history is not None:
            self._history.end_gesture()

    def undo(self) -> None:
        self._step(self._history.undo() if self._history is not None else None)

    def redo(self) -> None:
        self._step(self._history.redo() if self._history is not None else None)

    def _step(self, words: str | None) -> None:
        if words is not None:
            assert self._history is not None
            sound, versions = self._history.now
            self._become(msgspec.structs.replace(self.session, sound=sound, versions=versions))
            self._count(words)
            self.edited.emit()
            self.changed.emit()
            self.named.emit()

    @property
    def next_undo(self) -> str | None:
        return self._history.next_undo if self._history is not None else None

    @property
    def next_redo(self) -> str | None:
        return self._history.next_redo if self._history is not None else None
