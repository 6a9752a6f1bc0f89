"""Knobs that stand in for a device: what is turned here comes as a device would send it."""

from functools import partial
from typing import Annotated

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QWidget

from stonekite.desktop.controls.fields import ValueField
from stonekite.midi import HIGHEST, Simulated
from stonekite.stages.settings import Settings, number, settings_of
from stonekite.words import said

FIRST, COUNT = 21, 8
"""The numbers of the knobs, and how many there are."""


class _Turned(Settings, frozen=True, kw_only=True):
    value: Annotated[float, number("Knob", "", 0.0, float(HIGHEST), step=1.0, help="Where the knob is")] = 0.0


class SimulatedKnobs(QWidget):
    """The knobs of a simulated device."""

    def __init__(self, device: Simulated, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(said("Simulated knobs"))
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        grid = QGridLayout(self)
        grid.setSpacing(10)
        self.knobs = []
        for place in range(COUNT):
            name = said("Knob {number}").format(number=FIRST + place)
            knob = ValueField(settings_of(_Turned)["value"], name)
            knob.set_label(name)
            knob.setFixedWidth(150)
            knob.moved.connect(partial(self._turn, device, FIRST + place))
            grid.addWidget(knob, place // 4, place % 4)
            self.knobs.append(knob)

    @staticmethod
    def _turn(device: Simulated, number: int, value: float, token: object = None) -> None:
        device.turn(number, round(value))
