"""How much of one turn of the window's events goes into painting what is kept.

A change of the whole strip makes every picture anew, all of them in one turn; together they would hold keys, mouse and
the live parts back for longer than is felt as at once. So what is kept may stand as it was for a turn or two more,
once the others have used the turn up.
"""

import time
from types import TracebackType

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget
from shiboken6 import isValid

_BUDGET_S = 0.005
_BUSY_S = 0.04
"""So long after a turn that was used up, what lives gives way."""


class Turn:
    """The time spent since the window last came back to its events, and who waits for the next turn.

    With the turn as a context manager, also within itself, the time inside it counts.
    """

    def __init__(self) -> None:
        self._spent_s = 0.0
        self._since = 0.0
        self._depth = 0
        self._busy_until = 0.0
        self._waiting: list[QWidget] = []
        self._timer: QTimer | None = None

    def __enter__(self) -> None:
        if self._depth == 0:
            self._since = time.perf_counter()
        self._depth += 1

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._depth -= 1
        if self._depth:
            return
        now = time.perf_counter()
        self._spent_s += now - self._since
        if self._spent_s > _BUDGET_S:
            self._busy_until = now + _BUSY_S
        if self._timer is None:  # there is an application by now
            self._timer = QTimer(interval=0, singleShot=True)
            self._timer.timeout.connect(self._begin)
        self._timer.start()

    @property
    def over(self) -> bool:
        """Whether this turn has had its share of painting."""
        running_s = time.perf_counter() - self._since if self._depth else 0.0
        return self._spent_s + running_s > _BUDGET_S

    @property
    def busy(self) -> bool:
        """Whether much is being painted anew; what lives can leave a look or two out then."""
        return bool(self._waiting) or time.perf_counter() < self._busy_until

    def wait(self, widget: QWidget) -> None:
        """Have a widget painted again in the next turn."""
        self._waiting.append(widget)

    def _begin(self) -> None:
        self._spent_s = 0.0
        waiting, self._waiting = self._waiting, []
        for widget in waiting:
            if isValid(widget):
                widget.update()


turn = Turn()
