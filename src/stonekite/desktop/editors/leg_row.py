"""Level, delay, polarity, mute and alone of one leg, in a row."""

from functools import partial

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from stonekite.desktop.controls.choices import Toggle, Words
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.model.document import Document
from stonekite.session import edits
from stonekite.session.leg_delay import told
from stonekite.session.ride_edits import Address
from stonekite.session.types import LEGS, Leg, LegName
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said

_LEG = settings_of(Leg)
_TOGGLES = {"inverted": said("invert"), "muted": said("mute"), "alone": said("alone")}


AIR_M_S = 343.0
"""So many metres sound goes in a second, at 20 °C."""


class LegRow(QWidget):
    """Edits one leg of a document's strip. `ride_asked` is the wish to have one of its settings ride."""

    ride_asked = Signal(Address)

    def __init__(self, document: Document, leg: LegName, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document, self._leg = document, leg
        self.level = ValueField(_LEG["level_db"], compact=True)
        self.level.setMaximumWidth(230)
        self.delay = ValueField(_LEG["delay_ms"], compact=True)
        self.delay.setMaximumWidth(200)
        self.words = Words()
        self.toggles = {
            name: Toggle(word, _LEG[name].label, _LEG[name].help, rides=not _LEG[name].still)
            for name, word in _TOGGLES.items()
        }
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(7)
        layout.addStretch(1)
        layout.addWidget(self.level, 2)
        layout.addWidget(self.delay, 2)
        for name, toggle in self.toggles.items():
            toggle.clicked.connect(lambda on, name=name: self._put(name, on))
            layout.addWidget(toggle)
        layout.addWidget(self.words, 5)
        layout.addStretch(1)
        self._ridden: dict[str, ValueField | Toggle] = {
            "level_db": self.level,
            "delay_ms": self.delay,
            **self.toggles,
        }
        for name, control in self._ridden.items():
            address = Address("leg", LEGS.index(leg), name)
            control.ride_asked.connect(partial(self.ride_asked.emit, address))
        self.delay.moved.connect(lambda value, token: self._put("delay_ms", value, token))
        self.level.moved.connect(lambda value, token: self._put("level_db", value, token))

    def refresh(self) -> None:
        """Show the document's values."""
        leg = self._document.leg(self._leg)
        component = self._document.strip.split.component(self._leg)
        self.level.set_colour(roles.component(component))
        self.level.show_value(leg.level_db)
        for name, control in self._ridden.items():
            control.set_ridden(any(ride.path == name for ride in leg.rides))
        self.level.setAccessibleName(said("{name} level").format(name=NAMES[component]))
        rate = self._document.stem.source.rate
        self.delay.set_units({"samples": 1000.0 / rate, "smp": 1000.0 / rate, "m": 1000.0 / AIR_M_S})
        self.delay.set_colour(roles.component(component))
        self.delay.show_value(leg.delay_ms)
        self.delay.show_note(leg.delay_note, self._document.session.sound.tempo.bpm)
        self.delay.setAccessibleName(said("{name} delay").format(name=NAMES[component]))
        shown = {name: self._document.leg(name) for name in LEGS}
        later = "lower" if shown["lower"].delay_ms > shown["upper"].delay_ms else "upper"
        strip = msgspec.structs.replace(self._document.strip, **shown)
        sentence = told(strip).sentence if later == self._leg else ""
        self.words.setVisible(bool(sentence))
        self.words.setText(sentence)
        self.words.setToolTip(sentence)
        for name, toggle in self.toggles.items():
            toggle.setChecked(getattr(leg, name))
            toggle.set_colour(roles.warning if name == "muted" else roles.component(component))
            toggle.setAccessibleName(f"{NAMES[component]} {_LEG[name].label.lower()}")

    def _put(self, name: str, value: float | bool | str, token: object = None) -> None:
        component = NAMES[self._document.strip.split.component(self._leg)]
        gesture = None if token is None else (token, self._leg, name)
        leg = edits.given(self._document.leg(self._leg), name, value)
        self._document.put_shown((self._leg,), leg, f"{component} {_LEG[name].label.lower()}", gesture)
