"""What a second look at the sound found: hum that is followed, rooms at other rates, chords, inverted copies, notes, files."""

import itertools
import os
import re
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest
from conftest import RATE, THOROUGH, noise, session_on, write_wav
from hypothesis import given, settings
from hypothesis import strategies as st

from stonekite import notes
from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.line import Line
from stonekite.engine.offline import paths
from stonekite.files import atomic
from stonekite.session import edits, storage, tree
from stonekite.session.spur import Spur
from stonekite.session.types import Split, Strip, Tempo
from stonekite.signal import mixing
from stonekite.signal.filters import biquads
from stonekite.signal.kept_kernels import digest_of
from stonekite.stages import noise as noise_kind
from stonekite.stages.base import Context
from stonekite.stages.branch import Branch
from stonekite.stages.cabinet import KIND as CABINET
from stonekite.stages.cabinet import CabinetSide, CabinetStage
from stonekite.stages.cabinet.kinds import BOXES
from stonekite.stages.eq import KIND as EQ
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.hum import KIND as HUM
from stonekite.stages.hum import Hum, HumSide
from stonekite.stages.suboctave import KIND as SUBOCTAVE
from stonekite.stages.suboctave import Suboctave, SuboctaveSide

LEFT_RIGHT = Split(mode="left-right")
NOTCHES = (20.0, 25.0, 33.0, 60.0, 400.0, 5000.0) if THOROUGH else (20.0, 33.0, 5000.0)
SECONDS = 9.0


def hum(base: np.ndarray | float, rate: float, seed: int = 1) -> np.ndarray:
    t = np.arange(int(SECONDS * rate)) / rate
    turn = 2 * np.pi * np.cumsum(np.broadcast_to(base, t.shape)) / rate
    starts = np.random.default_rng(seed).uniform(0, 6.28, 12)
    return sum(0.03 * np.cos((k + 1) * turn + starts[k]) / (k + 1) for k in range(12))  # type: ignore[return-value]


def music(rate: float, seed: int, level: float) -> np.ndarray:
    rng, n = np.random.default_rng(seed), int(SECONDS * rate)
    out = np.zeros(n)
    for _ in range(30):
        hz, start = 110 * 2 ** (rng.integers(0, 30) / 12), int(rng.uniform(0, SECONDS - 1.5) * rate)
        t = np.arange(int(rng.uniform(0.2, 1.5) * rate)) / rate
        tone = sum(np.sin(2 * np.pi * hz * k * t + k) / k for k in range(1, 8))
        out[start : start + len(t)] += level * tone * np.exp(-2 * t) * np.minimum(1, 100 * t)
    return out


def dehummed(sound: np.ndarray, base: float, rate: float) -> tuple[np.ndarray, np.ndarray]:
    """What is left of a sound on the upper leg, and the pitch that was followed."""
    side = HumSide(base_hz=base)
    chain = Chain(Strip(split=LEFT_RIGHT, stages=(Hum(id=2, upper=side, lower=side),)), rate)
    out, where = [], []
    for k in range(0, len(sound), 2400):
        out.append(chain.process(np.stack([sound[k : k + 2400]] * 2), k))
        where.append(HUM.offers.follows(chain.line.nodes[0].state)[0])  # type: ignore[misc]
    return np.concatenate(out, axis=1)[0], np.array(where)


def power_db(sound: np.ndarray) -> float:
    return float(10 * np.log10(np.mean(sound**2) + 1e-30))


@pytest.mark.slow
def test_steady_hum_is_followed_as_if_it_were_not_and_drifting_hum_to_20_db():
    worst, drifting = -200.0, -200.0
    for rate, (base, off) in itertools.product(
        (RATE, 44_100, 96_000), ((50.0, 0.0), (60.0, 0.0012), (100.0, -0.0035), (27.0, 0.002))
    ):
        sound = hum(base * (1 + off), rate)
        left, _ = dehummed(sound, base, rate)
        half = len(sound) // 2
        worst = max(worst, power_db(left[half:]) - power_db(sound[half:]))
    t = np.arange(int(SECONDS * RATE)) / RATE
    for period, seed in ((8.0, 1), (20.0, 2)):
        base = 50 * (1 + 0.005 * np.sin(2 * np.pi * t / period))
        sound = hum(base, RATE, seed)
        left, _ = dehummed(sound, 50.0, RATE)
        drifting = max(drifting, power_db(left[4 * RATE :]) - power_db(sound[4 * RATE :]))
    print(f"steady hum left {worst:.1f} dB, drifting {drifting:.1f} dB")
    assert worst <= -38.0 and drifting <= -20.0


@pytest.mark.slow
def test_under_music_the_notches_stay_where_the_hum_is():
    worst = 0.0
    for level, seed in itertools.product((0.05, 0.3), (3, 4)):
        _, where = dehummed(hum(50.0, RATE) + music(RATE, seed, level), 50.0, RATE)
        worst = max(worst, float(np.abs(where[60:] / 50.0 - 1.0).max()))
    print(f"notches wander by {100 * worst:.4f} % under music")
    assert worst < 1e-3


def test_a_room_is_the_same_at_every_rate():
    hz, worst = np.geomspace(40, 20_000, 400), 0.0
    for box in BOXES:
        side = CabinetSide(cabinet=box, room_db=0.0)
        stage = CabinetStage(id=1, upper=side, lower=side)
        levels = {
            rate: 20 * np.log10(np.abs(CABINET.response(stage, "upper", hz, rate)))
            for rate in (44_100.0, 48_000.0, 96_000.0)
        }
        loud = levels[48_000.0] > levels[48_000.0].max() - 40
        for rate in (44_100.0, 96_000.0):
            off = (levels[rate] - levels[48_000.0])[loud & (hz < 19_000)]
            worst = max(worst, float(np.sqrt(np.mean(off**2))))
    print(f"rooms at other rates: {worst:.3f} dB rms")
    assert worst <= 0.3


CHORDS = (
    [110, 165],
    [82.4, 123.5, 164.8],
    [82.41, 123.47, 164.81, 207.65, 246.94, 329.63],
    [98, 146.8, 196],
    [220, 330],
)


@pytest.mark.slow
def test_under_chords_there_is_no_octave_and_none_flickers_at_the_ends():
    side = SuboctaveSide(level_db=0.0, low_pass_hz=1000.0, keeps=False)
    t = np.arange(int(1.5 * RATE)) / RATE

    def followed(pitches) -> np.ndarray:
        sound = sum(0.1 * np.sin(2 * np.pi * f * k * t + k) / k for f in pitches for k in range(1, 20))
        chain = Chain(Strip(split=LEFT_RIGHT, stages=(Suboctave(id=2, upper=side, lower=side),)), RATE)
        found = []
        for k in range(0, len(t), 480):
            chain.process(np.stack([sound[k : k + 480]] * 2), k)  # type: ignore[index]
            found.append(SUBOCTAVE.offers.follows(chain.line.nodes[0].state)[0])  # type: ignore[misc]
        return np.array(found[40:]) > 0.0

    for chord in CHORDS:
        assert not followed(chord).any(), chord
    for note in (40.0, 45.0, 82.4, 220.0, 445.0, 449.0, 450.0):
        assert followed([note]).all(), note


def test_noise_that_both_sides_share_is_followed_as_each_side_by_itself():
    for share, up_db in itertools.product((1.0, 0.9, 0.5), (6.0, 12.0)):
        rng = np.random.default_rng(0)
        common, own = rng.standard_normal(7 * RATE), rng.standard_normal((2, 7 * RATE))
        sound = 0.01 * (np.sqrt(share) * common + np.sqrt(1 - share) * own)
        learned = noise_kind.learns(sound[:, :RATE], Context(RATE), 0.0)
        sound[:, 2 * RATE :] *= 10 ** (up_db / 20)
        shared = noise_kind.NoiseShared(analysis="together", follows="speech", learned=learned)
        chain = Chain(Strip(split=LEFT_RIGHT, stages=(noise_kind.Noise(id=1, shared=shared),)), RATE)
        out = chain.process(sound, 0)
        down = power_db(out[:, 6 * RATE :]) - power_db(sound[:, 6 * RATE :])
        assert down < -11.5, (share, up_db, down)


def test_an_inverted_copy_is_aligned_and_said_to_be_inverted(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(6.0))
    spur = Spur(name="Pier", branch=Branch(id=5), source="both", inverted=True, delay_ms=0.0)
    session = session_on(path, Strip(spurs=(spur,)))
    steps = paths.aligned(session.sound.stems[0], 5)
    while True:
        try:
            next(steps)
        except StopIteration as end:
            found = end.value
            break
    assert abs(found.delay_ms) < 0.01 and found.correlation < -0.99


@given(st.from_regex(re.compile(notes.PATTERN), fullmatch=True))
@settings(max_examples=400, deadline=None)
def test_whatever_may_be_kept_as_a_note_is_one(text):
    if text:
        assert notes.beats(text) > 0.0


def test_a_session_with_no_beats_is_refused_in_a_sentence(tmp_path):
    session = session_on(write_wav(tmp_path / "a.wav", noise(0.1)))
    session, _ = edits.add_stage(session, tree.FIRST, "echo")
    text = storage.encode(session).replace(b'"time_note": ""', b'"time_note": "0 beats"')
    with pytest.raises(storage.SessionError, match="time_note"):
        storage.decode(text)


def test_a_new_echo_is_in_time_where_a_tempo_is_known(tmp_path):
    session = session_on(write_wav(tmp_path / "a.wav", noise(0.1)))
    known = msgspec.structs.replace(
        session, sound=msgspec.structs.replace(session.sound, tempo=Tempo(bpm=96.0))
    )
    for one, note in ((session, ""), (known, "1/4")):
        made, number = edits.add_stage(one, tree.FIRST, "echo")
        stage = next(s for s in made.sound.stems[0].strip.stages if s.id == number)
        assert stage.upper.time_note == note


def test_what_another_computer_is_writing_is_left_alone(tmp_path, monkeypatch):
    foreign = tmp_path / ".stonekite-0123456789-2147483-aabbccdd.wav"
    old = tmp_path / ".stonekite-0123456789-2147484-aabbccdd.wav"
    mine = tmp_path / f".stonekite-{atomic._here()}-2147483-aabbccdd.wav"
    for path in (foreign, old, mine):
        path.write_bytes(b"half")
    long_ago = time.time() - 30 * 86_400
    os.utime(old, (long_ago, long_ago))
    atomic.sweep(tmp_path)
    assert [path.exists() for path in (foreign, old, mine)] == [True, False, False]


def test_compiled_kernels_are_known_by_what_they_were_compiled_from(tmp_path):
    one, other = (digest_of(Path(module.__file__)) for module in (biquads, mixing))
    assert one != other and len(one) == len(other) == 20


@pytest.mark.parametrize("phase", ["linear", "matched"])
def test_what_a_long_filter_rounds_off_a_notch_is_said(phase):
    """By as much as what is heard, as played, is off the prototype anywhere above -24 dB; nothing is said of others."""
    said_of = 0
    for hz, q in itertools.product(NOTCHES, (0.7, 3.0, 12.0)):
        side = EqSide(bands=(Band(shape="notch", frequency_hz=hz, q=q),))
        stage = Eq(id=1, upper=side, lower=EqSide(), shared=EqShared(phase=phase))
        line = Line((stage,), Context(RATE))
        size = 1 << (2 * line.latency + 1).bit_length() + 1
        sound = np.zeros((2, size))
        sound[0, 0] = 1.0
        line.process(sound, 0)
        f = np.fft.rfftfreq(8 * size, 1 / RATE)
        near = (f > hz * 2 ** (-1 / q)) & (f < hz * 2 ** (1 / q))
        heard = np.abs(np.fft.rfft(sound[0], 8 * size))[near]
        plain = msgspec.structs.replace(stage, shared=EqShared(phase="minimum"))
        wished = np.abs(EQ.response(plain, "upper", f[near], RATE))
        above = wished > 10 ** (-24 / 20)
        off = np.abs(20 * np.log10(heard[above] / wished[above])).max()
        told = EQ.offers.remark(stage, "upper", RATE)
        assert EQ.offers.remark(plain, "upper", RATE) == EQ.offers.remark(stage, "lower", RATE) == ""
        if told:
            said_of += 1
            assert f"notch at {hz / 1000:.2f} kHz" in told or f"notch at {hz:.0f} Hz" in told
            assert abs(off - float(re.search(r"by ([0-9.]+) dB", told)[1])) < 0.15, (hz, q, off, told)
        else:
            assert off < 0.15, (hz, q, off)
    assert said_of >= 3


def test_a_kept_kernel_that_cannot_be_read_any_more_is_compiled_again(tmp_path, monkeypatch):
    """As one that was kept by a checkout in which a module stood elsewhere."""
    import importlib.util
    import sys

    from numba.core import config

    monkeypatch.setattr(config, "CACHE_DIR", str(tmp_path / "kept"))
    source = "from stonekite.signal.kernel import kernel\n\n\n@kernel\ndef twice(x):\n    for i in range(x.shape[0]):\n        x[i] *= 2.0\n"
    (tmp_path / "elsewhere.py").write_text(source)

    def loaded():
        spec = importlib.util.spec_from_file_location("elsewhere", tmp_path / "elsewhere.py")
        module = importlib.util.module_from_spec(spec)
        monkeypatch.setitem(sys.modules, "elsewhere", module)
        spec.loader.exec_module(module)
        return module

    loaded().twice(np.ones(3))
    (index,) = tmp_path.rglob("*.nbi")
    version = index.read_bytes()[: index.read_bytes().index(b".") + 1]
    index.write_bytes(version + b"cstonekite.signal.gone\nnothing\n.")
    values = np.ones(3)
    loaded().twice(values)
    assert values.tolist() == [2.0, 2.0, 2.0]
    loaded().twice(values)
    assert values.tolist() == [4.0, 4.0, 4.0]
