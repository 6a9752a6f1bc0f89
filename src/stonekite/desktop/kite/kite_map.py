"""The kite map: the signal path, and the way around in it."""

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QWidget

from stonekite.desktop.controls.hovering import help_by
from stonekite.desktop.kite import layout
from stonekite.desktop.kite.kite_picture import KitePicture
from stonekite.desktop.kite.kite_places import Hit
from stonekite.desktop.kite.stones import stone_path
from stonekite.session import tree
from stonekite.session.types import LegName
from stonekite.stages.registry import KINDS, kind_of, label_of
from stonekite.words import NAMES, said


class KiteMap(KitePicture):
    """Draws a strip, or what stands inside one of its stages, and tells what is clicked.

    Stages are chosen by click, arrow keys and Enter; a double-click or Enter goes into one that has branches, Escape out.
    """

    stone_chosen = Signal(int, str)
    spur_chosen = Signal(int)
    spur_asked = Signal()
    spur_removed = Signal(int)
    add_asked = Signal(str, int)
    split_asked = Signal(QPointF)
    source_asked = Signal()
    output_asked = Signal()
    stone_menu_asked = Signal(int, str, QPointF)
    spur_menu_asked = Signal(int, QPointF)
    stone_moved = Signal(int, int, int)
    stone_dropped = Signal(int, str)
    stone_removed = Signal(int)

    def leave(self) -> None:
        """Go one step out, to where the stage stands whose branches are shown."""
        stage, leg = self._inside, self._chosen[1] if self._chosen else "upper"
        home = tree.home(self._strip, stage).branch
        above = tree.above(self._strip, home) if home else []
        self.enter(above[-1][1] if above else 0)
        self.stone_chosen.emit(stage, leg)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        help_by(self, self._help_at)

    def _hit(self, point: QPointF) -> Hit | None:
        for stone in self._layout.stones:
            path = stone_path(QPointF(stone.x, stone.y), stone.stage.id, stone.scale)
            if path.contains(point):
                return Hit("stone", stone.stage.id, stone.leg, stone.branch)
        for plus in self._layout.pluses:
            if (point - QPointF(plus.x, plus.y)).manhattanLength() < plus.radius + 9:
                return Hit("plus", leg=plus.leg, branch=plus.branch)
        for lane in self._layout.lanes:
            if self._name_box(lane).contains(point) or QRectF(lane.end - 76, lane.y - 17, 76, 17).contains(
                point
            ):
                return Hit("lane", branch=lane.branch)
        if self._inside:
            return Hit("out") if self._crumb_box().contains(point) else None
        if (point - self.split_centre()).manhattanLength() < 30:
            return Hit("split")
        if self._source_box().contains(point):
            return Hit("source")
        if self._output_box().contains(point):
            return Hit("output")
        if self._new_spur_box().contains(point):
            return Hit("new spur")
        return None

    # Mouse and keys

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is not None and self._press[1].what == "stone":
            if (event.position() - self._press[0]).manhattanLength() > 8 or self._drag is not None:
                self._drag = event.position()
                self.update()
            return
        hit = self._hit(event.position())
        if hit != self._hover:
            self._hover = hit
            self.setCursor(Qt.CursorShape.PointingHandCursor if hit else Qt.CursorShape.ArrowCursor)
            self.renew()

    def leaveEvent(self, event: QEvent) -> None:
        self._hover = None
        self.renew()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        hit = self._hit(event.position())
        if hit is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._press = (event.position(), hit)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        press, drag = self._press, self._drag
        self._press = self._drag = None
        self.update()
        if press is None:
            return
        hit = press[1]
        if hit.what == "stone" and self._layout.stone(hit.stage, hit.leg) is None:
            return  # it went while it was held
        if drag is not None and hit.what == "stone":
            self._drop(hit, drag)
        elif hit.what == "stone":
            self.stone_chosen.emit(hit.stage, hit.leg)
        elif hit.what == "plus":
            self.add_asked.emit(hit.leg, hit.branch)
        elif hit.what == "lane" and not self._inside:
            self.spur_chosen.emit(hit.branch)
        elif hit.what == "out":
            self.leave()
        elif hit.what == "new spur":
            self.spur_asked.emit()
        elif hit.what == "split":
            self.split_asked.emit(event.globalPosition())
        elif hit.what == "source":
            self.source_asked.emit()
        elif hit.what == "output":
            self.output_asked.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        hit = self._hit(event.position())
        if hit is not None and hit.what == "stone":
            self._go_in(hit.stage)

    def _go_in(self, number: int) -> bool:
        """Into a stage that has branches; whether it has."""
        _, stage = tree.find(self._strip, number)
        if kind_of(stage).branching is None:
            return False
        self.enter(number)
        return True

    def _drop(self, hit: Hit, where: QPointF) -> None:
        """Onto a row: there, at that place. Away from all of them: off this leg."""
        rows = self._layout.rows()
        branch, leg, y = min(rows, key=lambda row: abs(row[2] - where.y()))
        reach = 40.0 if branch == tree.LEGS_BRANCH else 0.5 * layout.LANE
        same_side = branch != tree.LEGS_BRANCH or hit.branch != tree.LEGS_BRANCH or leg == hit.leg
        if abs(y - where.y()) > reach or not same_side:
            self.stone_dropped.emit(hit.stage, hit.leg)
            return
        others = self._layout.along(branch, leg)
        if branch == hit.branch:
            ids = [stone.stage.id for stone in others]
            nearest = min(range(len(ids)), key=lambda k: abs(others[k].x - where.x()))
            if nearest != ids.index(hit.stage):
                self.stone_moved.emit(hit.stage, nearest, branch)
        else:
            self.stone_moved.emit(hit.stage, sum(stone.x < where.x() for stone in others), branch)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        hit = self._hit(QPointF(event.pos()))
        if hit is not None and hit.what == "stone":
            self.stone_menu_asked.emit(hit.stage, hit.leg, QPointF(event.globalPos()))
        elif hit is not None and hit.what == "lane" and not self._inside:
            self.spur_menu_asked.emit(hit.branch, QPointF(event.globalPos()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        along: dict[int, int] = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        across: dict[int, int] = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        branch, leg = self._row()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Insert):
            self.add_asked.emit(leg, branch)
        elif key in along:
            self._step_along(
                branch, leg, along[key], bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
            )
        elif key in across:
            self._step_across(branch, leg, across[key])
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._chosen is not None:
            self._go_in(self._chosen[0])
        elif key == Qt.Key.Key_Escape and self._inside:
            self.leave()
        elif key == Qt.Key.Key_Delete and self._spur:
            self.spur_removed.emit(self._spur)
        elif key == Qt.Key.Key_Delete and self._chosen is not None:
            self.stone_removed.emit(self._chosen[0])
        else:
            super().keyPressEvent(event)

    def _row(self) -> tuple[int, LegName]:
        """The row that the keys are in: that of the chosen spur or stone, otherwise the first one."""
        if self._spur:
            return self._spur, "upper"
        stone = self._layout.stone(*self._chosen) if self._chosen is not None else None
        if stone is not None:
            return stone.branch, stone.leg
        branch, leg, _ = self._layout.rows()[0] if self._inside else (tree.LEGS_BRANCH, "upper", 0.0)
        return branch, leg

    def _step_along(self, branch: int, leg: LegName, step: int, move: bool) -> None:
        """To the next stone of a row, or with the chosen one to the next place."""
        stones = self._layout.along(branch, leg)
        if not stones:
            return
        ids = [stone.stage.id for stone in stones]
        if self._chosen is None or self._chosen[0] not in ids:
            self.stone_chosen.emit(ids[0], stones[0].leg)
            return
        place = min(len(ids) - 1, max(0, ids.index(self._chosen[0]) + step))
        if move and ids[place] != self._chosen[0]:
            self.stone_moved.emit(self._chosen[0], place, branch)
        elif step < 0 and place == ids.index(self._chosen[0]) and branch and not self._inside:
            self.spur_chosen.emit(branch)
        else:
            self.stone_chosen.emit(ids[place], leg)

    def _step_across(self, branch: int, leg: LegName, step: int) -> None:
        """To the row above or below: its stone that is nearest, or the spur itself where it has none."""
        rows = self._layout.rows()
        here = next(k for k, row in enumerate(rows) if (row[0], row[1]) == (branch, leg))
        there = here + step
        if not 0 <= there < len(rows):
            return
        to_branch, to_leg, _ = rows[there]
        stones = self._layout.along(to_branch, to_leg)
        chosen = self._layout.stone(*self._chosen) if self._chosen is not None else None
        if stones:
            x = chosen.x if chosen is not None and not self._spur else 0.0
            nearest = min(stones, key=lambda stone: abs(stone.x - x))
            self.stone_chosen.emit(nearest.stage.id, nearest.leg if to_branch else to_leg)
        elif to_branch and not self._inside:
            self.spur_chosen.emit(to_branch)

    def _help_at(self, where: QPointF) -> str:
        hit = self._hit(where)
        return self._help(hit) if hit is not None else ""

    def _help(self, hit: Hit) -> str:
        if hit.what == "stone":
            _, stage = tree.find(self._strip, hit.stage)
            component = layout.component_of(self._strip, hit.branch, hit.leg)
            name = NAMES.get(component, said("both legs"))  # type: ignore[call-overload]
            if getattr(stage, hit.leg) is None:
                return said("{name} passes this {label} untouched. Click to put it on this leg.").format(
                    name=name, label=label_of(stage)
                )
            inside = "" if kind_of(stage).branching is None else said(" Double-click or Enter: go in.")
            return said(
                "{label} on {name}. Click: edit.{inside} Drag along: reorder (Alt+arrows), onto another path: "
                "there. Drag away: take off this leg. Delete: remove the stage."
            ).format(label=label_of(stage), name=name, inside=inside)
        split = self._strip.split
        return {
            "plus": said("Add a stage ({names}) at the end of this path (+)").format(
                names=", ".join(kind.label for kind in KINDS.values())
            ),
            "lane": said("A spur: click for its level, place and delay (Left from its first stone)")
            if not self._inside
            else said("A band: its level, mute and alone stand below"),
            "out": said("Go out (Escape)"),
            "new spur": said("A path beside the legs, with stages of its own (N)"),
            "split": said(
                "How the stereo signal is split: left/right, or mid/side with one of three matrices"
            )
            + (said(" (now {matrix})").format(matrix=split.matrix) if split.mode == "mid-side" else ""),
            "source": said("What arrived, and its intake (F5). Another recording: Ctrl+O"),
            "output": said("Where both sides of the result stand (F7). Export it: Ctrl+E"),
        }[hit.what]
