"""Prints every figure. `--quick` makes the robot work for 20 s instead of ten minutes."""

import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from benchmarks import (
    amps,
    comparing,
    echoes,
    edits,
    first_sound,
    in_c,
    kernels,
    mixing,
    noises,
    paths,
    rides,
    window,
)


def rows(folder: Path, quick: bool) -> Iterator[tuple[str, str]]:
    yield from window.start_rows()
    yield from window.first_picture_rows(folder)
    yield from first_sound.rows(quick)
    yield from kernels.kernel_rows()
    yield from kernels.kind_rows()
    yield from in_c.rows()
    yield from paths.rows()
    yield from echoes.rows()
    yield from amps.rows()
    yield from noises.rows(1 if quick else 6)
    yield from edits.rows()
    yield from rides.rows()
    yield from mixing.rows()
    yield from kernels.render_rows(folder, 60 if quick else 240)
    yield from kernels.live_rows()
    yield from comparing.measuring_rows(folder)
    yield from comparing.table_rows(folder)
    yield from window.painting_rows()
    yield from window.repaint_rows(8 if quick else 30)
    yield from window.control_rows(folder)
    yield from window.chain_rows(20 if quick else 600)
    for taken in (False, True):
        yield from window.robot_rows(20 if quick else 600, taken)


def main() -> None:
    quick = "--quick" in sys.argv[1:]
    with tempfile.TemporaryDirectory() as folder:
        for words, figures in rows(Path(folder), quick):
            print(f"{words:<52} {figures}", flush=True)


if __name__ == "__main__":
    main()
