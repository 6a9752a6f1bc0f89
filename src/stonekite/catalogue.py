"""Writes the template (POT) of all that `words.said` looks up, for translators: `python -m stonekite.catalogue`.

What is declared (commands, settings, kinds of stages, names of components) is known once all modules are loaded; what is
said later is found in the code, where it stands as a literal; and presets that are shipped are files.
"""

import ast
import importlib
import pkgutil
from collections.abc import Iterator
from pathlib import Path

import stonekite
from stonekite import commands, words
from stonekite.session.presets import SHIPPED, listed
from stonekite.stages.base import GROUPS

_HEAD = """msgid ""
msgstr ""
"MIME-Version: 1.0\\n"
"Content-Type: text/plain; charset=UTF-8\\n"
"Content-Transfer-Encoding: 8bit\\n"
"""


def _literals(tree: ast.AST) -> Iterator[str]:
    """Texts in calls of said("...") or words.said("...")."""
    for node in ast.walk(tree):
        if not isinstance(node, ast.Call) or not node.args:
            continue
        name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
        text = node.args[0]
        if name == "said" and isinstance(text, ast.Constant) and isinstance(text.value, str):
            yield text.value


def texts() -> list[str]:
    """All that can be translated, sorted. Only right in the program's own language."""
    for module in pkgutil.walk_packages(stonekite.__path__, "stonekite."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    declared = [*GROUPS, *(text for place, _, what in commands.LOCAL for text in (place, what))]
    written = [
        text
        for path in sorted(Path(__file__).parent.rglob("*.py"))
        for text in _literals(ast.parse(path.read_text(encoding="utf-8")))
    ]
    shipped = [text for _, preset in listed([SHIPPED])[0] for text in (preset.name, preset.about) if text]
    return sorted({*words.marked(), *declared, *written, *shipped})


def template() -> str:
    """The template, in gettext's form."""

    def quoted(text: str) -> str:
        escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
        return f'"{escaped}"'

    return "\n".join([_HEAD, *(f'msgid {quoted(text)}\nmsgstr ""\n' for text in texts())])


if __name__ == "__main__":
    print(template())
