"""Export sets: chosen, changed, kept, and the queue of what is being written."""

from pathlib import Path

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Segments, Tinted, Toggle
from stonekite.desktop.controls.column import column
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.links.export_queue import Entry, ExportQueue
from stonekite.session import export_sets
from stonekite.session.export_sets import FIELDS, SHIPPED, WHATS, ExportSet, SetError
from stonekite.session.types import Session
from stonekite.words import clock, mark, said

_FORMATS = {"wav": "WAV", "flac": "FLAC", "aiff": "AIFF", "ogg": "OGG"}
_BITS = {"16": said("16 bit"), "24": said("24 bit"), "32f": said("32 float"), "64f": said("64 float")}
_RATES = {None: said("As recorded"), 44100: "44.1", 48000: "48", 88200: "88.2", 96000: "96"}
_NUMBERS = {
    "loudness_lufs": (said("Loudness"), "LUFS", said("Integrated loudness of the result; nothing: as it is")),
    "ceiling_dbtp": (said("Ceiling"), "dBTP", said("Highest true peak of every file; nothing: none")),
    "fade_in_s": (said("Fade in"), "s", said("Seconds in which it comes in")),
    "fade_out_s": (said("Fade out"), "s", said("Seconds in which it goes out, its tail included")),
    "tail_s": (said("After the end"), "s", said("Seconds after the recording; nothing: what rings on")),
}
_OPTIONAL = ("loudness_lufs", "ceiling_dbtp", "tail_s")


class _EntryRow(QWidget):
    """One set in the queue."""

    def __init__(self, entry: Entry, queue: ExportQueue) -> None:
        super().__init__()
        self.entry = entry
        self.name = Label(entry.chosen.name)
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(130)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName(said("Progress of {name}").format(name=entry.chosen.name))
        self.cancel = QPushButton(said("Cancel"))
        self.cancel.setObjectName("small")
        self.cancel.clicked.connect(lambda: queue.cancel(entry))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 1, 4, 1)
        row.setSpacing(10)
        row.addWidget(self.name)
        row.addWidget(self.words, 1)
        row.addWidget(self.bar)
        row.addWidget(self.cancel)
        self.refresh()

    def refresh(self) -> None:
        entry = self.entry
        running = entry.state in ("waiting", "writing")
        self.bar.setVisible(running)
        self.cancel.setVisible(running)
        self.bar.setValue(int(1000 * entry.done))
        left = entry.left_s
        words = {
            "waiting": said("waiting"),
            "writing": said("writing into “{folder}”"),
            "failed": "",
            "written": "",
        }
        text = words[entry.state].format(folder=entry.folder.name) or entry.words
        if left is not None:
            text += said(", {time} left").format(time=clock(left, 0))
        self.words.setText(text)


class SetsDialog(QDialog):
    """Shows sets for a session. `write_asked` gives the set that is to be written; its folder is asked for elsewhere."""

    write_asked = Signal(object)

    def __init__(
        self,
        session: Session,
        session_name: str,
        queue: ExportQueue,
        folder: Path,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Export sets"))
        self._session, self._session_name, self._queue, self._folder = session, session_name, queue, folder
        self._rows: list[_EntryRow] = []
        self._shown: list[ExportSet] = []
        self.faults: list[str] = []
        whole = QVBoxLayout(self)
        whole.setContentsMargins(18, 16, 18, 14)
        whole.setSpacing(12)
        upper = QHBoxLayout()
        upper.setSpacing(18)
        upper.addLayout(self._build_list())
        upper.addLayout(self._build_form(), 1)
        whole.addLayout(upper, 3)
        whole.addWidget(self._build_queue(), 2)
        self._queue.changed.connect(self._show_queue)
        self._list_sets()
        self.list.setCurrentRow(0)
        self._show_queue()
        self.resize(900, 640)

    def _build_list(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(8)
        self.list = QListWidget()
        self.list.setFixedWidth(262)
        self.list.setAccessibleName(said("Export sets"))
        self.list.setWordWrap(True)
        self.keep = QPushButton(said("Keep as my own"))
        self.keep.setToolTip(said("Keep the set as it is here under its name, for every session"))
        self.remove = QPushButton(said("Remove"))
        self.remove.setToolTip(said("Remove this set of your own"))
        row = QHBoxLayout()
        for button in (self.keep, self.remove):
            button.setObjectName("small")
            button.setAutoDefault(False)
            row.addWidget(button)
        column.addWidget(self.list, 1)
        column.addLayout(row)
        self.list.currentRowChanged.connect(self._choose)
        self.keep.clicked.connect(self._keep)
        self.remove.clicked.connect(self._remove)
        return column

    def _build_form(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(9)
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(9)
        grid.setColumnStretch(1, 1)

        def line(place: int, words: str, *widgets: QWidget) -> None:
            label = Label(words)
            label.setObjectName("muted")
            grid.addWidget(label, place, 0)
            row = QHBoxLayout()
            row.setSpacing(6)
            for widget in widgets:
                row.addWidget(widget)
            row.addStretch(1)
            grid.addLayout(row, place, 1)

        self.name = QLineEdit()
        self.name.setMaxLength(60)
        self.name.setMinimumWidth(300)
        self.name.setAccessibleName(said("Name of the set"))
        line(0, said("Set"), self.name)
        help = said("Write it: {what}")
        self.what = {word: Toggle(words, words, help.format(what=words)) for word, words in WHATS.items()}
        first, second = list(self.what.values())[:3], list(self.what.values())[3:]
        line(1, said("Write"), *first)
        line(2, "", *second)
        self.format = Segments(_FORMATS, said("Format"))
        self.bits = Segments(_BITS, said("Samples"))
        line(3, said("File"), self.format, self.bits)
        self.rate = QComboBox()
        for value, words in _RATES.items():
            self.rate.addItem(words if value is None else f"{words} kHz", value)
        self.rate.setAccessibleName(said("Sample rate"))
        self.dither = Toggle(said("Dither"), said("Dither"), said("TPDF dither where bits are dropped"))
        self.matched = Toggle(
            said("Unprocessed as loud"),
            said("Unprocessed as loud"),
            said("Bring the unprocessed to the loudness of the result"),
        )
        self.sections = Toggle(
            said("Each section"),
            said("Each section"),
            said("Write each section of the timeline by itself, without what rings on after it"),
        )
        line(4, said("Rate"), self.rate, self.dither, self.matched, self.sections)
        self.numbers: dict[str, QLineEdit] = {}
        for place, names in (
            (5, ("loudness_lufs", "ceiling_dbtp")),
            (6, ("fade_in_s", "fade_out_s", "tail_s")),
        ):
            widgets: list[QWidget] = []
            for name in names:
                words, unit, help = _NUMBERS[name]
                field = self.numbers[name] = QLineEdit()
                field.setFixedWidth(64)
                field.setAlignment(Qt.AlignmentFlag.AlignRight)
                field.setToolTip(help)
                field.setAccessibleName(f"{words}, {unit}")
                field.textChanged.connect(lambda text: self._changed())
                if widgets:
                    label = Label(words)
                    label.setObjectName("muted")
                    label.setContentsMargins(16, 0, 0, 0)
                    widgets.append(label)
                unit_label = Label(unit)
                unit_label.setObjectName("muted")
                widgets += [field, unit_label]
            line(place, _NUMBERS[names[0]][0], *widgets)
        self.pattern = QLineEdit()
        self.pattern.setMaxLength(200)
        self.pattern.setMinimumWidth(300)
        self.pattern.setAccessibleName(said("Pattern of the names"))
        self.pattern.setToolTip("\n".join(f"{{{name}}}: {words}" for name, words in FIELDS.items()))
        line(7, said("Names"), self.pattern)
        column.addLayout(grid)
        self.example = Label("")
        self.example.setObjectName("muted")
        self.example.setWordWrap(True)
        self.example.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.example.setMinimumHeight(52)
        self.fault = Tinted("", "warning")
        self.fault.setWordWrap(True)
        column.addWidget(self.example, 1)
        column.addWidget(self.fault)
        row = QHBoxLayout()
        row.addStretch(1)
        self.close_button = QPushButton(said("Close"))
        self.write = QPushButton(said("Choose a folder and write…"))
        self.write.setDefault(True)
        self.close_button.clicked.connect(self.reject)
        self.write.clicked.connect(self._write)
        row.addWidget(self.close_button)
        row.addWidget(self.write)
        column.addLayout(row)
        for toggle in (*self.what.values(), self.dither, self.matched, self.sections):
            toggle.toggled.connect(lambda on: self._changed())
        self.format.chosen.connect(self._format_chosen)
        self.bits.chosen.connect(lambda value: self._changed())
        self.rate.currentIndexChanged.connect(lambda place: self._changed())
        self.pattern.textChanged.connect(lambda text: self._changed())
        self.name.textChanged.connect(lambda text: self._changed())
        return column

    def _build_queue(self) -> QWidget:
        frame = QFrame()
        frame.setObjectName("panel")
        layout = QVBoxLayout(frame)
        layout.setContentsMargins(12, 8, 12, 8)
        layout.setSpacing(4)
        head = QHBoxLayout()
        title = Label(said("Queue"))
        title.setObjectName("title")
        self.queue_words = Label("")
        self.queue_words.setObjectName("muted")
        self.clear = QPushButton(said("Forget what is done"))
        self.clear.setObjectName("small")
        self.clear.setAutoDefault(False)
        self.clear.clicked.connect(self._queue.clear)
        head.addWidget(title)
        head.addWidget(self.queue_words, 1)
        head.addWidget(self.clear)
        layout.addLayout(head)
        scroll, self._queue_rows = column(0)
        layout.addWidget(scroll, 1)
        return frame

    # Sets

    def _list_sets(self) -> None:
        own, self.faults = export_sets.own(self._folder)
        self._own = {one.name for one in own}
        self._shown = [*own, *(one for one in SHIPPED if one.name not in self._own)]
        self.list.blockSignals(True)
        self.list.clear()
        for one in self._shown:
            item = QListWidgetItem(one.name)
            item.setToolTip(", ".join(WHATS[word] for word in one.what))
            self.list.addItem(item)
        self.list.blockSignals(False)

    def _choose(self, place: int) -> None:
        if 0 <= place < len(self._shown):
            self.show_set(self._shown[place])

    def show_set(self, chosen: ExportSet) -> None:
        """Show a set in the fields."""
        self._filling = True
        self.name.setText(chosen.name)
        for word, toggle in self.what.items():
            toggle.setChecked(word in chosen.what)
        self.format.show_value(chosen.format)
        self.bits.show_value(chosen.bits)
        if self.rate.findData(chosen.rate) < 0:
            self.rate.addItem(f"{mark((chosen.rate or 0) / 1000)} kHz", chosen.rate)
        self.rate.setCurrentIndex(self.rate.findData(chosen.rate))
        self.dither.setChecked(chosen.dither)
        self.matched.setChecked(chosen.matched)
        self.sections.setChecked(chosen.sections)
        for name, field in self.numbers.items():
            value = getattr(chosen, name)
            field.setText("" if value is None else mark(value))
        self.pattern.setText(chosen.pattern)
        self._filling = False
        self._changed()

    _filling = False

    def chosen(self) -> ExportSet:
        """The set in the fields. Raises SetError with a sentence."""
        values: dict[str, object] = {}
        for name, field in self.numbers.items():
            words, unit, _ = _NUMBERS[name]
            text = field.text().strip().replace("−", "-").replace(",", ".").removesuffix(unit).strip()
            if not text:
                values[name] = None if name in _OPTIONAL else 0.0
                continue
            try:
                values[name] = float(text)
            except ValueError:
                sentence = said("“{text}” is no {name} in {unit}.")
                raise SetError(sentence.format(text=text, name=words.lower(), unit=unit)) from None
        what = [word for word, toggle in self.what.items() if toggle.isChecked()]
        if not what:
            raise SetError(said("Choose something to write."))
        raw = {
            "name": self.name.text().strip(),
            "what": what,
            "format": self.format.value,
            "bits": self.bits.value,
            "rate": self.rate.currentData(),
            "dither": self.dither.isChecked(),
            "matched": self.matched.isChecked(),
            "sections": self.sections.isChecked(),
            "pattern": self.pattern.text(),
            **values,
        }
        try:
            return msgspec.convert(raw, ExportSet)
        except msgspec.ValidationError as error:
            text = str(error)
            for name, (words, _, _) in _NUMBERS.items():
                text = text.replace(f"`$.{name}`", words)
            raise SetError(
                said("This cannot be: {reason}.").format(reason=text[:1].lower() + text[1:])
            ) from None

    def _format_chosen(self, value: object) -> None:
        """FLAC holds integers only."""
        if value == "flac" and self.bits.value in ("32f", "64f"):
            self.bits.show_value("24")
        self._changed()

    def _changed(self) -> None:
        """Something in the fields is another one."""
        if self._filling:
            return
        fault, example = "", ""
        self.bits.setEnabled(self.format.value != "ogg")
        try:
            chosen = self.chosen()
            if chosen.format == "flac" and chosen.bits in ("32f", "64f"):
                raise SetError(said("FLAC holds integers: choose 16 or 24 bits, or WAV."))
            parts = export_sets.parts_of(chosen, self._session, self._session_name)
            files = [name for _, part in parts for name in part.values()]
            example = said("For example: {names}").format(names="   ".join(files[:4]))
            if len(files) > 4:
                example += said("   and {count} more").format(count=len(files) - 4)
        except SetError as error:
            fault = str(error)
        self.fault.setText(fault)
        self.example.setText(example)
        self.write.setEnabled(not fault)
        self.keep.setEnabled(not fault)
        self.remove.setEnabled(self.name.text().strip() in self._own)

    def _keep(self) -> None:
        try:
            chosen = self.chosen()
            export_sets.save(chosen, self._folder)
        except SetError as error:
            self.fault.setText(str(error))
            return
        self._list_sets()
        self.list.setCurrentRow([one.name for one in self._shown].index(chosen.name))

    def _remove(self) -> None:
        path = export_sets.path_for(self.name.text().strip(), self._folder)
        try:
            path.unlink(missing_ok=True)
        except OSError as error:
            self.fault.setText((error.strerror or str(error)) + ".")
            return
        self._list_sets()
        self.list.setCurrentRow(0)

    def _write(self) -> None:
        try:
            self.write_asked.emit(self.chosen())
        except SetError as error:
            self.fault.setText(str(error))

    # Queue

    def _show_queue(self) -> None:
        entries = self._queue.entries
        if [row.entry for row in self._rows] != entries:
            for row in self._rows:
                self._queue_rows.removeWidget(row)
                row.hide()
                row.deleteLater()
            self._rows = [_EntryRow(entry, self._queue) for entry in entries]
            for place, row in enumerate(self._rows):
                self._queue_rows.insertWidget(place, row)
        for row in self._rows:
            row.refresh()
        waiting = sum(entry.state == "waiting" for entry in entries)
        self.queue_words.setText(
            said("{count} waiting").format(count=waiting)
            if waiting
            else ("" if entries else said("nothing to write"))
        )
        self.clear.setVisible(any(entry.state in ("written", "failed") for entry in entries))
