"""Level, polarity, mute and alone of one leg, in a row."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.model.document import Document
from stonekite.session.types import Leg, LegName
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said

_LEG = settings_of(Leg)
_TOGGLES = {"inverted": said("invert"), "muted": said("mute"), "alone": said("alone")}


class LegRow(QWidget):
    """Edits one leg of a document's strip. `ride_asked` is the wish to have its level ride."""

    ride_asked = Signal()

    def __init__(self, document: Document, leg: LegName, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document, self._leg = document, leg
        self.level = ValueField(_LEG["level_db"], compact=True)
        self.level.setMaximumWidth(260)
        self.toggles = {
            name: Toggle(word, _LEG[name].label, _LEG[name].help) for name, word in _TOGGLES.items()
        }
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(7)
        layout.addStretch(1)
        layout.addWidget(self.level, 2)
        for name, toggle in self.toggles.items():
            toggle.clicked.connect(lambda on, name=name: self._put(name, on))
            layout.addWidget(toggle)
        layout.addStretch(1)
        self.level.ride_asked.connect(self.ride_asked)
        self.level.moved.connect(lambda value, token: self._put("level_db", value, token))

    def refresh(self) -> None:
        """Show the document's values."""
        leg = self._document.leg(self._leg)
        component = self._document.strip.split.component(self._leg)
        self.level.set_colour(roles.component(component))
        self.level.show_value(leg.level_db)
        self.level.set_ridden(any(ride.path == "level_db" for ride in leg.rides))
        self.level.setAccessibleName(said("{name} level").format(name=NAMES[component]))
        for name, toggle in self.toggles.items():
            toggle.setChecked(getattr(leg, name))
            toggle.set_colour(roles.warning if name == "muted" else roles.component(component))
            toggle.setAccessibleName(f"{NAMES[component]} {_LEG[name].label.lower()}")

    def _put(self, name: str, value: float | bool, token: object = None) -> None:
        component = NAMES[self._document.strip.split.component(self._leg)]
        gesture = None if token is None else (token, self._leg, name)
        self._document.put((self._leg, name), value, f"{component} {_LEG[name].label.lower()}", gesture)
