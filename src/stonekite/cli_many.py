"""Commands that write many files: export sets, batches, gathered sessions."""

import os
import queue
import sys
from pathlib import Path

import click

from stonekite.cli_figures import FILE, as_json, fail, faults, force, progress, say, told, warn, written
from stonekite.words import said


@click.command()
@click.argument("session", type=FILE)
@click.option("-o", "--output", "folder", type=FILE, required=True, help=said("Folder to write to."))
@click.option(
    "--set",
    "chosen",
    metavar="FILE|NAME",
    help=said("An export set: a file, or the name of one that ships or is your own."),
)
@force
@as_json
@faults
def export(session: Path, folder: Path, chosen: str | None, force: bool, as_json: bool) -> None:
    """Write an export set of a session: several files in one go."""
    from stonekite.engine.offline.export import Exported, set_written
    from stonekite.engine.offline.export import told as told_of
    from stonekite.session.export_sets import find
    from stonekite.session.storage import load

    loaded, given = load(session), find(chosen)
    folder.mkdir(parents=True, exist_ok=True)
    with progress(said("Writing")) as tell:
        for step in set_written(loaded, given, folder, session.stem, force=force):
            if isinstance(step, Exported):
                done = step
            else:
                tell(step)
    for sentence in told_of(done):
        warn(sentence)
    written(
        done.paths,
        as_json,
        levels=[
            None if one is None else {"integrated_lufs": one.lufs, "true_peak_dbtp": one.true_peak_db}
            for one in done.in_order
        ],
        overs=done.overs,
        dithered=done.dithered,
        repaired=done.repaired,
    )


@click.command()
@click.argument("session", type=FILE)
@click.argument("audio", nargs=-1, type=FILE, required=True)
@click.option("-o", "--output", "folder", type=FILE, required=True, help=said("Folder to write to."))
@click.option(
    "--jobs", type=click.IntRange(1, 64), help=said("Recordings at once. Default: one for each core.")
)
@click.option(
    "--set",
    "chosen",
    metavar="FILE|NAME",
    help=said("An export set: a file, or the name of one that ships or is your own."),
)
@click.option(
    "--strip",
    "name",
    default="",
    metavar="NAME",
    help=said("Which stem, bus or mix, of a session of several."),
)
@click.option(
    "--learn",
    metavar="quietest|START-END",
    help=said(
        "What stages have learned is learned anew from each recording: from its quietest second, or a range in seconds."
    ),
)
@click.option("--report", type=FILE, help=said("Write the table of measures (.html, .csv, .json)."))
@force
@as_json
@faults
def batch(
    session: Path,
    audio: tuple[Path, ...],
    folder: Path,
    jobs: int | None,
    chosen: str | None,
    name: str,
    learn: str | None,
    report: Path | None,
    force: bool,
    as_json: bool,
) -> None:
    """Write what a session's strip, or a preset of a strip, makes of many recordings; goes on where it was stopped."""
    from stonekite.engine.offline.batch import items_of, learn_of, strip_of
    from stonekite.processes.batching import Batch, Entry, faults_of
    from stonekite.reports import batch_table
    from stonekite.session.export_sets import find

    if report is not None:
        batch_table.text(
            [], report.suffix.lower(), ""
        )  # a suffix that cannot be is said before an hour of work
        if report.exists() and not force:
            fail(said("“{name}” exists already.").format(name=report.name))
    try:
        wanted = learn_of(learn)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--learn") from None
    items = items_of(audio, folder)
    if not items:
        fail(said("There is no recording in these folders."))
    calls: queue.SimpleQueue = queue.SimpleQueue()

    def tell_fault(entry: Entry) -> None:
        if entry.row is not None and entry.row.fault:
            warn(f"“{entry.item.path}”: {entry.row.fault}")

    work = Batch(
        strip_of(session, name),
        session.stem,
        find(chosen),
        items,
        folder,
        tell_fault,
        calls.put,
        jobs=jobs or os.cpu_count() or 1,
        learn=wanted,
        force=force,
    )
    try:
        with progress(said("Writing")) as tell:
            work.start()
            while not work.over:
                calls.get()()
                tell(work.done)
    finally:
        work.close()
    rows = [entry.row for entry in work.entries if entry.row is not None]
    if report is not None:
        batch_table.write(rows, report, said("Batch: {name}").format(name=session.stem))
    if as_json:
        say({"rows": [batch_table.plain(row) for row in rows], "faults": len(faults_of(work.entries))}, True)
    else:
        for row in rows:
            click.echo("  ".join(batch_table.cells(row)[:6]) if not row.fault else f"{row.path}  –")
    if faults_of(work.entries):
        sys.exit(1)


@click.command()
@click.argument("session", type=FILE)
@click.option(
    "-o", "--output", "target", type=FILE, required=True, help=said("Folder to make, or archive (.zip).")
)
@as_json
@faults
def gather(session: Path, target: Path, as_json: bool) -> None:
    """Copy a session with all that it is made of into one folder or archive, which opens elsewhere."""
    from stonekite.session.keeping import gathering
    from stonekite.session.storage import load

    made = told(said("Gathering"), gathering.gather(load(session), target, session.stem))
    for sentence in made.sentences:
        warn(sentence)
    written([made.path], as_json, count=made.files)


COMMANDS = (export, batch, gather)
