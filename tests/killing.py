"""Runs encode, render, save, an export set, a batch's one and gathering over and over in children that are killed:
`python killing.py FOLDER COUNT SEED`.

Prints what was found as JSON. All is loaded once, so that a child does its work from its first moment.
"""

import json
import os
import random
import shutil
import signal
import sys
import time
import zipfile
from pathlib import Path

import numpy as np
import soundfile

from stonekite.engine.offline.batch import Item, one
from stonekite.engine.offline.export import export, written
from stonekite.files import components
from stonekite.files.atomic import sweep
from stonekite.files.audio import AudioError
from stonekite.session import storage
from stonekite.session.export_sets import ExportSet, How, points_of
from stonekite.session.keeping import saves
from stonekite.session.keeping.gathering import gather
from stonekite.session.types import Session, Sound, Source, Stem

RATE, SECONDS = 48_000, 4


def main(folder: Path, count: int, seed: int) -> dict[str, int]:
    rng = random.Random(seed)
    sound = 0.1 * np.random.default_rng(seed).standard_normal((RATE * SECONDS, 2))
    tape = folder / "tape.wav"
    soundfile.write(tape, sound, RATE, subtype="PCM_24")
    whole = soundfile.read(tape)[0]
    source = Source(path=str(tape), rate=RATE, frames=len(sound))
    session = Session(sound=Sound(stems=(Stem(id=1, name="tape", source=source),)))

    def encode(number: int) -> None:
        matrix = ("half-sum", "raised-side")[number % 2]
        components.write_components(tape, folder, matrix=matrix, force=True)

    def render(number: int) -> None:
        list(export(session, folder / ("out.flac", "out.wav")[number % 2], parts="all", force=True))

    def save(number: int) -> None:
        for _ in range(40):
            saves.keep(folder / "tape.kite", folder / "kept")
            storage.save(session, folder / "tape.kite")

    points = points_of(session.sound, ("result", "unprocessed", "after"))
    targets = {point: folder / f"set {place}.wav" for place, point in enumerate(points)}
    chosen = ExportSet(pattern="one {what}")

    def export_set(number: int) -> None:
        list(written(session, targets, How(loudness_lufs=-20.0, ceiling_dbtp=-1.0, matched=True), force=True))

    def batch_one(number: int) -> None:
        list(one(session, Item(tape, Path()), chosen, folder, "", force=True))

    def gathered(number: int) -> None:
        list(gather(session, folder / f"parcel {number}", "tape"))
        list(gather(session, folder / "parcel.zip", "tape"))

    found = {"killed": 0, "damaged": 0, "mixed": 0, "refused": 0, "left": 0}
    works = [encode, render, save, export_set, batch_one, gathered]
    for work in works:  # the first time is the longest, and gives the old files
        work(0)
    for number in range(count):
        work = works[number % len(works)]
        began = time.monotonic()
        child = os.fork()
        if not child:
            signal.signal(signal.SIGTERM, lambda got, _: sys.exit(128 + got))
            try:
                work(number)
            except SystemExit:
                os._exit(9)
            except BaseException:
                os._exit(8)
            os._exit(0)
        time.sleep(rng.uniform(0.0, 0.12 if number % 2 else 0.3))
        os.kill(child, rng.choice([signal.SIGKILL, signal.SIGTERM]))
        status = os.waitpid(child, 0)[1]
        found["killed"] += status != 0
        assert time.monotonic() - began < 20
        for path in (p for p in folder.glob("*.wav") if not p.name.startswith(".")):
            try:
                if soundfile.info(path).frames != len(sound):
                    found["damaged"] += 1
            except RuntimeError:
                found["damaged"] += 1
        for path in (p for p in folder.glob("*.flac") if not p.name.startswith(".")):
            if soundfile.info(path).frames != len(sound) or len(soundfile.read(path)[0]) != len(sound):
                found["damaged"] += 1
        storage.load(folder / "tape.kite")
        for save in saves.listed(folder / "tape.kite", folder / "kept"):
            saves.load(save, folder / "tape.kite")
        for parcel in folder.glob("parcel [0-9]*"):
            there = storage.load(parcel / "tape.kite")
            if len(soundfile.read(there.sound.stems[0].source.path)[0]) != len(sound):
                found["damaged"] += 1
            shutil.rmtree(parcel)
        with zipfile.ZipFile(folder / "parcel.zip") as archive:
            found["damaged"] += archive.testzip() is not None
        levels = {
            round(float(np.abs(soundfile.read(path)[0]).max()), 6) for path in folder.glob("set [01].wav")
        }
        found["mixed"] += len(levels) > 1  # they are the same sound at the same level
        parts = [folder / "tape.mid.wav", folder / "tape.side.wav"]
        try:
            back, _ = components.join_components(parts, folder / "back.wav", force=True)
            if not np.array_equal(soundfile.read(back)[0], whole):
                found["mixed"] += 1
        except AudioError:
            found["refused"] += 1
    for work in works:
        work(-1)
    sweep(folder)
    found["left"] = sum(path.name.startswith(".") for path in folder.iterdir())
    return found


if __name__ == "__main__":
    print(json.dumps(main(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]))))
