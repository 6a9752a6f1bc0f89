"""A private sound server with a null sink: what it gets, and what happens when it dies, comes back or freezes."""

import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

import numpy as np
import pytest
import scipy.signal as signal_tools
from conftest import RATE, THOROUGH, noise, play_of, session_on, write_wav

from stonekite.desktop.links.transport import Transport
from stonekite.engine.offline.render import rendered
from stonekite.files.audio import Reader
from stonekite.session.types import Strip
from stonekite.stages.gain import Gain, GainSide

pytestmark = [
    pytest.mark.processes,
    pytest.mark.skipif(
        shutil.which("pulseaudio") is None or shutil.which("parec") is None,
        reason="the Debian packages pulseaudio and pulseaudio-utils are not installed",
    ),
]
STRIP = Strip(stages=(Gain(id=2, upper=GainSide(gain_db=-3.0)),))


class Server:
    """A sound server of its own, in a folder of its own, with one sink that plays into nothing."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._process: subprocess.Popen | None = None

    def start(self) -> None:
        command = [
            "pulseaudio", "--daemonize=no", "--exit-idle-time=-1", "--disallow-exit=no", "-n", "--use-pid-file=no",
            "-L", f"module-null-sink sink_name=quay rate={RATE} channels=2 format=s16le",
            "-L", f"module-native-protocol-unix auth-anonymous=1 socket={self.folder}/native",
            "--log-level=error",
        ]  # fmt: skip
        (self.folder / "native").unlink(missing_ok=True)
        self._process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        end = time.monotonic() + 15
        while subprocess.run(["pactl", "info"], capture_output=True).returncode and time.monotonic() < end:
            time.sleep(0.05)

    def signal(self, number: int) -> None:
        assert self._process is not None
        self._process.send_signal(number)
        if number == signal.SIGKILL:
            self._process.wait()

    def close(self) -> None:
        if self._process is not None and self._process.poll() is None:
            self._process.send_signal(signal.SIGCONT)
            self._process.kill()
            self._process.wait()


@pytest.fixture
def server(tmp_path_factory, monkeypatch):
    folder = tmp_path_factory.mktemp("p")
    monkeypatch.setenv("PULSE_SERVER", f"unix:{folder}/native")
    monkeypatch.setenv("PULSE_RUNTIME_PATH", str(folder))
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(folder))
    monkeypatch.setenv("HOME", str(folder))
    made = Server(folder)
    made.start()
    if subprocess.run(["pactl", "info"], capture_output=True).returncode:
        made.close()
        pytest.skip("a private sound server does not start here")
    yield made
    made.close()


@pytest.fixture
def playing(server, qtbot, tmp_path):
    """A transport that plays a long loop through the server."""
    outputs: list[tuple[str, bool]] = []
    transport = Transport()
    transport.output_changed.connect(lambda name, simulated, rate: outputs.append((name, simulated)))
    transport.start()
    path = write_wav(tmp_path / "a.wav", noise(8.0, level=0.05), subtype="PCM_16")
    with qtbot.waitSignal(transport.ready, timeout=60_000):
        play_of(transport, session_on(path, STRIP))
    qtbot.wait(300)
    if not outputs or outputs[-1][1]:
        transport.close()
        pytest.skip("Qt finds no device in a private sound server here")
    transport.set_loop(0, 8 * RATE)
    transport.play()
    qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.3, timeout=10_000)
    yield transport, outputs
    transport.close()


def goes_on(qtbot, transport: Transport) -> float:
    """Seconds until the position moves on into sound that is heard."""
    began, before = time.monotonic(), transport.position_s
    qtbot.waitUntil(lambda: abs(transport.position_s - before) > 0.05, timeout=15_000)
    return time.monotonic() - began


def test_what_the_server_plays_is_what_an_export_writes(server, qtbot, tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(3.0, level=0.05))
    with Reader(path) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, STRIP)], axis=1)
    outputs: list[bool] = []
    transport = Transport()
    transport.output_changed.connect(lambda name, simulated, rate: outputs.append(simulated))
    transport.start()
    try:
        with qtbot.waitSignal(transport.ready, timeout=60_000):
            play_of(transport, session_on(path, STRIP))
        qtbot.wait(300)
        if not outputs or outputs[-1]:
            pytest.skip("Qt finds no device in a private sound server here")
        # On a busy machine the server itself may leave gaps: then it is played again.
        best = 0
        for _ in range(3):
            heard = recorded(qtbot, transport, tmp_path / "monitor.raw")
            exact, of, worst = blocks_that_match(heard, wanted)
            print(f"{exact} of {of} blocks, off by {worst:.4f} of a step at the most")
            best = max(best, exact)
            if exact >= of - 1:
                break
            transport.seek(0)
    finally:
        transport.close()
    assert best > 0.5 * of


def recorded(qtbot, transport: Transport, path: Path) -> np.ndarray:
    """What the server's monitor hears while all is played (2, frames)."""
    with path.open("wb") as file:
        command = ["parec", "--device=quay.monitor", "--format=s16le", f"--rate={RATE}", "--channels=2"]
        recorder = subprocess.Popen([*command, "--latency-msec=20"], stdout=file)
        qtbot.wait(700)
        transport.play()
        qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.5, timeout=10_000)
        qtbot.waitUntil(lambda: not transport.playing, timeout=15_000)
        qtbot.wait(1500)
        recorder.terminate()
        recorder.wait()
    return np.frombuffer(path.read_bytes(), dtype="<i2").reshape(-1, 2).T / 32768.0


def blocks_that_match(heard: np.ndarray, wanted: np.ndarray) -> tuple[int, int, float]:
    """How many blocks of what is wanted were heard in turn within a step of 16 bits, of how many, and by how much of a
    step they are off at the most. The others have a gap in them."""
    # The recorder runs before the sound does: where it begins is looked for in all that was heard.
    early = signal_tools.correlate(heard[0], wanted[0, 4000:12_000], "valid", method="fft")
    late, exact, worst = int(np.argmax(early)) - 4000, 0, 0.0
    starts = range(0, wanted.shape[1] - 2000, 2000)
    for start in starts:
        block = wanted[:, start : start + 2000]
        around = heard[:, max(0, start + late - 300) : start + late + 30_000]
        match = np.correlate(around[0], block[0], "valid")
        place = int(np.argmax(match))
        off = float(np.abs(around[:, place : place + 2000] - block).max()) * 32768
        if off > 1.0:
            continue
        late = max(0, start + late - 300) + place - start
        exact += 1
        worst = max(worst, off)
    return exact, len(starts), worst


@pytest.mark.parametrize(
    "fault", ["killed, back after 3 s", "frozen", *(["killed, back after 15 s"] if THOROUGH else [])]
)
def test_sound_goes_on_without_the_server_and_comes_back_with_it(server, playing, qtbot, fault):
    transport, outputs = playing
    server.signal(signal.SIGSTOP if fault == "frozen" else signal.SIGKILL)
    began = time.monotonic()
    qtbot.waitUntil(lambda: outputs[-1][1], timeout=10_000)
    fell_back = time.monotonic() - began
    moved = goes_on(qtbot, transport)
    qtbot.wait(15_000 if "15" in fault else 3000)
    if fault == "frozen":
        server.signal(signal.SIGCONT)
    else:
        server.start()
    began = time.monotonic()
    qtbot.waitUntil(lambda: not outputs[-1][1], timeout=30_000)
    came_back = time.monotonic() - began
    goes_on(qtbot, transport)
    assert transport.playing
    print(f"{fault}: on the simulated output after {fell_back + moved:.2f} s, back after {came_back:.1f} s")
    assert fell_back + moved < 1.3  # of it 0.7 s until a device that takes nothing is given up


def test_a_server_that_restarts_again_and_again_is_found_each_time(server, playing, qtbot):
    transport, outputs = playing
    slowest = 0.0
    for _ in range(10 if THOROUGH else 2):
        qtbot.waitUntil(lambda: not outputs[-1][1], timeout=30_000)
        qtbot.wait(200)
        server.signal(signal.SIGKILL)
        began = time.monotonic()
        qtbot.waitUntil(lambda: outputs[-1][1], timeout=10_000)
        slowest = max(slowest, time.monotonic() - began)
        server.start()
    qtbot.waitUntil(lambda: not outputs[-1][1], timeout=30_000)
    goes_on(qtbot, transport)
    assert transport.playing and os.path.exists(f"/proc/{transport.player_pid}")
    print(f"ten restarts: on the simulated output after {slowest:.2f} s at the most")
    assert slowest < 1.3
