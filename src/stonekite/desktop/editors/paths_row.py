"""The branches of a stage side by side, as one leg goes through them: their settings, and the way in."""

from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import dress, roles
from stonekite.desktop.editors.rows import SettingsRow
from stonekite.stages import riding
from stonekite.stages.base import LegName
from stonekite.stages.branch import branches_of
from stonekite.stages.registry import kind_of, label_of
from stonekite.words import said


class PathsRow(QWidget):
    """`moved` gives the number of a branch, a setting, its value and a gesture token; `enter_asked` its number,
    `ride_asked` that and the setting that is to ride."""

    moved = Signal(int, str, object, object)
    refused = Signal(str)
    enter_asked = Signal(int)
    ride_asked = Signal(int, str)

    def __init__(self, path: type[msgspec.Struct] | None, most: int) -> None:
        super().__init__()
        self.names: list[Label] = []
        self.buttons: list[QPushButton] = []
        self.rows: list[SettingsRow] = []
        self._parts: list[QWidget] = []
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(18)
        for k in range(most):
            part = QWidget()
            column = QVBoxLayout(part)
            column.setContentsMargins(0, 0, 0, 0)
            column.setSpacing(3)
            head = QHBoxLayout()
            name = Label("")
            button = QPushButton(said("Go in"))
            button.setObjectName("small")
            button.clicked.connect(lambda _=False, k=k: self.enter_asked.emit(k))
            head.addWidget(name, 1)
            head.addWidget(button)
            column.addLayout(head)
            if path is not None:
                row = SettingsRow(path, said("Band {count}").format(count=k + 1), rides=True)
                row.ride_asked.connect(partial(self.ride_asked.emit, k))
                row.moved.connect(lambda field, value, token, k=k: self.moved.emit(k, field, value, token))
                row.refused.connect(self.refused)
                column.addWidget(row)
                self.rows.append(row)
            layout.addWidget(part, 1)
            self.names.append(name)
            self.buttons.append(button)
            self._parts.append(part)

    def show_paths(self, stage: Any, leg: LegName, component: str) -> None:
        """Show the branches that a leg of a stage goes through."""
        side = getattr(stage, leg)
        names = kind_of(stage).branching.names(stage, leg)  # type: ignore[union-attr]
        colour = roles.component(component) if component != "both" else roles.chalk
        for k, (name, branch) in enumerate(zip(names, branches_of(stage), strict=True)):
            self._parts[k].setVisible(bool(name))
            if not name or side is None:
                continue
            inside = ", ".join(label_of(one) for one in branch.stages) or said("empty")
            self.names[k].setText(f"{name[:1].upper() + name[1:] if not self.rows else name}: {inside}")
            dress(self.names[k], f"color: {colour.name()};")
            what = (
                said("what stands {name}").format(name=name)
                if self.rows
                else said("what stands in the {name}").format(name=name)
            )
            self.buttons[k].setToolTip(said("Show {what} in the signal path (Enter there)").format(what=what))
            self.buttons[k].setAccessibleName(
                said("Go into the band {name}").format(name=name)
                if self.rows
                else said("Go into the {name}").format(name=name)
            )
            if not self.rows:
                continue
            self.rows[k].show_values(side.paths[k], colour)
            self.rows[k].show_ridden(riding.ridden(stage, f"{leg}.paths.{k}."))
            for control in self.rows[k].controls.values():
                if isinstance(control, ValueField):
                    control.setAccessibleName(said("{name} level").format(name=name))
