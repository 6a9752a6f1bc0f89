"""Blocks handed on from step to step, several at once."""

import threading
import time

import numpy as np
import pytest
from conftest import RATE
from trees import SPLITS, drawn_stage

from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.relay import relayed
from stonekite.session.spur import END, SPLIT, Spur
from stonekite.session.types import Intake, IntakeSide, Output, Strip
from stonekite.stages.branch import Branch
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.registry import KINDS


def cut(sound: np.ndarray, size: int) -> list[np.ndarray]:
    return [sound[:, k : k + size] for k in range(0, sound.shape[1], size)]


def of_all_kinds(seed: int) -> Strip:
    """A strip with a stage of every kind, in a random order, and with both ends at work."""
    rng = np.random.default_rng(seed)
    stages = tuple(drawn_stage(kind, rng, 2 + k) for k, kind in enumerate(rng.permutation(list(KINDS))))
    return Strip(
        intake=Intake(remove_dc=True, left=IntakeSide(delay_ms=1.3)),
        split=SPLITS[seed % 4],
        stages=stages,
        output=Output(limited=True, ceiling_db=-6.0),
    )


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(4))
def test_what_is_handed_on_is_what_one_after_the_other_gives_to_the_bit(seed):
    strip = of_all_kinds(seed)
    sound = 0.2 * np.random.default_rng(seed).standard_normal((2, 3 * RATE))
    size = (700, 5000, 16_384, 4096)[seed]
    chain = Chain(strip, RATE, at_least=0)
    wanted = Chain(strip, RATE, at_least=chain.latency).process(sound, 0)
    pairs = list(relayed(chain.steps(), iter(cut(sound, size)), 0, threads=1 + seed))
    assert np.array_equal(np.concatenate([source for source, _ in pairs], axis=1), sound)
    assert np.array_equal(np.concatenate([made for _, made in pairs], axis=1), wanted)
    assert len(chain.steps()) > 10


def test_spurs_are_steps_of_their_own_and_take_what_is_theirs():
    """From the split, after a stage and from the end, of one component and of both."""
    stages = tuple(Gain(id=k, upper=GainSide(gain_db=3.0 - k)) for k in (2, 3, 4))

    def spur(number: int, after: object, source: str = "both") -> Spur:
        side = {"lower": None} if source != "both" else {}
        inner = Gain(id=number + 1, upper=GainSide(gain_db=-6.0), **side)
        return Spur(branch=Branch(id=number, stages=(inner,)), after=after, source=source, delay_ms=2.0)

    spurs = (spur(20, SPLIT), spur(30, 3), spur(40, END, "left"))
    strip = Strip(stages=stages, spurs=spurs)
    sound = 0.2 * np.random.default_rng(1).standard_normal((2, RATE))
    chain = Chain(strip, RATE)
    made = [out for _, out in relayed(chain.steps(), iter(cut(sound, 1000)), 0, threads=3)]
    assert np.array_equal(np.concatenate(made, axis=1), Chain(strip, RATE).process(sound, 0))
    assert len(chain.steps()) == 1 + 3 + 1 + 3 + 1


def test_steps_work_at_the_same_time_each_on_its_blocks_in_their_order():
    seen: dict[int, list[int]] = {k: [] for k in range(3)}
    busy, most = set(), 0

    def step(k: int):
        def work(block: np.ndarray, clock: int) -> np.ndarray:
            nonlocal most
            assert k not in busy
            busy.add(k)
            most = max(most, len(busy))
            seen[k].append(clock)
            time.sleep(0.002)
            busy.remove(k)
            return block + 1.0

        return work

    blocks = cut(np.zeros((2, 200)), 10)
    made = [out for _, out in relayed([step(k) for k in range(3)], iter(blocks), 50, threads=3)]
    assert len(made) == 20
    assert all((out == 3.0).all() for out in made)
    assert all(clocks == list(range(50, 250, 10)) for clocks in seen.values())
    assert most > 1


def test_what_goes_wrong_in_a_step_is_raised_and_the_threads_end():
    def broken(block: np.ndarray, clock: int) -> np.ndarray:
        if clock == 30:
            raise ValueError("no such rope")
        return block

    taken = []
    with pytest.raises(ValueError, match="no such rope"):
        for pair in relayed([broken], iter(cut(np.zeros((2, 100)), 10)), 0, threads=2):
            taken.append(pair)
    assert len(taken) <= 3
    assert not any(thread.name == "relay" for thread in threading.enumerate())


def test_whoever_stops_taking_stops_the_threads_and_reads_no_further():
    given = []

    def endless():
        while True:
            given.append(len(given))
            yield np.zeros((2, 8))

    results = relayed([lambda block, clock: block], endless(), 0, threads=2)
    next(results)
    results.close()
    assert len(given) < 10
    assert not any(thread.name == "relay" for thread in threading.enumerate())
