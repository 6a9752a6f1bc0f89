"""Three amplifiers from one component: left, centre and right, each with its cabinet."""

from typing import Any

import msgspec

from stonekite.session import edits, tree
from stonekite.session.spur import SPURS, Spur, SpurSource
from stonekite.session.types import LEGS, Session
from stonekite.signal.decibels import SILENCE_DB
from stonekite.stages.amp import Amp, AmpSide, Learned, taken
from stonekite.stages.branch import Branch
from stonekite.stages.cabinet.settings import CabinetSide, CabinetStage
from stonekite.words import said

SIDEWAYS = 100.0
"""How far left and right the outer ones stand."""

# All microphones stand as far away, so that the three are in time.
_NEAR = 4.0
_THREE: tuple[tuple[str, float, AmpSide, CabinetSide], ...] = (
    (
        "Amp left",
        -SIDEWAYS,
        AmpSide(voice="flint", level_db=-20.0, gain=62.0, bass=40.0, middle=60.0, treble=55.0),
        CabinetSide(cabinet="single", mic_1_across_cm=2.0, mic_1_away_cm=_NEAR),
    ),
    (
        "Amp centre",
        0.0,
        AmpSide(voice="slate", level_db=-20.0, gain=78.0, bass=55.0, middle=70.0, treble=45.0, presence=20.0),
        CabinetSide(cabinet="closed", mic_1="condenser", mic_1_across_cm=4.0, mic_1_away_cm=_NEAR),
    ),
    (
        "Amp right",
        SIDEWAYS,
        AmpSide(
            voice="basalt", level_db=-20.0, gain=45.0, bass=45.0, middle=45.0, treble=60.0, presence=40.0
        ),
        CabinetSide(cabinet="pair", mic_1_across_cm=3.0, mic_1_away_cm=_NEAR),
    ),
)


def three_amps(session: Session, holder: tree.Path, source: SpurSource) -> tuple[Session, tuple[int, ...]]:
    """A session with three amplifiers fed by a component and the legs themselves turned down; and the spurs' ids.

    Raises ValueError with a sentence if there is no room for them.
    """
    if len(tree.strip_at(session, holder).spurs) + len(_THREE) > SPURS:
        raise ValueError(
            said(
                "Three amplifiers need three spurs, and there are {spurs} at the most: remove some first."
            ).format(spurs=SPURS)
        )
    numbers = []
    for name, position, amp, cabinet in _THREE:
        stages = (
            Amp(id=0, upper=amp, lower=None, level_kept=False),
            CabinetStage(id=0, upper=cabinet, lower=None),
        )
        spur = Spur(name=name, source=source, placed=True, position=position, branch=Branch(stages=stages))
        session, number = edits.add_spur(session, holder, spur)
        numbers.append(number)
    strip: Any = tree.strip_at(session, holder)
    down = {leg: msgspec.structs.replace(strip.leg(leg), level_db=SILENCE_DB) for leg in LEGS}
    strip = msgspec.structs.replace(strip, **down)
    return edits.put(session, ("sound", *holder, "strip"), strip), tuple(numbers)


def with_learned(session: Session, holder: tree.Path, spurs: tuple[int, ...], learned: Learned) -> Session:
    """A session in which the amplifiers of these spurs know how loud what they get is, and have their inputs set."""
    changed = []
    for spur in tree.strip_at(session, holder).spurs:
        if spur.id in spurs:
            first, *rest = spur.branch.stages
            stages = (taken(first, learned), *rest)
            spur = msgspec.structs.replace(spur, branch=msgspec.structs.replace(spur.branch, stages=stages))
        changed.append(spur)
    return edits.put(session, ("sound", *holder, "strip", "spurs"), tuple(changed))
