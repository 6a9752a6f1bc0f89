"""The plots of a comparison, before dashed and after solid, with linked cursors and zoom."""

from collections.abc import Sequence
from math import log

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPen, QPolygonF

from stonekite.desktop.controls.theme import font, mixed, rgb, roles
from stonekite.desktop.pictures.lines import polyline
from stonekite.desktop.pictures.linked_plot import Axis, Plot
from stonekite.measure.image_meter import OCTAVES_HZ
from stonekite.measure.measures import Measures
from stonekite.measure.spectrum import band_at, centres
from stonekite.signal.matrix import COMPONENTS
from stonekite.words import NAMES, clock, number, said, spoken_hertz

_CENTRES = centres()
_SILENT_DB = -149.0


def _known(level: float) -> float | None:
    return level if level > _SILENT_DB else None


class SpectrumPlot(Plot):
    """Long-term spectra of both components: levels, their change, or the difference signal."""

    title = said("Spectrum of each component")
    unit = said("dBFS, 1/12 octave")

    def __init__(self, axis: Axis) -> None:
        self.mode = "levels"
        super().__init__(axis)

    def show_mode(self, mode: str) -> None:
        """Show levels, the change, or the spectrum of the difference."""
        self.mode = mode
        self.unit = {
            "levels": said("dBFS, 1/12 octave"),
            "change": said("dB, after against before"),
            "difference": said("dBFS, of the state now less the unprocessed recording"),
        }[mode]
        self.renew()

    def up(self) -> tuple[float, float, Sequence[float]]:
        if self.mode == "change":
            most = max(
                [
                    6.0,
                    *(abs(v) for name in self.pair.components for v in self._changes(name) if v is not None),
                ]
            )
            most = min(48.0, 6.0 * np.ceil(most / 6.0))
            return -most, most, np.linspace(-most, most, 5).tolist()
        return -100.0, -10.0, (-80, -60, -40, -20)

    def _levels(self, measures: Measures, name: str) -> list[float | None]:
        return [_known(level) for level in measures.spectra_db[COMPONENTS.index(name)]]

    def _changes(self, name: str) -> list[float | None]:
        if self.pair.before is None or self.pair.after is None:
            return []
        pairs = zip(self._levels(self.pair.before, name), self._levels(self.pair.after, name), strict=True)
        return [None if a is None or b is None or max(a, b) < -110 else b - a for a, b in pairs]

    def paint_data(self, painter: QPainter) -> None:
        xs = [self.x_of(hertz) for hertz in _CENTRES.tolist()]
        for name in self.pair.components:
            colour = roles.component(name)
            style = Qt.PenStyle.SolidLine if name in ("mid", "left") else Qt.PenStyle.DashDotLine
            if self.mode == "change":
                painter.setPen(QPen(colour, 1.8, style))
                for run in self.line(xs, self._changes(name)):
                    painter.drawPolyline(run)
            elif self.mode == "difference":
                if self.pair.difference is not None:
                    painter.setPen(QPen(colour, 1.8, style))
                    for run in self.line(xs, self._levels(self.pair.difference, name)):
                        painter.drawPolyline(run)
            else:
                for found, was in self.both():
                    painter.setPen(self.pen(colour, was))
                    for run in self.line(xs, self._levels(found, name)):
                        painter.drawPolyline(run)
        self.paint_names(painter, self.pair.components)

    def readout(self) -> str:
        if self.axis.cursor is None:
            return ""
        at = band_at(self.axis.cursor)
        words = []
        for name in self.pair.components:
            row = COMPONENTS.index(name)
            if self.mode == "difference":
                found = self.pair.difference
                words.append(f"{NAMES[name]} {number(found.spectra_db[row][at], 1)}" if found else "")
                continue
            levels = [found.spectra_db[row][at] for found, _ in self.both()]
            if len(levels) == 2:
                shown = f"{number(levels[0], 1)} → {number(levels[1], 1)} ({number(levels[1] - levels[0], 1, True)})"
                words.append(f"{NAMES[name]} {shown}")
        return f"{spoken_hertz(self.axis.cursor)}  {'  '.join(words)}"


class RatioPlot(Plot):
    """Level of Side over that of Mid."""

    title = said("Side against Mid")
    unit = "dB"

    def up(self) -> tuple[float, float, Sequence[float]]:
        return -42.0, 18.0, (-36, -24, -12, 0, 12)

    @staticmethod
    def _ratios(measures: Measures) -> list[float | None]:
        mid, side = measures.spectra_db[2], measures.spectra_db[3]
        return [s - m if max(m, s) > -110 else None for m, s in zip(mid, side, strict=True)]

    def paint_data(self, painter: QPainter) -> None:
        xs = [self.x_of(hertz) for hertz in _CENTRES.tolist()]
        for found, was in self.both():
            painter.setPen(self.pen(roles.muted if was else roles.chalk, was))
            for run in self.line(xs, self._ratios(found)):
                painter.drawPolyline(run)

    def readout(self) -> str:
        if self.axis.cursor is None:
            return ""
        values = [self._ratios(found)[band_at(self.axis.cursor)] for found, _ in self.both()]
        words = " → ".join("–" if value is None else number(value, 1) for value in values)
        return f"{spoken_hertz(self.axis.cursor)}  {words} dB"


class LossPlot(Plot):
    """Power lost on folding to mono, octave by octave."""

    title = said("Loss in mono by octave")
    unit = "dB"

    def up(self) -> tuple[float, float, Sequence[float]]:
        values = [
            o.mono_loss_db for found, _ in self.both() for o in found.octaves if o.mono_loss_db is not None
        ]
        most = min(24.0, max([6.0, *(value for value in values if value < 60)]))
        most = 3.0 * float(np.ceil(most / 3.0))
        return -most, 0.6, [0.0 - step for step in np.arange(0, most + 1, 3 if most <= 9 else 6).tolist()]

    def marks(self) -> list[tuple[float, str]]:
        return [(hertz, f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz:g}") for hertz in OCTAVES_HZ]

    def paint_data(self, painter: QPainter) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        wide = max(3.0, min(14.0, (self.x_of(1400.0) - self.x_of(700.0)) * 0.36))
        for found, was in self.both():
            for octave in found.octaves:
                if octave.mono_loss_db is None:
                    continue
                x, top = self.x_of(octave.hertz), self.y_of(0.0)
                bottom = self.y_of(-min(octave.mono_loss_db, 60.0))
                left = x - wide - 0.5 if was else x + 0.5
                painter.setBrush(roles.muted if was else roles.chalk)
                painter.drawRect(QRectF(left, top, wide, max(1.0, bottom - top)))

    def readout(self) -> str:
        if self.axis.cursor is None:
            return ""
        at = int(np.argmin([abs(log(hertz / self.axis.cursor)) for hertz in OCTAVES_HZ]))
        values = [found.octaves[at].mono_loss_db for found, _ in self.both()]
        words = " → ".join("–" if value is None else number(value, 1) for value in values)
        return f"{spoken_hertz(OCTAVES_HZ[at])}  {words}"


class TimePlot(Plot):
    """Short-term loudness, correlation and centre, one below the other; below them what rides, if anything does."""

    title = said("Over time")
    unit = said("loudness in LUFS, correlation, centre")
    LANES = (
        ("short_term_lufs", said("loudness"), 1, 0.5),
        ("correlation", said("correlation"), 2, 0.25),
        ("centre", said("centre, left below"), 0, 0.25),
    )
    RIDES = 0.25
    """The share of the height that rides have."""

    def _range(self, name: str) -> tuple[float, float]:
        if name == "correlation":
            return -1.05, 1.05
        if name == "centre":
            return -105.0, 105.0
        values = [v for found, _ in self.both() for v in found.curves.short_term_lufs if v is not None]
        if not values:
            return -40.0, -10.0
        return min(values) - 2.0, max(max(values), min(values) + 6.0) + 2.0

    def up(self) -> tuple[float, float, Sequence[float]]:
        return 0.0, 1.0, ()

    def _lane(self, place: int) -> QRectF:
        """The lane of a curve; the one after the last is that of the rides."""
        plot = self.plot()
        height = plot.height() * (1.0 - self.RIDES if self.pair.rides else 1.0)
        above = sum(share for *_, share in self.LANES[:place])
        share = self.LANES[place][3] * height if place < len(self.LANES) else plot.height() - height
        return QRectF(plot.left(), plot.top() + above * height + 1, plot.width(), share - 2)

    def _paint_rides(self, painter: QPainter) -> None:
        """Each line in the range of its setting: it is its shape that is looked for beside the curves above."""
        lane = self._lane(len(self.LANES))
        painter.setPen(QPen(roles.line, 1))
        painter.drawLine(lane.topLeft(), lane.topRight())
        xs = np.arange(lane.left(), lane.right() + 2.0, 2.0)
        times = np.array([self.axis.value((x - lane.left()) / lane.width()) for x in xs])
        for lines in self.pair.rides:
            for line, was in zip(lines, (True, False), strict=True):
                if line is not None:
                    painter.setPen(self.pen(roles.component(line.colour), was))
                    ys = lane.bottom() - 2 - line.travels(times) * (lane.height() - 4)
                    painter.drawPolyline(polyline(xs, ys))

    def paint_at_cursor(self, painter: QPainter) -> None:
        if not self.pair.rides or not self.known():
            return
        lane = self._lane(len(self.LANES))
        painter.setFont(font(7.5))
        words = said("rides: {names}").format(names="; ".join(self._ridden()))
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(lane.width() - 8))
        painter.setPen(roles.muted)
        top = QRectF(lane.left() + 3, lane.top() + 2, lane.width(), 14)
        self.label(painter, top, words, Qt.AlignmentFlag.AlignLeft)

    def paint_data(self, painter: QPainter) -> None:
        for place, (name, word, digits, _) in enumerate(self.LANES):
            lane = self._lane(place)
            low, high = self._range(name)

            def y_of(value: float, lane=lane, low=low, high=high) -> float:
                return lane.bottom() - lane.height() * (value - low) / (high - low)

            painter.setPen(QPen(roles.line, 1))
            if place:
                painter.drawLine(lane.topLeft(), lane.topRight())
            if low < 0 < high:
                painter.setPen(QPen(mixed(roles.line, roles.ground, 0.6), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(lane.left(), y_of(0)), QPointF(lane.right(), y_of(0)))
            for found, was in self.both():
                painter.setPen(self.pen(roles.muted if was else roles.chalk, was))
                values = getattr(found.curves, name)
                run = QPolygonF()
                for k, value in enumerate(values):
                    if value is None:
                        if run.size() > 1:
                            painter.drawPolyline(run)
                        run = QPolygonF()
                        continue
                    x = self.x_of(found.curves.start_s + found.curves.step_s * k)
                    run.append(QPointF(x, y_of(value)))
                if run.size() > 1:
                    painter.drawPolyline(run)
            painter.setPen(roles.muted)
            painter.setFont(font(7.5))
            top = QRectF(lane.left() + 3, lane.top() + 2, lane.width(), 14)
            self.label(painter, top, word, Qt.AlignmentFlag.AlignLeft)
            ends = (low + 2, high - 2) if name == "short_term_lufs" else ()
            for value in ends:
                box = QRectF(lane.right() - 44, y_of(value) - 7, 42, 14)
                self.label(painter, box, number(value, digits), Qt.AlignmentFlag.AlignRight)
        if self.pair.rides:
            self._paint_rides(painter)

    def _ridden(self) -> list[str]:
        """What rides, and where it stands at the cursor if that is anywhere."""
        words = []
        for lines in self.pair.rides:
            there = [line for line in lines if line is not None]
            if self.axis.cursor is None:
                words.append(there[-1].name)
                continue
            at = np.array([self.axis.cursor])
            values = dict.fromkeys(line.setting.shown(float(line.values(at)[0])) for line in there)
            words.append(f"{there[-1].name} {' → '.join(values)}")
        return words

    def readout(self) -> str:
        if self.axis.cursor is None:
            return ""
        words = []
        for name, word, digits, _ in self.LANES:
            values = []
            for found, _was in self.both():
                curve = getattr(found.curves, name)
                at = round((self.axis.cursor - found.curves.start_s) / found.curves.step_s)
                value = curve[at] if 0 <= at < len(curve) else None
                values.append("–" if value is None else number(value, digits))
            words.append(f"{word.split(',')[0]} {' → '.join(values)}")
        return f"{clock(self.axis.cursor)}  {'  '.join(words)}"

    def spoken(self) -> str:
        return "  ".join([self.readout(), *self._ridden()]) if self.axis.cursor is not None else ""


class SpectrogramPlot(Plot):
    """Levels over time and frequency: of before, of after, their change, or of the difference signal."""

    title = said("Spectrogram")
    unit = ""
    RANGE_DB = (-100.0, -20.0)
    CHANGE_DB = 15.0

    def __init__(self, axis: Axis) -> None:
        self.mode = "after"
        self._hertz: float | None = None
        super().__init__(axis)

    def show_mode(self, mode: str) -> None:
        """Show before, after, the change or the difference signal."""
        self.mode = mode
        self.renew()

    def up(self) -> tuple[float, float, Sequence[float]]:
        return log(20.0), log(20_000.0), ()

    def paint_grid(self, painter: QPainter) -> None:
        super().paint_grid(painter)
        painter.setPen(roles.muted)
        for hertz in (50, 200, 1000, 5000):
            word = f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz}"
            place = QRectF(0, self.y_of(log(hertz)) - 8, 32, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, word)

    def table(self) -> tuple[np.ndarray, float, float] | None:
        """Levels or changes (columns, bands) in dB, where they start and the step between columns, in seconds."""
        pair = self.pair
        chosen = {"before": pair.before, "difference": pair.difference}.get(self.mode, pair.after)
        if chosen is None or not chosen.spectrogram:
            return None
        levels = chosen.spectrogram_db()
        if self.mode == "change":
            if self.pair.before is None or len(self.pair.before.spectrogram) != len(chosen.spectrogram):
                return None
            was = self.pair.before.spectrogram_db()
            levels = np.where(np.maximum(levels, was) > self.RANGE_DB[0], levels - was, 0.0)
        return levels, chosen.curves.start_s - 0.1, chosen.spectrogram_step_s

    def paint_data(self, painter: QPainter) -> None:
        found = self.table()
        if found is None:
            painter.setPen(roles.muted)
            words = (
                said("The two are not of the same length.")
                if self.mode == "change"
                else said("nothing to show")
            )
            painter.drawText(self.plot(), Qt.AlignmentFlag.AlignCenter, words)
            return
        levels, start, step = found
        image = self._image(levels[:, ::-1].T)
        left, right = self.x_of(start), self.x_of(start + step * levels.shape[0])
        plot = self.plot()
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(QRectF(left, plot.top(), right - left, plot.height()), image)

    def _image(self, levels: np.ndarray) -> QImage:
        """Rows from high to low frequencies."""
        if self.mode == "change":
            share = np.clip(np.abs(levels) / self.CHANGE_DB, 0.0, 1.0)[:, :, None]
            more, less = (np.array(rgb(colour), dtype=float) for colour in (roles.chalk, roles.warning))
            top = np.where(levels[:, :, None] > 0, more, less)
        else:
            low, high = self.RANGE_DB
            share = (np.clip((levels - low) / (high - low), 0.0, 1.0) ** 1.4)[:, :, None]
            top = np.array(rgb(roles.chalk), dtype=float)
        ground = np.array(rgb(roles.ground), dtype=float)
        pixels = np.ascontiguousarray(ground + share * (top - ground)).astype(np.uint8)
        height, width = levels.shape
        return QImage(pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).copy()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        plot = self.plot()
        share = (plot.bottom() - event.position().y()) / plot.height()
        self._hertz = 20.0 * 1000.0**share if 0 <= share <= 1 else None
        super().mouseMoveEvent(event)
        self.update()

    def readout(self) -> str:
        if self.axis.cursor is None:
            return (
                said("grey: more, amber: less, ±{change_db:g} dB").format(change_db=self.CHANGE_DB)
                if self.mode == "change"
                else ""
            )
        found = self.table()
        if found is None or self._hertz is None:
            return clock(self.axis.cursor)
        levels, start, step = found
        column = int((self.axis.cursor - start) / step)
        if not 0 <= column < len(levels):
            return clock(self.axis.cursor)
        level = float(levels[column, band_at(self._hertz)])
        return f"{clock(self.axis.cursor)}  {spoken_hertz(self._hertz)}  {number(level, 1, self.mode == 'change')} dB"
