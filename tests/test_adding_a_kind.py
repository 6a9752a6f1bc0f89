"""The worked example of docs/adding-a-kind.md: put beside the other kinds as it stands there, it passes what all pass."""

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

pytestmark = [pytest.mark.slow, pytest.mark.processes]
TESTS = Path(__file__).parent
SWAY = '''
"""Sway: the level of each leg swings about where it was."""

from typing import Annotated

import numpy as np

from stonekite.signal.kernel import kernel
from stonekite.stages.base import At, Context, Kind, LegName, Offers, Plan, Side, Stage
from stonekite.stages.settings import number


class SwaySide(Side, frozen=True, kw_only=True):
    rate_hz: Annotated[float, number("Rate", "Hz", 0.5, 8.0, step=0.1, help="How often the level swings")] = 3.0
    swing: Annotated[float, number("Swing", "%", 50.0, 100.0, step=1.0, help="How far the level swings")] = 50.0


class Sway(Stage, frozen=True, kw_only=True, tag="sway"):
    upper: SwaySide | None = SwaySide()
    lower: SwaySide | None = SwaySide()


def response(stage: Sway, leg: LegName, frequencies: np.ndarray, rate: float) -> np.ndarray:
    return np.ones(np.shape(frequencies), dtype=complex)


def greatest(stage: Sway, hz: np.ndarray, rate: float) -> np.ndarray:
    found = np.zeros((2, 2, len(hz)))
    for row, side in enumerate((stage.upper, stage.lower)):
        found[row, row] = 1.0 if side is None else 1.0 + side.swing / 100.0
    return found


def neutral(stage: Sway) -> bool:
    return stage.upper is None and stage.lower is None


def plan(stage: Sway, context: Context) -> Plan:
    return Plan()


def coefficients(stage: Sway, context: Context) -> np.ndarray:
    sides = [(0.0, 0.0) if one is None else (one.rate_hz, one.swing) for one in (stage.upper, stage.lower)]
    return np.array([[2 * np.pi * hz / context.rate, swing / 100.0] for hz, swing in sides])


def start(coefficients: np.ndarray) -> tuple[()]:
    return ()


def carry(old: np.ndarray, state: tuple[()], new: np.ndarray) -> tuple[()]:
    return ()


@kernel
def _run(swings, block, first, stop, place):
    for leg in range(2):
        for k in range(first, stop):
            block[leg, k] *= 1.0 + swings[leg, 1] * np.sin(swings[leg, 0] * (place + k - first))


def process(state: tuple[()], coefficients: np.ndarray, block: np.ndarray, at: At) -> None:
    runs = RUNS
    for (first, place), (stop, _) in zip(runs, (*runs[1:], (block.shape[1], 0)), strict=True):
        _run(coefficients, block, first, stop, place)


KIND = Kind(
    stage=Sway,
    side=SwaySide,
    label="Sway",
    help="The level of each leg swings about where it was.",
    group="Time",
    rank=90,
    response=response,
    neutral=neutral,
    plan=plan,
    coefficients=coefficients,
    start=start,
    carry=carry,
    process=process,
    OFFERS
    follows_place=True,
)
'''
"""Another kind than the guide's, with a kernel, whose level goes by the place in the recording."""
PLUGIN = "import stonekite.stages, os\nstonekite.stages.__path__.append(os.environ['ANOTHER_KIND'])\n"


@pytest.fixture(scope="module")
def beside(tmp_path_factory):
    """Runs Python with the example beside the kinds that there are."""
    folder = tmp_path_factory.mktemp("kinds")
    (folder / "kinds").mkdir()
    text = (TESTS.parent / "docs" / "adding-a-kind.md").read_text()
    (example,) = re.findall(r"```python\n(.*?)```", text, re.S)
    (folder / "kinds" / "soften.py").write_text(example)
    (folder / "another_kind.py").write_text(PLUGIN)
    environment = {
        **os.environ,
        "PYTHONPATH": str(folder),
        "ANOTHER_KIND": str(folder / "kinds"),
        "QT_QPA_PLATFORM": "offscreen",
    }

    def run(*arguments: str) -> subprocess.CompletedProcess:
        return subprocess.run(
            [sys.executable, *arguments], env=environment, capture_output=True, text=True, cwd=TESTS.parent
        )

    run.kinds = folder / "kinds"
    return run


def test_the_example_passes_what_every_kind_passes(beside):
    done = beside(
        *("-m", "pytest", "-p", "another_kind", "-k", "soften"),
        *(str(TESTS / f"test_{name}.py") for name in ("kinds", "stages", "settings", "rides")),
    )
    assert done.returncode == 0, done.stdout[-3000:]
    assert int(re.search(r"(\d+) passed", done.stdout)[1]) >= 8, done.stdout


@pytest.mark.parametrize(
    ("runs", "offers", "caught"),
    [
        ("at.runs", "offers=Offers(greatest=greatest),", ""),
        (
            "((0, at.clock),)",
            "offers=Offers(greatest=greatest),",
            "what_it_does_belongs_to_the_place_and_not_to_the_clock",
        ),
        ("at.runs", "", "no_tone_comes_out_louder_than_the_kind_says"),
    ],
    ids=["right", "by the clock", "silent about its greatest gain"],
)
def test_a_kind_that_goes_by_its_clock_or_hides_its_gain_is_caught(beside, runs, offers, caught):
    """By what is tested for every kind."""
    module = beside.kinds / "sway.py"
    module.write_text(SWAY.replace("RUNS", runs).replace("OFFERS", offers))
    try:
        done = beside("-m", "pytest", "-p", "another_kind", "-k", "sway", str(TESTS / "test_kinds.py"))
    finally:
        module.unlink()
    failed = {name for name in re.findall(r"^FAILED \S+::test_(\w+)", done.stdout, re.M)}
    assert failed == ({caught} if caught else set()), done.stdout[-3000:]
    assert caught or int(re.search(r"(\d+) passed", done.stdout)[1]) >= 6


def test_presets_that_are_missing_are_named(beside):
    done = beside(
        *(
            "-m",
            "pytest",
            "-p",
            "another_kind",
            "-q",
            str(TESTS / "test_presets.py"),
            "-k",
            "every_kind_ships",
        )
    )
    assert done.returncode == 1 and "AssertionError: soften" in done.stdout


def test_the_window_edits_it_without_a_line_of_its_own(beside):
    code = """
import another_kind
from PySide6.QtWidgets import QApplication
from stonekite.desktop.controls import theme
from stonekite.desktop.shell.window import Window
from stonekite.session import storage
app = QApplication([]); theme.apply(app); window = Window(); window.show(); window.opening.open_demo()
window.stages.add("soften", "upper")
editor = window.panel.editors["soften"]
assert editor.isVisible() and window.panel.title.text() == "Soften"
field = editor.rows["upper"].controls["corner_hz"]
field._move(1000.0, object())
assert window.stages.stage.upper.corner_hz == 1000.0
assert storage.decode(storage.encode(window.document.session)) == window.document.session
assert "corner" in window.document.next_undo
window.document.discard(); window.close()
print("edited")
"""
    done = beside("-c", code)
    assert "edited" in done.stdout, done.stderr[-3000:]
