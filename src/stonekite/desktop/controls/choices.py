"""Words to choose from, switches, and words that only tell."""

from functools import partial
from typing import Any

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QAbstractButton, QMenu, QSizePolicy, QWidget

from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.ride_sign import WIDTH, add_ride, add_tie, paint_ride
from stonekite.desktop.controls.theme import faded, font, restyled, roles
from stonekite.stages.settings import Setting
from stonekite.words import said


class _Words(QWidget):
    """One of several words. `chosen` gives the value of the word."""

    chosen = Signal(object)

    def __init__(self, words: dict[Any, str], value: Any, name: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self._words = dict(words)
        self._value = value
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    @property
    def value(self) -> Any:
        return self._value

    def show_value(self, value: Any) -> None:
        """Show a choice without saying that it was made."""
        if value == self._value and self.accessibleDescription():
            return
        self._value = value
        self.setAccessibleDescription(self._words.get(value, ""))
        self.update()

    def _choose(self, value: Any) -> None:
        if value != self._value:
            self.show_value(value)
            self.chosen.emit(value)


class Segments(_Words):
    """A few words, side by side. What `rides` can be asked to move over the recording."""

    ride_asked = Signal()

    def __init__(
        self,
        words: dict[Any, str],
        name: str,
        help: str = "",
        parent: QWidget | None = None,
        rides: bool = False,
    ) -> None:
        super().__init__(words, next(iter(words)), name, parent)
        self._rides, self._ridden = rides, False
        self._colours: dict[Any, Any] = {}
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setToolTip(help or name)

    def set_words(self, words: dict[Any, str], colours: dict[Any, Any] | None = None) -> None:
        """Other words for choices, with a component colour for each where given."""
        if (words, colours or {}) == (self._words, self._colours):
            return
        self._words, self._colours = dict(words), colours or {}
        self.setMinimumWidth(self.sizeHint().width())  # a page that is not shown yet does not ask again
        self.update()

    def set_ridden(self, ridden: bool) -> None:
        """Say whether it moves over the recording."""
        self._ridden = ridden
        self.setAccessibleDescription(said("rides") if ridden else "")

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if not self._rides:
            return super().contextMenuEvent(event)
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        add_ride(menu, self._ridden, self.ride_asked.emit)
        menu.popup(event.globalPos())

    def _widths(self) -> list[int]:
        metrics = self.fontMetrics()
        return [max(36, metrics.horizontalAdvance(word) + 18) for word in self._words.values()]

    def sizeHint(self) -> QSize:
        return QSize(sum(self._widths()), 24)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def cell(self, value: Any) -> QRectF:
        """Where the word of a value stands."""
        left = 0.0
        for key, width in zip(self._words, self._widths(), strict=True):
            if key == value:
                return QRectF(left, 0, width, self.height())
            left += width
        raise KeyError(value)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        whole = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(
            QPen(faded(roles.chalk, 0.7), 1, Qt.PenStyle.DotLine) if self.hasFocus() else Qt.PenStyle.NoPen
        )
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(whole, 12, 12)
        for key, word in self._words.items():
            cell = self.cell(key).adjusted(1, 1, -1, -1)
            if key == self._value:
                colour = self._colours.get(key)
                painter.setPen(QPen(colour or roles.muted, 1))
                painter.setBrush(faded(colour, 0.22) if colour else roles.raised)
                painter.drawRoundedRect(cell, 11, 11)
                painter.setPen(roles.chalk)
                painter.setFont(font(9, bold=True))
            else:
                painter.setPen(roles.muted)
                painter.setFont(font(9))
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, word)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for key in self._words:
            if self.cell(key).contains(event.position()):
                self._choose(key)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys = list(self._words)
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self._choose(keys[(keys.index(self._value) + step) % len(keys)])


class Choice(_Words):
    """Room for only one word: a label above it, and the others in a menu."""

    def __init__(self, setting: Setting, owner: str = "", parent: QWidget | None = None) -> None:
        assert setting.words is not None
        super().__init__(setting.words, setting.default, f"{owner} {setting.label}".strip(), parent)
        self._label = setting.label
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            said(
                "{label}: {help}.\nClick for all: {names}. Arrow keys and the wheel go from one to the next."
            ).format(label=setting.label, help=setting.help, names=", ".join(self._words.values()))
        )

    def sizeHint(self) -> QSize:
        metrics = self.fontMetrics()
        words = max(metrics.horizontalAdvance(word) for word in self._words.values()) + 30
        return QSize(max(words, int(metrics.horizontalAdvance(self._label) * 0.95) + 6), 38)

    minimumSizeHint = sizeHint

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(8.5))
        painter.setPen(roles.muted)
        painter.drawText(QRectF(2, 0, self.width() - 4, 16), Qt.AlignmentFlag.AlignLeft, self._label)
        box = QRectF(0.5, 16.5, self.width() - 1, 20)
        painter.setPen(QPen(roles.chalk if self.hasFocus() else roles.line, 1))
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(box, 9.5, 9.5)
        ink = roles.chalk if self.isEnabled() else roles.muted
        painter.setPen(ink)
        painter.setFont(font(9))
        inner = box.adjusted(9, 0, -16, 0)
        painter.drawText(
            inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self._words[self._value]
        )
        x, y = box.right() - 10, box.center().y()
        painter.setPen(QPen(ink, 1.2))
        painter.drawPolyline([QPointF(x - 3, y - 1.5), QPointF(x, y + 1.5), QPointF(x + 3, y - 1.5)])

    def open_menu(self) -> QMenu:
        """Show all words."""
        menu = QMenu(self)
        for value, word in self._words.items():
            action = menu.addAction(word, partial(self._choose, value))
            action.setCheckable(True)
            action.setChecked(value == self._value)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.mapToGlobal(self.rect().bottomLeft()))
        return menu

    def _step(self, steps: int) -> None:
        keys = list(self._words)
        place = min(len(keys) - 1, max(0, keys.index(self._value) + steps))
        self._choose(keys[place])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.open_menu()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._step(1 if event.angleDelta().y() > 0 else -1)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Up: 1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Down: -1,
            Qt.Key.Key_Left: -1,
        }.get(Qt.Key(event.key()))
        if steps is not None:
            self._step(steps)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.open_menu()
        else:
            super().keyPressEvent(event)


class Toggle(QAbstractButton):
    """A small word that is on or off: filled when it is on. One that `rides` can be asked to move over the recording, one
    that is linked with the other leg's to be so no more, or again."""

    ride_asked = Signal()
    tie_asked = Signal(bool)

    def __init__(
        self, word: str, name: str, help: str, parent: QWidget | None = None, rides: bool = False
    ) -> None:
        super().__init__(parent)
        self.rides, self._ridden = rides, False
        self._tied: bool | None = None
        self.setText(word)
        self.setCheckable(True)
        self.setAccessibleName(name)
        self.setToolTip(help)
        self._colour = roles.chalk
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def set_colour(self, colour) -> None:
        if colour != self._colour:
            self._colour = colour
            self.update()

    def set_tied(self, tied: bool | None) -> None:
        """Whether it is linked with the other leg's; None where nothing is linked."""
        self._tied = tied

    def set_ridden(self, ridden: bool) -> None:
        """Mark the switch as one that moves over the recording."""
        if ridden != self._ridden:
            self._ridden = ridden
            self.setAccessibleDescription(said("rides") if ridden else "")
            self.updateGeometry()
            self.update()

    def sizeHint(self) -> QSize:
        sign = WIDTH if self._ridden else 0
        return QSize(self.fontMetrics().horizontalAdvance(self.text()) + 18 + sign, 20)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if not self.rides and self._tied is None:
            return super().contextMenuEvent(event)
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        if self._tied is not None:
            add_tie(menu, self._tied, self.tie_asked.emit)
        if self.rides:
            add_ride(menu, self._ridden, self.ride_asked.emit)
        menu.popup(event.globalPos())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        if self._ridden:
            paint_ride(painter, 0.0, box.center().y())
            box.setLeft(box.left() + WIDTH)
        on = self.isChecked()
        border = roles.chalk if self.hasFocus() else (self._colour if on else roles.line)
        painter.setPen(QPen(border, 1))
        painter.setBrush(self._colour if on else roles.ground)
        painter.drawRoundedRect(box, 9.5, 9.5)
        painter.setPen(roles.ground if on else (roles.muted if self.isEnabled() else roles.line))
        painter.setFont(font(8.5, bold=on))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self.text())


class Words(Label):
    """One line of words that never makes the window wider: what does not fit is elided and in the tooltip."""

    def __init__(self, align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft) -> None:
        super().__init__()
        self.setObjectName("muted")
        self.setAlignment(align | Qt.AlignmentFlag.AlignVCenter)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)

    def minimumSizeHint(self) -> QSize:
        return QSize(40, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(roles.muted)
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideMiddle, self.width())
        painter.drawText(QRectF(self.rect()), self.alignment(), text)


class Tinted(Label):
    """Bold words in the colour of a role, in whatever theme."""

    def __init__(self, words: str, role: str) -> None:
        super().__init__(words)
        self._role = role
        restyled.changed.connect(self._tint)
        self._tint()

    def _tint(self) -> None:
        self.setStyleSheet(f"color: {getattr(roles, self._role).name()}; font-weight: bold;")
