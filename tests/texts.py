"""Texts against their room: what a window's widgets paint is looked at while they paint it."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractButton, QLabel, QWidget

from stonekite.desktop.controls.choices import Toggle, Words

NEAR = 2.0
"""Texts may come so near to each other, and reach so far beyond their room, in pixels."""


@contextmanager
def watched() -> Iterator[list[str]]:
    """What is wrong with the texts that are painted meanwhile, in words: cut off, or over another one of the same widget."""
    wrong: list[str] = []
    painted: dict[int, list[tuple[QRectF, str]]] = {}
    draw, end = QPainter.drawText, QPainter.end

    def drawn(painter: QPainter, *given: Any) -> Any:
        rect = given[0] if given and hasattr(given[0], "width") else None
        text = next((one for one in given if isinstance(one, str)), "")
        if rect is not None and text.strip():
            flags = next((one for one in given[1:] if not isinstance(one, str)), Qt.AlignmentFlag.AlignLeft)
            metrics = painter.fontMetrics()
            room = QRectF(rect)
            wide = max(metrics.horizontalAdvance(line) for line in text.split("\n"))
            wraps = int(getattr(flags, "value", flags)) & int(Qt.TextFlag.TextWordWrap.value)
            name = f"{type(painter.device()).__name__}"
            if wide > room.width() + NEAR and not wraps:
                wrong.append(f"{name}: “{text}” is {wide:.0f} wide in {room.width():.0f}")
            if not wraps:
                place = painter.worldTransform().mapRect(
                    QRectF(painter.boundingRect(room, int(getattr(flags, "value", flags)), text))
                )
                device = id(painter.device())
                for other, before in painted.setdefault(device, []):
                    both = place.intersected(other)
                    marks = min(len(before), len(text)) <= 2  # of handles, which may stand on one another
                    if before != text and not marks and both.width() > NEAR and both.height() > 4.0:
                        wrong.append(f"{name}: “{text}” over “{before}”")
                painted[device].append((place, text))
        return draw(painter, *given)

    def ended(painter: QPainter) -> bool:
        painted.pop(id(painter.device()), None)
        return end(painter)

    QPainter.drawText, QPainter.end = drawn, ended  # type: ignore[method-assign]
    try:
        yield wrong
    finally:
        QPainter.drawText, QPainter.end = draw, end  # type: ignore[method-assign]


def cut_off(root: QWidget) -> list[str]:
    """Labels and buttons that are narrower than what stands on them."""
    found = []
    for one in root.findChildren(QWidget):
        if not one.isVisible() or not isinstance(one, QLabel | QAbstractButton) or not one.text():
            continue
        if isinstance(one, Toggle | Words):  # these paint their text themselves
            continue
        wraps = isinstance(one, QLabel) and one.wordWrap()
        if not wraps and one.width() + NEAR < one.sizeHint().width():
            found.append(f"“{one.text()}” is {one.sizeHint().width()} wide in {one.width()}")
    return found
