"""Rows under one another that scroll where there are many."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QFrame, QScrollArea, QStackedWidget, QVBoxLayout, QWidget


def column(spacing: int = 1) -> tuple[QScrollArea, QVBoxLayout]:
    """A scroll area without a frame, and the layout in it that rows are put into, before a stretch at its end."""
    box = QWidget()
    rows = QVBoxLayout(box)
    rows.setContentsMargins(0, 0, 6, 0)
    rows.setSpacing(spacing)
    rows.addStretch(1)
    scroll = QScrollArea()
    scroll.setWidget(box)
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    scroll.setStyleSheet("QScrollArea, QScrollArea > QWidget > QWidget { background: transparent; }")
    return scroll, rows


def scrolling(widget: QWidget) -> QScrollArea:
    """An area in which a widget scrolls that has not all the room it needs."""
    area = QScrollArea()
    area.setWidget(widget)
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return area


class Pages(QStackedWidget):
    """Widgets of which one is shown, and which need the room that this one does, however much others need."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda _: self.updateGeometry())

    def sizeHint(self) -> QSize:
        shown = self.currentWidget()
        return super().sizeHint() if shown is None else shown.sizeHint()

    def minimumSizeHint(self) -> QSize:
        shown = self.currentWidget()
        return super().minimumSizeHint() if shown is None else shown.minimumSizeHint()
