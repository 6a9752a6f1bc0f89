"""Which strip of several is open, and whether it is heard by itself or in the mix."""

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QPushButton

from stonekite.desktop.controls.choices import Segments, Words
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.model.document import Document
from stonekite.session import tree
from stonekite.session.mix.places import name_of
from stonekite.session.types import MIX, Bus, Stem
from stonekite.words import said

_WAYS = {True: said("In the mix"), False: said("By itself")}


class StripBar(QFrame):
    """`mix_asked` wants all of them, `way_chosen` says whether what is open is heard in the mix, `resized` that the bar
    came or went."""

    resized = Signal()
    mix_asked = Signal()
    way_chosen = Signal(bool)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.setObjectName("panel")
        self.setMaximumHeight(34)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 3, 12, 3)
        row.setSpacing(8)
        self.mix = QPushButton(said("Mix"))
        keyed(self.mix, said("All stems and buses"), "view-mix")
        self.mix.clicked.connect(self.mix_asked)
        self.before, self.after = QPushButton("‹"), QPushButton("›")
        keyed(self.before, said("The strip before"), "last-strip")
        keyed(self.after, said("The next strip"), "next-strip")
        self.before.setAccessibleName(said("The strip before"))
        self.after.setAccessibleName(said("The next strip"))
        self.before.clicked.connect(partial(self.step, -1))
        self.after.clicked.connect(partial(self.step, 1))
        self.name = QPushButton()
        self.name.setMinimumWidth(150)
        self.name.setToolTip(said("The strip that is open; click for the others."))
        self.name.clicked.connect(self._ask)
        self.words = Words()
        self.way = Segments(_WAYS, said("What is heard"), said("Hear what is open in the mix, or by itself"))
        self.way.chosen.connect(lambda on: self.way_chosen.emit(bool(on)))
        for widget in (self.mix, self.before, self.name, self.after):
            widget.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            row.addWidget(widget)
        row.addWidget(self.words, 1)
        row.addWidget(self.way)
        for button in (self.before, self.after):
            button.setFixedWidth(44)

    def refresh(self, in_the_mix: bool) -> None:
        """Show what is open; nothing where there is only one strip."""
        document = self._document
        sound = document.session.sound
        several = len(sound.stems) > 1 or bool(sound.buses) or document.place == MIX
        self.setVisible(several)
        if not several:
            return
        one = tree.holder(sound, document.place)
        self.name.setText(name_of(one).replace("&", "&&"))
        self.name.setAccessibleName(said("Open: {name}").format(name=name_of(one)))
        self.way.show_value(in_the_mix)
        self.way.setEnabled(document.place != MIX)
        self.words.setText(_told(one))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.resized.emit()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.resized.emit()

    def step(self, steps: int) -> None:
        """Open the next strip, or the one before; round in a circle."""
        if self._document.is_open:
            numbers = [tree.number_of(one) for _, one in tree.holders(self._document.session.sound)]
            k = numbers.index(self._document.place)
            self._document.go_to(numbers[(k + steps) % len(numbers)])

    def menu(self) -> QMenu:
        """All strips."""
        menu = QMenu(self)
        act: Callable[[int], Callable[[], None]] = lambda number: partial(self._document.go_to, number)  # noqa: E731
        for _, one in tree.holders(self._document.session.sound):
            number = tree.number_of(one)
            action = menu.addAction(name_of(one).replace("&", "&&"), act(number))
            action.setCheckable(True)
            action.setChecked(number == self._document.place)
        return menu

    def _ask(self) -> None:
        menu = self._menu = self.menu()
        menu.popup(self.name.mapToGlobal(self.name.rect().bottomLeft()))


def _told(one: object) -> str:
    """What a strip is for, in words."""
    if isinstance(one, Bus):
        return said("a bus")
    return "" if isinstance(one, Stem) else said("what all goes into")
