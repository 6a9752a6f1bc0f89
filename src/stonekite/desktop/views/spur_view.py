"""The open spur: where it leaves, what it carries, how loud, how late and where it comes back."""

import math
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.editors.rows import SettingsRow
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.spur_actions import SpurActions
from stonekite.desktop.pictures.delay_picture import DelayPicture
from stonekite.session.differences import named
from stonekite.session.ride_edits import Address
from stonekite.session.spur import END, SPLIT, Spur
from stonekite.words import figure, number, said


class SpurView(QFrame):
    """Shows and edits the spur that `actions` has open."""

    refused = Signal(str)
    ride_asked = Signal(Address)
    add_asked = Signal(int)
    align_asked = Signal(int)
    match_asked = Signal()
    without_asked = Signal(bool)

    def __init__(self, document: Document, actions: SpurActions) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._document, self._actions = document, actions
        self._aligned: tuple[Spur, Any] | None = None
        self.name = QLineEdit()
        self.name.setMaxLength(60)
        self.name.setFixedWidth(150)
        self.name.setAccessibleName(said("Name of the spur"))
        self.name.setToolTip(said("Name of the spur"))
        self.leaves = QComboBox()
        self.leaves.setAccessibleName(said("Where the spur leaves the legs"))
        self.leaves.setToolTip(
            said("Where the spur leaves the legs: at the split, after a stage, or at their end")
        )
        self.add = QPushButton(said("Add a stage…"))
        self.align = QPushButton(said("Align to leg"))
        self.match = QPushButton(said("Match levels…"))
        self.remove = QPushButton(said("Remove"))
        self.without = Toggle(
            said("Hear without"),
            said("Hear without the spur"),
            said("Hear all but this spur, turned so that it is as loud as with it, while this is on"),
        )
        self.without.clicked.connect(self.without_asked)
        for button, help in (
            (self.add, said("Put a stage into the spur")),
            (
                self.align,
                said("Find the delay at which the spur adds most to all that is heard beside it, and use it"),
            ),
            (self.match, said("Bring legs and spurs that you choose to equal loudness, each heard alone")),
            (self.remove, said("Take the spur away, with its stages")),
        ):
            button.setObjectName("small")
            button.setToolTip(help)
        head = QHBoxLayout()
        head.setSpacing(10)
        title = Label(said("Spur"))
        title.setObjectName("title")
        leaves = Label(said("leaves"))
        leaves.setObjectName("muted")
        for part in (title, self.name, leaves, self.leaves):
            head.addWidget(part)
        head.addStretch()
        head.addWidget(self.without)
        for button in (self.add, self.align, self.match, self.remove):
            head.addWidget(button)
        self.picture = DelayPicture()
        self.row = SettingsRow(Spur, said("Spur"), rides=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 10)
        layout.setSpacing(6)
        layout.addLayout(head)
        layout.addWidget(self.picture, 1)
        layout.addWidget(self.row)
        self.name.editingFinished.connect(self._rename)
        self.leaves.activated.connect(lambda k: actions.put("after", self.leaves.itemData(k)))
        self.row.moved.connect(actions.put)
        self.row.refused.connect(self.refused)
        self.row.ride_asked.connect(lambda name: self.ride_asked.emit(Address("spur", actions.chosen, name)))
        self.picture.moved.connect(lambda ms, token: actions.put("delay_ms", ms, token))
        self.add.clicked.connect(lambda: self.add_asked.emit(actions.chosen))
        self.align.clicked.connect(lambda: self.align_asked.emit(actions.chosen))
        self.match.clicked.connect(self.match_asked)
        self.remove.clicked.connect(lambda: actions.remove(actions.chosen))

    def _rename(self) -> None:
        spur = self._actions.spur
        text = self.name.text().strip()
        if spur is not None and text and text != spur.name:
            self._actions.put("name", text)

    def refresh(self) -> None:
        """Show the open spur."""
        spur = self._actions.spur
        if spur is None:
            return
        strip = self._document.strip
        if not self.name.hasFocus():
            self.name.setText(spur.name)
        colour = roles.chalk if spur.of_both else roles.component(spur.source)
        self.leaves.clear()
        self.leaves.addItem(said("at the split"), SPLIT)
        for stage, name in named(strip.stages).items():
            self.leaves.addItem(said("after {name}").format(name=name), stage)
        self.leaves.addItem(said("at the end of the legs"), END)
        self.leaves.setCurrentIndex(max(0, self.leaves.findData(spur.after)))
        self.row.show_values(spur, colour)
        self.row.show_ridden({ride.path for ride in spur.rides})
        one = not spur.of_both
        self.row.controls["placed"].setEnabled(one)
        self.row.controls["position"].setEnabled(one and spur.placed)
        self.picture.show_spur(spur.delay_ms, colour)
        if self._aligned is not None and not _as_late(self._aligned[0], spur):
            self.forget()

    def forget(self) -> None:
        """What was found of its delay does not hold any more."""
        self._aligned = None
        self.picture.show_curve(None)

    def show_aligned(self, spur: Spur, answer: Any) -> None:
        """What was found of the delay of a spur."""
        self._aligned = spur, answer
        words = said(
            "At {delay_ms} it adds most: {rise_db} in all, correlation {correlation}; what does not agree is "
            "{left} of the spur"
        ).format(
            delay_ms=figure(answer.delay_ms, "ms", 2),
            rise_db=figure(answer.rise_db, "dB", 2, sign=True),
            correlation=number(answer.correlation, 2),
            left=_left(answer.correlation),
        )
        if answer.correlation < 0.0:
            words = said("Upside down: turn its polarity. {words} (inverted)").format(words=words)
        self.picture.show_curve(np.array(answer.curve_db), words)


def _left(correlation: float) -> str:
    """How much of a sound another one does not explain that correlates with it, in dB of the sound."""
    return figure(10 * math.log10(max(1e-9, 1.0 - correlation * correlation)), "dB")


def _as_late(old: Spur, new: Spur) -> bool:
    """Whether what was found of one spur's delay holds for another: they differ in delay, level and name at the most."""
    return (old.branch, old.source, old.after, old.inverted) == (
        new.branch,
        new.source,
        new.after,
        new.inverted,
    )
