"""The kinds of stage there are: every module of this package that declares a KIND."""

import importlib
import pkgutil
from functools import reduce
from operator import or_
from typing import Any, cast, get_type_hints

import msgspec
import numpy as np

import stonekite.stages as package
from stonekite.signal.decibels import gain_of
from stonekite.stages import branch, riding
from stonekite.stages.base import GROUPS, LEGS, Group, Kind, LegName, Stage
from stonekite.stages.machinery.kept import KEPT
from stonekite.stages.unknown import UNKNOWN, Unknown


def _found() -> dict[str, Kind]:
    modules = (
        importlib.import_module(f"{package.__name__}.{info.name}")
        for info in pkgutil.iter_modules(package.__path__)
        if info.name not in ("registry", "planning")  # these know all kinds themselves
    )
    kinds = [cast(Kind, module.KIND) for module in modules if hasattr(module, "KIND")]
    return {cast(str, kind.stage.__struct_config__.tag): kind for kind in kinds}


KINDS: dict[str, Kind] = _found()
"""Kinds by their tag, in alphabetical order of their modules."""

AnyStage: Any = reduce(or_, (kind.stage for kind in (*KINDS.values(), UNKNOWN)))
"""The union of all stage types, for decoding."""
branch.AnyStage = AnyStage


def by_work() -> list[tuple[Group, list[tuple[str, Kind]]]]:
    """Kinds with their tags, in groups, in the order in which one works with them."""
    return [
        (
            group,
            sorted(((tag, k) for tag, k in KINDS.items() if k.group == group), key=lambda one: one[1].rank),
        )
        for group in GROUPS
    ]


def kind_of(stage: Stage) -> Kind:
    """The kind of a stage value."""
    tag = cast(str, stage.__struct_config__.tag)
    return KEPT if tag == KEPT.stage.__struct_config__.tag else kind_called(tag)


def kind_called(tag: str) -> Kind:
    """The kind with a tag; that of all that is not installed here for another one."""
    return KINDS.get(tag, UNKNOWN)


def label_of(stage: Stage) -> str:
    """What a stage is called: as its kind, or by the name that an unknown one came with."""
    return stage.name if isinstance(stage, Unknown) and stage.name else kind_of(stage).label


def shared_type(kind: str) -> type[msgspec.Struct] | None:
    """The struct of the settings that are not of one side; None for a kind that has none."""
    return get_type_hints(KINDS[kind].stage).get("shared")


def heard_response(stage: Any, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of one leg at frequencies in Hz as it is heard: with its mix and the level given back.

    Of a kind whose output level depends on its input level, what its detector hears; of one that has a picture of its own
    for it, that.
    """
    kind = kind_of(stage)
    if kind.offers.drawn is not None:
        return kind.offers.drawn(stage, leg, frequencies, rate)
    if kind.branching is None:
        wet = kind.response(stage, leg, frequencies, rate)
    else:
        inner = tuple(along(one.stages, leg, frequencies, rate) for one in branch.branches_of(stage))
        wet = kind.branching.response(stage, leg, frequencies, rate, inner)
    if kind.offers.curve is not None:
        return wet
    dry = (
        np.ones(np.shape(frequencies))
        if kind.dry is None
        else kind.dry.response(stage, leg, frequencies, rate)
    )
    side = getattr(stage, leg)
    mix = 1.0 if side is None else side.mix / 100.0
    mixed = mix * (wet - dry) if stage.change_only else dry + mix * (wet - dry)
    return mixed * gain_of(stage.kept_db) if stage.level_kept else mixed


def along(stages: tuple[Any, ...], leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of stages in a row."""
    whole = np.ones(np.shape(frequencies), dtype=complex)
    for stage in stages:
        if stage.inserted and kind_of(stage).offers.curve is None:
            whole = whole * heard_response(stage, leg, frequencies, rate)
    return whole


_LEVELS_DB = np.arange(-120.0, 25.0)


def greatest(stages: tuple[Any, ...], frequencies: np.ndarray, rate: float) -> np.ndarray:
    """The greatest gains (2, 2, n) that stages in a row can have at frequencies in Hz: to a leg (first axis) from a leg.

    Of a kind whose level out depends on its level in, the greatest of its curve.
    """
    whole = np.broadcast_to(np.eye(2)[:, :, None], (2, 2, len(frequencies)))
    for stage in stages:
        if stage.inserted or stage.rides:
            whole = np.einsum("abn,bcn->acn", _greatest(stage, frequencies, rate), whole)
    return whole


def _greatest(stage: Any, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Of one stage, wherever its rides are."""
    found = [_greatest_now(one, frequencies, rate) for one in riding.ways(stage)]
    whole: np.ndarray = np.max(found, axis=0)
    return whole


def _greatest_now(stage: Any, frequencies: np.ndarray, rate: float) -> np.ndarray:
    """Of what a kind says of its wet part, with the mix of each leg."""
    if not stage.inserted:
        return np.broadcast_to(np.eye(2)[:, :, None], (2, 2, len(frequencies)))
    offers = kind_of(stage).offers
    given_back = gain_of(stage.kept_db) if stage.level_kept else 1.0
    wet = None if offers.greatest is None else offers.greatest(stage, frequencies, rate)
    gains = np.zeros((2, 2, len(frequencies)))
    for row, leg in enumerate(LEGS):
        side = getattr(stage, leg)
        if side is None:
            gains[row, row] = 1.0
            continue
        if wet is None and offers.curve is None:  # what is heard has the mix already
            gains[row, row] = np.abs(heard_response(stage, leg, frequencies, rate)) / given_back
            continue
        if wet is not None:
            gains[row] = wet[row]
        elif offers.curve is not None:
            gains[row, row] = gain_of(float((offers.curve(stage, leg, _LEVELS_DB) - _LEVELS_DB).max()))
        mix = side.mix / 100.0
        gains[row] *= mix
        gains[row, row] += mix if stage.change_only else 1.0 - mix
    return gains * given_back
