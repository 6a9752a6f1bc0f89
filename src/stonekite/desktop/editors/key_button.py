"""Which strip the detectors of a stage hear."""

from functools import partial

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QMenu, QPushButton

from stonekite.desktop.model.document import Document
from stonekite.session.differences import key_words
from stonekite.session.mix import mix_edits, wires
from stonekite.stages.base import HEARD, LEGS, Key, Stage
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
            self.setText(
                self.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, self.maximumWidth() - 24)
            )
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
