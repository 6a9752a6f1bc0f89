"""Every setting of every kind at each of its ends: what can be set can be built and played, wherever it stands."""

from typing import Any, get_type_hints

import msgspec
import numpy as np
import pytest
from conftest import RATE, THOROUGH
from test_kinds import programme
from trees import SPLITS, drawn_side

from stonekite.engine.graph.chain import Chain
from stonekite.session import storage, tree
from stonekite.session.spur import Spur
from stonekite.session.types import Session, Sound, Source, Stem, Strip
from stonekite.stages.bands import BandsStage
from stonekite.stages.base import Context, Stage
from stonekite.stages.branch import Branch, branches_of
from stonekite.stages.describe import structs_in
from stonekite.stages.echo import Echo
from stonekite.stages.planning import refusal
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import settings_of


def ends_of(struct: Any) -> list[Any]:
    """A value of settings with each one at each of its ends, one at a time."""
    found = []
    for name, setting in settings_of(type(struct)).items():
        values: tuple[Any, ...] = (setting.low, setting.high)
        if setting.words is not None:
            values = tuple(setting.words)
        elif isinstance(setting.default, bool):
            values = (False, True)
        note = {setting.note: ""} if setting.note else {}
        found += [msgspec.structs.replace(struct, **{name: value}, **note) for value in values]
    return found


def corners_of(tag: str) -> list[Stage]:
    """Stages of a kind with a setting at an end: of one leg, of the other, of both, and of what they share."""
    kind, changed = KINDS[tag], msgspec.structs.replace
    rng = np.random.default_rng(1)
    side = drawn_side(kind, rng, as_new=0.8)
    first: Any = kind.stage(id=7, upper=side, lower=side)
    found: list[Stage] = [kind.stage(id=7), kind.stage(id=7, upper=None, lower=None)]
    sides = ends_of(side)
    for holder in ("bands", "paths"):
        items = getattr(side, holder, ())
        if items and items[0] is not None:
            sides += [changed(side, **{holder: (one, *items[1:])}) for one in ends_of(items[0])]
    for one in sides:
        found += [changed(first, upper=one), changed(first, lower=one), changed(first, upper=one, lower=one)]
        found += [changed(first, upper=one, lower=None), changed(first, upper=None, lower=one)]
    shared = get_type_hints(kind.stage).get("shared")
    if shared is not None:
        found += [changed(first, shared=one) for one in ends_of(shared())]
        taps = get_type_hints(shared).get("taps")
        if taps is not None:
            found += [
                changed(first, shared=changed(shared(), taps=(one,)))
                for one in ends_of(structs_in(taps)[0]())
            ]
    return found


def places_of(stage: Stage) -> dict[str, Strip]:
    """A stage on the legs, keeping its level, only its change, in a spur, in a band and in a loop."""
    changed = msgspec.structs.replace
    stage, _ = tree.renumbered(stage, 200)
    bands: Any = BandsStage(id=20)
    loop: Any = Echo(id=30)
    within = {
        "band": changed(bands, branches=(Branch(id=21, stages=(stage,)), *branches_of(bands)[1:])),
        "loop": changed(loop, branches=(Branch(id=31, stages=(stage,)), *branches_of(loop)[1:])),
    }
    found = {
        "legs": Strip(stages=(stage,)),
        "level kept": Strip(stages=(changed(stage, level_kept=True, kept_db=3.0),)),
        "change only": Strip(stages=(changed(stage, change_only=True),)),
        "spur": Strip(spurs=(Spur(name="Pier", branch=Branch(id=40, stages=(stage,))),)),
    }
    for where, outer in within.items():
        whole = changed(outer, branches=tuple(changed(b, id=100 + k) for k, b in enumerate(outer.branches)))
        if not refusal(whole, Context(RATE)):
            found[where] = Strip(stages=(whole,))
    return found


def session_of(strip: Strip) -> Session:
    source = Source(path="quay.wav", rate=RATE, frames=RATE)
    return Session(sound=Sound(stems=(Stem(id=1, name="quay", source=source, strip=strip),)))


@pytest.mark.slow
@pytest.mark.parametrize("tag", list(KINDS))
def test_every_setting_at_each_of_its_ends_builds_plays_and_is_opened_again(tag):
    corners = corners_of(tag)
    step = 1 if THOROUGH else max(1, len(corners) // 60)
    sound = programme(0.1, 3)
    for k, stage in enumerate(corners[::step]):
        places = places_of(stage)
        chosen = list(places.items()) if k % 12 == 0 else [list(places.items())[k % len(places)]]
        for where, strip in chosen:
            strip = msgspec.structs.replace(strip, split=SPLITS[k % 4])
            try:
                out = Chain(strip, RATE).process(sound, 0)
            except Exception as error:
                raise AssertionError(f"{where}: {stage}") from error
            assert np.isfinite(out).all(), (where, stage)
            session = session_of(strip)
            assert storage.decode(storage.encode(session)) == session
