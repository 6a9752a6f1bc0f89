"""The row of the bands of one leg, to choose one or add one."""

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.stages.machinery.banded import Bands
from stonekite.stages.settings import settings_of
from stonekite.words import number, said

_PLACES = 8
_LOW_DB = -80.0


class BandRow(Picture):
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
        self.setAccessibleName(said("Bands"))
        self.setToolTip(
            said(
                "The bands of this leg. Click one to edit it, or a free place to add one (arrow keys, Enter)."
            )
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
        self.setAccessibleDescription(
            said("Band {count} chosen").format(count=slot + 1) if slot >= 0 else said("no band chosen")
        )
        self.renew()

    def show_live(self, levels_db: np.ndarray, gains_db: np.ndarray) -> None:
        """Levels that the bands hear and gains that they have now, each (most,) in dB."""
        if self._live is None:  # then what is set is said to be a limit
            self.renew()
        self._live = levels_db, gains_db
        self.update()

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def cell(self, slot: int) -> QRectF:
        gap = 6 if len(self._bands) == _PLACES else 3
        width = (self.width() + gap) / len(self._bands)
        return QRectF(slot * width, 0, width - gap, self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.layer(painter, "cells", self._paint_cells)
        for slot, band in enumerate(self._bands):
            if self._live is not None and band is not None and band.on:
                self._paint_live(painter, slot, band)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.renew()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.renew()

    def _paint_cells(self, painter: QPainter) -> None:
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
            name = self._of.shapes[band.shape] if band.on else said("off")
            if roomy:
                painter.drawText(inner.adjusted(14, 0, 0, 0), Qt.AlignmentFlag.AlignTop, name)
            painter.setFont(font(8))
            painter.setPen(roles.muted if not band.on else mixed(roles.chalk, roles.panel, 0.85))
            bottom = Qt.AlignmentFlag.AlignBottom
            hertz = self._settings["frequency_hz"].shown(band.frequency_hz)
            gain = ""
            if band.shape not in self._of.flat:
                height = self._of.height
                gain = self._settings[height].shown(getattr(band, height)).removesuffix(" dB")
                gain = said("to {gain}").format(gain=gain) if self._live is not None else gain
            beside = painter.fontMetrics().horizontalAdvance(f"{hertz}  {gain}")
            if not roomy or beside > inner.width():
                hertz = hertz.removesuffix(" Hz").replace(" kHz", "k")
            painter.drawText(inner, bottom | Qt.AlignmentFlag.AlignLeft, hertz)
            if gain:
                place = bottom if roomy else Qt.AlignmentFlag.AlignTop
                painter.drawText(inner, place | Qt.AlignmentFlag.AlignRight, gain)

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
