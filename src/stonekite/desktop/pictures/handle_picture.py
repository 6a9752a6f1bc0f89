"""The picture of a stage whose kind declares points to drag."""

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.response_picture import ResponsePicture
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said, spoken_hertz

_NEAR = 13.0


class HandlePicture(ResponsePicture):
    """Drag a handle, or what lies between two of them. `moved` gives changed values and a gesture token."""

    moved = Signal(dict, object)

    def __init__(self, handles: tuple[Handle, ...], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._all = handles
        self._drag: tuple[list[Handle], QPointF, dict[str, float], object] | None = None
        self._hover: list[Handle] = []
        self._at = 0

    @property
    def _handles(self) -> tuple[Handle, ...]:
        """Those that are there."""
        side = self._side
        return tuple(
            h
            for h in self._all
            if (h.shown is None or (side is not None and h.shown(side)))
            and (self._noise is not None or not h.on_noise)
        )

    @property
    def _side(self):
        return getattr(self._stage, self._leg, None)

    def place(self, handle: Handle) -> QPointF:
        """Where a handle is: at its frequency, on the line of no change; one that moves up and down at its height."""
        if handle.on_noise:
            return QPointF(self.x_of(handle.at_hz), self.noise_y(handle.at_hz))
        if handle.y:
            beside = getattr(self._side, handle.beside) if handle.beside else 0.0
            height = handle.reach * (getattr(self._side, handle.y) + beside)
            limit = 0.92 * self.range_db
            return QPointF(self.x_of(handle.at_hz), self.y_of(min(limit, max(-limit, height))))
        return QPointF(self.x_of(getattr(self._side, handle.x)), self.y_of(0.0))

    def _held_at(self, point: QPointF) -> list[Handle]:
        """The handle under a point, or both edges where it lies between them."""
        if self._side is None or not self.plot().contains(point):
            return []
        for handle in self._handles:
            away = self.place(handle) - point
            if handle.y and abs(away.x()) < 18 and abs(away.y()) < 11:
                return [handle]
        edges = [handle for handle in self._handles if not handle.y]
        if not edges:
            return []
        nearest = min(edges, key=lambda handle: abs(self.place(handle).x() - point.x()))
        if abs(self.place(nearest).x() - point.x()) < _NEAR:
            return [nearest]
        xs = sorted(self.place(h).x() for h in edges)
        on = all(self._is_on(h) for h in edges)
        return edges if on and len(xs) == 2 and xs[0] < point.x() < xs[1] else []

    def _paint_handles(self, painter: QPainter) -> None:
        self._paint_those(painter, on_noise=False)

    def _paint_moving(self, painter: QPainter) -> None:
        super()._paint_moving(painter)
        self._paint_those(painter, on_noise=True)  # they stand on what moves

    def _paint_those(self, painter: QPainter, *, on_noise: bool) -> None:
        if self._side is None:
            return
        plot = self.plot()
        for k, handle in enumerate(self._handles):
            if handle.on_noise != on_noise:
                continue
            centre = self.place(handle)
            on = self._is_on(handle) and self._stage is not None and self._stage.inserted
            colour = self._colour(self._leg) if on else roles.muted
            held = handle in self._hover or (self.hasFocus() and k == self._at)
            pen = QPen(mixed(colour, roles.ground, 0.7), 1)
            pen.setStyle(Qt.PenStyle.SolidLine if on else Qt.PenStyle.DashLine)
            painter.setPen(pen)
            if not handle.y:
                painter.drawLine(QPointF(centre.x(), plot.top()), QPointF(centre.x(), plot.bottom()))
            painter.setFont(font(8, bold=True))
            half = max(16.0, 0.5 * painter.fontMetrics().horizontalAdvance(handle.label) + 5)
            middle = min(plot.right() - half - 1, max(plot.left() + half + 1, centre.x()))
            box = QRectF(middle - half, centre.y() - 9, 2 * half, 18)
            if on_noise:
                box = QRectF(middle - 9, centre.y() - 7, 18, 14)
            painter.setPen(QPen(roles.chalk if held else colour, 1.6))
            painter.setBrush(roles.raised if held else roles.ground)
            painter.drawRoundedRect(box, 5, 5)
            painter.setPen(roles.chalk if on else roles.muted)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, handle.label)

    def _setting(self, name: str):
        return settings_of(type(self._side))[name]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        held = self._held_at(event.position())
        if held and event.button() == Qt.MouseButton.LeftButton:
            start = {name: getattr(self._side, name) for name in (h.x or h.y for h in held)}
            self._drag = (held, event.position(), start, object())
            self._at = self._handles.index(held[0])
            self.renew("front")

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            held = self._held_at(event.position())
            if held != self._hover:
                self._hover = held
                shape = Qt.CursorShape.SizeVerCursor if held and held[0].y else Qt.CursorShape.SizeHorCursor
                self.setCursor(shape if held else Qt.CursorShape.ArrowCursor)
                self.renew("front")
            return
        held, origin, start, token = self._drag
        ratio = self.hertz_at(event.position().x()) / self.hertz_at(origin.x())
        shift = self.db_at(event.position().y()) - self.db_at(origin.y())
        values: dict[str, object] = {}
        for handle in held:
            if handle.y:
                up = self.spectrum_db(origin.y() - event.position().y()) if handle.on_noise else shift
                values[handle.y] = round(self._setting(handle.y).held(start[handle.y] + up / handle.reach), 1)
                continue
            values[handle.x] = self._setting(handle.x).held(start[handle.x] * ratio)
            if handle.on is not None and not self._is_on(handle):
                values[handle.on] = True
        self.moved.emit(values, token)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        held = self._held_at(event.position())
        if len(held) == 1:
            self._switch(held[0])

    def _is_on(self, handle: Handle) -> bool:
        return handle.on is None or getattr(self._side, handle.on)

    def _switch(self, handle: Handle) -> None:
        """On or off; a handle without a switch goes back to where it does nothing."""
        if handle.on is not None:
            self.moved.emit({handle.on: not self._is_on(handle)}, None)
        else:
            name = handle.x or handle.y
            self.moved.emit({name: self._setting(name).default}, None)

    def _turn(self, handle: Handle, steps: int) -> None:
        if handle.wheel is None:
            return
        words = self._setting(handle.wheel).words
        assert words is not None
        keys = list(words)
        place = keys.index(getattr(self._side, handle.wheel)) + steps
        self.moved.emit({handle.wheel: keys[min(len(keys) - 1, max(0, place))]}, "wheel")

    def wheelEvent(self, event: QWheelEvent) -> None:
        held = self._held_at(event.position())
        if held:
            for handle in held:
                self._turn(handle, 1 if event.angleDelta().y() > 0 else -1)
            event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self._handles:
            super().keyPressEvent(event)
            return
        self._at = min(self._at, len(self._handles) - 1)
        handle = self._handles[self._at]
        fine = 0.2 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        key = event.key()
        if self._side is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self._at = (self._at + 1) % len(self._handles)
            self.renew("front")
        elif handle.y and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            steps = fine if (key == Qt.Key.Key_Up) == (handle.reach > 0.0) else -fine
            value = self._setting(handle.y).stepped(getattr(self._side, handle.y), steps)
            self.moved.emit({handle.y: value}, "keys")
        elif not handle.y and key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            steps = fine if key == Qt.Key.Key_Right else -fine
            edges = [h for h in self._handles if not h.y]
            moved = edges if event.modifiers() & Qt.KeyboardModifier.AltModifier else [handle]
            self.moved.emit(
                {h.x: self._setting(h.x).stepped(getattr(self._side, h.x), steps) for h in moved}, "keys"
            )
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self._turn(handle, 1 if key == Qt.Key.Key_Plus else -1)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Delete):
            self._switch(handle)
        else:
            super().keyPressEvent(event)

    def help_at(self, point: QPointF) -> str:
        held = self._held_at(point)
        if not held:
            return super().help_at(point)
        name = NAMES[self._split.component(self._leg)]
        if len(held) > 1:
            return said("{name}: drag to sweep the band between both edges (Alt+arrows)").format(name=name)
        handle = held[0]
        if handle.y:
            setting = self._setting(handle.y)
            value = setting.shown(getattr(self._side, handle.y))
            return said(
                "{name} {reason} {value}\nDrag up or down; double-click for none (arrows, Delete)"
            ).format(name=name, reason=setting.label.lower(), value=value)
        hertz = spoken_hertz(getattr(self._side, handle.x))
        if handle.on is None or handle.wheel is None:
            label = self._setting(handle.x).label.lower()
            return said("{name} {label} {hertz}\nDrag; double-click to open (arrows, Delete)").format(
                name=name, label=label, hertz=hertz
            )
        slope = self._setting(handle.wheel).shown(getattr(self._side, handle.wheel))
        return said(
            "{name} {reason} {hertz}, {slope} dB per octave\nDrag, wheel for the slope, double-click for on "
            "and off (arrows, + and −, Enter)"
        ).format(name=name, reason=self._setting(handle.on).label.lower(), hertz=hertz, slope=slope)
