"""The tempo: typed, tapped, or found in the recording; where the first beat is; how long all notes are."""

import time

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from stonekite import notes
from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.plain import Label
from stonekite.session.types import Tempo
from stonekite.stages.settings import settings_of
from stonekite.words import clock, figure, number, said

MOST_TAPS, LONGEST_PAUSE_S = 12, 2.5
SURE, LIKELY = 0.35, 0.12


class Taps:
    """Beats that a hand gives: the tempo of the last ones in a row."""

    def __init__(self) -> None:
        self._times: list[float] = []

    def tap(self, now: float) -> float | None:
        """A tap at a time in seconds: beats in a minute from the second tap on."""
        if self._times and now - self._times[-1] > LONGEST_PAUSE_S:
            self._times.clear()
        self._times = [*self._times[-MOST_TAPS + 1 :], now]
        if len(self._times) < 2:
            return None
        # The line through all of them: a single late tap hardly counts.
        count = len(self._times)
        middle = 0.5 * (count - 1)
        mean = sum(self._times) / count
        slope = sum((k - middle) * (t - mean) for k, t in enumerate(self._times))
        slope /= sum((k - middle) ** 2 for k in range(count))
        return min(notes.FASTEST_BPM, max(notes.SLOWEST_BPM, 60.0 / slope))


def how_sure(confidence: float) -> str:
    return said("sure") if confidence >= SURE else said("likely") if confidence >= LIKELY else said("a guess")


class TempoDialog(QDialog):
    """`moved` gives another tempo, what was changed and a gesture token. `find_asked` wishes for the recording's own,
    `here_asked` for the first beat where playing stands, `click_asked` for it at the next click on the timeline.
    """

    moved = Signal(object, str, object)
    find_asked = Signal()
    here_asked = Signal()
    click_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Tempo"))
        self.resize(420, 470)
        self._tempo = Tempo()
        self._taps = Taps()
        self._other = 0.0
        self.bpm = ValueField(settings_of(Tempo)["bpm"])
        self.bpm.moved.connect(lambda bpm, token: self._move({"bpm": bpm}, "tempo", token))
        self.bpm.refused.connect(self._say)
        self.tap = QPushButton(said("Tap"))
        self.tap.setToolTip(said("Tap along, four times or more: click, or press T or Space here"))
        self.tap.pressed.connect(self._tapped)
        self.find_button = QPushButton(said("Find in the recording"))
        self.find_button.setToolTip(said("Listen to the first minute for what comes again"))
        self.find_button.clicked.connect(self.find_asked)
        self.half, self.double = QPushButton(said("Half")), QPushButton(said("Double"))
        for button, factor in ((self.half, 0.5), (self.double, 2.0)):
            button.clicked.connect(lambda _=False, f=factor: self._scale(f))
            button.setToolTip(
                said("The same beats counted half as often") if factor < 1 else said("… twice as often")
            )
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        self.words.setMinimumHeight(34)
        self.first = Label("")
        self.here = QPushButton(said("Here"))
        self.here.setToolTip(said("The first beat is where playing stands"))
        self.here.clicked.connect(self.here_asked)
        self.click = QPushButton(said("Click it"))
        self.click.setToolTip(said("The next click on the timeline says where the first beat is"))
        self.click.clicked.connect(self._ask_click)
        self.beats = Segments({n: str(n) for n in (2, 3, 4, 5, 6, 7)}, said("Beats in a bar"))
        self.beats.chosen.connect(lambda n: self._move({"beats": n}, said("beats in a bar"), None))
        for button in (self.tap, self.find_button, self.half, self.double, self.here, self.click):
            button.setObjectName("small")
            button.setAutoDefault(False)
        self.table = QTableWidget(len(notes.PARTS), len(notes.KINDS))
        self.table.setHorizontalHeaderLabels([kind or "plain" for kind in notes.KINDS])
        self.table.setVerticalHeaderLabels([f"1/{part}" for part in notes.PARTS])
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setAccessibleName(said("Lengths of notes in ms"))
        self.table.setToolTip(said("Double-click or Ctrl+C: copy the number"))
        self.table.cellDoubleClicked.connect(lambda row, column: self.copy())
        self._lay_out()

    def _lay_out(self) -> None:
        def row(*parts: QWidget | int) -> QHBoxLayout:
            made = QHBoxLayout()
            made.setSpacing(10)
            for part in parts:
                if isinstance(part, int):
                    made.addStretch(part)
                else:
                    made.addWidget(part)
            return made

        frame = QFrame()  # sliders lie on a panel
        frame.setObjectName("panel")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(8, 8, 8, 8)
        outer.addWidget(frame)
        layout = QVBoxLayout(frame)
        layout.setSpacing(9)
        top = row(self.bpm, self.tap, self.half, self.double)
        top.setStretch(0, 1)
        layout.addLayout(top)
        layout.addLayout(row(self.find_button, 1))
        layout.addWidget(self.words)
        layout.addLayout(row(Label(said("First beat")), self.first, self.here, self.click, 1))
        layout.addLayout(row(Label(said("Beats in a bar")), self.beats, 1))
        heading = Label(said("Lengths of notes in ms; a beat is 1/4"))
        heading.setObjectName("muted")
        layout.addWidget(heading)
        layout.addWidget(self.table, 1)

    def show_tempo(self, tempo: Tempo) -> None:
        self._tempo = tempo
        self.bpm.show_value(tempo.bpm)
        self.first.setText(clock(tempo.first_beat_s, 3))
        self.beats.show_value(tempo.beats)
        self.half.setEnabled(0.5 * tempo.bpm >= notes.SLOWEST_BPM)
        self.double.setEnabled(2.0 * tempo.bpm <= notes.FASTEST_BPM)
        for row, part in enumerate(notes.PARTS):
            for column, kind in enumerate(notes.KINDS):
                ms = 1000.0 * notes.seconds(f"1/{part} {kind}".strip(), tempo.bpm)
                item = QTableWidgetItem(number(ms, 2))
                item.setTextAlignment(Qt.AlignmentFlag.AlignCenter)
                self.table.setItem(row, column, item)

    def show_found(self, bpm: float | None, first_beat_s: float, confidence: float, other_bpm: float) -> None:
        """What was found in the recording, and use it."""
        if bpm is None:
            self._say(said("Nothing in the recording comes again often enough to tell a tempo."))
            return
        self._move({"bpm": round(bpm, 2), "first_beat_s": first_beat_s}, said("tempo found"), None)
        self._say(
            said(
                "Found {bpm}: {confidence}. Counted otherwise it is {half} (Half) or {double} (Double)."
            ).format(
                bpm=figure(bpm, said("beats a minute"), 2),
                confidence=how_sure(confidence),
                half=figure(0.5 * bpm, "", 2),
                double=figure(2.0 * bpm, "", 2),
            )
        )

    def copy(self) -> None:
        """Put the chosen number on the clipboard."""
        item = self.table.currentItem()
        if item is not None:
            QGuiApplication.clipboard().setText(item.text())
            self._say(said("{text} is on the clipboard.").format(text=item.text()))

    def _say(self, sentence: str) -> None:
        self.words.setText(sentence)

    def _ask_click(self) -> None:
        self._say(said("Click on the timeline where the first beat is."))
        self.click_asked.emit()

    def _tapped(self) -> None:
        bpm = self._taps.tap(time.monotonic())
        if bpm is None:
            self._say(said("Go on tapping…"))
        else:
            self._move({"bpm": round(bpm, 1)}, said("tempo tapped"), "taps")

    def _scale(self, factor: float) -> None:
        self._move({"bpm": self._tempo.bpm * factor}, "tempo", None)

    def _move(self, values: dict[str, object], words: str, token: object) -> None:
        self.moved.emit(values, words, token)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_T, Qt.Key.Key_Space):
            self._tapped()
        elif event.key() == Qt.Key.Key_C and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.copy()
        else:
            super().keyPressEvent(event)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.tap.setFocus()
