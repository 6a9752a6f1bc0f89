"""Having something called in the window's own thread, from any other one."""

import contextlib
from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, Signal


class Posting(QObject):
    """Call it with what is to be called; it is, later, by the thread that this object belongs to."""

    _posted = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._posted.connect(self._call, Qt.ConnectionType.QueuedConnection)

    def __call__(self, wanted: Callable[[], None]) -> None:
        with contextlib.suppress(RuntimeError):  # the window may be gone already
            self._posted.emit(wanted)

    def _call(self, wanted: Callable[[], None]) -> None:
        wanted()
