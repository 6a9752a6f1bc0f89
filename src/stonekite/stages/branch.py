"""A branch: any path that carries stages. The legs, a spur beside them, a band inside a stage are all such paths."""

from typing import TYPE_CHECKING, Annotated, Any

import msgspec

from stonekite.stages.base import Identity, Stage
from stonekite.stages.settings import Settings

if TYPE_CHECKING:
    AnyStage = Any

DEEPEST = 3
"""So many branches stand in one another at the most, the legs not counted."""
MOST_STAGES = 64
"""In one branch."""


class Branch(Settings, frozen=True, kw_only=True):
    """Stages in a row, under an id. Its own type of stages is put in by the registry, which knows all kinds."""

    id: Identity = 0
    stages: "Annotated[tuple[AnyStage, ...], msgspec.Meta(max_length=MOST_STAGES)]" = ()


def branches_of(stage: Stage) -> tuple[Branch, ...]:
    """The branches that a stage holds; none of most kinds."""
    return getattr(stage, "branches", ())
