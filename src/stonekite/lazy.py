"""Late imports, so that commands and windows that compute no sound do not pay for compiled kernels."""

import importlib.util
import sys
from types import ModuleType


def lazy(name: str) -> ModuleType:
    """Return module `name`, executed when its first attribute is used (importlib.util.LazyLoader)."""
    if name in sys.modules:
        return sys.modules[name]
    spec = importlib.util.find_spec(name)
    if spec is None or spec.loader is None:
        raise ModuleNotFoundError(name)
    spec.loader = importlib.util.LazyLoader(spec.loader)
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    spec.loader.exec_module(module)
    return module
