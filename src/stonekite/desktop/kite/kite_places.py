"""What the picture of the signal path shows, and where: what is painted stands in kite_picture.py, how lanes lie in
layout.py.
"""

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from stonekite.desktop.controls.theme import restyled
from stonekite.desktop.kite import layout
from stonekite.desktop.pictures.picture import Picture
from stonekite.session import tree
from stonekite.session.types import LEGS, LegName, Strip
from stonekite.stages.registry import kind_of
from stonekite.words import said


@dataclass
class Hit:
    """What lies under a point: a stone, a place to add one, a lane's name, the way out, the split, source or output."""

    what: str
    stage: int = -1
    leg: LegName = "upper"
    branch: int = tree.LEGS_BRANCH


class KitePlaces(Picture):
    """A strip, or what stands inside one of its stages, and where each part of it lies.

    `grown` comes when it needs another height, `followed` with the place of what was chosen.
    """

    grown = Signal()
    followed = Signal(int, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(said("Signal path"))
        self._strip = Strip()
        self._source = ("", "")
        self._output = ("", "")
        self._chosen: tuple[int, LegName] | None = None
        self._spur = 0
        self._inside = 0
        self._levels = {"upper": -150.0, "lower": -150.0}
        self._loudness = {"upper": "", "lower": ""}
        self._open = ""
        self._hover: Hit | None = None
        self._press: tuple[QPointF, Hit] | None = None
        self._drag: QPointF | None = None
        self._stones: dict[tuple[int, LegName], tuple[tuple, QPixmap]] = {}
        self._layout = layout.of_strip(self._strip, 900.0)
        self._hidden = False
        self._soon = QTimer(self, interval=12, singleShot=True)
        self._soon.timeout.connect(self.renew)
        restyled.changed.connect(self._forget_stones)

    def sizeHint(self) -> QSize:
        return QSize(900, int(self._layout.height))

    def plot(self) -> QRectF:
        return QRectF(self.rect())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_out()

    def _forget_stones(self) -> None:
        self._stones.clear()

    def show_strip(self, strip: Strip, source: tuple[str, str], output: tuple[str, str]) -> None:
        """Draw another strip, with two lines of words each for the source and the output."""
        self._strip, self._source, self._output = strip, source, output
        there = {stage.id for _, stage in tree.walk(strip)}
        self._stones = {key: kept for key, kept in self._stones.items() if key[0] in there}
        if self._inside not in {s.id for _, s in tree.walk(strip) if kind_of(s).branching is not None}:
            self._inside = 0
        if self._spur not in [spur.id for spur in strip.spurs]:
            self._spur = 0
        self._lay_out()
        self._describe()

    def _lay_out(self) -> None:
        """Where everything lies now."""
        leg = self._chosen[1] if self._chosen else "upper"
        height = self._layout.height
        self.setMinimumWidth(int(layout.least_width(self._strip)) if not self._inside else 0)
        if self._inside:
            _, stage = tree.find(self._strip, self._inside)
            if getattr(stage, leg) is None:
                leg = "lower" if leg == "upper" else "upper"
            self._layout = layout.of_stage(self._strip, stage, leg, float(self.width()))
        else:
            self._layout = layout.of_strip(self._strip, float(self.width()))
        if self._layout.height != height:
            self.setFixedHeight(int(self._layout.height))
            self.updateGeometry()
            self.grown.emit()
        self._repaint_soon()

    def show_hidden(self, on: bool) -> None:
        """Say that not all of it fits in."""
        if on != self._hidden:
            self._hidden = on
            self.renew()

    @property
    def inside(self) -> int:
        """The stage whose branches are shown; 0 for the whole strip."""
        return self._inside

    def enter(self, stage: int) -> None:
        """Show what stands inside a stage; 0 shows the whole strip."""
        self._inside = stage
        self._lay_out()

    def choose(self, stage: int | None, leg: LegName = "upper") -> None:
        """Mark a stone as the one whose editor is open, and show where it is."""
        before = self._chosen, self._inside
        self._chosen = None if stage is None else (stage, leg)
        if stage is not None and stage != self._inside:
            try:
                home = tree.home(self._strip, stage).branch
            except LookupError:
                home = tree.LEGS_BRANCH
            above = tree.above(self._strip, home) if home else []
            self._inside = above[-1][1] if above else 0
        if (self._chosen, self._inside) != before:
            self._lay_out()
            self._describe()
        if stage is not None and (stone := self._layout.stone(stage, leg)) is not None:
            self.followed.emit(int(stone.x), int(stone.y))

    def _describe(self) -> None:
        """What is chosen, and then all there is, for those who hear the map."""
        chosen = ""
        if self._spur:
            chosen = said("Spur {name} chosen. ").format(name=self._strip.spur(self._spur).name)
        elif self._chosen is not None:
            chosen = layout.chosen_words(self._strip, *self._chosen)
        self.setAccessibleDescription(
            chosen + layout.in_words(self._strip, self._source[0], self._strip.split)
        )

    def choose_spur(self, number: int) -> None:
        """Mark a spur as what is open; 0 for none."""
        if number == self._spur and not (number and self._inside):
            return
        self._spur = number
        if number:
            self._inside = 0
        self._lay_out()
        self._describe()
        for lane in self._layout.lanes:
            if lane.branch == number:
                self.followed.emit(int(lane.start), int(lane.y))

    def mark(self, view: str) -> None:
        """Mark the source or the output as what is open."""
        self._open = view
        self._repaint_soon()

    def _repaint_soon(self) -> None:
        """After what else an edit repaints, which Qt paints within 5 ms: all in one look would take too long."""
        if not self._soon.isActive():
            self._soon.start()

    def show_levels(self, upper_db: float, lower_db: float) -> None:
        """Levels of the legs, 30 times a second; repaints only what changed visibly."""
        for leg, level in zip(LEGS, (upper_db, lower_db), strict=True):
            old, new = self._levels[leg], level
            if int(old * 2) != int(new * 2):
                self._levels[leg] = new
                self.update(self._line_box(leg))

    def show_loudness(self, upper: str, lower: str) -> None:
        """A figure in words beside the name of each leg."""
        words = {"upper": upper, "lower": lower}
        if words != self._loudness:
            self._loudness = words
            self._repaint_soon()

    # Geometry

    @property
    def _split_x(self) -> float:
        return layout.SPLIT_X

    @property
    def _join_x(self) -> float:
        return self._layout.join_x

    def stone_centre(self, stage: int, leg: LegName) -> QPointF:
        """Where the stone of a stage's side lies. Raises LookupError if it is not on the map."""
        stone = self._layout.stone(stage, leg)
        if stone is None:
            raise LookupError(f"stage {stage} is not shown")
        return QPointF(stone.x, stone.y)

    def plus_centre(self, leg: LegName, branch: int = tree.LEGS_BRANCH) -> QPointF:
        """Where the place to add a stage is. Raises LookupError if it is not on the map."""
        for plus in self._layout.pluses:
            if plus.branch == branch and (branch != tree.LEGS_BRANCH or plus.leg == leg):
                return QPointF(plus.x, plus.y)
        raise LookupError(f"branch {branch} is not shown")

    def lane_centre(self, branch: int) -> QPointF:
        """Where the name of a lane is."""
        return self._name_box(next(lane for lane in self._layout.lanes if lane.branch == branch)).center()

    def split_centre(self) -> QPointF:
        return QPointF(self._split_x, self._layout.middle)

    def new_spur_centre(self) -> QPointF:
        """Where the place to add a spur is."""
        return self._new_spur_box().center()

    def _new_spur_box(self) -> QRectF:
        return QRectF(self._layout.join_x + 46.0, self._layout.middle + 42.0, 122.0, 22.0)

    def _crumb_box(self) -> QRectF:
        return QRectF(8.0, 4.0, self.width() - 16.0, 22.0)

    def _name_box(self, lane: layout.Lane) -> QRectF:
        return QRectF(lane.start, lane.y - 17.0, 92.0, 17.0)

    def _line_box(self, leg: LegName):
        """Where the line of a leg runs, with its ends that part from the middle and come back to it."""
        y, middle = self._layout.legs.get(leg, -100.0), self._layout.middle
        top, bottom = min(y, middle) - 6, max(y, middle) + 6
        return QRectF(self._split_x, top, self._join_x - self._split_x, bottom - top).toAlignedRect()

    def _source_box(self) -> QRectF:
        return QRectF(12, self._layout.middle - 36, 118, 72)

    def _output_box(self) -> QRectF:
        return QRectF(self.width() - 134, self._layout.middle - 36, 122, 72)

    # Painting
