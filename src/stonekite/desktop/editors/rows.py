"""Rows of controls from declared settings: of any struct, and of one side of a stage."""

from functools import partial

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments, Toggle
from stonekite.desktop.controls.fields import Control, ValueField, control_for, on_move, show_on
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.ride_sign import add_tie
from stonekite.desktop.controls.theme import dress, roles
from stonekite.session.types import LegName
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said

MANY = 8
"""Settings in one row; of a side that has more only the side in front is shown, in rows of so many."""


class SettingsRow(QWidget):
    """All settings of a struct in a row. `moved` gives name, value and gesture token, `tie_asked` name and wish,
    `ride_asked` the name of one that is to ride."""

    moved = Signal(str, object, object)
    refused = Signal(str)
    tie_asked = Signal(str, bool)
    ride_asked = Signal(str)

    def __init__(self, kind: type[msgspec.Struct], owner: str, rides: bool = False) -> None:
        super().__init__()
        self.controls: dict[str, Control] = {}
        self.bpm = 120.0
        """The tempo that notes go by."""
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(5)
        self.name = Label("")
        self.name.hide()
        row = self._new_row(outer)
        row.addWidget(self.name)
        declared = self._declared = settings_of(kind)
        often = [field for field, setting in declared.items() if not setting.seldom]
        rows = -(-len(often) // MANY)
        starts = {often[k] for k in range(0, len(often), -(-len(often) // max(1, rows)))} - {often[0]}
        self.seldom = QWidget()
        self.seldom.hide()
        put_away = QVBoxLayout(self.seldom)
        put_away.setContentsMargins(0, 0, 0, 0)
        seldom_row = self._new_row(put_away)
        for field, setting in sorted(declared.items(), key=lambda one: one[1].seldom):
            if field in starts:
                row = self._new_row(outer)
            if setting.seldom:
                row = seldom_row
            control = self.controls[field] = control_for(setting, owner, rides=rides)
            on_move(control, partial(self.moved.emit, field))
            if isinstance(control, ValueField):
                control.refused.connect(self.refused)
            if isinstance(control, ValueField | Toggle):
                control.tie_asked.connect(lambda on, f=field: self.tie_asked.emit(f, on))
                control.ride_asked.connect(partial(self.ride_asked.emit, field))
            if isinstance(control, Segments) and setting.label:
                label = Label(setting.label)
                label.setObjectName("muted")
                row.addWidget(label)
            wide = 2 if setting.note else 1  # the note and the number stand side by side
            row.addWidget(control, wide if isinstance(control, ValueField) else 0)
        outer.addWidget(self.seldom)
        if not any(isinstance(control, ValueField) for control in self.controls.values()):
            row.addStretch(1)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    @property
    def has_seldom(self) -> bool:
        """Whether some of its settings are put away."""
        return any(setting.seldom for setting in self._declared.values())

    @staticmethod
    def _new_row(outer: QVBoxLayout) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(10)
        outer.addLayout(row)
        return row

    def show_values(self, values: msgspec.Struct | None, colour=roles.chalk, both: bool = True) -> None:
        """Show values; None for a leg that passes. `both` tells whether the path carries two legs."""
        for field, control in self.controls.items():
            control.setEnabled(values is not None and (both or not self._declared[field].both))
            if isinstance(control, ValueField | Toggle):
                control.set_colour(colour)
            if values is not None:
                show_on(control, getattr(values, field))
                if isinstance(control, ValueField) and (note := self._declared[field].note):
                    control.show_note(getattr(values, note), self.bpm)

    def show_ridden(self, names: set[str]) -> None:
        """Mark the settings that ride."""
        for field, control in self.controls.items():
            if isinstance(control, ValueField | Toggle):
                control.set_ridden(field in names)


class SideRow(SettingsRow):
    """The settings of one side of a stage, with the name of its component before them."""

    def __init__(self, side: type[msgspec.Struct], leg: LegName) -> None:
        super().__init__(side, said("upper leg") if leg == "upper" else said("lower leg"), rides=True)
        self.leg = leg
        self.name.setFixedWidth(46)
        self.name.setVisible(len(settings_of(side)) <= MANY)
        self._labels = {field: setting.label for field, setting in settings_of(side).items()}
        self._unlinked: tuple[str, ...] | None = None
        for field, control in self.controls.items():
            if not isinstance(control, ValueField | Toggle):
                control.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
                control.customContextMenuRequested.connect(
                    lambda place, f=field, c=control: self._offer_tie(f, c.mapToGlobal(place))
                )

    def _offer_tie(self, field: str, place) -> None:
        if self._unlinked is None:
            return
        menu = QMenu(self)
        add_tie(menu, field not in self._unlinked, partial(self.tie_asked.emit, field))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(place)

    def show_side(
        self, side: msgspec.Struct | None, component: str, unlinked: tuple[str, ...] | None
    ) -> None:
        """Show values; `unlinked` names what a linked stage does not carry across, None if it is not linked."""
        colour = roles.component(component)
        self._unlinked = unlinked
        self.name.setText(NAMES[component])
        dress(self.name, f"color: {colour.name()}; font-weight: bold;")
        self.show_values(side, colour)
        for field, control in self.controls.items():
            control.setAccessibleName(f"{NAMES[component]} {self._labels[field]}")
            if isinstance(control, ValueField | Toggle):
                control.set_tied(None if unlinked is None else field not in unlinked)
