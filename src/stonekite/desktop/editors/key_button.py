"""Which strip the detectors of a stage hear."""

from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QMenu, QPushButton

from stonekite.desktop.model.document import Document
from stonekite.session.differences import key_words
from stonekite.session.mix import mix_edits, wires
from stonekite.stages.base import HEARD, LEGS, Key, LegName, Stage
from stonekite.stages.registry import kind_of, label_of
from stonekite.words import NAMES, said


class KeyButton(QPushButton):
    """Says what the detectors of a document's stage hear, and has a menu of all that they could."""

    refused = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setObjectName("small")
        self.setMaximumWidth(190)
        self._document = document
        self._stage: Stage | None = None
        self.setToolTip(
            said("Have the detectors of this stage hear another stem or bus in place of their own legs")
        )
        self.clicked.connect(lambda: self.open_menu().popup(self.mapToGlobal(self.rect().bottomLeft())))

    def show_stage(self, stage: Stage) -> None:
        """Say what a stage hears; nothing is shown where there is nothing to choose."""
        self._stage = stage
        others = wires.going_on(self._document.session.sound)
        self.setVisible(kind_of(stage).hears_key and len(others) > 1)
        if not self.isHidden():
            words = said("Key: {name}").format(name=self._words(stage.key))
            room = self.maximumWidth() - 24
            short = said("Key…") if stage.key is None else words
            self.setText(self.fontMetrics().elidedText(short, Qt.TextElideMode.ElideRight, room))
            self.setAccessibleName(words)

    def _words(self, key: Key | None) -> str:
        return key_words(key, wires.names(self._document.session.sound))

    def open_menu(self) -> QMenu:
        """All strips that can be heard, and what of the one that is."""
        menu = QMenu(self)
        stage, sound = self._stage, self._document.session.sound
        if stage is None:
            return menu
        own = menu.addAction(said("Its own legs"), partial(self._put, None))
        own.setCheckable(True)
        own.setChecked(stage.key is None)
        menu.addSeparator()
        for one in wires.going_on(sound):
            key = Key(strip=one.id) if stage.key is None else msgspec.structs.replace(stage.key, strip=one.id)
            action = menu.addAction(one.name, partial(self._put, key))
            action.setCheckable(True)
            action.setChecked(stage.key is not None and stage.key.strip == one.id)
            action.setEnabled(wires.can_go(sound, one.id, self._document.place))
        if stage.key is not None:
            menu.addSeparator()
            split = self._document.split_of(stage.id)
            for leg in LEGS:
                inner = menu.addMenu(said("{name} hears").format(name=NAMES[split.component(leg)]))
                for heard, words in HEARD.items():
                    key = msgspec.structs.replace(stage.key, **{leg: heard})
                    action = inner.addAction(words, partial(self._put, key))
                    action.setCheckable(True)
                    action.setChecked(getattr(stage.key, leg) == heard)
        return menu

    def _put(self, key: Key | None) -> None:
        stage, document = self._stage, self._document
        if stage is None:
            return
        try:
            session = mix_edits.put_key(document.session, document.place, stage.id, key)
        except ValueError as error:
            self.refused.emit(str(error))
            return
        what = self._words(key)
        document.edit(
            session, said("{label}: detectors hear {what}").format(label=label_of(stage), what=what)
        )


class BandKey(QPushButton):
    """Says what a band of a stage hears, and has a menu of all that it could. `chosen` gives a Key, or None to hear what
    the stage does."""

    chosen = Signal(object)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setObjectName("small")
        self.setMaximumWidth(130)
        self._document = document
        self._leg: LegName = "upper"
        self._key: Key | None = None
        self.setToolTip(
            said("Have this band hear another stem or bus, beside what the others of the stage hear")
        )
        self.clicked.connect(lambda: self.open_menu().popup(self.mapToGlobal(self.rect().bottomLeft())))

    def show_band(self, leg: LegName, band: Any) -> None:
        """Say what a band of a leg hears; nothing is shown where there is nothing to choose."""
        sound = self._document.session.sound
        self._leg, self._key = leg, None if band is None else band.key
        self.setVisible(len(wires.going_on(sound)) > 1)
        self.setEnabled(band is not None and not band.hears_leg)
        heard = said("as its stage") if self._key is None else key_words(self._key, wires.names(sound))
        words = said("Hears: {what}").format(what=heard)
        room = self.maximumWidth() - 24
        short = said("Hears…") if self._key is None else words
        self.setText(self.fontMetrics().elidedText(short, Qt.TextElideMode.ElideRight, room))
        self.setAccessibleName(words)

    def open_menu(self) -> QMenu:
        """All strips that can be heard, and what of the one that is."""
        menu = QMenu(self)
        sound, now = self._document.session.sound, self._key
        stage = menu.addAction(said("As its stage"), partial(self.chosen.emit, None))
        stage.setCheckable(True)
        stage.setChecked(now is None)
        menu.addSeparator()
        for one in wires.going_on(sound):
            key = Key(strip=one.id) if now is None else msgspec.structs.replace(now, strip=one.id)
            action = menu.addAction(one.name, partial(self.chosen.emit, key))
            action.setCheckable(True)
            action.setChecked(now is not None and now.strip == one.id)
            action.setEnabled(wires.can_go(sound, one.id, self._document.place))
        if now is not None:
            menu.addSeparator()
            for heard, words in HEARD.items():
                if heard != "own":  # that has a switch of its own
                    key = msgspec.structs.replace(now, **{self._leg: heard})
                    action = menu.addAction(words[:1].upper() + words[1:], partial(self.chosen.emit, key))
                    action.setCheckable(True)
                    action.setChecked(getattr(now, self._leg) == heard)
        return menu
