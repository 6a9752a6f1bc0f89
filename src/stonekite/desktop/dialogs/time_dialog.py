"""When a stem begins on the timeline, with what of its recording, and for how long."""

from dataclasses import replace
from typing import Annotated

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QDialog, QVBoxLayout, QWidget

from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.plain import Label, ok_or_cancel
from stonekite.session.mix.places import length_s
from stonekite.session.types import Stem
from stonekite.stages.settings import Settings, number, settings_of
from stonekite.words import clock, said

_LONGEST_S = 3 * 3600.0


def _time(label: str, help: str) -> object:
    return number(label, "s", 0.0, _LONGEST_S, step=0.1, decimals=3, help=help)


class _Times(Settings, frozen=True, kw_only=True):
    start_s: Annotated[float, _time("Begins at", "Where on the timeline the stem begins")] = 0.0
    from_s: Annotated[
        float, _time("With what is at", "Where in the recording it begins: what is before is cut")
    ] = 0.0
    length_s: Annotated[float, _time("Lasts", "For how long it is heard: what comes after is cut")] = 0.0


_TIMES = settings_of(_Times)


class TimeDialog(QDialog):
    """Asks for the times of a stem; `moved` gives them whenever one is changed, with a token."""

    moved = Signal(object, object)

    def __init__(self, stem: Stem, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("“{name}” on the timeline").format(name=stem.name))
        self.setMinimumWidth(420)
        self._whole_s = stem.source.frames / stem.source.rate
        ends_s = stem.start_s + length_s(stem)
        most = {"start_s": max(600.0, 4.0 * ends_s), "from_s": self._whole_s, "length_s": self._whole_s}
        self.fields = {
            name: ValueField(replace(setting, high=most[name]), said("Stem"))
            for name, setting in _TIMES.items()
        }
        self.words = Label("")
        self.words.setObjectName("muted")
        self.words.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.setSpacing(8)
        for name, value in (("start_s", stem.start_s), ("from_s", stem.from_s), ("length_s", length_s(stem))):
            self.fields[name].show_value(value)
            self.fields[name].moved.connect(self._moved)
            self.fields[name].refused.connect(self.words.setText)
            layout.addWidget(self.fields[name])
        layout.addWidget(self.words)
        layout.addWidget(ok_or_cancel(self))
        self._show()

    @property
    def times(self) -> dict[str, float | None]:
        """What was chosen: no length where the recording goes on to its end."""
        start, begins, length = (self.fields[name].value for name in _TIMES)
        left = self._whole_s - begins
        return {
            "start_s": start,
            "from_s": begins,
            "length_s": None if length >= left - 1e-6 else max(0.01, length),
        }

    def _moved(self, _: float, token: object) -> None:
        begins = self.fields["from_s"]
        if begins.value > self._whole_s - 0.01:
            begins.show_value(max(0.0, self._whole_s - 0.01))
        self._show()
        self.moved.emit(self.times, token)

    def _show(self) -> None:
        times = self.times
        length = times["length_s"] or self._whole_s - (times["from_s"] or 0.0)
        start = times["start_s"] or 0.0
        self.words.setText(
            said(
                "From {start} to {end} of the timeline; its recording is {whole} long, and stays as it is."
            ).format(start=clock(start), end=clock(start + length), whole=clock(self._whole_s))
        )
