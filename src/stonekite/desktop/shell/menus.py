"""The bar above the window: menus, the session's name, and how the engine is doing."""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QActionGroup, QKeySequence, QShortcut
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QMenuBar

from stonekite.desktop.controls.choices import Words
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.dialogs.help_boxes import show_about, show_keys
from stonekite.desktop.model import preferences
from stonekite.files.audio import shown_name
from stonekite.session.types import VERSIONS, Split
from stonekite.signal.matrix import MATRICES
from stonekite.stages.registry import by_work
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window

_SPLIT = settings_of(Split)
_MATRIX_WORDS = {
    "half-sum": ": M=(L+R)/2, S=(L−R)/2",
    "equal-power": ": both by 1/√2",
    "raised-side": ": M=(L+R)/2, S=L−R",
}


def fill_with_kinds(menu: QMenu, add: Callable[[str], None]) -> None:
    """Every kind of stage with its line of help, in groups in the order of work; `add` gets its tag."""
    for group, kinds in by_work():
        if not kinds:
            continue
        heading = menu.addAction(group)
        heading.setEnabled(False)
        for tag, kind in kinds:
            action = menu.addAction(f"{kind.label}\t{kind.help}", partial(add, tag))
            action.setToolTip(kind.help)


class Menus(QFrame):
    """Every command of a window, with its key."""

    def __init__(self, window: "Window") -> None:
        super().__init__()
        self._window = window
        self._actions: list[QAction] = []
        self._shortcuts: list[QShortcut] = []
        bar = self.bar = QMenuBar()
        file = bar.addMenu("&File")
        self._action(file, "Open…", window.opening.ask_open, "Ctrl+O")
        self.recent_menu = file.addMenu("Open recent")
        self.recent_menu.aboutToShow.connect(self._fill_recent)
        self._action(file, "Open the demo", window.opening.open_demo)
        self._action(file, "Open the test generator", window.opening.open_generator)
        file.addSeparator()
        self.save_action = self._action(file, "Save", window.opening.save, "Ctrl+S")
        self.save_as_action = self._action(file, "Save as…", window.opening.save_as, "Ctrl+Shift+S")
        self.export_action = self._action(file, "Export…", window.export, "Ctrl+E")
        file.addSeparator()
        self._action(file, "Quit", window.close, "Ctrl+Q")
        edit = bar.addMenu("&Edit")
        self.undo_action = self._action(edit, "Undo", window.document.undo, "Ctrl+Z")
        self.redo_action = self._action(edit, "Redo", window.document.redo, "Ctrl+Shift+Z|Ctrl+Y")
        edit.addSeparator()
        self.add_menu = edit.addMenu("Add a stage")
        fill_with_kinds(self.add_menu, window.stages.add)
        stages = window.stages
        self.stage_actions = [
            self._action(edit, words, lambda on=False, act=act: act(), keys)
            for words, act, keys in (
                ("Remove the stage", stages.remove, ""),
                ("Stage in or out", stages.toggle_inserted, "B"),
                ("Edit the other leg", stages.choose_other_leg, "O"),
                ("Link its two sides", stages.toggle_linked, "K"),
                ("Reset the stage", stages.reset, ""),
                ("Copy settings to the other leg", stages.copy_across, ""),
                ("Swap legs", stages.swap, ""),
                ("Copy the stage", stages.copy, "Ctrl+C"),
            )
        ]
        self._action(edit, "Paste a stage", stages.paste, "Ctrl+V")
        edit.addSeparator()
        self.presets_action = self._action(edit, "Presets…", lambda: window.show_presets(), "P")
        self.signal_menu = bar.addMenu("&Signal")
        group = QActionGroup(window)
        self.split_actions: dict[tuple[str, str], QAction] = {}
        assert _SPLIT["mode"].words and _SPLIT["matrix"].words
        for mode, matrix in (("left-right", ""), *(("mid-side", m) for m in MATRICES)):
            words = _SPLIT["mode"].words[mode]
            if matrix:
                words += f", {_SPLIT['matrix'].words[matrix].lower()}{_MATRIX_WORDS[matrix]}"
            action = self._action(
                self.signal_menu,
                words,
                lambda on=False, m=mode, x=matrix: window.set_split(m, x),
                checkable=True,
            )
            group.addAction(action)
            self.split_actions[mode, matrix] = action
        listen = bar.addMenu("&Listen")
        self._action(listen, "Play or pause", window.hearing.toggle_play, "Space")
        self._action(listen, "Back to the start", window.hearing.rewind, "Home")
        self._action(listen, "Loop", window.hearing.toggle_loop, "L")
        listen.addSeparator()
        for key, what in enumerate(("processed", "unprocessed", "difference"), start=1):
            self._action(
                listen, what.capitalize(), lambda on=False, what=what: window.listen.choose(what), str(key)
            )
        self._action(listen, "Level-matched", window.listen.toggle_match, "M")
        listen.addSeparator()
        self._action(listen, "Keep the state now as a version", lambda: window.switching.keep(), "V")
        self._action(listen, "Add a reference…", window.switching.ask_reference)
        for number in range(1, VERSIONS + 1):
            self._key(f"Alt+{number}", lambda number=number: window.listen.choose_version(number))
        self._action(listen, "Next reference", window.listen.next_reference, "R")
        self._action(listen, "Blind test…", lambda: window.blind_testing.ask())
        listen.addSeparator()
        for name, word in NAMES.items():
            self._action(
                listen,
                f"{word} alone",
                lambda on=False, name=name: window.listen.toggle_only(name),
                f"Shift+{word[0]}",
            )
        view = bar.addMenu("&View")
        for words, name, keys in (
            ("Source check", "source", "F5"),
            ("Stages", "stage", "F6"),
            ("Output", "output", "F7"),
            ("Compare", "compare", "F8"),
        ):
            self._action(view, words, lambda on=False, name=name: window.show_view(name), keys)
        view.addSeparator()
        self._action(view, "Zoom in", lambda: window.timeline.zoom(0.6), "Ctrl++|Ctrl+=")
        self._action(view, "Zoom out", lambda: window.timeline.zoom(1 / 0.6), "Ctrl+-")
        self._action(view, "Whole file", window.timeline.show_all, "Ctrl+0")
        self._action(view, "Full screen", window.toggle_full_screen, "F11")
        self.light_action = self._action(view, "Light theme", window.set_light, checkable=True)
        self.light_action.setChecked(preferences.load().theme == "light")
        help_menu = bar.addMenu("&Help")
        self._action(help_menu, "Keys…", lambda: show_keys(window), "F1")
        self._action(help_menu, "About Stone Kite…", lambda: show_about(window))
        self.title = Words(Qt.AlignmentFlag.AlignHCenter)
        self.engine_words = Label("")
        self.engine_words.setObjectName("muted")
        self.setObjectName("header")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 14, 0)
        row.setSpacing(24)
        row.addWidget(bar)
        row.addWidget(self.title, 1)
        row.addWidget(self.engine_words)

    def _key(self, keys: str, act) -> None:
        """A key without a line in a menu."""
        shortcut = QShortcut(QKeySequence(keys), self._window)
        shortcut.activated.connect(act)
        self._shortcuts.append(shortcut)

    def keyed(self) -> list[QAction | QShortcut]:
        """All that keys do in the window."""
        return [*self._actions, *self._shortcuts]

    def _fill_recent(self) -> None:
        """What was opened or saved last, and is still there."""
        self.recent_menu.clear()
        for name in preferences.load().recent:
            path = Path(name)
            if path.exists():
                action = self.recent_menu.addAction(
                    f"{shown_name(path)}\t{path.parent}",
                    partial(self._window.opening.ask_recent, path),
                )
                action.setToolTip(name)
        if self.recent_menu.isEmpty():
            self.recent_menu.addAction("Nothing was opened yet").setEnabled(False)

    def _action(self, menu: QMenu, words: str, act, keys: str = "", checkable: bool = False) -> QAction:
        action = QAction(words, self._window)
        if keys:
            action.setShortcuts([QKeySequence(k) for k in keys.split("|")])
        action.setCheckable(checkable)
        action.triggered.connect(act)
        menu.addAction(action)
        self._actions.append(action)
        return action
