"""Pictures of what arrived: spectra of all four components, and the image over time."""

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.linked_plot import Axis, Plot
from stonekite.measure.spectrum import band_at, centres
from stonekite.measure.verdicts import Findings
from stonekite.signal.matrix import COMPONENTS
from stonekite.words import NAMES, clock, number, said, spoken_hertz

_CENTRES = centres()
_STYLES = {"right": Qt.PenStyle.DashLine, "side": Qt.PenStyle.DashDotLine}


class _SourcePlot(Plot):
    """Of findings, in whatever room is left over."""

    def __init__(self, axis: Axis) -> None:
        self.found: Findings | None = None
        super().__init__(axis)
        self.setMinimumSize(180, 0)

    def minimumSizeHint(self) -> QSize:
        return QSize(180, 0)

    def show_findings(self, found: Findings | None) -> None:
        """Draw another recording's; None while it is being looked at."""
        if found is not self.found:
            self.found = found
            self.renew()

    def known(self) -> bool:
        return self.found is not None


class SourceSpectra(_SourcePlot):
    """Long-term spectra of Left, Right, Mid and Side."""

    title = said("Spectra of the recording")
    unit = said("dBFS, 1/12 octave")

    def up(self) -> tuple[float, float, Sequence[float]]:
        return -110.0, -10.0, (-100, -80, -60, -40, -20)

    def paint_data(self, painter: QPainter) -> None:
        if self.found is None:
            return
        xs = [self.x_of(hertz) for hertz in _CENTRES.tolist()]
        for name, levels in zip(COMPONENTS, self.found.spectra_db, strict=True):
            painter.setPen(QPen(roles.component(name), 1.4, _STYLES.get(name, Qt.PenStyle.SolidLine)))
            for run in self.line(xs, [level if level > -149.0 else None for level in levels]):
                painter.drawPolyline(run)
        self.paint_names(painter, COMPONENTS)

    def readout(self) -> str:
        if self.axis.cursor is None or self.found is None:
            return ""
        at = band_at(self.axis.cursor)
        words = [
            f"{NAMES[name]} {number(levels[at], 1) if levels[at] > -149.0 else '–'}"
            for name, levels in zip(COMPONENTS, self.found.spectra_db, strict=True)
        ]
        return f"{spoken_hertz(self.axis.cursor)}  {'  '.join(words)}"


class SourceCourse(_SourcePlot):
    """Correlation above, balance of the sides below, over the whole recording."""

    title = said("Image over time")
    unit = said("correlation, balance in dB")
    BALANCE_DB = 12.0

    def up(self) -> tuple[float, float, Sequence[float]]:
        return 0.0, 1.0, ()

    def _lanes(self) -> tuple[tuple[QRectF, float, list[float | None]], ...]:
        """Where each curve is drawn, the value at its upper edge (the lower is its negative), and its values."""
        plot = self.plot()
        half = plot.height() / 2
        above = QRectF(plot.left(), plot.top(), plot.width(), half)
        course = self.found.course if self.found is not None else None
        return (
            (above, 1.1, course.correlation if course else []),
            (above.translated(0, half), self.BALANCE_DB, course.balance_db if course else []),
        )

    def paint_grid(self, painter: QPainter) -> None:
        super().paint_grid(painter)
        marks = ((1.0, "1"), (0.0, "0"), (-1.0, "−1")), ((9.0, "L 9"), (0.0, "0"), (-9.0, "R 9"))
        for (lane, top, _), values in zip(self._lanes(), marks, strict=True):
            for value, word in values:
                y = lane.center().y() - value / top * lane.height() / 2
                painter.setPen(QPen(roles.line if value == 0 else mixed(roles.line, roles.ground, 0.55), 1))
                painter.drawLine(QPointF(lane.left(), y), QPointF(lane.right(), y))
                painter.setPen(roles.muted)
                painter.drawText(
                    QRectF(0, y - 8, 32, 16),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    word,
                )

    def paint_data(self, painter: QPainter) -> None:
        if self.found is None:
            return
        course = self.found.course
        plot = self.plot()
        painter.setPen(QPen(roles.line, 1))
        painter.drawLine(QPointF(plot.left(), plot.center().y()), QPointF(plot.right(), plot.center().y()))
        xs = [self.x_of((k + 0.5) * course.step_s) for k in range(len(course.correlation))]
        for lane, top, values in self._lanes():
            painter.setPen(QPen(roles.chalk, 1.4))
            shares = [None if v is None else max(-1.0, min(1.0, v / top)) for v in values]
            # In the units of the whole plot, from 0 to 1.
            middle = (plot.bottom() - lane.center().y()) / plot.height()
            for run in self.line(xs, [None if s is None else middle + s / 4 for s in shares]):
                painter.drawPolyline(run)
        painter.setPen(roles.muted)
        painter.setFont(font(7.5))
        for (lane, *_), word in zip(self._lanes(), (said("correlation"), said("balance")), strict=True):
            painter.drawText(
                lane.adjusted(5, 2, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, word
            )

    def readout(self) -> str:
        if self.axis.cursor is None or self.found is None:
            return ""
        course = self.found.course
        at = int(self.axis.cursor / course.step_s)
        if not 0 <= at < len(course.correlation):
            return clock(self.axis.cursor)
        correlation, balance = course.correlation[at], course.balance_db[at]
        if correlation is None or balance is None:
            return said("{cursor}  a side is silent").format(cursor=clock(self.axis.cursor))
        louder = said("Left") if balance > 0 else said("Right")
        return said("{cursor}  correlation {correlation}  {louder} louder by {number} dB").format(
            cursor=clock(self.axis.cursor),
            correlation=number(correlation, 2, True),
            louder=louder,
            number=number(abs(balance), 1),
        )
