"""Writes the template (POT) of all that `words.said` looks up, for translators: `python -m stonekite.catalogue`.

What is declared (commands, settings, kinds of stages, names of components) is known once their modules are loaded; what
is said later is found in the code, where it stands as a literal.
"""

import ast
from collections.abc import Iterator
from pathlib import Path

from stonekite import commands, words
from stonekite.stages import registry
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
    registry.by_work()  # all kinds are loaded, and with them their settings
    declared = [*GROUPS, *(text for place, _, what in commands.LOCAL for text in (place, what))]
    written = [
        text
        for path in sorted(Path(__file__).parent.rglob("*.py"))
        for text in _literals(ast.parse(path.read_text(encoding="utf-8")))
    ]
    return sorted({*words.marked(), *declared, *written})


def template() -> str:
    """The template, in gettext's form."""

    def quoted(text: str) -> str:
        escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
        return f'"{escaped}"'

    return "\n".join([_HEAD, *(f'msgid {quoted(text)}\nmsgstr ""\n' for text in texts())])


if __name__ == "__main__":
    print(template())
