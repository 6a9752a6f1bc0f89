"""The table of measures in the Compare view: before, after, the change, and all others that there are."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QSizePolicy,
    QWidget,
)

from stonekite.desktop.controls.hovering import help_by
from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.measure.measures import Measures
from stonekite.reports.table import ROWS, Row
from stonekite.words import NAMES, said

_ROW, _HEAD, _GAP = 19.0, 24.0, 9.0
_APART = 5.0
"""Between a label and the first figure beside it, at the least."""
_GROUPS = {word: name for name, word in NAMES.items()}


class FigureTable(QWidget):
    """Rows of measures; columns: before, after, the change, and all others that there are."""

    def __init__(self) -> None:
        super().__init__()
        self._columns: list[tuple[str, Measures | None]] = []
        self._hover = -1
        self.setMouseTracking(True)
        help_by(self, self._help_at)
        self.setAccessibleName(said("Measures"))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._places: list[tuple[float, Row | str]] = []
        y, group = 4.0, ""
        for row in ROWS:
            if row.group != group:
                group = row.group
                y += _GAP if self._places else 0
                self._places.append((y, group))
                y += _HEAD
            self._places.append((y, row))
            y += _ROW
        self.setFixedHeight(int(y + 8))

    def show_columns(self, columns: list[tuple[str, Measures | None]]) -> None:
        """Names and measures, as far as they are known: before, after, then the others."""
        self._columns = columns
        self.setAccessibleDescription(
            "; ".join(
                f"{row.label.strip()} {', '.join(self._texts(row))}"
                for _, row in self._places
                if isinstance(row, Row)
            )
        )
        self.update()

    def _texts(self, row: Row) -> list[str]:
        """Before, after, change, and the others."""
        values = [None if found is None else row.value(found) for _, found in self._columns]
        texts = [
            "…" if found is None else row.text(v) for (_, found), v in zip(self._columns, values, strict=True)
        ]
        if len(values) > 1:
            texts.insert(2, row.change(values[0], values[1]))
        return texts

    def text_of(self, label: str) -> list[str]:
        """What a row shows."""
        return self._texts(next(row for row in ROWS if row.label.strip() == label))

    def _rights(self) -> list[float]:
        """Right edges of the columns."""
        count = len(self._columns) + 1
        wide = min(64.0, max(46.0, (self.width() - 128.0) / max(1, count)))
        return [self.width() - 8.0 - wide * (count - 1 - k) for k in range(count)]

    def headings(self) -> list[str]:
        names = [name for name, _ in self._columns]
        return [*names[:2], said("change"), *names[2:]]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        rights = self._rights()
        seen = event.rect()
        for k, (y, what) in enumerate(self._places):
            if y + _HEAD < seen.top() or y > seen.bottom():
                continue
            if isinstance(what, str):
                colour = roles.component(_GROUPS[what]) if what in _GROUPS else roles.chalk
                painter.setPen(colour)
                painter.setFont(font(9, bold=True))
                painter.drawText(QRectF(8, y, self.width(), _HEAD - 4), Qt.AlignmentFlag.AlignLeft, what)
                painter.setPen(QPen(roles.line, 1))
                painter.drawLine(QPointF(8, y + _HEAD - 4), QPointF(self.width() - 8, y + _HEAD - 4))
                continue
            if k == self._hover:
                painter.fillRect(QRectF(4, y, self.width() - 8, _ROW), mixed(roles.raised, roles.panel, 0.7))
            painter.setFont(font(8.5))
            painter.setPen(roles.muted)
            indent = 8 + 10 * what.label.startswith(" ")
            texts = self._texts(what)
            first = rights[0] - painter.fontMetrics().horizontalAdvance(texts[0] if texts else "")
            label = f"{what.label.strip()}, {what.unit}" if what.unit else what.label.strip()
            room = QRectF(indent, y, first - indent - _APART, _ROW)
            label = painter.fontMetrics().elidedText(label, Qt.TextElideMode.ElideMiddle, int(room.width()))
            painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, label)
            for place, (right, text) in enumerate(zip(rights, texts, strict=False)):
                painter.setFont(font(8.5, bold=place == 1))
                painter.setPen(roles.chalk if place in (1, 2) else roles.muted)
                box = QRectF(right - 70, y, 70, _ROW)
                painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

    def sizeHint(self) -> QSize:
        return QSize(330, self.height())

    def _row_at(self, y: float) -> int:
        places = [
            k for k, (top, what) in enumerate(self._places) if isinstance(what, Row) and top <= y < top + _ROW
        ]
        return places[0] if places else -1

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        hover = self._row_at(event.position().y())
        if hover != self._hover:
            self._hover = hover
            self.update()

    def leaveEvent(self, event) -> None:
        self._hover = -1
        self.update()

    def _help_at(self, where: QPointF) -> str:
        place = self._row_at(where.y())
        row = self._places[place][1] if place >= 0 else None
        if not isinstance(row, Row):
            return ""
        return f"{row.label.strip()}: {row.help}{(said(', in {unit}').format(unit=row.unit) if row.unit else '')}"


class TableHead(QWidget):
    """The names of the columns, above the rows that scroll."""

    def __init__(self, table: FigureTable) -> None:
        super().__init__()
        self._table = table
        self.setFixedHeight(20)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        for place, (right, name) in enumerate(
            zip(self._table._rights(), self._table.headings(), strict=False)
        ):
            painter.setFont(font(8.5, bold=place == 1))
            painter.setPen(roles.chalk if place == 1 else roles.muted)
            painter.drawText(QRectF(right - 70, 0, 70, 18), Qt.AlignmentFlag.AlignRight, name)
