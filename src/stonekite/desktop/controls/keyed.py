"""Tooltips that name the key of a command, and keep naming it when the user gives the command another one."""

from collections.abc import Mapping

from PySide6.QtWidgets import QWidget

from stonekite import commands

_PROPERTY = "commands"
_own: dict[str, tuple[str, ...]] = {}


def in_use() -> Mapping[str, tuple[str, ...]]:
    """The keys that the user gave to commands."""
    return _own


def hint(id: str) -> str:
    """The key of a command as a tooltip says it."""
    return commands.hint(id, _own)


def key_of(id: str) -> str:
    """The key of a command, nothing where it has none."""
    keys = commands.keys_of(commands.BY_ID[id], _own)
    return keys[0] if keys else ""


def keyed(widget: QWidget, words: str, *ids: str) -> None:
    """Give a widget a tooltip that ends with the keys of commands."""
    widget.setProperty(_PROPERTY, [words, *ids])
    widget.setToolTip(" ".join(part for part in (words, *(hint(id) for id in ids)) if part))


def use(own: Mapping[str, tuple[str, ...]], root: QWidget | None = None) -> None:
    """Have other keys named from now on, in everything inside `root`, too."""
    _own.clear()
    _own.update(own)
    for widget in root.findChildren(QWidget) if root is not None else ():
        if (kept := widget.property(_PROPERTY)) is not None:
            keyed(widget, *kept)
            widget.update()
