"""What all pictures are: layers that change seldom in pixmaps, what lives painted over them, a frame for the keys."""

from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap, QResizeEvent
from PySide6.QtWidgets import QWidget

from stonekite.desktop.controls.theme import canvas, restyled, roles

Paint = Callable[[QPainter], None]


class Picture(QWidget):
    """A widget that draws something over axes.

    `paintEvent` of a picture puts its layers over one another with `layer`; whoever changes what a layer shows calls
    `renew`. Size and colours renew all of them by themselves.
    """

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._layers: dict[str, QPixmap] = {}
        restyled.changed.connect(self._restyle)

    def plot(self) -> QRectF:
        """The part inside the axes."""
        raise NotImplementedError

    def renew(self, *names: str) -> None:
        """Paint layers anew, all of them without a name."""
        for name in names or tuple(self._layers):
            self._layers.pop(name, None)
        self.update()

    def _restyle(self) -> None:
        self.renew()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._layers.clear()

    def layer(self, painter: QPainter, name: str, paint: Paint, ground: QColor | None = None) -> None:
        """Draw a layer; what `paint` gives is kept. An opaque ground is quicker to draw than none."""
        made = self._layers.get(name)
        if made is None:
            made = self._layers[name] = canvas(self, Qt.GlobalColor.transparent if ground is None else ground)
            inner = QPainter(made)
            inner.setRenderHint(QPainter.RenderHint.Antialiasing)
            paint(inner)
            inner.end()
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
