"""A batch in the window: recordings, what is written of each, and what was measured before and after."""

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFrame,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Tinted, Toggle
from stonekite.desktop.controls.column import column
from stonekite.desktop.controls.plain import Label
from stonekite.files.audio import shown_name
from stonekite.processes.batching import Entry
from stonekite.reports.batch_table import cells
from stonekite.session.export_sets import ExportSet
from stonekite.words import said

_WIDTHS = (96, 84, 96, 84)
_HEADS = (said("Loudness before"), said("after"), said("True peak before"), said("after"))


class _Line(QWidget):
    """One recording: its name, four levels, and what is to be known; or how far it is."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.name = Label(name)
        self.name.setMinimumWidth(190)
        self.levels = [Label("") for _ in _WIDTHS]
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        self.fault = Tinted("", "warning")
        self.fault.setWordWrap(True)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(110)
        self.bar.setTextVisible(False)
        self.bar.hide()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 1, 6, 1)
        row.setSpacing(8)
        row.addWidget(self.name, 2)
        for label, width in zip(self.levels, _WIDTHS, strict=True):
            label.setFixedWidth(width)
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            row.addWidget(label)
        row.addWidget(self.bar)
        row.addWidget(self.words, 2)
        row.addWidget(self.fault, 2)
        self.fault.hide()

    def show_entry(self, entry: Entry) -> None:
        row = entry.row
        self.bar.setVisible(row is None and entry.done > 0.0)
        self.bar.setValue(int(1000 * entry.done))
        self.fault.setVisible(row is not None and bool(row.fault))
        self.words.setVisible(row is None or not row.fault)
        if row is None:
            return
        shown = cells(row)
        for label, words in zip(self.levels, shown[2:6], strict=True):
            label.setText("" if row.fault else words)
        self.fault.setText(row.fault)
        self.words.setText(said("written before") if row.kept else shown[6])


class BatchDialog(QDialog):
    """Asks what a batch is of, then shows what becomes of it. `add_asked` gives "files" or "folder", `dropped` paths,
    `start_asked` the set, whether what was learned is learned anew, and how many at once; the others are wishes.
    """

    add_asked = Signal(str)
    start_asked = Signal(object, bool, int)
    stop_asked = Signal()
    report_asked = Signal()
    dropped = Signal(object)

    def __init__(
        self, name: str, sets: list[ExportSet], learns: bool, cores: int, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Batch"))
        self.setAcceptDrops(True)
        self.paths: list[Path] = []
        self.running = False
        self._lines: dict[int, _Line] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 14)
        layout.setSpacing(10)
        title = Label(said("The strip of “{name}” over many recordings").format(name=name))
        title.setObjectName("title")
        layout.addWidget(title)
        self.sets = QComboBox()
        for one in sets:
            self.sets.addItem(one.name, one)
        self.sets.setAccessibleName(said("Export set"))
        self.learn = Toggle(
            said("Learn anew"),
            said("Learn anew"),
            said("What stages have learned, they learn from the quietest second of each recording"),
        )
        self.learn.setVisible(learns)
        self.jobs = QComboBox()
        for count in range(1, cores + 1):
            self.jobs.addItem(said("{count} at once").format(count=count), count)
        self.jobs.setCurrentIndex(cores - 1)
        self.jobs.setAccessibleName(said("Recordings at once"))
        self.add_files = QPushButton(said("Add recordings…"))
        self.add_folder = QPushButton(said("Add a folder…"))
        self.clear = QPushButton(said("Take all out"))
        for button in (self.add_files, self.add_folder, self.clear):
            button.setObjectName("small")
            button.setAutoDefault(False)
        row = QHBoxLayout()
        row.setSpacing(10)
        for widget in (self.sets, self.learn, self.jobs):
            row.addWidget(widget)
        row.addStretch(1)
        for button in (self.add_files, self.add_folder, self.clear):
            row.addWidget(button)
        layout.addLayout(row)
        frame = QFrame()
        frame.setObjectName("panel")
        inner = QVBoxLayout(frame)
        inner.setContentsMargins(12, 8, 8, 8)
        inner.setSpacing(2)
        head = QHBoxLayout()
        head.setContentsMargins(0, 0, 14, 0)
        head.setSpacing(8)
        self.count = Label("")
        self.count.setObjectName("muted")
        head.addWidget(self.count, 2)
        for words, width in zip(_HEADS, _WIDTHS, strict=True):
            label = Label(words)
            label.setObjectName("muted")
            label.setFixedWidth(width)
            label.setAlignment(Qt.AlignmentFlag.AlignRight)
            head.addWidget(label)
        head.addWidget(Label(""), 2)
        inner.addLayout(head)
        scroll, self._rows = column(0)
        inner.addWidget(scroll, 1)
        layout.addWidget(frame, 1)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setAccessibleName(said("Progress of the batch"))
        self.bar.hide()
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        layout.addWidget(self.bar)
        foot = QHBoxLayout()
        self.report = QPushButton(said("Write a report…"))
        self.report.setEnabled(False)
        self.close_button = QPushButton(said("Close"))
        self.go = QPushButton(said("Choose a folder and write…"))
        self.go.setDefault(True)
        foot.addWidget(self.words, 1)
        for button in (self.report, self.close_button, self.go):
            foot.addWidget(button)
        layout.addLayout(foot)
        self.add_files.clicked.connect(lambda: self.add_asked.emit("files"))
        self.add_folder.clicked.connect(lambda: self.add_asked.emit("folder"))
        self.clear.clicked.connect(lambda: self.show_paths([], []))
        self.report.clicked.connect(self.report_asked)
        self.close_button.clicked.connect(self.reject)
        self.go.clicked.connect(self._go)
        self.show_paths([], [])
        self.resize(980, 600)

    def _go(self) -> None:
        if self.running:
            self.stop_asked.emit()
        else:
            self.start_asked.emit(self.sets.currentData(), self.learn.isChecked(), self.jobs.currentData())

    def show_paths(self, paths: list[Path], names: list[str]) -> None:
        """The files and folders that were added, and the recordings in them."""
        self.paths = paths
        for line in self._lines.values():
            self._rows.removeWidget(line)
            line.hide()
            line.deleteLater()
        self._lines = {}
        for place, name in enumerate(names):
            line = self._lines[place] = _Line(name)
            self._rows.insertWidget(place, line)
        self.count.setText(
            said("{count} recordings").format(count=len(names))
            if names
            else said("Add recordings or folders, or drop them here.")
        )
        self.go.setEnabled(bool(names))
        self.report.setEnabled(False)

    def show_running(self, running: bool) -> None:
        """It has begun, or is over."""
        self.running = running
        self.bar.setVisible(running)
        self.go.setText(said("Stop") if running else said("Choose a folder and write…"))
        for widget in (self.add_files, self.add_folder, self.clear, self.sets, self.learn, self.jobs):
            widget.setEnabled(not running)
        self.report.setEnabled(not running and bool(self._lines))

    def show_entry(self, place: int, entry: Entry, done: float) -> None:
        """What became of a recording so far, and how much of all is done."""
        if place in self._lines:
            self._lines[place].show_entry(entry)
        self.bar.setValue(int(1000 * done))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if not self.running and any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.dropped.emit(paths)

    def reject(self) -> None:
        if self.running:
            self.stop_asked.emit()
        else:
            super().reject()


def name_of(path: Path, below: Path) -> str:
    """How a recording is called in the list."""
    name = shown_name(path)
    return name if below == Path() else f"{below}/{name}"
