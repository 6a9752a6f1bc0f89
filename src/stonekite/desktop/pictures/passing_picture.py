"""The picture of what went through a stage lately, by frequency and time: before it, after it, and what it took away."""

from typing import Literal

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPaintEvent

from stonekite.desktop.controls.theme import font, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.measure.spectrum import BANDS, HIGH_HZ, LOW_HZ
from stonekite.session.types import LEGS, LegName, OneComponent, Split
from stonekite.words import NAMES, said

LOOKS = 240
"""So many looks, 30 a second, are in the picture: 8 s."""
LOW_DB, HIGH_DB = -105.0, -25.0
GONE_DB = 12.0
"""What is turned down by so much counts as gone."""
Shown = Literal["before", "after", "gone"]
SHOWN: dict[Shown, str] = {"before": said("Before"), "after": said("After"), "gone": said("What goes")}
_MARKS_HZ = {100.0: "100", 1000.0: "1k", 10_000.0: "10k"}


def _rgb(colour: QColor) -> np.ndarray:
    return np.array([colour.red(), colour.green(), colour.blue()], dtype=float)


class PassingPicture(Picture):
    """One field for each leg; the newest look on the right."""

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
        before, after = self._looks[row], self._looks[2 + row]
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
        return QImage(packed.tobytes(), LOOKS, BANDS, 4 * LOOKS, QImage.Format.Format_RGB32).copy()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.layer(painter, "ground", self._paint_ground)
        if self._images is None:
            self._images = [self._image(leg) for leg in self.legs]
        for leg, image in zip(self.legs, self._images, strict=True):
            painter.drawImage(self.field(leg), image)
        self.layer(painter, "words", self._paint_words)

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
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, said("8 s ago"))
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, said("now"))

    def _paint_words(self, painter: QPainter) -> None:
        painter.setFont(font(8.5, bold=True))
        for leg in self.legs:
            component = self._split.component(leg)
            what = {"before": "before", "after": "after", "gone": said("what goes, in colour")}[self._shown]
            painter.setPen(roles.component(component))
            box = QRectF(self.field(leg).left() + 8, self.field(leg).top() + 4, 180, 16)
            self.label(painter, box, f"{NAMES[component]}: {what}", Qt.AlignmentFlag.AlignLeft)
