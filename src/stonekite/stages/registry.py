"""The kinds of stage there are: every module of this package that declares a STAGE."""

import importlib
import pkgutil
from functools import reduce
from operator import or_
from typing import Any, cast

import stonekite.stages as package
from stonekite.stages.base import Kind, Stage


def _found() -> dict[str, Kind]:
    modules = (
        importlib.import_module(f"{package.__name__}.{info.name}")
        for info in pkgutil.iter_modules(package.__path__)
        if info.name != "registry"
    )
    return {m.STAGE.__struct_config__.tag: cast(Kind, m) for m in modules if hasattr(m, "STAGE")}


KINDS: dict[str, Kind] = _found()
"""Kinds by their tag, in alphabetical order of their modules."""

AnyStage: Any = reduce(or_, (kind.STAGE for kind in KINDS.values()))
"""The union of all stage types, for decoding."""


def kind_of(stage: Stage) -> Kind:
    """The kind of a stage value."""
    return KINDS[cast(str, stage.__struct_config__.tag)]
