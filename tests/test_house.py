"""The code's own order: directions that the import contracts cannot say, cycles, and documents that are there."""

import ast
import re
from collections import Counter
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src"
LONGEST = 450
"""Lines of a module."""


def modules() -> dict[str, Path]:
    found = {}
    for path in (SOURCE / "stonekite").rglob("*.py"):
        name = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
        found[name.removesuffix(".__init__")] = path
    return found


def imported(path: Path, names: set[str], at_once: bool) -> set[str]:
    """Modules that one imports; `at_once`: only what runs when it is imported itself."""
    tree = ast.parse(path.read_text())
    nodes = list(ast.walk(tree))
    if at_once:
        later = [n for n in nodes if isinstance(n, ast.FunctionDef)]
        later += [n for n in nodes if isinstance(n, ast.If) and "TYPE_CHECKING" in ast.dump(n.test)]
        inside = {id(n) for one in later for part in one.body for n in ast.walk(part)}
        nodes = [n for n in nodes if id(n) not in inside]
    found = set()
    for node in nodes:
        if isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module} | {f"{node.module}.{alias.name}" for alias in node.names}
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found & names


@pytest.mark.slow
def test_no_module_needs_itself():
    every = modules()
    needs = {name: imported(path, set(every), at_once=True) - {name} for name, path in every.items()}
    # Modules that need nothing that is left are taken away until only cycles remain.
    while free := [name for name, needed in needs.items() if not needed & needs.keys()]:
        for name in free:
            del needs[name]
    assert not needs


def test_the_model_the_links_and_the_player_know_no_widgets():
    for folder in ("desktop/model", "desktop/links", "player"):
        for path in (SOURCE / "stonekite" / folder).glob("*.py"):
            assert "QtWidgets" not in path.read_text(), path.name


def test_modules_are_short():
    lines = {p: len(p.read_text().splitlines()) for p in (SOURCE / "stonekite").rglob("*.py")}
    assert not {path: count for path, count in lines.items() if count > LONGEST}


def test_no_folder_has_more_modules_than_a_stranger_looks_through():
    folders = Counter(
        path.parent for path in (SOURCE / "stonekite").rglob("*.py") if path.name != "__init__.py"
    )
    assert not {folder: count for folder, count in folders.items() if count > 25}


def test_documents_name_only_what_is_there():
    for document in [*(ROOT / "docs").glob("*.md"), ROOT / "README.md", ROOT / "CONTRIBUTING.md"]:
        text = document.read_text()
        for target in re.findall(r"\]\(([^)#:]+)\)", text):
            assert (document.parent / target).exists(), f"{document.name}: {target}"
        for path in re.findall(r"`((?:src|tests|docs|scripts|benchmarks)/[\w./-]+\.\w+)`", text):
            assert (ROOT / path).exists(), f"{document.name}: {path}"
