"""Two files: the recording as two component files, and the way back with what happened to them elsewhere."""

from PySide6.QtCore import QMimeData, Qt, QUrl, Signal
from PySide6.QtGui import QDrag
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Segments, Tinted, Toggle, Words
from stonekite.desktop.controls.column import column
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.links.pairing import Pairing
from stonekite.desktop.pictures.left_over_picture import LeftOverPicture
from stonekite.desktop.pictures.pair_picture import PairPicture
from stonekite.desktop.views.matrix_card import MatrixCard
from stonekite.desktop.views.pair_telling import MATRIX, PairTelling
from stonekite.engine.offline.rejoining import WORDS, Finding
from stonekite.files.audio import Bits
from stonekite.signal.matrix import MATRICES
from stonekite.words import said

_BITS: dict[Bits, str] = {
    "16": said("16 bit"),
    "24": said("24 bit"),
    "32f": said("32 float"),
    "64f": said("64 float"),
}


class FindingRow(QWidget):
    """One sentence about what came back, with the button that repairs it, or takes the repair back."""

    def __init__(self, finding: Finding, done: bool, good: bool) -> None:
        super().__init__()
        settled = done or good
        mark = Tinted("✓" if settled else "!", "muted" if settled else "warning")
        mark.setFixedWidth(16)
        mark.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.sentence = Label(finding.sentence)
        self.sentence.setWordWrap(True)
        self.button: Toggle | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 1, 0, 1)
        row.setSpacing(8)
        row.addWidget(mark)
        row.addWidget(self.sentence, 1)
        if finding.what is not None:
            word = WORDS[finding.what]
            self.button = Toggle(
                word,
                f"{word}: {finding.sentence}",
                said("One click repairs it, another one takes that back."),
            )
            self.button.setChecked(done)
            row.addWidget(self.button)


class PairView(QFrame):
    """Shows a Pairing. `write_asked`, `back_asked`, `join_asked` and `open_asked` are wishes that need a place on the
    disk; `hear_asked` says what is to be heard: recording, joined or left; `play_asked` plays it. `closed` goes back to
    the map.
    """

    write_asked = Signal()
    back_asked = Signal()
    join_asked = Signal()
    open_asked = Signal()
    hear_asked = Signal(object)
    closed = Signal()
    play_asked = Signal()

    def __init__(self, pairing: Pairing) -> None:
        super().__init__()
        self._pairing = pairing
        self._telling = PairTelling(pairing)
        self._shown: object = None
        self.rows: list[FindingRow] = []
        self.setAcceptDrops(False)  # the window takes what is dropped
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(self._build_top(), 5)
        lower = QHBoxLayout()
        lower.setSpacing(8)
        lower.addWidget(self._build_matrix(), 1)
        lower.addWidget(self._build_back(), 1)
        layout.addLayout(lower, 6)
        pairing.changed.connect(self.refresh)

    @staticmethod
    def _panel(title: str) -> tuple[QFrame, QVBoxLayout, QHBoxLayout]:
        frame = QFrame()
        frame.setObjectName("panel")
        layout = QVBoxLayout(frame)
        layout.setContentsMargins(12, 8, 12, 10)
        layout.setSpacing(6)
        head = QHBoxLayout()
        head.setSpacing(10)
        label = Label(title)
        label.setObjectName("title")
        head.addWidget(label)
        layout.addLayout(head)
        return frame, layout, head

    def _build_top(self) -> QWidget:
        frame, layout, head = self._panel(said("Two files"))
        self.words = Words()
        head.addWidget(self.words, 1)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(110)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName(said("Progress"))
        self.stop = QPushButton(said("Cancel"))
        self.write = QPushButton(said("Write the pair…"))
        self.back = QPushButton(said("Take back…"))
        self.close_view = QPushButton(said("Back to the map"))
        self.write.setToolTip(
            said("Write Mid and Side as two files into a folder, and prove that they come back")
        )
        self.back.setToolTip(
            said("Choose the two files that were worked on elsewhere; they can be dropped on the window, too")
        )
        self.close_view.setToolTip(said("Show the stages again"))
        head.addWidget(self.bar)
        for button in (self.stop, self.write, self.back, self.close_view):
            button.setObjectName("small")
            head.addWidget(button)
        self.picture = PairPicture()
        layout.addWidget(self.picture, 1)
        self.write.clicked.connect(self.write_asked)
        self.back.clicked.connect(self.back_asked)
        self.close_view.clicked.connect(self.closed)
        self.stop.clicked.connect(self._pairing.cancel)
        self.picture.drag_asked.connect(self._drag)
        return frame

    def _build_matrix(self) -> QWidget:
        frame, layout, head = self._panel(MATRIX.label)
        words = Words()
        words.setText(said("room in the files"))
        head.addWidget(words, 1)
        self.bits = Segments(_BITS, said("Samples of the files"), said("Sample type of the component files"))
        self.bits.show_value("24")
        head.addWidget(self.bits)
        assert MATRIX.words is not None
        self.cards = {matrix: MatrixCard(matrix, MATRIX.words[matrix]) for matrix in MATRICES}
        for matrix, card in self.cards.items():
            layout.addWidget(card, 1)
            card.clicked.connect(lambda on=False, matrix=matrix: self._pairing.choose(matrix))
        row = QHBoxLayout()
        row.setSpacing(8)
        self.verdict = Label("")
        self.verdict.setWordWrap(True)
        self.verdict.setMinimumHeight(30)
        self.trim = Toggle(
            said("Trim to fit"),
            said("Trim to fit"),
            said("Turn down what would be cut off; the files say by how much, and decoding undoes it"),
        )
        row.addWidget(self.verdict, 1)
        row.addWidget(self.trim)
        layout.addLayout(row)
        self.bits.chosen.connect(lambda bits: self._pairing.choose(bits=bits))
        self.trim.clicked.connect(self._pairing.trim)
        return frame

    def _build_back(self) -> QWidget:
        frame, layout, head = self._panel(said("What came back"))
        self.told = Words()
        head.addWidget(self.told, 1)
        self.all = QPushButton(said("Repair all"))
        self.all.setObjectName("small")
        self.all.setToolTip(said("Repair everything that was found"))
        head.addWidget(self.all)
        scroll, self._rows = column()
        layout.addWidget(scroll, 3)
        self.left_words = Label("")
        self.left_words.setObjectName("muted")
        self.left_words.setWordWrap(True)
        layout.addWidget(self.left_words)
        self.left = LeftOverPicture()
        layout.addWidget(self.left, 2)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.hear = Segments(
            {"recording": said("Recording"), "joined": said("Joined"), "left": said("Left over")},
            said("What is heard"),
            said(
                "Hear the recording, the two parts joined, or what is left when one is taken from the other"
            ),
        )
        self.play = QPushButton(said("Play"))
        self.play.setObjectName("small")
        keyed(self.play, said("Play or pause what is chosen here"), "play")
        row.addWidget(self.play)
        row.addWidget(self.hear)
        row.addStretch(1)
        self.open = QPushButton(said("Open it"))
        self.open.setToolTip(said("Work on the joined file from here on"))
        self.join = QPushButton(said("Write joined…"))
        self.join.setToolTip(said("Write the repaired parts as one stereo file"))
        for button in (self.open, self.join):
            button.setObjectName("small")
            row.addWidget(button)
        layout.addLayout(row)
        self.all.clicked.connect(self._repair_all)
        self.join.clicked.connect(self.join_asked)
        self.open.clicked.connect(self.open_asked)
        self.hear.chosen.connect(self.hear_asked)
        self.play.clicked.connect(self.play_asked)
        return frame

    # Showing

    def show_playing(self, playing: bool) -> None:
        """Whether something plays."""
        self.play.setText(said("Pause") if playing else said("Play"))

    def refresh(self) -> None:
        """Show what is known now."""
        if not self.isVisible():
            return
        pairing = self._pairing
        self.bar.setVisible(bool(pairing.busy))
        self.stop.setVisible(bool(pairing.busy))
        self.bar.setValue(int(1000 * pairing.done))
        self.words.setText(self._telling.doing())
        for matrix, card in self.cards.items():
            chosen = matrix == pairing.way.matrix
            card.setChecked(chosen)
            card.show_survey(pairing.survey, pairing.way.bits, pairing.way.trims_db if chosen else (0.0, 0.0))
        self.bits.show_value(pairing.way.bits)
        trimmed = any(pairing.way.trims_db)
        self.trim.setVisible(trimmed or any(pairing.over))
        self.trim.setChecked(trimmed)
        self.verdict.setText(self._telling.verdict())
        self.write.setEnabled(pairing.usable and pairing.survey is not None and not pairing.busy)
        self.back.setEnabled(pairing.usable)
        self.picture.show_pair(self._telling.shown())
        self._show_back()

    def _show_back(self) -> None:
        pairing = self._pairing
        back, found = pairing.back, pairing.findings()
        state = (tuple(found), pairing.repairs)
        if state != self._shown:
            self._shown = state
            self._fill(found)
        repairs = {one.repair for one in found if one.what is not None}
        self.all.setVisible(bool(repairs))
        self.all.setEnabled(not repairs <= pairing.repairs)
        joinable = back is not None and not back.fault and not pairing.refusal
        for widget in (self.hear, self.join):
            widget.setEnabled(joinable)
        self.open.setVisible(bool(pairing.joined))
        self.told.setText(self._telling.matrix())
        left = pairing.left
        if left is None:
            self.left.show_left([], [], 0.1, [])
            self.left_words.setText(pairing.refusal if back is not None and not back.fault else "")
        else:
            self.left.show_left(left.levels_db, left.source_db, left.step_s, left.worked)
            self.left_words.setText(self._telling.left())

    def _fill(self, found: list[Finding]) -> None:
        for row in self.rows:
            self._rows.removeWidget(row)
            row.hide()
            row.deleteLater()
        self.rows = []
        for place, finding in enumerate(found):
            row = FindingRow(finding, finding.repair in self._pairing.repairs, finding.row < 0)
            if row.button is not None:
                name = finding.repair
                row.button.clicked.connect(lambda on=False, name=name: self._pairing.repair(name, on))
            self._rows.insertWidget(place, row)
            self.rows.append(row)

    def _repair_all(self) -> None:
        self._pairing.repair_to(
            frozenset(one.repair for one in self._pairing.findings() if one.what is not None)
        )

    def _drag(self, row: int) -> None:
        """Drag files that were written into another program."""
        written = self._pairing.written
        if written is None:
            self.write_asked.emit()
            return
        paths = written.paths if row == 2 else [written.paths[row]]
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(path) for path in paths])
        drag = QDrag(self)
        drag.setMimeData(data)
        drag.exec(Qt.DropAction.CopyAction)

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self._pairing.look()
        self.refresh()
