"""No exception of a handler ends the window: it is told, and the window goes on.

Qt calls handlers from C++, and what a handler raises there has nowhere to go: where handlers stand in one another, it
ends the process. So every handler of the window's classes is wrapped, once, when the window is made.
"""

import functools
import sys
from collections.abc import Callable, Iterator
from typing import Any

from PySide6.QtCore import QObject, QSize
from PySide6.QtWidgets import QWidget

_RESULTS: dict[str, Any] = {
    "event": True,
    "eventFilter": False,
    "hasHeightForWidth": False,
    "heightForWidth": -1,
    "sizeHint": QSize(),
    "minimumSizeHint": QSize(),
    "focusNextPrevChild": False,
}
"""What Qt is given by a handler that raised, where it wants something."""


def guard() -> None:
    """Wrap the handlers of all of the window's classes that are there by now."""
    for kind in _kinds(QObject):
        for name, handler in list(vars(kind).items()):
            if callable(handler) and not hasattr(handler, "__wrapped__") and _is_handler(name):
                setattr(kind, name, _guarded(handler, _RESULTS.get(name)))


def _is_handler(name: str) -> bool:
    return name in _RESULTS or (name.endswith("Event") and hasattr(QWidget, name))


def _kinds(base: Any) -> Iterator[Any]:
    for kind in base.__subclasses__():
        if kind.__module__.startswith("stonekite.desktop"):
            yield kind
        yield from _kinds(kind)


def _guarded(handler: Callable[..., Any], otherwise: Any) -> Callable[..., Any]:
    @functools.wraps(handler)
    def guarded(*given: Any) -> Any:
        try:
            return handler(*given)
        except Exception:
            sys.excepthook(*sys.exc_info())  # type: ignore[arg-type]
            return otherwise

    return guarded
