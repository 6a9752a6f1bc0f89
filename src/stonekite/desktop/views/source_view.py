"""Source check: what arrived, in figures and in plain sentences, each with its repair; and the intake."""

from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Tinted, Toggle, Words
from stonekite.desktop.controls.column import column, scrolling
from stonekite.desktop.controls.fields import Control, ValueField, control_for, on_move, show_on
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import font, roles
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.linked_plot import Axis
from stonekite.desktop.pictures.source_plots import SourceCourse, SourceSpectra
from stonekite.engine.offline import repair
from stonekite.measure.verdicts import Findings, Verdict, verdicts
from stonekite.session import edits, tree
from stonekite.session.ride_edits import Address
from stonekite.session.types import SIDES, USED_BY_SIGNAL, Generator, Intake, IntakeSide
from stonekite.signal.matrix import COMPONENTS
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, figure, number, said

_ROWS = (
    ("rms_dbfs", said("Level, RMS"), "dBFS"),
    ("lufs", said("Loudness"), "LUFS"),
    ("peak_dbfs", said("Peak"), "dBFS"),
    ("noise_floor_dbfs", said("Noise floor"), "dBFS"),
    ("clipped", said("Clipped samples"), ""),
    ("dc", said("Offset"), "%"),
    ("bandwidth_hz", said("Bandwidth"), "kHz"),
)


def _figure(field: str, value: float | None) -> str:
    if value is None:
        return said("silent")
    if field == "clipped":
        return f"{int(value)}" if value else said("none")
    if field == "dc":
        return number(100 * value, 2, sign=True) if abs(value) >= 5e-5 else "0"
    if field == "bandwidth_hz":
        return f"{value / 1000:.1f}"
    return number(value)


SEPARATE, NARROW, OPEN = said("Separate…"), said("Narrow the result"), said("Open another…")
_ELSEWHERE = {"unrelated": SEPARATE, "width": NARROW, "silent": OPEN}
"""Verdicts whose repair is not in the intake."""
_ROOM_FOR_PLOTS = 460
"""From this height on, pictures of the recording stand under its figures."""


class FiguresTable(QWidget):
    """Figures of each component, drawn."""

    def __init__(self) -> None:
        super().__init__()
        self._found: Findings | None = None
        self.setAccessibleName(said("Figures of each component"))
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)

    def sizeHint(self) -> QSize:
        return QSize(400, 22 * (len(_ROWS) + 1) + 6)

    def minimumSizeHint(self) -> QSize:
        return QSize(340, 17 * (len(_ROWS) + 1) + 6)

    def show_findings(self, found: Findings | None) -> None:
        self._found = found
        if found is not None:
            self.setAccessibleDescription(
                "; ".join(
                    f"{NAMES[name]}: "
                    + ", ".join(f"{label} {self._text(name, field)}" for field, label, _ in _ROWS)
                    for name in COMPONENTS
                )
            )
        self.update()

    def _text(self, name: str, field: str) -> str:
        if self._found is None:
            return "…"
        if field == "clipped" and name in ("mid", "side"):
            return ""
        return _figure(field, getattr(self._found.components[name], field))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        first = 132.0
        pitch = min(22.0, self.height() / (len(_ROWS) + 1))
        width = (self.width() - first - 46) / len(COMPONENTS)
        for k, name in enumerate(COMPONENTS):
            painter.setFont(font(9, bold=True))
            painter.setPen(roles.component(name))
            painter.drawText(
                QRectF(first + k * width, 0, width, 20), Qt.AlignmentFlag.AlignRight, NAMES[name]
            )
        for row, (field, label, unit) in enumerate(_ROWS, start=1):
            y = pitch * row
            painter.setPen(QPen(roles.line, 1))
            painter.drawLine(QPointF(0, y), QPointF(self.width(), y))
            painter.setFont(font(9))
            painter.setPen(roles.muted)
            painter.drawText(
                QRectF(0, y + 1, first, pitch),
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
                label,
            )
            painter.drawText(
                QRectF(self.width() - 40, y + 1, 40, pitch),
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
                unit,
            )
            painter.setPen(roles.chalk)
            for k, name in enumerate(COMPONENTS):
                painter.drawText(
                    QRectF(first + k * width, y + 1, width, pitch),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    self._text(name, field),
                )


class VerdictRow(QWidget):
    """One sentence with the button of its repair."""

    def __init__(self, verdict: Verdict, done: bool) -> None:
        super().__init__()
        words = _ELSEWHERE.get(verdict.fault) or repair.repair_words(verdict)
        if verdict.usual:
            words = None
        self.sentence = Label(verdict.sentence)
        self.sentence.setWordWrap(True)
        settled = done or verdict.usual
        mark = Tinted("✓" if settled else "!", "muted" if settled else "warning")
        mark.setFixedWidth(16)
        mark.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.button: QPushButton | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 2, 0, 2)
        row.setSpacing(8)
        row.addWidget(mark)
        row.addWidget(self.sentence, 1)
        if words is not None:
            self.button = QPushButton(said("Repaired") if done else words)
            self.button.setObjectName("small")
            self.button.setEnabled(not done)
            self.button.setAccessibleName(f"{words}: {verdict.sentence}")
            self.button.setToolTip(
                said("{sentence} One click repairs it in the intake; undo takes it back.").format(
                    sentence=verdict.sentence
                )
            )
            row.addWidget(self.button)


class SourceView(QFrame):
    """Shows the source of a document. `opening_asked`, `separating_asked` and `pair_asked` are wishes."""

    opening_asked = Signal()
    separating_asked = Signal()
    pair_asked = Signal()
    ride_asked = Signal(Address)
    refused = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._document = document
        self._found: Findings | None = None
        self._shown: tuple[Any, ...] | None = None
        self.rows: list[VerdictRow] = []
        self.title = Label(said("Source check"))
        self.title.setObjectName("title")
        self.together = Words()
        self.open = QPushButton(OPEN)
        self.separate = QPushButton(SEPARATE)
        self.pair = QPushButton(said("Two files…"))
        keyed(self.pair, said("Mid and Side as two files, to work on elsewhere, and back"), "view-pair")
        keyed(self.open, said("Open another recording or session"), "open")
        self.separate.setToolTip(
            said("Write left and right as two mono files, or open each side as a session of its own")
        )
        head = QHBoxLayout()
        head.setSpacing(12)
        head.addWidget(self.title)
        head.addWidget(self.together, 1)
        for button in (self.pair, self.separate, self.open):
            button.setObjectName("small")
            head.addWidget(button)
        self.table = FiguresTable()
        figures = scrolling(self.table)
        figures.setFixedWidth(440)
        scroll, self._verdicts = column(2)
        middle = QHBoxLayout()
        middle.setSpacing(24)
        middle.addWidget(figures)
        middle.addWidget(scroll, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 10)
        layout.setSpacing(8)
        layout.addLayout(head)
        layout.addLayout(middle, 1)
        layout.addWidget(self._build_plots(), 2)
        layout.addLayout(self._build_generator())
        layout.addLayout(self._build_intake())
        self.open.clicked.connect(self.opening_asked)
        self.separate.clicked.connect(self.separating_asked)
        self.pair.clicked.connect(self.pair_asked)

    def _build_plots(self) -> QWidget:
        self.spectra = SourceSpectra(Axis(20.0, 20_000.0, logarithmic=True))
        self.course = SourceCourse(Axis(0.0, 1.0, logarithmic=False))
        self.plots = QWidget()
        row = QHBoxLayout(self.plots)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(16)
        row.addWidget(self.spectra, 1)
        row.addWidget(self.course, 1)
        self.plots.hide()
        return self.plots

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.plots.setVisible(self.height() >= _ROOM_FOR_PLOTS)

    def _build_generator(self) -> QHBoxLayout:
        self.generator: dict[str, Control] = {}
        row = QHBoxLayout()
        row.setSpacing(10)
        for field, setting in settings_of(Generator).items():
            control = self.generator[field] = control_for(setting, said("Test generator"))
            on_move(control, partial(self._put_generator, field))
            if isinstance(control, ValueField):
                control.refused.connect(self.refused)
            row.addWidget(control, 1)
        return row

    def _build_intake(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(4)
        intake = settings_of(Intake)
        use = self.use = control_for(intake["use"], said("Intake"))
        on_move(use, partial(self._put, ("use",), intake["use"].label))
        self.remove_dc = Toggle(intake["remove_dc"].label, said("Remove DC"), intake["remove_dc"].help)
        self.remove_dc.clicked.connect(
            lambda on: self._put(("remove_dc",), intake["remove_dc"].label, on, None)
        )
        self.balance = QPushButton(said("Balance sides"))
        self.balance.setToolTip(said("Trim the louder side so that both are equally loud"))
        self.align = QPushButton(said("Align sides"))
        self.align.setToolTip(said("Hold the earlier side back so that both are in time, as measured"))
        self.balance.clicked.connect(lambda: self._repair(said("Balance sides"), repair.balanced))
        self.align.clicked.connect(lambda: self._repair(said("Align sides"), repair.aligned))
        first = QVBoxLayout()
        first.setSpacing(6)
        first.addWidget(use)
        first.addWidget(self.remove_dc)
        buttons = QVBoxLayout()
        buttons.setSpacing(6)
        for button in (self.balance, self.align):
            button.setObjectName("small")
            buttons.addWidget(button)
        grid.addLayout(first, 0, 0, 2, 1)
        grid.addLayout(buttons, 0, 1, 2, 1)
        self.sides: dict[tuple[str, str], Control] = {}
        for row, name in enumerate(SIDES):
            label = Tinted(NAMES[name], name)
            label.setFixedWidth(40)
            grid.addWidget(label, row, 2)
            for place, (field, setting) in enumerate(settings_of(IntakeSide).items(), start=3):
                control = self.sides[name, field] = control_for(setting, NAMES[name], rides=True)
                if isinstance(control, ValueField | Toggle):
                    address = Address("intake", 0, f"{name}.{field}")
                    control.ride_asked.connect(partial(self.ride_asked.emit, address))
                on_move(
                    control,
                    partial(self._put, (name, field), f"{NAMES[name]} {setting.label.lower()}"),
                )
                if isinstance(control, ValueField):
                    control.refused.connect(self.refused)
                    control.set_colour(roles.component(name))
                    grid.setColumnStretch(place, 1)
                if isinstance(control, Toggle):
                    control.set_colour(roles.component(name))
                grid.addWidget(control, row, place)
        return grid

    @property
    def intake(self) -> Intake:
        return self._document.intake

    def show_findings(self, found: Findings | None) -> None:
        """Figures of the recording; None while it is being looked at."""
        self._found = found
        self.refresh()

    def refresh(self) -> None:
        """Show the document's source and intake."""
        if not self._document.is_open:
            return
        source, intake = self._document.stem.source, self.intake
        ridden = {ride.path for ride in intake.rides}
        show_on(self.use, intake.use)
        self.remove_dc.setChecked(intake.remove_dc)
        for (name, field), control in self.sides.items():
            show_on(control, getattr(getattr(intake, name), field))
            if isinstance(control, ValueField | Toggle):
                control.set_ridden(f"{name}.{field}" in ridden)
            if field == "delay_ms" and isinstance(control, ValueField):
                control.set_units({"samples": 1000.0 / source.rate, "smp": 1000.0 / source.rate})
        self.balance.setEnabled(self._found is not None)
        self.align.setEnabled(self._found is not None)
        self.separate.setEnabled(source.generator is None)
        self.pair.setEnabled(source.generator is None)
        for field, control in self.generator.items():
            wanted = source.generator is not None and (
                field == "signal" or field in USED_BY_SIGNAL[source.generator.signal]
            )
            control.setVisible(wanted)
            if source.generator is not None:
                show_on(control, getattr(source.generator, field))
        self.table.show_findings(self._found)
        if self._found is not None:
            self.course.axis.set_whole(0.0, max(0.5, self._found.seconds))
        self.spectra.show_findings(self._found)
        self.course.show_findings(self._found)
        self.together.setText(self._together())
        self._show_verdicts()

    def _together(self) -> str:
        found = self._found
        if found is None:
            return said("looking at the whole recording…")
        correlation = "–" if found.correlation is None else number(found.correlation, 2, sign=True)
        words = [said("correlation {correlation}").format(correlation=correlation)]
        if found.confidence >= 0.5:
            late = 1000 * found.offset_samples / found.rate
            polarity = said("same polarity") if found.polarity > 0 else said("opposite polarity")
            words += [said("right later by {late}").format(late=figure(late, "ms", 3, sign=True)), polarity]
        words.append(said("sure by {count:.0f} %").format(count=100 * found.confidence))
        return " · ".join(words)

    def _show_verdicts(self) -> None:
        told = verdicts(self._found) if self._found is not None else []
        found = self._found
        done = [found is not None and self._is_repaired(v, found) for v in told]
        state = (tuple(told), tuple(done))
        if state == self._shown:
            return
        self._shown = state
        for row in self.rows:
            self._verdicts.removeWidget(row)
            row.hide()
            row.deleteLater()
        self.rows = []
        for place, (verdict, is_done) in enumerate(zip(told, done, strict=True)):
            row = VerdictRow(verdict, is_done)
            if row.button is not None and verdict.fault == "unrelated":
                row.button.setEnabled(self.separate.isEnabled())  # a test generator has no file to separate
                row.button.clicked.connect(self.separating_asked)
            elif row.button is not None and verdict.fault == "silent":
                row.button.clicked.connect(self.opening_asked)
            elif row.button is not None and verdict.fault == "width":
                row.button.clicked.connect(lambda on=False, v=verdict: self._narrow(v))
            elif row.button is not None and found is not None:
                row.button.clicked.connect(
                    lambda on=False, v=verdict, f=found: self._set(
                        repair.repaired(self.intake, v, f),
                        said("Repair: {v}").format(v=repair.repair_words(v)),
                    )
                )
            self._verdicts.insertWidget(place, row)
            self.rows.append(row)

    def _narrow(self, verdict: Verdict) -> None:
        output = repair.narrowed(self._document.strip.output, verdict)
        self._document.put(("output",), output, said("Repair: {narrow}").format(narrow=NARROW))

    def _is_repaired(self, verdict: Verdict, found: Findings) -> bool:
        if verdict.fault == "width":
            output = self._document.strip.output
            return not verdict.usual and repair.narrowed(output, verdict) == output
        can = repair.repair_words(verdict) is not None
        return can and repair.repaired(self.intake, verdict, found) == self.intake

    def _repair(self, words: str, act) -> None:
        if self._found is not None:
            self._set(act(self.intake, self._found), words)

    def _set(self, intake: Intake, words: str) -> None:
        self._document.put(("intake",), intake, words)

    def _put(self, path: tree.Path, words: str, value: Any, token: object) -> None:
        gesture = None if token is None else (token, "intake", *path)
        intake = edits.put(self.intake, path, value)
        words = said("Intake: {reason}").format(reason=words.lower())
        self._document.put_shown(("intake",), intake, words, gesture)

    def _put_generator(self, field: str, value: Any, token: object) -> None:
        source = self._document.stem.source
        if source.generator is None:
            return
        generator = msgspec.structs.replace(source.generator, **{field: value})
        session = edits.put(
            self._document.session, ("sound", *self._document.holder, "source", "generator"), generator
        )
        gesture = None if token is None else (token, "generator", field)
        self._document.edit(
            session,
            said("Test generator: {reason}").format(reason=settings_of(Generator)[field].label.lower()),
            gesture,
        )
