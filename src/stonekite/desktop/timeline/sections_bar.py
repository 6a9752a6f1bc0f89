"""The sections of a piece as a bar over the waveforms: click to loop one, drag its ends, right click for more."""

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from stonekite.desktop.controls.theme import font, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.session.types import Section
from stonekite.words import clock, said

_EDGE = 5.0


class SectionsBar(Picture):
    """`chosen` gives the place of a section, `moved` its place, start and end in seconds and a token of the drag,
    `menu_asked` its place and where on the screen, `named` the one that is to get another name."""

    chosen = Signal(int)
    moved = Signal(int, float, float, object)
    menu_asked = Signal(int, QPoint)
    named = Signal(int)

    def __init__(self, timeline: Timeline) -> None:
        super().__init__()
        self._timeline = timeline
        self._view = (0.0, 1.0)
        self._sections: tuple[Section, ...] = ()
        self._at: int | None = None
        self._drag: tuple[int, int, object] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setFixedHeight(18)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(said("Sections"))
        self.setToolTip(
            said(
                "Click: loop the section. Drag its ends. Double-click: name it. Right click: copy rides, remove. "
                "Left, right: the one before, the next."
            )
        )

    def sizeHint(self) -> QSize:
        return QSize(900, 18)

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def show_sections(self, sections: tuple[Section, ...], at: int | None) -> None:
        """Draw sections, and which one is looped."""
        if (sections, at) != (self._sections, self._at):
            self._sections, self._at = sections, at
            self.setAccessibleDescription(
                "; ".join(f"{one.name} {clock(one.start_s)} – {clock(one.end_s)}" for one in sections)
            )
            self.renew()

    def follow(self) -> None:
        """The timeline may look elsewhere."""
        if self._timeline.view != self._view:
            self._view = self._timeline.view
            self.renew()

    def box(self, place: int) -> QRectF:
        """Where a section is."""
        one = self._sections[place]
        left, right = self._timeline.x_of(one.start_s), self._timeline.x_of(one.end_s)
        return QRectF(left + 1, 1, max(2.0, right - left - 2), self.height() - 3)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "all", self._paint, roles.panel)
        self.frame(painter)

    def _paint(self, painter: QPainter) -> None:
        for place, one in enumerate(self._sections):
            box = self.box(place)
            if box.right() < 0 or box.left() > self.width():
                continue
            painter.setPen(QPen(roles.chalk if place == self._at else roles.line, 1))
            painter.setBrush(roles.raised)
            painter.drawRoundedRect(box, 3, 3)
            painter.setFont(font(8.5, bold=place == self._at))
            painter.setPen(roles.chalk)
            room = box.adjusted(6, 0, -4, 0)
            words = painter.fontMetrics().elidedText(one.name, Qt.TextElideMode.ElideRight, int(room.width()))
            painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)

    def _near(self, x: float) -> tuple[int, int] | None:
        """An end that is near: the place of its section, and 0 for its start, 1 for its end."""
        for place, one in enumerate(self._sections):
            for end, at in enumerate((one.start_s, one.end_s)):
                if abs(self._timeline.x_of(at) - x) < _EDGE:
                    return place, end
        return None

    def _inside(self, x: float) -> int | None:
        return next(
            (k for k in range(len(self._sections)) if self.box(k).left() <= x <= self.box(k).right()), None
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        x = event.position().x()
        if (near := self._near(x)) is not None:
            self._drag = (*near, object())
        elif (place := self._inside(x)) is not None:
            self.chosen.emit(place)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self._drag is None:
            near = self._near(x) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)
            return
        place, end, token = self._drag
        if place >= len(self._sections):
            return
        one = self._sections[place]
        at = self._timeline.snapped(self._timeline.time_at(x))
        ends = (
            (min(at, one.end_s - 0.1), one.end_s) if end == 0 else (one.start_s, max(at, one.start_s + 0.1))
        )
        self.moved.emit(place, max(0.0, ends[0]), ends[1], token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if (place := self._inside(event.position().x())) is not None:
            self.named.emit(place)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if (place := self._inside(event.pos().x())) is not None:
            self.menu_asked.emit(place, event.globalPos())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is not None and self._sections:
            now = -1 if self._at is None and step > 0 else (self._at or 0)
            self.chosen.emit((now + step) % len(self._sections))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._at is not None:
            self.named.emit(self._at)
        else:
            super().keyPressEvent(event)
