"""Colours, fonts and the style sheet. Widgets ask for roles, never for colours of their own."""

from dataclasses import dataclass, fields
from functools import cache, lru_cache
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette, QPixmap
from PySide6.QtWidgets import QApplication, QWidget

ASSETS = Path(__file__).with_name("assets")
FONT = "B612"


@dataclass(frozen=True)
class Roles:
    """The colours of a theme, by what they are for."""

    ground: QColor
    panel: QColor
    raised: QColor
    line: QColor
    chalk: QColor
    muted: QColor
    left: QColor
    right: QColor
    mid: QColor
    side: QColor
    warning: QColor
    fault: QColor

    def component(self, name: str) -> QColor:
        """The colour of left, right, mid or side; they stand for nothing else. What carries both legs is chalk."""
        return self.chalk if name == "both" else getattr(self, name)


SLATE = Roles(
    ground=QColor("#1E2427"),
    panel=QColor("#262D31"),
    raised=QColor("#313A3F"),
    line=QColor("#414C52"),
    chalk=QColor("#ECE7DB"),
    muted=QColor("#97A1A5"),
    left=QColor("#6CC5B6"),
    right=QColor("#E88F74"),
    mid=QColor("#E6C868"),
    side=QColor("#AD9FE8"),
    warning=QColor("#F0B24A"),
    fault=QColor("#E5604D"),
)

LIMESTONE = Roles(
    ground=QColor("#EFEBE1"),
    panel=QColor("#F9F6EF"),
    raised=QColor("#E4DDCF"),
    line=QColor("#C8C0B0"),
    chalk=QColor("#23292D"),
    muted=QColor("#5F696E"),
    left=QColor("#1B7768"),
    right=QColor("#AD4A2A"),
    mid=QColor("#806200"),
    side=QColor("#6450B2"),
    warning=QColor("#9A5B00"),
    fault=QColor("#B3261E"),
)
THEMES = {"dark": SLATE, "light": LIMESTONE}
"""Chalk on slate; ink on limestone."""

roles = Roles(**{field.name: QColor(getattr(SLATE, field.name)) for field in fields(Roles)})
"""The colours in use. They are changed in place, so that everything that holds one holds the new one."""


class _Restyled(QObject):
    """`changed` says that the colours are other ones: what was painted before has to be painted again."""

    changed = Signal()


restyled = _Restyled()


def faded(colour: QColor, alpha: float) -> QColor:
    """The colour with an opacity of 0 to 1."""
    other = QColor(colour)
    other.setAlphaF(alpha)
    return other


def mixed(colour: QColor, ground: QColor, share: float) -> QColor:
    """An opaque colour: `share` of one and the rest of the other (cheaper to paint than a faded one)."""
    return _mixed(colour.rgb(), ground.rgb(), share)


@lru_cache(maxsize=1024)
def _mixed(colour: int, ground: int, share: float) -> QColor:
    """Of colours as numbers; asked for many times in each look."""
    parts = [
        share * a + (1 - share) * b for a, b in zip(rgb(QColor(colour)), rgb(QColor(ground)), strict=True)
    ]
    return QColor(*(round(p) for p in parts))


def rgb(colour: QColor) -> tuple[int, int, int]:
    """Red, green and blue, 0 to 255."""
    return colour.red(), colour.green(), colour.blue()


@cache
def font(size: float = 10.0, bold: bool = False) -> QFont:
    """The interface's font at a size in points; asked for at every word that is painted, and never changed."""
    made = QFont(FONT)
    made.setPointSizeF(size)
    made.setBold(bold)
    return made


def _sheet(r: Roles) -> str:
    return f"""
    QWidget {{ color: {r.chalk.name()}; font-family: "{FONT}"; font-size: 9pt; }}
    QMainWindow, QDialog, QMessageBox {{ background: {r.ground.name()}; }}
    QToolTip {{ background: {r.raised.name()}; color: {r.chalk.name()}; border: 1px solid {r.line.name()};
        padding: 4px; }}
    QFrame#header {{ background: {r.panel.name()}; }}
    QFrame#panel {{ background: {r.panel.name()}; border-radius: 7px; }}
    QLabel#muted {{ color: {r.muted.name()}; }}
    QLabel#title {{ font-weight: bold; font-size: 11pt; }}
    QMenuBar {{ background: transparent; spacing: 6px; padding: 2px 6px; }}
    QMenuBar::item {{ padding: 4px 9px; border-radius: 4px; background: transparent; }}
    QMenuBar::item:selected, QMenuBar::item:pressed {{ background: {r.raised.name()}; }}
    QMenu {{ background: {r.raised.name()}; border: 1px solid {r.line.name()}; padding: 4px; }}
    QMenu::item {{ padding: 5px 22px 5px 22px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {r.line.name()}; }}
    QMenu::item:disabled {{ color: {r.muted.name()}; }}
    QMenu::separator {{ height: 1px; background: {r.line.name()}; margin: 4px 8px; }}
    QMenu::indicator {{ width: 12px; height: 12px; left: 6px; }}
    QPushButton {{ background: {r.ground.name()}; border: 1px solid {r.line.name()}; border-radius: 13px;
        padding: 4px 14px; min-height: 16px; }}
    QPushButton:hover {{ border-color: {r.muted.name()}; }}
    QPushButton:focus {{ border-color: {r.chalk.name()}; }}
    QPushButton:checked, QPushButton:default {{ background: {r.chalk.name()}; color: {r.ground.name()};
        font-weight: bold; }}
    QPushButton:disabled {{ color: {r.muted.name()}; border-color: {r.raised.name()}; }}
    QPushButton#small {{ padding: 1px 8px; border-radius: 9px; min-height: 15px; font-size: 8pt; }}
    QLineEdit, QSpinBox {{ background: {r.ground.name()}; border: 1px solid {r.line.name()};
        border-radius: 4px; padding: 2px 6px; selection-background-color: {r.muted.name()}; }}
    QLineEdit:focus {{ border-color: {r.chalk.name()}; }}
    QListWidget {{ background: {r.ground.name()}; border: 1px solid {r.line.name()}; border-radius: 6px;
        padding: 4px; outline: none; }}
    QListWidget::item {{ padding: 5px 8px; border-radius: 4px; }}
    QListWidget::item:selected {{ background: {r.raised.name()}; color: {r.chalk.name()}; }}
    QProgressBar {{ background: {r.ground.name()}; border: 1px solid {r.line.name()}; border-radius: 5px;
        text-align: center; height: 14px; }}
    QProgressBar::chunk {{ background: {r.muted.name()}; border-radius: 4px; }}
    QRadioButton, QCheckBox {{ spacing: 7px; padding: 2px; }}
    QRadioButton::indicator, QCheckBox::indicator {{ width: 13px; height: 13px; border-radius: 7px;
        border: 1px solid {r.muted.name()}; background: {r.ground.name()}; }}
    QCheckBox::indicator {{ border-radius: 3px; }}
    QRadioButton::indicator:checked, QCheckBox::indicator:checked {{ background: {r.chalk.name()}; }}
    QRadioButton:focus, QCheckBox:focus {{ border: 1px dotted {r.muted.name()}; border-radius: 4px; }}
    QRadioButton:disabled, QCheckBox:disabled {{ color: {r.muted.name()}; }}
    QScrollBar:horizontal {{ background: {r.ground.name()}; height: 8px; border-radius: 4px; }}
    QScrollBar::handle:horizontal {{ background: {r.line.name()}; border-radius: 4px; min-width: 24px; }}
    QScrollBar:vertical {{ background: {r.ground.name()}; width: 8px; border-radius: 4px; }}
    QScrollBar::handle:vertical {{ background: {r.line.name()}; border-radius: 4px; min-height: 24px; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    """


def apply(application: QApplication, name: str = "dark") -> None:
    """Load the fonts that ship with Stone Kite and dress the application in a theme."""
    for field in fields(Roles):
        getattr(roles, field.name).setRgba(getattr(THEMES[name], field.name).rgba())
    for path in sorted(ASSETS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(path))
    application.setStyle("Fusion")
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, roles.ground),
        (QPalette.ColorRole.Base, roles.ground),
        (QPalette.ColorRole.AlternateBase, roles.panel),
        (QPalette.ColorRole.Button, roles.panel),
        (QPalette.ColorRole.WindowText, roles.chalk),
        (QPalette.ColorRole.Text, roles.chalk),
        (QPalette.ColorRole.ButtonText, roles.chalk),
        (QPalette.ColorRole.ToolTipBase, roles.raised),
        (QPalette.ColorRole.ToolTipText, roles.chalk),
        (QPalette.ColorRole.Highlight, roles.line),
        (QPalette.ColorRole.HighlightedText, roles.chalk),
        (QPalette.ColorRole.PlaceholderText, roles.muted),
    ):
        palette.setColor(role, colour)
    application.setPalette(palette)
    application.setFont(font())
    application.setStyleSheet(_sheet(roles))
    application.setWindowIcon(QIcon(str(ASSETS / "stonekite.svg")))
    restyled.changed.emit()


def canvas(widget: QWidget, ground: QColor | Qt.GlobalColor) -> QPixmap:
    """A pixmap as large and as fine as a widget, for what is painted once and shown often, until `restyled`."""
    ratio = widget.devicePixelRatioF()
    pixmap = QPixmap(widget.size() * ratio)
    pixmap.setDevicePixelRatio(ratio)
    pixmap.fill(ground)
    return pixmap


def dress(widget: QWidget, sheet: str) -> None:
    """Give a widget a style sheet of its own; one that it has already is not read again, which takes 0.3 ms."""
    if widget.styleSheet() != sheet:
        widget.setStyleSheet(sheet)
