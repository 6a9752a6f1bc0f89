"""The sessions of the demo: the landing stage with an EQ for each component, which `stonekite --demo` opens, and the
cable zither as four paths.
"""

import msgspec

from stonekite.desktop.model.document import session_of
from stonekite.files.demo import demo_path
from stonekite.files.zither import LATE_MS
from stonekite.files.zither import NAME as ZITHER
from stonekite.session import tree
from stonekite.session.spur import Spur
from stonekite.session.types import (
    Desk,
    Intake,
    IntakeSide,
    Loop,
    Output,
    Place,
    Session,
    Sound,
    Split,
    Strip,
)
from stonekite.stages.bands import BandPath, BandsSide, BandsStage
from stonekite.stages.branch import Branch
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.suboctave import Suboctave, SuboctaveSide


def demo_session() -> Session:
    """The harp's warmth and the whistle's edge in the middle, surf thinned and gulls opened at the sides."""
    session, _ = session_of(demo_path())
    stage = Eq(
        id=2,
        upper=EqSide(
            bands=(
                Band(shape="low-shelf", frequency_hz=140.0, gain_db=1.5),
                Band(frequency_hz=380.0, gain_db=-3.0, q=1.2),
                Band(frequency_hz=2600.0, gain_db=2.5, q=0.9),
            )
        ),
        lower=EqSide(
            bands=(
                Band(shape="high-pass", frequency_hz=150.0, slope=24),
                Band(frequency_hz=900.0, gain_db=-2.0, q=0.8),
                Band(shape="high-shelf", frequency_hz=6500.0, gain_db=4.0),
            )
        ),
    )
    stem = msgspec.structs.replace(session.sound.stems[0], strip=Strip(stages=(stage,)))
    return Session(sound=Sound(stems=(stem,)), desk=Desk(loop=Loop(start_s=4.0, end_s=12.0)))


def zither_session() -> Session:
    """The pickup and the amplifier in time with each other, beside them a top torn in two bands and an octave under."""
    session, _ = session_of(demo_path(ZITHER))
    paths = (BandPath(), BandPath(level_db=-3.0), BandPath(), BandPath())
    drives = [
        Drive(id=0, upper=DriveSide(drive_db=drive), lower=None, level_kept=False) for drive in (14.0, 22.0)
    ]
    branches = tuple(Branch(stages=(drives[k],) if k < 2 else ()) for k in range(4))
    bands = BandsStage(id=0, upper=BandsSide(first_hz=1600.0, paths=paths), lower=None, branches=branches)
    high = Filter(id=0, upper=FilterSide(high_pass=True, high_pass_hz=420.0, high_pass_slope=24), lower=None)
    under = Suboctave(id=0, upper=SuboctaveSide(keeps=False, low_pass_hz=160.0), lower=None)
    spurs = []
    number = 2
    for spur in (
        Spur(
            name="Torn top",
            source="left",
            level_db=-9.0,
            placed=True,
            position=-20.0,
            branch=Branch(stages=(high, bands)),
        ),
        Spur(
            name="Octave under",
            source="left",
            level_db=-8.0,
            placed=True,
            position=0.0,
            branch=Branch(stages=(under,)),
        ),
    ):
        branch, number = tree.renumbered(spur.branch, number)
        spurs.append(msgspec.structs.replace(spur, branch=branch))
    strip = Strip(
        intake=Intake(left=IntakeSide(delay_ms=LATE_MS)),
        split=Split(mode="left-right"),
        spurs=tuple(spurs),
        output=Output(left=Place(position=-55.0), right=Place(position=55.0), trim_db=-4.0),
    )
    stem = msgspec.structs.replace(session.sound.stems[0], strip=strip)
    return Session(sound=Sound(stems=(stem,)), desk=Desk(loop=Loop(start_s=0.0, end_s=11.4)))
