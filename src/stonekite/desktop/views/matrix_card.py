"""One matrix to choose: how much room Mid and Side have with it, in a file of the chosen samples."""

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QSizePolicy

from stonekite.desktop.controls.theme import font, mixed, roles
from stonekite.files.audio import Bits
from stonekite.measure.headroom import Survey
from stonekite.signal.matrix import Matrix
from stonekite.words import NAMES, figure, said

FORMULAS: dict[Matrix, str] = {
    "half-sum": "M=(L+R)/2  S=(L−R)/2",
    "equal-power": said("both by 1/√2"),
    "raised-side": "M=(L+R)/2  S=L−R",
}
_FLOOR_DB = -48.0
_ROWS = ("mid", "side")


def room(survey: Survey, row: int, matrix: Matrix, bits: Bits, trim_db: float) -> str:
    """How much room Mid (row 0) or Side (1) has under a matrix, in words."""
    peak = survey.peak_db(row, matrix) + trim_db
    if peak < -199.0:
        return said("silent")
    if not survey.fits(row, matrix, bits, trim_db):
        return said("over by {db}").format(db=figure(max(peak, 0.01), "dB", 1 if peak >= 0.05 else 2))
    if peak > 0.0:
        return said("{db} over, floats hold it").format(db=figure(peak, "dB"))
    return said("{db} of room").format(db=figure(-peak, "dB"))


class MatrixCard(QAbstractButton):
    """A matrix, its formula, and a bar for each component up to full scale."""

    def __init__(self, matrix: Matrix, word: str) -> None:
        super().__init__()
        self.matrix: Matrix = matrix
        self.setText(word)
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setAccessibleName(word)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(54)
        self._survey: Survey | None = None
        self._bits: Bits = "24"
        self._trims = (0.0, 0.0)

    def sizeHint(self) -> QSize:
        return QSize(330, 66)

    def show_survey(self, survey: Survey | None, bits: Bits, trims: tuple[float, float]) -> None:
        """Show the room in files of such samples, of what was surveyed; None: nothing is known yet."""
        self._survey, self._bits, self._trims = survey, bits, trims
        words = [f"{NAMES[name]}: {self.words(row)}" for row, name in enumerate(_ROWS)]
        self.setAccessibleDescription("; ".join(words))
        self.setToolTip(
            said("{name}, {formula}. {words}").format(
                name=self.text(), formula=FORMULAS[self.matrix], words="; ".join(words)
            )
        )
        self.update()

    def words(self, row: int) -> str:
        """The room of Mid (0) or Side (1) in words."""
        trim = self._trims[row]
        return "…" if self._survey is None else room(self._survey, row, self.matrix, self._bits, trim)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        whole = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        chosen = self.isChecked()
        border = roles.chalk if chosen else (roles.muted if self.hasFocus() else roles.line)
        painter.setPen(QPen(border, 1.2 if chosen else 1))
        painter.setBrush(roles.ground)
        painter.drawRoundedRect(whole, 5, 5)
        if self.hasFocus():
            painter.setPen(QPen(roles.muted, 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(whole.adjusted(2.5, 2.5, -2.5, -2.5), 4, 4)
        inner = whole.adjusted(10, 4, -10, -4)
        pitch = inner.height() / 3
        painter.setPen(roles.chalk)
        painter.setFont(font(9, bold=True))
        line = QRectF(inner.left(), inner.top(), inner.width(), pitch)
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.text())
        painter.setPen(roles.muted)
        painter.setFont(font(8.5))
        painter.drawText(
            line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, FORMULAS[self.matrix]
        )
        for row, name in enumerate(_ROWS):
            self._paint_bar(
                painter,
                QRectF(inner.left(), inner.top() + (row + 1) * pitch, inner.width(), pitch),
                row,
                name,
            )

    def _paint_bar(self, painter: QPainter, line: QRectF, row: int, name: str) -> None:
        survey = self._survey
        painter.setPen(roles.component(name))
        painter.setFont(font(8.5, bold=True))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, NAMES[name])
        words, wide = self.words(row), 148.0
        bar = QRectF(line.left() + 36, line.center().y() - 3, line.width() - 36 - wide, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(mixed(roles.line, roles.ground, 0.6))
        painter.drawRoundedRect(bar, 3, 3)
        over = False
        if survey is not None:
            peak = survey.peak_db(row, self.matrix) + self._trims[row]
            over = not survey.fits(row, self.matrix, self._bits, self._trims[row])
            share = max(0.0, min(1.0, 1 - peak / _FLOOR_DB)) if peak < 0 else 1.0
            painter.setBrush(roles.fault if over else roles.component(name))
            if share > 0.01:
                painter.drawRoundedRect(QRectF(bar.left(), bar.top(), bar.width() * share, 6), 3, 3)
        painter.setPen(roles.fault if over else roles.muted)
        painter.setFont(font(8.5))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
