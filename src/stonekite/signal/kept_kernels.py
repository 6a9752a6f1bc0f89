"""Where compiled kernels are kept: once for a user, whatever the folder that the program stands in.

Numba keeps them beside the source, or by its path, and looks at no other file when it asks whether they are still good.
Here each module has a folder of its own, named by what stands in it and in all that it takes from this package: so two
checkouts share what is the same in both, and nobody runs what was compiled from an older source. What was not wanted for
long is removed.
"""

import hashlib
import os
import pickle
import re
import shutil
import time
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import platformdirs
from numba import __version__ as numba_version
from numba.core import config
from numba.core.caching import CompileResultCacheImpl, FunctionCache, _CacheLocator

_PACKAGE = Path(__file__).parents[1]
_TAKES = re.compile(r"^\s*(?:from|import) (stonekite\.[\w.]+)(?: import ([\w, ]+))?", re.MULTILINE)
_KEPT_DAYS = 60


def home() -> Path:
    """The folder of all compiled kernels: NUMBA_CACHE_DIR where that is set, otherwise the user's for what can be made
    again."""
    return Path(getattr(config, "CACHE_DIR", "") or platformdirs.user_cache_path("stonekite")) / "kernels"


@cache
def digest_of(file: Path) -> str:
    """Of a module's source and that of all modules of this package that it takes something from."""
    sources, waiting = {}, [file]
    while waiting:
        one = waiting.pop()
        if one in sources:
            continue
        sources[one] = one.read_bytes()
        for module, names in _TAKES.findall(sources[one].decode()):
            place = _PACKAGE.joinpath(*module.split(".")[1:])
            found = [place.with_suffix(".py"), place / "__init__.py"]
            found += [place / f"{name.strip()}.py" for name in names.split(",")]
            waiting += [path for path in found if path.is_file()]
    told = hashlib.sha256(numba_version.encode())
    for one in sorted(sources):
        told.update(str(one.relative_to(_PACKAGE)).encode() + b"\0" + sources[one])
    return told.hexdigest()[:20]


@cache
def _folder_of(file: Path) -> Path:
    folder = home() / f"{file.stem}-{digest_of(file)}"
    folder.mkdir(parents=True, exist_ok=True)
    os.utime(folder)  # wanted lately
    return folder


class _Locator(_CacheLocator):
    """Finds the folder of a kernel's module."""

    def __init__(self, function: Any, file: Path) -> None:
        self._file, self._line = file, function.__code__.co_firstlineno
        self._py_file = str(file)

    def get_cache_path(self) -> str:
        return str(_folder_of(self._file))

    def get_source_stamp(self) -> str:
        return digest_of(self._file)

    def get_disambiguator(self) -> str:
        return str(self._line)

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> "_Locator | None":
        """None for what does not stand in this package, and where nothing can be written: then Numba looks further."""
        file = Path(py_file)
        if _PACKAGE not in file.parents:
            return None
        locator = cls(py_func, file)
        try:
            locator.ensure_cache_path()
        except OSError:
            return None
        return locator


class _Implementation(CompileResultCacheImpl):
    _locator_classes = [_Locator, *CompileResultCacheImpl._locator_classes]


class Kept(FunctionCache):
    """Numba's cache of one function, in the folder of its module."""

    _impl_class = _Implementation

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        """What was kept, None where there is nothing: also where what was kept cannot be read any more, as what names a
        module that is gone."""
        try:
            return super().load_overload(sig, target_context)
        except (ImportError, AttributeError, EOFError, ValueError, pickle.UnpicklingError):
            self.flush()
            return None


def sweep() -> None:
    """Remove what was not wanted for long."""
    with suppress(OSError):
        for folder in home().iterdir():
            with suppress(OSError):
                if folder.is_dir() and folder.stat().st_mtime < time.time() - _KEPT_DAYS * 86_400:
                    shutil.rmtree(folder)
