"""Mouse and keyboard, as a user has them."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QMenu, QWidget

from stonekite.desktop.shell.window import Window

LEFT = Qt.MouseButton.LeftButton


def click(qtbot, widget: QWidget, where: QPointF, button=LEFT) -> None:
    qtbot.mouseClick(widget, button, pos=where.toPoint())


def drag(qtbot, widget: QWidget, start: QPointF, end: QPointF, steps: int = 6) -> None:
    qtbot.mousePress(widget, LEFT, pos=start.toPoint())
    for k in range(1, steps + 1):
        qtbot.mouseMove(widget, pos=(start + (end - start) * k / steps).toPoint())
    qtbot.mouseRelease(widget, LEFT, pos=end.toPoint())


def double_click(qtbot, widget: QWidget, where: QPointF) -> None:
    qtbot.mouseClick(widget, LEFT, pos=where.toPoint())
    qtbot.mouseDClick(widget, LEFT, pos=where.toPoint())


def from_menu(qtbot, menu: QMenu, word: str) -> None:
    """Click a word of an open menu."""
    qtbot.waitUntil(menu.isVisible)
    action = next(action for action in menu.actions() if action.text().split("\t")[0] == word)
    click(qtbot, menu, QPointF(menu.actionGeometry(action).center()))
    qtbot.waitUntil(lambda: not menu.isVisible())
    to_front(qtbot, menu.parentWidget().window())


def to_front(qtbot, window: QWidget) -> None:
    """Give the keyboard back to a window after a menu or dialog: without a window manager nobody does."""
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)


def pick(qtbot, choice, word: str) -> None:
    """Click a choice and then one of its words."""
    choice.setFocus()
    from_menu(qtbot, choice.open_menu(), word)


def press(qtbot, window: Window, key, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    qtbot.keyClick(window, key, modifier)
