"""The editor of an EQ stage: the picture of both legs, the bands of one, and the values of one band."""

from typing import Any

import msgspec
from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.choices import Choice, Toggle
from stonekite.desktop.document import Document
from stonekite.desktop.eq_picture import EqPicture
from stonekite.desktop.fields import ValueField
from stonekite.desktop.stage_editor import SettingsRow, put_shared
from stonekite.desktop.theme import NAMES, font, mixed, roles
from stonekite.desktop.view_bar import ViewBar
from stonekite.session.edits import other, put_linked
from stonekite.session.types import LegName
from stonekite.stages import eq
from stonekite.stages.settings import settings_of

_BAND = settings_of(eq.Band)
_NUMBERS = ("frequency_hz", "gain_db", "q")
_PLACES = 8


class BandRow(QWidget):
    """Places for bands: each shows number, shape, frequency and gain, or a plus where it is free.

    There are eight places until all are used, and then as many again, with fewer words in each.
    """

    slot_chosen = Signal(int)
    add_asked = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setFixedHeight(40)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Bands")
        self.setToolTip(
            "The bands of this leg. Click one to edit it, or a free place to add one (arrow keys, Enter)."
        )
        self._bands: list[eq.Band | None] = [None] * _PLACES
        self._slot = -1
        self._colour = roles.chalk

    def sizeHint(self) -> QSize:
        return QSize(800, 40)

    def show_bands(self, side: eq.EqSide | None, slot: int, colour) -> None:
        bands = list(side.bands) if side else []
        used = sum(band is not None for band in bands)
        places = _PLACES if len(bands) <= _PLACES and used < _PLACES else eq.BANDS
        self._bands = bands + [None] * (places - len(bands))
        self._slot, self._colour = slot, colour
        self.setAccessibleDescription(f"Band {slot + 1} chosen" if slot >= 0 else "no band chosen")
        self.update()

    def cell(self, slot: int) -> QRectF:
        gap = 6 if len(self._bands) == _PLACES else 3
        width = (self.width() + gap) / len(self._bands)
        return QRectF(slot * width, 0, width - gap, self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for slot, band in enumerate(self._bands):
            cell = self.cell(slot).adjusted(0.5, 0.5, -0.5, -0.5)
            chosen = slot == self._slot
            focus = self.hasFocus() and chosen
            border = roles.chalk if focus else (self._colour if chosen and band else roles.line)
            painter.setPen(QPen(border, 1, Qt.PenStyle.SolidLine if band or focus else Qt.PenStyle.DashLine))
            painter.setBrush(roles.raised if chosen and band else roles.panel)
            painter.drawRoundedRect(cell, 6, 6)
            if band is None:
                painter.setPen(roles.chalk if focus else roles.muted)
                painter.setFont(font(10))
                painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, "+")
                continue
            roomy = len(self._bands) == _PLACES
            inner = cell.adjusted(8, 3, -7, -4) if roomy else cell.adjusted(4, 3, -3, -4)
            painter.setFont(font(8.5, bold=True))
            painter.setPen(self._colour if band.on else roles.muted)
            painter.drawText(inner, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, str(slot + 1))
            painter.setPen(roles.chalk if band.on else roles.muted)
            name = eq.SHAPES[band.shape] if band.on else "off"
            if roomy:
                painter.drawText(inner.adjusted(14, 0, 0, 0), Qt.AlignmentFlag.AlignTop, name)
            painter.setFont(font(8))
            painter.setPen(roles.muted if not band.on else mixed(roles.chalk, roles.panel, 0.85))
            bottom = Qt.AlignmentFlag.AlignBottom
            hertz = _BAND["frequency_hz"].shown(band.frequency_hz)
            if not roomy:
                hertz = hertz.removesuffix(" Hz").replace(" kHz", "k")
            painter.drawText(
                inner,
                bottom | Qt.AlignmentFlag.AlignLeft,
                hertz if roomy else hertz.removesuffix(" Hz").replace(" kHz", "k"),
            )
            if band.shape in eq.WITH_GAIN:
                gain = _BAND["gain_db"].shown(band.gain_db).removesuffix(" dB")
                place = bottom if roomy else Qt.AlignmentFlag.AlignTop
                painter.drawText(inner, place | Qt.AlignmentFlag.AlignRight, gain)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for slot, band in enumerate(self._bands):
            if self.cell(slot).contains(event.position()):
                (self.add_asked if band is None else self.slot_chosen).emit(slot)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is not None:
            self.slot_chosen.emit((self._slot + step) % len(self._bands))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._bands[self._slot] is None:
            self.add_asked.emit(max(0, self._slot))
        else:
            super().keyPressEvent(event)


class EqEditor(QWidget):
    """Shows and edits one EQ stage of a document."""

    refused = Signal(str)
    tie_asked = Signal(str, bool)
    match_asked = Signal()
    alone_asked = Signal(object)

    def __init__(self, document: Document, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._number = -1
        self._leg: LegName = "upper"
        self._slots: dict[LegName, int] = {"upper": 0, "lower": 0}
        self.picture = EqPicture()
        self.row = BandRow()
        self.view = ViewBar(self.picture)
        self.shape = Choice(_BAND["shape"], "Band")
        self.slope = Choice(_BAND["slope"], "Band")
        self.on = Toggle("On", "Band on", "Whether the band is heard")
        self.alone = Toggle("Alone", "Band alone", "Hear only the range that this band works on, of this leg")
        self.remove = QPushButton("×")
        self.remove.setAccessibleName("Remove band")
        self.remove.setFixedWidth(28)
        self.remove.setObjectName("small")
        self.remove.setToolTip("Remove this band (Delete in the picture). The others keep their numbers.")
        self.fields = {name: ValueField(_BAND[name], "Band") for name in _NUMBERS}
        values = QHBoxLayout()
        values.setSpacing(12)
        values.addWidget(self.shape)
        values.addWidget(self.slope)
        for field in self.fields.values():
            values.addWidget(field, 1)
        values.addWidget(self.on)
        values.addWidget(self.alone)
        values.addWidget(self.remove)
        self.mix = ValueField(settings_of(eq.EqSide)["mix"], "EQ")
        self.mix.setMaximumWidth(150)
        self.shared = SettingsRow(eq.EqShared, "EQ")
        self.shared.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.match = QPushButton("Match…")
        self.match.setObjectName("small")
        self.match.setToolTip(
            "A starting curve that brings this leg's spectrum to the other leg's, or to a reference's"
        )
        last = QHBoxLayout()
        last.setSpacing(12)
        last.addWidget(self.shared)
        last.addWidget(self.mix, 1)
        last.addWidget(self.match)
        last.addStretch(1)
        last.addWidget(self.view)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addWidget(self.picture, 1)
        layout.addWidget(self.row)
        layout.addLayout(values)
        layout.addLayout(last)
        self.picture.slot_chosen.connect(self.choose)
        self.picture.dragged.connect(self._dragged)
        self.picture.add_asked.connect(self._add_at)
        self.picture.remove_asked.connect(self._remove)
        self.row.slot_chosen.connect(self.choose)
        self.row.add_asked.connect(lambda slot: self._add(slot, eq.Band()))
        self.shape.chosen.connect(lambda shape: self._put("shape", shape))
        self.slope.chosen.connect(lambda slope: self._put("slope", slope))
        self.on.clicked.connect(lambda on: self._put("on", on))
        self.alone.clicked.connect(lambda on: self.alone_asked.emit((self._leg, self.slot) if on else None))
        self.match.clicked.connect(self.match_asked)
        self.mix.moved.connect(self._put_mix)
        self.mix.refused.connect(self.refused)
        self.shared.moved.connect(self._put_shared)
        self.remove.clicked.connect(lambda: self._remove(self.slot))
        for name, field in self.fields.items():
            field.moved.connect(lambda value, token, name=name: self._put(name, value, token))
            field.refused.connect(self.refused)
            field.tie_asked.connect(lambda on, name=name: self.tie_asked.emit(name, on))
        self.mix.tie_asked.connect(lambda on: self.tie_asked.emit("mix", on))

    @property
    def slot(self) -> int:
        return self._slots[self._leg]

    @property
    def stage(self) -> eq.Eq | None:
        stage = self._document.stage(self._number)
        return stage if isinstance(stage, eq.Eq) else None

    def _band(self, slot: int) -> eq.Band | None:
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
        split = self._document.strip.split
        colour = roles.component(split.component(self._leg))
        side = getattr(stage, self._leg)
        band = self._band(self.slot)
        self.picture.show_bands(stage, self._leg, split, self._document.stem.source.rate, self.slot)
        self.row.setEnabled(side is not None)
        self.row.show_bands(side, self.slot, colour)
        shown = band or eq.Band()
        for widget in (self.shape, self.slope, self.on, self.alone, self.remove, *self.fields.values()):
            widget.setEnabled(band is not None)
        self.shape.show_value(shown.shape)
        self.slope.show_value(shown.slope)
        self.slope.setVisible(shown.shape in eq.WITH_SLOPE)
        self.fields["gain_db"].setVisible(shown.shape in eq.WITH_GAIN)
        self.on.setChecked(shown.on)
        self.on.set_colour(colour)
        self.alone.set_colour(colour)
        self.mix.set_colour(colour)
        self.mix.setEnabled(side is not None)
        if side is not None:
            self.mix.show_value(side.mix)
        self.match.setEnabled(side is not None)
        self.shared.show_values(stage.shared)
        for name, field in {**self.fields, "mix": self.mix}.items():
            field.set_tied((name not in stage.unlinked) if stage.linked else None)
        for name, field in self.fields.items():
            field.set_colour(colour)
            field.show_value(getattr(shown, name))
            field.setAccessibleName(
                f"{NAMES[split.component(self._leg)]} band {self.slot + 1} {field.setting.label}"
            )

    def show_spectra(self, spectra) -> None:
        self.picture.show_spectra(spectra)

    def choose(self, slot: int) -> None:
        """Edit another band of this leg."""
        if slot != self.slot and self.alone.isChecked():  # what is heard alone goes along
            self.alone_asked.emit((self._leg, slot))
        self._slots[self._leg] = slot
        self.refresh()

    def _name(self, slot: int) -> str:
        return f"{NAMES[self._document.strip.split.component(self._leg)]} EQ, band {slot + 1}"

    def _put(self, name: str, value: Any, token: object = None) -> None:
        self._dragged(self.slot, {name: value}, token)

    def _put_mix(self, value: float, token: object) -> None:
        stage = self.stage
        if stage is not None and getattr(stage, self._leg) is not None:
            words = f"{NAMES[self._document.strip.split.component(self._leg)]} EQ: mix"
            gesture = None if token is None else (token, self._number, self._leg, "mix")
            self._document.put_in_side(stage, self._leg, ("mix",), value, words, gesture)

    def _put_shared(self, field: str, value: Any, token: object) -> None:
        if self.stage is not None:
            put_shared(self._document, self.stage, field, value, token)

    def use_bands(self, bands: tuple[eq.Band, ...], words: str) -> None:
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
        words = ", ".join(_BAND[name].label.lower() for name in values)
        self._document.put_stage(changed, f"{self._name(slot)}: {words}", gesture)

    def _add_at(self, hertz: float, db: float) -> None:
        for slot in range(eq.BANDS):
            if self._band(slot) is None:
                self._add(slot, eq.Band(frequency_hz=hertz, gain_db=round(_BAND["gain_db"].held(db), 1)))
                return
        self.refused.emit(f"All {eq.BANDS} bands of this leg are in use.")

    def _add(self, slot: int, band: eq.Band) -> None:
        stage = self.stage
        if stage is None or getattr(stage, self._leg) is None:
            return
        legs = (self._leg, other(self._leg)) if stage.linked else (self._leg,)
        self._place(slot, band, legs, f"{self._name(slot)}: added")
        self.choose(slot)

    def _remove(self, slot: int) -> None:
        stage = self.stage
        if stage is None or self._band(slot) is None:
            return
        legs = (self._leg, other(self._leg)) if stage.linked else (self._leg,)
        self._place(slot, None, legs, f"{self._name(slot)}: removed")
        used = [k for k in range(eq.BANDS) if self._band(k) is not None]
        self.choose(min(used, key=lambda k: abs(k - slot), default=0))

    def _place(self, slot: int, band: eq.Band | None, legs: tuple[LegName, ...], words: str) -> None:
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
