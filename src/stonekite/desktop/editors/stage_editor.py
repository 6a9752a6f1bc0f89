"""The editor that every kind of stage gets from its declared settings alone: a picture and rows of controls."""

from functools import partial
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments, Toggle
from stonekite.desktop.controls.fields import Control, ValueField, control_for, on_move, show_on
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.editors.view_bar import ViewBar
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.handle_picture import HandlePicture
from stonekite.desktop.pictures.history_picture import HistoryPicture
from stonekite.desktop.pictures.response_picture import ResponsePicture
from stonekite.desktop.pictures.tones_picture import TonesPicture
from stonekite.desktop.pictures.transfer_picture import BendPicture, CurvePicture, TransferPicture
from stonekite.session.edits import put_linked
from stonekite.session.types import LEGS, LegName
from stonekite.stages.base import Stage
from stonekite.stages.registry import KINDS, kind_of, shared_type
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES

_FEW, _MANY = 3, 8
"""Both sides stand in one row if each has no more settings than _FEW; with more than _MANY only the side in front is
shown, in rows of _MANY."""


class SettingsRow(QWidget):
    """All settings of a struct in a row. `moved` gives name, value and gesture token, `tie_asked` name and wish."""

    moved = Signal(str, object, object)
    refused = Signal(str)
    tie_asked = Signal(str, bool)

    def __init__(self, kind: type[msgspec.Struct], owner: str) -> None:
        super().__init__()
        self.controls: dict[str, Control] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(5)
        self.name = Label("")
        self.name.hide()
        row = self._new_row(outer)
        row.addWidget(self.name)
        declared = settings_of(kind)
        rows = -(-len(declared) // _MANY)
        for place, (field, setting) in enumerate(declared.items()):
            if place and rows > 1 and place % -(-len(declared) // rows) == 0:
                row = self._new_row(outer)
            control = self.controls[field] = control_for(setting, owner)
            on_move(control, partial(self.moved.emit, field))
            if isinstance(control, ValueField):
                control.refused.connect(self.refused)
                control.tie_asked.connect(lambda on, f=field: self.tie_asked.emit(f, on))
            if isinstance(control, Segments) and setting.label:
                label = Label(setting.label)
                label.setObjectName("muted")
                row.addWidget(label)
            row.addWidget(control, 1 if isinstance(control, ValueField) else 0)
        if not any(isinstance(control, ValueField) for control in self.controls.values()):
            row.addStretch(1)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    @staticmethod
    def _new_row(outer: QVBoxLayout) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(10)
        outer.addLayout(row)
        return row

    def show_values(self, values: msgspec.Struct | None, colour=roles.chalk) -> None:
        """Show values; None for a leg that passes."""
        for field, control in self.controls.items():
            control.setEnabled(values is not None)
            if isinstance(control, ValueField | Toggle):
                control.set_colour(colour)
            if values is not None:
                show_on(control, getattr(values, field))


class SideRow(SettingsRow):
    """The settings of one side of a stage, with the name of its component before them."""

    def __init__(self, side: type[msgspec.Struct], leg: LegName) -> None:
        super().__init__(side, leg)
        self.leg = leg
        self.name.setFixedWidth(46)
        self.name.setVisible(len(settings_of(side)) <= _MANY)
        self._labels = {field: setting.label for field, setting in settings_of(side).items()}
        self._unlinked: tuple[str, ...] | None = None
        for field, control in self.controls.items():
            if not isinstance(control, ValueField):
                control.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
                control.customContextMenuRequested.connect(
                    lambda place, f=field, c=control: self._offer_tie(f, c.mapToGlobal(place))
                )

    def _offer_tie(self, field: str, place) -> None:
        if self._unlinked is None:
            return
        menu = QMenu(self)
        tied = field not in self._unlinked
        action = menu.addAction("Linked with the other leg", lambda: self.tie_asked.emit(field, not tied))
        action.setCheckable(True)
        action.setChecked(tied)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(place)

    def show_side(
        self, side: msgspec.Struct | None, component: str, unlinked: tuple[str, ...] | None
    ) -> None:
        """Show values; `unlinked` names what a linked stage does not carry across, None if it is not linked."""
        colour = roles.component(component)
        self._unlinked = unlinked
        self.name.setText(NAMES[component])
        self.name.setStyleSheet(f"color: {colour.name()}; font-weight: bold;")
        self.show_values(side, colour)
        for field, control in self.controls.items():
            control.setAccessibleName(f"{NAMES[component]} {self._labels[field]}")
            if isinstance(control, ValueField):
                control.set_tied(None if unlinked is None else field not in unlinked)


class StageEditor(QWidget):
    """Shows and edits one stage of a document, of any kind that has no editor of its own."""

    refused = Signal(str)
    tie_asked = Signal(str, bool)
    detector_asked = Signal(object)

    def __init__(self, document: Document, kind: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._number = -1
        self._leg: LegName = "upper"
        handles = KINDS[kind].offers.handles
        self.picture = HandlePicture(handles) if handles else ResponsePicture()
        self.view = ViewBar(self.picture)
        self.rows: dict[LegName, SideRow] = {leg: SideRow(KINDS[kind].side, leg) for leg in LEGS}
        shared = shared_type(kind)
        self.shared = SettingsRow(shared, "Shared") if shared is not None else None
        count = len(settings_of(KINDS[kind].side))
        few, self._many = count <= _FEW, count > _MANY
        sides = QHBoxLayout() if few else QVBoxLayout()
        sides.setSpacing(24 if few else 6)
        for leg, row in self.rows.items():
            sides.addWidget(row)
            row.moved.connect(lambda field, value, token, leg=leg: self._put(leg, {field: value}, token))
            row.refused.connect(self.refused)
            row.tie_asked.connect(self.tie_asked)
        last = QHBoxLayout()
        last.setSpacing(24)
        if self.shared is not None:
            self.shared.moved.connect(self._put_shared)
            self.shared.refused.connect(self.refused)
            last.addWidget(self.shared, 1)
        else:
            last.addStretch(1)
        self.detector = Toggle(
            "Hear detector", "Hear the detector", "Hear what the detector of this leg hears, while this is on"
        )
        self.detector.setVisible(KINDS[kind].offers.detector is not None)
        self.detector.clicked.connect(lambda on: self.detector_asked.emit(self._leg if on else None))
        last.addWidget(self.detector)
        last.addWidget(self.view)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addLayout(self._build_pictures(kind), 1)
        layout.addLayout(sides)
        layout.addLayout(last)
        if isinstance(self.picture, HandlePicture):
            self.picture.moved.connect(lambda values, token: self._put(self._leg, values, token))

    def _build_pictures(self, kind: str) -> QHBoxLayout:
        """The response; before it, where level in and out differ, the curve and what it did lately; where the stage
        bends, its curve and what it makes of two tones.
        """
        row = QHBoxLayout()
        row.setSpacing(10)
        self.curve: TransferPicture | None = None
        self.history: HistoryPicture | None = None
        self.tones: TonesPicture | None = None
        offers = KINDS[kind].offers
        if offers.curve is not None and offers.curve_handle is not None:
            self.curve = CurvePicture(offers.curve_handle)
            self.history = HistoryPicture()
            self.picture.show_title("what the detector hears")
            self.picture.setVisible(offers.detector is not None)
            self.view.setVisible(offers.detector is not None)
        elif offers.bend is not None and offers.bend_handle is not None:
            self.curve = BendPicture(offers.bend_handle)
            self.tones = TonesPicture()
        if self.curve is not None:
            self.curve.moved.connect(lambda values, token: self._put(self._leg, values, token))
            row.addWidget(self.curve, 2)
        for picture in (self.history, self.tones):
            if picture is not None:
                row.addWidget(picture, 4)
        row.addWidget(self.picture, 4)
        return row

    @property
    def stage(self) -> Stage | None:
        return self._document.stage(self._number)

    def show_stage(self, number: int, leg: LegName) -> None:
        """Edit a stage, with one leg in front of the picture."""
        if number != self._number and self.history is not None:
            self.history.forget()
        self._number, self._leg = number, leg
        stage = self.stage
        if stage is None:
            return
        split = self._document.strip.split
        if self.curve is not None:
            self.curve.show_stage(stage, leg, split)
        if self.history is not None:
            self.history.show_stage(leg, split)
        self.picture.show_stage(stage, leg, split, self._document.stem.source.rate)
        for name, row in self.rows.items():
            row.setVisible(name == leg or not self._many)
            row.show_side(
                getattr(stage, name), split.component(name), stage.unlinked if stage.linked else None
            )
        if self.shared is not None:
            self.shared.show_values(stage.shared)  # type: ignore[attr-defined]

    def show_spectra(self, spectra: np.ndarray) -> None:
        self.picture.show_spectra(spectra)

    def show_reduction(self, peak_in: np.ndarray, reduction: np.ndarray) -> None:
        """Levels in dBFS that go in (2,) and reductions in dB (2,), while it plays."""
        if self.curve is not None:
            self.curve.show_live(peak_in, reduction)
        if self.history is not None:
            self.history.add(peak_in, reduction)

    def _put(self, leg: LegName, values: dict[str, Any], token: object) -> None:
        stage = self.stage
        if stage is None:
            return
        component = NAMES[self._document.strip.split.component(leg)]
        labels = settings_of(kind_of(stage).side)
        words = ", ".join(labels[field].label.lower() for field in values)
        gesture = None if token is None else (token, self._number, leg, *sorted(values))
        for field, value in values.items():
            stage = put_linked(stage, leg, (field,), value)
        self._document.put_stage(stage, f"{component} {kind_of(stage).label}: {words}", gesture)

    def _put_shared(self, field: str, value: Any, token: object) -> None:
        stage = self.stage
        if stage is not None:
            put_shared(self._document, stage, field, value, token)


def put_shared(document: Document, stage: Any, field: str, value: Any, token: object) -> None:
    """Change one shared setting of a stage."""
    label = settings_of(type(stage.shared))[field].label.lower()
    shared = msgspec.structs.replace(stage.shared, **{field: value})
    gesture = None if token is None else (token, stage.id, field)
    changed = msgspec.structs.replace(stage, shared=shared)
    document.put_stage(changed, f"{kind_of(stage).label}: {label}", gesture)
