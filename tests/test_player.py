"""The player process with its simulated output."""

import itertools
import os
import signal
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import hear_strip, noise, play_of, session_on, write_wav

from stonekite.desktop.links.transport import Transport
from stonekite.engine.offline.render import rendered
from stonekite.engine.play.listen import Listening
from stonekite.files.audio import Reader
from stonekite.player.output.simulated import AHEAD_S, SimulatedOutput
from stonekite.session.types import Leg, Strip
from stonekite.stages.chorus import Chorus
from stonekite.stages.compressor import Compressor
from stonekite.stages.eq import Band, Eq, EqSide
from stonekite.stages.riding import Point, Ride

pytestmark = pytest.mark.processes
STRIP = Strip(stages=(Eq(id=2, upper=EqSide(bands=(Band(frequency_hz=300, gain_db=5),))),))


class Clock:
    """A clock that goes when told."""

    now = 0.0

    def __call__(self) -> float:
        return self.now


def test_the_simulated_output_takes_samples_in_real_time():
    clock = Clock()
    output = SimulatedOutput(48_000, clock)
    room = output.room()
    assert room == int(AHEAD_S * 48_000)
    output.write(np.zeros((2, room)))
    output.starving = True
    assert output.room() == 0
    clock.now = 0.05
    assert output.queued() == pytest.approx(room - 2400, abs=1) and output.underruns == 0
    clock.now = 0.2
    assert output.room() == room and output.underruns == 1
    output.stall(1.0)
    output.write(np.zeros((2, 1000)))
    clock.now = 0.9
    assert output.queued() == 1000


@pytest.fixture
def transport(qtbot):
    made = Transport()
    made.start()
    yield made
    made.close()


def loaded(qtbot, transport: Transport, path: Path, strip: Strip = STRIP) -> None:
    with qtbot.waitSignal(transport.ready, timeout=60_000):
        play_of(transport, session_on(path, strip))


def ride(path: str, low: float, high: float) -> Ride:
    return Ride(path=path, points=tuple(Point(at_s=0.4 * k, value=(low, high)[k % 2]) for k in range(4)))


RIDDEN = Strip(
    stages=(
        msgspec.structs.replace(
            STRIP.stages[0],
            rides=(
                ride("upper.bands.0.frequency_hz", 80.0, 9000.0),
                ride("upper.bands.0.gain_db", -20.0, 20.0),
            ),
        ),
        Compressor(id=3, rides=(ride("upper.threshold_db", -60.0, -5.0), ride("lower.mix", 0.0, 100.0))),
        Chorus(id=4, rides=(ride("upper.rate_hz", 0.1, 9.0), ride("lower.delay_ms", 2.0, 30.0))),
    ),
    upper=Leg(rides=(ride("level_db", -30.0, 3.0),)),
)


@pytest.mark.parametrize("strip", [STRIP, RIDDEN], ids=["still", "riding"])
def test_what_the_output_gets_is_what_an_export_writes(qtbot, transport, tmp_path, strip):
    path = write_wav(tmp_path / "a.wav", noise(1.5))
    loaded(qtbot, transport, path, strip)
    for attempt in range(5):
        file = tmp_path / f"heard {attempt}.wav"
        ran_out = int(transport.status["underruns"])
        transport.disturb("record", path=str(file))
        transport.play()
        qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.2, timeout=10_000)
        qtbot.waitUntil(lambda: not transport.playing, timeout=10_000)
        transport.disturb("record")
        qtbot.waitUntil(lambda file=file: soundfile.info(file).frames > 70_000, timeout=5000)
        if int(transport.status["underruns"]) == ran_out:
            break  # otherwise other work took both cores, and there are gaps
        transport.seek(0)
    heard = soundfile.read(file)[0].T
    with Reader(path) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, strip)], axis=1)
    first = int(np.argmax(np.any(heard != 0, axis=0))) - int(np.argmax(np.any(wanted != 0, axis=0)))
    assert np.array_equal(heard[:, first : first + wanted.shape[1]], wanted)


def test_a_position_is_known_with_the_moment_at_which_it_was_heard(qtbot, transport, tmp_path):
    loaded(qtbot, transport, write_wav(tmp_path / "a.wav", noise(4.0)))
    transport.play()
    qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.3, timeout=10_000)
    ahead = []
    for _ in range(40):
        qtbot.wait(37)  # at any time between two news of the player
        moment = time.monotonic()
        ahead.append(transport.heard_at(moment) - moment)
    # Time goes as fast as the recording: from whatever news it is reckoned, it is the same line.
    assert np.ptp(np.quantile(ahead, [0.1, 0.9])) < 0.03
    transport.pause()
    qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
    assert transport.heard_at(time.monotonic()) == transport.position_s


def test_seek_pause_listen_and_meters(qtbot, transport, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(20.0))
    loaded(qtbot, transport, path)
    transport.seek(48_000 * 10)
    transport.play()
    qtbot.waitUntil(lambda: transport.position_s > 10.2, timeout=10_000)
    assert transport.position_s < 15
    assert -30 < transport.status["momentary"][0] < -5
    assert transport.status["spectra"].max() > -60
    transport.listen(Listening("difference"))
    hear_strip(transport, Strip(upper=Leg(muted=True)))
    qtbot.waitUntil(lambda: transport.status["updates"] == 1, timeout=5000)
    transport.pause()
    qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
    place = transport.position_s
    qtbot.wait(150)
    assert transport.position_s == pytest.approx(place, abs=0.02)


def test_changes_among_64_stages_hardly_hold_a_block_back(qtbot, transport, tmp_path):
    """Bands moved, stages put in and out, another version: built and warmed beside the playing. The goal is 2 ms, which the
    bench prints; more may be the machine's."""
    path = write_wav(tmp_path / "a.wav", noise(12.0))
    bell = EqSide(bands=(Band(frequency_hz=300, gain_db=5),))
    stages = tuple(Eq(id=k, upper=bell, lower=bell) for k in range(1, 65))
    loaded(qtbot, transport, path, Strip(stages=stages))
    transport.play()
    qtbot.waitUntil(lambda: transport.position_s > 0.3, timeout=20_000)
    for k in range(12):
        moved = EqSide(bands=(Band(frequency_hz=300.0 + 50 * k, gain_db=5),))
        changed = (Eq(id=1, upper=moved, lower=bell), *(stages[1:] if k % 3 else stages[1:30]))
        hear_strip(transport, Strip(stages=changed))
        qtbot.wait(150)
    qtbot.waitUntil(lambda: transport.status["updates"] == 12, timeout=10_000)
    held = float(transport.status["held_s"])
    assert 0.0 < held < 0.02, held


def test_a_loop_holds_the_position(qtbot, transport, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(5.0))
    loaded(qtbot, transport, path)
    transport.set_loop(48_000, 60_000)
    transport.seek(48_000)
    transport.play()
    seen = []
    transport.ticked.connect(lambda: seen.append(transport.position_s))
    qtbot.wait(1200)
    places = [p for p in seen if p > 0]
    assert min(places[3:]) >= 0.99 and max(places) <= 1.26
    assert any(b < a for a, b in itertools.pairwise(places))


def test_a_player_that_dies_is_started_again_where_it_was(qtbot, transport, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(20.0))
    loaded(qtbot, transport, path)
    transport.seek(48_000 * 5)
    transport.play()
    qtbot.waitUntil(lambda: transport.position_s > 5.2, timeout=10_000)
    old = transport.player_pid
    with qtbot.waitSignal(transport.ready, timeout=60_000):
        os.kill(old, signal.SIGKILL)
    qtbot.waitUntil(lambda: transport.playing and 5.1 < transport.position_s < 12, timeout=20_000)
    assert transport.player_pid != old


def test_a_player_that_takes_its_time_to_start_is_not_taken_for_a_frozen_one(
    qtbot, transport, tmp_path, monkeypatch
):
    monkeypatch.setattr("stonekite.desktop.links.transport.FROZEN_S", 1.0)  # to start takes longer
    loaded(qtbot, transport, write_wav(tmp_path / "a.wav", noise(5.0)))
    qtbot.waitUntil(lambda: transport.status["beat"] > 3 and transport._spare is not None, timeout=10_000)
    begun = []
    with qtbot.waitSignal(transport.ready, timeout=60_000):
        os.kill(transport._spare.child.pid, signal.SIGKILL)
        qtbot.waitUntil(lambda: transport._spare is None, timeout=5000)
        os.kill(transport.player_pid, signal.SIGKILL)
        transport.ticked.connect(lambda: begun.append(transport.player_pid))
    assert len({pid for pid in begun if pid}) <= 2, "the one that was killed, and the one that goes on"


def test_an_output_may_stall_change_its_rate_and_vanish(qtbot, transport, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(20.0))
    loaded(qtbot, transport, path)
    outputs = []
    transport.output_changed.connect(lambda *told: outputs.append(told))
    transport.play()
    qtbot.waitUntil(lambda: transport.position_s > 0.2, timeout=10_000)
    transport.disturb("stall", 0.4)
    qtbot.wait(200)
    place = transport.position_s
    qtbot.wait(100)
    assert transport.position_s - place < 0.05
    qtbot.waitUntil(lambda: transport.position_s > place + 0.2, timeout=5000)
    transport.disturb("rate", 96_000)
    qtbot.waitUntil(lambda: ("simulated output", True, 96_000) in outputs, timeout=5000)
    start, at = transport.position_s, time.monotonic()
    qtbot.wait(500)
    assert (transport.position_s - start) / (time.monotonic() - at) > 1.5
    transport.disturb("vanish")
    qtbot.waitUntil(lambda: outputs[-1] == ("simulated output", True, 48_000), timeout=5000)
    place = transport.position_s
    qtbot.waitUntil(lambda: transport.position_s > place + 0.2, timeout=5000)


def test_a_recording_that_is_gone_is_said(qtbot, transport, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(0.5))
    session = session_on(path)
    path.unlink()
    with qtbot.waitSignal(transport.failed, timeout=60_000) as told:
        play_of(transport, session)
    assert "is not there" in told.args[0]


def test_a_player_that_is_not_tested_does_not_write_where_it_is_told(qtbot, tmp_path, monkeypatch):
    monkeypatch.delenv("STONEKITE_TESTING")
    made = Transport()
    made.start()
    try:
        path = write_wav(tmp_path / "a.wav", noise(1.0))
        with qtbot.waitSignal(made.ready, timeout=30_000):
            play_of(made, session_on(path, Strip()))
        made.disturb("record", path=str(tmp_path / "out.wav"))
        made.play()
        qtbot.waitUntil(lambda: made.position_s > 0.3, timeout=10_000)
        qtbot.waitUntil(lambda: not made.playing, timeout=10_000)
    finally:
        made.close()
    assert not (tmp_path / "out.wav").exists()
