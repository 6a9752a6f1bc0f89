"""Lines through many points."""

import numpy as np
from PySide6.QtCore import QByteArray, QDataStream
from PySide6.QtGui import QPolygonF


def polyline(xs: np.ndarray, ys: np.ndarray) -> QPolygonF:
    """A line through points given by their coordinates, both (count,).

    Handed over as one piece in Qt's own form (a count and big-endian doubles): point by point takes ten times as long.
    """
    points = np.stack([xs, ys], axis=-1).astype(">f8")
    line = QPolygonF()
    stream = QDataStream(QByteArray(len(points).to_bytes(4, "big") + points.tobytes()))
    stream >> line
    return line
