"""What stages need before they work: how late they are, how long they remember and ring, with all that stands in them."""

import math
from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any, Literal, NamedTuple, TypeVar

import msgspec
import numpy as np

from stonekite.remembered import Remembered
from stonekite.stages import riding
from stonekite.stages.base import LEGS, Context, Plan, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.machinery.rows import SEAM_S, stacked, standing
from stonekite.stages.registry import kind_of, label_of
from stonekite.stages.settings import Setting
from stonekite.words import said

Made = TypeVar("Made")

_ANY_RATE = 48_000.0


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
_TURNED = Remembered()
Role = Literal["number", "mix", "way"]
"""What a setting that rides is: a number of the rows of its kind; how much of a stage is heard, which is the engine's
matter; or a switch that makes another stage of it, so that both work beside each other."""


def role_of(stage: Any, path: str, setting: Setting) -> Role:
    """What a setting of a stage, a leg, a spur, the intake or the output is when it rides."""
    field = path.rpartition(".")[2]
    if path.endswith(".mix") or path == "inserted":
        return "mix"
    if setting.is_switch and isinstance(stage, Stage) and field not in kind_of(stage).switches:
        return "way"
    return "number"


def _why_not_turned(stage: Stage, path: str) -> str:
    """Why a switch of a stage cannot be turned over the recording, in a sentence; empty if it can."""

    def look() -> str:
        context = Context(_ANY_RATE)
        off, on = (kind_of(stage).plan(riding.put(stage, path, turned), context) for turned in (False, True))
        return (
            "" if off.latency == on.latency else said("It changes how late the stage is, so it stands still.")
        )

    return _TURNED.of(stage, path, look)


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
    kind = kind_of(stage)
    if setting.is_switch:
        return _why_not_turned(stage, path)
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


def is_moving(stage: Any, role: Role = "number") -> bool:
    """Whether something of a stage moves that has this role."""
    return any(
        not ride.stands and role_of(stage, ride.path, setting) == role for ride, setting in awake(stage)
    )


def moves_in(holder: Any, *fields: str) -> bool:
    """Whether one of some fields, anywhere in a value, moves."""
    return any(not ride.stands and ride.path.rpartition(".")[2] in fields for ride, _ in awake(holder))


def moved(stage: Any, seconds: np.ndarray, role: Role = "number") -> Any:
    """A stage as it is at times (n,) of the recording: what moves and has this role is an array (n,), what has a ride
    that stands still is what that is; of a switch, how far on it is."""
    of_role = [
        (ride, setting) for ride, setting in awake(stage) if role_of(stage, ride.path, setting) == role
    ]
    if not of_role:
        return stage
    moving = [(ride, setting) for ride, setting in of_role if not ride.stands]
    values: dict[str, Any] = {
        ride.path: bool(first) if setting.is_switch else first
        for ride, setting in of_role
        if ride.stands
        for first in (setting.held(ride.points[0].value),)
    }
    rides = riding.along_all(moving, seconds)
    return riding.put_all(stage, values | dict(zip((ride.path for ride, _ in moving), rides, strict=True)))


class Ways(NamedTuple):
    """The stages that one comes to whose switches are turned over the recording, and how its switches stand in each
    (ways, switches); `paths` are those of the switches. Between its turns it sounds as the one that always stood so."""

    paths: tuple[str, ...]
    states: np.ndarray
    stages: tuple[Stage, ...]

    def shares(self, stage: Stage, context: Context) -> np.ndarray:
        """Rows (n, ways) of how much of each way is heard, of a stage whose switches are arrays."""
        on = [np.atleast_1d(riding.now(stage, path)) for path in self.paths]
        return stacked(
            *(
                np.prod([p if up else 1.0 - p for p, up in zip(on, state, strict=True)], axis=0)
                for state in self.states
            )
        )


_WAYS = Remembered()


def ways_of(stage: Stage) -> Ways | None:
    """What a stage comes to whose switches ride; None where none does but In."""
    if not stage.rides:
        return None

    def look() -> Ways | None:
        turned = [(r, s) for r, s in awake(stage) if role_of(stage, r.path, s) == "way"]
        if not turned:
            return None
        paths = {ride.path for ride, _ in turned}
        plain = msgspec.structs.replace(stage, rides=tuple(r for r in stage.rides if r.path not in paths))
        for ride, _ in turned:
            plain = riding.put(plain, ride.path, ride.points[0].value >= 0.5)
        moving = [ride for ride, _ in turned if not ride.stands]
        made, states = [], sorted(riding.stances(moving))
        for state in states:
            one = plain
            for ride, up in zip(moving, state, strict=True):
                one = riding.put(one, ride.path, up)
            made.append(one)
        return Ways(tuple(ride.path for ride in moving), np.array(states).reshape(len(made), -1), tuple(made))

    return _WAYS.of(stage, None, look)


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
    if (ways := ways_of(stage)) is not None:
        found = [plan_of(one, context) for one in ways.stages]
        jumps = seam_memory(context.rate) if len(found) > 1 else 0
        longest = {name: max(getattr(one, name) for one in found) for name in ("memory", "tail", "glide")}
        return replace(found[0], **longest | {"memory": longest["memory"] + jumps})
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
        if ride.path == "inserted":
            continue
        held = [setting.held(point.value) for point in ride.points]
        ends = [
            riding.put(stage, ride.path, bool(value) if setting.is_switch else value)
            for value in {min(held), max(held)}
        ]
        stage = max(ends, key=lambda one: plan(one, context).memory)
    found = plan(stage, context)
    return replace(found, memory=found.memory + seam_memory(context.rate)) if is_moving(stage) else found


def refusal(stage: Stage, context: Context) -> str:
    """Why a stage, or one that stands in it, cannot be as it is, in a sentence; empty if it can."""
    branching = kind_of(stage).branching
    if branching is None:
        return ""
    if (ways := ways_of(stage)) is not None:
        return refusals(ways.stages, context)
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
