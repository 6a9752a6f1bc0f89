"""Late imports, so that commands and windows that compute no sound do not pay for compiled kernels."""

import importlib
import importlib.util
from types import ModuleType
from typing import Any


class _Late(ModuleType):
    """Stands for a module; the first use of anything in it imports it, in whatever thread that is."""

    def __getattr__(self, name: str) -> Any:
        value = getattr(importlib.import_module(self.__name__), name)
        setattr(self, name, value)
        return value


def lazy(name: str) -> ModuleType:
    """A stand-in for module `name`, which is imported when its first attribute is used. Raises ModuleNotFoundError.

    Not importlib's LazyLoader: two threads that come first at the same time could see half a module.
    """
    if importlib.util.find_spec(name) is None:
        raise ModuleNotFoundError(name)
    return _Late(name)
