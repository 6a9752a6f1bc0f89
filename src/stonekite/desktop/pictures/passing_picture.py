"""The picture of what goes through a stage by frequency and time, lately or over a range: before it, after it, and
what it took away."""

from typing import Literal, NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen

from stonekite.desktop.controls.theme import font, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.measure.spectrum import BANDS, HIGH_HZ, LOW_HZ
from stonekite.session.types import LEGS, LegName, OneComponent, Split
from stonekite.words import NAMES, clock, said

LOOKS = 240
"""So many looks, 30 a second, are in the picture: 8 s."""
LOW_DB, HIGH_DB = -105.0, -25.0
GONE_DB = 12.0
"""What is turned down by so much counts as gone."""
Shown = Literal["before", "after", "gone"]
SHOWN: dict[Shown, str] = {"before": said("Before"), "after": said("After"), "gone": said("What goes")}
_MARKS_HZ = {100.0: "100", 1000.0: "1k", 10_000.0: "10k"}


class Range(NamedTuple):
    """Levels in dBFS (4, bands, columns), both legs before and after the stage, of a range in seconds; none while they
    are being found."""

    start_s: float
    end_s: float
    levels: np.ndarray | None


def _rgb(colour: QColor) -> np.ndarray:
    return np.array([colour.red(), colour.green(), colour.blue()], dtype=float)


class PassingPicture(Picture):
    """One field for each leg; the newest look on the right, or a range from its beginning to its end. `placed` tells the
    time in the recording that was clicked at."""

    placed = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(180, 90)
        self.setAccessibleName(said("Spectrograms of both legs, the last 8 s"))
        self.setToolTip(
            said(
                "The last 8 s of each leg by frequency: what came in, what came out, or in colour what was taken "
                "away and in grey what stays"
            )
        )
        self._looks = np.full((4, BANDS, LOOKS), -150.0)
        self._shown: Shown = "gone"
        self._range: Range | None = None
        self._position_s = 0.0
        self._split = Split()
        self._images: list[QImage] | None = None

    def sizeHint(self) -> QSize:
        return QSize(360, 210)

    def show_stage(self, split: Split) -> None:
        if split != self._split:
            self._split = split
            self._again()

    def show_what(self, shown: Shown) -> None:
        """Show what came in, what came out, or what was taken away."""
        self._shown = shown
        self._again()

    def add(self, spectra: np.ndarray) -> None:
        """One look more: levels in dBFS (4, bands), both legs before the stage and after it."""
        self._looks[:, :, :-1] = self._looks[:, :, 1:]
        self._looks[:, :, -1] = spectra
        self._images = None
        self.update()

    def forget(self) -> None:
        self._looks[:] = -150.0
        self._again()

    def show_range(self, shown: Range | None) -> None:
        """Show a range of the recording; None: what went through lately."""
        self._range = shown
        self.setAccessibleName(
            said("Spectrograms of both legs, the last 8 s")
            if shown is None
            else said("Spectrograms of both legs, {start} to {end}").format(
                start=clock(shown.start_s), end=clock(shown.end_s)
            )
        )
        self._again()

    def show_position(self, seconds: float) -> None:
        """Where it plays."""
        if self._range is not None and seconds != self._position_s:
            self.update()
        self._position_s = seconds

    def mousePressEvent(self, event: QMouseEvent) -> None:
        plot, shown = self.plot(), self._range
        if shown is None or event.button() != Qt.MouseButton.LeftButton:
            return super().mousePressEvent(event)
        share = min(1.0, max(0.0, (event.position().x() - plot.left()) / plot.width()))
        self.placed.emit(shown.start_s + share * (shown.end_s - shown.start_s))

    @property
    def _levels(self) -> np.ndarray:
        """(4, bands, looks)."""
        if self._range is None:
            return self._looks
        known = self._range.levels
        return np.full((4, BANDS, 1), -150.0) if known is None else known

    def _again(self) -> None:
        self._images = None
        self.renew()

    def _restyle(self) -> None:
        self._images = None
        super()._restyle()

    @property
    def legs(self) -> tuple[LegName, ...]:
        return LEGS[:1] if isinstance(self._split, OneComponent) else LEGS

    def plot(self) -> QRectF:
        return QRectF(30, 6, self.width() - 36, self.height() - 28)

    def field(self, leg: LegName) -> QRectF:
        """Where a leg's spectrogram is."""
        plot, count = self.plot(), len(self.legs)
        high = (plot.height() - 4.0 * (count - 1)) / count
        return QRectF(plot.left(), plot.top() + LEGS.index(leg) * (high + 4.0), plot.width(), high)

    def colours(self, leg: LegName) -> np.ndarray:
        """Red, green and blue (bands, looks, 3) from 0 to 255, the lowest band first."""
        row = LEGS.index(leg)
        levels = self._levels
        before, after = levels[row], levels[2 + row]
        ground = _rgb(roles.ground)

        def bright(levels: np.ndarray) -> np.ndarray:
            return np.clip((levels - LOW_DB) / (HIGH_DB - LOW_DB), 0.0, 1.0)[:, :, None]

        if self._shown != "gone":
            return ground + bright(before if self._shown == "before" else after) * (
                _rgb(roles.chalk) - ground
            )
        share = np.clip((before - after) / GONE_DB, 0.0, 1.0)[:, :, None]
        ink = share * _rgb(roles.component(self._split.component(leg))) + (1 - share) * _rgb(roles.muted)
        return ground + bright(np.maximum(before, after)) * (ink - ground)

    def _image(self, leg: LegName) -> QImage:
        values = self.colours(leg)[::-1].astype(np.uint32)
        packed = np.ascontiguousarray(
            0xFF000000 | (values[:, :, 0] << 16) | (values[:, :, 1] << 8) | values[:, :, 2]
        )
        looks = packed.shape[1]
        return QImage(packed.tobytes(), looks, BANDS, 4 * looks, QImage.Format.Format_RGB32).copy()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "ground", self._paint_ground)
        if self._images is None:
            self._images = [self._image(leg) for leg in self.legs]
        for leg, image in zip(self.legs, self._images, strict=True):
            painter.drawImage(self.field(leg), image)
        self.layer(painter, "words", self._paint_words)
        if self._range is not None:
            self._paint_position(painter, self._range)

    def _paint_ground(self, painter: QPainter) -> None:
        plot = self.plot()
        painter.setFont(font(8))
        painter.setPen(roles.muted)
        for leg in self.legs:
            field = self.field(leg)
            for hertz, word in _MARKS_HZ.items():
                y = field.bottom() - field.height() * np.log(hertz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ)
                painter.drawText(
                    QRectF(0, y - 8, 26, 16),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    word,
                )
        below = QRectF(plot.left(), plot.bottom() + 3, plot.width(), 16)
        shown = self._range
        ends = (said("8 s ago"), said("now")) if shown is None else (clock(shown.start_s), clock(shown.end_s))
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, ends[0])
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, ends[1])
        if shown is not None and shown.levels is None:
            painter.drawText(below, Qt.AlignmentFlag.AlignHCenter, said("looking…"))

    def _paint_position(self, painter: QPainter, shown: Range) -> None:
        share = (self._position_s - shown.start_s) / max(1e-9, shown.end_s - shown.start_s)
        if 0.0 <= share <= 1.0:
            plot = self.plot()
            painter.setPen(QPen(roles.chalk, 1))
            x = plot.left() + share * plot.width()
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def _paint_words(self, painter: QPainter) -> None:
        painter.setFont(font(8.5, bold=True))
        for leg in self.legs:
            component = self._split.component(leg)
            what = {"before": "before", "after": "after", "gone": said("what goes, in colour")}[self._shown]
            painter.setPen(roles.component(component))
            box = QRectF(self.field(leg).left() + 8, self.field(leg).top() + 4, 180, 16)
            self.label(painter, box, f"{NAMES[component]}: {what}", Qt.AlignmentFlag.AlignLeft)
