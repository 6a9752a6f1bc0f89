"""What stages need before they work: how late they are, how long they remember and ring, with all that stands in them."""

import math
from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np

from stonekite.remembered import Remembered
from stonekite.stages import riding
from stonekite.stages.base import LEGS, Context, Plan, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.machinery.rows import SEAM_S, standing
from stonekite.stages.registry import kind_of, label_of
from stonekite.stages.settings import Setting
from stonekite.words import said

Made = TypeVar("Made")


class CannotBuild(ValueError):
    """A stage's settings cannot be made into sound. The text is a sentence; `stage` is its id, `label` its kind."""

    def __init__(self, stage: Stage, reason: Exception) -> None:
        self.stage, self.label = stage.id, label_of(stage)
        self.reason = f"{type(reason).__name__}: {reason}".rstrip(".")
        super().__init__(
            said("{label} (stage {number}) cannot be computed with these settings: {reason}.").format(
                label=self.label, number=stage.id, reason=self.reason
            )
        )


def building(stage: Stage, make: Callable[[], Made]) -> Made:
    """What is made of a stage. Raises CannotBuild, of the innermost stage, whatever goes wrong."""
    try:
        return make()
    except CannotBuild:
        raise
    except Exception as error:
        raise CannotBuild(stage, error) from error


def seam_memory(rate: float) -> int:
    """Samples after which a jump of the place is forgotten."""
    return math.ceil(21.0 * SEAM_S * rate)


def works(stage: Stage) -> bool:
    """Whether a stage has anything to do."""
    touched = any(getattr(stage, leg) is not None for leg in LEGS)
    if not touched and not stage.change_only:
        return stage.inserted and stage.level_kept and stage.kept_db != 0.0
    if awake(stage) or (stage.key is not None and not kind_of(stage).hears_key):
        return True
    if not stage.inserted:
        return False
    given_back = stage.level_kept and stage.kept_db != 0.0
    return given_back or stage.change_only or not kind_of(stage).neutral(stage)


def ridable(stage: Stage) -> dict[str, Setting]:
    """The settings of a stage that can move over the recording, by their paths."""
    return {path: setting for path, _, setting in riding.settings_in(stage) if not why_still(stage, path)}


Awake = tuple[tuple[riding.Ride, Setting], ...]
_AWAKE = Remembered()


def why_still(stage: Any, path: str) -> str:
    """Why a setting of a stage, a leg, a spur, the intake or the output cannot move over the recording, in a sentence;
    empty if it can."""
    there = riding.found(stage, path)
    if there is None:
        return said("There is no such setting here.")
    holder, field, setting = there
    if setting.words is not None:
        return said("Only numbers and switches move over the recording.")
    if setting.still:
        return setting.still
    if field == "mix" or path == "inserted":
        return ""
    if not isinstance(stage, Stage):
        return "" if not hasattr(stage, "still") else stage.still(path)
    if setting.is_switch:
        return said("It decides what is computed: of a stage's switches only In moves over the recording.")
    kind = kind_of(stage)
    if kind.rows is None or isinstance(holder, Stage):
        return kind.still or said("This stands still.")
    return "" if kind.stands is None else kind.stands(stage, path)


def awake(stage: Any) -> Awake:
    """The rides of a stage, a leg, a spur, the intake or the output that reach a setting that can move, with it. Those of
    a leg that a stage does not work on sleep."""
    if not stage.rides:
        return ()

    def look() -> Awake:
        found: list[tuple[riding.Ride, Setting]] = []
        for ride in stage.rides:
            there = riding.found(stage, ride.path)
            if there is not None and not why_still(stage, ride.path):
                found.append((ride, there[2]))
        return tuple(found)

    return _AWAKE.of(stage, None, look)


def _is_mix(path: str) -> bool:
    """Whether a setting tells how much of a stage is heard, which is the engine's matter and not the kind's."""
    return path.endswith(".mix") or path == "inserted"


def is_moving(stage: Any, mixes: bool = False) -> bool:
    """Whether a number of a stage moves, or how much of it is heard."""
    return any(not ride.stands and _is_mix(ride.path) == mixes for ride, _ in awake(stage))


def moves_in(holder: Any, *fields: str) -> bool:
    """Whether one of some fields, anywhere in a value, moves."""
    return any(not ride.stands and ride.path.rpartition(".")[2] in fields for ride, _ in awake(holder))


def moved(stage: Any, seconds: np.ndarray, mixes: bool = False) -> Any:
    """A stage as it is at times (n,) of the recording: a number that moves is an array (n,), one whose ride stands still
    is what that is; of a switch, how far on it is. How much of it is heard moves only if it is asked for."""
    for ride, setting in awake(stage):
        if _is_mix(ride.path) != mixes:
            continue
        first = setting.held(ride.points[0].value)
        there: Any = bool(first) if setting.is_switch else first
        stage = riding.put(stage, ride.path, there if ride.stands else riding.along(ride, setting, seconds))
    return stage


def still_rows(stage: Stage, context: Context) -> dict[str, Any]:
    """What At has to know of a stage that stands still as it begins the recording."""
    rows = kind_of(stage).rows
    if rows is None:
        return {}
    begun = moved(stage, np.zeros(1)) if stage.rides else stage
    made = standing(np.asarray(rows(begun, context), dtype=float).reshape(-1))
    return {"rows": made, "out": (made, made)}


_PLANS = Remembered()


def plan_of(stage: Stage, context: Context) -> Plan:
    """What a stage that has something to do needs, with all that stands in it. A value is asked once."""
    return _PLANS.of(stage, context, lambda: _planned(stage, context))


def _planned(stage: Stage, context: Context) -> Plan:
    kind = kind_of(stage)
    own = building(stage, lambda: _worst(stage, context))
    branching = kind.branching
    if branching is None:
        return own
    inner = tuple(along(branch.stages, context) for branch in branches_of(stage))
    return building(stage, lambda: branching.plan(stage, own, inner))


def _worst(stage: Any, context: Context) -> Plan:
    """A stage's own plan; of one that moves, the longest of what it is on its way. Each ridden number is taken where it
    makes the memory longest, one after the other."""
    plan = kind_of(stage).plan
    for ride, setting in awake(stage):
        if setting.is_switch:
            continue
        held = [setting.held(point.value) for point in ride.points]
        ends = [riding.put(stage, ride.path, value) for value in {min(held), max(held)}]
        stage = max(ends, key=lambda one: plan(one, context).memory)
    found = plan(stage, context)
    return replace(found, memory=found.memory + seam_memory(context.rate)) if is_moving(stage) else found


def refusal(stage: Stage, context: Context) -> str:
    """Why a stage, or one that stands in it, cannot be as it is, in a sentence; empty if it can."""
    branching = kind_of(stage).branching
    if branching is None:
        return ""
    if branching.refuses is not None:
        inner = tuple(along(branch.stages, context) for branch in branches_of(stage))
        if sentence := branching.refuses(stage, inner, context.rate):
            return sentence
    return refusals((one for branch in branches_of(stage) for one in branch.stages), context)


def refusals(stages: Iterable[Stage], context: Context) -> str:
    """Why one of some stages cannot be as it is, in a sentence; empty if all can."""
    return next((sentence for stage in stages if (sentence := refusal(stage, context))), "")


def plans(stages: Iterable[Stage], context: Context) -> list[tuple[Stage, Plan]]:
    """The stages that have something to do, each with its plan."""
    return [(stage, plan_of(stage, context)) for stage in stages if works(stage)]


def along(stages: Iterable[Stage], context: Context) -> Plan:
    """The plan of stages in a row: both legs are as late as the later one."""
    found = [plan for _, plan in plans(stages, context)]
    late = sum(max(plan.latency) for plan in found)
    return Plan((late, late), sum(plan.memory for plan in found), sum(plan.tail for plan in found))
