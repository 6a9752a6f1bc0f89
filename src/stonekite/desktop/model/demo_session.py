"""The session that `stonekite --demo` opens: the landing stage with an EQ for each component."""

import msgspec

from stonekite.desktop.model.document import session_of
from stonekite.files.demo import demo_path
from stonekite.session.types import Desk, Loop, Session, Sound, Strip
from stonekite.stages.eq import Band, Eq, EqSide


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
