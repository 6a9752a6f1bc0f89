"""Room for the kite map: as high as it is, up to a limit; beyond that it scrolls and says so."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import QFrame, QScrollArea

from stonekite.desktop.kite.kite_map import KiteMap

OTHERS = 500
"""So much of the window's height is left for the rest: what is higher scrolls."""
LEAST = 160


class KiteScroll(QScrollArea):
    """Holds the map."""

    def __init__(self, kite: KiteMap) -> None:
        super().__init__()
        self._kite = kite
        self._more = 0
        self.setWidget(kite)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.viewport().setAutoFillBackground(False)
        kite.setAutoFillBackground(False)
        kite.grown.connect(self._fit)
        kite.followed.connect(self._follow)
        self._fit()

    def leave(self, more: int) -> None:
        """Leave so much more of the window's height for the rest."""
        if more != self._more:
            self._more = more
            self._fit()

    def _fit(self) -> None:
        wanted = self._kite.sizeHint().height()
        most = max(LEAST, self.window().height() - OTHERS - self._more)
        wide = self._kite.minimumWidth() > self.width()
        bar = self.horizontalScrollBar().sizeHint().height() if wide else 0
        self.setFixedHeight(min(wanted + bar, most))
        self._kite.show_hidden(wanted + bar > most or wide)

    def _follow(self, x: int, y: int) -> None:
        """Keep what was chosen in sight."""
        self.ensureVisible(x, y, 60, 40)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()
        super().resizeEvent(event)

    def showEvent(self, event: QShowEvent) -> None:
        self._fit()
        super().showEvent(event)
