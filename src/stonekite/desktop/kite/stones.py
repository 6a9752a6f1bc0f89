"""A stone of the signal path: its outline, and the sign on it."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from stonekite.desktop.controls.theme import roles
from stonekite.session.types import LegName
from stonekite.stages.base import Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.registry import heard_response, kind_of

STONE = (30.0, 21.0)
_SIGN_HZ = np.geomspace(25, 18_000, 28)
_SIGN_RATE = 96_000.0  # high enough for every frequency of the sign, whatever the recording's rate
_SIGN_DB = 15.0


def stone_path(centre: QPointF, seed: int, scale: float = 1.0) -> QPainterPath:
    """The outline of a beach stone: a slightly uneven oval, always the same for the same number."""
    lean = ((seed * 37) % 7 - 3) / 3.0
    path = QPainterPath()
    w, h = STONE[0] * scale, STONE[1] * scale
    x, y = centre.x(), centre.y()
    path.moveTo(x - w, y + lean)
    path.cubicTo(x - w, y - h * (0.75 + 0.12 * lean), x - w * 0.5, y - h, x + w * 0.1 * lean, y - h)
    path.cubicTo(x + w * 0.6, y - h, x + w, y - h * (0.62 - 0.1 * lean), x + w, y - lean)
    path.cubicTo(x + w, y + h * (0.72 + 0.14 * lean), x + w * 0.45, y + h, x - w * 0.08 * lean, y + h)
    path.cubicTo(x - w * 0.6, y + h, x - w, y + h * (0.7 - 0.1 * lean), x - w, y + lean)
    return path


def ride_sign(painter: QPainter, centre: QPointF) -> None:
    """A line that rises between two points, on a ground of its own: something of the stone rides."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(roles.panel)
    painter.drawEllipse(centre, 7.5, 7.5)
    painter.setPen(QPen(roles.chalk, 1.3))
    painter.drawLine(centre + QPointF(-3.2, 3.2), centre + QPointF(3.2, -3.2))
    painter.setBrush(roles.chalk)
    for step in (-3.2, 3.2):
        painter.drawEllipse(centre + QPointF(step, -step), 1.6, 1.6)


def key_sign(painter: QPainter, centre: QPointF) -> None:
    """An arrow from a dot, on a ground of its own: the detectors of the stone hear another strip."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(roles.panel)
    painter.drawEllipse(centre, 7.5, 7.5)
    painter.setBrush(roles.chalk)
    painter.drawEllipse(centre + QPointF(-3.4, -3.4), 1.6, 1.6)
    painter.setPen(QPen(roles.chalk, 1.3))
    tip = centre + QPointF(3.6, 3.6)
    for start in (QPointF(-3.4, -3.4), QPointF(0.2, 3.6), QPointF(3.6, 0.2)):
        painter.drawLine(centre + start, tip)


def sign(stage: Stage, leg: LegName) -> QPainterPath:
    """What a stone shows: the curve of what its side really does."""
    offers = kind_of(stage).offers
    if branches_of(stage):
        return _branches_sign(stage, leg)
    if offers.curve is not None:
        span = np.linspace(-54.0, 0.0, len(_SIGN_HZ))
        levels = (offers.curve(stage, leg, span) + 27.0) / 27.0 * _SIGN_DB
    elif offers.bend is not None and getattr(stage, leg) is not None:
        span = np.linspace(-1.0, 1.0, len(_SIGN_HZ))
        bent = offers.bend(getattr(stage, leg), span)
        levels = bent / max(1e-3, float(np.abs(bent).max())) * 0.8 * _SIGN_DB
    else:
        response = np.abs(heard_response(stage, leg, _SIGN_HZ, _SIGN_RATE))
        levels = 20 * np.log10(np.maximum(response, 1e-4))
    levels = np.clip(levels, -_SIGN_DB, _SIGN_DB)
    path = QPainterPath()
    for k, level in enumerate(levels.tolist()):
        point = QPointF(-18 + 36 * k / (len(_SIGN_HZ) - 1), -level / _SIGN_DB * 12)
        if k:
            path.lineTo(point)
        else:
            path.moveTo(point)
    return path


def _branches_sign(stage: Stage, leg: LegName) -> QPainterPath:
    """The branches of a stage in small: a line for each, with a mark for each stage in it."""
    names = kind_of(stage).branching.names(stage, leg)  # type: ignore[union-attr]
    shown = [branch for branch, name in zip(branches_of(stage), names, strict=True) if name]
    path = QPainterPath()
    for k, branch in enumerate(shown):
        y = 6.5 * (k - 0.5 * (len(shown) - 1))
        path.moveTo(-16, y)
        path.lineTo(16, y)
        for n in range(min(3, len(branch.stages))):
            path.addEllipse(QPointF(-9 + 9 * n, y), 2.2, 2.2)
    return path
