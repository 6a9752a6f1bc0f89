"""Every figure beside those of an older commit, in one run: `python -m benchmarks.before COMMIT [ROUNDS]`.

A second checkout is made beside this one and taken away again. Each group of rows runs in processes of its own, by turns in
the old and in the new checkout, so that what the machine does meanwhile meets both; of each figure the best round counts.
"""

import json
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

GROUPS: tuple[str, ...] = (
    "kernels.kernel_rows()",
    "kernels.kind_rows()",
    "kernels.live_rows()",
    "kernels.render_rows(folder, 60)",
    "comparing.table_rows(folder)",
    "window.start_rows()",
    "window.painting_rows(5.0)",
    "window.control_rows(folder)",
)
_RUN = """
import json, os, sys, tempfile
from pathlib import Path
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
from benchmarks import comparing, kernels, window
with tempfile.TemporaryDirectory() as name:
    folder = Path(name)
    print(json.dumps(list({group})))
"""
_FIGURE = re.compile(r"([\d.]+) ?(x|ms|s|%|MB)")


def as_installed() -> dict[str, str]:
    """The environment, with Python keeping what it has compiled, as it does for whoever has not told it otherwise."""
    return {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def measured(checkout: Path, group: str) -> dict[str, tuple[float, str]]:
    """The first figure of each row of a group, with its unit, by the row's words."""
    done = subprocess.run(
        [sys.executable, "-c", _RUN.replace("{group}", group)],
        cwd=checkout,
        env={**as_installed(), "PYTHONPATH": f"{checkout / 'src'}{os.pathsep}{checkout}"},
        capture_output=True,
        text=True,
    )
    if done.returncode:
        return {}
    found = {}
    for words, figures in json.loads(done.stdout.splitlines()[-1]):
        figure = _FIGURE.search(figures)
        if figure is not None:
            found[words.strip()] = float(figure[1]), figure[2]
    return found


def rows(commit: str, rounds: int) -> list[tuple[str, str]]:
    """For every row that both have: the old figure, the new one, and how much faster it is now."""
    here = Path(__file__).parent.parent
    made = []
    with tempfile.TemporaryDirectory() as name:
        old = Path(name) / "old"
        subprocess.run(["git", "worktree", "add", "-q", "--detach", str(old), commit], cwd=here, check=True)
        try:
            for group in GROUPS:
                best: list[dict[str, tuple[float, str]]] = [{}, {}]
                for _ in range(rounds):
                    for which, checkout in enumerate((old, here)):
                        for words, (value, unit) in measured(checkout, group).items():
                            better = max if unit == "x" else min
                            best[which][words] = better(best[which].get(words, (value, unit))[0], value), unit
                for words, (was, unit) in best[0].items():
                    if words not in best[1] or not was or not best[1][words][0]:
                        made.append((words, f"{was:g} {unit} before; not comparable now"))
                        continue
                    now = best[1][words][0]
                    times = now / was if unit == "x" else was / now
                    slower = "" if times >= 0.95 else "  slower"
                    made.append(
                        (words, f"{was:8g} {unit} before, {now:8g} now: {times:.2f} times as fast{slower}")
                    )
        finally:
            subprocess.run(["git", "worktree", "remove", "--force", str(old)], cwd=here, check=False)
    return made


if __name__ == "__main__":
    for words, figures in rows(sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 3):
        print(f"{words:<56} {figures}", flush=True)
