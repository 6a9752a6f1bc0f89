"""How the command line shows figures and progress."""

import json
import sys
from contextlib import contextmanager
from typing import Any

import click


@contextmanager
def progress(label: str):
    """A function that takes 0 to 1 and shows a bar, on a terminal only."""
    if not sys.stderr.isatty():
        yield lambda done: None
        return
    with click.progressbar(length=1000, label=label, file=sys.stderr) as bar:
        yield lambda done: bar.update(int(done * 1000) - bar.pos)


def say(figures: dict[str, Any], as_json: bool) -> None:
    """Print figures, as a table or as JSON."""
    if as_json:
        click.echo(json.dumps(figures, indent=2, ensure_ascii=False, allow_nan=False))
        return
    for name, value in _flat(figures):
        click.echo(f"{name:<34} {_shown(value)}")


def _flat(figures: dict[str, Any], prefix: str = ""):
    for name, value in figures.items():
        if isinstance(value, dict):
            yield from _flat(value, f"{prefix}{name}.")
        elif isinstance(value, list):
            for entry in value:
                yield from _flat(
                    {k: v for k, v in entry.items() if k != "hertz"}, f"{prefix}{name}.{entry['hertz']:g}."
                )
        else:
            yield prefix + name, value


def _shown(value: Any) -> str:
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.2f}" if isinstance(value, float) else str(value)
