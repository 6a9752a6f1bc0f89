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
from stonekite.desktop.errands import Errands
from stonekite.desktop.exporting import Exporting
from stonekite.desktop.fields import Toggle, Words
from stonekite.desktop.kite_map import KiteMap
from stonekite.desktop.leg_row import LegRow
from stonekite.desktop.listen_panel import ListenPanel, shown
from stonekite.desktop.matching import Matching
from stonekite.desktop.measuring import Measuring, overview
from stonekite.desktop.output_view import OutputView
from stonekite.desktop.presets_dialog import PresetsDialog
from stonekite.desktop.separating import Separating
from stonekite.desktop.source_view import SourceView
from stonekite.desktop.stage_actions import StageActions
from stonekite.desktop.stage_panel import StagePanel
from stonekite.desktop.theme import NAMES
from stonekite.desktop.timeline import Timeline, clock
from stonekite.desktop.transport import Transport
from stonekite.engine.audition import Audition, auditioned
from stonekite.engine.generator import generator_source
from stonekite.engine.overview import sketch
from stonekite.engine.render import open_source
from stonekite.engine.smoothing import DEFAULT_SMOOTHING
from stonekite.files.audio import READABLE, AudioError, ChannelsNeeded
from stonekite.jobs import Analysed
from stonekite.session import edits, presets
from stonekite.session.storage import SUFFIX, SessionError
from stonekite.session.types import LEGS, Leg, LegName, Loop, Session, Split, Stem
from stonekite.signal.matrix import MATRICES
from stonekite.stages.registry import KINDS
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
    ("B", "the open stage in or out; hold H to hear it out"),
    ("O", "edit the other leg"),
    ("F5  F6  F7", "source check, stages, output"),
    ("P", "presets for the open stage"),
    ("Ctrl+C  Ctrl+V", "copy the open stage, paste one behind it"),
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
        self.stages = StageActions(self.document, self)
        self.errands = Errands(self)
        self.separating = Separating(self, self.errands)
        self.matching = Matching(self, self.document, self.stages, self.errands)
        self.preset_folder = presets.user_folder()
        self._view = "stage"
        self._audition: Audition | None = None
        self._smoothing = DEFAULT_SMOOTHING
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

        self.panel = StagePanel(self.document, self.stages)
        self.source_view = SourceView(self.document)
        self.output_view = OutputView(self.document)
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
        for widget in (self.panel, self.empty_panel, self.source_view, self.output_view):
            self.middle.addWidget(widget)

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
        self._action(file, "Open the test generator", self.open_generator)
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
            self._action(self.add_menu, kind.LABEL, lambda on=False, tag=tag: self.stages.add(tag))
        stages = self.stages
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
        self.presets_action = self._action(edit, "Presets…", lambda: self.show_presets(), "P")
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
        for words, name, keys in (
            ("Source check", "source", "F5"),
            ("Stages", "stage", "F6"),
            ("Output", "output", "F7"),
        ):
            self._action(view, words, lambda on=False, name=name: self.show_view(name), keys)
        view.addSeparator()
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
        stages = self.stages
        kite.stone_chosen.connect(stages.open_side)
        kite.add_asked.connect(self._ask_add)
        kite.split_asked.connect(lambda place: self.signal_menu.popup(place.toPoint()))
        kite.source_asked.connect(
            lambda: self.show_view("source") if self.document.is_open else self.ask_open()
        )
        kite.output_asked.connect(lambda: self.show_view("output"))
        kite.stone_menu_asked.connect(self._stone_menu)
        kite.stone_moved.connect(stages.move)
        kite.stone_dropped.connect(lambda stage, leg: stages.set_side(stage, leg, False))
        kite.stone_removed.connect(stages.remove)
        stages.chosen_changed.connect(self._chosen_changed)
        stages.said.connect(self.say)
        self.empty_button.clicked.connect(self._empty_action)
        self.demo_button.clicked.connect(self.open_demo)
        self.panel.presets_asked.connect(self.show_presets)
        self.panel.change_asked.connect(lambda on: self._hear_alone("change" if on else None))
        self.panel.smoothing_asked.connect(self._smooth)
        self.panel.eq.alone_asked.connect(self._hear_band)
        self.panel.eq.match_asked.connect(self.matching.ask)
        self.matching.found.connect(self.panel.eq.use_bands)
        self.source_view.opening_asked.connect(self.ask_open)
        self.source_view.separating_asked.connect(lambda: self.separating.ask(self.document))
        self.separating.opened.connect(self.open_path)
        self.output_view.export_asked.connect(self.export)
        for teller in (self.matching, self.separating, self.errands):
            teller.said.connect(self.say)
        for view in (self.source_view, self.output_view):
            view.refused.connect(self.say)
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

    def open_generator(self) -> None:
        """Open a session on the test generator in place of a recording."""
        if self._may_leave():
            self._mono = False
            self.document.open(Session(stems=(Stem(id=1, name="Test generator", source=generator_source()),)))
            self.show_view("source")

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
        source = self.document.stem.source
        proposed = Path(f"{source.path}.x" if source.generator is not None else source.path)
        name, _ = QFileDialog.getSaveFileName(
            self, "Save session", str(proposed.with_suffix(SUFFIX)), f"Stone Kite session (*{SUFFIX})"
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

    def show_view(self, name: str) -> None:
        """Show the source check, the open stage or the output in the middle."""
        if self.document.is_open:
            self._view = name
            self._refresh()

    def _chosen_changed(self) -> None:
        """Another stage is open, or another leg of it in front."""
        self._view = "stage"
        self._hear_alone(None)
        self._watch()
        self._refresh()

    def _watch(self) -> None:
        chosen = self.stages.chosen
        self.transport.watch(chosen[0] if chosen else -1, self._smoothing)

    def _smooth(self, parts: int) -> None:
        self._smoothing = parts
        self._watch()

    def _hear_band(self, what: tuple[LegName, int] | None) -> None:
        if what is None:
            self._hear_alone(None)
        else:
            self._hear_alone("band", *what)

    def _hear_alone(self, what, leg: LegName = "upper", slot: int = 0) -> None:
        """Listen to the open stage taken out, to its change or to a band of it; None: to the strip as it is."""
        chosen = self.stages.chosen
        audition = Audition(chosen[0], what, leg, slot) if what is not None and chosen else None
        self.panel.change.setChecked(audition is not None and what == "change")
        self.panel.eq.alone.setChecked(audition is not None and what == "band")
        if audition == self._audition:
            return
        self._audition = audition
        if audition is not None:
            words = {
                "out": "Hearing the result without this stage.",
                "change": "Hearing only what this stage changes.",
                "band": "Hearing only the range of this band.",
            }
            self.say(words[what])
        else:
            self.say("")
        if self.document.is_open:
            self.transport.update(auditioned(self.document.strip, audition))

    def _ask_add(self, leg: LegName) -> None:
        if self.document.is_open:
            menu = self.add_popup = QMenu(self)
            for tag, kind in KINDS.items():
                action = menu.addAction(kind.LABEL, lambda tag=tag: self.stages.add(tag, leg))
                action.setToolTip(kind.HELP)
            menu.setToolTipsVisible(True)
            menu.popup(self.kite.mapToGlobal(self.kite.plus_centre(leg).toPoint()))

    def _stone_menu(self, number: int, leg: LegName, place) -> None:
        stage = self.document.stage(number)
        if stage is None:
            return
        stages = self.stages
        on = getattr(stage, leg) is not None
        stages.choose(number, leg)
        menu = self.stone_popup = QMenu(self)
        menu.addAction("Take out" if stage.inserted else "Put in", stages.toggle_inserted)
        menu.addAction("Unlink" if stage.linked else "Link", stages.toggle_linked)
        name = NAMES[self.document.strip.split.component(leg)]
        words = f"Take off {name}" if on else f"Put on {name}"
        menu.addAction(words, lambda: stages.set_side(number, leg, not on))
        menu.addAction("Copy", stages.copy)
        menu.addAction("Paste behind it", stages.paste)
        menu.addAction("Remove the stage", lambda: stages.remove(number))
        menu.popup(QPoint(int(place.x()), int(place.y())))

    def show_presets(self) -> PresetsDialog | None:
        """Choose among presets for the open stage, a leg of it or the whole strip."""
        if not self.document.is_open:
            return None
        dialog = PresetsDialog(self.document, self.stages, self, self.preset_folder)
        dialog.open()
        return dialog

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
        self.stages.chosen = (stages[0].id, "upper") if stages else None
        self._view = "stage" if stages else "source"
        self._audition = None
        self.panel.show_changes({})
        self.source_view.show_findings(None)
        self._load_transport()
        self._changed()
        self.timeline.setFocus()
        self.say("")

    def _load_transport(self) -> None:
        stem = self.document.stem
        self._playing_source = stem.source
        self.transport.load(stem.source, auditioned(stem.strip, self._audition))
        self._watch()
        self.transport.listen(self.listen.listening)
        self._send_loop()

    def _sketch_waveform(self) -> None:
        """A first picture at once, from a few looks into the file; the whole follows from the worker."""
        source = self.document.stem.source
        try:
            with open_source(source) as reader:
                self.timeline.show_before(sketch(reader))
        except AudioError as error:
            self.say(str(error))

    def _changed(self) -> None:
        """The tree is another one: everything shows it."""
        stem = self.document.stem
        if stem.source != self._playing_source:
            self._reload()
        self.transport.update(auditioned(stem.strip, self._audition))
        self._send_loop()
        self.measuring.want(stem, at_once=self._measured is None)
        if not self.stages.choose_what_is_left():
            self._refresh()

    def _reload(self) -> None:
        """The source is another one, the generator's signal say: go on where it was."""
        frame, playing = self.transport.frame, self.transport.playing
        self._sketch_waveform()
        self.source_view.show_findings(None)
        self._load_transport()
        self.transport.seek(frame)
        if playing:
            self.transport.play()

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
        self.kite.choose(*(self.stages.chosen or (None,) if self._view == "stage" else (None,)))
        self.kite.mark(self._view)
        self.timeline.show_split(strip.split)
        for row in self.leg_rows.values():
            row.setEnabled(True)
            row.refresh()
        key = (strip.split.mode, strip.split.matrix if strip.split.mode == "mid-side" else "")
        self.split_actions[key].setChecked(True)
        self.length.setText(f"/ {clock(length)}")
        self._refresh_stage()

    def _refresh_stage(self) -> None:
        stage = self.stages.stage
        for action in self.stage_actions:
            action.setEnabled(stage is not None)
        if self._view == "source":
            self.source_view.refresh()
            self.middle.setCurrentWidget(self.source_view)
        elif self._view == "output":
            self.output_view.refresh()
            self.middle.setCurrentWidget(self.output_view)
        elif stage is None:
            self._show_no_stage()
        else:
            self.panel.refresh()
            self.middle.setCurrentWidget(self.panel)

    def _show_no_stage(self) -> None:
        strip = self.document.strip
        untouched = (strip.upper, strip.lower) == (Leg(), Leg())
        self.empty_words.setText(
            "No stage yet: the legs are joined as they were split."
            if untouched
            else "No stage yet: only the legs' levels and switches are at work."
        )
        self.empty_button.setText("Add an EQ")
        self.demo_button.hide()
        self.middle.setCurrentWidget(self.empty_panel)

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
        self.source_view.show_findings(measured.findings)
        self.panel.show_changes(measured.changes)
        split = self.document.strip.split
        levels = [measured.after["components"][split.component(leg)]["rms_dbfs"] for leg in LEGS]
        self.kite.show_loudness(*(shown(level, "dBFS") for level in levels))
        self.document.keep_levels(measured.changes)
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
        if self.middle.currentWidget() is self.panel:
            self.panel.show_spectra(np.asarray(status["spectra"]))
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
        for action in self.stage_actions:
            action.setEnabled(False)

    def _empty_action(self) -> None:
        if self.document.is_open:
            self.stages.add("eq")
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
        """While text is typed, letters and digits belong to the text and not to the shortcuts.

        And while H is held, the open stage is heard out.
        """
        if event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease) and event.key() == Qt.Key.Key_H:
            return self._hold(event)
        if event.type() == QEvent.Type.WindowDeactivate and self._audition and self._audition.what == "out":
            self._hear_alone(None)
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(QApplication.focusWidget(), QLineEdit):
            plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)
            if plain and event.text():
                event.accept()
                return True
        return super().eventFilter(watched, event)

    def _hold(self, event) -> bool:
        typing = isinstance(QApplication.focusWidget(), QLineEdit)
        if (
            typing
            or event.modifiers()
            or QApplication.activeModalWidget() is not None
            or not self.stages.stage
        ):
            return False
        if not event.isAutoRepeat():
            self._hear_alone("out" if event.type() == QEvent.Type.KeyPress else None)
        return True

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
        self.errands.close()
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
