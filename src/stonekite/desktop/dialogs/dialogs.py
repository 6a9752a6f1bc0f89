"""Dialogs, only for what needs an answer."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.plain import Label, ok_or_cancel
from stonekite.engine.graph.tails import LONGEST_S
from stonekite.session import tree
from stonekite.session.types import LEGS, Strip
from stonekite.stages.registry import label_of
from stonekite.words import NAMES, said


class ChannelDialog(QDialog):
    """Asks which two channels of a file with more than two to use."""

    def __init__(self, path: Path, count: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Choose two channels"))
        layout = QVBoxLayout(self)
        layout.setSpacing(12)
        words = Label(
            said("“{name}” has {count} channels.\nWhich two are the left and right to work on?").format(
                name=path.name, count=count
            )
        )
        layout.addWidget(words)
        row = QGridLayout()
        self.boxes = []
        for column, (name, start) in enumerate(((said("Left"), 0), (said("Right"), 1))):
            box = QComboBox()
            box.addItems([said("Channel {count}").format(count=k + 1) for k in range(count)])
            box.setCurrentIndex(start)
            box.setAccessibleName(name)
            label = Label(name)
            label.setBuddy(box)
            row.addWidget(label, 0, column)
            row.addWidget(box, 1, column)
            self.boxes.append(box)
        layout.addLayout(row)
        layout.addWidget(ok_or_cancel(self))

    @property
    def channels(self) -> tuple[int, int]:
        """The two chosen, counted from 0."""
        return self.boxes[0].currentIndex(), self.boxes[1].currentIndex()


TAIL_ROW = 3


class ExportDialog(QDialog):
    """Asks for format and sample type, then shows progress with a way to cancel.

    Set `on_start` to a function that begins the export, `on_cancel` to one that ends it.
    """

    FORMATS = {"WAV": ".wav", "FLAC": ".flac", "AIFF": ".aiff", "OGG": ".ogg"}
    TYPES = {"16": "16 bit", "24": "24 bit", "32f": said("32 bit float")}
    TAILS = {"auto": said("What rings on"), "none": said("Nothing"), "seconds": said("So long:")}
    PARTS = {"result": said("Stereo result"), "component": said("Its two components"), "all": said("Both")}

    def __init__(self, strip: Strip, split_names: tuple[str, str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Export"))
        self.setMinimumWidth(430)
        self.running = False
        self.on_start = lambda: None
        self.on_cancel = lambda: None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 16)
        layout.setSpacing(10)
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(8)
        self.format = self._row(grid, 0, said("File"), {name: name for name in self.FORMATS})
        self.bits = self._row(grid, 1, said("Samples"), self.TYPES)
        names = said(" and ").join(split_names)
        self.parts = self._row(
            grid,
            2,
            said("Write"),
            {**self.PARTS, "component": said("{names} as two files").format(names=names)},
        )
        self.tail = self._row(grid, TAIL_ROW, said("After the end"), self.TAILS)
        self.tail_seconds = QDoubleSpinBox()
        self.tail_seconds.setRange(0.0, LONGEST_S)
        self.tail_seconds.setDecimals(1)
        self.tail_seconds.setSuffix(" s")
        self.tail_seconds.setValue(2.0)
        self.tail_seconds.setEnabled(False)
        self.tail_seconds.setAccessibleName(said("Seconds after the end"))
        self.tail_seconds.setToolTip(
            said("How long the result goes on after the recording: up to {longest_s:g} s").format(
                longest_s=LONGEST_S
            )
        )
        grid.addWidget(self.tail_seconds, TAIL_ROW, 2)
        layout.addLayout(grid)
        self.dither = QCheckBox(said("Dither (TPDF) where bits are dropped"))
        self.dither.setToolTip(
            said("Triangular dither of two steps. An untouched 16- or 24-bit recording is never dithered.")
        )
        self.dither.setChecked(True)
        layout.addWidget(self.dither)
        self.warning = Label(_left_out(strip))
        self.warning.setWordWrap(True)
        self.warning.setVisible(bool(self.warning.text()))
        layout.addWidget(self.warning)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setVisible(False)
        self.bar.setAccessibleName(said("Export progress"))
        layout.addWidget(self.bar)
        self.message = Label("")
        self.message.setWordWrap(True)
        self.message.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        layout.addWidget(self.message)
        buttons = QHBoxLayout()
        buttons.addStretch()
        self.cancel = QPushButton(said("Cancel"))
        self.go = QPushButton(said("Choose file and export…"))
        self.go.setDefault(True)
        self.cancel.clicked.connect(self.reject)
        self.go.clicked.connect(lambda: self.on_start())
        buttons.addWidget(self.cancel)
        buttons.addWidget(self.go)
        layout.addLayout(buttons)
        self.format.buttonClicked.connect(self._follow)
        self.bits.buttonClicked.connect(self._follow)
        self.tail.buttonClicked.connect(self._follow)
        self._button(self.bits, "24").setChecked(True)

    def _row(self, grid: QGridLayout, row: int, name: str, words: dict[str, str]) -> QButtonGroup:
        label = Label(name)
        label.setObjectName("muted")
        grid.addWidget(label, row, 0)
        group = QButtonGroup(self)
        line = QHBoxLayout()
        line.setSpacing(14)
        for key, word in words.items():
            button = QRadioButton(word)
            button.setProperty("key", key)
            button.setAccessibleName(f"{name}: {word}")
            group.addButton(button)
            line.addWidget(button)
        group.buttons()[0].setChecked(True)
        line.addStretch()
        grid.addLayout(line, row, 1, 1, 1 if row == TAIL_ROW else 2)
        return group

    def _button(self, group: QButtonGroup, key: str) -> QRadioButton:
        return next(b for b in group.buttons() if b.property("key") == key)  # type: ignore[return-value]

    def _follow(self) -> None:
        """FLAC holds integers only, OGG (Vorbis) no samples at all, and floats need no dither."""
        lossy = self.value(self.format) == "OGG"
        for button in self.bits.buttons():
            button.setEnabled(not lossy)
        floats = self._button(self.bits, "32f")
        floats.setEnabled(self.value(self.format) not in ("FLAC", "OGG"))
        if not floats.isEnabled() and floats.isChecked():
            self._button(self.bits, "24").setChecked(True)
        self.tail_seconds.setEnabled(self.value(self.tail) == "seconds")
        self.dither.setEnabled(self.value(self.bits) != "32f" and not lossy)

    @staticmethod
    def value(group: QButtonGroup) -> str:
        """The key of the chosen button of a group."""
        return group.checkedButton().property("key")  # type: ignore[union-attr]

    @property
    def tail_s(self) -> float | None:
        """Seconds that the result goes on after the recording; None for as long as it rings."""
        return {"auto": None, "none": 0.0, "seconds": self.tail_seconds.value()}[self.value(self.tail)]

    @property
    def suffix(self) -> str:
        return self.FORMATS[self.value(self.format)]

    def show_running(self) -> None:
        """The export has begun."""
        self.running = True
        self.bar.setVisible(True)
        self.bar.setValue(0)
        self.message.setText("")
        self.go.setEnabled(False)

    def show_progress(self, done: float) -> None:
        self.bar.setValue(int(done * 1000))

    def show_end(self, sentence: str, complete: bool) -> None:
        """The export has ended, and how."""
        self.running = False
        self.message.setText(sentence)
        self.bar.setVisible(complete)
        if complete:
            self.bar.setValue(1000)
            self.cancel.setText(said("Close"))
        self.go.setEnabled(True)

    def reject(self) -> None:
        if self.running:
            self.on_cancel()
        else:
            super().reject()


def _left_out(strip: Strip) -> str:
    """What a listener might not expect of the result, as a sentence."""
    left_out = []
    for leg in LEGS:
        name = NAMES[strip.split.component(leg)]
        if strip.leg(leg).muted:
            left_out.append(said("{name} is muted and will not be in the result.").format(name=name))
        if strip.leg(leg).alone:
            left_out.append(said("{name} is alone: nothing else will be in the result.").format(name=name))
    left_out += [
        said("{label} is out and will not be in the result.").format(label=label_of(stage))
        for _, stage in tree.walk(strip)
        if not stage.inserted
    ]
    left_out += [
        said("The spur {name} is muted and will not be in the result.").format(name=s.name)
        for s in strip.spurs
        if s.muted
    ]
    left_out += [
        said("The spur {name} is alone: nothing else will be in the result.").format(name=s.name)
        for s in strip.spurs
        if s.alone
    ]
    return " ".join(left_out)
