"""Stereo files to component files and back: mid/side with a matrix, or left and right as they are."""

import json
import secrets
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import NamedTuple

import numpy as np

from stonekite.files.atomic import Together, sweep
from stonekite.files.audio import BLOCK, AudioError, Bits, Facts, Reader, Writer
from stonekite.signal.matrix import MATRICES, Matrix, decode, encode
from stonekite.words import said

Progress = Callable[[float], None]
_MARK = "stonekite components "


def exact_bits(source: Facts, matrix: Matrix) -> Bits:
    """The sample type that keeps mid and side of a source without loss.

    Sums and differences of 24-bit integers fit the 24-bit significand of a 32-bit float, halved or not;
    products with 1/sqrt(2) and sums of floats need 64-bit floats.
    """
    small = source.depth is not None and source.depth <= 24
    if small and (matrix != "equal-power" or source.depth == 16 or source.depth == 8):
        return "32f"
    return "64f"


def loss(source: Facts, matrix: Matrix, bits: Bits) -> str | None:
    """What writing components of a source with these samples loses, as a sentence; None if they come back bit for bit."""
    if bits in ("16", "24"):
        step = said("half a step") if matrix != "equal-power" else said("up to 0.7 of a step")
        over = {
            "half-sum": "",
            "equal-power": said(" Correlated sound above −3 dBFS is cut off in Mid."),
            "raised-side": said(" Side above full scale (out of phase, over −6 dBFS) is cut off."),
        }[matrix]
        return said(
            "As {bits}-bit integers, Mid and Side are rounded by {step}: decoding is not bit-exact.{over}"
        ).format(bits=bits, step=step, over=over)
    if bits == "32f" and exact_bits(source, matrix) == "64f":
        return said(
            "As 32-bit floats, Mid and Side are rounded: decoding is not bit-exact. 64-bit floats hold more."
        )
    if source.subtype == "DOUBLE":
        return said(
            "Sums of 64-bit floats do not fit 64-bit floats: decoding comes back to about −300 dB, not bit "
            "for bit."
        )
    return None


class Encoded(NamedTuple):
    """Files that were written, samples that did not fit and were cut off, samples that will not come back as they were,
    and samples of the source that were damaged and read as silence."""

    paths: list[Path]
    overs: int
    changed: int
    repaired: int


def write_components(
    source: Path,
    folder: Path,
    *,
    matrix: Matrix = "half-sum",
    interleaved: bool = False,
    bits: Bits | None = None,
    force: bool = False,
    progress: Progress = lambda done: None,
) -> Encoded:
    """Encode a stereo file to NAME.mid.wav and NAME.side.wav, or to NAME.midside.wav. Raises AudioError."""
    with Reader(source) as reader, Together() as together, ExitStack() as files:
        facts = reader.facts
        kind = bits or exact_bits(facts, matrix)
        # Files that were not written together make no stereo: each pair has a name of its own.
        pair = secrets.token_hex(4)
        note = _MARK + json.dumps(
            {"matrix": matrix, "source": facts.subtype, "depth": facts.depth, "together": pair}
        )
        names = ["midside"] if interleaved else ["mid", "side"]
        writers = [
            files.enter_context(
                Writer(
                    folder / f"{source.stem}.{name}.wav",
                    facts.rate,
                    channels=2 if interleaved else 1,
                    bits=kind,
                    force=force,
                    frames=facts.frames,
                    comment=note,
                    together=together,
                )
            )
            for name in names
        ]
        changed = 0
        for block in _told(reader, progress):
            components = encode(block, matrix)
            for row, writer in enumerate(writers):
                writer.write(components if interleaved else components[row : row + 1])
            back = _as_kept(decode(_as_written(components, kind), matrix), facts.depth, facts.subtype)
            changed += int(np.count_nonzero(back != block))
        return Encoded([w.path for w in writers], sum(w.overs for w in writers), changed, reader.repaired)


def _as_written(block: np.ndarray, bits: Bits) -> np.ndarray:
    """Samples as a file of that type has them."""
    if bits == "64f":
        return block
    if bits == "32f":
        return block.astype(np.float32).astype(float)
    scale = 2.0 ** (int(bits) - 1)
    return np.clip(np.rint(block * scale), -scale, scale - 1.0) / scale


def _as_kept(block: np.ndarray, depth: int | None, subtype: str) -> np.ndarray:
    """Samples as a source of that depth and type had them: to the nearest of its steps."""
    if depth is None:
        return block if subtype == "DOUBLE" else block.astype(np.float32).astype(float)
    scale = 2.0 ** (depth - 1)
    return np.clip(np.rint(block * scale), -scale, scale - 1.0) / scale


def noted(facts: Facts) -> dict:
    """What the encoder wrote into a component file: matrix, source subtype and depth; empty if nothing."""
    if not facts.comment.startswith(_MARK):
        return {}
    try:
        note = json.loads(facts.comment[len(_MARK) :])
    except ValueError:
        return {}
    if not isinstance(note, dict) or note.get("matrix") not in MATRICES:
        return {}
    known = note.get("depth") in (None, 8, 16, 24, 32) and isinstance(note.get("source"), str)
    return note if known else {}


def _bits_of(depth: int | None, subtype: str) -> Bits:
    if depth is None:
        return "64f" if subtype == "DOUBLE" else "32f"
    if depth > 24:
        return "64f"  # integers of 32 bits fit no smaller float
    return "16" if depth <= 16 else "24"


def join_components(
    paths: list[Path],
    out: Path,
    *,
    matrix: Matrix | None = None,
    bits: Bits | None = None,
    force: bool = False,
    progress: Progress = lambda done: None,
) -> tuple[Path, int]:
    """Decode mid and side files, or one interleaved file, to stereo; returns the path and the overs.

    Matrix and sample type are those the encoder noted in the files, unless given. Raises AudioError, also for two files
    that were not encoded together, unless a matrix is given.
    """
    if any(path.exists() and out.exists() and path.samefile(out) for path in paths):
        raise AudioError(
            said("“{name}” is one of the files to join: choose another name.").format(name=out.name)
        )
    for folder in {path.absolute().parent for path in paths}:
        sweep(folder)  # a pair of which only one was moved into place is made whole
    with ExitStack() as files:
        readers = [files.enter_context(Reader(path)) for path in paths]
        _same_shape(readers)
        note = noted(readers[0].facts)
        if matrix is None and any(noted(other.facts) != note for other in readers[1:]):
            raise AudioError(
                said(
                    "“{name}” and “{name_2}” were not encoded together: encode the recording again, or say which "
                    "matrix to use."
                ).format(name=paths[0].name, name_2=paths[1].name)
            )
        used: Matrix = matrix or note.get("matrix", "half-sum")
        if bits is None:
            facts = readers[0].facts
            bits = (
                _bits_of(note.get("depth"), note.get("source", ""))
                if note
                else _bits_of(facts.depth, facts.subtype)
            )
        if out.suffix.lower() == ".flac" and bits in ("32f", "64f"):
            bits = "24"
        writer = files.enter_context(
            Writer(out, readers[0].facts.rate, bits=bits, force=force, frames=readers[0].facts.frames)
        )
        for blocks in zip(*(_told(r, progress) for r in readers), strict=True):
            components = blocks[0] if len(blocks) == 1 else np.stack([blocks[0][0], blocks[1][0]])
            stereo = decode(components, used)
            if note and matrix in (None, note["matrix"]):
                stereo = _as_kept(stereo, note["depth"], note["source"])
            writer.write(stereo)
        return writer.path, writer.overs


def separate(
    source: Path,
    folder: Path,
    *,
    channels: tuple[int, int] | None = None,
    force: bool = False,
    progress: Progress = lambda done: None,
) -> list[Path]:
    """Write left and right to two mono files with the source's samples, bit for bit. Raises AudioError.

    They are called NAME.only-left.wav and NAME.only-right.wav, which other programs do not take for the
    halves of one file.
    """
    with Reader(source, channels) as reader, Together() as together, ExitStack() as files:
        facts = reader.facts
        writers = [
            files.enter_context(
                Writer(
                    folder / f"{source.stem}.only-{name}.wav",
                    facts.rate,
                    channels=1,
                    bits=_bits_of(facts.depth, facts.subtype),
                    force=force,
                    frames=facts.frames,
                    together=together,
                )
            )
            for name in ("left", "right")
        ]
        for block in _told(reader, progress):
            for row, writer in enumerate(writers):
                writer.write(block[row : row + 1])
        return [w.path for w in writers]


def combine(
    left: Path, right: Path, out: Path, *, force: bool = False, progress: Progress = lambda done: None
) -> Path:
    """Write two mono files as one stereo file with their samples, bit for bit. Raises AudioError."""
    if any(path.exists() and out.exists() and path.samefile(out) for path in (left, right)):
        raise AudioError(
            said("“{name}” is one of the files to join: choose another name.").format(name=out.name)
        )
    with Reader(left) as one, Reader(right) as two, ExitStack() as files:
        _same_shape([one, two])
        kinds = (_bits_of(reader.facts.depth, reader.facts.subtype) for reader in (one, two))
        bits: Bits = max(kinds, key=["16", "24", "32f", "64f"].index)
        writer = files.enter_context(
            Writer(out, one.facts.rate, bits=bits, force=force, frames=one.facts.frames)
        )
        for a, b in zip(_told(one, progress), _told(two, progress), strict=True):
            writer.write(np.stack([a[0], b[0]]))
        return writer.path


def _same_shape(readers: list[Reader]) -> None:
    first = readers[0].facts
    for other in readers[1:]:
        if other.facts.rate != first.rate:
            raise AudioError(
                said("“{name}” has {rate} Hz and “{name_2}” {rate_2} Hz.").format(
                    name=first.path.name,
                    rate=first.rate,
                    name_2=other.facts.path.name,
                    rate_2=other.facts.rate,
                )
            )
        if other.facts.frames != first.frames:
            raise AudioError(
                said("“{name}” and “{name_2}” differ in length ({frames} and {frames_2} frames).").format(
                    name=first.path.name,
                    name_2=other.facts.path.name,
                    frames=first.frames,
                    frames_2=other.facts.frames,
                )
            )


def _told(reader: Reader, progress: Progress) -> Iterator[np.ndarray]:
    done = 0
    for block in reader.blocks(BLOCK):
        done += block.shape[1]
        yield block
        progress(done / reader.facts.frames)


def roundtrip(source: Path, matrix: Matrix, folder: Path) -> tuple[bool, float]:
    """Encode and decode a file through real files in `folder`.

    Returns whether every sample came back as it was, and the peak of what did not (an amplitude).
    """
    parts = write_components(source, folder, matrix=matrix, force=True).paths
    back, _ = join_components(parts, folder / "decoded again.wav", force=True)
    exact, worst = True, 0.0
    with Reader(source) as one, Reader(back) as two:
        for a, b in zip(one.blocks(), two.blocks(), strict=True):
            exact = exact and bool(np.array_equal(a, b))
            worst = max(worst, float(np.abs(a - b).max(initial=0.0)))
    return exact, worst
