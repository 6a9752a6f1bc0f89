"""The picture of what a stage makes of two tones, at the joined output: harmonics of each, sums and differences of both.

What comes of the left tone alone is in the colour of Left and carries A, what comes of the right one alone in that of
Right and carries B; what mixes both is chalk and carries both letters.
"""

from math import log

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments, Words
from stonekite.desktop.controls.hovering import help_by
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.measure.spectrum import centres
from stonekite.measure.tones import Heard, Line, added_db, gains, sum_db
from stonekite.words import number, said, spoken_hertz

BOTTOM_DB = -90.0
_SIDES = ("left", "right")
_NAMES = (said("Left out"), said("Right out"))
_CENTRES = centres()


def _level(db: float) -> str:
    return number(db) if db > -120 else said("none")


def summary(found: Heard) -> list[tuple[str, str]]:
    """In words, for the left and the right output: harmonics, and sums and differences, against the tones there."""
    grown = gains(found.lines)
    words = []
    for row in (0, 1):
        tones = sum_db([line.after[row] for line in found.lines if line.product.order == 1])
        more = [line for line in found.lines if line.product.order > 1]
        parts = []
        for mixed_ones in (False, True):
            levels = [added_db(line, grown)[row] for line in more if line.product.mixed == mixed_ones]
            level = sum_db(levels) - tones
            parts.append(f"{_level(level)} dB" if level > -100 else said("none"))
        words.append((parts[0], parts[1]))
    return words


class TonesPlot(Picture):
    """Levels of all products: of the left output above, of the right below."""

    def __init__(self) -> None:
        super().__init__()
        help_by(self, self.help_at)
        self.setMinimumSize(220, 90)
        self.setMouseTracking(True)
        self.setAccessibleName(said("What comes of two tones"))
        self._found: Heard | None = None
        self._grown = (1.0, 1.0)
        self._span = (50.0, 3000.0)

    def sizeHint(self) -> QSize:
        return QSize(420, 200)

    def show_found(self, found: Heard) -> None:
        self._found = found
        self._grown = gains(found.lines)
        if found.spectra:
            self._span = (40.0, 16_000.0)
        elif found.lines:
            self._span = (found.lines[0].product.hertz * 0.8, found.lines[-1].product.hertz * 1.15)
        self.setAccessibleDescription(
            "; ".join(
                said("{name}: harmonics {harmonics}, sums and differences {mixed_ones}").format(
                    name=name, harmonics=harmonics, mixed_ones=mixed_ones
                )
                for name, (harmonics, mixed_ones) in zip(_NAMES, summary(found), strict=True)
            )
        )
        self.renew()

    # Geometry

    def plot(self, row: int = 0) -> QRectF:
        """Where the output of a side is drawn."""
        height = (self.height() - 18.0 - 5.0) / 2
        return QRectF(28, row * (height + 5.0), self.width() - 32.0, height)

    def x_of(self, hertz: float) -> float:
        low, high = self._span
        plot = self.plot(0)
        return plot.left() + plot.width() * log(hertz / low) / log(high / low)

    def y_of(self, row: int, db: float) -> float:
        plot = self.plot(row)
        return plot.top() + plot.height() * min(1.0, max(0.0, db / BOTTOM_DB))

    def shown(self, row: int) -> list[tuple[Line, float]]:
        """Lines with something to see at an output and their levels in dBFS, the strongest first."""
        if self._found is None:
            return []
        pairs = [
            (line, line.after[row] if line.product.order == 1 else added_db(line, self._grown)[row])
            for line in self._found.lines
        ]
        return sorted((pair for pair in pairs if pair[1] > BOTTOM_DB), key=lambda pair: -pair[1])

    @property
    def _first_below(self) -> bool:
        return self._found is not None and self._found.first_hz < self._found.second_hz

    @property
    def _close(self) -> bool:
        """Whether the two tones stand so close that their letters would meet."""
        found = self._found
        return found is not None and abs(self.x_of(found.first_hz) - self.x_of(found.second_hz)) < 16

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        self.layer(QPainter(self), "found", self._paint_found)

    def _paint_found(self, painter: QPainter) -> None:
        for row in (0, 1):
            self._paint_ground(painter, row)
            self._paint_spectrum(painter, row)
            self._paint_lines(painter, row)
        painter.setFont(font(7.5))
        painter.setPen(roles.muted)
        bottom = self.plot(1).bottom()
        for hertz in (50, 100, 200, 500, 1000, 2000, 5000, 10_000):
            if self._span[0] < hertz and self.x_of(hertz) < self.width() - 82:  # where the units stand
                word = f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz}"
                place = QRectF(self.x_of(hertz) - 20, bottom + 2, 40, 14)
                painter.drawText(place, Qt.AlignmentFlag.AlignCenter, word)
        right = QRectF(self.width() - 60, bottom + 2, 56, 14)
        painter.drawText(right, Qt.AlignmentFlag.AlignRight, "Hz · dBFS")

    def _paint_ground(self, painter: QPainter, row: int) -> None:
        plot = self.plot(row)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(plot, 4, 4)
        painter.setFont(font(7.5))
        for db in (-20, -40, -60, -80):
            y = self.y_of(row, db)
            painter.setPen(QPen(mixed(roles.line, roles.ground, 0.55), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            if db in (-20, -60):
                painter.setPen(roles.muted)
                painter.drawText(QRectF(0, y - 7, 24, 14), Qt.AlignmentFlag.AlignRight, f"−{-db}")

    def _paint_spectrum(self, painter: QPainter, row: int) -> None:
        """Of the programme: what comes out, and dashed what went in."""
        if self._found is None or not self._found.spectra:
            return
        plot = self.plot(row)
        painter.setClipRect(plot)
        seen = (self._span[0] <= _CENTRES) & (self._span[1] >= _CENTRES)
        xs = [self.x_of(hertz) for hertz in _CENTRES[seen].tolist()]
        for part, pen in (
            (2 + row, QPen(mixed(roles.component(_SIDES[row]), roles.ground, 0.55), 1)),
            (row, QPen(mixed(roles.muted, roles.ground, 0.7), 1, Qt.PenStyle.DashLine)),
        ):
            levels = np.array(self._found.spectra[part])[seen].tolist()
            painter.setPen(pen)
            painter.drawPolyline(
                QPolygonF([QPointF(x, self.y_of(row, db)) for x, db in zip(xs, levels, strict=True)])
            )
        painter.setClipping(False)

    @staticmethod
    def colour_of(line: Line):
        """Of what a line comes: of the left tone, of the right one, or of both."""
        if line.product.mixed:
            return roles.chalk
        return roles.component("left" if line.product.first else "right")

    def _paint_lines(self, painter: QPainter, row: int) -> None:
        plot = self.plot(row)
        taken: list[QRectF] = []
        painter.setFont(font(8, bold=True))
        metrics = painter.fontMetrics()
        words = QRectF(plot.right() - 68, plot.top() + 2, 64, 14)
        taken.append(words)
        painter.setPen(roles.component(_SIDES[row]))
        painter.drawText(words, Qt.AlignmentFlag.AlignRight, _NAMES[row])
        shown = self.shown(row)
        for line, level in reversed(shown):
            x, y = self.x_of(line.product.hertz), self.y_of(row, level)
            wide = 4.0 if line.product.order == 1 else 3.0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.colour_of(line))
            painter.drawRect(QRectF(x - wide / 2, y, wide, plot.bottom() - y))
        for line, level in sorted(shown, key=lambda pair: pair[0].product.order > 1):
            x, y = self.x_of(line.product.hertz), self.y_of(row, level)
            width = metrics.horizontalAdvance(line.product.name) + 4
            lean = 0.5
            if line.product.order == 1 and self._close:  # each to its own side
                own = line.product.first > 0
                lean = 0.85 if own == self._first_below else 0.15
            left = min(max(plot.left() + 1, x - lean * width), plot.right() - width)
            place = QRectF(left, max(plot.top(), y - 14), width, 13)
            if any(place.intersects(other) for other in taken):
                continue
            taken.append(place)
            painter.setPen(self.colour_of(line))
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, line.product.name)

    # What it says

    def help_at(self, point: QPointF) -> str:
        """What stands under the mouse."""
        if self._found is None:
            return ""
        near = [
            (abs(self.x_of(line.product.hertz) - point.x()), line)
            for row in (0, 1)
            for line, _ in self.shown(row)
        ]
        distance, line = min(near, key=lambda pair: pair[0], default=(99.0, None))
        if line is None or distance > 8:
            return said(
                "Bars: A, B and their harmonics, sums and differences at the joined output. What was there "
                "before is left out"
            )
        rows = [
            said("{side} {after} dBFS (went in: {before})").format(
                side=side, after=_level(line.after[row]), before=_level(line.before[row])
            )
            for row, side in enumerate(_SIDES)
        ]
        kind = (
            said("sum or difference")
            if line.product.mixed
            else "tone"
            if line.product.order == 1
            else "harmonic"
        )
        return f"{line.product.name}, {spoken_hertz(line.product.hertz)}, {kind}\n" + "\n".join(rows)


class TonesPicture(QWidget):
    """The plot, the choice of what it is of, and the result in words. `asked` gives whether it is the programme's."""

    asked = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.choice = Segments(
            {False: said("Test pair"), True: said("Programme")},
            said("Tones"),
            said(
                "A test tone on each side, or the strongest tone on each side of the recording around the play "
                "position"
            ),
        )
        self.choice.chosen.connect(self.asked)
        self.words = Words()
        self.plot = TonesPlot()
        head = QHBoxLayout()
        head.setSpacing(10)
        head.addWidget(self.choice)
        head.addWidget(self.words, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addLayout(head)
        layout.addWidget(self.plot, 1)

    @property
    def of_programme(self) -> bool:
        return bool(self.choice.value)

    def show_found(self, found: Heard) -> None:
        """Show what was found."""
        self.plot.show_found(found)
        if not found.lines:
            self.words.setText(said("No tone stands out here."))
            self.words.setToolTip(said("Play on, or go to a louder place"))
            return
        (left_harmonics, left_mixed), (right_harmonics, right_mixed) = summary(found)
        if left_mixed == right_mixed == "none":
            words = said("tones stay apart")
        elif left_mixed == right_mixed:
            words = said("sums and differences {left_mixed}").format(left_mixed=left_mixed)
        else:
            words = said("A±B {left_mixed} left, {right_mixed} right").format(
                left_mixed=left_mixed, right_mixed=right_mixed
            )
        self.words.setText(words)
        self.words.setToolTip(
            said(
                "A {first_hz} on the left, B {second_hz} on the right.\nHarmonics: {left_harmonics} left, "
                "{right_harmonics} right; sums and differences: {left_mixed} left, {right_mixed} right, against "
                "the tones there"
            ).format(
                first_hz=spoken_hertz(found.first_hz),
                second_hz=spoken_hertz(found.second_hz),
                left_harmonics=left_harmonics,
                right_harmonics=right_harmonics,
                left_mixed=left_mixed,
                right_mixed=right_mixed,
            )
        )
