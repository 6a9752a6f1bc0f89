"""Sections over the timeline: made, named, moved, looped, and rides copied from one to another."""

from functools import partial
from itertools import pairwise

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QInputDialog, QMenu, QVBoxLayout, QWidget

from stonekite.desktop.links.errands import Errands
from stonekite.desktop.model.document import Document
from stonekite.desktop.timeline.sections_bar import SectionsBar
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.processes.jobs import Answer
from stonekite.processes.set_jobs import ProposeSections, SectionsProposed
from stonekite.session import edits, ride_edits, ride_lines
from stonekite.session.types import SECTIONS, Loop, Section
from stonekite.words import said


class SectionsView(QWidget):
    """The bar of a document's sections. `said` has words, `looped` a range in seconds that is to be
    repeated; `resized` that it came or went."""

    said = Signal(str)
    looped = Signal(object)
    resized = Signal()

    def __init__(self, document: Document, errands: Errands, timeline: Timeline) -> None:
        super().__init__()
        self._document, self._errands = document, errands
        self.bar = SectionsBar(timeline)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.bar)
        self._struck: float | None = None
        self.hide()
        self.bar.chosen.connect(self.loop)
        self.bar.moved.connect(self._move)
        self.bar.named.connect(self.ask_name)
        self.bar.menu_asked.connect(lambda place, where: self.menu(place).popup(where))
        document.changed.connect(self.refresh)
        document.opened.connect(self._forget)

    def _forget(self) -> None:
        self._struck = None
        self.refresh()

    @property
    def sections(self) -> tuple[Section, ...]:
        return self._document.desk.sections if self._document.is_open else ()

    @property
    def at(self) -> int | None:
        """The section that is looped."""
        loop = self._document.desk.loop if self._document.is_open else None
        for place, one in enumerate(self.sections):
            if loop is not None and abs(loop.start_s - one.start_s) + abs(loop.end_s - one.end_s) < 1e-6:
                return place
        return None

    def refresh(self) -> None:
        """Show the document's sections."""
        self.setVisible(bool(self.sections))
        self.bar.show_sections(self.sections, self.at)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.resized.emit()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.resized.emit()

    def tick(self) -> None:
        """The timeline may have been scrolled."""
        if self.isVisible():
            self.bar.follow()

    # Making

    def _put(self, sections: tuple[Section, ...]) -> None:
        if len(sections) > SECTIONS:
            self.said.emit(said("{most} sections are the most.").format(most=SECTIONS))
            return
        self._document.set_sections(sections)

    def add(self) -> None:
        """The loop becomes a section; without one all of the recording is asked about."""
        if not self._document.is_open:
            return
        loop = self._document.desk.loop
        if loop is None:
            self.propose()
            return
        self._put((*self.sections, Section(name=self._new_name(), start_s=loop.start_s, end_s=loop.end_s)))

    def _new_name(self) -> str:
        known = {one.name for one in self.sections}
        number = len(self.sections) + 1
        while (name := said("Section {number}").format(number=number)) in known:
            number += 1
        return name

    def strike(self, at_s: float) -> None:
        """Struck while it plays: a section ends here, and another one begins."""
        if not self._document.is_open:
            return
        length = self._document.stem.source.frames / self._document.stem.source.rate
        at_s = min(at_s, length)
        inside = next((one for one in self.sections if one.start_s + 0.2 < at_s < one.end_s - 0.2), None)
        if inside is not None:
            rest = tuple(one for one in self.sections if one is not inside)
            first = msgspec.structs.replace(inside, end_s=at_s)
            second = Section(name=self._new_name(), start_s=at_s, end_s=inside.end_s)
            self._put((*rest, first, second))
        else:
            start = max((one.end_s for one in self.sections if one.end_s <= at_s), default=0.0)
            if at_s - start < 0.2:
                return
            end = min((one.start_s for one in self.sections if one.start_s >= at_s), default=length)
            made = [Section(name=self._new_name(), start_s=start, end_s=at_s)]
            self._put((*self.sections, *made))
            if end - at_s > 0.2:
                self._put((*self.sections, Section(name=self._new_name(), start_s=at_s, end_s=end)))
        self.said.emit(said("A section ends here, another one begins."))

    def propose(self) -> None:
        """Have sections found in the recording."""
        if not self._document.is_open:
            return
        source = self._document.stem.source

        def found(answer: Answer) -> None:
            if isinstance(answer, SectionsProposed) and source == self._document.stem.source:
                self._take(answer.times)

        self._errands.send(lambda n: ProposeSections(n, source), said("Looking for sections"), found)

    def _take(self, times: list[float]) -> None:
        length = self._document.stem.source.frames / self._document.stem.source.rate
        if not times:
            self.said.emit(said("Nothing in it changes so much that a section would begin there."))
            return
        ends = [0.0, *times, length]
        self._put(
            tuple(
                Section(name=said("Section {number}").format(number=k + 1), start_s=a, end_s=b)
                for k, (a, b) in enumerate(pairwise(ends))
                if b - a > 0.1
            )
        )
        self.said.emit(said("{count} sections: where level or spectrum change.").format(count=len(ends) - 1))

    # What is done with one

    def loop(self, place: int) -> None:
        """Repeat a section: what is compared, measured and changed is of it."""
        if place < len(self.sections):
            one = self.sections[place]
            self.looped.emit(None if place == self.at else (one.start_s, one.end_s))

    def step(self, by: int) -> None:
        """Loop the next section, or the one before."""
        if self.sections:
            now = self.at
            self.loop(
                (0 if by > 0 else -1) % len(self.sections) if now is None else (now + by) % len(self.sections)
            )

    def _move(self, place: int, start_s: float, end_s: float, token: object) -> None:
        if place >= len(self.sections):
            return
        was = self.at == place
        sections = list(self.sections)
        sections[place] = msgspec.structs.replace(sections[place], start_s=start_s, end_s=end_s)
        self._document.set_sections(tuple(sections))
        if was:
            self._document.set_loop(Loop(start_s=start_s, end_s=end_s))

    def name(self, place: int, words: str) -> None:
        """Give a section a name."""
        words = " ".join(words.split())[:60]
        if words and place < len(self.sections):
            sections = list(self.sections)
            sections[place] = msgspec.structs.replace(sections[place], name=words)
            self._put(tuple(sections))

    def ask_name(self, place: int) -> None:
        """Ask for a name (modal to the window, not blocking)."""
        dialog = self.dialog = QInputDialog(self.window())
        dialog.setWindowTitle(said("Section"))
        dialog.setLabelText(said("What is it?"))
        dialog.setTextValue(self.sections[place].name)
        dialog.textValueSelected.connect(partial(self.name, place))
        dialog.open()

    def remove(self, place: int) -> None:
        """A section is gone; the sound stays."""
        self._put(self.sections[:place] + self.sections[place + 1 :])

    def copy_rides(self, source: int, target: int, fitted: bool) -> None:
        """Have all rides go in a section as they go in another one, fitted to its length if asked."""
        strip = self._document.strip
        one, two = self.sections[source], self.sections[target]
        spans = (one.start_s, one.end_s), (two.start_s, two.end_s)
        stretch = (spans[1][1] - spans[1][0]) / (spans[0][1] - spans[0][0]) if fitted else 1.0
        count = 0
        for address, ride in ride_edits.rides_in(strip):
            setting = ride_edits.setting_of(strip, address)
            if setting is None:
                continue
            part = ride_lines.copied(ride, setting, spans[0])
            now = ride_edits.value_of(strip, address)
            made = ride_lines.pasted(ride, setting, address.path, now, part, spans[1], stretch)
            strip = ride_edits.put_alone(strip, address, made)
            count += 1
        if not count:
            self.said.emit(said("Nothing rides yet."))
            return
        session = edits.put(self._document.session, ("sound", *self._document.holder, "strip"), strip)
        self._document.edit(session, said("Rides of “{one}” in “{two}”").format(one=one.name, two=two.name))

    def menu(self, place: int) -> QMenu:
        """What can be done with a section."""
        menu = self._menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.addAction(said("Loop it"), partial(self.loop, place))
        menu.addAction(said("Name it…"), partial(self.ask_name, place))
        others = [k for k in range(len(self.sections)) if k != place]
        if others:
            rides = menu.addMenu(said("Rides as in"))
            for other in others:
                name = self.sections[other].name
                rides.addAction(name, partial(self.copy_rides, other, place, False))
                rides.addAction(
                    said("{name}, fitted").format(name=name), partial(self.copy_rides, other, place, True)
                )
        menu.addSeparator()
        menu.addAction(said("Remove it"), partial(self.remove, place))
        return menu
