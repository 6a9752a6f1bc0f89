"""The main window: map, editor, timeline and listen panel around one document."""

from pathlib import Path

import msgspec
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls import keyed, theme
from stonekite.desktop.controls.choices import Toggle, Words
from stonekite.desktop.controls.plain import Label, message, tip
from stonekite.desktop.dialogs.keys_dialog import KeysDialog
from stonekite.desktop.dialogs.presets_dialog import PresetsDialog
from stonekite.desktop.editors.leg_row import LegRow
from stonekite.desktop.editors.stage_panel import StagePanel
from stonekite.desktop.kite.kite_map import KiteMap
from stonekite.desktop.kite.kite_scroll import KiteScroll
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.links.measuring import Measuring, overview
from stonekite.desktop.links.posting import Posting
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.spur_actions import SpurActions
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.desktop.shell.blind_testing import BlindTesting
from stonekite.desktop.shell.engine_words import EngineWords
from stonekite.desktop.shell.exporting import Exporting
from stonekite.desktop.shell.hearing import Hearing
from stonekite.desktop.shell.key_filter import KeyFilter
from stonekite.desktop.shell.learning import Learning
from stonekite.desktop.shell.matching import Matching
from stonekite.desktop.shell.menus import Menus, fill_with_kinds
from stonekite.desktop.shell.opening import Opening
from stonekite.desktop.shell.report_writing import ReportWriting
from stonekite.desktop.shell.responses import Responses
from stonekite.desktop.shell.separating import Separating
from stonekite.desktop.shell.spurs import Spurring
from stonekite.desktop.shell.timing import Timing
from stonekite.desktop.shell.tone_finding import ToneFinding
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.desktop.views.compare_view import CompareView
from stonekite.desktop.views.listen_panel import ListenPanel
from stonekite.desktop.views.output_view import OutputView
from stonekite.desktop.views.source_view import SourceView
from stonekite.desktop.views.spur_view import SpurView
from stonekite.desktop.views.switching import Switching
from stonekite.engine.offline.overview import sketch
from stonekite.engine.offline.render import open_source
from stonekite.files.audio import READABLE, AudioError
from stonekite.processes.jobs import Analysed
from stonekite.processes.pool import Pool
from stonekite.session import presets, tree
from stonekite.session.differences import names_of
from stonekite.session.types import LEGS, Leg, LegName, Split
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, clock, figure

_SPLIT = settings_of(Split)
_AUDIO_FILTER = f"Audio ({' '.join('*' + s for s in READABLE)})"


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
        self.workers = Pool(Posting(self))
        self.measuring = Measuring(self.workers, self)
        self.exporting = Exporting(self, self.workers)
        self.opening = Opening(self, self.document)
        self.stages = StageActions(self.document, self)
        self.spurs = SpurActions(self.document, self)
        self.errands = Errands(self.workers, self)
        self.separating = Separating(self, self.errands)
        self.matching = Matching(self, self.document, self.stages, self.errands)
        self.preset_folder = presets.user_folder()
        keyed.use(preferences.own_keys())
        self._view = "stage"
        self._guarded = 0
        self._measured: Analysed | None = None
        self._build()
        self.tone_finding = ToneFinding(self.panel, self.document, self.stages, self.errands, self.transport)
        self.blind_testing = BlindTesting(self)
        self.reporting = ReportWriting(self, self.document, self.compare_view, self.switching)
        self.spurring = Spurring(self)
        self.timing = Timing(self)
        self.learning = Learning(self)
        self.responses = Responses(self)
        self.transport_row.insertWidget(5, self.timing.button)
        self._keys = KeyFilter(self)
        self.menus = Menus(self)
        self.setMenuWidget(self.menus)
        self.engine = EngineWords(self.menus.engine_words, self.document, self.transport)
        self._connect()
        self._show_empty()

    # Building

    def _build(self) -> None:
        self.kite = KiteMap()
        self.leg_rows = {leg: LegRow(self.document, leg) for leg in LEGS}
        map_panel, map_layout = _panel()
        map_layout.setSpacing(0)
        map_layout.addWidget(self.leg_rows["upper"])
        map_layout.addWidget(KiteScroll(self.kite))
        map_layout.addWidget(self.leg_rows["lower"])

        self.panel = StagePanel(self.document, self.stages)
        self.source_view = SourceView(self.document)
        self.output_view = OutputView(self.document)
        self.spur_view = SpurView(self.document, self.spurs)
        self.empty_panel, empty_layout = _panel()
        self.empty_words = Label("")
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
        for widget in (self.panel, self.empty_panel, self.source_view, self.output_view, self.spur_view):
            self.middle.addWidget(widget)

        self.timeline = Timeline()
        self.play_button = QPushButton("Play")
        self.play_button.setObjectName("small")
        self.play_button.setFixedWidth(62)
        keyed.keyed(self.play_button, "Play or pause", "play")
        self.time = Label("0:00.00")
        self.time.setObjectName("title")
        self.time.setMinimumWidth(74)
        self.time.setAccessibleName("Play position")
        self.length = Label("")
        self.length.setObjectName("muted")
        self.loop_words = Toggle("Loop", "Loop", "")
        keyed.keyed(self.loop_words, "Repeat the dragged range", "loop")
        self.loop_range = Label("")
        self.loop_range.setObjectName("muted")
        self.hint = Words(Qt.AlignmentFlag.AlignRight)
        transport_row = self.transport_row = QHBoxLayout()
        transport_row.setSpacing(10)
        for part in (self.play_button, self.time, self.length, self.loop_words, self.loop_range):
            transport_row.addWidget(part)
        transport_row.addWidget(self.hint, 1)
        self.timeline_panel, timeline_layout = _panel()
        timeline_layout.addLayout(transport_row)
        timeline_layout.addWidget(self.timeline, 1)

        self.work = QWidget()
        left = QVBoxLayout(self.work)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(8)
        left.addWidget(map_panel)
        left.addWidget(self.middle, 6)
        left.addWidget(self.timeline_panel, 2)
        self.listen = ListenPanel()
        self.switching = Switching(self, self.document, self.listen, self.workers)
        self.compare_view = CompareView(self.document, self.switching)
        self.hearing = Hearing(
            self.document, self.transport, self.switching, self.listen, self.stages, self.timeline, self
        )
        self.pages = QStackedWidget()
        self.pages.addWidget(self.work)
        self.pages.addWidget(self.compare_view)
        centre = QWidget()
        layout = QHBoxLayout(centre)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.setSpacing(8)
        layout.addWidget(self.pages, 1)
        layout.addWidget(self.listen)
        self.setCentralWidget(centre)

    def _connect(self) -> None:
        document, kite = self.document, self.kite
        document.opened.connect(self._opened)
        document.changed.connect(self._changed)
        document.named.connect(self.show_names)
        stages = self.stages
        kite.stone_chosen.connect(stages.open_side)
        kite.add_asked.connect(self._ask_add)
        kite.split_asked.connect(lambda place: self.menus.signal_menu.popup(place.toPoint()))
        kite.source_asked.connect(
            lambda: self.show_view("source") if self.document.is_open else self.opening.ask_open()
        )
        kite.output_asked.connect(lambda: self.show_view("output"))
        kite.stone_menu_asked.connect(self._stone_menu)
        kite.stone_moved.connect(stages.move)
        kite.stone_dropped.connect(lambda stage, leg: stages.set_side(stage, leg, False))
        kite.stone_removed.connect(stages.remove)
        stages.chosen_changed.connect(self._chosen_changed)
        self.spurs.chosen_changed.connect(self._spur_chosen)
        stages.said.connect(self.say)
        self.document.refused.connect(self.say)
        self.empty_button.clicked.connect(self._empty_action)
        self.demo_button.clicked.connect(self.opening.open_demo)
        self.panel.presets_asked.connect(self.show_presets)
        self.panel.change_asked.connect(lambda on: self.hearing.hear_alone("change" if on else None))
        self.panel.smoothing_asked.connect(self.hearing.smooth)
        self.panel.detector_asked.connect(
            lambda leg: self.hearing.hear_alone("detector" if leg else None, leg or "upper")
        )
        self.panel.band_asked.connect(self.hearing.hear_band)
        self.panel.enter_asked.connect(self._go_in)
        self.hearing.alone.connect(self.panel.show_heard)
        self.panel.eq.match_asked.connect(self.matching.ask)
        self.matching.found.connect(self.panel.eq.use_bands)
        self.source_view.opening_asked.connect(self.opening.ask_open)
        self.source_view.separating_asked.connect(lambda: self.separating.ask(self.document))
        self.separating.opened.connect(self.opening.open_path)
        self.output_view.export_asked.connect(self.export)
        self.opening.complained.connect(self.complain)
        self.opening.generator_opened.connect(lambda: self.show_view("source"))
        for teller in (
            self.opening,
            self.matching,
            self.separating,
            self.errands,
            self.hearing,
            self.switching,
            self.reporting,
            self.engine,
            self.spurring,
            self.timing,
            self.learning,
            self.responses,
        ):
            teller.said.connect(self.say)
        for view in (self.source_view, self.output_view):
            view.refused.connect(self.say)
        self.compare_view.only_asked.connect(self.listen.choose_only)
        self.listen.chosen.connect(lambda listening: self.compare_view.show_only(listening.only))
        self.compare_view.blind_asked.connect(self.blind_testing.ask)
        self.compare_view.report_asked.connect(self.reporting.ask)
        self.reporting.complained.connect(self.complain)
        self.compare_view.back_asked.connect(lambda: self.show_view("stage"))
        self.timeline.seek_asked.connect(lambda t: self.transport.seek(int(t * self.rate)))
        self.timeline.loop_asked.connect(self.hearing.set_loop)
        self.play_button.clicked.connect(self.hearing.toggle_play)
        self.loop_words.clicked.connect(self.hearing.toggle_loop)
        self.transport.ticked.connect(self._tick)
        self.transport.failed.connect(self.say)
        self.measuring.measured.connect(self._show_measured)
        self.measuring.stale.connect(self._show_stale)
        self.measuring.progressed.connect(
            lambda done: self.listen.state.setText(f"measuring… {done * 100:.0f} %")
        )
        self.measuring.failed.connect(self.say)
        self.exporting.said.connect(self.say)
        QApplication.instance().installEventFilter(self._keys)  # type: ignore[union-attr]

    def start(self) -> None:
        """Start the processes behind the window; called once it is on the screen."""
        self.transport.start()
        self.panel.prepare()
        if self.document.is_open:
            self.hearing.load()

    # Opening and saving

    @property
    def rate(self) -> int:
        return self.document.stem.source.rate

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
        """Show the source check, the open stage or the output in the middle, or the comparison."""
        if self.document.is_open:
            self._view = name
            self.pages.setCurrentWidget(self.compare_view if name == "compare" else self.work)
            self._refresh()

    def _chosen_changed(self) -> None:
        """Another stage is open, or another leg of it in front."""
        self.document.end_gesture()
        self._view = "stage"
        self.pages.setCurrentWidget(self.work)
        self._refresh()

    def _spur_chosen(self) -> None:
        """Another spur is open."""
        self.document.end_gesture()
        self.spur_view.forget()
        self._view = "spur" if self.spurs.spur is not None else "stage"
        self.pages.setCurrentWidget(self.work)
        self._refresh()

    def _go_in(self, stage: int) -> None:
        """Show on the map what stands inside a stage."""
        self.kite.enter(stage)
        self.kite.setFocus()

    def _ask_add(self, leg: LegName, branch: int) -> None:
        if self.document.is_open:
            menu = self.add_popup = QMenu(self)
            fill_with_kinds(menu, lambda tag: self.stages.add(tag, leg, branch))
            menu.popup(self.kite.mapToGlobal(self.kite.plus_centre(leg, branch).toPoint()))

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

    # Showing

    def _opened(self) -> None:
        stem = self.document.stem
        self._measured = None
        self.measuring.forget()
        self.timeline.show_recording(stem.source.frames / stem.source.rate)
        self.listen.forget()
        self.switching.selection = None
        self.switching.show_analysed(None)
        self._sketch_waveform()
        first = next((stage for _, stage in tree.walk(self.document.strip)), None)
        self.stages.chosen = (first.id, "upper") if first is not None else None
        self.spurs.chosen = 0
        self._view = "stage" if first is not None else "source"
        self.pages.setCurrentWidget(self.work)
        self.hearing.forget()
        self.panel.show_changes({})
        self.source_view.show_findings(None)
        self.hearing.load()
        self._changed()
        self.timeline.setFocus()
        self.say("")

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
        if self.hearing.other_source:
            self._reload()
        self.switching.refresh()
        self.hearing.follow()
        self._show_loop()
        self.timing.refresh()
        self.measuring.want(stem, at_once=self._measured is None)
        if not self.stages.choose_what_is_left():
            self._refresh()

    def _reload(self) -> None:
        """The source is another one, the generator's signal say: go on where it was."""
        frame, playing = self.transport.frame, self.transport.playing
        self._sketch_waveform()
        self.source_view.show_findings(None)
        self.hearing.load()
        self.transport.seek(frame)
        if playing:
            self.transport.play()

    def _show_loop(self) -> None:
        loop = self.document.session.desk.loop
        self.timeline.show_loop((loop.start_s, loop.end_s) if loop is not None else None)
        self.loop_words.setChecked(loop is not None)
        self.loop_range.setText(f"{clock(loop.start_s)} – {clock(loop.end_s)}" if loop is not None else "")

    def _refresh(self) -> None:
        if not self.document.is_open:
            return
        stem, strip = self.document.stem, self.document.strip
        source = stem.source
        length = source.frames / source.rate
        channels = "mono" if self.opening.mono else f"{source.rate / 1000:g} kHz"
        self.kite.show_strip(
            strip, (stem.name, f"{clock(length, 0)} · {channels}"), (self._result_words(), self._peak_words())
        )
        if self._view == "spur" and self.spurs.spur is None:
            self._view = "stage"
        self.kite.choose(*(self.stages.chosen or (None,) if self._view == "stage" else (None,)))
        self.kite.choose_spur(self.spurs.chosen if self._view == "spur" else 0)
        self.kite.mark(self._view)
        self.timeline.show_split(strip.split)
        for row in self.leg_rows.values():
            row.setEnabled(True)
            row.refresh()
        key = (strip.split.mode, strip.split.matrix if strip.split.mode == "mid-side" else "")
        self.menus.split_actions[key].setChecked(True)
        self.length.setText(f"/ {clock(length)}")
        self._refresh_stage()

    def _refresh_stage(self) -> None:
        stage = self.stages.stage
        for action in self.menus.needing("stage"):
            action.setEnabled(stage is not None)
        self.learning.refresh()
        if self._view == "compare":
            self.compare_view.refresh()
        elif self._view == "source":
            self.source_view.refresh()
            self.middle.setCurrentWidget(self.source_view)
        elif self._view == "output":
            self.output_view.refresh()
            self.middle.setCurrentWidget(self.output_view)
        elif self._view == "spur":
            self.spur_view.refresh()
            self.middle.setCurrentWidget(self.spur_view)
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
        return figure(self._measured.after.get("integrated_lufs"), "LUFS")

    def _peak_words(self) -> str:
        return (
            figure(self._measured.after.get("true_peak_dbtp"), "dBTP") if self._measured is not None else ""
        )

    def _show_measured(self, measured: Analysed) -> None:
        first = self._measured is None
        self._measured = measured
        if first or measured.repaired:
            self.timeline.show_before(overview(measured.before_overview))
        self.timeline.show_after(overview(measured.after_overview))
        self.listen.show_measured(measured.before, measured.after, stale=False)
        self.switching.show_analysed(measured)
        self.listen.state.setText("whole file, now and unprocessed")
        self.source_view.show_findings(measured.findings)
        self.panel.show_changes(measured.changes)
        split = self.document.strip.split
        levels = [measured.after["components"][split.component(leg)]["rms_dbfs"] for leg in LEGS]
        self.kite.show_loudness(*(figure(level, "dBFS") for level in levels))
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
        if not self.document.is_open or self.blind_testing.running:
            return
        status = self.transport.status
        position = self.transport.position_s
        self.timeline.show_position(position)
        if self.transport.playing:
            self.timeline.follow()
        text = clock(position)
        if text != self.time.text():
            self.time.setText(text)
        if self.stages.branch == tree.LEGS_BRANCH:  # of a spur the player tells other levels
            self.kite.show_levels(float(status["leg_levels"][2]), float(status["leg_levels"][3]))
        if self.middle.currentWidget() is self.panel:
            self.panel.show_live(status)
        elif self.middle.currentWidget() is self.output_view and status["playing"]:
            self.output_view.show_ceiling(float(status["ceiling"]))
        self.listen.show_live(status)
        self._tell_guarded(int(status["guarded"]))
        self._show_playing()
        self.engine.refresh()

    def _tell_guarded(self, stage: int) -> None:
        """Say once that a stage was silenced by its guard."""
        if stage == self._guarded:
            return
        self._guarded = stage
        if stage and (name := names_of(self.document.strip).get(stage)):
            self.say(
                f"{name} got louder than +12 dBFS and was made silent. It sounds again when playing starts anew; "
                "less feedback keeps it going."
            )

    def _show_playing(self) -> None:
        word = "Pause" if self.transport.playing else "Play"
        if self.play_button.text() != word:
            self.play_button.setText(word)

    def show_names(self) -> None:
        """Name and state of the session, in the bar and the menus."""
        if self.blind_testing.running:
            return
        mark = " •" if self.document.modified else ""
        self.menus.title.setText(f"{self.document.name}{mark}")
        self.setWindowTitle(f"{self.document.name}{mark} – Stone Kite")
        undo, redo = self.document.next_undo, self.document.next_redo
        for id, words in (("undo", undo), ("redo", redo)):
            action = self.menus.actions_by_id[id]
            action.setText(f"{id.capitalize()}: {words}" if words else id.capitalize())
            action.setEnabled(words is not None)
        for action in self.menus.needing("session"):
            action.setEnabled(self.document.is_open)

    def _show_empty(self) -> None:
        self.setWindowTitle("Stone Kite")
        self.empty_words.setText("Open a recording or a session, or drop one here.")
        self.middle.setCurrentWidget(self.empty_panel)
        self.kite.show_strip(self.kite._strip, ("nothing open", ""), ("", ""))
        for row in self.leg_rows.values():
            row.setEnabled(False)
        self.show_names()
        self._refresh_actions()

    def _refresh_actions(self) -> None:
        for action in self.menus.needing("stage"):
            action.setEnabled(False)

    def _empty_action(self) -> None:
        if self.document.is_open:
            self.stages.add("eq")
        else:
            self.opening.ask_open()

    def say(self, sentence: str) -> None:
        """A word in the window that needs no answer; it goes away by itself."""
        self.hint.setText(sentence)
        self.hint.setToolTip(tip(sentence))
        if sentence:
            QTimer.singleShot(12_000, self, lambda: self._unsay(sentence))

    def _unsay(self, sentence: str) -> None:
        if self.hint.text() == sentence:
            self.hint.setText("")

    def complain(self, sentence: str) -> None:
        """A fault that the user must have seen."""
        message("Stone Kite", sentence, self).exec()

    def set_light(self, on: bool) -> None:
        """Ink on limestone, or chalk on slate; kept for the next start."""
        chosen = "light" if on else "dark"
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        theme.apply(application, chosen)
        self._refresh()
        self._keep_preference(theme=chosen)

    def show_keys(self) -> KeysDialog:
        """All keys; other ones are used at once, and kept for the next start."""
        dialog = KeysDialog(keyed.in_use(), self)
        dialog.changed.connect(self._use_keys)
        dialog.open()
        return dialog

    def _use_keys(self, own: dict[str, tuple[str, ...]]) -> None:
        keyed.use(own, self)
        self.menus.use_keys(own)
        self._keep_preference(keys=own)

    def _keep_preference(self, **values: object) -> None:
        try:
            preferences.save(msgspec.structs.replace(preferences.load(), **values))
        except OSError as error:
            self.say(f"This choice cannot be kept: {(error.strerror or str(error)).lower()}.")

    def toggle_full_screen(self) -> None:
        self.setWindowState(self.windowState() ^ Qt.WindowState.WindowFullScreen)

    # Events

    def resizeEvent(self, event: QResizeEvent) -> None:
        # The scope is the only thing in the panel that gains by width.
        self.listen.setFixedWidth(min(340, max(232, int(event.size().width() * 0.18))))
        # In a low window the editor needs the room more.
        self.timeline_panel.setMaximumHeight(100 if event.size().height() < 760 else 16_777_215)
        super().resizeEvent(event)

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
        if self.opening.may_leave():
            self.opening.open_paths(paths)

    def shut_down(self) -> None:
        """End the processes behind the window; may be called twice."""
        QApplication.instance().removeEventFilter(self._keys)  # type: ignore[union-attr]
        self.measuring.close()
        self.switching.close()
        self.workers.close()
        self.transport.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.opening.may_leave():
            event.ignore()
            return
        self.shut_down()
        super().closeEvent(event)
