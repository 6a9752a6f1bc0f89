"""An edit costs what it changes: what is the same is neither planned, designed nor sent again."""

import gc
import time

import msgspec
import numpy as np
import pytest
from conftest import RATE
from test_kinds import programme
from trees import drawn_stage, drawn_strip

from stonekite.engine.graph.chain import Chain
from stonekite.engine.mix.strip import Prepared, StripPlayer
from stonekite.remembered import Remembered
from stonekite.session import edits, tree
from stonekite.session.timing import retimed
from stonekite.session.types import Leg, Session, Sound, Source, Split, Stem, Strip, Tempo
from stonekite.stages import planning
from stonekite.stages.amp import KIND as AMP
from stonekite.stages.base import Context
from stonekite.stages.drive import KIND as DRIVE
from stonekite.stages.registry import KINDS

SPLIT = Split(mode="mid-side")
SOURCE = Source(path="/none.wav", rate=RATE, frames=RATE)


def louder(strip: Strip, db: float) -> Strip:
    return msgspec.structs.replace(strip, lower=Leg(level_db=db))


@pytest.mark.parametrize("kind", list(KINDS))
def test_what_an_edit_leaves_alone_is_not_designed_again_and_sounds_the_same(kind):
    """Of every kind, with its branches, beside a level that is moved: the same designs, and the same bits."""
    rng = np.random.default_rng(list(KINDS).index(kind))
    for _ in range(3):
        stage = drawn_stage(kind, rng, 1)
        strip = Strip(split=SPLIT, stages=(stage,))
        old = Chain(strip, RATE)
        new = Chain(louder(strip, -3.0), RATE, older=old)
        fresh = Chain(louder(strip, -3.0), RATE)
        assert new.known.keys() == old.known.keys() == fresh.known.keys()
        for number, node in new.known.items():
            before = old.known[number].ways
            assert all(
                way.coefficients is was.coefficients for way, was in zip(node.ways, before, strict=True)
            )
        sound = programme(0.3, 5)
        assert np.array_equal(new.process(sound.copy(), 0), fresh.process(sound.copy(), 0))


@pytest.mark.parametrize("kind", list(KINDS))
def test_nothing_is_taken_over_from_other_settings_another_matrix_or_another_rate(kind):
    rng = np.random.default_rng(7 + list(KINDS).index(kind))
    stage = drawn_stage(kind, rng, 1)
    other = msgspec.structs.replace(drawn_stage(kind, rng, 1), id=stage.id)
    old = Chain(Strip(split=SPLIT, stages=(stage,)), RATE)
    for strip, rate in (
        (Strip(split=SPLIT, stages=(other,)), RATE),
        (Strip(split=Split(mode="mid-side", matrix="raised-side"), stages=(stage,)), RATE),
        (Strip(split=SPLIT, stages=(stage,)), 44_100),
    ):
        sound = programme(0.2, 6)
        made = Chain(strip, rate, older=old).process(sound.copy(), 0)
        assert np.array_equal(made, Chain(strip, rate).process(sound.copy(), 0))


def test_a_level_beside_a_drive_and_an_amp_costs_a_fraction_of_building_them():
    strip = Strip(stages=(DRIVE.stage(id=1), AMP.stage(id=2)))
    old = Chain(strip, RATE)

    def quickest(make) -> float:
        took = []
        for k in range(30):
            begun = time.perf_counter()
            make(louder(strip, -0.1 * k))
            took.append(time.perf_counter() - begun)
        return min(took)

    moved, anew = quickest(lambda now: Prepared(now, old, 0)), quickest(lambda now: Chain(now, RATE))
    print(f"a level moved {1e3 * moved:.2f} ms, all built anew {1e3 * anew:.2f} ms")
    assert moved < 0.8 * anew and moved < 0.005


def test_a_strip_that_was_sent_shares_what_is_equal():
    """Also inside branches and spurs; and it stays the strip that was sent."""
    for seed in range(12):
        strip = drawn_strip(seed, spurs=2, stages=3)
        sent = msgspec.json.decode(msgspec.json.encode(strip), type=Strip)
        assert tree.sharing(sent, strip) is strip
        moved = louder(sent, -2.0)
        shared = tree.sharing(moved, strip)
        assert shared == moved
        known = {stage.id: stage for _, stage in tree.walk(strip)}
        assert all(stage is known[stage.id] for _, stage in tree.walk(shared))
        path, stage = next(tree.walk(sent))
        changed = edits.put(sent, path, msgspec.structs.replace(stage, linked=not stage.linked))
        again = tree.sharing(changed, strip)
        others = [one for _, one in tree.walk(again) if one.id != stage.id]
        assert again == changed and all(one is known[one.id] for one in others if one == known[one.id])


def test_a_plan_is_asked_once_for_a_value(monkeypatch):
    asked = []
    real = planning._planned
    monkeypatch.setattr(
        planning, "_planned", lambda stage, context: asked.append(stage) or real(stage, context)
    )
    strip = Strip(
        stages=tuple(KINDS[kind].stage(id=k + 1) for k, kind in enumerate(("drive", "gate", "echo")))
    )
    player = StripPlayer(strip, RATE)
    before = len(asked)
    assert before == len({id(stage) for stage in asked}) > 0
    for k in range(5):
        player.prepare(louder(strip, -0.1 * k))
    assert len(asked) == before
    planning.plan_of(strip.stages[0], Context(44_100))
    assert len(asked) == before + 1


def test_retiming_looks_only_at_strips_that_are_new(monkeypatch):
    from stonekite.session import timing

    looked = []
    real = timing._at_tempo
    monkeypatch.setattr(timing, "_at_tempo", lambda strip, tempo: looked.append(strip) or real(strip, tempo))
    stems = tuple(Stem(id=100 + k, name="x", source=SOURCE, strip=drawn_strip(k)) for k in range(6))
    session = retimed(Session(sound=Sound(stems=stems)))
    session = retimed(edits.keep_version(session))
    looked.clear()
    assert retimed(session) is session and not looked
    moved = edits.put(session, ("sound", "stems", 2, "strip", "lower"), Leg(level_db=-1.0))
    assert retimed(moved) is moved and len(looked) == 1
    faster = msgspec.structs.replace(moved.sound, tempo=Tempo(bpm=90.0))
    retimed(msgspec.structs.replace(moved, sound=faster))
    empty = moved.sound.mix.strip  # which other tests may have looked at before
    assert len([strip for strip in looked if strip is not empty]) == 7


def test_what_is_remembered_goes_with_its_value_and_a_fault_is_not_remembered():
    remembered, calls = Remembered(), []

    def make() -> int:
        calls.append(1)
        if len(calls) == 1:
            raise ValueError("not yet")
        return len(calls)

    strip = Strip()
    with pytest.raises(ValueError, match="not yet"):
        remembered.of(strip, "a", make)
    assert remembered.of(strip, "a", make) == remembered.of(strip, "a", make) == 2
    assert remembered.of(strip, "b", make) == 3
    equal = Strip()
    assert remembered.of(equal, "a", make) == 4 and len(remembered) == 2
    del strip, equal
    gc.collect()
    assert len(remembered) == 0


def test_versions_are_sent_once(opened, qtbot, monkeypatch):
    """Not with each tick of a slider; and again to a player that has been started anew."""
    window = opened
    sent = []
    window.switching.keep()
    monkeypatch.setattr(window.transport, "_send", lambda command: sent.append(command))
    for k in range(4):
        window.document.put(("lower", "level_db"), -0.5 * (k + 1), "level", "drag")
    updates = [one for one in sent if type(one).__name__ == "Update"]
    assert len(updates) == 4 and len([one for one in updates if one.beside is not None]) <= 1
    sent.clear()
    window.transport._promote()
    (update,) = [one for one in sent if type(one).__name__ == "Update"]
    assert len(update.beside) == 1
