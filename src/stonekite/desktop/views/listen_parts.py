"""Parts of the listen panel: a choice with its key, the bar of the correlation, a measure, and a row of chips."""

import math
from typing import Any

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.keyed import key_of, keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import font, roles
from stonekite.words import said


class Choice(Toggle):
    """A wide button for what is heard, with its key."""

    def __init__(self, command: str, word: str, help: str) -> None:
        super().__init__(word, word, "")
        keyed(self, help, command)
        self._command = command
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
        painter.drawText(
            inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, key_of(self._command)
        )
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
        self.setAccessibleName(said("Correlation bar"))
        self.setToolTip(
            said("Correlation of left and right: +1 alike, 0 unrelated, −1 opposite (lost in mono)")
        )
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
            self.setAccessibleDescription(said("{now}, was {was}").format(now=now, was=was))
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
            painter.drawText(
                box.adjusted(0, 16, 0, 0),
                Qt.AlignmentFlag.AlignRight,
                said("was {value}").format(value=self._was),
            )


class Chips(QWidget):
    """A row of small switches that comes and goes with what there is: `chosen` gives the place of one, or None."""

    chosen = Signal(object)
    add_asked = Signal()
    menu_asked = Signal(object, QPoint)

    def __init__(self, name: str, add: str, help: str) -> None:
        super().__init__()
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(4)
        self.label = Label(name)
        self.label.setObjectName("muted")
        self.add = QPushButton(add)
        self.add.setObjectName("small")
        self.add.setToolTip(help)
        self.add.clicked.connect(self.add_asked)
        self._row.addWidget(self.label)
        self._row.addStretch(1)
        self._row.addWidget(self.add)
        self.chips: dict[Any, Toggle] = {}
        self._shown: list[tuple[Any, str, str]] = []

    def show_chips(self, wanted: list[tuple[Any, str, str]], on: Any) -> None:
        """Keys, letters and tooltips of the switches; `on` is the key of the one that is on."""
        if wanted != self._shown:
            for chip in self.chips.values():
                chip.hide()
                chip.deleteLater()
            self.chips = {}
            for place, (key, letter, help) in enumerate(wanted):
                chip = self.chips[key] = Toggle(letter, help.split("\n")[0], help)
                chip.setMinimumWidth(22)
                chip.clicked.connect(lambda checked, key=key: self.chosen.emit(key if checked else None))
                chip.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
                chip.customContextMenuRequested.connect(
                    lambda place, key=key, chip=chip: self.menu_asked.emit(key, chip.mapToGlobal(place))
                )
                self._row.insertWidget(2 + place, chip)
            self._shown = list(wanted)
        for key, chip in self.chips.items():
            chip.setChecked(key == on)
