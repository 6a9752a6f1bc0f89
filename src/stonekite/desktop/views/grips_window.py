"""The grips in a small window of their own: up to eight labelled controls, and what each of them moves."""

from functools import partial
from typing import Annotated

import msgspec
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from stonekite import midi
from stonekite.desktop.controls.choices import Toggle, Words
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.target_line import TargetLine
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.knobs import Knobs
from stonekite.desktop.views.simulated_knobs import SimulatedKnobs
from stonekite.session import edits, gripping, ride_edits, tree
from stonekite.session.differences import names_of
from stonekite.session.grips import GRIPS, Grip, Target
from stonekite.session.ride_edits import Address
from stonekite.session.types import LEGS, Strip
from stonekite.stages import riding
from stonekite.stages.settings import Settings, number, settings_of
from stonekite.words import NAMES, said


class _Place(Settings, frozen=True, kw_only=True):
    position: Annotated[float, number("Grip", "%", 0.0, 100.0, step=1.0, help="Where the grip is")] = 50.0


_POSITION = settings_of(_Place)["position"]
_LINES = 3
"""So many targets are named on a card."""


class GripCard(QFrame):
    """One grip. `moved` gives its position in per cent and a token, `named` its name; the others are wishes."""

    moved = Signal(object, object)
    named = Signal(str)
    point_asked = Signal(bool)
    menu_asked = Signal()

    def __init__(self, place: int) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.name = QLineEdit()
        self.name.setMaxLength(40)
        self.name.setAccessibleName(said("Name of grip {number}").format(number=place + 1))
        self.name.setToolTip(
            said("Name of the grip. Key {number}, then the arrows, move it.").format(number=place + 1)
        )
        self.field = ValueField(_POSITION, said("Grip {number}").format(number=place + 1))
        self.field.set_label(said("Grip {number}").format(number=place + 1))
        self.point = Toggle(
            said("Point"),
            said("Point at what grip {number} shall move").format(number=place + 1),
            said("Then click controls anywhere in the window: each is moved by this grip from then on"),
        )
        self.more = QPushButton("…")
        self.more.setObjectName("small")
        self.more.setFixedWidth(28)
        self.more.setAccessibleName(said("More about grip {number}").format(number=place + 1))
        self.more.setToolTip(said("What it moves, over which range; stages in and out, mutes; remove it"))
        self.count = Label("")
        self.count.setObjectName("muted")
        self.lines = [TargetLine() for _ in range(_LINES)]
        self.setFixedWidth(196)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        layout.setSpacing(4)
        layout.addWidget(self.name)
        layout.addWidget(self.field)
        foot = QHBoxLayout()
        foot.setSpacing(6)
        foot.addWidget(self.count, 1)
        foot.addWidget(self.point)
        foot.addWidget(self.more)
        layout.addLayout(foot)
        for line in self.lines:
            layout.addWidget(line)
        self.field.moved.connect(self.moved)
        self.name.editingFinished.connect(lambda: self.named.emit(self.name.text()))
        self.point.clicked.connect(self.point_asked)
        self.more.clicked.connect(self.menu_asked)

    def show_grip(self, grip: Grip, strip: Strip, position: float, pointing: bool) -> None:
        """Show a grip of a strip, which stands at a position now."""
        if not self.name.hasFocus():
            self.name.setText(grip.name)
        self.field.show_value(100.0 * position)
        self.field.setAccessibleName(grip.name)
        self.point.setChecked(pointing)
        ridden = any(
            ride_edits.ride_of(strip, gripping.address_of(target)) is not None
            for target in grip.targets
            if not gripping.is_switch(strip, target)
        )
        self.field.set_ridden(ridden)
        count = len(grip.targets)
        words = said("1 setting") if count == 1 else said("{count} settings").format(count=count)
        self.count.setText(words)
        names = [gripping.called(strip, target) for target in grip.targets]
        for k, line in enumerate(self.lines):
            target = grip.targets[k] if k < count else None
            shown = names[k] if k < count else ""
            if k == _LINES - 1 and count > _LINES:
                shown, target = said("and {count} more").format(count=count - k), None
            there = target if target is not None and gripping.is_there(strip, target) else None
            line.show_target(shown, there, target is not None and gripping.is_switch(strip, target), position)
            line.setToolTip("\n".join(names))


class GripsWindow(QWidget):
    """Shows and edits the grips of a document. `said` has words, `ride_asked` is a wish to have one ride."""

    said = Signal(str)
    ride_asked = Signal(Address)

    def __init__(self, document: Document, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self._document = document
        self.pointing: int | None = None
        """The grip for which controls are pointed at."""
        self.cards = [GripCard(place) for place in range(GRIPS)]
        self.setWindowTitle(said("Grips"))
        self.setObjectName("header")
        title = Label(said("Grips"))
        title.setObjectName("title")
        self.words = Words()
        self.words.setMinimumWidth(420)
        self.add = QPushButton(said("New grip"))
        self.knobs = Knobs(self)
        self.simulated: SimulatedKnobs | None = None
        self.device = QPushButton("")
        self.device.setObjectName("small")
        self.device.setToolTip(said("The MIDI device whose knobs turn grips"))
        self.device.clicked.connect(
            lambda: self.devices().popup(self.device.mapToGlobal(self.device.rect().bottomLeft()))
        )
        self.top = Toggle(said("On top"), said("Stay on top"), said("Stay above other windows"))
        self.add.setObjectName("small")
        head = QHBoxLayout()
        head.setSpacing(10)
        head.addWidget(title)
        head.addWidget(self.words, 1)
        head.addWidget(self.device)
        head.addWidget(self.top)
        head.addWidget(self.add)
        grid = QGridLayout()
        grid.setSpacing(8)
        for place, card in enumerate(self.cards):
            grid.addWidget(card, place // 4, place % 4)
            card.moved.connect(partial(self.move_grip, place))
            card.named.connect(partial(self._name, place))
            card.field.ride_asked.connect(partial(self.ride_asked.emit, Address("grip", place, "position")))
            card.point_asked.connect(lambda on, place=place: self.point(place if on else None))
            card.menu_asked.connect(lambda place=place: self._menu_at(place))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 10, 10)
        layout.setSpacing(8)
        layout.addLayout(head)
        layout.addLayout(grid)
        layout.setSizeConstraint(QVBoxLayout.SizeConstraint.SetFixedSize)
        self.add.clicked.connect(self.new_grip)
        self.top.toggled.connect(self._stay)
        document.changed.connect(self.refresh)
        document.opened.connect(lambda: self.point(None))
        self.knobs.turned.connect(
            lambda place, position, token: self.move_grip(place, 100.0 * position, token)
        )
        self.knobs.changed.connect(self.refresh)
        self.knobs.said.connect(self.said)

    # Showing

    def refresh(self) -> None:
        """Show the document's grips."""
        if not self._document.is_open:
            return
        strip, now = self._document.strip, self._document.shown_s
        self.knobs.positions = {k: ride_edits.grip_position(strip, k, now) for k in range(len(strip.grips))}
        if not self.isVisible():
            return
        none = said("no knobs")
        self.device.setText(self.knobs.name or none)
        for place, card in enumerate(self.cards):
            card.setVisible(place < len(strip.grips))
            if place < len(strip.grips):
                position = self.knobs.positions[place]
                card.show_grip(strip.grips[place], strip, position, place == self.pointing)
        self.add.setEnabled(len(strip.grips) < GRIPS)
        words = self._document.stem.name
        if not strip.grips:
            words = said("each moves any number of settings: make one, then point at what it shall move")
        if self.pointing is not None and self.pointing < len(strip.grips):
            words = said("click what “{name}” shall move (Escape: enough)").format(
                name=strip.grips[self.pointing].name
            )
        if self.knobs.learning is not None and self.knobs.learning < len(strip.grips):
            words = said("move the knob that shall turn “{name}” (Escape: enough)").format(
                name=strip.grips[self.knobs.learning].name
            )
        self.words.setText(words)

    def devices(self) -> QMenu:
        """All devices whose knobs could turn grips."""
        menu = self._menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for name in ("", *midi.names()):
            action = menu.addAction(name or said("No knobs"), partial(self.hear, name))
            action.setCheckable(True)
            action.setChecked(name == self.knobs.name)
        return menu

    def hear(self, name: str) -> None:
        """Hear the knobs of another device; a simulated one is shown."""
        self.knobs.open(name)
        if self.simulated is not None:
            self.simulated.close()
            self.simulated = None
        if isinstance(self.knobs.device, midi.Simulated):
            self.simulated = SimulatedKnobs(self.knobs.device, self)
            self.simulated.show()

    def learn(self, place: int) -> None:
        """Have the next knob that is turned turn a grip; if there is no device, the simulated one is there."""
        if not self.knobs.name:
            self.hear(midi.SIMULATED)
        self.knobs.learn(place)

    def showEvent(self, event) -> None:
        super().showEvent(event)
        if not self.knobs.name:
            self.knobs.begin()
            self.hear(self.knobs.name)
        self.refresh()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.point(None)
        super().closeEvent(event)

    def _stay(self, on: bool) -> None:
        self.setWindowFlag(Qt.WindowType.WindowStaysOnTopHint, on)
        self.show()

    # Editing

    def _put(self, strip: Strip, words: str, gesture: object = None) -> None:
        session = edits.put(self._document.session, ("sound", *self._document.holder, "strip"), strip)
        self._document.edit(session, words, gesture)

    def new_grip(self) -> None:
        """One more, for which controls are pointed at."""
        if not self._document.is_open:
            return
        strip = self._document.strip
        try:
            made = gripping.added(strip, said("Grip {number}").format(number=len(strip.grips) + 1))
        except ValueError as error:
            self.said.emit(str(error))
            return
        self._put(made, said("New grip"))
        self.point(len(made.grips) - 1)

    def move_grip(self, place: int, percent: float, token: object = None) -> None:
        """A grip is somewhere else, and all that it holds."""
        strip = self._document.strip
        if place < len(strip.grips):
            moved = gripping.moved(strip, place, percent / 100.0, self._document.shown_s)
            gesture = None if token is None else (token, "grip", place)
            self._put(moved, said("Grip “{name}”").format(name=strip.grips[place].name), gesture)

    def _name(self, place: int, name: str) -> None:
        strip = self._document.strip
        name = " ".join(name.split())[:40]
        if name and place < len(strip.grips) and name != strip.grips[place].name:
            self._put(gripping.renamed(strip, place, name), said("Grip “{name}”").format(name=name))

    def point(self, place: int | None) -> None:
        """Have controls pointed at for a grip; None: no more."""
        if place is not None and self.pointing is None:
            QApplication.instance().installEventFilter(self)  # type: ignore[union-attr]
        elif place is None and self.pointing is not None:
            QApplication.instance().removeEventFilter(self)  # type: ignore[union-attr]
        self.pointing = place
        self.refresh()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """While controls are pointed at, a click on one tells which it is, and does not move it."""
        pressed = event.type() == QEvent.Type.MouseButtonPress
        if pressed and isinstance(watched, ValueField | Toggle) and not self.isAncestorOf(watched):
            if isinstance(watched, Toggle) and not watched.rides:
                return False
            watched.ride_asked.emit()
            return True
        escape = isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Escape
        if escape and event.type() == QEvent.Type.KeyPress and isinstance(watched, QWidget):
            self.point(None)
            return True
        return False

    def take(self, address: Address) -> None:
        """A control was pointed at."""
        place, strip = self.pointing, self._document.strip
        if place is None or place >= len(strip.grips):
            return
        target = gripping.target_of(strip, address)
        if target is None:
            self.said.emit(said("This cannot be moved by a grip."))
            return
        self.hold(place, target)

    def hold(self, place: int, target: Target) -> None:
        """A grip moves one thing more, or over another range."""
        strip = self._document.strip
        try:
            made = gripping.with_target(strip, place, target)
        except ValueError as error:
            self.said.emit(str(error))
            return
        name = strip.grips[place].name
        words = said("Grip “{name}” moves {what}").format(name=name, what=gripping.called(strip, target))
        self._put(made, words)
        self.said.emit(words + ".")

    def _let_go(self, place: int, target: Target) -> None:
        strip = gripping.without_target(self._document.strip, place, target)
        self._put(strip, said("Grip: one setting less"))

    def _remove(self, place: int) -> None:
        self._put(gripping.removed(self._document.strip, place), said("Grip removed"))

    # What it moves

    def _menu_at(self, place: int) -> None:
        button = self.cards[place].more
        self.menu(place).popup(button.mapToGlobal(button.rect().bottomLeft()))

    def menu(self, place: int) -> QMenu:
        """What a grip moves, over which range, and what else it could switch."""
        menu = self._menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        strip = self._document.strip
        grip = strip.grips[place]
        for target in grip.targets:
            inner = menu.addMenu(gripping.called(strip, target))
            if not gripping.is_switch(strip, target) and gripping.is_there(strip, target):
                self._fill_range(inner, place, target)
            turned = msgspec.structs.replace(target, start=target.end, end=target.start)
            inner.addAction(said("The other way round"), partial(self.hold, place, turned))
            inner.addAction(said("Move it no more"), partial(self._let_go, place, target))
        menu.addSeparator()
        switches = menu.addMenu(said("Switch"))
        names = names_of(strip)
        for _, stage in tree.walk(strip):
            target = Target(of="stage", number=stage.id, path="inserted")
            switches.addAction(
                said("{name} in").format(name=names.get(stage.id, "")), partial(self.hold, place, target)
            )
        for k, leg in enumerate(LEGS):
            target = Target(of="leg", number=k, path="muted")
            name = NAMES[strip.split.component(leg)]
            switches.addAction(said("{name} mute").format(name=name), partial(self.hold, place, target))
        for spur in strip.spurs:
            target = Target(of="spur", number=spur.id, path="muted")
            switches.addAction(said("{name} mute").format(name=spur.name), partial(self.hold, place, target))
            level = Target(of="spur", number=spur.id, path="level_db")
            menu.addAction(
                said("Move the level of {name}").format(name=spur.name), partial(self.hold, place, level)
            )
        menu.addSeparator()
        menu.addAction(said("Move the knob that shall turn this…"), partial(self.learn, place))
        if place in self.knobs.of:
            words = said("Turn it by knob {number} no more").format(number=self.knobs.of[place].number)
            menu.addAction(words, partial(self.knobs.forget, place))
        menu.addSeparator()
        menu.addAction(said("Remove the grip"), partial(self._remove, place))
        return menu

    def _fill_range(self, menu: QMenu, place: int, target: Target) -> None:
        """The ends of a target's range are set where the setting stands now."""
        strip = self._document.strip
        address = gripping.address_of(target)
        setting = ride_edits.setting_of(strip, address)
        assert setting is not None
        there = ride_edits.shown(ride_edits.holder(strip, address), self._document.shown_s)
        found = riding.found(there, target.path)
        assert found is not None
        now = float(getattr(found[0], found[1]))
        travel = min(1.0, max(0.0, setting.to_travel(now)))
        low, high = (setting.shown(setting.from_travel(one)) for one in (target.start, target.end))
        menu.addAction(said("From {low} to {high}").format(low=low, high=high)).setEnabled(False)
        shown = setting.shown(now)
        for words, start, end in (
            (said("At the left where it is now: {value}"), travel, target.end),
            (said("At the right where it is now: {value}"), target.start, travel),
        ):
            made = msgspec.structs.replace(target, start=start, end=end)
            menu.addAction(words.format(value=shown), partial(self.hold, place, made))
        whole = msgspec.structs.replace(target, start=0.0, end=1.0)
        menu.addAction(said("All of its range"), partial(self.hold, place, whole))
        menu.addSeparator()
        for words, bend in (
            (said("Mostly late"), 1.0),
            (said("Rather late"), 0.5),
            (said("Evenly"), 0.0),
            (said("Rather early"), -0.5),
            (said("Mostly early"), -1.0),
        ):
            action = menu.addAction(
                words, partial(self.hold, place, msgspec.structs.replace(target, bend=bend))
            )
            action.setCheckable(True)
            action.setChecked(target.bend == bend)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self.knobs.learning is not None:
            self.knobs.learn(None)
            return
        number = event.key() - Qt.Key.Key_1
        strip = self._document.strip if self._document.is_open else None
        if strip is not None and 0 <= number < len(strip.grips):
            self.cards[number].field.setFocus()
        elif event.key() == Qt.Key.Key_Escape and self.pointing is not None:
            self.point(None)
        else:
            super().keyPressEvent(event)
