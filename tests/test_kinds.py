"""What must hold for every kind of stage, whatever its settings and whatever stands around it."""

import itertools
import math
from typing import Any, get_args, get_type_hints

import msgspec
import numpy as np
import pytest
from conftest import RATE, THOROUGH
from scipy import signal
from trees import SPLITS, drawn, drawn_stage

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.course import Course
from stonekite.engine.graph.line import Line
from stonekite.engine.mix.strip import StripPlayer
from stonekite.session.tree import walk
from stonekite.session.types import Intake, IntakeSide, Output, Strip
from stonekite.stages.base import LEGS, Context, Stage
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.planning import seam_memory
from stonekite.stages.registry import KINDS, greatest
from stonekite.stages.settings import settings_of


def nearby(stage: Any, rng: np.random.Generator) -> Stage:
    """The stage with one setting of one side or band moved, as by a hand on a slider."""
    legs = [leg for leg in LEGS if getattr(stage, leg) is not None]
    if not legs:
        return stage
    leg = legs[int(rng.integers(len(legs)))]
    side = getattr(stage, leg)
    bands = [k for k, band in enumerate(getattr(side, "bands", ())) if band is not None]
    holder = side.bands[bands[int(rng.integers(len(bands)))]] if bands and rng.random() < 0.8 else side
    name = list(settings_of(type(holder)))[int(rng.integers(len(settings_of(type(holder)))))]
    moved = msgspec.structs.replace(holder, **{name: getattr(drawn(type(holder), rng), name)})
    if holder is not side:
        moved = msgspec.structs.replace(side, bands=tuple(moved if b is holder else b for b in side.bands))
    return msgspec.structs.replace(stage, **{leg: moved})


def programme(seconds: float, seed: int) -> np.ndarray:
    """Smooth sound (2, frames): low and middle tones that come and go, different on both sides, and a little noise."""
    rng = np.random.default_rng(seed)
    t = np.arange(int(seconds * RATE)) / RATE
    sound = np.zeros((2, len(t)))
    for _ in range(10):
        f, beat = float(np.exp(rng.uniform(np.log(50), np.log(3000)))), rng.uniform(1.0, 5.0)
        tone = np.sin(2 * np.pi * (f * t + rng.uniform())) * np.sin(np.pi * (beat * t + rng.uniform())) ** 2
        sound += rng.uniform(0, 0.12, (2, 1)) * tone
    return sound + 1e-4 * rng.standard_normal(sound.shape)


def through(strip: Strip, sound: np.ndarray) -> np.ndarray:
    return Chain(strip, RATE).process(sound, 0)


SECONDS, AT = 7.0, int(2.0 * RATE)


def changed(before: Strip, after: Strip, sound: np.ndarray, at: int = AT) -> tuple[np.ndarray, int]:
    """Sound through a player that goes over from one strip to another; and after how many frames it has to have
    forgotten."""
    player = StripPlayer(before, RATE)
    first = player.process(sound[:, :at], 0)
    player.update(after, at)
    second = player.process(sound[:, at:], at)
    chain = Chain(after, RATE)
    memory = int(0.02 * RATE) + chain.memory + chain.glide
    return np.concatenate([first, second], axis=1), memory


def off_by_db(out: np.ndarray, wanted: np.ndarray) -> float:
    """The largest difference in dB of the peak."""
    peak = max(float(np.abs(wanted).max()), 1e-6)
    return 20 * math.log10(max(float(np.abs(out - wanted).max()), 1e-15) / peak)


def worst_step(out: np.ndarray, old: np.ndarray, new: np.ndarray, at: int) -> float:
    """How many times the largest step of both sounds a change makes at the most: of the sounds in every row."""
    late = min(out.shape[1], at + RATE)
    own = max(float(np.abs(np.diff(sound[:, at - 4800 : late], axis=1)).max()) for sound in (old, new))
    return float(np.abs(np.diff(out[:, at - 4800 : late], axis=1)).max()) / max(own, 1e-9)


@pytest.mark.slow
@pytest.mark.parametrize("kind", list(KINDS))
def test_any_cut_gives_the_same_bits(kind):
    for seed in range(6 if THOROUGH else 3):
        rng = np.random.default_rng(seed)
        strip = Strip(split=SPLITS[seed % 4], stages=(drawn_stage(kind, rng), drawn_stage(kind, rng, 8)))
        sound = programme(0.7, seed)
        wanted = through(strip, sound)
        edges = [0, *sorted(rng.integers(0, sound.shape[1], 40).tolist()), 7, 8, sound.shape[1]]
        chain = Chain(strip, RATE)
        parts = [chain.process(sound[:, a:b], a) for a, b in itertools.pairwise(sorted(edges))]
        assert np.array_equal(np.concatenate(parts, axis=1), wanted)


def changes_of(kind: str, seed: int) -> tuple[Strip, Strip, str]:
    """Two strips with a stage of the kind: other settings, or other things around it."""
    rng = np.random.default_rng([seed, *kind.encode()])
    one = drawn_stage(kind, rng)
    split = SPLITS[seed % 4]
    long = Eq(id=20, upper=EqSide(bands=(Band(gain_db=4.0),)), shared=EqShared(phase="linear"))
    another = drawn_stage(list(KINDS)[int(rng.integers(len(KINDS)))], rng, 9)
    what = ("other", "near", "in front", "gone", "late in front", "split", "ends")[seed % 7]
    before = Strip(split=split, stages=(one, long) if seed % 2 else (another, one))
    stages: tuple[Stage, ...] = before.stages
    after = {
        "other": lambda: tuple(drawn_stage(kind, rng) if s is one else s for s in stages),
        "near": lambda: tuple(nearby(one, rng) if s is one else s for s in stages),
        "in front": lambda: (drawn_stage(kind, rng, 11), *stages),
        "gone": lambda: tuple(s for s in stages if s is not one),
        "late in front": lambda: (msgspec.structs.replace(long, id=12), *stages),
    }
    if what in after:
        return before, msgspec.structs.replace(before, stages=after[what]()), what
    if what == "split":
        return before, msgspec.structs.replace(before, split=SPLITS[(seed + 1) % 4]), what
    ends = {
        "intake": Intake(remove_dc=True, left=IntakeSide(delay_ms=float(rng.uniform(0, 3)))),
        "output": Output(limited=bool(rng.integers(2)), ceiling_db=-9.0),
    }
    return before, msgspec.structs.replace(before, **ends), what


@pytest.mark.slow
@pytest.mark.parametrize("kind", list(KINDS))
def test_after_its_memory_a_change_is_as_if_it_had_always_been_so(kind):
    worst, words, loudest, where = -300.0, "", 0.0, ""
    first = (
        0 if THOROUGH else 3 * list(KINDS).index(kind)
    )  # so that all kinds together meet all sorts of changes
    for seed in range(first, first + (14 if THOROUGH else 3)):
        before, after, what = changes_of(kind, seed)
        sound = programme(SECONDS, seed)
        out, memory = changed(before, after, sound)
        old, new = through(before, sound), through(after, sound)
        assert np.array_equal(out[:, :AT], old[:, :AT])
        if AT + memory < sound.shape[1] - RATE // 4:
            off = off_by_db(out[:, AT + memory :], new[:, AT + memory :])
            if off > worst:
                worst, words = off, f"{what} (seed {seed})"
        step = worst_step(out, old, new, AT)
        if step > loudest:
            loudest, where = step, f"{what} (seed {seed})"
    print(f"{kind}: after the memory {worst:.0f} dB, {words}; largest step {loudest:.2f} times, {where}")
    assert worst <= -120.0
    assert loudest <= 1.5


@pytest.mark.slow
@pytest.mark.parametrize("kind", list(KINDS))
def test_what_is_no_number_never_leaves_and_is_soon_forgotten(kind):
    for seed in range(8 if THOROUGH else 3):
        rng = np.random.default_rng(seed)
        ends = Strip(
            intake=Intake(remove_dc=True, right=IntakeSide(delay_ms=0.5)),
            output=Output(limited=True, ceiling_db=-3),
        )
        strip = msgspec.structs.replace(ends if seed % 2 else Strip(), stages=(drawn_stage(kind, rng),))
        sound = programme(4.0, seed)
        broken = sound.copy()
        for value, at in zip(
            (np.nan, np.inf, -np.inf, 1e200, -1e300), rng.integers(2000, 30_000, 5), strict=True
        ):
            broken[int(rng.integers(2)), at] = value
        chain = Chain(strip, RATE)
        out = np.concatenate(
            [chain.process(broken[:, k : k + 480], k) for k in range(0, broken.shape[1], 480)], axis=1
        )
        assert np.isfinite(out).all()
        start = 30_000 + chain.memory
        if start < sound.shape[1]:
            assert off_by_db(out[:, start:], through(strip, sound)[:, start:]) <= -120.0


@pytest.mark.slow
@pytest.mark.parametrize("kind", list(KINDS))
def test_what_rings_on_is_90_db_down_after_the_tail_that_the_kind_says(kind):
    worst = -300.0
    for seed in range(12 if THOROUGH else 3):
        rng = np.random.default_rng([seed, *kind.encode()])
        strip = Strip(split=SPLITS[seed % 4], stages=(drawn_stage(kind, rng),))
        chain = Chain(strip, RATE)
        sound = np.zeros((2, RATE // 2 + chain.latency + chain.tail + 4800))
        sound[:, : RATE // 2] = programme(0.5, seed)
        out = chain.process(sound, 0)
        rest = out[:, RATE // 2 + chain.latency + chain.tail :]
        worst = max(worst, off_by_db(rest + np.abs(out).max(), np.full_like(rest, np.abs(out).max())))
    print(f"{kind}: what is left after the tail {worst:.0f} dB")
    assert worst <= -90.0


@pytest.mark.slow
@pytest.mark.parametrize("kind", list(KINDS))
def test_what_it_does_belongs_to_the_place_and_not_to_the_clock(kind):
    """Begun anywhere, as round a loop, it does the same at the same place of the recording; and behind something late it
    does so where what it hears belongs. (The clock is moved by whole frames of those that work by frames.)
    """
    worst = -300.0
    for seed in range(8 if THOROUGH else 3):
        rng = np.random.default_rng([seed, *kind.encode()])
        stage = drawn_stage(kind, rng)
        strip = Strip(split=SPLITS[seed % 4], stages=(stage,))
        sound = programme(1.0, seed)
        here = Chain(strip, RATE)
        wanted = here.process(sound.copy(), 0)
        course, begun = Course(), 2**12 * 3**2 * 5**3 * 7
        course.jump(begun, 0)
        there = Chain(strip, RATE, course=course).process(sound.copy(), begun)
        # What moves goes over from the numbers of the place where it was thought to be before.
        from_there = here.latency + seam_memory(RATE) if any(one.rides for _, one in walk(strip)) else 0
        worst = max(worst, off_by_db(there[:, from_there:], wanted[:, from_there:]))
        context, heard = Context(RATE, strip.split.encoding), here.split(sound)
        alone, behind = heard.copy(), heard.copy()
        Line((stage,), context).process(alone, 0)
        Line((stage,), context, begun).process(behind, begun)
        worst = max(worst, off_by_db(behind, alone))
    print(f"{kind}: {worst:.0f} dB off elsewhere")
    assert worst < -60.0  # what is held, is held in steps of the clock


def arrays_in(value: Any, seen: set[int] | None = None) -> list[np.ndarray]:
    """All arrays that something holds, however deep."""
    seen = set() if seen is None else seen
    if id(value) in seen:
        return []
    seen.add(id(value))
    if isinstance(value, np.ndarray):
        return [value]
    if isinstance(value, dict):
        inner = list(value.values())
    elif isinstance(value, list | tuple):
        inner = list(value)
    elif type(value).__module__.startswith("stonekite"):
        names = [*getattr(value, "__dict__", {}), *getattr(type(value), "__slots__", ())]
        inner = [getattr(value, name, None) for name in names]
    else:
        inner = []
    return [array for one in inner for array in arrays_in(one, seen)]


@pytest.mark.parametrize("kind", list(KINDS))
def test_what_it_works_with_is_never_written_to(kind):
    """Two that go on beside each other, in two threads, may have the same: what is working space belongs to a state."""
    for seed in range(3):
        rng = np.random.default_rng([seed, *kind.encode()])
        stage = drawn_stage(kind, rng)
        line = Line((stage,), Context(RATE, SPLITS[seed].encoding))
        nodes = list(line.everything)
        held = [array for node in nodes for way in node.ways for array in arrays_in(way.coefficients)]
        before = [array.copy() for array in held]
        sound = programme(1.0, seed)
        for k in range(0, sound.shape[1], 500):
            line.process(np.ascontiguousarray(sound[:, k : k + 500]), k)
        assert all(np.array_equal(a, b, equal_nan=True) for a, b in zip(before, held, strict=True))


@pytest.mark.slow
@pytest.mark.parametrize("kind", list(KINDS))
def test_no_tone_comes_out_louder_than_the_kind_says(kind):
    """Whatever the level and the moment: loops are kept from growing by what kinds say of their greatest gain."""
    worst, words = -300.0, ""
    hertz = np.array([60.0, 220.0, 700.0, 2300.0, 7100.0])
    for seed in range(12 if THOROUGH else 3):
        rng = np.random.default_rng([seed, *kind.encode()])
        stage = drawn_stage(kind, rng)
        most = greatest((stage,), hertz, RATE)
        for k, hz in enumerate(hertz):
            level, upper = float(rng.choice([-50.0, -20.0, -3.0])), int(rng.integers(2))
            t = np.arange(2 * RATE) / RATE
            legs = np.zeros((2, len(t)))
            legs[upper] = 10 ** (level / 20) * np.sin(2 * np.pi * hz * t)
            line = Line((stage,), Context(RATE, None))
            line.process(legs, 0)
            window = signal.windows.blackmanharris(int((0.06 if hz > 100 else 0.16) * RATE))
            turn = np.exp(-2j * np.pi * hz * t)
            for leg in (0, 1):
                found = signal.oaconvolve(legs[leg] * turn, window / window.sum(), "valid")
                heard = np.abs(found[RATE // 2 :]).max()
                allowed = 0.5 * 10 ** (level / 20) * max(most[leg, upper, k], 1e-4)
                over = 20 * np.log10(max(heard, 1e-12) / allowed)
                if over > worst:
                    worst, words = over, f"{hz:.0f} Hz at {level:.0f} dBFS, seed {seed}"
    print(f"{kind}: {worst:+.2f} dB over what it says, {words}")
    assert worst < 0.5


def test_every_setting_of_every_kind_is_drawn():
    """The tests above mean all settings: none is declared in a way that they do not see."""
    for kind in KINDS.values():
        settings = settings_of(kind.side)
        names = set(settings) | {setting.note for setting in settings.values()}
        fields = {field.name for field in msgspec.structs.fields(kind.side)}
        assert fields - names <= {"bands", "paths", "own"}
        hint = get_type_hints(kind.stage).get("upper")
        assert kind.side in get_args(hint)
