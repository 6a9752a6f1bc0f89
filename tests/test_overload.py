"""A player under what it cannot do: settings that cannot be built, strips that are too much, machines without kernels."""

import dataclasses
import os
import time
from concurrent.futures import Future

import msgspec
import numpy as np
import pytest
from conftest import RATE, hear_strip, noise, write_wav
from test_player import loaded, transport  # noqa: F401

from stonekite.engine.mix.strip import StripPlayer
from stonekite.engine.play.playback import Playback
from stonekite.files.audio import Reader
from stonekite.player import kernels, making
from stonekite.session.alone import leaving_out
from stonekite.session.types import Leg, Mix, Output, Sound, Source, Stem, Strip
from stonekite.stages import registry
from stonekite.stages.cabinet import CabinetSide, CabinetStage
from stonekite.stages.cabinet.settings import OwnResponse
from stonekite.stages.drive import Drive
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.gain import KIND as GAIN
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.noise import Noise, NoiseSide
from stonekite.stages.planning import CannotBuild

EQ = Eq(id=2, upper=EqSide(bands=(Band(frequency_hz=300, gain_db=5),)))
LOUD = Gain(id=9, upper=GainSide(gain_db=-6.0), lower=GainSide(gain_db=-6.0))


@pytest.fixture
def broken(monkeypatch):
    """A gain of exactly -6 dB cannot be built."""

    def fails(stage, context):
        if stage.upper is not None and stage.upper.gain_db == -6.0:
            raise RuntimeError("no such gain")
        return GAIN.coefficients(stage, context)

    changed = dataclasses.replace(registry.KINDS["gain"], coefficients=fails)
    monkeypatch.setitem(registry.KINDS, "gain", changed)


def test_what_cannot_be_built_is_named_and_what_was_there_goes_on(broken, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(1.0))
    with pytest.raises(CannotBuild, match=r"Gain \(stage 9\).*no such gain"):
        StripPlayer(Strip(stages=(EQ, LOUD)), 48_000)
    with Reader(path) as reader, Reader(path) as other:
        playback, wanted = Playback(reader, Strip(stages=(EQ,))), Playback(other, Strip(stages=(EQ,)))
        for one in (playback, wanted):
            one.play()
            one.read(4800)
        playback.update(Strip(stages=(EQ, LOUD)))
        refused = playback.take_refused()
        assert refused is not None and refused.stage == 9
        assert np.array_equal(playback.read(9600), wanted.read(9600))
        # A start with it, too, goes on with what was there.
        playback.seek(2400)
        wanted.seek(2400)
        playback.read(4800)
        wanted.read(4800)
        assert playback.take_refused() is not None
        assert np.array_equal(playback.read(4800), wanted.read(4800))


def test_a_session_opened_with_it_plays_without_that_stage(broken, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(1.0))
    with Reader(path) as reader, Reader(path) as other:
        playback, wanted = Playback(reader, Strip(stages=(EQ, LOUD))), Playback(other, Strip(stages=(EQ,)))
        for one in (playback, wanted):
            one.play()
        refused = playback.take_refused()
        assert refused is not None and refused.stage == 9
        assert np.array_equal(playback.read(9600), wanted.read(9600))


def test_amounts_of_nothing_and_responses_of_a_few_bytes_play():
    for upper, lower in ((0.0, 12.0), (12.0, 0.0), (0.0, 0.0)):
        stage = Noise(
            id=2,
            level_kept=True,
            kept_db=1.0,
            upper=NoiseSide(amount_db=upper),
            lower=NoiseSide(amount_db=lower),
        )
        out = StripPlayer(Strip(stages=(stage,)), 48_000).process(noise(0.5), 0)
        assert np.isfinite(out).all() and np.abs(out[:, 12_000:]).max() > 0.01
    rng = np.random.default_rng(0)
    for size in (4, 5, 7, 8, 9, 63, 4001):
        for rows in (1, 2):
            values = np.frombuffer(rng.bytes(4 * size), "<f4")
            for samples in (rng.bytes(size), values.tobytes(), np.full(size, 3e38, "<f4").tobytes()):
                own = OwnResponse(name="pier", rate=48_000.0, rows=rows, samples=samples)
                side = CabinetSide(cabinet="own", own=own)
                out = StripPlayer(
                    Strip(stages=(CabinetStage(id=2, upper=side, lower=side),)), 48_000
                ).process(noise(0.2), 0)
                assert np.isfinite(out.astype(np.float32)).all() and np.abs(out).max() < 1e3


def test_leaving_out_takes_stages_out_wherever_they_stand():
    strip = Strip(stages=(EQ, LOUD))
    assert [stage.inserted for stage in leaving_out(strip, {9}).stages] == [True, False]
    assert leaving_out(strip, set()) is strip


def heavy(count: int) -> Strip:
    """EQs of 16 bands, and every sixteenth a drive."""
    bands = tuple(Band(frequency_hz=100.0 * (k + 1), gain_db=0.5) for k in range(16))
    side = EqSide(bands=bands)
    stages = tuple(
        Drive(id=k + 2) if k % 16 == 15 else Eq(id=k + 2, upper=side, lower=side) for k in range(count)
    )
    return Strip(stages=stages, lower=Leg(level_db=-1.0))


@pytest.mark.processes
@pytest.mark.slow
def test_a_strip_that_is_too_much_is_said_plays_with_gaps_and_comes_back(qtbot, transport, tmp_path):  # noqa: F811
    loaded(qtbot, transport, write_wav(tmp_path / "a.wav", noise(60.0)))
    pid, told = transport.player_pid, []
    transport.overloaded.connect(told.append)
    transport.play()
    qtbot.waitUntil(lambda: transport.position_s > 0.2, timeout=20_000)
    count = 64
    strip = heavy(count)
    spurs = []
    from stonekite.session.spur import Spur
    from stonekite.stages.branch import Branch

    for k in range(8):  # as many as it takes on this machine: 64 in each of nine paths
        stages = tuple(msgspec.structs.replace(s, id=1000 * (k + 1) + s.id) for s in strip.stages)
        spurs.append(Spur(name=f"Pier {k}", branch=Branch(id=1000 * (k + 1), stages=stages)))
    hear_strip(transport, msgspec.structs.replace(strip, spurs=tuple(spurs)))
    qtbot.waitUntil(lambda: bool(told), timeout=120_000)
    assert told[0].load > 1.0 and len(told[0].stages) == 3
    place = transport.position_s
    qtbot.waitUntil(lambda: transport.position_s > place + 0.1, timeout=60_000)  # with gaps, but on
    assert transport.player_pid == pid, "it lives"
    begin = time.monotonic()
    transport.pause()
    qtbot.waitUntil(lambda: not transport.status["playing"], timeout=20_000)
    assert time.monotonic() - begin < 20.0, "it obeys"
    transport.play()
    hear_strip(transport, Strip(stages=(EQ,)))
    qtbot.waitUntil(lambda: told[-1].load == 0.0, timeout=120_000)
    assert transport.player_pid == pid


def test_what_plays_is_compiled_before_what_may_be_played_instead_and_ends_before_stages(monkeypatch):
    """A version with other ends made a new user wait for all of its stages, too."""
    sent = []

    class Maker:
        def __init__(self, *_):
            pass

        def send(self, told):
            sent.append(told.part)

        def kill(self):
            pass

    class Helper:
        def submit(self, work, part):
            done = Future()
            done.set_result(None)
            return done

    monkeypatch.setattr(kernels, "Child", Maker)
    monkeypatch.setattr(kernels, "MOST_MAKERS", 1)
    monkeypatch.setattr(kernels.warm, "is_compiled", lambda part: False)
    made = kernels.Kernels(Helper())
    stem = Stem(
        id=1, name="stem", source=Source(path="a.wav", rate=RATE, frames=1), strip=Strip(stages=(EQ, LOUD))
    )
    heard = Sound(stems=(stem,), mix=Mix(strip=Strip(stages=(Drive(id=3),), output=Output(limited=True))))
    beside = Strip(stages=(Noise(id=5),), output=Output(width=50.0))
    made.want(heard, [Sound(stems=(msgspec.structs.replace(stem, strip=beside),))])
    ready = []
    for _ in range(20):
        ready.append((made.ends_there, made.complete))
        if sent:
            made._made(making.Made(kernels.warm.way_of(sent[-1])))
        made.step()
    kinds = [kernels.warm.kind_name(part) for part in sent]
    assert kinds == ["ends", "ends", "eq", "gain", "drive", "ends", "noise"]
    assert ready[0] == (False, False) and ready[2] == (True, False) and ready[5] == (True, True)
    assert made.able(beside) == beside


@pytest.mark.processes
@pytest.mark.slow
def test_without_a_compiled_kernel_the_first_sound_comes_before_all_are_there(qtbot, tmp_path, monkeypatch):
    from stonekite.desktop.links.transport import Transport

    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "kernels"))
    made, said = Transport(), []
    made.making.connect(said.append)
    made.start()
    try:
        loaded(qtbot, made, write_wav(tmp_path / "a.wav", noise(20.0)))
        made.play()
        assert made.playing
        qtbot.waitUntil(lambda: made.position_s > 0.05, timeout=120_000)
        labels = {label for event in said for label in event.labels}
        assert "EQ" in labels and any(event.waits for event in said)
        assert not (tmp_path / "kernels" / "kernels").joinpath("noise").exists()
        # What is added is compiled beside the playing, which goes on without it until then.
        strip = Strip(stages=(EQ, Noise(id=5)))
        hear_strip(made, strip)
        qtbot.waitUntil(lambda: any("Noise" in event.labels for event in said), timeout=20_000)
        place = made.position_s
        qtbot.wait(500)
        assert made.position_s > place + 0.2
    finally:
        made.close()
    assert os.environ["NUMBA_CACHE_DIR"]
