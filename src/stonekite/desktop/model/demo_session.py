"""The sessions of the demo: the landing stage with an EQ for each component, which `stonekite --demo` opens; the cable
zither as four paths; whistle calls thrown into an echo; the lantern loop, whose echoes feed each other; and a log
spoken over engine and wind.
"""

from itertools import pairwise

import msgspec

from stonekite.demos.calls import CALLS, FIRST_BEAT_S, LANTERN, LANTERN_BPM
from stonekite.demos.demo import demo_path
from stonekite.demos.wheelhouse import NAME as WHEELHOUSE
from stonekite.demos.zither import LATE_MS
from stonekite.demos.zither import NAME as ZITHER
from stonekite.desktop.model.document import session_of
from stonekite.session import tree
from stonekite.session.edits import levelled, put
from stonekite.session.grips import Grip, Target
from stonekite.session.ride_edits import Address, put_ride
from stonekite.session.spur import Spur
from stonekite.session.timing import retimed
from stonekite.session.types import (
    Desk,
    Intake,
    IntakeSide,
    Leg,
    Loop,
    Output,
    Place,
    Section,
    Session,
    Sound,
    Split,
    Strip,
    Tempo,
    Version,
)
from stonekite.session.wide import three_amps, with_learned
from stonekite.stages.amp import NOMINAL_DB, Amp, AmpSide, Learned
from stonekite.stages.bands import BandPath, BandsSide, BandsStage
from stonekite.stages.branch import Branch
from stonekite.stages.cabinet.settings import CabinetSide, CabinetStage
from stonekite.stages.chorus import Chorus, ChorusSide
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.echo.settings import Echo, EchoShared, EchoSide
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.noise import Noise, NoiseSide
from stonekite.stages.riding import Point, Ride
from stonekite.stages.settings import settings_of
from stonekite.stages.suboctave import Suboctave, SuboctaveSide
from stonekite.words import said

PICKUP_INPUT_DB = 2.7
"""What brings the zither's pickup to where an amplifier wants it."""
THREE_LUFS = (-26.22, -19.28, -23.75)
"""How loud each of three amplifiers makes it, as measured."""


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
    # The pickup's side has an amplifier of its own, beside the one that was miked.
    amp = AmpSide(voice="flint", input_db=PICKUP_INPUT_DB, gain=55.0, bass=40.0, middle=60.0, level_db=-12.0)
    box = CabinetSide(cabinet="single", mic_1_across_cm=3.0, mic_2_db=-4.0, aligned=True)
    stages = (Amp(id=2, upper=amp, lower=None, level_kept=False), CabinetStage(id=3, upper=box, lower=None))
    spurs = []
    number = 4
    for spur in (
        Spur(
            name="Torn top",
            source="left",
            after="split",
            level_db=-9.0,
            placed=True,
            position=-20.0,
            branch=Branch(stages=(high, bands)),
        ),
        Spur(
            name="Octave under",
            source="left",
            after="split",
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
        stages=stages,
        spurs=tuple(spurs),
        output=Output(left=Place(position=-55.0), right=Place(position=55.0), trim_db=-4.0),
    )
    stem = session.sound.stems[0]
    ends = (0.0, 7.8, 15.9, stem.source.frames / stem.source.rate)
    stem = msgspec.structs.replace(stem, strip=_ridden(_gripped(strip), ends))
    sections = tuple(
        Section(name=name, start_s=start, end_s=end)
        for name, (start, end) in zip(
            (said("Cast off"), said("Midstream"), said("Landing")), pairwise(ends), strict=True
        )
    )
    desk = Desk(loop=Loop(start_s=0.0, end_s=11.4), sections=sections)
    return Session(sound=Sound(stems=(stem,)), desk=desk)


_SECTIONS = {
    said("Direct"): (0.0, -0.1, -0.06),
    said("Torn top"): (-0.25, 0.08, 0.0),
    said("Under"): (-0.3, -0.12, 0.06),
}
"""By how much some grips of the zither stand further up in each of its sections."""
_EASED_S = 0.9


def _ridden(strip: Strip, ends: tuple[float, ...]) -> Strip:
    """The zither's grips ridden over its sections, each time eased into the next one."""
    for number, grip in enumerate(strip.grips):
        if grip.name not in _SECTIONS:
            continue
        points = []
        for more, (start, end) in zip(_SECTIONS[grip.name], pairwise(ends), strict=True):
            at = (start, end - _EASED_S)
            points += [Point(at_s=s, value=grip.position + more, way="curved") for s in at]
        address = Address("grip", number, "position")
        strip = put_ride(strip, address, Ride(path="position", points=tuple(points)))
    return strip


def _gripped(strip: Strip) -> Strip:
    """The zither's four sources under a grip each; the top's also lets more of the lows through as it comes up."""
    top, under = strip.spurs
    high = top.branch.stages[0]
    level, leg = settings_of(Spur)["level_db"], settings_of(Leg)["level_db"]
    hertz = settings_of(FilterSide)["high_pass_hz"].to_travel(420.0)
    at = level.to_travel(top.level_db)
    grips = (
        Grip(
            name=said("Direct"),
            position=leg.to_travel(strip.upper.level_db),
            targets=(Target(of="leg", number=0, path="level_db"),),
        ),
        Grip(
            name=said("Amplifier"),
            position=leg.to_travel(strip.lower.level_db),
            targets=(Target(of="leg", number=1, path="level_db"),),
        ),
        Grip(
            name=said("Torn top"),
            position=at,
            targets=(
                Target(of="spur", number=top.id, path="level_db"),
                Target(
                    of="stage",
                    number=high.id,
                    path="upper.high_pass_hz",
                    start=hertz + 0.15 * at,
                    end=hertz - 0.15 * (1 - at),
                ),
            ),
        ),
        Grip(
            name=said("Under"),
            position=level.to_travel(under.level_db),
            targets=(Target(of="spur", number=under.id, path="level_db"),),
        ),
    )
    return msgspec.structs.replace(strip, grips=grips)


def amps_session() -> Session:
    """The pickup alone through three amplifiers, left, centre and right, as loud as each other."""
    session, _ = session_of(demo_path(ZITHER))
    stem = msgspec.structs.replace(session.sound.stems[0], strip=Strip(split=Split(mode="left-right")))
    made = Session(sound=Sound(stems=(stem,)), desk=Desk(loop=Loop(start_s=0.0, end_s=11.4)))
    made, numbers = three_amps(made, tree.FIRST, "left")
    learned = Learned(start_s=0.0, end_s=11.4, levels_db=(NOMINAL_DB - PICKUP_INPUT_DB, -150.0))
    made = with_learned(made, tree.FIRST, numbers, learned)
    strip = levelled(made.sound.stems[0].strip, dict(zip(numbers, THREE_LUFS, strict=True)))
    return put(made, ("sound", "stems", 0, "strip"), strip)


def calls_session(bpm: int) -> Session:
    """Whistle calls thrown into an echo of one beat on the left and a beat and a half on the right, shaped behind it."""
    session, _ = session_of(demo_path(CALLS[bpm]))

    def side(note: str, level_db: float, feedback_db: float) -> EchoSide:
        return EchoSide(
            time_note=note,
            level_db=level_db,
            feedback_db=feedback_db,
            cross_db=-18.0,
            low_pass_hz=4200.0,
            high_pass_hz=180.0,
        )

    cut = FilterSide(high_pass=True, high_pass_hz=420.0, high_pass_slope=24)
    echo = Echo(
        id=0,
        upper=side("1 beat", -3.0, -6.0),
        lower=side("1.5 beats", -4.0, -7.0),
        shared=EchoShared(dry_db=-120.0, duck_db=4.0),
    )
    bell = EqSide(bands=(Band(frequency_hz=1500.0, gain_db=-3.0, q=0.8),))
    stages = (Filter(id=0, upper=cut, lower=cut), echo, Eq(id=0, upper=bell, lower=bell))
    branch, _ = tree.renumbered(Branch(stages=stages), 2)
    spur = Spur(name="Thrown calls", branch=branch, after="split", level_db=-4.0)
    strip = Strip(split=Split(mode="left-right"), spurs=(spur,), output=Output(trim_db=-2.0))
    return _timed(session, strip, Tempo(bpm=float(bpm), first_beat_s=FIRST_BEAT_S))


def lantern_session() -> Session:
    """A phrase in loops that feed each other and lose their top; as versions with a chorus, and with a drive, inside."""
    session, _ = session_of(demo_path(LANTERN))
    upper = EchoSide(
        time_note="1/8 dotted", level_db=-4.0, feedback_db=-11.0, cross_db=-8.5, low_pass_hz=3200.0, slope=6
    )
    lower = msgspec.structs.replace(
        upper, time_note="1/4", feedback_db=-12.0, cross_db=-8.0, high_pass_hz=120.0
    )
    chorus = ChorusSide(rate_hz=0.35, depth_ms=1.6, mix=35.0, voices=1)
    driven = DriveSide(drive_db=9.0, level_db=-8.0, tone_after_db=-2.0)
    inside = {
        "Darker each time": (),
        "With a chorus inside": (Chorus(id=0, upper=chorus, lower=chorus),),
        "Torn a little, too": (
            Chorus(id=0, upper=chorus, lower=chorus),
            Drive(id=0, upper=driven, lower=driven, level_kept=False),
        ),
    }
    tempo = Tempo(bpm=float(LANTERN_BPM), first_beat_s=FIRST_BEAT_S)
    made = None
    versions = []
    for number, (note, stages) in enumerate(inside.items(), 1):
        echo, _ = tree.renumbered(Echo(id=0, upper=upper, lower=lower, branches=(Branch(stages=stages),)), 2)
        kept = _timed(session, Strip(split=Split(mode="left-right"), stages=(echo,)), tempo)
        made = made or kept
        versions.append(Version(number=number, note=note, sound=kept.sound))
    assert made is not None
    return msgspec.structs.replace(made, versions=tuple(versions))


def wheelhouse_session() -> Session:
    """A spoken log with other noise on each side, its pause looped, ready to be learned."""
    session, _ = session_of(demo_path(WHEELHOUSE))
    side = NoiseSide(amount_db=15.0)
    strip = Strip(split=Split(mode="left-right"), stages=(Noise(id=2, upper=side, lower=side),))
    stem = msgspec.structs.replace(session.sound.stems[0], strip=strip)
    return Session(sound=Sound(stems=(stem,)), desk=Desk(loop=Loop(start_s=0.1, end_s=1.1)))


def _timed(session: Session, strip: Strip, tempo: Tempo) -> Session:
    """A session with a strip at a tempo."""
    stem = msgspec.structs.replace(session.sound.stems[0], strip=strip)
    return retimed(Session(sound=Sound(stems=(stem,), tempo=tempo)))
