"""The way of a recording into two component files, out of the program, and back: what each of them is, drawn."""

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QApplication, QSizePolicy

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.words import NAMES, said

Envelope = tuple[list[float], list[float]]
"""Least and greatest samples."""


@dataclass(frozen=True)
class Card:
    """One file: its name, up to two lines about it, waveforms with their colours, and whether something is wrong."""

    name: str
    lines: tuple[str, ...] = ()
    waves: tuple[tuple[str, Envelope], ...] = ()
    warned: bool = False
    there: bool = True


@dataclass(frozen=True)
class PairShown:
    """All that the picture shows: the recording, what goes out, what came back, what is joined; the letters of the split;
    whether the files that go out are there to be dragged."""

    source: Card = Card("")
    out: tuple[Card, Card] = (Card(""), Card(""))
    back: tuple[Card, Card] = (Card("", there=False), Card("", there=False))
    joined: Card = Card("", there=False)
    rows: tuple[str, str] = ("mid", "side")
    letters: tuple[str, str] = ("M/S", "L/R")
    written: bool = False


_GAP = 26.0
_DIAMOND = 21.0


class PairPicture(Picture):
    """Draws the way. `drag_asked` comes when a card that goes out is dragged: its row, or 2 for both."""

    drag_asked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(186)
        self.setAccessibleName(said("The recording, its two components, and what came back"))
        self._shown = PairShown()
        self._pressed: tuple[QPointF, int] | None = None
        self.setMouseTracking(True)

    def sizeHint(self) -> QSize:
        return QSize(900, 250)

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def show_pair(self, shown: PairShown) -> None:
        """Draw other files."""
        if shown == self._shown:
            return
        self._shown = shown
        cards = (shown.source, *shown.out, *(card for card in (*shown.back, shown.joined) if card.there))
        self.setAccessibleDescription("; ".join(", ".join((card.name, *card.lines)) for card in cards))
        self.renew()

    # Geometry: five columns between the edges; lines run where they part.

    def box(self, which: str) -> QRectF:
        """Where a card stands: source, out 0, out 1, back 0, back 1, joined."""
        width, height = float(self.width()), float(self.height())
        lines = 4 * _GAP + 4 * _DIAMOND
        room = width - lines - 8
        shares = {"source": 0.22, "out": 0.32, "back": 0.24, "joined": 0.22}
        wide = {name: room * share for name, share in shares.items()}
        low = min(96.0, height / 2 - 12)
        kind, _, row = which.partition(" ")
        left = 4.0
        for name in ("source", "out", "back", "joined"):
            if name == kind:
                break
            left += wide[name] + (_GAP if name == "out" else 1.5 * _GAP + 2 * _DIAMOND)
        if kind in ("source", "joined"):
            tall = min(124.0, height - 8)
            return QRectF(left, (height - tall) / 2, wide[kind], tall)
        middle = height / 2
        top = middle - 10 - low if row == "0" else middle + 10
        return QRectF(left, top, wide[kind], low)

    def _diamond(self, name: str) -> QPointF:
        if name == "out":
            return QPointF(self.box("source").right() + 0.5 * _GAP + _DIAMOND, self.height() / 2)
        return QPointF(self.box("joined").left() - 0.5 * _GAP - _DIAMOND, self.height() / 2)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "all", self._paint, roles.panel)

    def _paint(self, painter: QPainter) -> None:
        shown = self._shown
        self._paint_lines(painter)
        self._paint_card(painter, self.box("source"), shown.source, roles.line)
        for row in (0, 1):
            colour = roles.component(shown.rows[row])
            self._paint_card(painter, self.box(f"out {row}"), shown.out[row], colour)
            self._paint_card(painter, self.box(f"back {row}"), shown.back[row], colour)
        self._paint_card(painter, self.box("joined"), shown.joined, roles.line)
        for name, letters in zip(("out", "back"), shown.letters, strict=True):
            centre = self._diamond(name)
            painter.setPen(QPen(roles.chalk, 1.2))
            painter.setBrush(roles.panel)
            corners = (-_DIAMOND, 0), (0, -_DIAMOND), (_DIAMOND, 0), (0, _DIAMOND)
            painter.drawPolygon(QPolygonF([centre + QPointF(x, y) for x, y in corners]))
            painter.setPen(roles.chalk)
            painter.setFont(font(8.5, bold=True))
            painter.drawText(
                QRectF(centre.x() - _DIAMOND, centre.y() - 9, 2 * _DIAMOND, 18),
                Qt.AlignmentFlag.AlignCenter,
                letters,
            )

    def _paint_lines(self, painter: QPainter) -> None:
        shown = self._shown
        painter.setBrush(Qt.BrushStyle.NoBrush)
        source, joined = self.box("source"), self.box("joined")
        first, last = self._diamond("out"), self._diamond("back")
        painter.setPen(QPen(roles.chalk, 1.4))
        painter.drawLine(QPointF(source.right(), first.y()), first)
        painter.setPen(QPen(roles.chalk if shown.joined.there else roles.line, 1.4))
        painter.drawLine(last, QPointF(joined.left(), last.y()))
        for row in (0, 1):
            colour = roles.component(shown.rows[row])
            out, back = self.box(f"out {row}"), self.box(f"back {row}")
            y = out.center().y()
            painter.setPen(QPen(colour, 1.6))
            corner = QPointF(first.x() + abs(y - first.y()) * 0.28, y)
            painter.drawPolyline([first, corner, QPointF(out.left(), y)])
            there = shown.back[row].there
            painter.setPen(
                QPen(colour if there else mixed(colour, roles.panel, 0.5), 1.4, Qt.PenStyle.DashLine)
            )
            painter.drawLine(QPointF(out.right(), y), QPointF(back.left(), y))
            painter.setPen(QPen(colour if there else mixed(colour, roles.panel, 0.5), 1.6 if there else 1.2))
            corner = QPointF(last.x() - abs(y - last.y()) * 0.28, y)
            painter.drawPolyline([QPointF(back.right(), y), corner, last])

    def _paint_card(self, painter: QPainter, box: QRectF, card: Card, colour: QColor) -> None:
        painter.setPen(
            QPen(colour, 1.2)
            if card.there
            else QPen(mixed(colour, roles.panel, 0.5), 1, Qt.PenStyle.DashLine)
        )
        painter.setBrush(roles.ground if card.there else roles.panel)
        painter.drawRoundedRect(box, 5, 5)
        inner = box.adjusted(9, 5, -9, -5)
        y = inner.top()
        if card.name:
            painter.setFont(font(8.5, bold=card.there))
            painter.setPen(roles.chalk if card.there else roles.muted)
            self._line(painter, QRectF(inner.left(), y, inner.width(), 16), card.name)
            y += 16
        for k, line in enumerate(card.lines):
            painter.setFont(font(8.5, bold=card.warned and k == len(card.lines) - 1))
            painter.setPen(roles.warning if card.warned and k == len(card.lines) - 1 else roles.muted)
            self._line(painter, QRectF(inner.left(), y, inner.width(), 15), line)
            y += 15
        room = QRectF(inner.left(), y + 2, inner.width(), inner.bottom() - y - 2)
        for k, (name, wave) in enumerate(card.waves):
            tall = room.height() / len(card.waves)
            self._wave(
                painter, QRectF(room.left(), room.top() + k * tall, room.width(), tall - 2), name, wave
            )

    @staticmethod
    def _line(painter: QPainter, box: QRectF, words: str) -> None:
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideMiddle, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)

    @staticmethod
    def _wave(painter: QPainter, box: QRectF, name: str, wave: Envelope) -> None:
        low, high = wave
        if not low or box.height() < 6:
            return
        top = max(max(high, default=0.0), -min(low, default=0.0), 1e-9)
        half, middle = box.height() / 2, box.center().y()
        columns = max(1, min(int(box.width()), len(low)))
        upper, lower = [], []
        for k in range(columns):
            a, b = k * len(low) // columns, max(k * len(low) // columns + 1, (k + 1) * len(low) // columns)
            x = box.left() + (k + 0.5) * box.width() / columns
            upper.append(QPointF(x, middle - half * max(high[a:b]) / top))
            lower.append(QPointF(x, middle - half * min(low[a:b]) / top))
        painter.setPen(QPen(mixed(roles.component(name), roles.ground, 0.75), 1))
        painter.setBrush(mixed(roles.component(name), roles.ground, 0.6))
        painter.drawPolygon(QPolygonF(upper + lower[::-1]))

    # Mouse

    def _at(self, point: QPointF) -> int | None:
        for row in (0, 1):
            if self.box(f"out {row}").contains(point):
                return row
        return 2 if self.box("out 0").united(self.box("out 1")).contains(point) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        row = self._at(event.position())
        self._pressed = None if row is None else (event.position(), row)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        row = self._at(event.position())
        self.setCursor(Qt.CursorShape.OpenHandCursor if row is not None else Qt.CursorShape.ArrowCursor)
        if row is not None:
            name = NAMES[self._shown.rows[row]] if row < 2 else said("Both")
            words = (
                said("{name}: drag it into another program (Shift: both)")
                if self._shown.written
                else said("{name}: write the pair, then drag it from here into another program")
            )
            self.setToolTip(words.format(name=name))
        else:
            self.setToolTip("")
        if self._pressed is None:
            return
        place, row = self._pressed
        if (event.position() - place).manhattanLength() >= QApplication.startDragDistance():
            self._pressed = None
            both = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.drag_asked.emit(2 if both else row)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed = None
