"""The listen panel: what the ears get, and the figures before and now."""

import math

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.choices import Toggle
from stonekite.desktop.scope import Scope
from stonekite.desktop.theme import LETTERS, NAMES, font, roles
from stonekite.engine.listen import Listening, match_gains_db

_CHOICES = (
    ("processed", "Processed", "1", "The result"),
    ("unprocessed", "Unprocessed", "2", "The recording as it came, level-matched"),
    ("difference", "Difference", "3", "Processed minus unprocessed: what the processing adds and takes away"),
)


def shown(value: float | None, unit: str, digits: int = 1, sign: bool = False) -> str:
    """A figure with a true minus sign; a dash where there is none."""
    if value is None or not math.isfinite(value):
        return "–"
    text = f"{value + 0.0:{'+' if sign else ''}.{digits}f}".replace("-", "−")
    if float(f"{value:.{digits}f}") == 0:
        text = f"{0:.{digits}f}"
    return f"{text} {unit}".strip()


class Choice(Toggle):
    """A wide button for what is heard, with its key."""

    def __init__(self, word: str, key: str, help: str) -> None:
        super().__init__(word, word, f"{help} (key {key})")
        self._key = key
        self._detail = ""
        self.setAutoExclusive(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(190, 28)

    def show_detail(self, detail: str) -> None:
        """A small figure beside the word: the gain it is heard with."""
        self._detail = detail
        self.setAccessibleDescription(detail)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        on = self.isChecked()
        painter.setPen(roles.chalk if self.hasFocus() else roles.line)
        painter.setBrush(roles.chalk if on else roles.ground)
        painter.drawRoundedRect(box, 13, 13)
        painter.setPen(roles.ground if on else roles.chalk)
        painter.setFont(font(9.5, bold=on))
        inner = box.adjusted(14, 0, -14, 0)
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self.text())
        painter.setFont(font(8.5))
        painter.setPen(roles.ground if on else roles.muted)
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self._key)
        painter.drawText(
            inner.adjusted(0, 0, -20, 0),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            self._detail,
        )


class Bar(QWidget):
    """Correlation as a bar from the middle: right for alike, left for opposite."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(8)
        self.setAccessibleName("Correlation bar")
        self.setToolTip("Correlation of left and right: +1 alike, 0 unrelated, −1 opposite (lost in mono)")
        self._value = math.nan

    def show_value(self, value: float) -> None:
        if not (math.isnan(value) and math.isnan(self._value)) and round(value * 100, 0) != round(
            self._value * 100 if not math.isnan(self._value) else 999, 0
        ):
            self._value = value
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        box = QRectF(0, 2, self.width(), 4)
        painter.fillRect(box, roles.ground)
        middle = self.width() / 2
        painter.fillRect(QRectF(middle - 0.5, 0, 1, 8), roles.muted)
        if not math.isnan(self._value):
            reach = self._value * middle
            colour = roles.chalk if self._value >= 0 else roles.warning
            painter.fillRect(QRectF(min(middle, middle + reach), 2, abs(reach), 4), colour)


class Figure(QWidget):
    """One measure: name, value now, value before."""

    def __init__(self, name: str, help: str) -> None:
        super().__init__()
        self._name, self._now, self._was = name, "–", ""
        self._stale = False
        self.setToolTip(help)
        self.setAccessibleName(name)
        self.setFixedHeight(33)

    def show_values(self, now: str, was: str, stale: bool = False) -> None:
        if (now, was, stale) != (self._now, self._was, self._stale):
            self._now, self._was, self._stale = now, was, stale
            self.setAccessibleDescription(f"{now}, was {was}")
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        box = QRectF(self.rect())
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        painter.drawText(box.adjusted(0, 1, 0, 0), Qt.AlignmentFlag.AlignLeft, self._name)
        painter.setFont(font(9.5, bold=not self._stale))
        painter.setPen(roles.muted if self._stale else roles.chalk)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, self._now)
        if self._was:
            painter.setFont(font(8))
            painter.setPen(roles.muted)
            painter.drawText(box.adjusted(0, 16, 0, 0), Qt.AlignmentFlag.AlignRight, f"was {self._was}")


class ListenPanel(QFrame):
    """Chooses what is heard; `chosen` gives a Listening."""

    chosen = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setFixedWidth(232)
        self._what, self._only = "processed", None
        self._loudness: tuple[float | None, float | None] = (None, None)
        self.choices = {}
        title = QLabel("Listen")
        title.setObjectName("title")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 14, 10)
        layout.setSpacing(5)
        layout.addWidget(title)
        for what, word, key, help in _CHOICES:
            button = Choice(word, key, help)
            button.clicked.connect(lambda on, what=what: self.choose(what))
            self.choices[what] = button
            layout.addWidget(button)
        self.choices["processed"].setChecked(True)
        self.match = Toggle(
            "Level-matched",
            "Level match",
            "Turn the louder one of processed and unprocessed down to the other, by integrated loudness (key M)",
        )
        self.match.setChecked(True)
        self.match.clicked.connect(self._say)
        self.match_gain = QLabel("–")
        self.match_gain.setAccessibleName("Level match gain")
        row = QHBoxLayout()
        row.addWidget(self.match)
        row.addStretch()
        row.addWidget(self.match_gain)
        layout.addSpacing(3)
        layout.addLayout(row)
        only = QHBoxLayout()
        only.setSpacing(6)
        label = QLabel("Only")
        label.setObjectName("muted")
        only.addWidget(label)
        only.addStretch()
        self.only = {}
        for name, letter in LETTERS.items():
            key = letter
            button = Toggle(
                letter,
                f"{NAMES[name]} alone",
                f"Hear {NAMES[name]} alone, centred in both ears (Shift+{key})",
            )
            button.set_colour(roles.component(name))
            button.clicked.connect(lambda on, name=name: self.choose_only(name if on else None))
            self.only[name] = button
            only.addWidget(button)
        layout.addLayout(only)
        self.scope = Scope()
        layout.addWidget(self.scope, 1)
        self.correlation = Figure(
            "Correlation", "Of left and right, over the last 0.4 s, now and unprocessed"
        )
        self.bar = Bar()
        self.momentary = Figure("Momentary", "Loudness over the last 0.4 s, processed and unprocessed")
        self.figures = {
            "integrated": Figure("Integrated", "Integrated loudness of the whole file (ITU-R BS.1770)"),
            "true_peak": Figure("True peak", "Greatest level between samples of the whole file"),
            "side_to_mid": Figure("Side to Mid", "Level of Side against Mid over the whole file (RMS)"),
            "mono_loss": Figure("Mono loss", "Power lost when the result is folded to mono"),
        }
        layout.addWidget(self.correlation)
        layout.addWidget(self.bar)
        layout.addWidget(self.momentary)
        for figure in self.figures.values():
            layout.addWidget(figure)
        self.state = QLabel("")
        self.state.setObjectName("muted")
        layout.addWidget(self.state)

    @property
    def listening(self) -> Listening:
        """What is chosen, with the gains that match the levels."""
        processed_db, unprocessed_db = self._gains()
        return Listening(self._what, self._only, processed_db, unprocessed_db)  # type: ignore[arg-type]

    def _gains(self) -> tuple[float, float]:
        now, was = self._loudness
        if not self.match.isChecked() or now is None or was is None:
            return 0.0, 0.0
        return match_gains_db(now, was)

    def choose(self, what: str) -> None:
        """Hear processed, unprocessed or difference."""
        self._what = what
        self.choices[what].setChecked(True)
        self._say()

    def choose_only(self, name: str | None) -> None:
        """Hear one component alone, or all (None)."""
        self._only = name
        for key, button in self.only.items():
            button.setChecked(key == name)
        self._say()

    def toggle_only(self, name: str) -> None:
        self.choose_only(None if self._only == name else name)

    def toggle_match(self) -> None:
        self.match.setChecked(not self.match.isChecked())
        self._say()

    def _say(self) -> None:
        processed_db, unprocessed_db = self._gains()
        self.choices["processed"].show_detail(shown(processed_db, "dB", 2) if processed_db else "")
        self.choices["unprocessed"].show_detail(shown(unprocessed_db, "dB", 2) if unprocessed_db else "")
        if not self.match.isChecked():
            text = "off"
        elif None in self._loudness:
            text = "measuring…"
        else:
            text = shown(min(processed_db, unprocessed_db), "dB", 2)
        self.match_gain.setText(text)
        self.chosen.emit(self.listening)

    def show_measured(self, before: dict | None, after: dict | None, stale: bool) -> None:
        """Figures of the whole file; while a new measurement runs the old ones stay, muted."""
        before, after = before or {}, after or {}
        for name, key, unit in (
            ("integrated", "integrated_lufs", "LUFS"),
            ("true_peak", "true_peak_dbtp", "dBTP"),
            ("side_to_mid", "side_to_mid_db", "dB"),
            ("mono_loss", "mono_loss_db", "dB"),
        ):
            self.figures[name].show_values(
                shown(after.get(key), unit), shown(before.get(key), "") if before else "", stale
            )
        if not stale:
            self._loudness = (
                after.get("integrated_lufs", -math.inf),
                before.get("integrated_lufs", -math.inf),
            )
            self._loudness = tuple(-math.inf if v is None else v for v in self._loudness)  # type: ignore[assignment]
            self._say()

    def forget(self) -> None:
        """Another recording: nothing is known of it yet."""
        self._loudness = (None, None)
        self.show_measured(None, None, stale=True)
        self._say()

    def show_live(self, status) -> None:
        """Figures of what plays."""
        now, was = (float(v) for v in status["correlation"])
        self.correlation.show_values(
            shown(now, "", 2, sign=True), shown(was, "", 2, sign=True) if was == was else ""
        )
        self.bar.show_value(now)
        now, was = (float(v) for v in status["momentary"])
        quiet = now < -100
        self.momentary.show_values("–" if quiet else shown(now, "LUFS"), "" if quiet else shown(was, ""))
        self.scope.show_samples(status["scope"])
