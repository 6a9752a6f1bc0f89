"""What stages need before they work: how late they are, how long they remember and ring, with all that stands in them."""

from collections.abc import Callable, Iterable
from typing import TypeVar

from stonekite.remembered import Remembered
from stonekite.stages.base import Context, Plan, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.registry import kind_of, label_of
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


def works(stage: Stage) -> bool:
    """Whether a stage has anything to do."""
    if not stage.inserted:
        return False
    given_back = stage.level_kept and stage.kept_db != 0.0
    return given_back or stage.change_only or not kind_of(stage).neutral(stage)


_PLANS = Remembered()


def plan_of(stage: Stage, context: Context) -> Plan:
    """What a stage that has something to do needs, with all that stands in it. A value is asked once."""
    return _PLANS.of(stage, context, lambda: _planned(stage, context))


def _planned(stage: Stage, context: Context) -> Plan:
    kind = kind_of(stage)
    own = building(stage, lambda: kind.plan(stage, context))
    branching = kind.branching
    if branching is None:
        return own
    inner = tuple(along(branch.stages, context) for branch in branches_of(stage))
    return building(stage, lambda: branching.plan(stage, own, inner))


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
