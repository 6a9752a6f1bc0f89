"""When echoes come back and how loud, painted: the upper leg upwards, the lower one downwards."""

import math
import time
from collections import deque
from typing import Any, NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF

from stonekite.desktop.controls.theme import faded, font, mixed, roles
from stonekite.desktop.pictures.picture import Picture
from stonekite.session.types import LEGS, LegName, Split, Tempo
from stonekite.signal.loops import Course
from stonekite.stages.registry import kind_of
from stonekite.words import LETTERS, NAMES, figure, said

LOW_DB = -48.0
MOST_STEMS, MOST_LIT = 400, 60
_REMEMBERED_S = 12.0


class Grip(NamedTuple):
    """What can be dragged: the first echo of a leg, or a tap (its place in the row, with the leg it is loudest on)."""

    leg: LegName
    tap: int | None
    seconds: float
    level_db: float


class EchoPainting(Picture):
    """What an echogram shows."""

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(130)
        self.setAccessibleName(said("Echoes over time"))
        self._stage: Any = None
        self._leg: LegName = "upper"
        self._split = Split()
        self._tempo = Tempo()
        self._rate = 48_000.0
        self._course = Course([], 0.0)
        self._words = ""
        self._warned = False
        self._view: float | None = None
        self._chosen: tuple[LegName, int | None] = ("upper", None)
        self._heard: deque[tuple[float, np.ndarray]] = deque()

    def sizeHint(self) -> QSize:
        return QSize(700, 240)

    def plot(self) -> QRectF:
        return QRectF(34, 6, self.width() - 42.0, self.height() - 24.0)

    def show_stage(self, stage: Any, leg: LegName, split: Split, tempo: Tempo, rate: float) -> None:
        """Show the echoes of a stage, one leg in front."""
        now = (stage, leg, split, tempo, rate)
        if now == (self._stage, self._leg, self._split, self._tempo, self._rate):
            return
        if self._stage is None or stage.id != self._stage.id:
            self._heard.clear()
            self._view, self._chosen = None, (leg, None)
        elif self._chosen[1] is None:
            self._chosen = (leg, None)
        self._stage, self._leg, self._split, self._tempo, self._rate = now
        echoes = kind_of(stage).offers.echoes
        assert echoes is not None
        self._course = echoes.course(stage, rate)
        falls, margin = self._course.falls_s, echoes.margin_db(stage, rate)
        self._warned = stage.shared.held or margin <= 0.0
        if stage.shared.held:
            self._words = said("frozen: what is in the loops goes round")
        elif margin <= 0.0 or falls is None:
            self._words = said("does not fall: held under full scale")
        else:
            self._words = said("falls by 60 dB in {falls}").format(falls=figure(falls, "s", 2))
        self.setAccessibleDescription(f"{self._words}. {self._word_of(self._grip())}")
        self.renew()

    # What there is to drag

    def grips(self) -> list[Grip]:
        """First echoes of both legs, and taps."""
        if self._stage is None:
            return []
        found = []
        for row, leg in enumerate(LEGS):
            side = getattr(self._stage, leg)
            if side is not None:
                first = [e.level_db for e in self._course.echoes if e.leg == row][:1]
                level = first[0] if first else side.level_db
                found.append(Grip(leg, None, side.time_ms * 1e-3, max(LOW_DB, level)))
        for k, tap in enumerate(self._stage.shared.taps):
            if tap is None:
                continue
            leg = "upper" if tap.place <= 0.0 and self._stage.upper is not None else "lower"
            found.append(Grip(leg, k, tap.time_ms * 1e-3, max(LOW_DB, tap.level_db)))
        return found

    def _grip(self) -> Grip | None:
        """The one in hand."""
        grips = self.grips()
        same = [
            g
            for g in grips
            if (g.leg, g.tap) == self._chosen or (g.tap is not None and g.tap == self._chosen[1])
        ]
        return same[0] if same else (grips[0] if grips else None)

    def _holder(self, grip: Grip) -> Any:
        """The side or the tap whose settings it moves."""
        return getattr(self._stage, grip.leg) if grip.tap is None else self._stage.shared.taps[grip.tap]

    def _word_of(self, grip: Grip | None) -> str:
        if grip is None:
            return ""
        holder = self._holder(grip)
        name = NAMES[self._split.component(grip.leg)]
        what = (
            said("{name}, first echo").format(name=name)
            if grip.tap is None
            else said("Tap {count}").format(count=grip.tap + 1)
        )
        note = f" ({holder.time_note})" if holder.time_note else ""
        return f"{what}: {figure(holder.time_ms, 'ms')}{note}, {figure(holder.level_db, 'dB', sign=True)}"

    # Geometry

    @property
    def view_s(self) -> float:
        """Seconds in view."""
        if self._view is not None:
            return self._view
        times = [grip.seconds for grip in self.grips()]
        longest = max(times, default=0.5)
        return min(20.0, max(0.02, 4.6 * longest))

    def x_of(self, seconds: float) -> float:
        plot = self.plot()
        return plot.left() + 8 + (plot.width() - 8) * seconds / self.view_s

    def _middle(self) -> float:
        return self.plot().center().y()

    def _reach(self) -> float:
        return 0.5 * self.plot().height() - 4.0

    def y_of(self, leg: LegName, level_db: float) -> float:
        """Where a level of a leg is: from the middle outwards."""
        share = min(1.15, max(0.0, (level_db - LOW_DB) / -LOW_DB))
        return self._middle() - (1 if leg == "upper" else -1) * share / 1.15 * self._reach()

    def place_of(self, grip: Grip) -> QPointF:
        return QPointF(self.x_of(grip.seconds), self.y_of(grip.leg, grip.level_db))

    def _colour(self, leg: LegName) -> QColor:
        return roles.component(self._split.component(leg))

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.layer(painter, "still", self._paint)
        self._paint_lit(painter)
        self._paint_grips(painter)
        self.frame(painter)

    def _paint(self, painter: QPainter) -> None:
        self.ground(painter)
        if self._stage is None:
            return
        plot = self.plot()
        painter.setClipRect(plot)
        self._paint_grid(painter)
        self._paint_envelope(painter)
        self._paint_stems(painter)
        painter.setClipping(False)
        self._paint_words(painter)

    def _paint_grid(self, painter: QPainter) -> None:
        plot, grid = self.plot(), mixed(roles.line, roles.ground, 0.6)
        painter.setFont(font(7.5))
        for leg in LEGS:
            for db in (0, -24):
                y = round(self.y_of(leg, db)) + 0.5
                painter.setPen(QPen(grid, 1))
                painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        painter.setPen(QPen(roles.line, 1))
        painter.drawLine(QPointF(plot.left(), self._middle()), QPointF(plot.right(), self._middle()))
        beat = 60.0 / self._tempo.bpm
        step = next(
            (beat * n for n in (0.25, 0.5, 1, 2, 4, 8, 16) if self.view_s / (beat * n) <= 24), 16 * beat
        )
        for k in range(1, int(self.view_s / step) + 1):
            whole = abs(k * step / beat - round(k * step / beat)) < 1e-6
            x = round(self.x_of(k * step)) + 0.5
            painter.setPen(QPen(roles.line if whole else grid, 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def _paint_envelope(self, painter: QPainter) -> None:
        """How the echoes of each leg fall in the end, as predicted."""
        falls = self._course.falls_s
        if not falls or self._warned:
            return
        for row, leg in enumerate(LEGS):
            mine = [e for e in self._course.echoes if e.leg == row]
            if len(mine) < 2:
                continue
            start = mine[0]
            painter.setPen(QPen(faded(self._colour(leg), 0.55), 1, Qt.PenStyle.DashLine))
            end = start.seconds + falls
            painter.drawLine(
                QPointF(self.x_of(start.seconds), self.y_of(leg, start.level_db)),
                QPointF(self.x_of(end), self._outside(leg, start.level_db - 60.0)),
            )

    def _outside(self, leg: LegName, level_db: float) -> float:
        """As y_of, beyond the lowest level, too."""
        share = (level_db - LOW_DB) / -LOW_DB
        return self._middle() - (1 if leg == "upper" else -1) * share / 1.15 * self._reach()

    def _seen(self) -> list[Any]:
        seen = [e for e in self._course.echoes if e.level_db > LOW_DB and e.seconds <= self.view_s]
        return sorted(seen, key=lambda e: -e.level_db)[:MOST_STEMS]

    def _paint_stems(self, painter: QPainter) -> None:
        dry = self._stage.shared.dry_db
        painter.setPen(QPen(roles.chalk, 3))
        for leg in LEGS:
            if dry > LOW_DB:
                painter.drawLine(
                    QPointF(self.x_of(0.0), self._middle()), QPointF(self.x_of(0.0), self.y_of(leg, dry))
                )
        for echo in self._seen():
            leg = LEGS[echo.leg]
            # The more of the top is gone, the more it fades into the ground.
            colour = mixed(self._colour(leg), roles.ground, 0.3 + 0.7 * math.sqrt(echo.bright))
            painter.setPen(QPen(colour, 3))
            x = self.x_of(echo.seconds)
            painter.drawLine(QPointF(x, self._middle()), QPointF(x, self.y_of(leg, echo.level_db)))
        for tap in self._stage.shared.there:
            for leg, share in zip(LEGS, (1.0 - tap.place / 100.0, 1.0 + tap.place / 100.0), strict=True):
                if share <= 0.0 or getattr(self._stage, leg) is None:
                    continue
                level = tap.level_db + 20 * math.log10(min(1.0, share))
                painter.setPen(QPen(self._colour(leg), 1.5, Qt.PenStyle.DashLine))
                x = self.x_of(tap.time_ms * 1e-3)
                painter.drawLine(QPointF(x, self._middle()), QPointF(x, self.y_of(leg, level)))

    def _paint_words(self, painter: QPainter) -> None:
        plot = self.plot()
        painter.setFont(font(7.5))
        painter.setPen(roles.muted)
        for leg in LEGS:
            for db in (0, -24):
                y = self.y_of(leg, db)
                words = f"{db} dB".replace("-", "−") if db == 0 else f"{db}".replace("-", "−")
                painter.drawText(
                    QRectF(0, y - 7, plot.left() - 5, 14),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    words,
                )
        beat = 60.0 / self._tempo.bpm
        every = next(n for n in (1, 2, 4, 8, 16, 64) if n == 64 or self.x_of(n * beat) - self.x_of(0) > 74)
        painter.drawText(
            QRectF(self.x_of(0) - 20, plot.bottom() + 2, 40, 14), Qt.AlignmentFlag.AlignHCenter, said("dry")
        )
        for k in range(every, int(self.view_s / beat) + 1, every):
            x = self.x_of(k * beat)
            word = said("1 beat") if k == 1 else said("{count} beats").format(count=k)
            if every * (self.x_of(beat) - self.x_of(0)) >= 110:
                word += f" · {figure(k * beat * 1000.0, 'ms', 0)}"
            if x > self.width() - 34.0:  # it would stand beside its place, and in the way of the one before
                continue
            left = min(x - 60, self.width() - 124.0)
            painter.drawText(QRectF(left, plot.bottom() + 2, 120, 14), Qt.AlignmentFlag.AlignHCenter, word)
        painter.setFont(font(8.5, bold=True))
        for leg, y in (("upper", plot.top() + 3), ("lower", plot.bottom() - 19)):
            painter.setPen(self._colour(leg))  # type: ignore[arg-type]
            name = NAMES[self._split.component(leg)]  # type: ignore[arg-type]
            box = QRectF(plot.right() - 90, y, 84, 16)
            self.label(painter, box, name, Qt.AlignmentFlag.AlignRight)
        painter.setFont(font(8.5))
        painter.setPen(roles.warning if self._warned else roles.muted)
        box = QRectF(plot.right() - 330, plot.top() + 3, 270, 16)
        self.label(painter, box, self._words, Qt.AlignmentFlag.AlignRight)

    def show_levels(self, peak_in: np.ndarray) -> None:
        """Levels in dBFS that go in (2,), now: each echo lights as loud as what went in when it began."""
        now = time.monotonic()
        self._heard.append((now, peak_in.copy()))
        while self._heard and self._heard[0][0] < now - _REMEMBERED_S:
            self._heard.popleft()
        self.update()

    def _level_at(self, ago: float, now: float) -> float:
        """What went in so many seconds ago, in dBFS of the louder leg."""
        best = -160.0
        for when, levels in reversed(self._heard):
            if when < now - ago - 0.05:
                break
            if abs(now - when - ago) < 0.05:
                best = max(best, float(levels.max()))
        return best

    def _paint_lit(self, painter: QPainter) -> None:
        if not self._heard or self._stage is None:
            return
        now = time.monotonic()
        if now - self._heard[-1][0] > 0.3:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        for echo in self._seen()[:MOST_LIT]:
            level = self._level_at(echo.seconds, now)
            light = min(1.0, max(0.0, (level + 40.0) / 40.0))
            if light > 0.02:
                leg = LEGS[echo.leg]
                painter.setBrush(faded(self._colour(leg), 0.75 * light))
                top = QPointF(self.x_of(echo.seconds), self.y_of(leg, echo.level_db))
                painter.drawEllipse(top, 3 + 5 * light, 3 + 5 * light)

    def _paint_grips(self, painter: QPainter) -> None:
        chosen = self._grip()
        for grip in self.grips():
            point = self.place_of(grip)
            if point.x() > self.plot().right() + 4:
                continue
            colour = self._colour(grip.leg)
            painter.setBrush(roles.ground)
            painter.setPen(QPen(colour, 2))
            if grip.tap is None:
                painter.drawEllipse(point, 7, 7)
                word = LETTERS[self._split.component(grip.leg)]
            else:
                corners = [QPointF(0, -8), QPointF(8, 0), QPointF(0, 8), QPointF(-8, 0)]
                painter.drawPolygon(QPolygonF([point + corner for corner in corners]))
                word = str(grip.tap + 1)
            painter.setFont(font(7, bold=True))
            painter.setPen(roles.chalk)
            painter.drawText(QRectF(point.x() - 8, point.y() - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, word)
            if chosen is not None and (grip.leg, grip.tap) == (chosen.leg, chosen.tap):
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(roles.chalk, 1))
                painter.drawEllipse(point, 10, 10)
        if chosen is not None:
            self._paint_readout(painter, chosen)

    def _paint_readout(self, painter: QPainter, grip: Grip) -> None:
        words = self._word_of(grip)
        painter.setFont(font(8.5))
        wide = painter.fontMetrics().horizontalAdvance(words) + 16
        point, plot = self.place_of(grip), self.plot()
        left = point.x() + 15 if point.x() + 15 + wide < plot.right() else point.x() - wide - 15
        top = min(max(plot.top() + 20, point.y() - 10), plot.bottom() - 40)
        box = QRectF(max(plot.left() + 2, left), top, wide, 19)
        painter.setBrush(roles.raised)
        painter.setPen(QPen(self._colour(grip.leg), 1))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(roles.chalk)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
