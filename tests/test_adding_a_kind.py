"""The worked example of docs/adding-a-kind.md: put beside the other kinds as it stands there, it passes what all pass."""

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

pytestmark = [pytest.mark.slow, pytest.mark.processes]
TESTS = Path(__file__).parent
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

    return run


def test_the_example_passes_what_every_kind_passes(beside):
    done = beside(
        *("-m", "pytest", "-p", "another_kind", "-k", "soften"),
        *(str(TESTS / f"test_{name}.py") for name in ("kinds", "stages", "settings")),
    )
    assert done.returncode == 0, done.stdout[-3000:]
    assert int(re.search(r"(\d+) passed", done.stdout)[1]) >= 4, done.stdout


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
