"""The editor of kinds that are bands: the picture of both legs, the bands of one, and the values of one band."""

from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Choice, Toggle
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.rows import SettingsRow
from stonekite.desktop.editors.stage_editor import put_shared
from stonekite.desktop.editors.view_bar import ViewBar
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.bands_picture import BandsPicture
from stonekite.session.edits import other, put_linked
from stonekite.session.types import LEGS, LegName, OneComponent
from stonekite.stages.banded import Bands
from stonekite.stages.registry import KINDS, shared_type
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, number

_PLACES = 8
_FIRST = 3
"""So many numbers stand beside the shape; those beyond have a row of their own."""
_LOW_DB = -80.0


class BandRow(QWidget):
    """Places for bands: each shows number, shape, frequency and gain, or a plus where it is free.

    There are eight places until all are used, and then as many again, with fewer words in each.
    """

    slot_chosen = Signal(int)
    add_asked = Signal(int)

    def __init__(self, bands: Bands, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._of = bands
        self._settings = settings_of(bands.band)
        self._live: tuple[np.ndarray, np.ndarray] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setFixedHeight(40)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Bands")
        self.setToolTip(
            "The bands of this leg. Click one to edit it, or a free place to add one (arrow keys, Enter)."
        )
        self._bands: list[Any] = [None] * _PLACES
        self._slot = -1
        self._colour = roles.chalk

    def sizeHint(self) -> QSize:
        return QSize(800, 40)

    def show_bands(self, side: Any, slot: int, colour) -> None:
        bands = list(side.bands) if side else []
        used = sum(band is not None for band in bands)
        most = self._of.most
        places = _PLACES if most == _PLACES or (len(bands) <= _PLACES and used < _PLACES) else most
        self._bands = bands + [None] * (places - len(bands))
        self._slot, self._colour = slot, colour
        self.setAccessibleDescription(f"Band {slot + 1} chosen" if slot >= 0 else "no band chosen")
        self.update()

    def show_live(self, levels_db: np.ndarray, gains_db: np.ndarray) -> None:
        """Levels that the bands hear and gains that they have now, each (most,) in dB."""
        self._live = levels_db, gains_db
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
            name = self._of.shapes[band.shape] if band.on else "off"
            if roomy:
                painter.drawText(inner.adjusted(14, 0, 0, 0), Qt.AlignmentFlag.AlignTop, name)
            painter.setFont(font(8))
            painter.setPen(roles.muted if not band.on else mixed(roles.chalk, roles.panel, 0.85))
            bottom = Qt.AlignmentFlag.AlignBottom
            hertz = self._settings["frequency_hz"].shown(band.frequency_hz)
            if not roomy:
                hertz = hertz.removesuffix(" Hz").replace(" kHz", "k")
            painter.drawText(
                inner,
                bottom | Qt.AlignmentFlag.AlignLeft,
                hertz if roomy else hertz.removesuffix(" Hz").replace(" kHz", "k"),
            )
            if band.shape not in self._of.flat:
                height = self._of.height
                gain = self._settings[height].shown(getattr(band, height)).removesuffix(" dB")
                gain = f"to {gain}" if self._live is not None else gain
                place = bottom if roomy else Qt.AlignmentFlag.AlignTop
                painter.drawText(inner, place | Qt.AlignmentFlag.AlignRight, gain)
            if self._live is not None and band.on:
                self._paint_live(painter, slot, band)

    def _paint_live(self, painter: QPainter, slot: int, band) -> None:
        """Along the lower edge the level that the band hears, with a mark at its threshold; above, its gain now."""
        assert self._live is not None
        cell = self.cell(slot).adjusted(7, 0, -7, 0)

        def x_of(db: float) -> float:
            return cell.left() + cell.width() * min(1.0, max(0.0, 1.0 - db / _LOW_DB))

        level, gain = float(self._live[0][slot]), float(self._live[1][slot])
        y = cell.bottom() - 3.5
        painter.setPen(QPen(roles.line, 2))
        painter.drawLine(QPointF(cell.left(), y), QPointF(cell.right(), y))
        painter.setPen(QPen(self._colour, 2))
        if level > _LOW_DB:
            painter.drawLine(QPointF(cell.left(), y), QPointF(x_of(level), y))
        mark = x_of(band.threshold_db)
        painter.setPen(QPen(roles.chalk, 1))
        painter.drawLine(QPointF(mark, y - 3), QPointF(mark, y + 2.5))
        if abs(gain) >= 0.05:
            painter.setFont(font(8.5, bold=True))
            painter.drawText(
                self.cell(slot).adjusted(8, 3, -7, -4),
                Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight,
                number(gain, sign=True),
            )

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
        self.shape = Choice(self._settings["shape"], "Band")
        self.slope = Choice(self._settings["slope"], "Band") if self._of.sloped else None
        self.on = Toggle("On", "Band on", "Whether the band is heard")
        self.alone = Toggle("Alone", "Band alone", "Hear only the range that this band works on, of this leg")
        self.remove = QPushButton("×")
        self.remove.setAccessibleName("Remove band")
        self.remove.setFixedWidth(28)
        self.remove.setObjectName("small")
        self.remove.setToolTip("Remove this band (Delete in the picture). The others keep their numbers.")
        numbers = [name for name, setting in self._settings.items() if isinstance(setting.default, float)]
        self.fields = {name: ValueField(self._settings[name], "Band") for name in numbers}
        self.sides = {
            name: ValueField(setting, self._label) for name, setting in settings_of(KINDS[kind].side).items()
        }
        shared = shared_type(kind)
        assert shared is not None
        self.shared = SettingsRow(shared, self._label)
        self.shared.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.match = QPushButton("Match…")
        self.match.setObjectName("small")
        self.match.setToolTip(
            "A starting curve that brings this leg's spectrum to the other leg's, or to a reference's"
        )
        self.match.setVisible(kind == "eq")
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
        for widget in (self.on, self.alone, self.remove):
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
        self.on.clicked.connect(lambda on: self._put("on", on))
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
        self.shared.show_values(stage.shared, both=not isinstance(split, OneComponent))
        for name, field in {**self.fields, **self.sides}.items():
            field.set_tied((name not in stage.unlinked) if stage.linked else None)
        for name, field in self.fields.items():
            field.set_colour(colour)
            field.show_value(getattr(shown, name))
            field.setAccessibleName(f"{component} band {self.slot + 1} {field.setting.label}")

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
        return f"{NAMES[self._document.split_of(self._number).component(self._leg)]} {self._label}, band {slot + 1}"

    def _put(self, name: str, value: Any, token: object = None) -> None:
        self._dragged(self.slot, {name: value}, token)

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
        self.refused.emit(f"All {self._of.most} bands of this leg are in use.")

    def _add(self, slot: int, band: Any) -> None:
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
