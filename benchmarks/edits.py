"""What an edit costs: in the player, where a level is moved beside stages, and in the document, with many stems and versions."""

import time
from collections.abc import Callable

import msgspec

from stonekite.engine.graph.chain import Chain
from stonekite.engine.mix.strip import Prepared
from stonekite.session import edits, limits, tree
from stonekite.session.timing import retimed
from stonekite.session.types import Leg, Session, Sound, Source, Stem, Strip
from stonekite.stages.registry import KINDS

RATE = 48_000
TURNS = 40


def _quickest(act: Callable[[float], object]) -> float:
    took = []
    for k in range(TURNS):
        begun = time.process_time()
        act(-0.1 * (k + 1))
        took.append(time.process_time() - begun)
    return sorted(took)[TURNS // 10]


def _moved(strip: Strip, db: float) -> Strip:
    return msgspec.structs.replace(strip, upper=Leg(level_db=db))


def _session(stems: int, versions: int) -> Session:
    every = tuple(KINDS[kind].stage(id=k + 1) for k, kind in enumerate(("eq", "compressor", "echo", "noise")))
    source = Source(path="/none.wav", rate=RATE, frames=RATE)
    made = Session(
        sound=Sound(
            stems=tuple(
                Stem(id=1000 + k, name="x", source=source, strip=Strip(stages=every)) for k in range(stems)
            )
        )
    )
    for _ in range(versions):
        made = edits.keep_version(made)
    return retimed(made)


def _edit(session: Session) -> float:
    """What the document does to take an edit, besides telling of it."""

    def act(db: float) -> None:
        changed = edits.put(session, ("sound", "stems", 0, "strip", "upper", "level_db"), db)
        made = tree.counted(retimed(changed))
        assert not limits.excess(made)

    act(0.5)
    return _quickest(act)


def rows() -> list[tuple[str, str]]:
    """A level moved beside every kind, against building all anew; an edit in 64 stems of 9 versions against one in one."""
    strip = Strip(stages=tuple(KINDS[kind].stage(id=k + 1) for k, kind in enumerate(KINDS)))
    old = Chain(strip, RATE)
    moved = _quickest(lambda db: Prepared(_moved(strip, db), old, 0))
    anew = _quickest(lambda db: Chain(_moved(strip, db), RATE))
    many, one = _edit(_session(64, 9)), _edit(_session(1, 0))
    return [
        (
            "A level moved beside one stage of every kind, player",
            f"{1000 * moved:.2f} ms of processor, all built anew {1000 * anew:.2f} ms",
        ),
        (
            "An edit taken by a document of 64 stems and 9 versions",
            f"{1e6 * many:.0f} µs, of one stem {1e6 * one:.0f} µs ({many / one:.2f})",
        ),
    ]
