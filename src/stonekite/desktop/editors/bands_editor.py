"""The editor of kinds that are bands: the picture of both legs, the bands of one, and the values of one band."""

from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Choice, Toggle
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.controls.there import there_if
from stonekite.desktop.editors.band_row import BandRow
from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.key_button import BandKey
from stonekite.desktop.editors.rows import SettingsRow
from stonekite.desktop.editors.stage_editor import put_shared
from stonekite.desktop.editors.view_bar import ViewBar
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.bands_picture import BandsPicture
from stonekite.session.edits import other, put_linked
from stonekite.session.types import LEGS, LegName, OneComponent
from stonekite.stages import riding
from stonekite.stages.base import Key
from stonekite.stages.machinery.banded import Bands
from stonekite.stages.registry import KINDS, shared_type
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said

_FIRST = 3
"""So many numbers stand beside the shape; those beyond have a row of their own."""


class BandsEditor(Editor):
    """Edits a stage of a kind whose sides are lists of bands."""

    match_asked = Signal()

    def __init__(self, document: Document, kind: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._number = -1
        self._leg: LegName = "upper"
        self._slots: dict[LegName, int] = {"upper": 0, "lower": 0}
        offers = KINDS[kind].offers
        assert offers.bands is not None
        self._of: Bands = offers.bands
        self._label = KINDS[kind].label
        self._moves = offers.bands_now is not None
        self._settings = settings_of(self._of.band)
        self.picture = BandsPicture(self._of)
        self.row = BandRow(self._of)
        self.view = ViewBar(self.picture)
        self.shape = Choice(self._settings["shape"], said("Band"))
        self.slope = Choice(self._settings["slope"], said("Band")) if self._of.sloped else None
        self.on = Toggle(said("On"), said("Band on"), said("Whether the band is heard"), rides=True)
        own = self._settings.get("hears_leg")
        self.own = (
            Toggle(said("Own leg"), said("Band hears its own leg"), own.help, rides=True) if own else None
        )
        self.key = BandKey(document) if own else None
        """Of a kind whose bands hear by themselves."""
        self.switches: dict[str, Toggle] = {"on": self.on} | (
            {} if self.own is None else {"hears_leg": self.own}
        )
        self.alone = Toggle(
            said("Alone"),
            said("Band alone"),
            said("Hear only the range that this band works on, of this leg"),
        )
        self.remove = QPushButton("×")
        self.remove.setAccessibleName(said("Remove band"))
        self.remove.setFixedWidth(28)
        self.remove.setObjectName("small")
        self.remove.setToolTip(
            said("Remove this band (Delete in the picture). The others keep their numbers.")
        )
        numbers = [name for name, setting in self._settings.items() if isinstance(setting.default, float)]
        self.fields = {name: ValueField(self._settings[name], said("Band")) for name in numbers}
        self.sides = {
            name: ValueField(setting, self._label) for name, setting in settings_of(KINDS[kind].side).items()
        }
        shared = shared_type(kind)
        assert shared is not None
        self.shared = SettingsRow(shared, self._label, rides=True)
        self.shared.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.match = QPushButton(said("Match…"))
        self.match.setObjectName("small")
        self.match.setToolTip(
            said("A starting curve that brings this leg's spectrum to the other leg's, or to a reference's")
        )
        there_if(self.match, kind == "eq")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addWidget(self.picture, 1)
        layout.addWidget(self.row)
        for row in self._rows():
            layout.addLayout(row)
        self._connect()

    def _rows(self) -> list[QHBoxLayout]:
        """The chosen band's values; those of the side and of the stage."""
        fields = list(self.fields.values())
        first = QHBoxLayout()
        first.addWidget(self.shape)
        if self.slope is not None:
            first.addWidget(self.slope)
        for field in fields[:_FIRST]:
            first.addWidget(field, 1)
        for widget in (self.on, self.own, self.key, self.alone, self.remove):
            if widget is not None:
                first.addWidget(widget)
        rows = [first]
        if fields[_FIRST:]:
            more = QHBoxLayout()
            for field in [*fields[_FIRST:], *self.sides.values()]:
                more.addWidget(field, 1)
            rows.append(more)
        last = QHBoxLayout()
        last.addWidget(self.shared)
        if len(rows) == 1:  # there is room for what the leg has besides its bands
            for field in self.sides.values():
                field.setMaximumWidth(170)
                last.addWidget(field, 1)
        last.addWidget(self.match)
        last.addStretch(1)
        last.addWidget(self.view)
        rows.append(last)
        for row in rows:
            row.setSpacing(12)
        return rows

    def _connect(self) -> None:
        self.picture.slot_chosen.connect(self.choose)
        self.picture.dragged.connect(self._dragged)
        self.picture.add_asked.connect(self._add_at)
        self.picture.remove_asked.connect(self._remove)
        self.row.slot_chosen.connect(self.choose)
        self.row.add_asked.connect(lambda slot: self._add(slot, self._of.band()))
        self.shape.chosen.connect(lambda shape: self._put("shape", shape))
        if self.slope is not None:
            self.slope.chosen.connect(lambda slope: self._put("slope", slope))
        if self.key is not None:
            self.key.chosen.connect(self._put_key)
        for name, switch in self.switches.items():
            switch.clicked.connect(lambda on, name=name: self._put(name, on))
        self.alone.clicked.connect(lambda on: self.alone_asked.emit((self._leg, self.slot) if on else None))
        self.match.clicked.connect(self.match_asked)
        self.shared.moved.connect(self._put_shared)
        self.shared.refused.connect(self.refused)
        self.remove.clicked.connect(lambda: self._remove(self.slot))
        for name, field in self.fields.items():
            field.moved.connect(lambda value, token, name=name: self._put(name, value, token))
        for name, field in self.sides.items():
            field.moved.connect(lambda value, token, name=name: self._put_side(name, value, token))
        for name, field in {**self.fields, **self.sides}.items():
            field.refused.connect(self.refused)
            field.tie_asked.connect(lambda on, name=name: self.tie_asked.emit(name, on))
        self.shared.ride_asked.connect(lambda name: self.ride_asked.emit(f"shared.{name}"))
        of_band: dict[str, ValueField | Toggle] = {**self.fields, **self.switches}
        for name, control in of_band.items():
            control.ride_asked.connect(
                lambda name=name: self.ride_asked.emit(f"{self._leg}.bands.{self.slot}.{name}")
            )
        for name, field in self.sides.items():
            field.ride_asked.connect(lambda name=name: self.ride_asked.emit(f"{self._leg}.{name}"))

    @property
    def slot(self) -> int:
        return self._slots[self._leg]

    @property
    def stage(self) -> Any:
        """The stage that is edited, if it is there."""
        return self._document.stage(self._number)

    def _band(self, slot: int) -> Any:
        stage = self.stage
        side = getattr(stage, self._leg) if stage is not None else None
        return side.bands[slot] if side is not None and 0 <= slot < len(side.bands) else None

    def show_stage(self, number: int, leg: LegName) -> None:
        """Edit a stage, with one leg in front."""
        self._number, self._leg = number, leg
        self.refresh()

    def refresh(self) -> None:
        """Show the document's values."""
        stage = self.stage
        if stage is None:
            return
        split = self._document.split_of(self._number)
        colour = roles.component(split.component(self._leg))
        side = getattr(stage, self._leg)
        band = self._band(self.slot)
        self.picture.show_bands(stage, self._leg, split, self._document.stem.source.rate, self.slot)
        self.row.setEnabled(side is not None)
        self.row.show_bands(side, self.slot, colour)
        shown: Any = band or self._of.band()
        for widget in (self.shape, self.on, self.alone, self.remove, *self.fields.values()):
            widget.setEnabled(band is not None)
        self.shape.show_value(shown.shape)
        if self.slope is not None:
            self.slope.setEnabled(band is not None)
            self.slope.show_value(shown.slope)
            self.slope.setVisible(shown.shape in self._of.sloped)
        self.fields[self._of.height].setVisible(shown.shape not in self._of.flat)
        self.on.setChecked(shown.on)
        if self.own is not None:
            self.own.setVisible(stage.key is not None or shown.key is not None)
            self.own.setEnabled(band is not None)
            self.own.setChecked(shown.hears_leg)
            self.own.set_colour(colour)
        if self.key is not None:
            self.key.show_band(self._leg, band)
        self.on.set_colour(colour)
        self.alone.set_colour(colour)
        component = NAMES[split.component(self._leg)]
        for name, field in self.sides.items():
            field.set_colour(colour)
            field.setEnabled(side is not None)
            field.setAccessibleName(f"{component} {field.setting.label}")
            if side is not None:
                field.show_value(getattr(side, name))
        self.match.setEnabled(side is not None)
        self.shared.show_ridden(riding.ridden(stage, "shared."))
        self.shared.show_values(stage.shared, both=not isinstance(split, OneComponent))
        for name, field in {**self.fields, **self.sides}.items():
            field.set_tied((name not in stage.unlinked) if stage.linked else None)
        both: list[tuple[str, dict[str, ValueField | Toggle]]] = [
            (f"{self._leg}.bands.{self.slot}.", {**self.fields, **self.switches}),
            (f"{self._leg}.", {**self.sides}),
        ]
        for before, fields in both:
            ridden = riding.ridden(stage, before)
            for name, control in fields.items():
                control.set_ridden(name in ridden)
        for name, field in self.fields.items():
            field.set_colour(colour)
            field.show_value(getattr(shown, name))
            field.setAccessibleName(
                said("{component} band {count} {label}").format(
                    component=component, count=self.slot + 1, label=field.setting.label
                )
            )

    def show_heard(self, what: str | None) -> None:
        self.alone.setChecked(what == "band")

    def show_live(self, status: np.void) -> None:
        self.picture.show_spectra(np.asarray(status["spectra"]))
        if self._moves:
            row = LEGS.index(self._leg)
            levels_db, gains_db = np.array(status["band_levels"]), np.array(status["band_gains"])
            self.row.show_live(levels_db[row], gains_db[row])
            self.picture.show_gains(gains_db)

    def choose(self, slot: int) -> None:
        """Edit another band of this leg."""
        if slot != self.slot and self.alone.isChecked():  # what is heard alone goes along
            self.alone_asked.emit((self._leg, slot))
        self._slots[self._leg] = slot
        self.refresh()

    def _name(self, slot: int) -> str:
        return said("{name} {label}, band {count}").format(
            name=NAMES[self._document.split_of(self._number).component(self._leg)],
            label=self._label,
            count=slot + 1,
        )

    def _put(self, name: str, value: Any, token: object = None) -> None:
        self._dragged(self.slot, {name: value}, token)

    def _put_key(self, key: Key | None) -> None:
        """Have the band in hand, and its linked one, hear another strip; a circle is refused with a sentence."""
        stage = self.stage
        if stage is None or self._band(self.slot) is None:
            return
        changed = put_linked(stage, self._leg, ("bands", self.slot, "key"), key)
        try:
            self._document.put_stage(changed, said("{band}: hears").format(band=self._name(self.slot)))
        except ValueError as error:
            self.refused.emit(str(error))

    def _put_side(self, name: str, value: float, token: object) -> None:
        stage = self.stage
        if stage is not None and getattr(stage, self._leg) is not None:
            component = NAMES[self._document.split_of(self._number).component(self._leg)]
            words = f"{component} {self._label}: {self.sides[name].setting.label.lower()}"
            gesture = None if token is None else (token, self._number, self._leg, name)
            self._document.put_in_side(stage, self._leg, (name,), value, words, gesture)

    def _put_shared(self, field: str, value: Any, token: object) -> None:
        if self.stage is not None:
            put_shared(self._document, self.stage, field, value, token)

    def use_bands(self, bands: tuple[Any, ...], words: str) -> None:
        """Replace the bands of the leg in front."""
        stage = self.stage
        side = getattr(stage, self._leg) if stage is not None else None
        if stage is not None and side is not None:
            side = msgspec.structs.replace(side, bands=bands)
            self._slots[self._leg] = 0
            self._document.put_stage(msgspec.structs.replace(stage, **{self._leg: side}), words)

    def _dragged(self, slot: int, values: dict[str, Any], token: object = None) -> None:
        stage, band = self.stage, self._band(slot)
        if stage is None or band is None:
            return
        gesture = None if token is None else (token, self._number, self._leg, slot, *sorted(values))
        changed = stage
        for name, value in values.items():
            changed = put_linked(changed, self._leg, ("bands", slot, name), value)
        words = ", ".join(self._settings[name].label.lower() for name in values)
        self._document.put_stage(changed, f"{self._name(slot)}: {words}", gesture)

    def _add_at(self, hertz: float, db: float) -> None:
        height = self._of.height
        for slot in range(self._of.most):
            if self._band(slot) is None:
                values = {"frequency_hz": hertz, height: round(self._settings[height].held(db), 1)}
                self._add(slot, self._of.band(**values))
                return
        self.refused.emit(said("All {most} bands of this leg are in use.").format(most=self._of.most))

    def _add(self, slot: int, band: Any) -> None:
        stage = self.stage
        if stage is None or getattr(stage, self._leg) is None:
            return
        legs = (self._leg, other(self._leg)) if stage.linked else (self._leg,)
        self._place(slot, band, legs, said("{slot}: added").format(slot=self._name(slot)))
        self.choose(slot)

    def _remove(self, slot: int) -> None:
        stage = self.stage
        if stage is None or self._band(slot) is None:
            return
        legs = (self._leg, other(self._leg)) if stage.linked else (self._leg,)
        self._place(slot, None, legs, said("{slot}: removed").format(slot=self._name(slot)))
        used = [k for k in range(self._of.most) if self._band(k) is not None]
        self.choose(min(used, key=lambda k: abs(k - slot), default=0))

    def _place(self, slot: int, band: Any, legs: tuple[LegName, ...], words: str) -> None:
        """Put a band into a slot of each leg, or take it out; a linked leg's own band there stays."""
        stage = self.stage
        assert stage is not None
        for leg in legs:
            side = getattr(stage, leg)
            if side is None:
                continue
            bands = list(side.bands) + [None] * (slot + 1 - len(side.bands))
            if band is not None and bands[slot] is not None:
                continue
            bands[slot] = band
            while bands and bands[-1] is None:
                bands.pop()
            side = msgspec.structs.replace(side, bands=tuple(bands))
            stage = msgspec.structs.replace(stage, **{leg: side})
        self._document.put_stage(stage, words)
