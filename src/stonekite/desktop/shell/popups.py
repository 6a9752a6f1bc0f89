"""Menus that open where the signal path is clicked: the kinds of stages, and what can be done with one."""

from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, QPointF
from PySide6.QtWidgets import QMenu

from stonekite.desktop.shell.menus import fill_with_kinds
from stonekite.session.types import LegName
from stonekite.words import NAMES, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Popups:
    """Keeps the last of each, for Qt would let go of it at once."""

    def __init__(self, window: "Window") -> None:
        self._window = window
        self.adding: QMenu | None = None
        self.stone: QMenu | None = None
        window.kite.add_asked.connect(self.ask_add)
        window.kite.stone_menu_asked.connect(self.ask_about)

    def ask_add(self, leg: LegName, branch: int) -> None:
        """Which kind of stage to add, to a leg or another branch."""
        window = self._window
        if window.document.is_open:
            menu = self.adding = QMenu(window)
            fill_with_kinds(menu, lambda tag: window.stages.add(tag, leg, branch))
            menu.popup(window.kite.mapToGlobal(window.kite.plus_centre(leg, branch).toPoint()))

    def ask_about(self, number: int, leg: LegName, place: QPointF) -> None:
        """What to do with a stage, on a leg of it."""
        document, stages = self._window.document, self._window.stages
        stage = document.stage(number)
        if stage is None:
            return
        on = getattr(stage, leg) is not None
        stages.choose(number, leg)
        menu = self.stone = QMenu(self._window)
        menu.addAction(said("Take out") if stage.inserted else said("Put in"), stages.toggle_inserted)
        menu.addAction(said("Unlink") if stage.linked else said("Link"), stages.toggle_linked)
        name = NAMES[document.strip.split.component(leg)]
        words = said("Take off {name}").format(name=name) if on else said("Put on {name}").format(name=name)
        menu.addAction(words, lambda: stages.set_side(number, leg, not on))
        menu.addAction(said("Copy"), stages.copy)
        menu.addAction(said("Paste behind it"), stages.paste)
        menu.addAction(said("Remove the stage"), lambda: stages.remove(number))
        menu.popup(QPoint(int(place.x()), int(place.y())))
