"""Commands on component files: encoding, decoding, taking back."""

import tempfile
from pathlib import Path
from typing import Any

import click

from stonekite.cli_figures import (
    FILE,
    as_json,
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
from stonekite.words import said

MATRIX_NAMES = ("half-sum", "equal-power", "raised-side")


def _matrix_option(default: str | None):
    return click.option(
        "--matrix", type=click.Choice(MATRIX_NAMES), default=default, show_default=default is not None
    )


@click.command()
@click.argument("audio", type=FILE)
@click.option("-o", "--output", "folder", type=FILE, required=True, help=said("Folder to write to."))
@_matrix_option("half-sum")
@click.option("--layout", type=click.Choice(["pair", "interleaved"]), default="pair", show_default=True)
@click.option(
    "--bits", type=click.Choice(["16", "24", "32f", "64f"]), help=said("Default: what loses nothing.")
)
@click.option(
    "--trim",
    metavar="auto|MID,SIDE",
    help=said("Turn Mid and Side down by so many dB (auto: until they fit); decoding undoes it."),
)
@force
@as_json
@faults
def encode(
    audio: Path,
    folder: Path,
    matrix: Any,
    layout: str,
    bits: Any,
    trim: str | None,
    force: bool,
    as_json: bool,
) -> None:
    """Write mid and side of a stereo file as component files."""
    from stonekite.files.audio import facts
    from stonekite.files.components import exact_bits, loss, write_components

    source = facts(audio)
    trims = _trims(audio, matrix, bits or exact_bits(source, matrix), trim)
    lost = loss(source, matrix, bits or exact_bits(source, matrix, trims), trims)
    if lost is not None:
        warn(lost)
    folder.mkdir(parents=True, exist_ok=True)
    with progress(said("Encoding")) as tell:
        made = write_components(
            audio,
            folder,
            matrix=matrix,
            interleaved=layout == "interleaved",
            bits=bits,
            trims_db=trims,
            force=force,
            progress=tell,
        )
    warn_of_overs(made.overs)
    warn_of_damage(made.repaired, audio)
    if made.changed and lost is None:
        warn(
            said(
                "{changed} samples will not come back bit for bit: sums of floats of very different "
                "size do not fit any float."
            ).format(changed=made.changed)
        )
    written(made.paths, as_json, overs=made.overs, changed=made.changed, trims_db=list(trims))


@click.command()
@click.argument("parts", nargs=-1, type=FILE, required=True, metavar="MID SIDE | MIDSIDE")
@click.option("-o", "--output", type=FILE, required=True, help=said("Stereo file to write."))
@_matrix_option(None)
@click.option(
    "--bits", type=click.Choice(["16", "24", "32f", "64f"]), help=said("Default: as the source was.")
)
@click.option(
    "--against",
    type=FILE,
    metavar="AUDIO",
    help=said("The recording that they were made from: what happened to them since is told, and repaired."),
)
@click.option("--as-they-are", is_flag=True, help=said("With --against: tell what happened, repair nothing."))
@force
@as_json
@faults
def decode(
    parts: tuple[Path, ...],
    output: Path,
    matrix: Any,
    bits: Any,
    against: Path | None,
    as_they_are: bool,
    force: bool,
    as_json: bool,
) -> None:
    """Write stereo from mid and side files, or from one interleaved file."""
    from stonekite.files.components import join_components

    if len(parts) > 2:
        raise click.UsageError(said("give a mid and a side file, or one interleaved file"))
    if against is not None:
        _decode_against(parts, output, bits, against, not as_they_are, force, as_json)
        return
    with progress(said("Decoding")) as tell:
        path, overs = join_components(
            list(parts), output, matrix=matrix, bits=bits, force=force, progress=tell
        )
    warn_of_overs(overs)
    written([path], as_json, overs=overs)


@click.command()
@click.argument("audio", type=FILE)
@click.option("-o", "--output", "folder", type=FILE, required=True, help=said("Folder to write to."))
@force
@as_json
@faults
def separate(audio: Path, folder: Path, force: bool, as_json: bool) -> None:
    """Write left and right of a stereo file as two mono files."""
    from stonekite.files import components

    folder.mkdir(parents=True, exist_ok=True)
    with progress(said("Separating")) as tell:
        paths = components.separate(audio, folder, force=force, progress=tell)
    written(paths, as_json)


@click.command()
@click.argument("left", type=FILE)
@click.argument("right", type=FILE)
@click.option("-o", "--output", type=FILE, required=True, help=said("Stereo file to write."))
@force
@as_json
@faults
def combine(left: Path, right: Path, output: Path, force: bool, as_json: bool) -> None:
    """Write two mono files as one stereo file."""
    from stonekite.files import components

    with progress(said("Combining")) as tell:
        path = components.combine(left, right, output, force=force, progress=tell)
    written([path], as_json)


@click.command()
@click.argument("audio", type=FILE)
@_matrix_option("half-sum")
@as_json
@faults
def roundtrip(audio: Path, matrix: Any, as_json: bool) -> None:
    """Encode and decode a file through real files and say whether it came back."""
    from stonekite.files import components
    from stonekite.measure.summary import plain
    from stonekite.signal.decibels import db_of

    with tempfile.TemporaryDirectory() as folder:
        exact, worst = components.roundtrip(audio, matrix, Path(folder))
    say({"bit_exact": exact, "residual_peak_dbfs": plain(db_of(worst))}, as_json)


def _trims(audio: Path, matrix: Any, bits: Any, text: str | None) -> tuple[float, float]:
    """Trims in dB of what was typed. Raises BadParameter, AudioError."""
    from stonekite.files.components import MOST_TRIM_DB

    if text is None:
        return 0.0, 0.0
    if text == "auto":
        from stonekite.files.audio import Reader
        from stonekite.measure.headroom import Surveyor

        with Reader(audio) as reader:
            surveyor = Surveyor(reader.facts)
            for block in reader.blocks():
                surveyor.add(block)
        survey = surveyor.survey()
        return survey.trim_db(0, matrix, bits), survey.trim_db(1, matrix, bits)
    try:
        parts = [float(part) for part in text.split(",")]
    except ValueError:
        parts = []
    if len(parts) != 2 or any(not -MOST_TRIM_DB <= part <= 0.0 for part in parts):
        raise click.BadParameter(
            said("give two levels in dB, 0 or under, such as 0,-1.3, or auto"), param_hint="--trim"
        )
    return parts[0], parts[1]


def _decode_against(
    parts: tuple[Path, ...],
    output: Path,
    bits: Any,
    against: Path,
    repaired: bool,
    force: bool,
    as_json: bool,
) -> None:
    """Tell what happened to the parts elsewhere, repair it, and join them."""
    from stonekite.engine.offline import rejoining
    from stonekite.engine.offline.compare import source_of
    from stonekite.engine.offline.returned import taken_back
    from stonekite.files.audio import AudioError
    from stonekite.measure.summary import plain

    source = source_of(against)
    back = told(said("Measuring"), taken_back(source, parts))
    if back.fault:
        raise AudioError(back.fault)
    done = frozenset(rejoining.repairs(back, source)) if repaired else frozenset()
    left = told(said("Comparing"), rejoining.leftover(back, source, done))
    path, overs = told(
        said("Decoding"),
        rejoining.write_joined(back, source, done, output, bits=bits, exact=left.exact, force=force),
    )
    warn_of_overs(overs)
    found = rejoining.findings(back, source)
    if not as_json:
        for one in found:
            click.echo(one.sentence, err=True)
    written(
        [path],
        as_json,
        overs=overs,
        matrix=back.matrix,
        sure=back.sure,
        noted=back.noted,
        others=list(back.others),
        parts={
            part.component: {
                "file": part.path,
                "late_samples": part.samples,
                "change_db": part.change_db,
                "inverted": part.inverted,
                "rate": part.rate,
                "frames": part.frames,
                "worked_on_throughout": part.throughout,
            }
            for part in back.parts
        },
        repairs=sorted(done),
        bit_exact=left.exact,
        residual_peak_dbfs=plain(left.peak_db),
        worked_on_s=[list(span) for span in left.worked],
    )


COMMANDS = (encode, decode, separate, combine, roundtrip)
