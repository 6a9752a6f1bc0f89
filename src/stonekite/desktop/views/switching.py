"""Versions and references: kept, switched to, and matched in level."""

from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QPoint, Signal
from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QWidget

from stonekite.desktop.links.comparing import Comparing, Range, span_of, subjects_of
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document, session_of
from stonekite.desktop.views.listen_panel import ListenPanel
from stonekite.engine.offline.subjects import Subject
from stonekite.engine.play.listen import Listening, matched_db
from stonekite.files.audio import READABLE, AudioError
from stonekite.processes.jobs import Analysed
from stonekite.processes.pool import Pool
from stonekite.session import edits, tree
from stonekite.session.mix import places
from stonekite.session.mix.mix_edits import muted
from stonekite.session.types import MIX, REFERENCES, Loop, Reference, Sound, Source, Strip
from stonekite.words import clock, parsed_range, said

_VIEW = "view "


class Switching(QObject):
    """Knows what is heard, and how loud all of it is. `said` has words, `measured` says that figures came."""

    said = Signal(str)
    measured = Signal()

    def __init__(self, window: QWidget, document: Document, listen: ListenPanel, workers: Pool) -> None:
        super().__init__(window)
        self._window, self._document, self._listen = window, document, listen
        self.comparing = Comparing(workers, self)
        self.range: Range = "loop"
        self.selection: Loop | None = None
        self.viewing = self.in_the_mix = False
        self.left_out = 0
        """The stem or the bus without which the mix is heard, as loud as with it; 0 for none."""
        self.whole_switch = False
        self._analysed: Analysed | None = None
        self.comparing.changed.connect(self._changed)
        self.comparing.failed.connect(self.said)
        listen.keep_asked.connect(self.keep)
        listen.reference_asked.connect(self.ask_reference)
        listen.versions.menu_asked.connect(self._version_menu)
        listen.references.menu_asked.connect(self._reference_menu)

    # What is heard

    def sound(self, now: Sound) -> Sound:
        """What plays as the result: a version, or the state now as it is auditioned."""
        number = self._listen.version
        version = self._document.session.version(number) if number is not None else None
        return now if version is None else version.sound

    @property
    def beside_others(self) -> bool:
        """Whether what is open is heard in the mix, with all that is beside it."""
        return self.in_the_mix and self._document.is_open and self._document.place != MIX

    def played(self, sound: Sound, listening: Listening) -> tuple[Sound, int, Listening]:
        """What plays for a choice: a sound, the strip of it that is heard, and how that is listened to. In the mix the
        unprocessed is the mix in which what is open is untouched; the difference is that of what is open alone."""
        place = self._document.place
        if not places.is_there(sound, place):  # in a version of before it
            return sound, MIX, listening
        if not self.beside_others or listening.what == "difference":
            return sound, place, listening
        if listening.what != "unprocessed":
            return sound, MIX, listening
        gain = listening.unprocessed_db
        untouched = tree.put_strip(sound, place, Strip())
        return untouched, MIX, msgspec.structs.replace(listening, what="processed", processed_db=gain)

    def without(self, sound: Sound, listening: Listening) -> tuple[Sound, int, Listening]:
        """The mix without what is left out, turned by as much as that is known to change its loudness."""
        gain = self.left_out_db or 0.0
        turned = msgspec.structs.replace(listening, what="processed", processed_db=round(gain, 2))
        return muted(sound, self.left_out), MIX, turned

    @property
    def left_out_db(self) -> float | None:
        """How much louder the mix is with what is left out; None while that is not known."""
        levels = [self.comparing.measures(_VIEW + key) for key in ("with", "without")]
        loud = [one.integrated_lufs if one is not None else None for one in levels]
        return None if loud[0] is None or loud[1] is None else loud[0] - loud[1]

    def beside(self, now: Sound, heard: Sound) -> tuple[Sound, ...]:
        """All that may be switched to from what is heard, so that it is in time."""
        versions = [version.sound for version in self._document.session.versions]
        # What is heard anyway need not be said twice: so nothing here changes with each edit.
        return tuple(sound for sound in (now, *versions) if sound is not heard) if versions else ()

    def referred(self) -> tuple[Source | None, int, int]:
        """The reference that is chosen, and its range in frames."""
        place = self._listen.reference
        if place is None or place >= len(self._document.session.desk.references):
            return None, 0, 0
        return self.reference_frames(place)

    def listening_to(self, key: str, loudness: dict[str, float | None]) -> tuple[Sound, int, Listening]:
        """Settings and gains to hear a subject with, whatever the listen panel shows; all of `loudness` matched."""
        gains = matched_db(loudness)
        kind, _, number = key.partition(" ")
        sound = self._document.session.sound
        if kind == "version":
            version = self._document.session.version(int(number))
            assert version is not None
            sound = version.sound
        what = kind if kind in ("unprocessed", "reference") else "processed"
        gain = gains.get(key, 0.0)
        return self.played(sound, Listening(what, None, gain, gain, gain))  # type: ignore[arg-type]

    def reference_frames(self, place: int) -> tuple[Source, int, int]:
        """A reference and its range in frames."""
        reference = self._document.session.desk.references[place]
        rate, loop = reference.source.rate, reference.loop
        if loop is None:
            return reference.source, 0, reference.source.frames
        return (
            reference.source,
            int(loop.start_s * rate),
            min(reference.source.frames, int(loop.end_s * rate)),
        )

    def loudness(self) -> dict[str, float | None]:
        """Integrated loudness of all that can be heard, as far as it is known."""
        return dict(self._listen.loudness)

    # What is measured

    def show_analysed(self, analysed: Analysed | None) -> None:
        """Figures of the whole file, before and after, as they were measured for all other pictures."""
        self._analysed = analysed
        self._changed()

    def view_range(self) -> Loop | None:
        """The range that the comparison is of; None for all of it."""
        if self.range == "whole":
            return None
        return self._document.session.desk.loop if self.range == "loop" else self.selection

    def refresh(self) -> None:
        """Have measured what is wanted now."""
        if not self._document.is_open:
            return
        session = self._document.session
        self._listen.show_session(session)
        if session.desk.loop is not None:
            self.selection = session.desk.loop
        subjects: dict[str, Subject] = {}
        if self.left_out and not places.is_there(session.sound, self.left_out):
            self.left_out = 0
        now = self.beside_others or session.desk.loop is not None or self.whole_switch
        if now or session.versions or session.desk.references:
            subjects |= self._subjects(session.desk.loop, everything=False)
        if self.viewing:
            wanted = self._subjects(self.view_range(), everything=True)
            subjects |= {_VIEW + key: subject for key, subject in wanted.items()}
            before, after = (self.comparing.measures(_VIEW + key) for key in ("unprocessed", "processed"))
            if before is not None and after is not None:
                subjects[_VIEW + "difference"] = self._difference(wanted["processed"])
        if self.left_out:
            for key, sound in (("with", session.sound), ("without", muted(session.sound, self.left_out))):
                stem = places.as_stem(sound, MIX)
                span = span_of(session.desk.loop, stem.source.rate, stem.source.frames)
                subjects[_VIEW + key] = Subject(stem.source, stem.strip, span)
        self.comparing.show(subjects)

    def _subjects(self, chosen: Loop | None, *, everything: bool) -> dict[str, Subject]:
        session, place = self._document.session, self._document.place
        return subjects_of(session, chosen, place, everything=everything, in_the_mix=self.beside_others)

    def _difference(self, subject: Subject) -> Subject:
        """The result less the recording, level-matched as it is heard."""
        loud = [
            measures.integrated_lufs if measures is not None else None
            for measures in (self.figures("processed"), self.figures("unprocessed"))
        ]
        gains = (0.0, 0.0)
        if self._listen.match.isChecked() and loud[0] is not None and loud[1] is not None:
            gains = (min(0.0, loud[1] - loud[0]), min(0.0, loud[0] - loud[1]))
        return msgspec.structs.replace(subject, difference_db=gains)

    def figures(self, key: str):
        """Measures of a subject in the range of the comparison, if they are known."""
        return self.comparing.measures(_VIEW + key)

    def _changed(self) -> None:
        loudness = {key: lufs for key, lufs in self.comparing.loudness().items() if not key.startswith(_VIEW)}
        whole = self._document.is_open and self._document.session.desk.loop is None
        if whole and not self.beside_others and self._analysed is not None:
            loudness.setdefault("processed", self._analysed.after.get("integrated_lufs"))
            loudness.setdefault("unprocessed", self._analysed.before.get("integrated_lufs"))
        self._listen.show_loudness(loudness)
        if self.viewing and self.figures("difference") is None:
            self.refresh()
        self.measured.emit()

    # Versions

    def keep(self, note: str = "") -> None:
        """Keep the state now as a version."""
        if not self._document.is_open:
            return
        try:
            session = edits.keep_version(self._document.session, note if isinstance(note, str) else "")
        except ValueError as error:
            self.said.emit(str(error))
            return
        before = {version.number for version in self._document.session.versions}
        number = next(v.number for v in session.versions if v.number not in before)
        self._document.edit(session, said("Version {number} kept").format(number=number))
        self.said.emit(said("Kept as version {number}: Alt+{number} switches to it.").format(number=number))

    def replace(self, number: int) -> None:
        """Keep the state now in place of a version."""
        old = self._document.session.version(number)
        if old is not None:
            session = edits.keep_version(self._document.session, old.note, number)
            self._document.edit(session, said("Version {number} replaced").format(number=number))

    def use(self, number: int) -> None:
        """Make a version the state now."""
        self._listen.choose("processed")
        session = edits.use_version(self._document.session, number)
        self._document.edit(session, said("Back to version {number}").format(number=number))

    def take(self, number: int, stage: int) -> None:
        """Take a single stage over from a version."""
        session = edits.take_stage(self._document.session, self._document.holder, number, stage)
        self._document.edit(session, said("Stage taken over from version {number}").format(number=number))

    def remove(self, number: int) -> None:
        self._document.edit(
            edits.remove_version(self._document.session, number),
            said("Version {number} removed").format(number=number),
        )

    def set_note(self, number: int, note: str) -> None:
        """Say what a version is."""
        versions = tuple(
            msgspec.structs.replace(version, note=note[:400]) if version.number == number else version
            for version in self._document.session.versions
        )
        session = msgspec.structs.replace(self._document.session, versions=versions)
        self._document.edit(session, said("Note of version {number}").format(number=number))

    def ask_note(self, number: int) -> QInputDialog | None:
        """Ask for a note (modal to the window, not blocking)."""
        version = self._document.session.version(number)
        if version is None:
            return None
        return self._ask(
            said("Version {number}").format(number=number),
            said("What is it?"),
            version.note,
            lambda text: self.set_note(number, text),
        )

    def _ask(self, title: str, words: str, text: str, then) -> QInputDialog:
        dialog = QInputDialog(self._window)
        dialog.setWindowTitle(title)
        dialog.setLabelText(words)
        dialog.setTextValue(text)
        dialog.textValueSelected.connect(then)
        dialog.open()
        return dialog

    def _version_menu(self, number: int, place: QPoint) -> None:
        menu = self.menu = QMenu(self._window)
        menu.addAction(said("Make it the state now"), lambda: self.use(number))
        menu.addAction(said("Replace it by the state now"), lambda: self.replace(number))
        menu.addAction(said("Note…"), lambda: self.ask_note(number))
        menu.addSeparator()
        menu.addAction(said("Remove it"), lambda: self.remove(number))
        menu.popup(place)

    # References

    def ask_reference(self) -> None:
        """Choose files to compare with."""
        if not self._document.is_open:
            return
        pattern = said("Audio ({names})").format(names=" ".join("*" + s for s in READABLE))
        names, _ = QFileDialog.getOpenFileNames(
            self._window, said("References"), preferences.last_folder(), pattern
        )
        for name in names:
            preferences.note_folder(Path(name))
            self.add_reference(Path(name))

    def add_reference(self, path: Path) -> None:
        """Put a finished recording into the switch."""
        known = self._document.desk.references
        if len(known) >= REFERENCES:
            self.said.emit(
                said("There are {references} references already: remove one.").format(references=REFERENCES)
            )
            return
        try:
            source = session_of(path)[0].sound.stems[0].source
        except AudioError as error:
            self.said.emit(str(error))
            return
        reference = Reference(name=path.stem[:200], source=source)
        self._document.set_references((*known, reference))

    def set_reference_range(self, place: int, text: str) -> None:
        """Loop a reference in a range that is typed; nothing: all of it."""
        try:
            span = parsed_range(text)
        except ValueError as error:
            self.said.emit(str(error))
            return
        references = list(self._document.session.desk.references)
        source = references[place].source
        length = source.frames / source.rate
        if span is not None and span[0] >= length:
            self.said.emit(
                said("“{name}” is only {length} long.").format(
                    name=references[place].name, length=clock(length)
                )
            )
            return
        references[place] = msgspec.structs.replace(
            references[place], loop=span and Loop(start_s=span[0], end_s=min(span[1], length))
        )
        self._document.set_references(tuple(references))

    def remove_reference(self, place: int) -> None:
        references = list(self._document.session.desk.references)
        name = references.pop(place).name
        self._document.set_references(tuple(references))
        self.said.emit(said("Reference “{name}” removed.").format(name=name))

    def _reference_menu(self, place: int, where: QPoint) -> None:
        reference = self._document.session.desk.references[place]
        loop = reference.loop
        text = "" if loop is None else f"{clock(loop.start_s)} – {clock(loop.end_s)}"
        menu = self.menu = QMenu(self._window)
        menu.addAction(
            said("Range…"),
            lambda: self._ask(
                reference.name,
                said("Loop from – to, such as 0:10 – 0:30; nothing: all of it"),
                text,
                lambda typed: self.set_reference_range(place, typed),
            ),
        )
        menu.addAction(said("Remove it"), lambda: self.remove_reference(place))
        menu.popup(where)

    def close(self) -> None:
        """End the worker."""
        self.comparing.close()
