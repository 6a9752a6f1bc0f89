"""The timeline: both components' waveforms before and after, play position and loop."""

from math import floor, log10

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import faded, font, mixed, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.timeline.waveforms import Waveforms
from stonekite.session.timing import beat_at, nearest_beat
from stonekite.session.types import LEGS, Split, Tempo
from stonekite.signal.matrix import COMPONENTS
from stonekite.words import NAMES, clock, said

MIN_SPAN_S = 0.5
_EDGE = 6
_FOOT, _MARK = 18, 9
"""Pixels of the row of times, and of the mark above it where something was learned."""


class Timeline(Picture):
    """Times are in seconds. Click to seek, drag to loop, wheel to zoom, Shift and wheel to scroll.

    `learn_asked` has the range (start, end) that the open stage is to learn from.
    """

    learn_asked = Signal(object)
    seek_asked = Signal(float)
    loop_asked = Signal(object)
    beat_picked = Signal(float)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(52)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(said("Timeline"))
        self.setToolTip(
            said(
                "Click: go there. Drag: loop a range, on beats where there are any (Alt: anywhere); drag its "
                "ends to change it, double-click: no loop.\nDrag the mark of what a stage has learned, or its "
                "ends: learn from there.\nWheel: zoom (+ and −). Shift+wheel: scroll. 0: whole file. Left, right: "
                "step. Home, end."
            )
        )
        self._length = 1.0
        self._view = (0.0, 1.0)
        self._split = Split()
        self._before: Waveforms | None = None
        self._after: Waveforms | None = None
        self._position = 0.0
        self._loop: tuple[float, float] | None = None
        self._learned: tuple[float, float] | None = None
        self._learned_words = ""
        self._drag: tuple[str, float] | None = None
        self._tempo: Tempo | None = None
        self._picking = False
        self._draft: tuple[float, float] | None = None

    def sizeHint(self) -> QSize:
        return QSize(900, 130)

    def show_recording(self, length_s: float) -> None:
        """Begin with another recording: no waveforms yet, the whole of it in view."""
        self._length = max(length_s, 1e-3)
        self._view = (0.0, self._length)
        self._before = self._after = None
        self._position, self._loop = 0.0, None
        self.renew()

    def show_other(self, length_s: float) -> None:
        """The recording is another one, or longer: no waveforms yet, and as much of it in view as there was."""
        whole = self._view == (0.0, self._length)
        view, position, loop = self._view, self._position, self._loop
        self.show_recording(length_s)
        self._position, self._loop = min(position, self._length), loop
        if not whole:
            self._look(*view)

    def show_tempo(self, tempo: Tempo | None) -> None:
        """Draw beats and bars, which loops snap to; None for no music that has any."""
        if tempo != self._tempo:
            self._tempo = tempo
            self.renew()

    def pick_beat(self) -> None:
        """The next click says where the first beat is."""
        self._picking = True
        self.setCursor(Qt.CursorShape.CrossCursor)

    def snapped(self, seconds: float) -> float:
        """The beat that is near to a time, as far as beats can be told apart; otherwise the time itself."""
        if self._tempo is None or self._beat_width() < 8.0:
            return seconds
        near = nearest_beat(self._tempo, seconds)
        close = abs(self.x_of(near) - self.x_of(seconds)) < min(12.0, 0.5 * self._beat_width())
        return min(self._length, near) if close else seconds

    def _beat_width(self) -> float:
        """Pixels of a beat."""
        assert self._tempo is not None
        return 60.0 / self._tempo.bpm / self._span * self.width()

    def show_split(self, split: Split) -> None:
        """Which two components are drawn."""
        if split.mode != self._split.mode:
            self._split = split
            self.renew()

    def show_before(self, table: np.ndarray) -> None:
        """Overview (4, 2, n) of the unprocessed components."""
        self._before = Waveforms(table)
        self.renew()

    def show_after(self, table: np.ndarray | None) -> None:
        """Overview (4, 2, n) of the processed components; None while it is not known."""
        self._after = Waveforms(table) if table is not None else None
        self.renew()

    def show_position(self, seconds: float) -> None:
        """Move the play position; repaints only the two strips that change."""
        if abs(seconds - self._position) * self.width() / self._span < 0.25:
            return
        old, self._position = self.x_of(self._position), seconds
        new = self.x_of(seconds)
        for x in (old, new):
            self.update(int(x) - 6, 0, 13, self.height())

    def show_loop(self, loop: tuple[float, float] | None) -> None:
        if loop != self._loop:
            self._loop = loop
            self.update()

    def show_learned(self, learned: tuple[float, float] | None, what: str = "") -> None:
        """Mark what the open stage has learned from, and in a word what; None for nothing."""
        self._learned_words = f"{what} learned"
        if learned != self._learned:
            lanes_change = (learned is None) != (self._learned is None)
            self._learned = learned
            if lanes_change:  # they make room for the mark
                self.renew()
            self.update()

    def follow(self) -> None:
        """Turn the page when the play position leaves the view."""
        start, stop = self._view
        if self._drag is None and not start <= self._position <= stop:
            self._look(self._position, self._position + self._span)

    @property
    def _span(self) -> float:
        return self._view[1] - self._view[0]

    @property
    def view(self) -> tuple[float, float]:
        """The range in view."""
        return self._view

    def _look(self, start: float, stop: float) -> None:
        span = min(self._length, max(min(MIN_SPAN_S, self._length), stop - start))
        start = min(max(0.0, start), self._length - span)
        self._view = (start, start + span)
        self.renew()

    def zoom(self, factor: float, around: float | None = None) -> None:
        """Show `factor` times as much, keeping one time where it is."""
        start, stop = self._view
        anchor = self._position if around is None else around
        anchor = min(max(anchor, start), stop)
        self._look(anchor - (anchor - start) * factor, anchor + (stop - anchor) * factor)

    def show_all(self) -> None:
        self._look(0.0, self._length)

    def x_of(self, seconds: float) -> float:
        return (seconds - self._view[0]) / self._span * self.width()

    def time_at(self, x: float) -> float:
        return min(self._length, max(0.0, self._view[0] + x / self.width() * self._span))

    # Painting: waveforms stand in a pixmap, position and loop above it.

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "waveforms", self._paint_waveforms, roles.ground)
        learning = self._drag is not None and self._drag[0] in ("learned", "learned edge")
        self._paint_learned(painter, self._draft if learning and self._draft else self._learned)
        loop = self._loop if learning else self._draft or self._loop
        if loop is not None:
            left, right = self.x_of(loop[0]), self.x_of(loop[1])
            painter.fillRect(QRectF(left, 0, right - left, self.height() - _FOOT), faded(roles.chalk, 0.10))
            painter.setPen(QPen(roles.chalk, 1, Qt.PenStyle.DashLine))
            for x in (left, right):
                painter.drawLine(QPointF(round(x) + 0.5, 0), QPointF(round(x) + 0.5, self.height() - _FOOT))
        x = self.x_of(self._position)
        painter.fillRect(QRectF(round(x) - 0.5, 0, 2, self.height() - 16), roles.chalk)
        if self.hasFocus():
            painter.setPen(QPen(faded(roles.chalk, 0.6), 1, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def mark_of(self, learned: tuple[float, float]) -> QRectF:
        """Where the mark of a range that was learned stands, and is taken hold of."""
        left, right = self.x_of(learned[0]), self.x_of(learned[1])
        return QRectF(left, self.height() - _FOOT - _MARK, right - left, _MARK)

    def _paint_learned(self, painter: QPainter, learned: tuple[float, float] | None) -> None:
        if learned is None:
            return
        mark = self.mark_of(learned)
        painter.fillRect(mark, mixed(roles.muted, roles.ground, 0.85))
        painter.setPen(QPen(roles.chalk, 1))
        for x in (mark.left(), mark.right()):
            painter.drawLine(QPointF(round(x) + 0.5, mark.top() - 3), QPointF(round(x) + 0.5, mark.bottom()))
        painter.setFont(font(7, bold=True))
        if painter.fontMetrics().horizontalAdvance(self._learned_words) + 8 < mark.width():
            painter.setPen(roles.ground)
            painter.drawText(mark, Qt.AlignmentFlag.AlignCenter, self._learned_words)

    def _paint_waveforms(self, painter: QPainter) -> None:
        # Thousands of edges, as wide as a pixel anyway: smoothing them takes ten times as long.
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        lane = (self.height() - _FOOT - (0 if self._learned is None else _MARK)) / 2
        if self._tempo is not None:
            self._paint_beats(painter, self._tempo)
        for number, leg in enumerate(LEGS):
            name = self._split.component(leg)
            middle = lane * (number + 0.5)
            colour = roles.component(name)
            painter.setPen(QPen(mixed(roles.line, roles.ground, 0.6), 1))
            painter.drawLine(QPointF(0, round(middle) + 0.5), QPointF(self.width(), round(middle) + 0.5))
            reach = (lane / 2 - 3) / self._peak()
            row = COMPONENTS.index(name)
            if self._after is not None:
                self._paint_filled(
                    painter, self._after, row, middle, reach, mixed(colour, roles.ground, 0.78)
                )
            if self._before is not None:
                if self._after is None:
                    self._paint_filled(
                        painter, self._before, row, middle, reach, mixed(roles.muted, roles.ground, 0.5)
                    )
                else:
                    self._paint_outline(painter, self._before, row, middle, reach)
            painter.setFont(font(8.5, bold=True))
            width = painter.fontMetrics().horizontalAdvance(NAMES[name])
            painter.fillRect(QRectF(2, lane * number + 2, width + 8, 15), faded(roles.ground, 0.75))
            painter.setPen(colour)
            painter.drawText(QRectF(6, lane * number + 2, 60, 15), Qt.AlignmentFlag.AlignLeft, NAMES[name])
        if self._before is not None:
            self._paint_times(painter)

    def _peak(self) -> float:
        """What fills a lane: the greatest sample drawn, the same for both lanes, before and after."""
        rows = [COMPONENTS.index(self._split.component(leg)) for leg in LEGS]
        peaks = [float(w.peaks[rows].max()) for w in (self._before, self._after) if w is not None]
        return max(peaks, default=0.0) or 1.0

    def _columns(self, waves: Waveforms, row: int) -> np.ndarray:
        start, stop = (t / self._length for t in self._view)
        return waves.columns(row, start, stop, max(2, self.width()))

    def _paint_filled(self, painter, waves: Waveforms, row: int, middle: float, reach: float, colour) -> None:
        low, high = self._columns(waves, row)
        xs = np.arange(len(low)) + 0.5
        top = middle - high * reach
        bottom = np.maximum(middle - low * reach, top + 0.8)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawPolygon(polyline(np.concatenate([xs, xs[::-1]]), np.concatenate([top, bottom[::-1]])))

    def _paint_outline(self, painter, waves: Waveforms, row: int, middle: float, reach: float) -> None:
        """The unprocessed waveform, muted and dashed, over the processed one."""
        low, high = self._columns(waves, row)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(mixed(roles.chalk, roles.muted, 0.3), 1, Qt.PenStyle.DashLine))
        for edge in (high, low):
            # The envelope, not every cycle: the extreme of a few columns.
            width = 5
            count = len(edge) // width
            shaped = edge[: count * width].reshape(count, width)
            values = shaped.max(axis=1) if edge is high else shaped.min(axis=1)
            ys = middle - values * reach
            xs = (np.arange(count) + 0.5) * width
            painter.drawPolyline(polyline(xs, ys))

    def _paint_beats(self, painter: QPainter, tempo: Tempo) -> None:
        """Bars, with their numbers where there is room, and beats."""
        wide = self._beat_width()
        if wide * tempo.beats < 4.0:
            return
        first = max(0, int(np.ceil(beat_at(tempo, self._view[0]))))
        last = int(beat_at(tempo, self._view[1]))
        painter.setFont(font(7))
        for beat in range(first, last + 1):
            bar, rest = divmod(beat, tempo.beats)
            if rest and wide < 7.0:
                continue
            x = round(self.x_of(tempo.first_beat_s + beat * 60.0 / tempo.bpm)) + 0.5
            painter.setPen(QPen(mixed(roles.line, roles.ground, 0.0 if not rest else 0.55), 1))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height() - _FOOT))
            if not rest and wide * tempo.beats > 26.0:
                painter.setPen(roles.muted)
                box = QRectF(x + 3, self.height() - 30, 30, 11)
                painter.drawText(
                    box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, str(bar + 1)
                )

    def _paint_times(self, painter: QPainter) -> None:
        raw = self._span / max(1.0, self.width() / 110)
        scale = 10 ** floor(log10(raw))
        step = next(s * scale for s in (1, 2, 5, 10) if s * scale >= raw)
        if raw > 5:
            step = next((s for s in (5, 10, 15, 30, 60, 120, 300, 600, 1200, 3600) if s >= raw), 3600)
        digits = max(0, -floor(log10(step)))
        painter.setFont(font(8))
        mark = np.ceil(self._view[0] / step) * step
        while mark <= self._view[1]:
            x = self.x_of(float(mark))
            painter.setPen(roles.line)
            painter.drawLine(
                QPointF(round(x) + 0.5, self.height() - _FOOT), QPointF(round(x) + 0.5, self.height() - 14)
            )
            painter.setPen(roles.muted)
            left = min(max(0.0, x - 40), self.width() - 80)
            align = Qt.AlignmentFlag.AlignLeft if x < 40 else Qt.AlignmentFlag.AlignCenter
            if x > self.width() - 40:
                align = Qt.AlignmentFlag.AlignRight
            painter.drawText(QRectF(left, self.height() - 15, 80, 15), align, clock(float(mark), digits))
            mark += step

    # Mouse and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        x = event.position().x()
        if self._picking:
            self._picking = False
            self.setCursor(Qt.CursorShape.ArrowCursor)
            self.beat_picked.emit(self.time_at(x))
            return
        self._drag = ("new", self.time_at(x))
        if (held := self._held_of_learned(event.position())) is not None:
            self._drag = held
        elif self._loop is not None:
            for edge, opposite in ((0, 1), (1, 0)):
                if abs(x - self.x_of(self._loop[edge])) < _EDGE:
                    self._drag = ("edge", self._loop[opposite])

    def _held_of_learned(self, point: QPointF) -> tuple[str, float] | None:
        """What a drag takes hold of there: an end of what was learned, with the other end, or all of it."""
        if self._learned is None or not self.mark_of(self._learned).adjusted(-_EDGE, -3, _EDGE, 0).contains(
            point
        ):
            return None
        ends = sorted(self._learned, key=lambda t: abs(self.x_of(t) - point.x()))
        if abs(self.x_of(ends[0]) - point.x()) < _EDGE:
            return "learned edge", ends[1]
        return "learned", self.time_at(point.x())

    def _learned_from(self, kind: str, fixed: float, now: float) -> tuple[float, float]:
        """The range that a drag asks to be learned."""
        if kind == "learned edge":
            start, stop = sorted((fixed, now))
            return start, stop
        assert self._learned is not None
        start, stop = self._learned
        shift = max(-start, min(self._length - stop, now - fixed))
        return start + shift, stop + shift

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self._drag is None:
            held = self._held_of_learned(event.position())
            if held is not None:
                whole = held[0] == "learned"
                self.setCursor(Qt.CursorShape.OpenHandCursor if whole else Qt.CursorShape.SizeHorCursor)
                return
            near = self._loop is not None and any(abs(x - self.x_of(t)) < _EDGE for t in self._loop)
            self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)
            return
        kind, fixed = self._drag
        if kind in ("learned", "learned edge"):
            self._draft = self._learned_from(kind, fixed, self.time_at(x))
            self.update()
        elif kind == "edge" or abs(x - self.x_of(fixed)) > 4:
            free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
            ends = (fixed, self.time_at(x)) if free else (self.snapped(fixed), self.snapped(self.time_at(x)))
            start, stop = sorted(ends)
            self._draft = (start, stop)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, draft = self._drag, self._draft
        self._drag = self._draft = None
        self.update()
        if drag is None:
            return
        if drag[0] in ("learned", "learned edge"):
            if draft is not None and draft != self._learned:
                self.learn_asked.emit(draft)
        elif draft is not None:
            self.loop_asked.emit(draft if draft[1] - draft[0] >= 0.02 else None)
        elif drag[0] == "new":
            self.seek_asked.emit(drag[1])

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._drag = None
        self.loop_asked.emit(None)

    def wheelEvent(self, event: QWheelEvent) -> None:
        delta = event.angleDelta()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or abs(delta.x()) > abs(delta.y()):
            shift = -(delta.x() or delta.y()) / 120 * self._span * 0.12
            self._look(self._view[0] + shift, self._view[1] + shift)
        else:
            self.zoom(0.8 ** (delta.y() / 120), self.time_at(event.position().x()))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        step = self._span / (200 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 20)
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(0.7)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1 / 0.7)
        elif key == Qt.Key.Key_0:
            self.show_all()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            sign = -1 if key == Qt.Key.Key_Left else 1
            self.seek_asked.emit(min(self._length, max(0.0, self._position + sign * step)))
        elif key == Qt.Key.Key_End:
            self.seek_asked.emit(max(0.0, self._length - 1.0))
        else:
            super().keyPressEvent(event)
