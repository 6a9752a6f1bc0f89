"""The picture of what a stage does to the spectrum: both legs' curves over the live spectrum."""

from math import log

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from stonekite.desktop.controls.hovering import help_by
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.desktop.pictures.known import FREQUENCIES, HIGH_HZ, LOW_HZ, Known
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.picture import Picture
from stonekite.desktop.pictures.turn import turn
from stonekite.engine.play.smoothing import DEFAULT_SMOOTHING
from stonekite.measure.image import centre_db, hard_left_db, phase_apart_deg
from stonekite.measure.spectrum import BANDS as SPECTRUM_BANDS
from stonekite.measure.spectrum import BandMap, band_at
from stonekite.session.edits import other
from stonekite.session.types import LEGS, LegName, OneComponent, Split
from stonekite.stages.base import Context, Stage
from stonekite.stages.registry import kind_of
from stonekite.words import NAMES, figure, number, said, spoken_hertz

SPECTRUM_TOP_DB, SPECTRUM_BOTTOM_DB = 0.0, -90.0
RANGES_DB = (15.0, 27.0)
_MARKS_HZ = (50, 100, 200, 500, 1000, 2000, 5000, 10_000)


def _word_of(hertz: float) -> str:
    return f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz:g}"


def _louder(db: float) -> str:
    if abs(db) < 0.05:
        return said("equal on both sides")
    over = said("over {db}").format(db=figure(abs(db), "dB")) if abs(db) >= 59.9 else figure(abs(db), "dB")
    return (said("{db} louder on the left") if db > 0 else said("{db} louder on the right")).format(db=over)


def _known_noise(stage: Stage, split: Split, rate: float) -> np.ndarray | None:
    """What a stage has learned of its noise, as levels (2, bands) in dBFS in bands as wide as the spectrum's."""
    noise = kind_of(stage).offers.noise
    power = None if noise is None else noise(stage, Context(rate, split.encoding))
    if power is None:
        return None
    return BandMap(rate, 2 * (power.shape[1] - 1), 1 / DEFAULT_SMOOTHING).levels_db(power)


class ResponsePicture(Picture):
    """Shows a stage whose kind has a response, with one leg in front."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        help_by(self, self.help_at)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(90)
        self.setAccessibleName(said("Response of both legs"))
        self._stage: Stage | None = None
        self._leg: LegName = "upper"
        self._split = Split()
        self._rate = 48_000.0
        self._spectra = np.full((4, SPECTRUM_BANDS), -150.0)
        self._known: Known | None = None
        self._peaks: np.ndarray | None = None
        self._noise: np.ndarray | None = None
        self._noise_gains: np.ndarray | None = None
        self._frozen = False
        self._image = False
        self._title = ""
        self._ground_range = 0.0

    def sizeHint(self) -> QSize:
        return QSize(800, 240)

    def show_stage(self, stage: Stage, leg: LegName, split: Split, rate: float) -> None:
        """Draw a stage with one leg in front."""
        fresh = stage is not self._stage or split != self._split
        if fresh and kind_of(stage).offers.noise is not None:
            self._noise, self._noise_gains = _known_noise(stage, split, rate), None
        self._stage, self._leg, self._split, self._rate = stage, leg, split, rate
        self.renew("front")

    def _knowing(self) -> Known | None:
        """The curves of what is shown; designing filters takes some ms, so they wait until they are drawn."""
        if self._stage is not None and (
            self._known is None or self._known.stage is not self._stage or self._known.rate != self._rate
        ):
            self._known = Known(self._stage, self._rate)
        return self._known

    @property
    def _hertz(self) -> np.ndarray:
        known = self._knowing()
        return FREQUENCIES if known is None else known.hertz

    @property
    def _curves(self) -> dict[LegName, np.ndarray]:
        known = self._knowing()
        return {} if known is None else known.levels_db

    def show_spectra(self, spectra: np.ndarray) -> None:
        """Levels in dBFS (4, bands): upper and lower leg before the stage, then after it."""
        if self._frozen:
            return
        self._spectra = spectra
        if self._peaks is not None:
            self._peaks = np.maximum(self._peaks, spectra)
        self.update(self.plot().toAlignedRect())

    def show_noise(self, levels_db: np.ndarray, gains_db: np.ndarray) -> None:
        """Of a stage that reduces noise: what it takes for noise, in dBFS, and what it does now, each (2, bands)."""
        if self._stage is not None and kind_of(self._stage).offers.noise is not None and not self._frozen:
            self._noise, self._noise_gains = levels_db, gains_db

    def hold_peaks(self, on: bool) -> None:
        """Keep the highest level at every frequency, from now on."""
        self._peaks = self._spectra.copy() if on else None
        self.update()

    def freeze(self, on: bool) -> None:
        """Let the spectrum stand still."""
        self._frozen = on

    def show_title(self, words: str) -> None:
        """Say in the picture what it shows, where that is not what comes out of the legs."""
        self._title = words

    def show_image(self, on: bool) -> None:
        """Draw by how much the legs turn against each other."""
        self._image = on
        self.renew("front")

    @property
    def range_db(self) -> float:
        """Half the height of the picture: the least range that shows every boost, and what is down as a whole."""
        highest = [float(curve.max()) for curve in self._curves.values()] or [0.0]
        return RANGES_DB[0] if max(highest) <= 13.0 and min(highest) >= -13.0 else RANGES_DB[1]

    # Geometry

    def plot(self) -> QRectF:
        return QRectF(40, 6, self.width() - 76, self.height() - 28)

    def x_of(self, hertz: float) -> float:
        plot = self.plot()
        return plot.left() + plot.width() * log(hertz / LOW_HZ) / log(HIGH_HZ / LOW_HZ)

    def _places(self) -> np.ndarray:
        """Where the frequencies at which curves are known lie from left to right."""
        plot = self.plot()
        return plot.left() + plot.width() * np.log(self._hertz / LOW_HZ) / log(HIGH_HZ / LOW_HZ)

    def hertz_at(self, x: float) -> float:
        plot = self.plot()
        share = min(1.0, max(0.0, (x - plot.left()) / plot.width()))
        return LOW_HZ * (HIGH_HZ / LOW_HZ) ** share

    def y_of(self, db: float) -> float:
        plot = self.plot()
        return plot.center().y() - db / self.range_db * plot.height() / 2

    def db_at(self, y: float) -> float:
        plot = self.plot()
        return (plot.center().y() - y) / (plot.height() / 2) * self.range_db

    # Painting: grid below, live spectra, curves and handles above. Grid and curves stand in pixmaps.

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self.waits("front"):
            with turn:
                self._knowing()
        # While the curves wait, so does the grid whose range is theirs.
        if not self.waits("front") and self._ground_range != self.range_db:
            self._ground_range = self.range_db
            self.at_once("ground")
        painter = QPainter(self)
        self.layer(painter, "ground", self._paint_ground)
        self._paint_spectra(painter)
        self._paint_moving(painter)
        self.layer(painter, "front", self._paint_front)

    def _paint_ground(self, painter: QPainter) -> None:
        plot = self.plot()
        self.ground(painter)
        painter.setFont(font(8))
        grid = mixed(roles.line, roles.ground, 0.55)
        free = -1e9
        for hertz in _MARKS_HZ:
            x = round(self.x_of(hertz)) + 0.5
            painter.setPen(QPen(grid, 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setPen(roles.muted)
            half = 0.5 * painter.fontMetrics().horizontalAdvance(_word_of(hertz)) + 3
            if plot.right() - x > 45 and x - half >= free:  # where the units stand, and the one before
                free = x + half
                painter.drawText(
                    QRectF(x - 30, plot.bottom() + 3, 60, 16), Qt.AlignmentFlag.AlignCenter, _word_of(hertz)
                )
        step = 6 if self.range_db < 20 else 12
        top = int(self.range_db // step) * step
        for db in range(-top, top + 1, step):
            y = round(self.y_of(db)) + 0.5
            painter.setPen(QPen(roles.line if db == 0 else grid, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(roles.muted)
            word = number(db, 0, sign=True)
            painter.drawText(
                QRectF(0, y - 9, 34, 18), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, word
            )
        free = 1e9
        for db in range(int(SPECTRUM_BOTTOM_DB) + 15, int(SPECTRUM_TOP_DB), 15):
            y = self._spectrum_y(db)
            if y + 6 > free:
                continue
            free = y - 6
            painter.setPen(mixed(roles.muted, roles.panel, 0.75))
            painter.drawText(
                QRectF(plot.right() + 5, y - 9, 31, 18),
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
                f"−{-db}",
            )
        painter.drawText(
            QRectF(plot.right() - 60, plot.bottom() + 3, 96, 16), Qt.AlignmentFlag.AlignRight, "Hz · dBFS"
        )
        painter.drawText(QRectF(0, plot.bottom() + 3, 34, 16), Qt.AlignmentFlag.AlignRight, "dB")
        painter.drawText(plot.adjusted(10, 5, 0, 0), Qt.AlignmentFlag.AlignLeft, self._title)

    def _spectrum_y(self, db):
        plot = self.plot()
        share = (SPECTRUM_TOP_DB - db) / (SPECTRUM_TOP_DB - SPECTRUM_BOTTOM_DB)
        return plot.top() + share * plot.height()

    def noise_y(self, hertz: float) -> float:
        """Where the noise of the leg in front, that is known, is drawn at a frequency, within the plot."""
        assert self._noise is not None
        level = float(self._noise[0 if self._leg == "upper" else 1, band_at(hertz)])
        return float(self._spectrum_y(min(SPECTRUM_TOP_DB - 4.0, max(SPECTRUM_BOTTOM_DB + 4.0, level))))

    def spectrum_db(self, pixels: float) -> float:
        """How many dB a distance is on the scale of the spectra."""
        return pixels / self.plot().height() * (SPECTRUM_TOP_DB - SPECTRUM_BOTTOM_DB)

    def _spectrum_line(self, row: int, spectra: np.ndarray | None = None) -> QPolygonF:
        plot = self.plot()
        levels = np.clip(
            (self._spectra if spectra is None else spectra)[row], SPECTRUM_BOTTOM_DB, SPECTRUM_TOP_DB
        )
        xs = np.linspace(plot.left(), plot.right(), len(levels))
        ys = self._spectrum_y(levels)
        return polyline(xs, ys)

    def _paint_spectra(self, painter: QPainter) -> None:
        if self._spectra.max() <= SPECTRUM_BOTTOM_DB:
            return
        plot = self.plot()
        painter.setClipRect(plot)
        mine = 0 if self._leg == "upper" else 1
        colour = self._colour(self._leg)
        before = self._spectrum_line(mine)
        filled = QPolygonF(before)
        filled.append(plot.bottomRight())
        filled.append(plot.bottomLeft())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(mixed(colour, roles.ground, 0.16))
        painter.drawPolygon(filled)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(mixed(self._colour(other(self._leg)), roles.ground, 0.38), 1))
        painter.drawPolyline(self._spectrum_line(3 - mine))
        painter.setPen(QPen(mixed(colour, roles.ground, 0.62), 1))
        painter.drawPolyline(self._spectrum_line(2 + mine))
        if self._peaks is not None:
            painter.setPen(QPen(mixed(roles.chalk, roles.ground, 0.5), 1))
            painter.drawPolyline(self._spectrum_line(2 + mine, self._peaks))
        painter.setClipping(False)

    def _colour(self, leg: LegName):
        return roles.component(self._split.component(leg))

    def _drawn(self, leg: LegName) -> str:
        """What a leg's curve is of."""
        sides = self._stage is not None and kind_of(self._stage).offers.of_sides
        return (Split(mode="left-right") if sides else self._split).component(leg)

    def _pen(self, leg: LegName) -> QPen:
        """Of a leg's curve: solid in front, dashed behind."""
        colour = roles.component(self._drawn(leg))
        if leg != self._leg:
            return QPen(mixed(colour, roles.ground, 0.8), 1.5, Qt.PenStyle.DashLine)
        heard = self._stage is not None and self._stage.inserted
        return QPen(colour if heard else roles.muted, 2.2)

    def _curve(self, levels_db: np.ndarray) -> QPolygonF:
        """A line through levels at the picture's frequencies."""
        plot = self.plot()
        heard = int(np.searchsorted(self._hertz, self._rate / 2))  # above, a recording holds nothing
        xs = self._places()[:heard]
        ys = plot.center().y() - levels_db[:heard] / self.range_db * plot.height() / 2
        return polyline(xs, np.clip(ys, plot.top() - 40, plot.bottom() + 40))

    def _paint_front(self, painter: QPainter) -> None:
        if self._stage is None:
            return
        plot = self.plot()
        painter.setClipRect(plot)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        offers = kind_of(self._stage).offers
        if offers.parts is not None:
            painter.setPen(QPen(mixed(self._colour(self._leg), roles.ground, 0.75), 1))
            for part in offers.parts(self._stage, self._leg, self._hertz, self._rate):
                painter.drawPolyline(self._curve(20 * np.log10(np.maximum(np.abs(part), 1e-6))))
        for leg in (other(self._leg), self._leg):
            if getattr(self._stage, leg) is not None:
                painter.setPen(self._pen(leg))
                painter.drawPolyline(self._curve(self._curves[leg]))
        if self._image:
            self._paint_image(painter)
        painter.setClipping(False)
        self._paint_handles(painter)
        self._paint_legend(painter)

    def _paint_image(self, painter: QPainter) -> None:
        """The angle between the legs: half the picture's height is half a turn."""
        plot = self.plot()
        heard = int(np.searchsorted(self._hertz, self._rate / 2))
        known = self._knowing()
        assert known is not None
        apart = phase_apart_deg(known.responses["upper"], known.responses["lower"])[:heard]
        xs = self._places()[:heard]
        ys = plot.center().y() - apart / 180.0 * plot.height() / 2
        painter.setPen(QPen(roles.chalk, 1.2, Qt.PenStyle.DotLine))
        start = 0
        breaks = [*(np.flatnonzero(np.abs(np.diff(apart)) > 180) + 1).tolist(), heard]
        for stop in breaks:
            painter.drawPolyline(polyline(xs[start:stop], ys[start:stop]))
            start = stop
        painter.setFont(font(8.5))
        painter.drawText(
            plot.adjusted(12, 6, 0, 0),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop,
            said("dotted: angle between the legs, ±180° from bottom to top"),
        )

    def _image_words(self, at: int) -> str:
        known = self._knowing()
        assert known is not None
        upper, lower = (known.responses[leg][at : at + 1] for leg in LEGS)
        apart = phase_apart_deg(upper, lower)[0]
        names = said(" and ").join(NAMES[self._split.component(leg)] for leg in LEGS)
        if self._split.mode == "left-right":
            moved, together = centre_db(upper, lower)[0], centre_db(np.abs(upper), np.abs(lower))[0]
            source = said("a source in the centre")
        else:
            moved, together = hard_left_db(upper, lower)[0], hard_left_db(np.abs(upper), np.abs(lower))[0]
            source = said("a source hard left")
        words = said("{names} {apart:.0f}° apart; {source} comes out {moved}").format(
            names=names, apart=abs(apart), source=source, moved=_louder(moved)
        )
        return words + (
            said(" ({together} if they turned alike)").format(together=_louder(together))
            if abs(moved - together) > 0.05
            else ""
        )

    def _paint_moving(self, painter: QPainter) -> None:
        """What follows the sound: noise that is known, and what is done to it."""
        if self._noise is None:
            return
        plot = self.plot()
        painter.setClipRect(plot)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        mine = 0 if self._leg == "upper" else 1
        painter.setPen(QPen(roles.chalk, 1.3, Qt.PenStyle.DotLine))
        painter.drawPolyline(self._spectrum_line(mine, self._noise))
        words = said("dotted: the noise that is known")
        if self._noise_gains is not None:
            xs = np.linspace(plot.left(), plot.right(), SPECTRUM_BANDS)
            ys = plot.center().y() - self._noise_gains[mine] / self.range_db * plot.height() / 2
            painter.setPen(QPen(mixed(self._colour(self._leg), roles.chalk, 0.45), 1.6))
            painter.drawPolyline(polyline(xs, np.clip(ys, plot.top(), plot.bottom())))
            words += said("; bright: what is done now")
        painter.setClipping(False)
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        painter.drawText(
            plot.adjusted(12, 6, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, words
        )

    def _paint_handles(self, painter: QPainter) -> None:
        """For pictures that can be dragged."""

    def _meets_curves(self, place: QRectF) -> bool:
        """Whether a leg's curve runs through a place in the picture's upper right corner."""
        there = self._places() >= place.left()
        lowest = (self.plot().center().y() - place.bottom()) * 2 * self.range_db / self.plot().height()
        legs = [leg for leg in LEGS if getattr(self._stage, leg) is not None]
        return any(bool((self._curves[leg][there] > lowest).any()) for leg in legs)

    def _paint_legend(self, painter: QPainter) -> None:
        plot = self.plot()
        painter.setFont(font(8.5, bold=True))
        entries = [(self._leg, Qt.PenStyle.SolidLine), (other(self._leg), Qt.PenStyle.DashLine)]
        if isinstance(self._split, OneComponent):
            del entries[1:]
        first = plot.top() + 14
        if self._meets_curves(QRectF(plot.right() - 100, plot.top(), 100, 8 + 17 * len(entries))):
            first = plot.bottom() - 14 - 17 * (len(entries) - 1)
        for row, (leg, style) in enumerate(entries):
            y = first + 17 * row
            painter.setPen(QPen(roles.component(self._drawn(leg)), 1.8, style))
            painter.drawLine(QPointF(plot.right() - 34, y), QPointF(plot.right() - 10, y))
            name = NAMES[self._drawn(leg)]
            if getattr(self._stage, leg) is None:
                name += " (passes)"
            painter.drawText(
                QRectF(plot.right() - 164, y - 9, 122, 18),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                name,
            )
        if self.hasFocus():
            painter.setPen(QPen(roles.muted, 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(plot, 4, 4)

    def focusInEvent(self, event) -> None:
        self.renew("front")
        super().focusInEvent(event)
        self.update()

    focusOutEvent = focusInEvent

    def help_at(self, point: QPointF) -> str:
        """What the picture says about a point under the mouse."""
        if not self.plot().contains(point) or not self._curves:
            return ""
        hertz = self.hertz_at(point.x())
        at = int(np.argmin(np.abs(self._hertz - hertz)))
        rows = [f"{NAMES[self._drawn(leg)]} {figure(self._curves[leg][at], 'dB', sign=True)}" for leg in LEGS]
        words = f"{spoken_hertz(hertz)}: {' · '.join(rows)}"
        return f"{words}\n{self._image_words(at)}" if self._image else words
