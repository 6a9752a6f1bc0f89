"""What all pictures are: layers that change seldom in pixmaps, what lives painted over them, a frame for the keys."""

from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap, QResizeEvent
from PySide6.QtWidgets import QWidget

from stonekite.desktop.controls.theme import canvas, restyled, roles
from stonekite.desktop.pictures.turn import turn

Paint = Callable[[QPainter], None]
_TURNS = 8
"""How many turns of events a layer may wait."""


class Picture(QWidget):
    """A widget that draws something over axes.

    `paintEvent` of a picture puts its layers over one another with `layer`; whoever changes what a layer shows calls
    `renew`. Size and colours renew all of them by themselves.
    """

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._layers: dict[str, QPixmap] = {}
        self._outdated: set[str] = set()
        self._put_off: dict[str, int] = {}
        restyled.changed.connect(self._restyle)

    def plot(self) -> QRectF:
        """The part inside the axes."""
        raise NotImplementedError

    def renew(self, *names: str) -> None:
        """Paint layers anew, all of them without a name."""
        self._outdated.update(names or self._layers)
        self.update()

    def _restyle(self) -> None:
        for name in self._layers:
            self.at_once(name)
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._layers.clear()

    def waits(self, name: str) -> bool:
        """Whether a layer should be painted but will be in a later turn."""
        outdated = name in self._outdated or name not in self._layers
        return outdated and turn.over and self._put_off.get(name, 0) < _TURNS and self.isVisible()

    def at_once(self, name: str) -> None:
        """Paint a layer anew without waiting."""
        self._outdated.add(name)
        self._put_off[name] = _TURNS

    def layer(self, painter: QPainter, name: str, paint: Paint, ground: QColor | None = None) -> None:
        """Draw a layer; what `paint` gives is kept. An opaque ground is quicker to draw than none.

        Where others have used up this turn of events, one that is outdated may be drawn as it was, and a new one later,
        but for eight turns at the most.
        """
        made = self._layers.get(name)
        if self.waits(name):
            self._put_off[name] = self._put_off.get(name, 0) + 1
            turn.wait(self)
        elif made is None or name in self._outdated:
            self._outdated.discard(name)
            self._put_off.pop(name, None)
            with turn:
                made = canvas(self, Qt.GlobalColor.transparent if ground is None else ground)
                inner = QPainter(made)
                inner.setRenderHint(QPainter.RenderHint.Antialiasing)
                try:
                    paint(inner)
                finally:  # a painter that outlives what it paints on ends the process
                    inner.end()
            self._layers[name] = made
        if made is not None:
            painter.drawPixmap(0, 0, made)

    def ground(self, painter: QPainter) -> None:
        """The field inside the axes."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(self.plot(), 4, 4)

    @staticmethod
    def label(painter: QPainter, box: QRectF, words: str, align: Qt.AlignmentFlag) -> None:
        """Words in a box on a ground of their own, where lines run through."""
        wide = painter.fontMetrics().horizontalAdvance(words) + 4.0
        left = box.right() - wide if align & Qt.AlignmentFlag.AlignRight else box.left()
        behind = QRectF(left, box.top(), wide, box.height())
        painter.fillRect(behind, roles.ground)
        painter.drawText(behind, Qt.AlignmentFlag.AlignCenter, words)

    def frame(self, painter: QPainter, round_by: float = 4.0) -> None:
        """Mark the picture that keys go to."""
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(roles.muted, 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(self.plot(), round_by, round_by)
