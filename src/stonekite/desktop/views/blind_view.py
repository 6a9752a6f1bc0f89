"""The blind test: nothing is shown that could tell which is which, and only keys are used."""

import datetime
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import font
from stonekite.files.atomic import replacing
from stonekite.measure.binomial import fewest_right
from stonekite.reports.making import verdict
from stonekite.session.blind import Trials, as_csv
from stonekite.session.types import BlindTest
from stonekite.stages.settings import Setting
from stonekite.words import said

_TRIALS = Setting(
    label=said("Trials"),
    unit="",
    low=1.0,
    high=100.0,
    step=1.0,
    default=12.0,
    help=said("How many there are: decided in advance"),
)
_LIKELY = 0.05


def _label(words: str = "", size: float = 11.0, bold: bool = False) -> Label:
    label = Label(words)
    label.setFont(font(size, bold))
    label.setStyleSheet(f"font-size: {size}pt;{' font-weight: bold;' if bold else ''}")
    label.setAlignment(Qt.AlignmentFlag.AlignCenter)
    label.setWordWrap(True)
    return label


_STEPS = (
    said(
        "Both are played in time with each other and equally loud. From Begin on nothing on the screen "
        "tells which is which, and the listen panel is away."
    ),
    said(
        "A and B play the two, as often as you like; X plays the hidden one of a test that asks to tell "
        "them apart. Space pauses. A loop goes round all the while."
    ),
    said(
        "Shift+A and Shift+B answer. Which one is hidden is drawn anew in each trial, and when the test "
        "ends was said before it began."
    ),
    said(
        "The result says how probable so many right answers are by guessing alone. It is kept in the "
        "session and stands in the report."
    ),
)


def _column(*parts: QWidget | QHBoxLayout | QVBoxLayout) -> QWidget:
    """Parts under each other, in the middle of the height."""
    column = QWidget()
    layout = QVBoxLayout(column)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(14)
    layout.addStretch(1)
    for part in parts:
        if isinstance(part, QWidget):
            if isinstance(part, Label):
                part.setAlignment(Qt.AlignmentFlag.AlignLeft)
            layout.addWidget(part)
        else:
            layout.addLayout(part)
    layout.addStretch(2)
    return column


def _left(*widgets: QWidget) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(12)
    for widget in widgets:
        row.addWidget(widget)
    row.addStretch(1)
    return row


def _asked(words: str, widget: QWidget) -> QVBoxLayout:
    """A choice under the words that ask for it."""
    column = QVBoxLayout()
    column.setSpacing(4)
    if words:
        label = Label(words)
        label.setObjectName("muted")
        column.addWidget(label)
    column.addLayout(_left(widget))
    return column


class BlindView(QFrame):
    """Asks what is compared, runs the trials, and shows the result.

    `hear_asked` gives the key of what is to be heard; `begun` and `ended` frame the trials; `kept` gives the result.
    """

    hear_asked = Signal(str)
    begun = Signal()
    ended = Signal()
    kept = Signal(object)
    play_asked = Signal()
    left = Signal()

    def __init__(
        self,
        names: Callable[[], dict[str, str]],
        loudness: Callable[[], dict[str, float | None]],
        earlier: Callable[[], list[str]],
    ) -> None:
        super().__init__()
        self._earlier = earlier
        self.setObjectName("panel")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._names, self._loudness = names, loudness
        self.trials: Trials | None = None
        self.test: BlindTest | None = None
        self._keys = ("", "")
        self.gains: dict[str, float] = {}
        self.range_s: tuple[float, float] | None = None
        self._pages = QStackedWidget()
        for page in (self._setup(), self._trial(), self._result()):
            self._pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.addWidget(self._pages)

    # Building

    @staticmethod
    def _page(*widgets: QWidget | QHBoxLayout) -> QWidget:
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setSpacing(14)
        layout.addStretch(1)
        for widget in widgets:
            if isinstance(widget, QHBoxLayout):
                layout.addLayout(widget)
            else:
                layout.addWidget(widget)
        layout.addStretch(1)
        return page

    @staticmethod
    def _row(*widgets: QWidget) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(12)
        row.addStretch(1)
        for widget in widgets:
            row.addWidget(widget)
        row.addStretch(1)
        return row

    def _setup(self) -> QWidget:
        self.kind = Segments(
            {"abx": said("Tell apart (ABX)"), "preference": said("Prefer (A or B)")},
            said("Kind of test"),
            said(
                "Tell apart: is X the same as A or as B? Prefer: which of A and B is better, shuffled in each "
                "trial"
            ),
        )
        self.first = Segments({"processed": said("Now")}, said("One of them"))
        self.second = Segments({"unprocessed": said("Unprocessed")}, said("The other one"))
        self.count = ValueField(_TRIALS, said("Blind test"))
        self.count.setFixedWidth(180)
        self.rule = _label("", 9.5)
        self.rule.setObjectName("muted")
        self.trouble = _label("", 9.5)
        self.go = QPushButton(said("Begin"))
        self.go.setDefault(True)
        self.cancel = QPushButton(said("Back"))
        self.kind.chosen.connect(lambda _: self._say_rule())
        self.count.moved.connect(lambda value, token: self._say_rule())
        for choice in (self.first, self.second):
            choice.chosen.connect(lambda _: self._say_rule())
        self.go.clicked.connect(self.begin)
        self.cancel.clicked.connect(self.left)
        for label in (self.rule, self.trouble):
            label.setAlignment(Qt.AlignmentFlag.AlignLeft)
        questions = _column(
            _label(said("Blind test"), 16, True),
            _asked(said("What is asked"), self.kind),
            _asked(said("One of them"), self.first),
            _asked(said("The other one"), self.second),
            _asked("", self.count),
            self.rule,
            self.trouble,
            _left(self.cancel, self.go),
        )
        self.earlier = Label("")
        self.earlier.setWordWrap(True)
        self.earlier.setObjectName("muted")
        steps = Label("\n\n".join(_STEPS))
        steps.setWordWrap(True)
        words = _column(
            _label(said("How it goes"), 13, True),
            steps,
            _label(said("Earlier tests"), 13, True),
            self.earlier,
        )
        page = QWidget()
        layout = QHBoxLayout(page)
        layout.setContentsMargins(24, 12, 24, 12)
        layout.setSpacing(56)
        layout.addStretch(1)
        layout.addWidget(questions, 5)
        layout.addWidget(words, 5)
        layout.addStretch(1)
        return page

    def _trial(self) -> QWidget:
        self.place = _label("", 13, True)
        self.letter = _label("A", 44, True)
        self.help = _label("", 10.5)
        return self._page(self.place, self.letter, self.help)

    def _result(self) -> QWidget:
        self.words = _label("", 12)
        self.save = QPushButton(said("Save trials…"))
        self.save.setToolTip(said("Every trial as CSV: what was hidden, what was answered"))
        self.close_result = QPushButton(said("Close"))
        self.save.clicked.connect(self.ask_save)
        self.close_result.clicked.connect(self.left)
        self.note = _label("", 9.5)
        return self._page(
            _label(said("Result"), 16, True), self.words, self._row(self.save, self.close_result), self.note
        )

    # Setting up

    def open(self, first: str, second: str) -> None:
        """Ask for a test of two subjects, by their keys."""
        names = self._names()
        self.first.set_words(names)
        self.second.set_words(names)
        self.first.show_value(first)
        self.second.show_value(second)
        self._pages.setCurrentIndex(0)
        self.earlier.setText("\n\n".join(self._earlier()[-4:]) or said("None in this session yet."))
        self._say_rule()
        self.go.setFocus()

    def refresh(self) -> None:
        """More may be known of the levels."""
        if self._pages.currentIndex() == 0:
            self._say_rule()

    def _say_rule(self) -> None:
        count = round(self.count.value)
        words = said("The test ends after {count} trials, whatever comes out.").format(count=count)
        if self.kind.value == "abx":
            needed = fewest_right(count, _LIKELY)
            if needed is None:
                words += said(
                    " So few cannot tell: even {count} right answers come by guessing too often."
                ).format(count=count)
            else:
                words += said(
                    " {needed} right answers or more come by guessing in less than 5 % of all tests."
                ).format(needed=needed)
        self.rule.setText(words)
        trouble = self._trouble()
        self.trouble.setText(trouble)
        self.go.setEnabled(not trouble)

    def _trouble(self) -> str:
        """Why the test cannot begin; nothing if it can."""
        chosen = (self.first.value, self.second.value)
        if chosen[0] == chosen[1]:
            return said("Choose two different ones.")
        if all(key.startswith("reference") for key in chosen):
            return said("Only one of the two can be a reference.")
        loudness = self._loudness()
        if any(key not in loudness for key in chosen):
            return said("Their loudness is still being measured…")
        if any(loudness[key] is None for key in chosen):
            return said("One of them is silent here: their levels cannot be matched.")
        return ""

    # The trials

    def begin(self) -> None:
        """Begin the trials: from now on nothing tells which is which."""
        if self._trouble():
            return
        names = self._names()
        self._keys = self.first.value, self.second.value
        self.trials = Trials(
            self.kind.value, names[self._keys[0]], names[self._keys[1]], round(self.count.value)
        )
        self.gains = {}
        self._pages.setCurrentIndex(1)
        self.begun.emit()
        self.setFocus()
        self._hear("A")

    def _hear(self, letter: Any) -> None:
        trials = self.trials
        assert trials is not None
        self.letter.setText(letter)
        self.place.setText(
            said("Trial {count} of {planned}").format(count=trials.place + 1, planned=trials.planned)
        )
        keys = said("A, B and X: hear them") if trials.kind == "abx" else said("A and B: hear them")
        answer = said("X is A, X is B") if trials.kind == "abx" else said("A is better, B is better")
        self.help.setText(
            said(
                "{keys}. Space: play or pause.\nShift+A, Shift+B: answer — {answer}. Escape: stop the test."
            ).format(keys=keys, answer=answer)
        )
        self.hear_asked.emit(self._keys[trials.behind(letter)])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        trials = self.trials
        if trials is None or self._pages.currentIndex() != 1:
            super().keyPressEvent(event)
            return
        letter = {Qt.Key.Key_A: "A", Qt.Key.Key_B: "B", Qt.Key.Key_X: "X"}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Escape:
            self.finish()
        elif event.key() == Qt.Key.Key_Space:
            self.play_asked.emit()
        elif letter is None or (letter == "X" and trials.kind != "abx"):
            return
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            if letter != "X" and not event.isAutoRepeat():
                self._answer(letter)
        else:
            self._hear(letter)

    def _answer(self, letter: Any) -> None:
        assert self.trials is not None
        self.trials.answer(letter)
        if self.trials.done:
            self.finish()
        else:
            self._hear("A")

    def give_up(self) -> None:
        """End the trials without a result: something else has taken their place."""
        if self.trials is not None:
            self.trials = None
            self._pages.setCurrentIndex(0)
            self.ended.emit()

    def finish(self) -> None:
        """Show what has come out, and keep it."""
        trials, self.trials = self.trials, None
        if trials is None:
            return
        self.ended.emit()
        if not trials.place:
            self.left.emit()
            return
        # The gains that were heard, against the loudness as it is known now.
        loudness = self._loudness()
        levels = [(loudness.get(key) or 0.0) + gain for key, gain in self.gains.items()]
        match = max(levels) - min(levels) if len(levels) == 2 else 0.0
        when = datetime.datetime.now().strftime("%Y-%m-%d %H:%M")
        self.test = trials.result(when, self.range_s, match)
        self.words.setText(verdict(self.test))
        self.note.setText(said("The result is kept in the session, and stands in its report."))
        self._pages.setCurrentIndex(2)
        self.close_result.setFocus()
        self.kept.emit(self.test)

    def ask_save(self) -> None:
        """Save the trials one by one."""
        if self.test is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self, said("Save trials"), "blind-test.csv", said("CSV (*.csv)")
        )
        if not name:
            return
        try:
            with replacing(Path(name)) as temporary:
                temporary.write_text(as_csv(self.test), encoding="utf-8")
        except OSError as error:
            self.note.setText(
                said("“{name}” cannot be written: {reason}.").format(
                    name=Path(name).name, reason=(error.strerror or str(error)).lower()
                )
            )
        else:
            self.note.setText(said("Written: {name}").format(name=name))
