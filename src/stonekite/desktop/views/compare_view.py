"""The Compare view: is it better than the unprocessed stereo? A table of measures, and plots beside it."""

from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Segments, Toggle, Words
from stonekite.desktop.controls.column import scrolling
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.compare_plots import (
    LossPlot,
    RatioPlot,
    SpectrogramPlot,
    SpectrumPlot,
    TimePlot,
)
from stonekite.desktop.pictures.linked_plot import Axis, Pair, Plot
from stonekite.desktop.pictures.ride_line import lines_of
from stonekite.desktop.views.difference_list import DifferenceList
from stonekite.desktop.views.figure_table import FigureTable, TableHead
from stonekite.desktop.views.switching import Switching
from stonekite.session import tree
from stonekite.session.differences import differences
from stonekite.session.mix import wires
from stonekite.session.types import Strip
from stonekite.words import NAMES, clock, said


def short_name(key: str) -> str:
    """What a subject is called where there is little room."""
    kind, _, number = key.partition(" ")
    if kind == "version":
        return f"V{number}"
    if kind == "reference":
        return f"ref {chr(ord('a') + int(number))}"
    return {"unprocessed": said("Unproc."), "processed": said("Now"), "difference": said("Diff.")}[key]


def _panel(*widgets: QWidget) -> QFrame:
    frame = QFrame()
    frame.setObjectName("panel")
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(8, 6, 8, 6)
    layout.setSpacing(4)
    for widget in widgets:
        layout.addWidget(widget, 1 if isinstance(widget, Plot | QStackedWidget) else 0)
    return frame


class CompareView(QWidget):
    """Compares what there is in a session. `report_asked` and `blind_asked` are wishes."""

    report_asked = Signal()
    blind_asked = Signal()
    back_asked = Signal()
    only_asked = Signal(object)

    def __init__(self, document: Document, switching: Switching) -> None:
        super().__init__()
        self._document, self._switching = document, switching
        self.before, self.after = "unprocessed", "processed"
        self.frequency = Axis(20.0, 22_500.0, logarithmic=True)
        self.time = Axis(0.0, 1.0, logarithmic=False)
        self.table = FigureTable()
        self.head = TableHead(self.table)
        self.list = DifferenceList()
        self.spectrum = SpectrumPlot(self.frequency)
        self.ratio = RatioPlot(self.frequency)
        self.loss = LossPlot(self.frequency)
        self.over_time = TimePlot(self.time)
        self.spectrogram = SpectrogramPlot(self.time)
        self.plots: tuple[Plot, ...] = (
            self.spectrum,
            self.ratio,
            self.loss,
            self.over_time,
            self.spectrogram,
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(self._header())
        body = QHBoxLayout()
        body.setSpacing(8)
        body.addWidget(self._left())
        body.addLayout(self._right(), 1)
        layout.addLayout(body, 1)
        switching.measured.connect(self.refresh)
        switching.comparing.progressed.connect(self._show_progress)
        self.list.take_asked.connect(self._take)

    # Building

    def _header(self) -> QFrame:
        self.title = Label(said("Compare"))
        self.title.setObjectName("title")
        self.words = Words()
        self.range = Segments(
            {"loop": said("Loop"), "selection": said("Selection"), "whole": said("Whole")},
            said("What is measured"),
            said(
                "The loop, the range that was dragged last, or the whole recording. References have ranges of "
                "their own"
            ),
        )
        self.of = Segments(
            {"processed": said("Now")},
            said("What is compared"),
            said("The state now, or a version or reference"),
        )
        self.against = Segments(
            {"unprocessed": said("Unprocessed")},
            said("Against what"),
            said("What it is compared with: drawn dashed"),
        )
        self.stop = QPushButton(said("Stop"))
        self.stop.setObjectName("small")
        self.stop.setToolTip(said("Stop measuring; it goes on with the next change"))
        self.stop.clicked.connect(self._switching.comparing.cancel)
        self.stop.hide()
        self.blind = QPushButton(said("Blind test…"))
        self.report = QPushButton(said("Report…"))
        self.back = QPushButton(said("Back"))
        for button, help in (
            (self.blind, said("Tell them apart, or prefer one, without knowing which is which")),
            (self.report, said("A page with pictures and all figures, or the table as CSV or JSON")),
            (self.back, said("Back to the stages (F6)")),
        ):
            button.setObjectName("small")
            button.setToolTip(help)
        self.range.chosen.connect(self._choose_range)
        self.of.chosen.connect(lambda key: self._choose(after=key))
        self.against.chosen.connect(lambda key: self._choose(before=key))
        self.blind.clicked.connect(self.blind_asked)
        self.report.clicked.connect(self.report_asked)
        self.back.clicked.connect(self.back_asked)
        frame = QFrame()
        frame.setObjectName("panel")
        rows = QVBoxLayout(frame)
        rows.setContentsMargins(12, 7, 12, 7)
        rows.setSpacing(6)
        first, second = QHBoxLayout(), QHBoxLayout()
        for widget in (self.title, self.range):
            first.addWidget(widget)
        first.addWidget(self.words, 1)
        for button in (self.stop, self.blind, self.report, self.back):
            first.addWidget(button)
        for words, widget in ((said("Compare"), self.of), (said("with"), self.against)):
            label = Label(words)
            label.setObjectName("muted")
            second.addWidget(label)
            second.addWidget(widget)
        second.addStretch(1)
        for row in (first, second):
            row.setSpacing(10)
            rows.addLayout(row)
        return frame

    def _left(self) -> QFrame:
        self.page = Segments(
            {"figures": said("Figures"), "differences": said("What differs")},
            said("Page"),
            said("Measures, or the settings that differ, in words"),
        )
        self._pages = QStackedWidget()
        figures = QWidget()
        layout = QVBoxLayout(figures)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.head)
        layout.addWidget(scrolling(self.table), 1)
        self._pages.addWidget(figures)
        self._pages.addWidget(scrolling(self.list))
        self.page.chosen.connect(lambda page: self._pages.setCurrentIndex(0 if page == "figures" else 1))
        frame = _panel(self.page, self._pages)
        self._table_panel = frame
        frame.setFixedWidth(376)
        return frame

    def _right(self) -> QGridLayout:
        self.spectrum_mode = Segments(
            {"levels": said("Levels"), "change": said("Change"), "difference": said("Difference")},
            said("Spectrum"),
            said("Levels before and after, their change, or the spectrum of the difference signal"),
        )
        self.parts = Segments(
            {"legs": said("M S"), "sides": said("L R")},
            said("Components"),
            said("Which two components are drawn"),
        )
        self.time_mode = Segments(
            {
                "curves": said("Curves"),
                "before": said("Before"),
                "after": said("After"),
                "change": said("Change"),
                "difference": said("Difference"),
            },
            said("Over time"),
            said(
                "Loudness, correlation and centre; or a spectrogram of before, of after, of what changed, or of "
                "the difference between the state now and the unprocessed recording"
            ),
        )
        self.spectrum_mode.chosen.connect(self.spectrum.show_mode)
        self.parts.chosen.connect(lambda _: self.refresh())
        self._times = QStackedWidget()
        self._times.addWidget(self.over_time)
        self._times.addWidget(self.spectrogram)
        self.time_mode.chosen.connect(self._show_time_mode)
        self.legend = Words(Qt.AlignmentFlag.AlignRight)
        spectrum_row, time_row = QWidget(), QWidget()
        for holder, widgets in (
            (spectrum_row, (self.spectrum_mode, self.parts)),
            (time_row, (self.time_mode,)),
        ):
            row = QHBoxLayout(holder)
            row.setContentsMargins(0, 0, 0, 0)
            for widget in widgets:
                row.addWidget(widget)
            if holder is spectrum_row:
                row.addWidget(self.legend, 1)
            else:
                row.addStretch(1)
        grid = QGridLayout()
        grid.setSpacing(8)
        grid.addWidget(_panel(spectrum_row, self.spectrum), 0, 0, 1, 2)
        grid.addWidget(_panel(self.ratio), 1, 0)
        self.fold = Toggle(said("Hear the fold"), said("Hear the fold-down"), "")
        self.lost = Toggle(said("Hear what cancels"), said("Hear what cancels"), "")
        keyed(self.fold, said("Hear what is left in mono, in both ears"), "mid-alone")
        keyed(self.lost, said("Hear what is lost in mono"), "side-alone")
        loss_row = QWidget()
        row = QHBoxLayout(loss_row)
        row.setContentsMargins(0, 0, 0, 0)
        for button, name in ((self.fold, "mid"), (self.lost, "side")):
            button.clicked.connect(lambda on, name=name: self.only_asked.emit(name if on else None))
            row.addWidget(button)
        row.addStretch(1)
        grid.addWidget(_panel(loss_row, self.loss), 1, 1)
        grid.addWidget(_panel(time_row, self._times), 2, 0, 1, 2)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        for place, stretch in enumerate((5, 4, 5)):
            grid.setRowStretch(place, stretch)
        return grid

    # Choosing

    def _choose_range(self, wanted: Any) -> None:
        self._switching.range = wanted
        self._switching.refresh()
        self.refresh()

    def _choose(self, before: str | None = None, after: str | None = None) -> None:
        self.before, self.after = before or self.before, after or self.after
        self.refresh()

    def _show_time_mode(self, mode: str) -> None:
        self._times.setCurrentIndex(0 if mode == "curves" else 1)
        if mode != "curves":
            self.spectrogram.show_mode(mode)

    def _take(self, stage: int) -> None:
        for key in (self.after, self.before):
            if key.startswith("version"):
                self._switching.take(int(key.split()[1]), stage)
                return

    # Showing

    def keys(self) -> dict[str, str]:
        """All that can be compared, and what it is called."""
        session = self._document.session
        found = {"processed": said("Now"), "unprocessed": said("Unprocessed")}
        found |= {f"version {v.number}": v.name for v in session.versions}
        found |= {f"reference {k}": reference.name for k, reference in enumerate(session.desk.references)}
        return found

    def refresh(self) -> None:
        """Show what is known of the session."""
        if not self._document.is_open or not self.isVisible():
            return
        names = self.keys()
        if self.after not in names:
            self.after = "processed"
        if self.before not in names:
            self.before = "unprocessed"
        rest = {key: name for key, name in names.items() if key != "unprocessed"}
        self.of.set_words(rest)
        self.of.show_value(self.after)
        self.against.set_words({"unprocessed": said("Unprocessed"), **rest})
        self.against.show_value(self.before)
        self.range.show_value(self._switching.range)
        self._show_range()
        split = self._document.strip.split
        parts = (split.component("upper"), split.component("lower"))
        other = ("left", "right") if parts[0] == "mid" else ("mid", "side")
        letters = {"legs": parts, "sides": other}
        self.parts.set_words({key: " ".join(NAMES[name] for name in pair) for key, pair in letters.items()})
        figures = {key: self._switching.figures(key) for key in names}
        figures["difference"] = self._switching.figures("difference")
        pair = Pair(
            names[self.before],
            names[self.after],
            figures[self.before],
            figures[self.after],
            figures["difference"],
            letters[self.parts.value],
            lines_of(self._strip(self.before), self._strip(self.after)),
        )
        self.legend.setText(
            said("dashed: {before}   solid: {after}").format(
                before=names[self.before], after=names[self.after]
            )
        )
        more = [key for key in ("difference", *names) if key not in (self.before, self.after)]
        columns = [
            (short_name(key), figures[key]) for key in (self.before, self.after, *more[: self._room()])
        ]
        self.table.show_columns(columns)
        self.head.update()
        self._fit_time(pair)
        for plot in self.plots:
            plot.show_pair(pair)
        self._show_differences()

    def _room(self) -> int:
        """How many columns more there is room for."""
        return 1 if self.table.width() < 330 else 2 if self.table.width() < 440 else 4

    def show_only(self, name: str | None) -> None:
        """Which component is heard alone."""
        self.fold.setChecked(name == "mid")
        self.lost.setChecked(name == "side")

    def _fit_time(self, pair: Pair) -> None:
        found = [measures for measures in (pair.before, pair.after) if measures is not None]
        if found:
            start = min(measures.curves.start_s for measures in found) - 0.1
            self.time.set_whole(start, start + max(0.5, *(measures.seconds for measures in found)))

    def _show_range(self) -> None:
        wanted = self._switching.range
        loop = self._switching.view_range()
        if loop is not None:
            words = f"{clock(loop.start_s)} – {clock(loop.end_s)}"
        elif wanted == "loop":
            words = said("no loop is set: the whole recording")
        elif wanted == "selection":
            words = said("nothing was dragged: the whole recording")
        else:
            words = said("the whole recording")
        self.words.setText(words)

    def _show_progress(self, done: float) -> None:
        self.stop.setVisible(done < 1.0)
        if self.isVisible() and done < 1.0:
            self.words.setText(said("measuring… {count:.0f} %").format(count=done * 100))
        elif self.isVisible():
            self._show_range()

    def _strip(self, key: str) -> Strip | None:
        """The settings of a subject; None for a finished recording."""
        session = self._document.session
        if key == "processed":
            return self._document.strip
        if key == "unprocessed":
            return Strip(split=self._document.strip.split)
        kind, number = key.split()
        version = session.version(int(number)) if kind == "version" else None
        return None if version is None else tree.strip_in(version.sound, self._document.place)

    def _show_differences(self) -> None:
        one, two = self._strip(self.before), self._strip(self.after)
        if one is None or two is None:
            self.list.show_differences(said("A finished recording: nothing is known of its settings."), False)
            return
        versions = [key for key in (self.before, self.after) if key.startswith("version")]
        found = differences(one, two, wires.names(self._document.session.sound))
        self.list.show_differences(found, len(versions) == 1)

    def resizeEvent(self, event) -> None:
        width = event.size().width()
        self._table_panel.setFixedWidth(340 if width < 950 else 376 if width < 1300 else 500)
        super().resizeEvent(event)
        self.refresh()

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self._switching.viewing = True
        self._switching.comparing.forget_faults()
        self._switching.refresh()
        self.refresh()

    def hideEvent(self, event) -> None:
        super().hideEvent(event)
        self._switching.viewing = False
        self._switching.refresh()
