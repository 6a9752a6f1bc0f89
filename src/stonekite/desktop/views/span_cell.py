"""A stem on the timeline of the mix: moved by its middle, trimmed by its ends, stepped by keys."""

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import faded, font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.timeline.waveforms import Waveforms
from stonekite.desktop.views.mix_cells import hue
from stonekite.session.mix.spans import Hold, Span, dragged, on_frames, snapped, span_of
from stonekite.session.timing import nearest_beat
from stonekite.session.types import Stem, Tempo
from stonekite.words import clock, said

_EDGE, _REACH, _STILL = 6.0, 8.0, 3.0
"""Pixels: an end is taken hold of, comes to what is near, and a press is a click."""
STEP_S, FINE_S = 0.1, 0.01


@dataclass(frozen=True)
class Stretch:
    """What all cells show: a range of the timeline, and what ends of stems come to there."""

    start_s: float = 0.0
    stop_s: float = 1.0
    rate: int = 48_000
    marks: tuple[tuple[int, float], ...] = ()
    """Times, each with the id of the stem that it is an end of, or 0."""
    tempo: Tempo | None = None

    def x_of(self, seconds: float, width: float) -> float:
        return (seconds - self.start_s) / (self.stop_s - self.start_s) * width

    def time_at(self, x: float, width: float) -> float:
        return self.start_s + x / width * (self.stop_s - self.start_s)

    def near(self, number: int, seconds: float) -> list[float]:
        """What an end of a stem can come to about a time."""
        beat = [] if self.tempo is None else [nearest_beat(self.tempo, seconds)]
        return [mark for owner, mark in self.marks if owner != number] + beat


class SpanCell(Picture):
    """`moved` gives the times that a stem is to have, `seek_asked` a time, `times_asked` wants to type them, `menu_asked`
    where on the screen all else is asked for, `chosen` whether others stay chosen with it."""

    moved = Signal(object)
    seek_asked = Signal(float)
    times_asked = Signal()
    menu_asked = Signal(object)
    chosen = Signal(bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._stem: Stem | None = None
        self._overview: np.ndarray | None = None
        self._waves: Waveforms | None = None
        self._stretch = Stretch()
        self._position = 0.0
        self._drag: tuple[Hold, float, Span] | None = None
        self._draft: Span | None = None
        self._snaps = False
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setToolTip(
            said(
                "Drag it to move it, its ends to trim it: they come to other ends, sections, beats and the play position "
                "(Alt: anywhere; Esc: as it was). Click: go there. Double-click or Enter: type its times.\n"
                "Left, right: step (Shift: fine); with Ctrl its end, with Alt its beginning."
            )
        )

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def show_stem(self, stem: Stem, overview: np.ndarray | None, stretch: Stretch) -> None:
        """Show a stem as it is now, in what all cells show."""
        if stem is not self._stem or overview is not self._overview or stretch != self._stretch:
            if overview is not self._overview:
                self._waves = None if overview is None else Waveforms(overview[None])
            self._stem, self._overview, self._stretch = stem, overview, stretch
            span = span_of(stem)
            self.setAccessibleName(said("{name} on the timeline").format(name=stem.name))
            self.setAccessibleDescription(f"{clock(span.start_s, 3)} – {clock(span.end_s, 3)}")
            self.renew()

    def follow(self, position_s: float) -> None:
        """Move the play position."""
        if round(self._x_of(position_s)) != round(self._x_of(self._position)):
            self._position = position_s
            self.update()

    def _x_of(self, seconds: float) -> float:
        return self._stretch.x_of(seconds, self.width())

    def box_of(self, span: Span) -> QRectF:
        """Where a span is."""
        left, right = self._x_of(span.start_s), self._x_of(span.end_s)
        return QRectF(left, 6, max(2.0, right - left), self.height() - 12)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "stem", self._paint, roles.ground)
        x = round(self._x_of(self._position))
        if 0 <= x <= self.width():
            painter.fillRect(QRectF(x - 0.5, 0, 2, self.height()), faded(roles.chalk, 0.8))
        if self._draft is not None:
            self._paint_draft(painter, self._draft)
        self.frame(painter)

    def _paint(self, painter: QPainter) -> None:
        if self._stem is None:
            return
        box = self.box_of(span_of(self._stem))
        colour = hue(self._stem.hue)
        painter.setPen(QPen(colour, 1))
        painter.setBrush(mixed(colour, roles.ground, 0.22))
        painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        if self._waves is not None:
            self._paint_wave(painter, self._stem, self._waves, box)

    def _paint_wave(self, painter: QPainter, stem: Stem, waves: Waveforms, box: QRectF) -> None:
        first, last = max(0, int(box.left())), min(self.width(), int(np.ceil(box.right())))
        peak = float(waves.peaks[0])
        if last <= first or not peak:
            return
        ahead = stem.from_s - stem.start_s
        shares = [
            min(1.0, max(0.0, (self._stretch.time_at(x, self.width()) + ahead) / self._whole_s))
            for x in (first, last)
        ]
        low, high = waves.columns(0, shares[0], shares[1], last - first)
        middle, reach = box.center().y(), (box.height() / 2 - 3) / peak
        top = middle - high * reach
        bottom = np.maximum(middle - low * reach, top + 0.8)
        there = np.arange(first, last) + 0.5
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setClipRect(box)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(mixed(hue(stem.hue), roles.ground, 0.8))
        painter.drawPolygon(
            polyline(np.concatenate([there, there[::-1]]), np.concatenate([top, bottom[::-1]]))
        )

    def _paint_draft(self, painter: QPainter, draft: Span) -> None:
        box = self.box_of(draft)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(faded(roles.chalk, 0.12))
        painter.setPen(QPen(roles.chalk, 1.5 if self._snaps else 1, Qt.PenStyle.SolidLine))
        painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        painter.setFont(font(8.5, bold=True))
        words = f"{clock(draft.start_s, 3)} – {clock(draft.end_s, 3)}"
        wide = painter.fontMetrics().horizontalAdvance(words) + 10
        left = min(max(0.0, box.left()), max(0.0, self.width() - wide))
        label = QRectF(left, self.height() / 2 - 9, wide, 18)
        painter.fillRect(label, faded(roles.ground, 0.85))
        painter.setPen(roles.chalk)
        painter.drawText(label, Qt.AlignmentFlag.AlignCenter, words)

    # Mouse

    def hold_at(self, place: QPointF) -> Hold | None:
        """What a drag takes hold of there: an end has a few pixels, but never more than a third of the stem."""
        if self._stem is None:
            return None
        box = self.box_of(span_of(self._stem))
        edge = min(_EDGE, box.width() / 3)
        if not box.left() - edge <= place.x() <= box.right() + edge:
            return None
        if place.x() < box.left() + edge:
            return "start"
        return "end" if place.x() > box.right() - edge else "middle"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self._stem is None:
            return
        self.chosen.emit(bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        hold = self.hold_at(event.position())
        self._drag = (hold or "middle", event.position().x(), span_of(self._stem))
        self._draft = None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None or self._stem is None:
            hold = self.hold_at(event.position())
            ends = Qt.CursorShape.SizeHorCursor
            self.setCursor(
                {None: Qt.CursorShape.ArrowCursor, "middle": Qt.CursorShape.OpenHandCursor}.get(hold, ends)
            )
            return
        hold, from_x, span = self._drag
        by_px = event.position().x() - from_x
        if self._draft is None and (abs(by_px) < _STILL or self.hold_at(QPointF(from_x, 0)) is None):
            return
        stretch = self._stretch
        per_px = (stretch.stop_s - stretch.start_s) / self.width()
        by_s = wanted = by_px * per_px
        if not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            held_s = span.end_s if hold == "end" else span.start_s
            marks = [*stretch.near(self._stem.id, held_s + by_s), self._position]
            by_s = snapped(span, hold, wanted, marks, _REACH * per_px)
        self._snaps = by_s != wanted
        self._draft = self._kept(dragged(span, self._whole_s, hold, by_s))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, draft = self._drag, self._draft
        self._drag = self._draft = None
        self.update()
        if drag is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if draft is None:
            self.seek_asked.emit(max(0.0, self._stretch.time_at(event.position().x(), self.width())))
        elif draft != drag[2]:
            self.moved.emit(draft)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.hold_at(event.position()) is not None:
            self._drag = None
            self.times_asked.emit()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu_asked.emit(event.globalPos())

    @property
    def _whole_s(self) -> float:
        assert self._stem is not None
        return self._stem.source.frames / self._stem.source.rate

    def _kept(self, span: Span) -> Span:
        return on_frames(span, self._stretch.rate)

    # Keys

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, held = event.key(), event.modifiers()
        if key == Qt.Key.Key_Escape and self._drag is not None:
            self._drag = self._draft = None
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.times_asked.emit()
        elif key == Qt.Key.Key_Menu:
            self.menu_asked.emit(self.mapToGlobal(QPoint(0, self.height())))
        elif self._stem is not None and key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = FINE_S if held & Qt.KeyboardModifier.ShiftModifier else STEP_S
            hold: Hold = "middle"
            if held & Qt.KeyboardModifier.ControlModifier:
                hold = "end"
            elif held & Qt.KeyboardModifier.AltModifier:
                hold = "start"
            self._step(hold, step if key == Qt.Key.Key_Right else -step)
        else:
            super().keyPressEvent(event)

    def _step(self, hold: Hold, by_s: float) -> None:
        assert self._stem is not None
        span = span_of(self._stem)
        stepped = self._kept(dragged(span, self._whole_s, hold, by_s))
        if stepped != span:
            self.moved.emit(stepped)


class SpanHead(QWidget):
    """The times over the cells."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._stretch = Stretch()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(16)
        self.setAccessibleName(said("Times"))

    def show_stretch(self, stretch: Stretch) -> None:
        if stretch != self._stretch:
            self._stretch = stretch
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(font(8))
        span = self._stretch.stop_s - self._stretch.start_s
        least = span / max(1.0, self.width() / 80)
        steps = (0.001, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1200, 3600)
        step = next((one for one in steps if one >= least), steps[-1])
        digits = 0 if step >= 1 else len(str(step)) - 2
        for k in range(int(np.ceil(self._stretch.start_s / step)), int(self._stretch.stop_s / step) + 1):
            x = round(self._stretch.x_of(k * step, self.width())) + 0.5
            painter.setPen(roles.line)
            painter.drawLine(QPointF(x, 11), QPointF(x, self.height()))
            painter.setPen(roles.muted)
            left = min(max(0.0, x - 40), self.width() - 80)
            align = Qt.AlignmentFlag.AlignHCenter
            if x < 40 or x > self.width() - 40:
                align = Qt.AlignmentFlag.AlignLeft if x < 40 else Qt.AlignmentFlag.AlignRight
            painter.drawText(QRectF(left, 0, 80, 12), align, clock(k * step, digits))
