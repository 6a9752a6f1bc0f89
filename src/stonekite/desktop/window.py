"""The main window: map, editor, timeline and listen panel around one document."""

from pathlib import Path

import numpy as np
from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtGui import (
    QAction,
    QActionGroup,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeySequence,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMenu,
    QMenuBar,
    QMessageBox,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.dialogs import ChannelDialog
from stonekite.desktop.document import STEM, Document, session_of
from stonekite.desktop.eq_editor import EqEditor
from stonekite.desktop.exporting import Exporting
from stonekite.desktop.fields import Segments, Toggle, Words
from stonekite.desktop.kite_map import KiteMap
from stonekite.desktop.leg_row import LegRow
from stonekite.desktop.listen_panel import ListenPanel, shown
from stonekite.desktop.measuring import Measuring, overview
from stonekite.desktop.stage_editor import StageEditor
from stonekite.desktop.theme import NAMES, roles
from stonekite.desktop.timeline import Timeline, clock
from stonekite.desktop.transport import Transport
from stonekite.engine.overview import sketch
from stonekite.files.audio import READABLE, AudioError, ChannelsNeeded, Reader
from stonekite.jobs import Analysed
from stonekite.session import edits
from stonekite.session.storage import SUFFIX, SessionError
from stonekite.session.types import LEGS, Leg, LegName, Loop, Split
from stonekite.signal.matrix import MATRICES
from stonekite.stages.registry import KINDS, kind_of
from stonekite.stages.settings import settings_of

_SPLIT = settings_of(Split)
_AUDIO_FILTER = f"Audio ({' '.join('*' + s for s in READABLE)})"
_KEYS = (
    ("Space", "play, pause"),
    ("Home", "back to the start, or to the start of the loop"),
    ("1  2  3", "hear processed, unprocessed, difference"),
    ("M", "level match on or off"),
    ("Shift+L  R  M  S", "hear Left, Right, Mid or Side alone"),
    ("L", "loop on or off"),
    ("B", "the chosen stage in or out"),
    ("O", "edit the other leg"),
    ("Ctrl+Z  Ctrl+Shift+Z", "undo, redo"),
    ("Ctrl+O  Ctrl+S  Ctrl+E", "open, save, export"),
    ("In the picture", "arrows move a band, + and − its Q, PageUp and PageDown choose, Delete removes"),
    ("In the signal path", "arrows choose, Alt+arrows reorder, + adds, Delete removes a stage"),
    ("On the timeline", "+ and − zoom, 0 shows all, arrows step"),
)


def _panel() -> tuple[QFrame, QVBoxLayout]:
    frame = QFrame()
    frame.setObjectName("panel")
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(12, 8, 12, 10)
    layout.setSpacing(6)
    return frame, layout


class Window(QMainWindow):
    """Shows a document and everything that can be done with it."""

    def __init__(self) -> None:
        super().__init__()
        self.resize(1280, 800)
        self.setMinimumSize(1100, 700)
        self.setAcceptDrops(True)
        self.document = Document(self)
        self.transport = Transport(self)
        self.measuring = Measuring(self)
        self.exporting = Exporting(self)
        self._chosen: tuple[int, LegName] | None = None
        self._last_loop: Loop | None = None
        self._output_words = "starting the player…"
        self._simulated = False
        self._mono = False
        self._measured: Analysed | None = None
        self._build()
        self._build_menus()
        self._connect()
        self._show_empty()

    # Building

    def _build(self) -> None:
        self.kite = KiteMap()
        self.leg_rows = {leg: LegRow(self.document, leg) for leg in LEGS}
        map_panel, map_layout = _panel()
        map_layout.setSpacing(0)
        map_layout.addWidget(self.leg_rows["upper"])
        map_layout.addWidget(self.kite)
        map_layout.addWidget(self.leg_rows["lower"])

        self.editor = EqEditor(self.document)
        self.stage_title = QLabel("EQ")
        self.stage_title.setObjectName("title")
        self.stage_words = QLabel("")
        self.stage_words.setObjectName("muted")
        self.leg_choice = Segments(
            {"upper": "Mid", "lower": "Side"}, "Leg to edit", "Which leg is in front (key O)"
        )
        self.linked = Toggle(
            "Linked", "Linked", "An edit of one side goes to the other, keeping the offset there is (key K)"
        )
        self.side_on = Toggle(
            "On this leg",
            "Stage on this leg",
            "Whether the stage works on this leg, or lets it pass untouched",
        )
        self.inserted = Segments(
            {True: "Stage in", False: "out"}, "Stage in or out", "Take the stage out and in (key B)"
        )
        head = QHBoxLayout()
        head.setSpacing(12)
        for widget in (self.stage_title, self.stage_words, self.leg_choice, self.side_on, self.linked):
            head.addWidget(widget)
        head.addStretch()
        head.addWidget(self.inserted)
        self.editor_panel, editor_layout = _panel()
        self.editors: dict[str, EqEditor | StageEditor] = {
            kind: self.editor if kind == "eq" else StageEditor(self.document, kind) for kind in KINDS
        }
        self.editor_stack = QStackedWidget()
        for editor in self.editors.values():
            self.editor_stack.addWidget(editor)
        editor_layout.addLayout(head)
        editor_layout.addWidget(self.editor_stack, 1)

        self.empty_panel, empty_layout = _panel()
        self.empty_words = QLabel("")
        self.empty_words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty_words.setObjectName("muted")
        self.empty_button = QPushButton("Open…")
        self.demo_button = QPushButton("Open the demo")
        buttons = QHBoxLayout()
        buttons.setSpacing(10)
        buttons.addStretch()
        buttons.addWidget(self.empty_button)
        buttons.addWidget(self.demo_button)
        buttons.addStretch()
        empty_layout.addStretch()
        empty_layout.addWidget(self.empty_words)
        empty_layout.addSpacing(8)
        empty_layout.addLayout(buttons)
        empty_layout.addStretch()
        self.middle = QStackedWidget()
        self.middle.addWidget(self.editor_panel)
        self.middle.addWidget(self.empty_panel)

        self.timeline = Timeline()
        self.play_button = QPushButton("Play")
        self.play_button.setObjectName("small")
        self.play_button.setFixedWidth(62)
        self.play_button.setToolTip("Play or pause (Space)")
        self.time = QLabel("0:00.00")
        self.time.setObjectName("title")
        self.time.setMinimumWidth(74)
        self.time.setAccessibleName("Play position")
        self.length = QLabel("")
        self.length.setObjectName("muted")
        self.loop_words = Toggle("Loop", "Loop", "Repeat the dragged range (key L)")
        self.loop_range = QLabel("")
        self.loop_range.setObjectName("muted")
        self.hint = Words(Qt.AlignmentFlag.AlignRight)
        transport_row = QHBoxLayout()
        transport_row.setSpacing(10)
        for widget in (self.play_button, self.time, self.length, self.loop_words, self.loop_range):
            transport_row.addWidget(widget)
        transport_row.addWidget(self.hint, 1)
        timeline_panel, timeline_layout = _panel()
        timeline_layout.addLayout(transport_row)
        timeline_layout.addWidget(self.timeline, 1)

        left = QVBoxLayout()
        left.setSpacing(8)
        left.addWidget(map_panel)
        left.addWidget(self.middle, 5)
        left.addWidget(timeline_panel, 2)
        self.listen = ListenPanel()
        centre = QWidget()
        layout = QHBoxLayout(centre)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.setSpacing(8)
        layout.addLayout(left, 1)
        layout.addWidget(self.listen)
        self.setCentralWidget(centre)

    def _action(self, menu: QMenu, words: str, act, keys: str = "", checkable: bool = False) -> QAction:
        action = QAction(words, self)
        if keys:
            action.setShortcuts([QKeySequence(k) for k in keys.split("|")])
        action.setCheckable(checkable)
        action.triggered.connect(act)
        menu.addAction(action)
        return action

    def _build_menus(self) -> None:
        bar = self.menu_bar = QMenuBar()
        file = bar.addMenu("&File")
        self._action(file, "Open…", self.ask_open, "Ctrl+O")
        self._action(file, "Open the demo", self.open_demo)
        file.addSeparator()
        self.save_action = self._action(file, "Save", self.save, "Ctrl+S")
        self.save_as_action = self._action(file, "Save as…", self.save_as, "Ctrl+Shift+S")
        self.export_action = self._action(file, "Export…", self.export, "Ctrl+E")
        file.addSeparator()
        self._action(file, "Quit", self.close, "Ctrl+Q")
        edit = bar.addMenu("&Edit")
        self.undo_action = self._action(edit, "Undo", self.document.undo, "Ctrl+Z")
        self.redo_action = self._action(edit, "Redo", self.document.redo, "Ctrl+Shift+Z|Ctrl+Y")
        edit.addSeparator()
        self.add_menu = edit.addMenu("Add a stage")
        for tag, kind in KINDS.items():
            self._action(self.add_menu, kind.LABEL, lambda on=False, tag=tag: self.add_stage(tag))
        self.remove_action = self._action(edit, "Remove the stage", lambda: self.remove_stage())
        self.in_action = self._action(edit, "Stage in or out", self.toggle_inserted, "B")
        self.other_action = self._action(edit, "Edit the other leg", self.choose_other, "O")
        self.link_action = self._action(edit, "Link its two sides", self.toggle_linked, "K")
        self.signal_menu = bar.addMenu("&Signal")
        group = QActionGroup(self)
        self.split_actions: dict[tuple[str, str], QAction] = {}
        assert _SPLIT["mode"].words and _SPLIT["matrix"].words
        for mode, matrix in (("left-right", ""), *(("mid-side", m) for m in MATRICES)):
            words = _SPLIT["mode"].words[mode]
            if matrix:
                words += f", {_SPLIT['matrix'].words[matrix].lower()}{_MATRIX_WORDS[matrix]}"
            action = self._action(
                self.signal_menu,
                words,
                lambda on=False, m=mode, x=matrix: self.set_split(m, x),
                checkable=True,
            )
            group.addAction(action)
            self.split_actions[mode, matrix] = action
        listen = bar.addMenu("&Listen")
        self._action(listen, "Play or pause", self.toggle_play, "Space")
        self._action(listen, "Back to the start", self.rewind, "Home")
        self._action(listen, "Loop", self.toggle_loop, "L")
        listen.addSeparator()
        for key, what in enumerate(("processed", "unprocessed", "difference"), start=1):
            self._action(
                listen, what.capitalize(), lambda on=False, what=what: self.listen.choose(what), str(key)
            )
        self._action(listen, "Level-matched", self.listen.toggle_match, "M")
        listen.addSeparator()
        for name, word in NAMES.items():
            self._action(
                listen,
                f"{word} alone",
                lambda on=False, name=name: self.listen.toggle_only(name),
                f"Shift+{word[0]}",
            )
        view = bar.addMenu("&View")
        self._action(view, "Zoom in", lambda: self.timeline.zoom(0.6), "Ctrl++|Ctrl+=")
        self._action(view, "Zoom out", lambda: self.timeline.zoom(1 / 0.6), "Ctrl+-")
        self._action(view, "Whole file", self.timeline.show_all, "Ctrl+0")
        self._action(view, "Full screen", self._toggle_full_screen, "F11")
        help_menu = bar.addMenu("&Help")
        self._action(help_menu, "Keys…", self.show_keys, "F1")
        self._action(help_menu, "About Stone Kite…", self.show_about)
        self.title = Words(Qt.AlignmentFlag.AlignHCenter)
        self.engine_words = QLabel("")
        self.engine_words.setObjectName("muted")
        header = QFrame()
        header.setObjectName("header")
        row = QHBoxLayout(header)
        row.setContentsMargins(0, 0, 14, 0)
        row.setSpacing(24)
        row.addWidget(bar)
        row.addWidget(self.title, 1)
        row.addWidget(self.engine_words)
        self.setMenuWidget(header)

    def _connect(self) -> None:
        document, kite = self.document, self.kite
        document.opened.connect(self._opened)
        document.changed.connect(self._changed)
        document.named.connect(self._show_names)
        kite.stone_chosen.connect(self._stone_clicked)
        kite.add_asked.connect(self._ask_add)
        kite.split_asked.connect(lambda place: self.signal_menu.popup(place.toPoint()))
        kite.source_asked.connect(self.ask_open)
        kite.output_asked.connect(self.export)
        kite.stone_menu_asked.connect(self._stone_menu)
        kite.stone_moved.connect(self._move_stage)
        kite.stone_dropped.connect(lambda stage, leg: self.set_side(stage, leg, False))
        kite.stone_removed.connect(self.remove_stage)
        self.empty_button.clicked.connect(self._empty_action)
        self.demo_button.clicked.connect(self.open_demo)
        self.leg_choice.chosen.connect(
            lambda leg: self.choose(self._chosen[0], leg) if self._chosen else None
        )
        self.linked.clicked.connect(self.toggle_linked)
        self.side_on.clicked.connect(
            lambda on: self.set_side(self._chosen[0], self._chosen[1], on) if self._chosen else None
        )
        self.inserted.chosen.connect(lambda on: self._put_on_stage("inserted", on, "in" if on else "out"))
        for editor in self.editors.values():
            editor.refused.connect(self.say)
        self.listen.chosen.connect(self.transport.listen)
        self.timeline.seek_asked.connect(lambda t: self.transport.seek(int(t * self.rate)))
        self.timeline.loop_asked.connect(self._set_loop)
        self.play_button.clicked.connect(self.toggle_play)
        self.loop_words.clicked.connect(self.toggle_loop)
        self.transport.ticked.connect(self._tick)
        self.transport.output_changed.connect(self._show_output)
        self.transport.ready.connect(lambda: self._show_engine())
        self.transport.failed.connect(self.say)
        self.measuring.measured.connect(self._show_measured)
        self.measuring.stale.connect(self._show_stale)
        self.measuring.progressed.connect(
            lambda done: self.listen.state.setText(f"measuring… {done * 100:.0f} %")
        )
        self.measuring.failed.connect(self.say)
        self.exporting.said.connect(self.say)
        QApplication.instance().installEventFilter(self)  # type: ignore[union-attr]

    def start(self) -> None:
        """Start the processes behind the window; called once it is on the screen."""
        self.transport.start()
        if self.document.is_open:
            self._load_transport()

    # Opening and saving

    @property
    def rate(self) -> int:
        return self.document.stem.source.rate

    def open_path(self, path: Path, channels: tuple[int, int] | None = None) -> None:
        """Open a session or a recording; what goes wrong is said and leaves everything as it was."""
        try:
            if path.suffix.lower() == SUFFIX:
                self._load_session(path)
                return
            session, facts = session_of(path, channels)
        except ChannelsNeeded as needed:
            dialog = ChannelDialog(needed.path, needed.count, self)
            if dialog.exec():
                self.open_path(path, dialog.channels)
            return
        except (AudioError, SessionError) as error:
            self.complain(str(error))
            return
        self._mono = facts.channels == 1
        self.document.open(session)
        if self._mono:
            self.say(f"“{path.name}” is mono: both legs carry the same sound, Side is silent.")

    def open_paths(self, paths: list[Path]) -> None:
        """Open the first of several files, and say so if there are more."""
        self.open_path(paths[0])
        if len(paths) > 1:
            self.say(f"Opened “{paths[0].name}”: a session holds one recording for now.")

    def _load_session(self, path: Path) -> None:
        try:
            self.document.load(path)
        except AudioError as error:
            found = self._ask_moved(path, str(error))
            if found is not None:
                self._open_relocated(path, found)
            return
        self._mono = self.document.stem.source.channel_count == 1

    def _ask_moved(self, path: Path, sentence: str) -> Path | None:
        """The recording of a session is not there: let it be shown where it is."""
        box = QMessageBox(
            QMessageBox.Icon.NoIcon, "Recording not found", f"{sentence}\nIt belongs to “{path.name}”."
        )
        find = box.addButton("Show where it is…", QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is not find:
            return None
        name, _ = QFileDialog.getOpenFileName(
            self, "Where is the recording?", str(path.parent), _AUDIO_FILTER
        )
        return Path(name) if name else None

    def _open_relocated(self, path: Path, recording: Path) -> None:
        from stonekite.session import storage

        try:
            session = storage.load(path)
            old = session.stems[STEM].source
            fresh, _ = session_of(recording, old.channels)
            self.document.open(edits.put(session, ("stems", STEM, "source"), fresh.stems[0].source), path)
        except (AudioError, SessionError) as error:
            self.complain(str(error))

    def ask_open(self) -> None:
        if not self._may_leave():
            return
        name, _ = QFileDialog.getOpenFileName(
            self, "Open", "", f"Recordings and sessions ({' '.join('*' + s for s in (*READABLE, SUFFIX))})"
        )
        if name:
            self.open_path(Path(name))

    def open_demo(self) -> None:
        from stonekite.desktop.demo_session import demo_session

        if self._may_leave():
            self.document.open(demo_session())

    def _may_leave(self) -> bool:
        """Ask what to do with unsaved changes; False to stay."""
        if not self.document.modified:
            return True
        box = QMessageBox(
            QMessageBox.Icon.NoIcon,
            "Unsaved changes",
            f"“{self.document.name}” has unsaved changes.",
            parent=self,
        )
        save = box.addButton(QMessageBox.StandardButton.Save)
        box.addButton("Discard them", QMessageBox.ButtonRole.DestructiveRole)
        cancel = box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        return box.clickedButton() is not cancel

    def save(self) -> bool:
        """Save to the session's file, asking for one if it has none; whether it was saved."""
        if not self.document.is_open:
            return False
        return self.save_to(self.document.path) if self.document.path is not None else self.save_as()

    def save_as(self) -> bool:
        if not self.document.is_open:
            return False
        source = Path(self.document.stem.source.path)
        name, _ = QFileDialog.getSaveFileName(
            self, "Save session", str(source.with_suffix(SUFFIX)), f"Stone Kite session (*{SUFFIX})"
        )
        if not name:
            return False
        path = Path(name)
        return self.save_to(path if path.suffix.lower() == SUFFIX else path.with_name(path.name + SUFFIX))

    def save_to(self, path: Path) -> bool:
        """Save to a file; whether it worked."""
        try:
            self.document.save(path)
        except SessionError as error:
            self.complain(str(error))
            return False
        self.say(f"Saved as “{path.name}”.")
        return True

    def export(self) -> None:
        if self.document.is_open:
            self.exporting.ask(self.document)

    # Changing

    def set_split(self, mode: str, matrix: str) -> None:
        """Choose left/right, or mid/side with a matrix."""
        if self.document.is_open:
            split = self.document.strip.split
            self.document.put(("split",), Split(mode=mode, matrix=matrix or split.matrix), "Split")  # type: ignore[arg-type]

    def choose(self, stage: int | None, leg: LegName = "upper") -> None:
        """Open a stage's editor with one leg in front, or none."""
        self._chosen = None if stage is None else (stage, leg)
        self.transport.watch(-1 if stage is None else stage)
        self._refresh()

    def choose_other(self) -> None:
        """Bring the other leg of the open stage to the front."""
        if self._chosen is not None:
            self.choose(self._chosen[0], edits.other(self._chosen[1]))

    def _stone_clicked(self, number: int, leg: LegName) -> None:
        stage = self.document.stage(number)
        if stage is not None and getattr(stage, leg) is None:
            self.set_side(number, leg, True)
        self.choose(number, leg)

    def _ask_add(self, leg: LegName) -> None:
        if not self.document.is_open:
            return
        if len(KINDS) == 1:
            self.add_stage(next(iter(KINDS)), leg)
        else:
            menu = QMenu(self)
            for tag, kind in KINDS.items():
                menu.addAction(kind.LABEL, lambda tag=tag: self.add_stage(tag, leg))
            menu.popup(self.kite.mapToGlobal(self.kite.plus_centre(leg).toPoint()))
            self.add_popup = menu

    def add_stage(self, kind: str, leg: LegName = "upper") -> None:
        """Add a stage at the end of the legs and open it."""
        if self.document.is_open:
            session, number = edits.add_stage(self.document.session, STEM, kind)
            self.document.edit(session, f"{KINDS[kind].LABEL} added")
            self.choose(number, leg)

    def remove_stage(self, number: int | None = None) -> None:
        """Remove a stage: the chosen one, if none is named."""
        if number is None:
            number = self._chosen[0] if self._chosen else None
        stage = self.document.stage(number) if number is not None and self.document.is_open else None
        if stage is not None:
            self.document.edit(
                edits.remove_stage(self.document.session, STEM, stage.id), f"{kind_of(stage).LABEL} removed"
            )

    def _move_stage(self, number: int, place: int) -> None:
        self.document.edit(edits.move_stage(self.document.session, STEM, number, place), "Stages reordered")

    def set_side(self, number: int, leg: LegName, on: bool) -> None:
        """Put a stage on a leg with fresh settings, or take it off."""
        stage = self.document.stage(number)
        if stage is None or (getattr(stage, leg) is not None) == on:
            return
        words = f"{kind_of(stage).LABEL} {'on' if on else 'off'} {NAMES[self.document.strip.split.component(leg)]}"
        index = edits.stage_index(self.document.strip, number)
        self.document.put(("stages", index, leg), kind_of(stage).SIDE() if on else None, words)

    def _put_on_stage(self, name: str, value: bool, words: str) -> None:
        stage = self.document.stage(self._chosen[0]) if self._chosen else None
        if stage is not None:
            index = edits.stage_index(self.document.strip, stage.id)
            self.document.put(("stages", index, name), value, f"{kind_of(stage).LABEL} {words}")

    def toggle_inserted(self) -> None:
        stage = self.document.stage(self._chosen[0]) if self._chosen else None
        if stage is not None:
            self._put_on_stage("inserted", not stage.inserted, "out" if stage.inserted else "in")

    def toggle_linked(self) -> None:
        stage = self.document.stage(self._chosen[0]) if self._chosen else None
        if stage is not None:
            self._put_on_stage("linked", not stage.linked, "unlinked" if stage.linked else "linked")

    def _stone_menu(self, number: int, leg: LegName, place) -> None:
        stage = self.document.stage(number)
        if stage is None:
            return
        self._stone_clicked(number, leg) if getattr(stage, leg) is not None else None
        menu = QMenu(self)
        menu.addAction("Take out" if stage.inserted else "Put in", self.toggle_inserted)
        menu.addAction("Unlink" if stage.linked else "Link", self.toggle_linked)
        on = getattr(stage, leg) is not None
        name = NAMES[self.document.strip.split.component(leg)]
        menu.addAction(
            f"Take off {name}" if on else f"Put on {name}", lambda: self.set_side(number, leg, not on)
        )
        menu.addAction("Remove the stage", lambda: self.remove_stage(number))
        menu.popup(QPoint(int(place.x()), int(place.y())))

    def _set_loop(self, loop: tuple[float, float] | None) -> None:
        if self.document.is_open:
            self.document.set_loop(Loop(start_s=loop[0], end_s=loop[1]) if loop else None)

    def toggle_loop(self) -> None:
        if not self.document.is_open:
            return
        loop = self.document.session.loop
        if loop is not None:
            self._last_loop = loop
            self.document.set_loop(None)
        elif self._last_loop is not None:
            self.document.set_loop(self._last_loop)
        else:
            start, stop = self.timeline.view
            self.document.set_loop(Loop(start_s=start, end_s=stop))

    def toggle_play(self) -> None:
        if not self.document.is_open:
            return
        if self.transport.playing:
            self.transport.pause()
        else:
            self.transport.play()
        self._show_playing()

    def rewind(self) -> None:
        if self.document.is_open:
            loop = self.document.session.loop
            self.transport.seek(int(loop.start_s * self.rate) if loop is not None else 0)

    # Showing

    def _opened(self) -> None:
        stem = self.document.stem
        self._measured = None
        self._last_loop = None
        self.timeline.show_recording(stem.source.frames / stem.source.rate)
        self.listen.forget()
        self._sketch_waveform()
        stages = self.document.strip.stages
        self._chosen = (stages[0].id, "upper") if stages else None
        self.transport.watch(self._chosen[0] if self._chosen else -1)
        self._load_transport()
        self._changed()
        self.timeline.setFocus()
        self.say("")

    def _load_transport(self) -> None:
        stem = self.document.stem
        self.transport.load(stem.source, stem.strip)
        self.transport.watch(self._chosen[0] if self._chosen else -1)
        self.transport.listen(self.listen.listening)
        self._send_loop()

    def _sketch_waveform(self) -> None:
        """A first picture at once, from a few looks into the file; the whole follows from the worker."""
        source = self.document.stem.source
        try:
            with Reader(Path(source.path), source.channels) as reader:
                self.timeline.show_before(sketch(reader))
        except AudioError as error:
            self.say(str(error))

    def _changed(self) -> None:
        """The tree is another one: everything shows it."""
        stem = self.document.stem
        self.transport.update(stem.strip)
        self._send_loop()
        self.measuring.want(stem, at_once=self._measured is None)
        if self._chosen is not None and self.document.stage(self._chosen[0]) is None:
            stages = stem.strip.stages
            self._chosen = (stages[-1].id, self._chosen[1]) if stages else None
            self.transport.watch(self._chosen[0] if self._chosen else -1)
        self._refresh()

    def _send_loop(self) -> None:
        loop = self.document.session.loop
        length = self.document.stem.source.frames
        frames = (0, 0)
        if loop is not None:
            frames = (int(loop.start_s * self.rate), min(length, int(loop.end_s * self.rate)))
        self.transport.set_loop(*frames)
        self.timeline.show_loop((loop.start_s, loop.end_s) if loop is not None else None)
        self.loop_words.setChecked(loop is not None)
        self.loop_range.setText(f"{clock(loop.start_s)} – {clock(loop.end_s)}" if loop is not None else "")

    def _refresh(self) -> None:
        if not self.document.is_open:
            return
        stem, strip = self.document.stem, self.document.strip
        source = stem.source
        length = source.frames / source.rate
        channels = "mono" if self._mono else f"{source.rate / 1000:g} kHz"
        self.kite.show_strip(
            strip, (stem.name, f"{clock(length, 0)} · {channels}"), (self._result_words(), self._peak_words())
        )
        self.kite.choose(*(self._chosen or (None,)))
        self.timeline.show_split(strip.split)
        for row in self.leg_rows.values():
            row.setEnabled(True)
            row.refresh()
        key = (strip.split.mode, strip.split.matrix if strip.split.mode == "mid-side" else "")
        self.split_actions[key].setChecked(True)
        self.length.setText(f"/ {clock(length)}")
        self._refresh_stage()

    def _refresh_stage(self) -> None:
        stage = self.document.stage(self._chosen[0]) if self._chosen else None
        for action in (self.remove_action, self.in_action, self.link_action, self.other_action):
            action.setEnabled(stage is not None)
        if stage is None or self._chosen is None:
            strip = self.document.strip
            untouched = (strip.upper, strip.lower) == (Leg(), Leg())
            self.empty_words.setText(
                "No stage yet: what comes out is what went in, bit for bit."
                if untouched
                else "No stage yet: only the legs' levels and switches are at work."
            )
            self.empty_button.setText("Add an EQ")
            self.demo_button.hide()
            self.middle.setCurrentWidget(self.empty_panel)
            return
        leg = self._chosen[1]
        split = self.document.strip.split
        names = {name: NAMES[split.component(name)] for name in LEGS}
        self.leg_choice.set_words(names, {name: roles.component(split.component(name)) for name in LEGS})
        self.leg_choice.show_value(leg)
        self.stage_title.setText(kind_of(stage).LABEL)
        place = edits.stage_index(self.document.strip, stage.id) + 1
        self.stage_words.setText(f"stage {place} of {len(self.document.strip.stages)}")
        self.linked.setChecked(stage.linked)
        self.inserted.show_value(stage.inserted)
        self.side_on.setChecked(getattr(stage, leg) is not None)
        self.side_on.set_colour(roles.component(split.component(leg)))
        self.middle.setCurrentWidget(self.editor_panel)
        editor = self.editors[stage.__struct_config__.tag]
        editor.show_stage(stage.id, leg)
        self.editor_stack.setCurrentWidget(editor)

    def _result_words(self) -> str:
        if self._measured is None:
            return "measuring…"
        return shown(self._measured.after.get("integrated_lufs"), "LUFS")

    def _peak_words(self) -> str:
        return shown(self._measured.after.get("true_peak_dbtp"), "dBTP") if self._measured is not None else ""

    def _show_measured(self, measured: Analysed) -> None:
        first = self._measured is None
        self._measured = measured
        if first or measured.repaired:
            self.timeline.show_before(overview(measured.before_overview))
        self.timeline.show_after(overview(measured.after_overview))
        self.listen.show_measured(measured.before, measured.after, stale=False)
        self.listen.state.setText("whole file, now and unprocessed")
        split = self.document.strip.split
        levels = [measured.after["components"][split.component(leg)]["rms_dbfs"] for leg in LEGS]
        self.kite.show_loudness(*(shown(level, "dBFS") for level in levels))
        if measured.repaired:
            self.say(f"{measured.repaired} damaged samples of the recording are played as silence.")
        self._refresh()

    def _show_stale(self) -> None:
        self.listen.state.setText("measuring…")
        if self._measured is not None:
            self.listen.show_measured(self._measured.before, self._measured.after, stale=True)

    def _tick(self) -> None:
        """Thirty times a second: position, meters and spectra."""
        if not self.document.is_open:
            return
        status = self.transport.status
        position = self.transport.position_s
        self.timeline.show_position(position)
        if self.transport.playing:
            self.timeline.follow()
        text = clock(position)
        if text != self.time.text():
            self.time.setText(text)
        self.kite.show_levels(float(status["leg_levels"][2]), float(status["leg_levels"][3]))
        if self.middle.currentWidget() is self.editor_panel:
            self.editor_stack.currentWidget().show_spectra(np.asarray(status["spectra"]))
        self.listen.show_live(status)
        self._show_playing()
        self._show_engine()

    def _show_playing(self) -> None:
        word = "Pause" if self.transport.playing else "Play"
        if self.play_button.text() != word:
            self.play_button.setText(word)

    def _show_engine(self) -> None:
        words = self._output_words
        if self.document.is_open:
            queued, load = float(self.transport.status["queued_s"]), float(self.transport.status["load"])
            words = f"{self.rate / 1000:g} kHz · latency {queued * 1000:.0f} ms · engine {load * 100:.0f} % · {words}"
        if words != self.engine_words.text():
            self.engine_words.setText(words)

    def _show_output(self, name: str, simulated: bool, rate: int) -> None:
        if simulated and not self._simulated:
            self.say("No sound device: playing into the simulated output.")
        elif self._simulated and not simulated:
            self.say(f"Playing through {name}.")
        self._simulated = simulated
        self._output_words = name
        self.engine_words.setToolTip(f"Sound goes to: {name}, {rate} Hz")
        self._show_engine()

    def _show_names(self) -> None:
        mark = " •" if self.document.modified else ""
        self.title.setText(f"{self.document.name}{mark}")
        self.setWindowTitle(f"{self.document.name}{mark} – Stone Kite")
        undo, redo = self.document.next_undo, self.document.next_redo
        self.undo_action.setText(f"Undo: {undo}" if undo else "Undo")
        self.redo_action.setText(f"Redo: {redo}" if redo else "Redo")
        self.undo_action.setEnabled(undo is not None)
        self.redo_action.setEnabled(redo is not None)
        for action in (self.save_action, self.save_as_action, self.export_action):
            action.setEnabled(self.document.is_open)

    def _show_empty(self) -> None:
        self.setWindowTitle("Stone Kite")
        self.empty_words.setText("Open a recording or a session, or drop one here.")
        self.middle.setCurrentWidget(self.empty_panel)
        self.kite.show_strip(self.kite._strip, ("nothing open", ""), ("", ""))
        for row in self.leg_rows.values():
            row.setEnabled(False)
        self._show_names()
        self._refresh_actions()

    def _refresh_actions(self) -> None:
        for action in (self.remove_action, self.in_action, self.link_action, self.other_action):
            action.setEnabled(False)

    def _empty_action(self) -> None:
        if self.document.is_open:
            self.add_stage("eq")
        else:
            self.ask_open()

    def say(self, sentence: str) -> None:
        """A word in the window that needs no answer; it goes away by itself."""
        self.hint.setText(sentence)
        self.hint.setToolTip(sentence)
        if sentence:
            QTimer.singleShot(12_000, self, lambda: self._unsay(sentence))

    def _unsay(self, sentence: str) -> None:
        if self.hint.text() == sentence:
            self.hint.setText("")

    def complain(self, sentence: str) -> None:
        """A fault that the user must have seen."""
        QMessageBox(QMessageBox.Icon.NoIcon, "Stone Kite", sentence, parent=self).exec()

    def show_keys(self) -> None:
        rows = "".join(
            f"<tr><td style='padding:3px 22px 3px 0'><b>{keys}</b></td><td>{words}</td></tr>"
            for keys, words in _KEYS
        )
        QMessageBox(QMessageBox.Icon.NoIcon, "Keys", f"<table>{rows}</table>", parent=self).exec()

    def show_about(self) -> None:
        from stonekite import __version__

        words = (
            f"<b>Stone Kite {__version__}</b><br><br>Separate processing of the two halves of a stereo "
            "recording,<br>and an honest comparison with what you started from.<br><br>"
            "Typeface: B612, SIL Open Font Licence."
        )
        QMessageBox(QMessageBox.Icon.NoIcon, "About Stone Kite", words, parent=self).exec()

    def _toggle_full_screen(self) -> None:
        self.setWindowState(self.windowState() ^ Qt.WindowState.WindowFullScreen)

    # Events

    def resizeEvent(self, event: QResizeEvent) -> None:
        # The scope is the only thing in the panel that gains by width.
        self.listen.setFixedWidth(min(340, max(232, int(event.size().width() * 0.18))))
        super().resizeEvent(event)

    def eventFilter(self, watched, event) -> bool:
        """While text is typed, letters and digits belong to the text and not to the shortcuts."""
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(QApplication.focusWidget(), QLineEdit):
            plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)
            if plain and event.text():
                event.accept()
                return True
        return super().eventFilter(watched, event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if not paths:
            return
        event.acceptProposedAction()
        # The other program waits until the drop is done: no questions inside it.
        QTimer.singleShot(0, self, lambda: self._open_dropped(paths))

    def _open_dropped(self, paths: list[Path]) -> None:
        if self._may_leave():
            self.open_paths(paths)

    def shut_down(self) -> None:
        """End the processes behind the window; may be called twice."""
        QApplication.instance().removeEventFilter(self)  # type: ignore[union-attr]
        self.exporting.close()
        self.measuring.close()
        self.transport.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        self.shut_down()
        super().closeEvent(event)


_MATRIX_WORDS = {
    "half-sum": ": M=(L+R)/2, S=(L−R)/2",
    "equal-power": ": both by 1/√2",
    "raised-side": ": M=(L+R)/2, S=L−R",
}
