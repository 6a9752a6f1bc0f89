"""The command line. Nothing here imports Qt unless a window is asked for."""

import signal
import sys
from pathlib import Path
from typing import Any

import click

from stonekite import __version__, cli_components, cli_many
from stonekite.cli_figures import (
    FILE,
    as_json,
    fail,
    faults,
    force,
    progress,
    say,
    told,
    warn,
    warn_of_damage,
    warn_of_overs,
    written,
)
from stonekite.files.amiss import amiss
from stonekite.words import said


class _Commands(click.Group):
    """Anything that is not a command is a file to open in the window. What they say of themselves is looked up."""

    def add_command(self, cmd: click.Command, name: str | None = None) -> None:
        cmd.help = said(cmd.help or "")
        super().add_command(cmd, name)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        if not args or (args[0] not in self.commands and args[0] not in ("--help", "--version")):
            args = ["open", *args]
        return super().parse_args(ctx, args)


@click.group(
    cls=_Commands,
    context_settings={"help_option_names": ["-h", "--help"]},
    help=said(
        "Process the two halves of a stereo recording separately, and compare.\n\n`stonekite "
        "[SESSION|AUDIO…]` opens the window; `stonekite --demo` with the demo recording."
    ),
)
@click.version_option(__version__, prog_name="Stone Kite")
def main() -> None:
    # A log-out or shutdown ends a command as Ctrl-C does: what it was writing is removed.
    for number in (signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) is signal.SIG_DFL:
            signal.signal(number, lambda got, _: sys.exit(128 + got))


channels_option = click.option(
    "--channels",
    metavar="A,B",
    help=said("Which two channels to use of a file that has more (counted from 1)."),
)


def _channels(text: str | None) -> tuple[int, int] | None:
    if text is None:
        return None
    try:
        first, second = (int(part) - 1 for part in text.split(","))
    except ValueError:
        raise click.BadParameter(
            said("give two channel numbers, such as 3,4"), param_hint="--channels"
        ) from None
    if min(first, second) < 0:
        raise click.BadParameter(said("channels are counted from 1"), param_hint="--channels")
    return first, second


@main.command("open", hidden=True)
@click.argument("paths", nargs=-1, type=FILE)
@click.option("--demo", is_flag=True, help=said("Open the demo recording."))
@faults
def open_window(paths: tuple[Path, ...], demo: bool) -> None:
    """Open the window."""
    for path in paths:
        if not path.exists():
            known = ", ".join(name for name in main.commands if name != "open")
            raise click.UsageError(
                said("“{path}” is neither a file nor a command. Commands: {known}.").format(
                    path=path, known=known
                )
            )
    # Until the window can close properly there is nothing to tidy up.
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from stonekite.desktop.shell.application import run

    sys.exit(run(list(paths), demo=demo))


@main.command()
@click.argument("audio", type=FILE)
@channels_option
@as_json
@faults
def measure(audio: Path, channels: str | None, as_json: bool) -> None:
    """Loudness, peaks, levels of each component, correlation and offset of a file."""
    from stonekite.files.audio import Reader
    from stonekite.measure.summary import Summary, plain
    from stonekite.signal.alignment import Alignment

    with Reader(audio, _channels(channels)) as reader, progress(said("Measuring")) as tell:
        summary, alignment, done = Summary(reader.facts.rate), Alignment(reader.facts.rate), 0
        for block in reader.blocks():
            summary.add(block)
            alignment.add(block)
            done += block.shape[1]
            tell(done / reader.facts.frames)
        found = alignment.offset()
        warn_of_damage(reader.repaired, audio)
        offset = {"samples": found.samples, "polarity": found.polarity, "confidence": found.confidence}
        say({**plain(summary.figures()), "offset": offset}, as_json)


@main.command()
@click.argument("session", type=FILE)
@click.option("-o", "--output", type=FILE, required=True, help=said("File to write."))
@click.option("--bits", type=click.Choice(["16", "24", "32f"]), default="24", show_default=True)
@click.option(
    "--rate", type=click.IntRange(8000, 384000), help=said("Sample rate in Hz. Default: the source's.")
)
@click.option("--set", "parts", type=click.Choice(["component", "result", "all"]), default="result")
@click.option(
    "--tail",
    default="auto",
    show_default=True,
    metavar="auto|none|SECONDS",
    help=said(
        "How long the result goes on after the recording: until what rings on is below -90 dBFS (auto), "
        "not at all, or so long."
    ),
)
@click.option("--no-dither", is_flag=True, help=said("Round without dither."))
@force
@as_json
@faults
def render(
    session: Path,
    output: Path,
    bits: Any,
    rate: int | None,
    parts: Any,
    tail: str,
    no_dither: bool,
    force: bool,
    as_json: bool,
) -> None:
    """Write the result of a session."""
    from stonekite.engine.graph.tails import typed
    from stonekite.engine.offline.export import Exported, export
    from stonekite.session.foreign import names, told
    from stonekite.session.storage import load

    try:
        tail_s = typed(tail)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None
    loaded = load(session)
    if strange := names(loaded):
        click.echo(told(strange), err=True)
    with progress(said("Rendering")) as tell:
        for step in export(
            loaded,
            output,
            bits=bits,
            rate=rate,
            parts=parts,
            dither=not no_dither,
            force=force,
            tail=tail_s,
        ):
            if isinstance(step, Exported):
                done = step
            else:
                tell(step)
    warn_of_overs(done.overs)
    warn_of_damage(done.repaired, Path(loaded.sound.stems[0].source.path))
    for sentence in amiss(guarded=done.guarded):
        warn(sentence)
    written(
        done.paths,
        as_json,
        overs=done.overs,
        dithered=done.dithered,
        repaired=done.repaired,
        guarded=list(done.guarded),
    )


@main.command()
@click.argument("bpm", type=click.FloatRange(20.0, 400.0))
@as_json
@faults
def tempo(bpm: float, as_json: bool) -> None:
    """Lengths of notes in ms at so many beats (quarter notes) a minute."""
    from stonekite.notes import table

    say({name: round(ms, 4) for name, ms in table(bpm).items()}, as_json)


@main.command()
@click.argument("a", type=FILE)
@click.argument("b", type=FILE)
@click.option(
    "--report",
    type=FILE,
    help=said("Write a page with pictures and the table (.html), or the table (.csv, .json)."),
)
@force
@as_json
@faults
def compare(a: Path, b: Path, report: Path | None, force: bool, as_json: bool) -> None:
    """Measures of two files, and what is left of B when A, matched in level, time and polarity, is taken away."""
    from stonekite.engine.offline import compare as comparing
    from stonekite.measure.summary import plain
    from stonekite.reports.making import of_files, write
    from stonekite.reports.table import scalars

    if report is not None and report.exists() and not force:
        fail(said("“{name}” exists already.").format(name=report.name))
    found = told(said("Comparing"), comparing.compare(a, b))
    if report is not None:
        write(of_files(a, b, found), report)
    left, fits = found.residual_db, found.match.found
    if not fits:
        warn(
            said(
                "“{a}” and “{b}” do not fit each other (confidence {confidence:.2f}): there "
                "is no delay, polarity or residual to tell."
            ).format(a=a.name, b=b.name, confidence=found.match.confidence)
        )
    say(
        {
            "a": scalars(found.a),
            "b": scalars(found.b),
            "level_match_db": plain(found.level_match_db),
            "offset_samples": found.match.samples if fits else None,
            "polarity": found.match.polarity if fits else None,
            "confidence": found.match.confidence,
            "residual_db": plain(left["all"]),
            "residual_components_db": {name: plain(left[name]) for name in left if name != "all"},
        },
        as_json,
    )
    if report is not None and not as_json:
        click.echo(report)


@main.command()
@click.argument("kind", required=False)
@as_json
@faults
def stages(kind: str | None, as_json: bool) -> None:
    """Every kind of stage, or the settings of one kind."""
    from stonekite.stages.describe import described
    from stonekite.stages.registry import KINDS

    if kind is not None and kind not in KINDS:
        raise click.UsageError(
            said("no stage is called “{kind}”; there are: {kinds}").format(kind=kind, kinds=", ".join(KINDS))
        )
    table = {name: described(KINDS[name]) for name in ([kind] if kind else KINDS)}
    if as_json:
        say(table, True)
        return
    for name, entry in table.items():
        click.echo(f"{name}: {entry['help']}")
        for setting, facts in entry["settings"].items() if kind else ():
            rides = said("rides") if not facts["still"] else ""
            figures = f"{facts['range']:<34} default {facts['default']:<12} {rides:<6}"
            click.echo(f"  {setting:<24} {figures} {facts['help']}")


@main.command()
@faults
def schema() -> None:
    """The JSON Schema of a session file."""
    from stonekite.session import storage

    say(storage.schema(), True)


for command in (*cli_components.COMMANDS, *cli_many.COMMANDS):
    main.add_command(command)


if __name__ == "__main__":
    main()
