"""How fast and in how much memory recordings are compared."""

import json
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import soundfile

from benchmarks.kernels import FULL, RATE, strip
from benchmarks.window import close, hour_file, make_window, wait
from stonekite.engine.offline.subjects import Subject, measured_all
from stonekite.session.types import Loop, Source, Strip
from stonekite.stages.gain import Gain, GainSide

_HOUR = """
import json, resource, sys, time
import stonekite
from stonekite.engine.offline.subjects import Subject, measured_all
from stonekite.session.types import Source, Strip
from stonekite.stages.gain import Gain, GainSide
source = Source(path=sys.argv[1], rate=48_000, frames=48_000 * 3600)
strip = Strip(stages=(Gain(id=2, upper=GainSide(gain_db=-3)),))
start = time.perf_counter()
list(measured_all([Subject(source), Subject(source, strip)]))
print(json.dumps([time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024]))
"""


def ten_minutes(path: Path) -> Source:
    """Ten minutes of stereo noise as a 24-bit file."""
    rng = np.random.default_rng(0)
    with soundfile.SoundFile(path, "w", RATE, 2, subtype="PCM_24") as file:
        for _ in range(10):
            both = 0.05 * rng.standard_normal((60 * RATE, 1))
            file.write(both + 0.05 * rng.standard_normal((60 * RATE, 2)))
    return Source(path=str(path), rate=RATE, frames=600 * RATE)


def measuring_rows(folder: Path) -> list[tuple[str, str]]:
    """Ten minutes before and after, each read from a file; a selection of ten seconds after an edit; an hour."""
    one, two = (ten_minutes(folder / name) for name in ("before.wav", "after.wav"))
    times = []
    for _ in range(3):
        start = time.perf_counter()
        list(measured_all([Subject(one), Subject(two)]))
        times.append(time.perf_counter() - start)
    rows = [
        (
            "All measures of 10 minutes, before and after",
            f"{min(times):.1f} s on two cores (goal 6), slowest {max(times):.1f} s",
        )
    ]
    edited = []
    for k in range(5):
        stages = (FULL["filter"], FULL["eq"], Gain(id=9, upper=GainSide(gain_db=-1.0 - k)))
        subject = Subject(one, Strip(stages=stages), (60 * RATE, 70 * RATE))
        start = time.perf_counter()
        list(measured_all([subject]))
        edited.append(time.perf_counter() - start)
    rows.append(
        (
            "All measures of 10 s, filter + EQ + gain",
            f"{min(edited) * 1000:.0f} ms, slowest {max(edited) * 1000:.0f} ms",
        )
    )
    done = subprocess.run(
        [sys.executable, "-c", _HOUR, str(hour_file(folder))], capture_output=True, text=True, check=True
    )
    seconds, megabytes = json.loads(done.stdout)
    rows.append(
        ("All measures of an hour, before and after", f"{seconds:.0f} s, {megabytes:.0f} MB (goal 500)")
    )
    return rows


def table_rows(folder: Path) -> list[tuple[str, str]]:
    """From an edit to its first figures in the table of the window, with a loop of ten seconds."""
    path = folder / "before.wav"
    if not path.exists():
        ten_minutes(path)
    window = make_window(path)
    window.start()
    window.document.put(("stages",), strip().stages, "stages")
    window.document.set_loop(Loop(start_s=60.0, end_s=70.0))
    window.show_view("compare")
    while window.switching.figures("difference") is None:
        wait(0.1)
    while window.showing.measured is None:  # the whole file is measured for the other pictures
        wait(0.1)
    times = []
    for k in range(12):
        wait(0.6)
        start = time.perf_counter()
        window.document.put(("upper", "level_db"), -1.0 - 0.1 * k, "level")
        while window.switching.figures("processed") is None:
            wait(0.005)
        times.append(time.perf_counter() - start)
    close(window)
    times.sort()
    return [
        (
            "From an edit to its figures in the table, 10 s loop",
            f"{times[len(times) // 2] * 1000:.0f} ms in the middle (goal 300), slowest {times[-1] * 1000:.0f} ms",
        )
    ]
