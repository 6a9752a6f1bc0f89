"""What all commands share: their options, and how they show figures, progress and faults."""

import json
import sys
from collections.abc import Callable, Generator
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar

import click

from stonekite.files.amiss import amiss
from stonekite.words import said

FILE = click.Path(path_type=Path)
as_json = click.option("--json", "as_json", is_flag=True, help=said("Print figures as JSON."))
force = click.option("--force", is_flag=True, help=said("Overwrite files that exist."))


@contextmanager
def progress(label: str):
    """A function that takes 0 to 1 and shows a bar, on a terminal only."""
    if not sys.stderr.isatty():
        yield lambda done: None
        return
    with click.progressbar(length=1000, label=label, file=sys.stderr) as bar:
        yield lambda done: bar.update(int(done * 1000) - bar.pos)


Found = TypeVar("Found")


def told(label: str, steps: Generator[float, None, Found]) -> Found:
    """Work that yields progress 0 to 1, to its end, under a bar; gives back what it finds."""
    with progress(label) as tell:
        while True:
            try:
                tell(next(steps))
            except StopIteration as end:
                return end.value


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


def warn(sentence: str) -> None:
    """Say on standard error what is to be known of what was done."""
    click.echo(f"stonekite: {sentence}", err=True)


def faults(command: Callable[..., Any]) -> Callable[..., Any]:
    """Known faults become one sentence on standard error and exit code 1."""

    @wraps(command)
    def guarded(*args: Any, **kwargs: Any) -> Any:
        from stonekite.files.audio import AudioError
        from stonekite.session.export_sets import SetError
        from stonekite.session.storage import SessionError

        try:
            return command(*args, **kwargs)
        except (AudioError, SessionError, SetError) as error:
            fail(str(error))
        except OSError as error:
            fail(f"{error.filename or said('A file')}: {(error.strerror or str(error)).lower()}.")

    return guarded


def fail(sentence: str) -> None:
    warn(sentence)
    sys.exit(1)


def warn_of_damage(count: int, audio: Path) -> None:
    if count:
        warn(
            said(
                "{count} samples of “{name}” are not numbers or absurdly large; they were read as silence."
            ).format(count=count, name=audio.name)
        )


def warn_of_overs(overs: int) -> None:
    for sentence in amiss(overs):
        warn(sentence)


def written(paths: list[Path], as_json: bool, **more: Any) -> None:
    if as_json:
        say({"files": [str(path) for path in paths], **more}, True)
    else:
        for path in paths:
            click.echo(path)
