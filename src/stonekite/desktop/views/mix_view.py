"""The mix: all stems, buses and the mix itself, a row for each, and what is sent where."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QIcon, QPixmap, QShowEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Toggle, Words
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import font
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.mix_actions import MixActions
from stonekite.desktop.views.mix_cells import hue
from stonekite.desktop.views.mix_row import INTO, LEVELS, METER, NAME, SEND, MixRow
from stonekite.desktop.views.span_cell import SpanHead, Stretch
from stonekite.session import tree
from stonekite.session.mix import wires
from stonekite.session.mix.places import name_of
from stonekite.session.types import HUES, MIX, Bus, Mix, Sound, Source, Stem
from stonekite.words import said

AT_ONCE, AT_A_TIME = 9, 2
"""So many rows are made at once, and so many at a time after them."""


class MixView(QFrame):
    """Rows of a document's sound. `opened` wants the kite of one, `add_asked` more recordings, `parallel_asked` a bus
    that some of all feed."""

    opened = Signal(int)
    add_asked = Signal()
    parallel_asked = Signal()
    fit_asked = Signal(int)
    time_asked = Signal(int)
    without_asked = Signal(int)
    seek_asked = Signal(float)
    times_shown = Signal()

    def __init__(
        self,
        document: Document,
        actions: MixActions,
        position: Callable[[], float],
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._document, self._actions, self._position = document, actions, position
        self.rows: dict[int, MixRow] = {}
        self._more = QTimer(self)
        self._more.setSingleShot(True)
        self._more.timeout.connect(self._add_more)
        self.chosen: set[int] = set()
        self.left_out = 0
        self.kept: set[int] = set()
        """The stems that are played from where they are kept."""
        document.refused.connect(self._refused)
        self.folded: set[int] = set()
        """The buses of which only their own row is shown."""
        self._kite_heads: list[QWidget] = []
        self._ruler = SpanHead()
        self._result = ""
        self._order: tuple[int, ...] = ()
        self._buses: tuple[tuple[int, str], ...] = ()
        self._heads: QWidget | None = None
        self.setObjectName("panel")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(12, 8, 12, 10)
        whole.setSpacing(6)
        head = QHBoxLayout()
        head.setSpacing(12)
        title = Label(said("Mix"))
        title.setFont(font(13, bold=True))
        head.addWidget(title)
        self.counts = Words()
        self.counts.setToolTip(
            said("What is kept of a stem is played from the disk, to the bit the same as computed.")
        )
        head.addWidget(self.counts, 1)
        self.times = Toggle(
            said("times"),
            said("Times of the stems"),
            said(
                "Show when each stem is heard in place of its kite and level: to move it, trim it and split it where the "
                "play position is. The view is that of the timeline below."
            ),
        )
        self.times.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.times.toggled.connect(self._turn)
        self.overview_of: Callable[[Source], np.ndarray | None] = lambda source: None
        """What a recording looks like, if that is known."""
        self._stretch = Stretch()
        head.addWidget(self.times)
        self.buttons = {
            "add": QPushButton(said("Add stems…")),
            "bus": QPushButton(said("New bus")),
            "parallel": QPushButton(said("Parallel bus…")),
        }
        self.buttons["add"].setToolTip(
            said("More recordings beside those that are here; files and folders can be dropped, too.")
        )
        self.buttons["bus"].setToolTip(
            said("A bus that several can go into, to be heard and treated together.")
        )
        self.buttons["parallel"].setToolTip(
            said("A bus beside the mix, fed by all that you choose, to be eased in under it.")
        )
        self.buttons["add"].clicked.connect(self.add_asked)
        self.buttons["bus"].clicked.connect(actions.add_bus)
        self.buttons["parallel"].clicked.connect(self.parallel_asked)
        for button in self.buttons.values():
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)  # Space goes on playing after a click
            head.addWidget(button)
        whole.addLayout(head)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QFrame.Shape.NoFrame)
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        whole.addWidget(self._area, 1)
        inside = QWidget()
        self._column = QVBoxLayout(inside)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(2)
        self._bus_heading = Label(said("Buses"))
        self._bus_heading.setObjectName("muted")
        self._bus_heading.setContentsMargins(10, 4, 0, 0)
        self._column.addWidget(self._bus_heading)
        self._column.addStretch(1)
        self._area.setWidget(inside)

    # What is shown

    def _refused(self) -> None:
        for row in self.rows.values():
            row.forget()

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()
        super().showEvent(event)

    def refresh(self) -> None:
        """Show the document's sound of now."""
        if not self._document.is_open or not self.isVisible():
            return
        sound = self._document.session.sound
        order = tuple(tree.number_of(one) for _, one in tree.holders(sound))
        buses = tuple((bus.id, bus.name) for bus in sound.buses)
        if (order, buses) != (self._order, self._buses):
            self._rearrange(order, buses)
        self.chosen &= set(order)
        if not self.chosen:
            self.chosen = {self._document.place}
        self.folded &= {bus.id for bus in sound.buses}
        self._show_rows(sound)
        self.counts.setText(
            said("{stems} stems · {buses} buses").format(stems=len(sound.stems), buses=len(sound.buses))
            + (said(" · {count} kept").format(count=len(self.kept)) if self.kept else "")
        )

    def _show_rows(self, sound: Sound) -> None:
        inside = self._inside(sound)
        for _, one in tree.holders(sound):
            number = tree.number_of(one)
            row = self.rows.get(number)
            if row is None:  # it comes soon
                continue
            folded = len(inside[number]) if number in self.folded else 0
            row.show_one(
                one, sound, number in self.chosen, number == self.left_out, folded, number in self.kept
            )
            if self.times.isChecked() and isinstance(one, Stem):
                row.show_times(one, self.overview_of(one.source), self._stretch)
            else:
                row.show_kite()
            row.setVisible(not any(number in inside[bus] for bus in self.folded))

    def _turn(self, times: bool) -> None:
        """Show times, or kites and levels."""
        for head in self._kite_heads:
            head.setVisible(not times)
        self._ruler.setVisible(times)
        self.times_shown.emit()
        self.refresh()

    def look(self, stretch: Stretch, position_s: float) -> None:
        """Show this part of the timeline, and the play position, where times are shown."""
        if not self.times.isChecked() or not self._document.is_open:
            return
        if stretch != self._stretch:
            self._stretch = stretch
            self._ruler.show_stretch(stretch)
            self._show_rows(self._document.session.sound)
        for row in self.rows.values():
            if row.span is not None:
                row.span.follow(position_s)

    @staticmethod
    def _inside(sound: Sound) -> dict[int, set[int]]:
        """Of each bus, and of all else, the strips that go on into it, at once or through others."""
        into = {one.id: one.into for one in wires.going_on(sound)}
        found: dict[int, set[int]] = {number: set() for number in (MIX, *into)}
        for number in into:
            bus = into[number]
            while bus != MIX:
                found[bus].add(number)
                bus = into[bus]
        return found

    def fold(self, bus: int) -> None:
        """Put the rows of all that goes into a bus away, or show them again."""
        self.folded ^= {bus}
        self.refresh()

    def _rearrange(self, order: tuple[int, ...], buses: tuple[tuple[int, str], ...]) -> None:
        """Have rows for these strips in this order; those that were there stay, and only what is new is made."""
        for number in set(self.rows) - set(order):
            self._let_go(self.rows.pop(number))
        if self._heads is None or buses != self._buses:
            if self._heads is not None:
                self._let_go(self._heads)
            self._heads = self._made_heads()
            self._column.insertWidget(0, self._heads)
        self._order, self._buses = order, buses
        self._bus_heading.setVisible(bool(buses))
        self._add_rows(AT_ONCE if not self.rows else AT_A_TIME)
        self.show_result(self._result)

    def _let_go(self, widget: QWidget) -> None:
        self._column.removeWidget(widget)
        widget.hide()
        widget.deleteLater()

    def _add_rows(self, count: int) -> None:
        """Make so many rows more; the rest follow a few at a time, so that the window does not stop for them."""
        sound = self._document.session.sound
        missing = [one for _, one in tree.holders(sound) if tree.number_of(one) not in self.rows]
        for one in missing[:count]:
            row = MixRow(one, sound, self._actions)
            self.rows[row.number] = row
            row.opened.connect(self.opened)
            row.chosen.connect(self._choose)
            row.dropped.connect(self._drop)
            row.stepped.connect(self._step)
            row.menu_asked.connect(self._menu)
            row.without_asked.connect(self.without_asked)
            row.seek_asked.connect(self.seek_asked)
            row.time_asked.connect(self.time_asked)
        self.rows = {number: self.rows[number] for number in self._order if number in self.rows}
        self._set_in_order()
        if len(missing) > count:
            self._more.start()

    def _set_in_order(self) -> None:
        """The rows stand as the strips do, the buses under a heading of their own."""
        first_bus = next((number for number, _ in self._buses), None)
        wanted: list[QWidget] = []
        for number, row in self.rows.items():
            if number == first_bus:
                wanted.append(self._bus_heading)
            wanted.append(row)
        for k, widget in enumerate(wanted, 1):  # below the names of the columns
            if self._column.indexOf(widget) != k:
                self._column.removeWidget(widget)
                self._column.insertWidget(k, widget)

    def _add_more(self) -> None:
        """Some of the rows that are still to come."""
        if self._document.is_open and len(self.rows) < len(self._order):
            self._add_rows(AT_A_TIME)
            self._show_rows(self._document.session.sound)
            self.show_result(self._result)

    def all_rows(self) -> dict[int, MixRow]:
        """The rows, those that are still to come, too."""
        self._add_rows(len(self._order))
        self._show_rows(self._document.session.sound)
        return self.rows

    def _made_heads(self) -> QWidget:
        """The names of the columns; those of the buses have what can be done for many at once."""
        heads = QWidget()
        row = QHBoxLayout(heads)
        row.setContentsMargins(8, 0, 8, 0)
        row.setSpacing(7)
        self._kite_heads.clear()
        self._ruler = SpanHead()
        self._ruler.show_stretch(self._stretch)
        self._ruler.setVisible(self.times.isChecked())
        for words, width in (
            (said("Stem"), NAME),
            (said("Kite"), 0),
            (said("Level and place"), LEVELS),
            (said("Before, after"), METER),
            (said("Goes into"), INTO),
        ):
            label = Label(words)
            label.setObjectName("muted")
            if width:
                label.setFixedWidth(width)
            row.addWidget(label, 0 if width else 1)
            if words in (said("Kite"), said("Level and place")):
                self._kite_heads.append(label)
                label.setVisible(not self.times.isChecked())
        row.insertWidget(1, self._ruler, 1)
        for bus in self._document.session.sound.buses:
            button = QPushButton()
            button.setObjectName("small")
            button.setFixedWidth(SEND)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.setText(button.fontMetrics().elidedText(bus.name, Qt.TextElideMode.ElideRight, SEND - 18))
            button.setAccessibleName(said("Sends to {bus}").format(bus=bus.name))
            button.setToolTip(said("What is sent to {bus}: click for all at once.").format(bus=bus.name))
            button.clicked.connect(partial(self._ask_many, bus.id, button))
            row.addWidget(button)
        return heads

    def take_peaks(self, table: np.ndarray) -> None:
        """The greatest samples (strips, 4) since the last look, in the order of the sound."""
        for number, peaks in zip(self._order, table, strict=False):
            if number in self.rows:
                self.rows[number].take_peaks(peaks)

    def show_result(self, words: str) -> None:
        """What is known of the mix as a whole."""
        self._result = words
        if MIX in self.rows:
            self.rows[MIX].words.setText(words)

    # What is done

    def _choose(self, number: int, more: bool) -> None:
        if more:
            self.chosen ^= {number}
        else:
            self.chosen = {number}
        if number in self.chosen and number != self._document.place:
            self._document.go_to(number)
        self.refresh()

    def _place(self, number: int) -> tuple[int, int]:
        """Where one is among its like, and how many these are."""
        name, k = tree.holder_path(self._document.session.sound, number)
        return int(k), len(getattr(self._document.session.sound, str(name)))

    def _step(self, number: int, steps: int) -> None:
        if number == MIX:
            return
        k, count = self._place(number)
        where = min(count - 1, max(0, k + steps))
        if where != k:
            self._actions.move(number, where)
            self.rows[number].name.setFocus()

    def _drop(self, number: int, y: int) -> None:
        """A row was dragged to a height of its own: among its like it stands where that is."""
        if number == MIX:
            return
        row = self.all_rows()[number]
        there = row.mapTo(self, QPoint(0, y)).y()
        name, _ = tree.holder_path(self._document.session.sound, number)
        others = [one.id for one in getattr(self._document.session.sound, str(name)) if one.id != number]
        middles = [self.rows[n].mapTo(self, self.rows[n].rect().center()).y() for n in others]
        where = sum(middle < there for middle in middles)
        if where != self._place(number)[0]:
            self._actions.move(number, where)

    def _ask_many(self, bus: int, button: QPushButton) -> None:
        menu = self._many_menu(bus)
        menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    def _many_menu(self, bus: int) -> QMenu:
        sound = self._document.session.sound
        stems = [stem.id for stem in sound.stems]
        chosen = [number for number in stems if number in self.chosen]
        rest = [number for number in stems if number not in self.chosen]
        menu = QMenu(self)
        menu.addAction(said("Send all stems"), lambda: self._actions.send_many(stems, bus, 0.0))
        if chosen and rest:
            names = ", ".join(name_of(tree.holder(sound, number)) for number in chosen[:3])
            menu.addAction(
                said("Send all but {names}").format(names=names),
                lambda: self._send_but(rest, chosen, bus),
            )
        menu.addAction(said("Send none"), lambda: self._actions.send_many(stems, bus, None))
        menu.addSeparator()
        menu.addAction(said("Open its kite"), lambda: self.opened.emit(bus))
        menu.addAction(said("Rename"), lambda: self.rows[bus].name.rename())
        menu.addAction(said("Remove it"), lambda: self._actions.remove(bus))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        return menu

    def _send_but(self, these: list[int], others: list[int], bus: int) -> None:
        self._actions.send_many(others, bus, None)
        self._actions.send_many(these, bus, 0.0)

    def _menu(self, number: int, place: QPoint) -> None:
        self.menu_of(number).popup(place)

    def menu_of(self, number: int) -> QMenu:
        """All that can be done with one."""
        one = tree.holder(self._document.session.sound, number)
        actions, menu = self._actions, QMenu(self)
        menu.addAction(said("Open its kite"), lambda: self.opened.emit(number))
        if isinstance(one, Mix):
            menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            return menu
        menu.addAction(said("Rename"), lambda: self.rows[number].name.rename())
        hues = menu.addMenu(said("Hue"))
        for k in range(HUES):
            swatch = QPixmap(14, 14)
            swatch.fill(hue(k))
            action = hues.addAction(
                QIcon(swatch), said("Hue {number}").format(number=k + 1), partial(actions.put_hue, number, k)
            )
            action.setCheckable(True)
            action.setChecked(k == one.hue)
        if isinstance(one, Bus) and (inside := self._inside(self._document.session.sound)[number]):
            words = said("Fold what goes into it: {count}")
            if number in self.folded:
                words = said("Unfold what goes into it: {count}")
            menu.addAction(words.format(count=len(inside)), partial(self.fold, number))
        if isinstance(one, Stem):
            here = self._position()
            menu.addSeparator()
            menu.addAction(said("On the timeline…"), lambda: self.time_asked.emit(number))
            menu.addAction(said("Begin at the play position"), lambda: actions.put_time(number, start_s=here))
            menu.addAction(said("Begin at the start"), lambda: actions.put_time(number, start_s=0.0))
            menu.addAction(said("Split at the play position"), lambda: actions.split(number, here))
            menu.addAction(said("Repeat it"), lambda: actions.repeat(number))
            menu.addAction(said("Fit to another tempo…"), lambda: self.fit_asked.emit(number)).setEnabled(
                one.source.generator is None
            )
        menu.addSeparator()
        menu.addAction(said("Move up"), lambda: self._step(number, -1))
        menu.addAction(said("Move down"), lambda: self._step(number, 1))
        menu.addSeparator()
        menu.addAction(said("Remove it"), lambda: actions.remove(number))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        return menu
