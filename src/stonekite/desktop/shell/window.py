"""The main window: map, editor, timeline and listen panel around one document."""

from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls import keyed
from stonekite.desktop.controls.guarded import guard
from stonekite.desktop.controls.plain import message
from stonekite.desktop.dialogs.presets_dialog import PresetsDialog
from stonekite.desktop.editors.leg_row import LegRow
from stonekite.desktop.editors.stage_panel import StagePanel
from stonekite.desktop.kite.kite_map import KiteMap
from stonekite.desktop.kite.kite_scroll import KiteScroll
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.links.measuring import Measuring
from stonekite.desktop.links.posting import Posting
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.spur_actions import SpurActions
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.desktop.pictures.turn import turn
from stonekite.desktop.shell.batches import Batches
from stonekite.desktop.shell.blind_testing import BlindTesting
from stonekite.desktop.shell.engine_words import EngineWords
from stonekite.desktop.shell.exporting import Exporting
from stonekite.desktop.shell.faults import Faults
from stonekite.desktop.shell.finding import PassingFinding, ToneFinding
from stonekite.desktop.shell.hearing import Hearing
from stonekite.desktop.shell.key_filter import KeyFilter
from stonekite.desktop.shell.learning import Learning
from stonekite.desktop.shell.matching import Matching
from stonekite.desktop.shell.menus import Menus
from stonekite.desktop.shell.mixing import Mixing
from stonekite.desktop.shell.opening import Opening
from stonekite.desktop.shell.pairs import Pairs
from stonekite.desktop.shell.popups import Popups
from stonekite.desktop.shell.recovering import Keeping, Recovering
from stonekite.desktop.shell.report_writing import ReportWriting
from stonekite.desktop.shell.responses import Responses
from stonekite.desktop.shell.separating import Separating
from stonekite.desktop.shell.sets import Sets
from stonekite.desktop.shell.showing import Showing
from stonekite.desktop.shell.spurs import Spurring
from stonekite.desktop.shell.timing import Timing
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.desktop.timeline.transport_row import TransportRow
from stonekite.desktop.views.compare_view import CompareView
from stonekite.desktop.views.empty_view import EmptyView
from stonekite.desktop.views.grips_window import GripsWindow
from stonekite.desktop.views.listen_panel import ListenPanel
from stonekite.desktop.views.output_view import OutputView
from stonekite.desktop.views.ride_panel import RidePanel
from stonekite.desktop.views.sections_view import SectionsView
from stonekite.desktop.views.source_view import SourceView
from stonekite.desktop.views.spur_view import SpurView
from stonekite.desktop.views.switching import Switching
from stonekite.processes.pool import Pool
from stonekite.session import presets, tree
from stonekite.session.ride_edits import Address
from stonekite.session.types import LEGS, Split
from stonekite.stages.settings import settings_of
from stonekite.words import said

_SPLIT = settings_of(Split)


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
        guard()
        self.faults = Faults(self)
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
        self._build()
        self.showing = Showing(self)
        self.popups = Popups(self)
        self.tone_finding = ToneFinding(self.panel, self.document, self.stages, self.errands, self.transport)
        self.passing = PassingFinding(self)
        self.blind_testing = BlindTesting(self)
        self.reporting = ReportWriting(self, self.document, self.compare_view, self.switching)
        self.spurring = Spurring(self)
        self.timing = Timing(self)
        self.learning = Learning(self)
        self.responses = Responses(self)
        self.grips = GripsWindow(self.document, self)
        self.pairs, self.sets, self.batches = Pairs(self), Sets(self), Batches(self)
        self.mixing = Mixing(self)
        self.recovering = Recovering(self, self.document)
        self.keeping = Keeping(self, self.document, self.errands)
        self.transport_row.insertWidget(5, self.timing.button)
        self.transport_row.insertWidget(6, self.timing.slow)
        self._keys = KeyFilter(self)
        self.menus = Menus(self)
        self.setMenuWidget(self.menus)
        self.engine = EngineWords(self.menus.engine_words, self.document, self.transport)
        self._connect()
        self.showing.show_empty()

    # Building

    def _build(self) -> None:
        self.kite = KiteMap()
        self.leg_rows = {leg: LegRow(self.document, leg) for leg in LEGS}
        map_panel, map_layout = _panel()
        map_layout.setSpacing(0)
        map_layout.addWidget(self.leg_rows["upper"])
        self.kite_room = KiteScroll(self.kite)
        map_layout.addWidget(self.kite_room)
        map_layout.addWidget(self.leg_rows["lower"])

        self.panel = StagePanel(self.document, self.stages)
        self.source_view = SourceView(self.document)
        self.output_view = OutputView(self.document)
        self.spur_view = SpurView(self.document, self.spurs)
        self.empty_view = EmptyView()
        self.middle = QStackedWidget()
        for widget in (self.panel, self.empty_view, self.source_view, self.output_view, self.spur_view):
            self.middle.addWidget(widget)

        self.timeline = Timeline()
        self.transport_row = TransportRow()
        self.timeline_panel, timeline_layout = _panel()
        timeline_layout.addLayout(self.transport_row)
        self.sections = SectionsView(self.document, self.errands, self.timeline)
        timeline_layout.addWidget(self.sections)
        timeline_layout.addWidget(self.timeline, 1)
        self.riding = RidePanel(self.document, self.transport, self.timeline)
        timeline_layout.addWidget(self.riding)

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
        document.named.connect(self.showing.show_names)
        stages = self.stages
        kite.stone_chosen.connect(stages.open_side)
        kite.split_asked.connect(lambda place: self.menus.signal_menu.popup(place.toPoint()))
        kite.source_asked.connect(
            lambda: self.show_view("source") if self.document.is_open else self.opening.ask_open()
        )
        kite.output_asked.connect(lambda: self.show_view("output"))
        kite.stone_moved.connect(stages.move)
        kite.stone_dropped.connect(lambda stage, leg: stages.set_side(stage, leg, False))
        kite.stone_removed.connect(stages.remove)
        stages.chosen_changed.connect(self._chosen_changed)
        self.spurs.chosen_changed.connect(self._spur_chosen)
        for told in (stages.said, document.refused, self.source_view.refused):
            told.connect(self.say)
        for told in (self.output_view.refused, self.transport.failed, self.measuring.failed):
            told.connect(self.say)
        self.empty_view.asked.connect(
            lambda: stages.add("eq") if document.is_open else self.opening.ask_open()
        )
        self.empty_view.demo_asked.connect(self.opening.open_demo)
        self.panel.presets_asked.connect(self.show_presets)
        self.panel.change_asked.connect(lambda on: self.hearing.hear_alone("change" if on else None))
        self.panel.smoothing_asked.connect(self.hearing.smooth)
        self.panel.detector_asked.connect(
            lambda leg: self.hearing.hear_alone("detector" if leg else None, leg or "upper")
        )
        self.panel.band_asked.connect(self.hearing.hear_band)
        self.panel.enter_asked.connect(self._go_in)
        self.riding.resized.connect(self.fit_timeline)
        self.sections.resized.connect(self.fit_timeline)
        self.hearing.compared.connect(self.riding.compare)
        self.panel.ride_asked.connect(lambda number, path: self._ride(Address("stage", number, path)))
        wishes = [row.ride_asked for row in self.leg_rows.values()]
        for view in (self.spur_view, self.source_view, self.output_view, self.grips):
            wishes.append(view.ride_asked)
        for wish in wishes:
            wish.connect(self._ride)
        self.hearing.alone.connect(self.panel.show_heard)
        self.panel.match_asked.connect(self.matching.ask)
        self.matching.found.connect(lambda *found: self.panel.eq.use_bands(*found))
        self.source_view.opening_asked.connect(self.opening.ask_open)
        self.source_view.separating_asked.connect(lambda: self.separating.ask(self.document))
        self.separating.opened.connect(self.opening.open_path)
        self.output_view.export_asked.connect(self.export)
        self.opening.archive_chosen.connect(self.keeping.unpack)
        self.keeping.unpacked.connect(self.opening.open_path)
        self.keeping.heard.connect(self.listen.choose_version)
        for part in (self.opening, self.reporting, self.keeping):
            part.complained.connect(self.complain)
        self.opening.generator_opened.connect(lambda: self.show_view("source"))
        for teller in (
            self.faults,
            self.recovering,
            self.keeping,
            self.exporting,
            self.riding.rides,
            self.sections,
            self.grips,
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
        self.errands.working.connect(self.transport_row.cancel.setVisible)
        self.transport_row.cancel.clicked.connect(self.errands.cancel)
        self.compare_view.only_asked.connect(self.listen.choose_only)
        self.listen.chosen.connect(lambda listening: self.compare_view.show_only(listening.only))
        self.compare_view.blind_asked.connect(self.blind_testing.ask)
        self.compare_view.report_asked.connect(self.reporting.ask)
        self.compare_view.back_asked.connect(lambda: self.show_view("stage"))
        self.timeline.seek_asked.connect(lambda t: self.transport.seek(int(t * self.rate)))
        self.timeline.loop_asked.connect(self.hearing.set_loop)
        self.sections.looped.connect(self.hearing.set_loop)
        self.transport_row.play_button.clicked.connect(self.hearing.toggle_play)
        self.transport_row.loop_words.clicked.connect(self.hearing.toggle_loop)
        self.transport.ticked.connect(self.showing.tick)
        self.measuring.measured.connect(self.showing.show_measured)
        self.measuring.stale.connect(self.showing.show_stale)
        self.measuring.progressed.connect(
            lambda done: self.listen.state.setText(said("measuring… {count:.0f} %").format(count=done * 100))
        )
        QApplication.instance().installEventFilter(self._keys)  # type: ignore[union-attr]

    def _ride(self, address: Address) -> None:
        """A control is to ride; or a grip is to move it, while controls are pointed at."""
        (self.riding.ride if self.grips.pointing is None else self.grips.take)(address)

    def start(self) -> None:
        """Start the processes behind the window; called once it is on the screen."""
        self.transport.start()
        self.recovering.start()
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

    def set_split(self, mode: str, matrix: str) -> None:
        """Choose left/right, or mid/side with a matrix."""
        if self.document.is_open:
            split = self.document.strip.split
            self.document.put(("split",), Split(mode=mode, matrix=matrix or split.matrix), said("Split"))  # type: ignore[arg-type]

    def show_view(self, name: str) -> None:
        """Show the source check, the open stage or the output in the middle, or the comparison."""
        if self.document.is_open:
            self.showing.view = name
            pages: dict[str, QWidget] = {"compare": self.compare_view, "pair": self.pairs.view}
            self.pages.setCurrentWidget(pages.get(name, self.work))
            self.showing.refresh()

    def _chosen_changed(self) -> None:
        """Another stage is open, or another leg of it in front."""
        self.document.end_gesture()
        self.showing.view = "stage"
        self.pages.setCurrentWidget(self.work)
        with turn:
            self.showing.refresh()

    def _spur_chosen(self) -> None:
        """Another spur is open."""
        self.document.end_gesture()
        self.spur_view.forget()
        self.showing.view = "spur" if self.spurs.spur is not None else "stage"
        self.pages.setCurrentWidget(self.work)
        self.showing.refresh()

    def _go_in(self, stage: int) -> None:
        """Show on the map what stands inside a stage."""
        self.kite.enter(stage)
        self.kite.setFocus()

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
        self.showing.forget()
        self.measuring.forget()
        self.timeline.show_recording(stem.source.frames / stem.source.rate)
        self.listen.forget()
        self.switching.selection = None
        self.switching.show_analysed(None)
        self.showing.sketch_waveform()
        first = next((stage for _, stage in tree.walk(self.document.strip)), None)
        self.stages.chosen = (first.id, "upper") if first is not None else None
        self.spurs.chosen = 0
        self.showing.view = "stage" if first is not None else "source"
        self.pages.setCurrentWidget(self.work)
        self.hearing.forget()
        self.panel.show_changes({})
        self.source_view.show_findings(None)
        self.hearing.load()
        self._changed()
        self.timeline.setFocus()
        self.say("")

    def _changed(self) -> None:
        """The tree is another one: everything shows it."""
        stem = self.document.stem
        with turn:
            if self.hearing.other_source:
                self._reload()
            self.switching.refresh()
            self.hearing.follow()
            self.showing.show_loop()
            self.timing.refresh()
            self.measuring.want(stem, at_once=self.showing.measured is None)
            if not self.stages.choose_what_is_left():
                self.showing.refresh()

    def _reload(self) -> None:
        """The source is another one, the generator's signal say: go on where it was."""
        self.showing.sketch_waveform()
        self.source_view.show_findings(None)
        self.hearing.change_source()

    def say(self, sentence: str) -> None:
        """A word in the window that needs no answer; it goes away by itself."""
        self.transport_row.say(sentence)

    def complain(self, sentence: str) -> None:
        """A fault that the user must have seen."""
        message("Stone Kite", sentence, self).exec()

    def resizeEvent(self, event: QResizeEvent) -> None:
        # The scope is the only thing in the panel that gains by width.
        self.listen.setFixedWidth(min(340, max(232, int(event.size().width() * 0.18))))
        self.fit_timeline()
        super().resizeEvent(event)

    def fit_timeline(self) -> None:
        """In a low window the editor needs the room more."""
        bar = 44 if self.mixing.bar.isVisibleTo(self) else 0
        height, rides = self.height() - bar, self.riding.isVisibleTo(self)
        low, tight = height < 760, height < 900
        self.timeline.setMinimumHeight((38 if low else 46 if tight else 78) if rides else 52)
        self.riding.lane.setFixedHeight(46 if low else 56 if tight else 72)
        room = 112 if not rides else 58 + self.timeline.minimumHeight() + self.riding.sizeHint().height()
        room += 24 if self.sections.isVisibleTo(self) else 0
        self.kite_room.leave(bar + (room - 112 if rides else 0))
        self.timeline_panel.setMinimumHeight(room if rides else 0)
        self.timeline_panel.setMaximumHeight(room if low or (rides and tight) else 16_777_215)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            event.acceptProposedAction()
            # The other program waits until the drop is done: no questions inside it.
            QTimer.singleShot(0, self, lambda: self.mixing.open_paths(paths))

    def shut_down(self) -> None:
        """End the processes behind the window; may be called twice."""
        QApplication.instance().removeEventFilter(self._keys)  # type: ignore[union-attr]
        parts = (self.measuring, self.switching, self.batches, self.workers, self.transport)
        for part in (*parts, self.recovering, self.pairs, self.timing.slow):
            part.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.opening.may_leave():
            event.ignore()
            return
        self.document.discard()  # what was to be kept is saved by now
        self.shut_down()
        super().closeEvent(event)
