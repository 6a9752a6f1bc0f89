"""The sign of what rides, and the wish to have it ride."""

from collections.abc import Callable

from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QMenu

from stonekite.desktop.controls.theme import roles
from stonekite.words import said

WIDTH = 15
"""Room that the sign takes."""


def paint_ride(painter: QPainter, left: float, middle: float = 11.0) -> None:
    """A line that rises between two points: the setting rides."""
    painter.setPen(QPen(roles.chalk, 1.3))
    ends = QPointF(left + 2.5, middle + 3.5), QPointF(left + 8.5, middle - 3.5)
    painter.drawLine(*ends)
    painter.setBrush(roles.chalk)
    for end in ends:
        painter.drawEllipse(end, 1.6, 1.6)


def add_tie(menu: QMenu, tied: bool, ask: Callable[[bool], None]) -> None:
    """The entry of a menu by which a control is linked with the other leg's, or no more."""
    action = menu.addAction(said("Linked with the other leg"), lambda: ask(not tied))
    action.setCheckable(True)
    action.setChecked(tied)


def add_ride(menu: QMenu, ridden: bool, ask: Callable[[], None]) -> None:
    """The entry of a menu by which a control rides, or by which its ride is opened."""
    menu.addAction(said("Open its ride") if ridden else said("Ride it from here on"), ask)
