"""Room for the kite map: as high as it is, up to a limit; beyond that it scrolls and says so."""

from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QFrame, QScrollArea

from stonekite.desktop.kite.kite_map import KiteMap

HIGHEST = 0.36
"""Of the window: what is higher scrolls."""
LEAST = 200


class KiteScroll(QScrollArea):
    """Holds the map."""

    def __init__(self, kite: KiteMap) -> None:
        super().__init__()
        self._kite = kite
        self.setWidget(kite)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.viewport().setAutoFillBackground(False)
        kite.setAutoFillBackground(False)
        kite.grown.connect(self._fit)
        kite.followed.connect(self._follow)
        self._fit()

    def _fit(self) -> None:
        wanted = self._kite.sizeHint().height()
        most = max(LEAST, int(HIGHEST * self.window().height()))
        self.setFixedHeight(min(wanted, most))
        self._kite.show_hidden(wanted > most)

    def _follow(self, y: int) -> None:
        """Keep what was chosen in sight."""
        self.ensureVisible(0, y, 0, 40)

    def event(self, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.Resize, QEvent.Type.Show):
            self._fit()
        return super().event(event)
