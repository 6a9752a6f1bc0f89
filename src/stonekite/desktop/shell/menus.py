"""The bar above the window: menus, the session's name, and how the engine is doing."""

import time
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, cast

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QActionGroup, QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QFrame, QHBoxLayout, QMenu, QMenuBar

from stonekite import commands
from stonekite.desktop.controls import keyed, theme
from stonekite.desktop.controls.choices import Words
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.dialogs.help_boxes import show_about
from stonekite.desktop.dialogs.keys_dialog import KeysDialog
from stonekite.desktop.model import preferences
from stonekite.files.audio import shown_name
from stonekite.session.types import Split
from stonekite.signal.matrix import MATRICES
from stonekite.stages.registry import by_work
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, Component, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window

_SPLIT = settings_of(Split)
_MATRIX_WORDS = {
    "half-sum": said(": M=(L+R)/2, S=(L−R)/2"),
    "equal-power": said(": both by 1/√2"),
    "raised-side": said(": M=(L+R)/2, S=L−R"),
}


def fill_with_kinds(menu: QMenu, add: Callable[[str], None]) -> None:
    """Every kind of stage with its line of help, in groups in the order of work; `add` gets its tag."""
    for group, kinds in by_work():
        if not kinds:
            continue
        heading = menu.addAction(said(group))
        heading.setEnabled(False)
        for tag, kind in kinds:
            action = menu.addAction(f"{kind.label}\t{kind.help}", partial(add, tag))
            action.setToolTip(kind.help)


class Menus(QFrame):
    """Every command of a window, with its key. `actions_by_id` has those of the menus."""

    def __init__(self, window: "Window") -> None:
        super().__init__()
        self._window = window
        self._acts = acts_of(window)
        self.actions_by_id: dict[str, QAction] = {}
        self._shortcuts: dict[str, QShortcut] = {}
        self.recent_menu = QMenu(said("Open recent"))
        self.recent_menu.aboutToShow.connect(self._fill_recent)
        self.add_menu = QMenu(said("Add a stage"))
        fill_with_kinds(self.add_menu, window.stages.add)
        bar = self.bar = QMenuBar()
        self.demos_menu = QMenu(said("Demos"))
        self._fill(self.demos_menu, "demos", {})
        file = bar.addMenu(said("&File"))
        self._fill(file, "file", {"open-generator": self.recent_menu})
        file.insertMenu(self.actions_by_id["open-generator"], self.demos_menu)
        self._fill(bar.addMenu(said("&Edit")), "edit", {"remove": self.add_menu})
        self.signal_menu = bar.addMenu(said("&Signal"))
        self.split_actions = self._fill_splits(self.signal_menu)
        self._fill(bar.addMenu(said("&Listen")), "listen", {})
        self._fill(bar.addMenu(said("&View")), "view", {})
        self._fill(bar.addMenu(said("&Help")), "help", {})
        self.actions_by_id["light"].setChecked(preferences.load().theme == "light")
        self.actions_by_id["keep-results"].setChecked(preferences.load().keeps)
        for command in commands.COMMANDS:
            if not command.menu:
                shortcut = self._shortcuts[command.id] = QShortcut(QKeySequence(), window)
                shortcut.activated.connect(self._acts[command.id])
        self.use_keys(keyed.in_use())
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

    def _fill(self, menu: QMenu, name: str, before: dict[str, QMenu]) -> None:
        """Put the commands of a menu into it, and other menus before some of them."""
        for command in commands.COMMANDS:
            if command.menu != name:
                continue
            if command.apart or command.id == "remove":
                menu.addSeparator()
            if command.id in before:
                menu.addMenu(before[command.id])
            words = f"{command.words}\t{command.help}" if name == "demos" else command.words
            action = self.actions_by_id[command.id] = QAction(words, self._window)
            action.setCheckable(command.checkable)
            act = self._acts[command.id]
            # Only what can be checked wants to know whether it is.
            action.triggered.connect(act if command.checkable else lambda on=False, act=act: act())
            menu.addAction(action)

    def _fill_splits(self, menu: QMenu) -> dict[tuple[str, str], QAction]:
        """Left and right, or mid and side with each matrix; one of them is in use."""
        group, found = QActionGroup(self._window), {}
        assert _SPLIT["mode"].words and _SPLIT["matrix"].words
        for mode, matrix in (("left-right", ""), *(("mid-side", m) for m in MATRICES)):
            words = _SPLIT["mode"].words[mode]
            if matrix:
                words += f", {_SPLIT['matrix'].words[matrix].lower()}{_MATRIX_WORDS[matrix]}"
            action = found[mode, matrix] = QAction(words, self._window)
            action.setCheckable(True)
            action.triggered.connect(lambda on=False, m=mode, x=matrix: self._window.set_split(m, x))
            group.addAction(action)
            menu.addAction(action)
        return found

    def use_keys(self, own: Mapping[str, tuple[str, ...]]) -> None:
        """Give every command its key: the user's own, or the usual one."""
        for command in commands.COMMANDS:
            keys = [QKeySequence(key) for key in commands.keys_of(command, own)]
            if command.menu:
                self.actions_by_id[command.id].setShortcuts(keys)
            else:
                self._shortcuts[command.id].setKey(keys[0] if keys else QKeySequence())

    def needing(self, what: commands.Needs) -> list[QAction]:
        """The actions that can do nothing without a session, or without a stage."""
        return [self.actions_by_id[c.id] for c in commands.COMMANDS if c.menu and c.needs == what]

    def keyed(self) -> list[QAction | QShortcut]:
        """All that keys do in the window."""
        return [*self.actions_by_id.values(), *self.split_actions.values(), *self._shortcuts.values()]

    def set_light(self, on: bool) -> None:
        """Ink on limestone, or chalk on slate; kept for the next start."""
        chosen = "light" if on else "dark"
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        theme.apply(application, chosen)
        self._window.showing.refresh()
        self._keep_preference(theme=chosen)

    def set_keeps(self, on: bool) -> None:
        """Keep what stems sound like, or not; kept for the next start."""
        self._window.mixing.keeper.switch(on)
        self._keep_preference(keeps=on)

    def show_keys(self) -> KeysDialog:
        """All keys; other ones are used at once, and kept for the next start."""
        dialog = KeysDialog(keyed.in_use(), self._window)
        dialog.changed.connect(self._use_keys)
        dialog.open()
        return dialog

    def _use_keys(self, own: dict[str, tuple[str, ...]]) -> None:
        keyed.use(own, self._window)
        self.use_keys(own)
        self._keep_preference(keys=own)

    def _keep_preference(self, **values: object) -> None:
        try:
            preferences.save(msgspec.structs.replace(preferences.load(), **values))
        except OSError as error:
            self._window.say(
                said("This choice cannot be kept: {reason}.").format(
                    reason=(error.strerror or str(error)).lower()
                )
            )

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
            self.recent_menu.addAction(said("Nothing was opened yet")).setEnabled(False)


def acts_of(window: "Window") -> dict[str, Callable[..., object]]:
    """What each command does."""
    stages, listen, hearing = window.stages, window.listen, window.hearing
    acts: dict[str, Callable[..., object]] = {
        "open": window.opening.ask_open,
        "open-demo": window.opening.open_demo,
        "open-zither": window.opening.open_zither,
        "open-amps": window.opening.open_amps,
        "open-calls-96": partial(window.opening.open_calls, 96),
        "open-calls-132": partial(window.opening.open_calls, 132),
        "open-lantern": window.opening.open_lantern,
        "open-wheelhouse": window.opening.open_wheelhouse,
        "open-reel": window.opening.open_reel,
        "open-generator": window.opening.open_generator,
        "save": window.opening.save,
        "save-as": window.opening.save_as,
        "export": window.export,
        "export-sets": lambda: window.sets.ask(),
        "batch": lambda: window.batches.ask(),
        "saves": lambda: window.keeping.ask_saves(),
        "gather": lambda: window.keeping.ask_gather(),
        "section": window.sections.add,
        "find-sections": window.sections.propose,
        "strike": lambda: window.sections.strike(window.transport.heard_at(time.monotonic())),
        "next-section": partial(window.sections.step, 1),
        "last-section": partial(window.sections.step, -1),
        "grips": window.grips.show,
        "rides": window.riding.toggle,
        "record": window.riding.toggle_record,
        "quit": window.close,
        "add-stems": lambda: window.mixing.ask_add(),
        "next-strip": lambda: window.mixing.bar.step(1),
        "last-strip": lambda: window.mixing.bar.step(-1),
        "undo": window.document.undo,
        "redo": window.document.redo,
        "remove": stages.remove,
        "in-out": stages.toggle_inserted,
        "other-leg": stages.choose_other_leg,
        "link": stages.toggle_linked,
        "reset": stages.reset,
        "copy-across": stages.copy_across,
        "swap": stages.swap,
        "copy": stages.copy,
        "paste": stages.paste,
        "new-spur": window.spurring.ask,
        "press-copy": window.spurs.press_copy,
        "match-levels": window.spurring.ask_match,
        "tempo": window.timing.open,
        "presets": window.show_presets,
        "play": hearing.toggle_play,
        "rewind": hearing.rewind,
        "loop": hearing.toggle_loop,
        "strip": listen.toggle_strip,
        "match": listen.toggle_match,
        "turn": listen.turn,
        "keep": window.switching.keep,
        "keep-results": lambda on: window.menus.set_keeps(on),
        "forget-results": lambda: window.mixing.keeper.forget_all(),
        "add-reference": window.switching.ask_reference,
        "next-reference": listen.next_reference,
        "blind": window.blind_testing.ask,
        "zoom-in": partial(window.timeline.zoom, 0.6),
        "zoom-out": partial(window.timeline.zoom, 1 / 0.6),
        "zoom-all": window.timeline.show_all,
        "full-screen": lambda: window.setWindowState(window.windowState() ^ Qt.WindowState.WindowFullScreen),
        "light": lambda on: window.menus.set_light(on),
        "keys": lambda: window.menus.show_keys(),
        "about": partial(show_about, window),
    }
    acts |= {what: partial(listen.choose, what) for what in ("processed", "unprocessed", "difference")}
    acts |= {f"{name}-alone": partial(listen.toggle_only, cast(Component, name)) for name in NAMES}
    acts |= {
        f"view-{name}": partial(window.show_view, name)
        for name in ("source", "stage", "output", "compare", "pair", "mix")
    }
    acts |= {f"version-{n}": partial(listen.choose_version, n) for n in range(1, commands.VERSIONS + 1)}
    return acts
