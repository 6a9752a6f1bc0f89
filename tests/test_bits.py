"""The same session gives the same bits on every processor: with kernels compiled for this one and for a plain one."""

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

RENDER = """
import os
import sys
sys.path.insert(0, sys.argv[1])
import numpy as np
from numba import config
from test_kinds import drawn_stage, programme, through
from stonekite.session.types import Intake, IntakeSide, Output, Strip
from stonekite.stages.registry import KINDS
rng, found = np.random.default_rng(7), []
for seed in range(2 if os.environ.get("STONEKITE_THOROUGH") else 1):
    found.append(through(Strip(
        intake=Intake(remove_dc=True, left=IntakeSide(delay_ms=0.37)),
        stages=tuple(drawn_stage(kind, rng, number) for number, kind in enumerate(KINDS, 2)),
        output=Output(limited=True, ceiling_db=-6.0),
    ), programme(2.0, seed)))
np.save(sys.argv[2], np.stack(found))
print(config.CPU_NAME)
"""


@pytest.mark.slow
def test_a_session_of_every_kind_gives_the_same_bits_for_a_plain_processor(tmp_path, request):
    here = str(Path(__file__).parent)
    running = {}
    for name in ("native", "generic"):
        environment = dict(os.environ)
        if name == "generic":
            # A cache of its own, kept between runs: compiling takes a minute.
            cache = request.config.cache.mkdir("kernels-of-a-plain-processor")
            environment |= {
                "NUMBA_CPU_NAME": "generic",
                "NUMBA_CPU_FEATURES": "",
                "NUMBA_CACHE_DIR": str(cache),
            }
        running[name] = subprocess.Popen(
            [sys.executable, "-c", RENDER, here, str(tmp_path / f"{name}.npy")],
            env=environment,
            stdout=subprocess.PIPE,
            text=True,
        )
    told = {name: process.communicate()[0].strip() for name, process in running.items()}
    assert told["generic"] == "generic" and told["native"] != "generic"
    mine, other = (np.load(tmp_path / f"{name}.npy") for name in ("native", "generic"))
    assert np.isfinite(mine).all() and np.abs(mine).max() > 0.01
    assert np.array_equal(mine, other)
