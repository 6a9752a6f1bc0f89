"""The editor that every kind of stage gets from its declared settings alone: a picture and two rows of controls."""

from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.document import Document
from stonekite.desktop.fields import Segments, Toggle, ValueField
from stonekite.desktop.response_picture import ResponsePicture
from stonekite.desktop.theme import NAMES, roles
from stonekite.session.types import LEGS, LegName
from stonekite.stages.base import Stage
from stonekite.stages.registry import KINDS, kind_of
from stonekite.stages.settings import Setting, settings_of

Control = ValueField | Segments | Toggle


def control_for(setting: Setting, owner: str) -> Control:
    """The control that fits a declared setting: slider, words side by side, or a switch."""
    if setting.words is not None:
        return Segments(setting.words, f"{owner} {setting.label}", f"{setting.label}: {setting.help}")
    if isinstance(setting.default, bool):
        return Toggle(setting.label, f"{owner} {setting.label}", setting.help)
    return ValueField(setting, owner)


class SideRow(QWidget):
    """All settings of one side of a stage in a row. `moved` gives name, value and gesture token."""

    moved = Signal(str, object, object)
    refused = Signal(str)

    def __init__(self, side: type[msgspec.Struct], leg: LegName) -> None:
        super().__init__()
        self.leg = leg
        self.name = QLabel("")
        self.name.setFixedWidth(46)
        self.controls: dict[str, Control] = {}
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        row.addWidget(self.name)
        numbers = 0
        for field, setting in settings_of(side).items():
            control = self.controls[field] = control_for(setting, leg)
            if isinstance(control, ValueField):
                control.moved.connect(lambda value, token, f=field: self.moved.emit(f, value, token))
                control.refused.connect(self.refused)
                numbers += 1
            elif isinstance(control, Segments):
                control.chosen.connect(lambda value, f=field: self.moved.emit(f, value, None))
            else:
                control.clicked.connect(lambda on, f=field: self.moved.emit(f, on, None))
            row.addWidget(control, 1 if isinstance(control, ValueField) else 0)
        if numbers == 1:  # one slider need not span the window
            row.addStretch(1)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_side(self, side: msgspec.Struct | None, component: str) -> None:
        """Show values; None for a leg that passes."""
        colour = roles.component(component)
        self.name.setText(NAMES[component])
        self.name.setStyleSheet(f"color: {colour.name()}; font-weight: bold;")
        for field, control in self.controls.items():
            control.setEnabled(side is not None)
            if isinstance(control, ValueField | Toggle):
                control.set_colour(colour)
            if side is None:
                continue
            value = getattr(side, field)
            if isinstance(control, Toggle):
                control.setChecked(value)
            else:
                control.show_value(value)
        for field, setting in settings_of(type(side) if side is not None else msgspec.Struct).items():
            self.controls[field].setAccessibleName(f"{NAMES[component]} {setting.label}")


class StageEditor(QWidget):
    """Shows and edits one stage of a document, of any kind that has no editor of its own."""

    refused = Signal(str)

    def __init__(self, document: Document, kind: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._number = -1
        self._leg: LegName = "upper"
        self.picture = ResponsePicture()
        self.rows: dict[LegName, SideRow] = {leg: SideRow(KINDS[kind].SIDE, leg) for leg in LEGS}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addWidget(self.picture, 1)
        grid = QGridLayout()
        grid.setVerticalSpacing(6)
        for place, (leg, row) in enumerate(self.rows.items()):
            grid.addWidget(row, place, 0)
            row.moved.connect(lambda field, value, token, leg=leg: self._put(leg, field, value, token))
            row.refused.connect(self.refused)
        layout.addLayout(grid)

    @property
    def stage(self) -> Stage | None:
        return self._document.stage(self._number)

    def show_stage(self, number: int, leg: LegName) -> None:
        """Edit a stage, with one leg in front of the picture."""
        self._number, self._leg = number, leg
        stage = self.stage
        if stage is None:
            return
        split = self._document.strip.split
        self.picture.show_stage(stage, leg, split, self._document.stem.source.rate)
        for name, row in self.rows.items():
            row.show_side(getattr(stage, name), split.component(name))

    def show_spectra(self, spectra: np.ndarray) -> None:
        self.picture.show_spectra(spectra)

    def _put(self, leg: LegName, field: str, value: Any, token: object) -> None:
        stage = self.stage
        if stage is None:
            return
        setting = settings_of(kind_of(stage).SIDE)[field]
        component = NAMES[self._document.strip.split.component(leg)]
        words = f"{component} {kind_of(stage).LABEL}: {setting.label.lower()}"
        gesture = None if token is None else (token, self._number, leg, field)
        self._document.put_in_side(stage, leg, (field,), value, words, gesture)
